"""Outlines on a grid of cells: every cell that a shape touches, for any turn of it."""

from __future__ import annotations

from functools import lru_cache

import numba
import numpy as np
import shapely
import shapely.affinity
from shapely.geometry.base import BaseGeometry

from knollside.core.model import Ints

CELL = 0.5  # mm
_LINE = 1e-9  # of a cell; one that is met along its border alone is not touched
Reach = tuple[float, float] | None


@numba.njit(cache=True, nogil=True)
def _touched(points, start, out):  # type: ignore[no-untyped-def]
    """Mark in ``out`` (rows, columns) every cell of unit size that closed rings touch: all along their edges, and
    those whose middle lies within by the even-odd rule. ``points`` (n, 2) in cells; ring r is start[r]:start[r + 1]."""
    rows, columns = out.shape
    for r in range(len(start) - 1):
        n = start[r + 1] - start[r]
        for k in range(n):
            ax, ay = points[start[r] + k]
            bx, by = points[start[r] + (k + 1) % n]
            low, high = min(ay, by), max(ay, by)
            for row in range(max(int(np.floor(low + _LINE)), 0), min(int(np.floor(high - _LINE)), rows - 1) + 1):
                x0, x1 = min(ax, bx), max(ax, bx)
                if high > low:
                    s = (max(low, row) - ay) / (by - ay)
                    t = (min(high, row + 1.0) - ay) / (by - ay)
                    x0, x1 = ax + s * (bx - ax), ax + t * (bx - ax)
                    if x0 > x1:
                        x0, x1 = x1, x0
                for c in range(max(int(np.floor(x0 + _LINE)), 0), min(int(np.floor(x1 - _LINE)), columns - 1) + 1):
                    out[row, c] = True
    crossing = np.empty(len(points))
    for row in range(rows):
        y = row + 0.5
        count = 0
        for r in range(len(start) - 1):
            n = start[r + 1] - start[r]
            for k in range(n):
                ax, ay = points[start[r] + k]
                bx, by = points[start[r] + (k + 1) % n]
                if (ay <= y) != (by <= y):
                    crossing[count] = ax + (y - ay) / (by - ay) * (bx - ax)
                    count += 1
        order = np.sort(crossing[:count])
        for k in range(0, count - 1, 2):
            first, last = int(np.ceil(order[k] - 0.5)), int(np.floor(order[k + 1] - 0.5))
            for c in range(max(first, 0), min(last, columns - 1) + 1):
                out[row, c] = True


def cells_of(shape: BaseGeometry, corner: tuple[float, float], size: tuple[int, int]) -> np.ndarray:
    """Cells (rows, columns) of :data:`CELL` mm that ``shape`` touches; ``corner`` mm is the grid's lower left."""
    rings = [
        np.asarray(ring.coords)[:-1, :2]
        for p in shapely.get_parts(shape)
        if p.geom_type == "Polygon" and not p.is_empty
        for ring in (p.exterior, *p.interiors)
    ]
    out = np.zeros(size, bool)
    if rings:
        start = np.cumsum([0, *(len(r) for r in rings)])
        _touched((np.concatenate(rings) - corner) / CELL, start, out)
    return out


def turned(shape: BaseGeometry, angle: float) -> BaseGeometry:
    """The shape turned by ``angle`` degrees about nought and put with its lower left at nought."""
    made = shapely.affinity.rotate(shape, angle, origin=(0, 0))
    low_x, low_y = made.bounds[:2]
    return shapely.affinity.translate(made, -low_x, -low_y)


class Mask:
    """One turn of an outline: its own cells, the cells of it grown by the clearance (or, for one after another, its
    hull grown by ``reach`` mm in X and Y), and its size.

    ``run`` (k, 3): row, first and last column of each row's stretches of own cells. The grown cells' grid begins
    ``before`` cells further left and down. ``width`` and ``height`` mm.
    """

    def __init__(self, shape: BaseGeometry, angle: float, clearance: float, reach: Reach = None) -> None:
        self.angle = angle
        self.shape = turned(shape, angle)
        _, _, self.width, self.height = self.shape.bounds
        rows, columns = (max(int(np.ceil(v / CELL - 1e-9)), 1) for v in (self.height, self.width))
        self.own = cells_of(self.shape, (0.0, 0.0), (rows, columns))
        self.run = _runs(self.own)
        self.before = int(np.ceil(max(clearance, *(reach or (0.0,))) / CELL)) + 1
        corner = (-self.before * CELL, -self.before * CELL)
        size = (rows + 2 * self.before, columns + 2 * self.before)
        self.grown = cells_of(grown(self.shape, clearance, reach), corner, size)


def grown(shape: BaseGeometry, clearance: float, reach: Reach) -> BaseGeometry:
    """What others must keep off."""
    wider = shapely.buffer(shape, clearance, quad_segs=16)
    if reach is None:
        return wider
    at = shapely.get_coordinates(shapely.convex_hull(wider))
    box = np.array([(x, y) for x in (-reach[0], reach[0]) for y in (-reach[1], reach[1])])
    return shapely.convex_hull(shapely.multipoints((at[:, None] + box[None]).reshape(-1, 2)))


def _runs(cells: np.ndarray) -> Ints:
    out = []
    for row in np.flatnonzero(cells.any(axis=1)):
        edge = np.flatnonzero(np.diff(np.r_[False, cells[row], False].astype(np.int8)))
        out += [(row, a, b - 1) for a, b in edge.reshape(-1, 2)]
    # Broad ones first: they meet something soonest.
    return np.array(sorted(out, key=lambda r: r[1] - r[2]), np.int64).reshape(-1, 3)


@lru_cache(maxsize=512)
def _mask(wkb: bytes, angle: float, clearance: float, reach: Reach) -> Mask:
    return Mask(shapely.from_wkb(wkb), angle, clearance, reach)


def mask_of(shape: BaseGeometry, angle: float, clearance: float, reach: Reach = None) -> Mask:
    """As :class:`Mask`; the last few hundred are kept."""
    return _mask(shapely.to_wkb(shape), round(angle, 3), round(clearance, 4), reach)


@numba.njit(cache=True, nogil=True)
def first_free(until, run, rows, columns, from_row):  # type: ignore[no-untyped-def]
    """The lowest, then leftmost place (row, column), from a row on, of a mask's runs; (-1, -1) for none.

    ``until`` (high, wide + 1): for a taken cell the column after its stretch of taken cells, for a free one the column
    after its stretch of free ones, negative: each run is one look, and tells how far to leap."""
    high, wide = until.shape[0], until.shape[1] - 1
    for y in range(from_row, high - rows + 1):
        x = 0
        while x <= wide - columns:
            leap = 0
            for k in range(run.shape[0]):
                row, c = y + run[k, 0], x + run[k, 1]
                v = until[row, c]
                if v < 0:
                    if -v > x + run[k, 2]:
                        continue
                    v = until[row, -v]
                leap = v - run[k, 1]
                break
            if leap == 0:
                return y, x
            x = max(leap, x + 1)
    return -1, -1


@numba.njit(cache=True, nogil=True)
def mark(until, cells, top, left):  # type: ignore[no-untyped-def]
    """Take cells (rows, columns) from (top, left) on, which may reach beyond the bed."""
    high, wide = until.shape[0], until.shape[1] - 1
    for r in range(cells.shape[0]):
        row = top + r
        if row < 0 or row >= high:
            continue
        for c in range(cells.shape[1]):
            if cells[r, c] and 0 <= left + c < wide:
                until[row, left + c] = 1
        end = wide
        for c in range(wide - 1, -1, -1):
            if c < wide - 1 and (until[row, c] > 0) != (until[row, c + 1] > 0):
                end = c + 1
            until[row, c] = end if until[row, c] > 0 else -end


def empty_bed(bed: tuple[float, float]) -> Ints:
    """A bed of (width, depth) mm with nothing on it, as :func:`first_free` reads it."""
    wide, high = (int(np.floor(v / CELL + 1e-9)) for v in bed)
    out = np.full((high, wide + 1), -wide, np.int64)
    out[:, wide] = wide  # beyond the rim nothing is free
    return out
