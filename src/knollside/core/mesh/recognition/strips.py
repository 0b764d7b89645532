"""Seeds of cylinders: two flat strips over an edge along the axis, and the circle through their three edges."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.mesh.patches import Patches
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Array, Ints

LEAST_BEND, MOST_BEND = np.radians(0.15), np.radians(61.0)
_CROWDED = 400  # borders or triangles of a flat piece that is no strip
_ALONG = 0.9998


@dataclass(frozen=True)
class StripSeeds:
    """Per seed: the two strips, and the circle through their edges with the wider facet's angle; triangles by patch."""

    pair: Ints
    start: Ints
    by_patch: Ints
    axis: Array
    centre: Array
    radius: Array
    facet: Array
    hollow: np.ndarray

    def first(self, k: int) -> Ints:
        """Triangles of both strips."""
        (a, b), s = self.pair[k], self.start
        return np.concatenate([self.by_patch[s[a] : s[a + 1]], self.by_patch[s[b] : s[b + 1]]])


def strip_seeds(skin: Skin) -> StripSeeds:
    """Of all borders between two strips, those of the smallest first."""
    p = skin.patches
    start, by_patch = p.members
    count = np.diff(start)
    bend = np.abs(p.angle)
    many = np.bincount(p.pair.ravel(), minlength=p.count)
    strip = p.striplike & (count <= _CROWDED) & (many <= _CROWDED)
    ok = (bend > LEAST_BEND) & (bend < MOST_BEND) & strip[p.pair].all(axis=1)
    axis = np.cross(p.normal[p.pair[:, 0]], p.normal[p.pair[:, 1]])
    size = np.linalg.norm(axis, axis=1)
    axis = axis / np.maximum(size, 1e-300)[:, None]
    ok &= (size > 1e-9) & (np.abs(np.einsum("ij,ij->i", axis, p.along)) > _ALONG)
    border = np.flatnonzero(ok)
    border = border[np.argsort(p.area[p.pair[border]].max(axis=1), kind="stable")]
    axis = axis[border]
    at = _on_border(skin, border)
    inward = [_inward(p, p.pair[border, side], axis, at) for side in (0, 1)]
    width = np.zeros((2, len(border)))
    for side in (0, 1):
        _reach(
            skin.mesh.vertices, skin.mesh.faces, at, inward[side], p.pair[border, side], start, by_patch, width[side]
        )
    centre, radius, facet = _circles(at, inward, width)
    good = np.flatnonzero((radius > 0.05) & (radius < 600) & np.isfinite(radius) & (width > 1e-6).all(axis=0))
    circle = axis[good], centre[good], radius[good], facet[good], p.angle[border[good]] < 0
    return StripSeeds(p.pair[border[good]], start, by_patch, *circle)


def _on_border(skin: Skin, border: Ints) -> Array:
    """A point on each border (b, 3)."""
    p, e = skin.patches, skin.edges
    a, b = p.of_face[e.pair[:, 0]], p.of_face[e.pair[:, 1]]
    key = np.minimum(a, b) * p.count + np.maximum(a, b)
    cross = np.flatnonzero(a != b)
    order = cross[np.argsort(key[cross], kind="stable")]
    want = p.pair[border, 0] * p.count + p.pair[border, 1]
    return np.asarray(skin.mesh.vertices[e.corners[e.pair_edge[order[np.searchsorted(key[order], want)]], 0]])


def _inward(p: Patches, mine: Ints, axis: Array, at: Array) -> Array:
    """From each border across the axis into the strip on one side of it, unit (b, 3)."""
    across = np.cross(axis, p.normal[mine])
    into = np.einsum("ij,ij->i", across, p.centre[mine] - at)
    return np.asarray(across * np.where(into < 0, -1.0, 1.0)[:, None])


@numba.njit(cache=True, nogil=True)
def _reach(vertices, faces, at, across, mine, start, by_patch, out):  # type: ignore[no-untyped-def]
    """Farthest that the corners of each border's patch lie from the border along ``across``."""
    for i in range(len(mine)):
        far = 0.0
        for j in range(start[mine[i]], start[mine[i] + 1]):
            for k in range(3):
                c = faces[by_patch[j], k]
                d = 0.0
                for x in range(3):
                    d += (vertices[c, x] - at[i, x]) * across[i, x]
                far = max(far, d)
        out[i] = far


def _circles(at: Array, inward: list[Array], width: Array) -> tuple[Array, Array, Array]:
    """The circle across each axis through the border and the far edges of its two strips, ``width`` (2, b) off."""
    a, b = (way * wide[:, None] for way, wide in zip(inward, width, strict=True))
    cross = np.cross(a, b)
    square = np.maximum(np.einsum("ij,ij->i", cross, cross), 1e-300)
    aa, bb = np.einsum("ij,ij->i", a, a), np.einsum("ij,ij->i", b, b)
    # Circumcentre of a triangle with one corner at nought.
    to = np.cross(aa[:, None] * b - bb[:, None] * a, cross) / (2 * square)[:, None]
    radius = np.linalg.norm(to, axis=1)
    facet = 2 * np.arcsin(np.clip(width.max(axis=0) / np.maximum(2 * radius, 1e-12), 0, 1))
    return at + to, radius, facet
