"""Edges, neighbours and bodies of a triangle mesh, all by sorting."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.model import Array, Ints, Mesh


@dataclass(frozen=True)
class Edges:
    """Directed half-edges grouped into undirected edges.

    ``corners`` (e, 2); ``count`` triangles at each edge; ``turn`` the sum of
    directions (0 for a well-wound pair); ``pair`` (p, 2) triangle numbers and
    ``pair_edge`` (p,) for the edges that exactly two triangles share.
    """

    corners: Ints
    count: Ints
    turn: Ints
    pair: Ints
    pair_edge: Ints


def edges_of(mesh: Mesh) -> Edges:
    """Edges of a mesh, each once, by sorting its half-edges."""
    f = mesh.faces
    half = np.vstack([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]])
    owner = np.tile(np.arange(len(f)), 3)
    forward = half[:, 0] < half[:, 1]
    low, high = half.min(axis=1), half.max(axis=1)
    key = low * (len(mesh.vertices) + 1) + high
    order = np.argsort(key, kind="stable")
    key = key[order]
    starts = np.flatnonzero(np.r_[True, key[1:] != key[:-1]])
    count = np.diff(np.r_[starts, len(key)])
    sign = np.where(forward[order], 1, -1)
    turn = np.add.reduceat(sign, starts)
    two = np.flatnonzero(count == 2)
    pair = np.c_[owner[order][starts[two]], owner[order][starts[two] + 1]]
    corners = np.c_[low[order][starts], high[order][starts]]
    return Edges(corners, count, turn, pair, two)


def bodies_of(mesh: Mesh, edges: Edges | None = None) -> tuple[int, Ints]:
    """Number of edge-connected shells and the shell number of each triangle."""
    edges = edges or edges_of(mesh)
    n = len(mesh.faces)
    # Triangles meeting at a non-manifold edge still belong together, each such edge's among themselves.
    link = np.vstack([edges.pair, _at_bad_edges(mesh, edges)])
    graph = coo_matrix((np.ones(len(link), np.int8), (link[:, 0], link[:, 1])), shape=(n, n))
    count, label = connected_components(graph, directed=False)
    return int(count), label.astype(np.int64)


def _at_bad_edges(mesh: Mesh, edges: Edges) -> Ints:
    """Pairs that chain the triangles at each edge which more than two share, (p, 2)."""
    bad = edges.corners[edges.count > 2]
    if not len(bad):
        return np.zeros((0, 2), np.int64)
    scale = len(mesh.vertices) + 1
    ends = np.sort(np.stack([mesh.faces, np.roll(mesh.faces, -1, axis=1)], axis=2), axis=2)
    key = ends[..., 0] * scale + ends[..., 1]
    who, corner = np.nonzero(np.isin(key, bad[:, 0] * scale + bad[:, 1]))
    own = key[who, corner]
    order = np.argsort(own, kind="stable")
    who, own = who[order], own[order]
    same = own[1:] == own[:-1]
    return np.stack([who[:-1][same], who[1:][same]], axis=1)


def stands_in(some: Array, among: Array) -> np.ndarray:
    """Which rows (n, 3) of ``some`` stand among other rows, to the bit."""
    whole = np.dtype((np.void, 24))
    one, two = (np.ascontiguousarray(v + 0.0).view(whole).ravel() for v in (some, among))  # -0 is 0
    return np.isin(one, two)
