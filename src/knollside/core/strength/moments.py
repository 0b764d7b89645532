"""Exact moments of the part inside each grid cell.

Up-facing and down-facing triangles bound the solid along z: everything above a
down-facing one counts +1, above an up-facing one -1. Clipped to a column of
cells, each triangle adds a polynomial integral to the cell it passes through
and its footprint's moments to all cells above. Clipping and quadrature are
exact for the polynomials the element needs (each power up to 2), so no wall is
lost, doubled or rounded to rays (compare Schillinger and Ruess 2015 on cut
cells).
"""

from __future__ import annotations

import numba
import numpy as np

from knollside.core.model import Array, Ints, Mesh

# Seven-degree rule on a triangle (Gatermann 1988): 12 points, barycentric, weights sum to 1.
_A = (
    (0.06238226509439084, 0.06751786707392436, 0.05303405631486900),
    (0.05522545665692000, 0.32150249385198182, 0.08776281742889622),
    (0.03432430294509488, 0.66094919618673565, 0.05755008556995056),
    (0.51584233435359177, 0.27771616697639178, 0.13498637401961758),
)
_POINTS = np.array([(a, b, 1 - a - b)[k:] + (a, b, 1 - a - b)[:k] for a, b, _ in _A for k in range(3)])
_SLABS = 16
_WEIGHTS = np.array([w for _, _, w in _A for _ in range(3)])


@numba.njit(cache=True, nogil=True)
def _cut(poly, count, axis, value, keep_above, out):  # type: ignore[no-untyped-def]
    """Clip a planar polygon at one plane; returns the number of corners left (Sutherland and Hodgman 1974)."""
    n = 0
    for i in range(count):
        j = (i + 1) % count
        a, b = poly[i, axis] - value, poly[j, axis] - value
        if not keep_above:
            a, b = -a, -b
        if a >= 0:
            out[n] = poly[i]
            n += 1
        if (a > 0 and b < 0) or (a < 0 and b > 0):
            t = a / (a - b)
            for d in range(3):
                out[n, d] = poly[i, d] + t * (poly[j, d] - poly[i, d])
            out[n, axis] = value
            n += 1
    return n


@numba.njit(cache=True, nogil=True)
def _piece(poly, count, i, j, k, top, points, weights, slot, cut, above):  # type: ignore[no-untyped-def]
    """Add one clipped piece, corners in cell units, to its own cell and to the cells over it."""
    for f in range(1, count - 1):
        ax, ay = poly[f, 0] - poly[0, 0], poly[f, 1] - poly[0, 1]
        bx, by = poly[f + 1, 0] - poly[0, 0], poly[f + 1, 1] - poly[0, 1]
        area = 0.5 * (ax * by - ay * bx)
        if area == 0.0:
            continue
        for q in range(points.shape[0]):
            p0, p1, p2 = points[q, 0], points[q, 1], points[q, 2]
            x = 2 * (p0 * poly[0, 0] + p1 * poly[f, 0] + p2 * poly[f + 1, 0] - i) - 1
            y = 2 * (p0 * poly[0, 1] + p1 * poly[f, 1] + p2 * poly[f + 1, 1] - j) - 1
            z = 2 * (p0 * poly[0, 2] + p1 * poly[f, 2] + p2 * poly[f + 1, 2] - k) - 1
            z = min(max(z, -1.0), 1.0)
            # A down-facing triangle turns clockwise seen from above: its signed area is negative.
            w = -weights[q] * area
            rest = ((1 - z) / 2, (1 - z * z) / 4, (1 - z * z * z) / 6)
            xp = 1.0
            for a in range(3):
                yp = xp
                for b in range(3):
                    if k + 1 < top:
                        above[j, k + 1, 3 * a + b] += w * yp
                    if k >= 0:
                        for c in range(3):
                            cut[slot, 9 * a + 3 * b + c] += w * yp * rest[c]
                    yp *= y
                xp *= x


@numba.njit(cache=True, nogil=True, parallel=True)
def _sweep(tri, order, begin, dims, points, weights, first, last, out):  # type: ignore[no-untyped-def]
    """Slabs ``first`` to ``last`` along x, into ``out`` (last - first, ny, nz, 27)."""
    for slab in numba.prange(last - first):
        i = first + slab
        above = np.zeros((dims[1], dims[2] + 1, 9))
        one, two = np.empty((16, 3)), np.empty((16, 3))
        row, cell = np.empty((16, 3)), np.empty((16, 3))
        own = np.zeros((dims[1] * dims[2], 27))
        for at in range(begin[i], begin[i + 1]):
            t = tri[order[at]]
            for d in range(3):
                one[d] = t[d]
            n = _cut(one, 3, 0, float(i), True, two)
            n = _cut(two, n, 0, float(i + 1), False, row)
            if n < 3:
                continue
            y0, y1 = row[0, 1], row[0, 1]
            for c in range(1, n):
                y0, y1 = min(y0, row[c, 1]), max(y1, row[c, 1])
            for j in range(max(int(np.floor(y0)), 0), min(int(np.floor(y1)), dims[1] - 1) + 1):
                m = _cut(row, n, 1, float(j), True, one)
                m = _cut(one, m, 1, float(j + 1), False, cell)
                if m < 3:
                    continue
                z0, z1 = cell[0, 2], cell[0, 2]
                for c in range(1, m):
                    z0, z1 = min(z0, cell[c, 2]), max(z1, cell[c, 2])
                # What lies under the box bounds the cells above it, too; what lies over it bounds none.
                k0 = min(max(int(np.floor(z0)), -1), dims[2])
                k1 = min(max(int(np.floor(z1)), -1), dims[2])
                for k in range(k0, min(k1, dims[2] - 1) + 1):
                    q = m
                    if k0 == k1:
                        for c in range(m):
                            two[c] = cell[c]
                    elif k < 0:
                        q = _cut(cell, m, 2, 0.0, False, two)
                    else:
                        q = _cut(cell, m, 2, float(k), True, one)
                        q = _cut(one, q, 2, float(k + 1), False, two)
                    if q >= 3:
                        _piece(two, q, i, j, k, dims[2], points, weights, j * dims[2] + k, own, above)
        for j in range(dims[1]):
            for k in range(dims[2]):
                for a in range(9):
                    if k > 0:
                        above[j, k, a] += above[j, k - 1, a]
                    v = above[j, k, a]
                    s = 3 * a
                    out[slab, j, k, s] = own[j * dims[2] + k, s] + v
                    out[slab, j, k, s + 1] = own[j * dims[2] + k, s + 1]
                    out[slab, j, k, s + 2] = own[j * dims[2] + k, s + 2] + v / 3


def cell_moments(mesh: Mesh, origin: Array, size: Array, shape: tuple[int, int, int]) -> tuple[Array, Ints, Array]:
    """Fill of every cell and the moments of those the surface passes through.

    Returns (``fill`` (nx, ny, nz) in 0..1, ``places`` (m, 3) of the cut cells,
    ``moments`` (m, 27)): integrals of x^a y^b z^c, local coordinates in -1..1,
    over the filled part, per cell volume, index 9 a + 3 b + c. The mesh must be closed.
    """
    tri = np.ascontiguousarray((mesh.triangles - origin) / size)
    order, begin = _by_slab(tri, shape[0])
    fill = np.empty(shape)
    places, moments = [], []
    # Some slabs at a time: moments of every cell of the box at once would outweigh the solve.
    for first in range(0, shape[0], _SLABS):
        last = min(first + _SLABS, shape[0])
        out = np.empty((last - first, *shape[1:], 27), np.float32)
        _sweep(tri, order, begin, np.array(shape), _POINTS, _WEIGHTS, first, last, out)
        share = _settled(out[..., 0])
        fill[first:last] = share
        # Cells no surface enters may still be cut by a wall that runs exactly along the column.
        cut = np.argwhere((share > 0) & (share < 1))
        places.append(cut + np.array([first, 0, 0]))
        moments.append(out[tuple(cut.T)])
    return fill, np.vstack(places), np.vstack(moments).astype(np.float64)


def _by_slab(tri: Array, slabs: int) -> tuple[Ints, Ints]:
    """Triangles in order of the slabs along x they pass through, and where each slab's begin."""
    low = np.clip(np.floor(tri[:, :, 0].min(axis=1)).astype(np.int64), 0, slabs - 1)
    high = np.clip(np.floor(tri[:, :, 0].max(axis=1)).astype(np.int64), 0, slabs - 1)
    spans = high - low + 1
    who = np.repeat(np.arange(len(tri)), spans)
    slab = np.repeat(low, spans) + np.arange(len(who)) - np.repeat(np.cumsum(spans) - spans, spans)
    order = who[np.argsort(slab, kind="stable")]
    return order, np.r_[0, np.cumsum(np.bincount(slab, minlength=slabs))]


def box_moments(tri: Array, low: Ints, shape: tuple[int, int, int]) -> tuple[Array, Array]:
    """The same for one small box of a lattice: ``tri`` (t, 3, 3) in cells, of them all that pass through the box or
    under it; ``low`` (3,) its first cell. Returns the fill (nx, ny, nz) and the moments (nx, ny, nz, 27) of its cells.
    """
    mine = np.ascontiguousarray(tri - low)
    order, begin = _by_slab(mine, shape[0])
    out = np.empty((*shape, 27), np.float32)
    _sweep(mine, order, begin, np.array(shape), _POINTS, _WEIGHTS, 0, shape[0], out)
    return _settled(out[..., 0]), out


def _settled(share: Array) -> Array:
    """Fill with what single precision leaves of empty and full cells put right."""
    share = np.clip(share, 0.0, 1.0)
    share[share > 1 - 2e-6] = 1.0
    share[share < 2e-6] = 0.0
    return share
