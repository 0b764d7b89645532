"""Shortest distance between two triangle meshes, exact: a tree of boxes, and triangle against triangle.

Segment and triangle distances after Ericson, *Real-Time Collision Detection* (2005), 5.1. An upper bound from the
nearest corners comes first: without it the tree is walked many times over.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
from scipy.spatial import cKDTree

from knollside.core.model import Array, Ints, Mesh

_LEAF = 4


@numba.njit(cache=True, nogil=True)
def _build(low, high, middle, order, start, end, left, right, box_low, box_high):  # type: ignore[no-untyped-def]
    """Median splits along the widest side; returns the number of nodes. ``order`` is sorted in place."""
    stack = np.empty((128, 3), np.int64)
    stack[0, 0], stack[0, 1], stack[0, 2] = 0, 0, order.shape[0]
    top, count = 1, 1
    while top > 0:
        top -= 1
        node, a, b = stack[top, 0], stack[top, 1], stack[top, 2]
        for k in range(3):
            box_low[node, k], box_high[node, k] = 1e300, -1e300
        for i in range(a, b):
            for k in range(3):
                box_low[node, k] = min(box_low[node, k], low[order[i], k])
                box_high[node, k] = max(box_high[node, k], high[order[i], k])
        start[node], end[node], left[node], right[node] = a, b, -1, -1
        if b - a <= _LEAF:
            continue
        wide = 0
        for k in range(1, 3):
            if box_high[node, k] - box_low[node, k] > box_high[node, wide] - box_low[node, wide]:
                wide = k
        part = order[a:b].copy()
        rank = np.argsort(middle[part, wide])
        for i in range(b - a):
            order[a + i] = part[rank[i]]
        half = (a + b) // 2
        left[node], right[node] = count, count + 1
        stack[top, 0], stack[top, 1], stack[top, 2] = count, a, half
        stack[top + 1, 0], stack[top + 1, 1], stack[top + 1, 2] = count + 1, half, b
        top += 2
        count += 2
    return count


@numba.njit(cache=True, nogil=True)
def _dot(a, b):  # type: ignore[no-untyped-def]
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@numba.njit(cache=True, nogil=True)
def _segments(p, q, r, s, near):  # type: ignore[no-untyped-def]
    """Squared distance of two segments p-q and r-s; the points go into ``near`` (2, 3)."""
    a = e = f = c = b = 0.0
    for k in range(3):
        d1, d2, w = q[k] - p[k], s[k] - r[k], p[k] - r[k]
        a += d1 * d1
        e += d2 * d2
        f += d2 * w
        c += d1 * w
        b += d1 * d2
    t = u = 0.0
    if a > 1e-300 and e > 1e-300:
        deep = a * e - b * b
        if deep > 1e-14 * a * e:
            t = min(max((b * f - c * e) / deep, 0.0), 1.0)
        u = (b * t + f) / e
        if u < 0.0:
            u, t = 0.0, min(max(-c / a, 0.0), 1.0)
        elif u > 1.0:
            u, t = 1.0, min(max((b - c) / a, 0.0), 1.0)
    elif a > 1e-300:
        t = min(max(-c / a, 0.0), 1.0)
    elif e > 1e-300:
        u = min(max(f / e, 0.0), 1.0)
    total = 0.0
    for k in range(3):
        near[0, k] = p[k] + t * (q[k] - p[k])
        near[1, k] = r[k] + u * (s[k] - r[k])
        total += (near[0, k] - near[1, k]) ** 2
    return total


@numba.njit(cache=True, nogil=True)
def _inside(p, a, b, c, near):  # type: ignore[no-untyped-def]
    """Squared distance of a point to a triangle's plane where its foot lies inside; infinite elsewhere."""
    n = np.empty(3)
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        n[k] = (b[i] - a[i]) * (c[j] - a[j]) - (b[j] - a[j]) * (c[i] - a[i])
    size = _dot(n, n)
    if size < 1e-300:
        return np.inf
    off = ((p[0] - a[0]) * n[0] + (p[1] - a[1]) * n[1] + (p[2] - a[2]) * n[2]) / size
    for k in range(3):
        near[k] = p[k] - off * n[k]
    for e in range(3):
        if e == 0:
            u, v = a, b
        elif e == 1:
            u, v = b, c
        else:
            u, v = c, a
        side = 0.0
        for k in range(3):
            i, j = (k + 1) % 3, (k + 2) % 3
            side += n[k] * ((v[i] - u[i]) * (near[j] - u[j]) - (v[j] - u[j]) * (near[i] - u[i]))
        if side < 0.0:
            return np.inf
    return off * off * size


@numba.njit(cache=True, nogil=True)
def _triangles(t, u, near, spare):  # type: ignore[no-untyped-def]
    """Squared distance of two triangles (3, 3) that do not cross; nearest points in ``near`` (2, 3)."""
    best = np.inf
    for i in range(3):
        for j in range(3):
            d = _segments(t[i], t[(i + 1) % 3], u[j], u[(j + 1) % 3], spare)
            if d < best:
                best = d
                near[:] = spare
    for i in range(3):
        d = _inside(t[i], u[0], u[1], u[2], spare[0])
        if d < best:
            best = d
            near[0], near[1] = t[i], spare[0]
        d = _inside(u[i], t[0], t[1], t[2], spare[0])
        if d < best:
            best = d
            near[0], near[1] = spare[0], u[i]
    return best


@numba.njit(cache=True, nogil=True)
def _planes_apart(t, u):  # type: ignore[no-untyped-def]
    """Squared distance of a triangle ``u`` from the plane of ``t``; nothing where it reaches through it. Two triangles
    are at least that far apart: long facets that run beside each other are told so without looking closer."""
    n = np.empty(3)
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        n[k] = (t[1, i] - t[0, i]) * (t[2, j] - t[0, j]) - (t[1, j] - t[0, j]) * (t[2, i] - t[0, i])
    size = _dot(n, n)
    if size < 1e-300:
        return 0.0
    low, high = np.inf, -np.inf
    for v in range(3):
        d = (u[v, 0] - t[0, 0]) * n[0] + (u[v, 1] - t[0, 1]) * n[1] + (u[v, 2] - t[0, 2]) * n[2]
        low, high = min(low, d), max(high, d)
    off = low if low > 0.0 else -high if high < 0.0 else 0.0
    return off * off / size


@numba.njit(cache=True, nogil=True)
def _search(ta, tb, order, start, end, left, right, box_low, box_high, bound, every, nearest, out):  # type: ignore[no-untyped-def]
    """Least squared distance; ``nearest`` (a,) the least of each triangle of the first mesh below ``bound``, or, where
    not ``every`` one is wanted, below what was found before it."""
    best = bound
    stack = np.empty(256, np.int64)
    near, spare = np.empty((2, 3)), np.empty((2, 3))
    for i in range(ta.shape[0]):
        low0, high0 = ta[i, 0].copy(), ta[i, 0].copy()
        for v in range(1, 3):
            for k in range(3):
                low0[k] = min(low0[k], ta[i, v, k])
                high0[k] = max(high0[k], ta[i, v, k])
        mine = bound if every else best
        stack[0] = 0
        top = 1
        while top > 0:
            top -= 1
            node = stack[top]
            gap = 0.0
            for k in range(3):
                d = max(max(box_low[node, k] - high0[k], low0[k] - box_high[node, k]), 0.0)
                gap += d * d
            if gap >= mine:
                continue
            if left[node] < 0:
                for q in range(start[node], end[node]):
                    u = tb[order[q]]
                    gap = 0.0
                    for k in range(3):
                        d = max(min(u[0, k], u[1, k], u[2, k]) - high0[k], low0[k] - max(u[0, k], u[1, k], u[2, k]))
                        gap += d * d if d > 0.0 else 0.0
                    if gap >= mine:
                        continue
                    sure = mine * (1 - 1e-9)
                    if _planes_apart(ta[i], u) >= sure or _planes_apart(u, ta[i]) >= sure:
                        continue
                    d = _triangles(ta[i], u, near, spare)
                    if d < mine:
                        mine = d
                        if d < best:
                            best = d
                            out[:] = near
            else:
                stack[top], stack[top + 1] = left[node], right[node]
                top += 2
        nearest[i] = mine
    return best


@dataclass(frozen=True)
class Nearest:
    """Shortest ``distance`` of two meshes, mm, its points (3,) on each, and for every triangle of the first its own
    distance (a,), infinite past the reach that was asked for."""

    distance: float
    at: tuple[Array, Array]
    each: Array


def shortest(a: Mesh, b: Mesh, reach: float | None = None) -> Nearest:
    """Distance between two meshes that do not cross each other. With ``reach`` every triangle of ``a`` within it is
    told; without, only as many as the least distance asks for."""
    tree = cKDTree(b.vertices[b.used])
    bound = float(np.min(tree.query(a.vertices[a.used])[0]))
    limit = max(bound, reach or 0.0) * (1 + 1e-9) + 1e-9
    ta, tb = np.ascontiguousarray(a.triangles), np.ascontiguousarray(b.triangles)
    low, high = tb.min(axis=1), tb.max(axis=1)
    order: Ints = np.arange(len(tb))
    most = 2 * len(tb) + 1
    start, end, left, right = (np.zeros(most, np.int64) for _ in range(4))
    box_low, box_high = np.zeros((most, 3)), np.zeros((most, 3))
    _build(low, high, (low + high) / 2, order, start, end, left, right, box_low, box_high)
    each, out = np.full(len(ta), np.inf), np.zeros((2, 3))
    # Far triangles cannot matter: leave them out before the search.
    box = np.array([low.min(axis=0), high.max(axis=0)])
    away = np.maximum(np.maximum(box[0] - ta.max(axis=1), ta.min(axis=1) - box[1]), 0.0)
    some = np.flatnonzero(np.linalg.norm(away, axis=1) <= limit)
    found = np.full(len(some), np.inf)
    best = _search(
        np.ascontiguousarray(ta[some]),
        tb,
        order,
        start,
        end,
        left,
        right,
        box_low,
        box_high,
        limit**2,
        reach is not None,
        found,
        out,
    )
    each[some] = np.sqrt(found)
    each[each >= limit] = np.inf
    return Nearest(float(np.sqrt(best)), (out[0].copy(), out[1].copy()), each)
