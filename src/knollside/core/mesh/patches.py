"""Planar patches of a mesh and the edges between them: what features are read from."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.measured import Measured, measured
from knollside.core.mesh.topology import Edges, edges_of
from knollside.core.model import Array, Ints, Mesh

_FINE = 1e-4  # mm; rounding below that leans no triangle that matters
_MOST_LEAN = np.radians(2.0)
COPLANAR = np.radians(0.12)  # well under one facet of a 500-sided round, over six-digit rounding


@dataclass(frozen=True)
class Patches:
    """``of_face`` (m,) patch number of each triangle; per patch its normal, area and middle.

    Borders between patches, one entry per patch pair: ``pair`` (b, 2), the
    signed ``angle`` (rad, positive convex), the ``along`` unit direction of the
    shared edges and their summed ``length``.
    """

    of_face: Ints
    normal: Array
    area: Array
    centre: Array
    pair: Ints
    angle: Array
    along: Array
    length: Array

    @property
    def count(self) -> int:
        """How many patches there are."""
        return len(self.area)

    @cached_property
    def members(self) -> tuple[Ints, Ints]:
        """Triangles by patch: those of patch p are ``number[start[p]:start[p + 1]]``; start and number."""
        start = np.r_[0, np.cumsum(np.bincount(self.of_face, minlength=self.count))]
        return start, np.argsort(self.of_face, kind="stable")

    @cached_property
    def striplike(self) -> np.ndarray:
        """Patches with two parallel borders: what a strip of a round has, and a triangle of a free surface has not."""
        sign = np.sign(self.along[np.arange(len(self.along)), np.abs(self.along).argmax(axis=1)])
        along = self.along * sign[:, None]
        found = np.zeros(self.count, bool)
        for offset in (0.0, 0.5):  # two gratings, so that none falls on both their edges
            place = np.floor(along * 40 + offset).astype(np.int64) + 64
            code = (place[:, 0] * 128 + place[:, 1]) * 128 + place[:, 2]
            key = np.r_[self.pair[:, 0], self.pair[:, 1]] * (128**3) + np.r_[code, code]
            twice, times = np.unique(key, return_counts=True)
            found[twice[times > 1] // 128**3] = True
        return found


def patches_of(mesh: Mesh, edges: Edges | None = None, rounding: float = 0.0, known: Measured | None = None) -> Patches:
    """Smooth patches of a mesh: triangles joined over edges that hardly bend, with the borders between them. Corners
    may stand ``rounding`` mm off their place; the smaller a triangle, the more it may then lean."""
    edges = edges or edges_of(mesh)
    known = known or measured(mesh, edges)
    angle, areas, longest = known.angle, known.areas, known.longest
    n = len(mesh.faces)
    # A needle triangle's normal is noise: it always joins the neighbour across its longest edge. Only that one: of
    # three corners almost in line, a second edge nearly as long may border another side of the part.
    needle = areas < 2e-4 * longest**2
    a, b = edges.pair[:, 0], edges.pair[:, 1]
    seam = mesh.vertices[edges.corners[edges.pair_edge]]
    seam_length = np.linalg.norm(seam[:, 1] - seam[:, 0], axis=1)
    sure = 1 - 1e-12
    across_long = (needle[a] & (seam_length >= sure * longest[a])) | (needle[b] & (seam_length >= sure * longest[b]))
    slack: Array | float = COPLANAR
    if rounding > _FINE:
        height = 2 * areas / np.maximum(longest, 1e-300)
        lean = rounding / np.maximum(height, rounding)
        slack = COPLANAR + np.minimum(lean[a] + lean[b], _MOST_LEAN)
    joined = (np.abs(angle) < slack) | across_long
    link = edges.pair[joined]
    graph = coo_matrix((np.ones(len(link), np.int8), (link[:, 0], link[:, 1])), shape=(n, n))
    count, label = connected_components(graph, directed=False)
    label = label.astype(np.int64)

    normal = np.stack([np.bincount(label, known.normals[:, k] * areas, minlength=count) for k in range(3)], axis=1)
    size = np.linalg.norm(normal, axis=1, keepdims=True)
    normal = np.divide(normal, size, out=np.zeros_like(normal), where=size > 0)
    area = np.bincount(label, areas, minlength=count)
    centre: Array = np.stack(
        [np.bincount(label, known.middles[:, k] * areas, minlength=count) for k in range(3)], axis=1
    )
    centre = centre / np.maximum(area, 1e-300)[:, None]

    p, q = label[a], label[b]
    border = p != q
    low, high = np.minimum(p, q)[border], np.maximum(p, q)[border]
    key = low * count + high
    order = np.argsort(key, kind="stable")
    key = key[order]
    if len(key) == 0:
        empty = np.zeros(0)
        return Patches(label, normal, area, centre, np.zeros((0, 2), np.int64), empty, np.zeros((0, 3)), empty)
    starts = np.flatnonzero(np.r_[True, key[1:] != key[:-1]])
    vector = (seam[:, 1] - seam[:, 0])[border][order]
    # Sum the edge vectors with one sense each, so that a kinked border shows a short resultant.
    sense = np.sign(
        np.einsum("ij,ij->i", vector, vector[starts][np.searchsorted(starts, np.arange(len(key)), "right") - 1])
    )
    total = np.add.reduceat(vector * np.where(sense == 0, 1, sense)[:, None], starts)
    length = np.add.reduceat(seam_length[border][order], starts)
    mean_angle = np.add.reduceat((angle[border] * seam_length[border])[order], starts) / np.maximum(length, 1e-300)
    along = total / np.maximum(np.linalg.norm(total, axis=1, keepdims=True), 1e-300)
    pair = np.c_[low[order][starts], high[order][starts]]
    return Patches(label, normal, area, centre, pair, mean_angle, along, length)
