"""Triangles that pass through one another, found by a grid of cells and exact-side tests."""

from __future__ import annotations

import numba
import numpy as np

from knollside.core.model import Array, Ints, Mesh

_STOP_AFTER = 1000  # enough to report; counting further helps nobody


@numba.njit(cache=True, nogil=True)
def _edge_hits(p: np.ndarray, q: np.ndarray, t: np.ndarray, eps: float) -> bool:
    """Does segment p-q pass through triangle t from one side to the other (not merely touch its plane)?"""
    e1 = t[1] - t[0]
    e2 = t[2] - t[0]
    n = np.cross(e1, e2)
    size = np.sqrt(np.dot(n, n))
    if size == 0.0:
        return False
    n = n / size
    a = np.dot(n, p - t[0])
    b = np.dot(n, q - t[0])
    if not ((a > eps and b < -eps) or (a < -eps and b > eps)):
        return False
    x = p + (q - p) * (a / (a - b))
    for k in range(3):
        c = t[k]
        d = t[(k + 1) % 3] - c
        inward = np.cross(n, d)
        # The rim counts: two faces meeting there may share the hit, and neither must drop it.
        if np.dot(inward, x - c) < -eps * np.sqrt(np.dot(inward, inward)):
            return False
    return True


@numba.njit(cache=True, nogil=True)
def _scan(tri, faces, start, members, low, size, dims, eps, out):  # type: ignore[no-untyped-def]
    found = 0
    for cell in range(len(start) - 1):
        for i in range(start[cell], start[cell + 1]):
            a = members[i]
            for j in range(i + 1, start[cell + 1]):
                b = members[j]
                shared = False
                for k in range(3):
                    for m in range(3):
                        if faces[a, k] == faces[b, m]:
                            shared = True
                if shared:
                    continue
                apart = False
                home = 0
                mult = 1
                for k in range(3):
                    amin = min(tri[a, 0, k], tri[a, 1, k], tri[a, 2, k])
                    amax = max(tri[a, 0, k], tri[a, 1, k], tri[a, 2, k])
                    bmin = min(tri[b, 0, k], tri[b, 1, k], tri[b, 2, k])
                    bmax = max(tri[b, 0, k], tri[b, 1, k], tri[b, 2, k])
                    if amin > bmax or bmin > amax:
                        apart = True
                        break
                    home += mult * min(max(int((max(amin, bmin) - low[k]) / size), 0), dims[k] - 1)
                    mult *= dims[k]
                if apart or home != cell:  # each pair is judged in one cell only
                    continue
                hit = False
                for k in range(3):
                    if _edge_hits(tri[a, k], tri[a, (k + 1) % 3], tri[b], eps) or _edge_hits(
                        tri[b, k], tri[b, (k + 1) % 3], tri[a], eps
                    ):
                        hit = True
                        break
                if hit:
                    out[found, 0] = a
                    out[found, 1] = b
                    found += 1
                    if found == len(out):
                        return found
    return found


@numba.njit(cache=True, nogil=True)
def _bins(lo, hi, dims, count_only, start, members):  # type: ignore[no-untyped-def]
    for t in range(len(lo)):
        for z in range(lo[t, 2], hi[t, 2] + 1):
            for y in range(lo[t, 1], hi[t, 1] + 1):
                for x in range(lo[t, 0], hi[t, 0] + 1):
                    c = x + dims[0] * (y + dims[1] * z)
                    if count_only:
                        start[c + 1] += 1
                    else:
                        members[start[c]] = t
                        start[c] += 1


def crossing_pairs(mesh: Mesh) -> Ints:
    """Pairs (k, 2) of triangles that pass through each other; neighbours sharing a corner are skipped."""
    tri = np.ascontiguousarray(mesh.triangles)
    low, span = mesh.bounds[0], float(mesh.size.max())
    edge = float(np.median(np.ptp(tri, axis=1).max(axis=1)))
    size = max(edge * 1.5, span / 160, 1e-9)
    dims = np.maximum(np.ceil(mesh.size / size).astype(np.int64), 1)
    lo = np.clip(((tri.min(axis=1) - low) / size).astype(np.int64), 0, dims - 1)
    hi = np.clip(((tri.max(axis=1) - low) / size).astype(np.int64), 0, dims - 1)
    start = np.zeros(int(dims.prod()) + 1, np.int64)
    _bins(lo, hi, dims, True, start, np.empty(0, np.int64))
    start = np.cumsum(start)
    members = np.empty(int(start[-1]), np.int64)
    _bins(lo, hi, dims, False, start.copy(), members)
    out = np.empty((_STOP_AFTER, 2), np.int64)
    found = _scan(tri, mesh.faces, start, members, low, size, dims, span * 1e-7, out)
    return out[:found]


def crosses_in(mesh: Mesh, boxes: list[Array]) -> bool:
    """Whether triangles that reach into any of some boxes, each (2, 3), pass through each other."""
    tri = mesh.triangles
    low, high = tri.min(axis=1), tri.max(axis=1)
    near = np.zeros(len(tri), bool)
    for a, b in boxes:
        near |= ((low <= b + 1e-6) & (high >= a - 1e-6)).all(axis=1)
    return bool(near.any()) and len(crossing_pairs(Mesh(mesh.vertices, mesh.faces[near]))) > 0
