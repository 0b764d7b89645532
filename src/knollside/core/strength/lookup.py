"""Which cell lies at a place of a lattice, where only some of a large lattice is in use."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Ints

_SHIFT = 3
_BLOCK = 1 << _SHIFT


@dataclass(frozen=True)
class Lookup:
    """``table`` (bx, by, bz) the number of each block of 8 x 8 x 8 places in ``pool``, or -1; ``low`` (3,) the first
    block; ``pool`` (k, 8, 8, 8) the cell there, or -1."""

    low: Ints
    table: Ints
    pool: Ints

    def find(self, places: Ints) -> Ints:
        """The cell at each place (m, 3); -1 where there is none."""
        out = np.empty(len(places), np.int64)
        _find(self.low, self.table, self.pool, np.ascontiguousarray(places, np.int64), out)
        return out


def lookup_of(places: Ints) -> Lookup:
    """For cells at ``places`` (c, 3), by their numbers."""
    block = places >> _SHIFT
    low, high = block.min(axis=0), block.max(axis=0)
    table = np.full(tuple(high - low + 1), -1, np.int32)
    at = block - low
    table[tuple(at.T)] = 0
    used = np.argwhere(table == 0)
    table[tuple(used.T)] = np.arange(len(used), dtype=np.int32)
    pool = np.full((len(used), _BLOCK, _BLOCK, _BLOCK), -1, np.int32)
    inside = places & (_BLOCK - 1)
    pool[table[tuple(at.T)], inside[:, 0], inside[:, 1], inside[:, 2]] = np.arange(len(places), dtype=np.int32)
    return Lookup(low.astype(np.int64), table, pool)


@numba.njit(cache=True, nogil=True, inline="always")
def cell_at(low, table, pool, i, j, k):  # type: ignore[no-untyped-def]
    """The cell at one place, or -1."""
    a, b, c = (i >> 3) - low[0], (j >> 3) - low[1], (k >> 3) - low[2]
    if a < 0 or b < 0 or c < 0 or a >= table.shape[0] or b >= table.shape[1] or c >= table.shape[2]:
        return -1
    block = table[a, b, c]
    if block < 0:
        return -1
    return pool[block, i & 7, j & 7, k & 7]


@numba.njit(cache=True, nogil=True, parallel=True)
def _find(low, table, pool, places, out):  # type: ignore[no-untyped-def]
    for m in numba.prange(places.shape[0]):
        out[m] = cell_at(low, table, pool, places[m, 0], places[m, 1], places[m, 2])
