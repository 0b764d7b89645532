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
    by_patch = np.argsort(p.of_face, kind="stable")
    count = np.bincount(p.of_face, minlength=p.count)
    start = np.r_[0, np.cumsum(count)]
    bend = np.abs(p.angle)
    many = np.bincount(p.pair.ravel(), minlength=p.count)
    strip = striplike(p) & (count <= _CROWDED) & (many <= _CROWDED)
    ok = (bend > LEAST_BEND) & (bend < MOST_BEND) & strip[p.pair].all(axis=1)
    axis = np.cross(p.normal[p.pair[:, 0]], p.normal[p.pair[:, 1]])
    size = np.linalg.norm(axis, axis=1)
    axis = axis / np.maximum(size, 1e-300)[:, None]
    ok &= (size > 1e-9) & (np.abs(np.einsum("ij,ij->i", axis, p.along)) > _ALONG)
    border = np.flatnonzero(ok)
    border = border[np.argsort(p.area[p.pair[border]].max(axis=1), kind="stable")]
    axis = axis[border]
    at = _on_border(skin, border)
    width = np.stack([_width(skin, border, axis, at, k, by_patch, start) for k in (0, 1)], axis=1)
    centre, radius, facet = _circles(p, border, axis, at, width)
    good = np.flatnonzero((radius > 0.05) & (radius < 600) & np.isfinite(radius) & (width > 1e-6).all(axis=1))
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


def _width(skin: Skin, border: Ints, axis: Array, at: Array, side: int, by_patch: Ints, start: Ints) -> Array:
    """How far the strip on one side reaches from the border, across the axis, mm (b,)."""
    p = skin.patches
    mine = p.pair[border, side]
    across = np.cross(axis, p.normal[mine])
    inward = np.einsum("ij,ij->i", across, p.centre[mine] - at)
    across = across * np.where(inward < 0, -1.0, 1.0)[:, None]
    out = np.zeros(len(border))
    _reach(skin.mesh.vertices, skin.mesh.faces, at, across, mine, start, by_patch, out)
    return out


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


def _circles(p: Patches, border: Ints, axis: Array, at: Array, width: Array) -> tuple[Array, Array, Array]:
    """The circle across each axis through the border and the far edges of its two strips."""
    ends = []
    for side in (0, 1):
        mine = p.pair[border, side]
        across = np.cross(axis, p.normal[mine])
        inward = np.einsum("ij,ij->i", across, p.centre[mine] - at)
        ends.append(across * (np.where(inward < 0, -1.0, 1.0) * width[:, side])[:, None])
    a, b = ends
    cross = np.cross(a, b)
    square = np.maximum(np.einsum("ij,ij->i", cross, cross), 1e-300)
    aa, bb = np.einsum("ij,ij->i", a, a), np.einsum("ij,ij->i", b, b)
    # Circumcentre of a triangle with one corner at nought.
    to = np.cross(aa[:, None] * b - bb[:, None] * a, cross) / (2 * square)[:, None]
    radius = np.linalg.norm(to, axis=1)
    facet = 2 * np.arcsin(np.clip(width.max(axis=1) / np.maximum(2 * radius, 1e-12), 0, 1))
    return at + to, radius, facet


def striplike(p: Patches) -> np.ndarray:
    """Patches with two parallel borders: what a strip of a round has, and a triangle of a free surface has not."""
    sign = np.sign(p.along[np.arange(len(p.along)), np.abs(p.along).argmax(axis=1)])
    along = p.along * sign[:, None]
    found = np.zeros(p.count, bool)
    for offset in (0.0, 0.5):  # two gratings, so that none falls on both their edges
        place = np.floor(along * 40 + offset).astype(np.int64) + 64
        code = (place[:, 0] * 128 + place[:, 1]) * 128 + place[:, 2]
        key = np.r_[p.pair[:, 0], p.pair[:, 1]] * (128**3) + np.r_[code, code]
        twice, times = np.unique(key, return_counts=True)
        found[twice[times > 1] // 128**3] = True
    return found
