"""How far a piece of skin goes round an axis, and in how many facets."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Array, Ints, Mesh, square_to

_TURN = 2 * np.pi
_TOUCH = 2e-3  # rad between arcs that still join


@dataclass(frozen=True)
class Arcs:
    """``sweep`` (rad) covered in all, the widest ``gap`` left, and the usual angle of one ``facet``."""

    sweep: float
    gap: float
    facet: float

    @property
    def sides(self) -> int:
        """Facets that a whole turn of it would have."""
        return max(3, round(_TURN / max(self.facet, 1e-3)))


def spans(mesh: Mesh, faces: Ints, group: Ints, point: Array, axis: Array) -> tuple[Array, Array]:
    """Where each group of triangles begins and ends about the axis, rad; (g,) each, in the order of their numbers."""
    order = np.argsort(group, kind="stable")
    starts = np.flatnonzero(np.r_[True, np.diff(group[order]) != 0])
    u, v = square_to(axis)
    low, high = np.empty(len(starts)), np.empty(len(starts))
    ends = np.r_[starts, len(order)]
    _spans(mesh.vertices, mesh.faces, faces[order], ends, np.asarray(point, float), u, v, low, high)
    return low, high


@numba.njit(cache=True, nogil=True)
def _spans(vertices, faces, some, ends, point, u, v, low, high):  # type: ignore[no-untyped-def]
    for g in range(len(ends) - 1):
        home, least, most = 0.0, 0.0, 0.0
        for i in range(ends[g], ends[g + 1]):
            for k in range(3):
                c = faces[some[i], k]
                x, y = 0.0, 0.0
                for d in range(3):
                    q = vertices[c, d] - point[d]
                    x += q * u[d]
                    y += q * v[d]
                a = np.arctan2(y, x)
                if i == ends[g] and k == 0:
                    home = a
                a = (a - home + np.pi) % (2 * np.pi) - np.pi
                least, most = min(least, a), max(most, a)
        low[g], high[g] = home + least, home + most


def union(low: Array, high: Array) -> Arcs:
    """All arcs together."""
    widths = high - low
    begin = low % _TURN
    order = np.argsort(begin)
    begin, end = begin[order], (begin + widths)[order]
    reach = np.maximum.accumulate(end)
    # What runs past the turn covers the beginning, and the first arc once more, a turn on, closes the ring.
    over = max(float(reach[-1]) - _TURN, 0.0)
    between = np.minimum(begin[1:] - reach[:-1], np.maximum(begin[1:] - over, 0.0))
    holes = np.r_[between, max(float(begin[0]) + _TURN - float(reach[-1]), 0.0)]
    holes = np.where(holes > _TOUCH, holes, 0.0)
    return Arcs(float(_TURN - holes.sum()), float(holes.max()), float(np.median(widths)))
