"""Which triangle of an edited mesh is which of the mesh before.

Where the triangles are the same and only corners moved, the map is the identity. Elsewhere sample points of each old
triangle look for the nearest new one that faces the same way, no farther off than the edit can have moved it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Array, Ints, Mesh

_ALIKE = 0.9  # cosine between an old triangle's normal and the new one's
_FINEST = 96  # cells of the search grid along the longest side


@dataclass(frozen=True)
class Motion:
    """How an edit moved things: all scaled by ``factor`` about ``about``, then no point farther than ``by`` mm."""

    by: float = 0.0
    factor: float = 1.0
    about: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def moved(self, points: Array) -> Array:
        about = np.asarray(self.about)
        return np.asarray(about + (points - about) * self.factor)


@dataclass(frozen=True)
class Traced:
    """Sample points of the old mesh and where they are in the new: the old and new triangle of each (-1 where it is
    gone), and the area each stands for, mm2 of the old. ``exact`` where the triangles themselves are the same."""

    old: Ints
    new: Ints
    area: Array
    exact: bool = False

    def faces(self, count: int) -> Ints:
        """The new triangle that most of each of ``count`` old ones became, -1 where most of it is gone; (count,)."""
        out = np.full(count, -1, np.int64)
        key, where = np.unique(np.stack([self.old, self.new], axis=1), axis=0, return_inverse=True)
        share = np.bincount(where.ravel(), self.area)
        order = np.argsort(share, kind="stable")
        out[key[order, 0]] = key[order, 1]
        return out


def trace(old: Mesh, new: Mesh, motion: Motion) -> Traced:
    """Follow the surface of ``old`` into ``new``."""
    if same_triangles(old, new) and farthest(old, new, motion) <= motion.by + 1e-6:
        every = np.arange(len(old.faces))
        return Traced(every, every, old.areas, True)
    place = Mesh(motion.moved(old.vertices), old.faces)
    points, owner, area = _samples(place)
    size = float(max(np.ptp(new.bounds, axis=0).max(), np.ptp(place.bounds, axis=0).max()))
    reach = motion.by + 1e-4 * size + 0.02
    found = _nearest(new, points, place.normals[owner], reach)
    return Traced(owner, found, area)


def same_triangles(old: Mesh, new: Mesh) -> bool:
    """Whether only corners can have moved between two meshes."""
    alike = len(old.faces) == len(new.faces) and len(old.vertices) == len(new.vertices)
    return alike and np.array_equal(old.faces, new.faces)


def farthest(old: Mesh, new: Mesh, motion: Motion) -> float:
    """How far a corner moved beyond what ``motion`` scales, mm, of two meshes of the same triangles."""
    return float(np.linalg.norm(new.vertices - motion.moved(old.vertices), axis=1).max(initial=0.0))


def _samples(mesh: Mesh) -> tuple[Array, Ints, Array]:
    """Points spread over every triangle, more over large ones; their triangle and the area each stands for."""
    areas = mesh.areas
    total = max(float(areas.sum()), 1e-12)
    n = np.clip(np.sqrt(areas / total * 3000).astype(int), 1, 24)
    points, owner, area = [], [], []
    for k in np.unique(n):
        mine = np.flatnonzero(n == k)
        # Midpoints of the k*k small triangles that k cuts a side make.
        i, j = np.meshgrid(np.arange(k), np.arange(k), indexing="ij")
        up = (i + j < k).ravel()
        low = np.stack([i.ravel()[up] + 1 / 3, j.ravel()[up] + 1 / 3], axis=1)
        inner = (i + j < k - 1).ravel()
        high = np.stack([i.ravel()[inner] + 2 / 3, j.ravel()[inner] + 2 / 3], axis=1)
        uv = np.vstack([low, high]) / k
        w = np.stack([1 - uv.sum(axis=1), uv[:, 0], uv[:, 1]], axis=1)
        points.append(np.einsum("sk,mkd->msd", w, mesh.triangles[mine]).reshape(-1, 3))
        owner.append(np.repeat(mine, len(w)))
        area.append(np.repeat(areas[mine] / len(w), len(w)))
    return np.vstack(points), np.concatenate(owner), np.concatenate(area)


def _nearest(mesh: Mesh, points: Array, normals: Array, reach: float) -> Ints:
    """The nearest triangle within ``reach`` that faces as ``normals`` do, -1 where there is none; (n,)."""
    tri = np.ascontiguousarray(mesh.triangles)
    low = tri.min(axis=(0, 1)) - reach
    span = float((tri.max(axis=(0, 1)) + reach - low).max())
    cell = max(span / _FINEST, 2 * reach, 1e-9)
    dims = np.maximum(np.ceil((tri.max(axis=(0, 1)) + reach - low) / cell).astype(np.int64), 1)
    first = np.clip(((tri.min(axis=1) - reach - low) / cell).astype(np.int64), 0, dims - 1)
    last = np.clip(((tri.max(axis=1) + reach - low) / cell).astype(np.int64), 0, dims - 1)
    start, members = _binned(first, last, dims)
    out = np.full(len(points), -1, np.int64)
    _search(tri, mesh.normals, start, members, low, cell, dims, points, normals, reach, _ALIKE, out)
    return out


@numba.njit(cache=True, nogil=True)
def _binned(first, last, dims):  # type: ignore[no-untyped-def]
    """Triangles by the cells their boxes touch: where each cell's list starts, and the lists in one."""
    start = np.zeros(dims[0] * dims[1] * dims[2] + 1, np.int64)
    for t in range(len(first)):
        for i in range(first[t, 0], last[t, 0] + 1):
            for j in range(first[t, 1], last[t, 1] + 1):
                for k in range(first[t, 2], last[t, 2] + 1):
                    start[(i * dims[1] + j) * dims[2] + k + 1] += 1
    for c in range(1, len(start)):
        start[c] += start[c - 1]
    members = np.empty(start[-1], np.int64)
    put = start[:-1].copy()
    for t in range(len(first)):
        for i in range(first[t, 0], last[t, 0] + 1):
            for j in range(first[t, 1], last[t, 1] + 1):
                for k in range(first[t, 2], last[t, 2] + 1):
                    c = (i * dims[1] + j) * dims[2] + k
                    members[put[c]] = t
                    put[c] += 1
    return start, members


@numba.njit(cache=True, nogil=True)
def _point_triangle(p, a, b, c):  # type: ignore[no-untyped-def]
    """Squared distance of a point and a triangle (Ericson 2004, section 5.1.5)."""
    ab, ac, ap = b - a, c - a, p - a
    d1, d2 = ab @ ap, ac @ ap
    if d1 <= 0 and d2 <= 0:
        return ap @ ap
    bp = p - b
    d3, d4 = ab @ bp, ac @ bp
    if d3 >= 0 and d4 <= d3:
        return bp @ bp
    vc = d1 * d4 - d3 * d2
    if vc <= 0 and d1 >= 0 and d3 <= 0:
        q = ap - ab * (d1 / (d1 - d3))
        return q @ q
    cp = p - c
    d5, d6 = ab @ cp, ac @ cp
    if d6 >= 0 and d5 <= d6:
        return cp @ cp
    vb = d5 * d2 - d1 * d6
    if vb <= 0 and d2 >= 0 and d6 <= 0:
        q = ap - ac * (d2 / (d2 - d6))
        return q @ q
    va = d3 * d6 - d5 * d4
    if va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        q = bp - (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6)))
        return q @ q
    whole = va + vb + vc
    if whole <= 0:
        return ap @ ap
    q = ap - ab * (vb / whole) - ac * (vc / whole)
    return q @ q


@numba.njit(cache=True, nogil=True)
def _search(tri, facing, start, members, low, cell, dims, points, normals, reach, alike, out):  # type: ignore[no-untyped-def]
    for s in range(len(points)):
        p = points[s]
        c = 0
        for d in range(3):
            x = int(np.floor((p[d] - low[d]) / cell))
            if x < 0 or x >= dims[d]:
                c = -1
                break
            c = c * dims[d] + x
        if c < 0:
            continue
        best = reach * reach
        for m in range(start[c], start[c + 1]):
            t = members[m]
            if facing[t] @ normals[s] < alike:
                continue
            near = _point_triangle(p, tri[t, 0], tri[t, 1], tri[t, 2])
            if near <= best:
                best = near
                out[s] = t
