"""A node's 27 neighbours and the 3 x 3 blocks between them: the operator the solver applies.

Nodes amid whole, even cells share one constant stencil and store nothing; only nodes at cut,
held or blended cells keep their own. Nodes are numbered along z first, so that the three
neighbours of a column lie side by side: nine reads of nine numbers fetch all 81.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numba
import numpy as np

from knollside.core.model import Array, Ints
from knollside.core.strength.grid import CORNERS

# Column of corner b as seen from corner a: (dx + 1) 3 + (dy + 1).
_COLUMN = ((CORNERS[None, :, :2] - CORNERS[:, None, :2] + 1) @ np.array([3, 1])).astype(np.int64)
_CHUNK = 512
_RUN = 32  # plain nodes taken together
_WIDE = 32  # outputs reckoned at a time: vectors without a scalar rest
_SHIFT = 6
_BLOCK = 1 << _SHIFT  # kept rows stored together


@numba.njit(cache=True, nogil=True)
def _bases(nodes, column, base):  # type: ignore[no-untyped-def]
    """First of the three numbers read for each node and column: one before the level neighbour."""
    last = base.shape[0] - 3
    for c in range(nodes.shape[0]):
        for a in range(8):
            n = nodes[c, a]
            for b in range(8):
                # The level neighbour of a column: same height bit as a.
                if (a >> 2) == (b >> 2):
                    base[n, column[a, b]] = min(max(nodes[c, b] - 1, 0), last)


@numba.njit(cache=True, nogil=True)
def _plain(nodes, even, scale, seen, first, plain):  # type: ignore[no-untyped-def]
    """A node is plain when eight even cells of one scale meet at it."""
    for c in range(nodes.shape[0]):
        for a in range(8):
            n = nodes[c, a]
            if seen[n] == 0:
                first[n] = scale[c]
            if not even[c] or first[n] != scale[c]:
                plain[n] = False
            seen[n] += 1
    for n in range(len(seen)):
        if seen[n] < 8 or n == 0 or n == len(seen) - 1:
            plain[n] = False


@numba.njit(cache=True, nogil=True, parallel=True)
def _add(nodes, matrices, scale, one, row, column, base, own):  # type: ignore[no-untyped-def]
    """Add cell matrices to the kept rows. Two strands share the rows between them, so none meets the other."""
    for strand in numba.prange(2):
        for c in range(nodes.shape[0]):
            m = 0 if one else c
            f = scale[c]
            for a in range(8):
                n = nodes[c, a]
                r = row[n]
                if r < 0 or r % 2 != strand:
                    continue
                for b in range(8):
                    q = column[a, b]
                    at = 9 * q + 3 * (nodes[c, b] - base[n, q])
                    for i in range(3):
                        for d in range(3):
                            own[r, i, at + d] += f * matrices[m, 3 * a + i, 3 * b + d]


@numba.njit(cache=True, nogil=True, fastmath=True)
def _column(p, q, v, start, out, at, length):  # type: ignore[no-untyped-def]
    """Add one column's eleven shifted copies. Unsigned places: a sign to test would stop the vectors."""
    for j in range(length):
        i = np.uint64(j)
        k = start + i
        out[at + i] += (
            p[q, 0, i] * v[k]
            + p[q, 1, i] * v[k + np.uint64(1)]
            + p[q, 2, i] * v[k + np.uint64(2)]
            + p[q, 3, i] * v[k + np.uint64(3)]
            + p[q, 4, i] * v[k + np.uint64(4)]
            + p[q, 5, i] * v[k + np.uint64(5)]
            + p[q, 6, i] * v[k + np.uint64(6)]
            + p[q, 7, i] * v[k + np.uint64(7)]
            + p[q, 8, i] * v[k + np.uint64(8)]
            + p[q, 9, i] * v[k + np.uint64(9)]
            + p[q, 10, i] * v[k + np.uint64(10)]
        )


@numba.njit(cache=True, nogil=True, fastmath=True)
def _row(own, r, near):  # type: ignore[no-untyped-def]
    b, m = np.uint64(r >> _SHIFT), np.uint64(r & (_BLOCK - 1))
    s0 = s1 = s2 = near[0] * 0
    for k in range(81):
        v = near[k]
        s0 += own[b, 0, m, 0, k] * v
        s1 += own[b, 0, m, 1, k] * v
        s2 += own[b, 0, m, 2, k] * v
    return s0, s1, s2


@numba.njit(cache=True, nogil=True, fastmath=True)
def _row_exact(own, r, near):  # type: ignore[no-untyped-def]
    b, m = np.uint64(r >> _SHIFT), np.uint64(r & (_BLOCK - 1))
    s0 = s1 = s2 = 0.0
    for k in range(81):
        v = near[k]
        s0 += (np.float64(own[b, 0, m, 0, k]) + np.float64(own[b, 1, m, 0, k])) * v
        s1 += (np.float64(own[b, 0, m, 1, k]) + np.float64(own[b, 1, m, 1, k])) * v
        s2 += (np.float64(own[b, 0, m, 2, k]) + np.float64(own[b, 1, m, 2, k])) * v
    return s0, s1, s2


@numba.njit(cache=True, nogil=True, fastmath=True)
def _image(first, last, u, base, row, scale, pattern, own, exact, near, out):  # type: ignore[no-untyped-def]
    """K u of the nodes ``first`` to ``last``, one after another in ``out``."""
    n = first
    while n < last:
        at = 3 * (n - first)
        r = row[n]
        if r >= 0:
            for q in range(9):
                start = np.uint64(3 * base[n, q])
                for k in range(9):
                    near[9 * q + k] = u[start + np.uint64(k)]
            if exact:
                out[at], out[at + 1], out[at + 2] = _row_exact(own, r, near)
            else:
                out[at], out[at + 1], out[at + 2] = _row(own, r, near)
            n += 1
            continue
        # Plain nodes that follow each other climb one column: so do all their neighbours, and the
        # stencil is a sum of shifted, scaled copies of nine columns, with coefficients of period three.
        f = scale[n]
        end = n + 1
        while end < last and end - n < _RUN and row[end] < 0 and scale[end] == f:
            end += 1
        length = 3 * (end - n)
        wide = (length + _WIDE - 1) // _WIDE * _WIDE
        for q in range(9):
            if 3 * base[n, q] + wide + 8 > len(u):
                wide = length
        for j in range(wide):
            out[at + j] = 0
        for q in range(9):
            _column(pattern, np.uint64(q), u, np.uint64(3 * base[n, q] - 2), out, np.uint64(at), wide)
        for j in range(length):
            out[at + j] *= f
        n = end


@numba.njit(cache=True, nogil=True, parallel=True)
def _apply(u, base, row, scale, pattern, own, exact, r, minus, out):  # type: ignore[no-untyped-def]
    """out = K u, or r - K u if ``minus``."""
    count = base.shape[0]
    for chunk in numba.prange((count + _CHUNK - 1) // _CHUNK):
        first, last = chunk * _CHUNK, min((chunk + 1) * _CHUNK, count)
        near, image = np.empty(81, u.dtype), np.empty(3 * _CHUNK + _WIDE, u.dtype)
        _image(first, last, u, base, row, scale, pattern, own, exact, near, image)
        for k in range(3 * first, 3 * last):
            out[k] = r[k] - image[k - 3 * first] if minus else image[k - 3 * first]


@numba.njit(cache=True, nogil=True, parallel=True)
def _relax(u, base, row, scale, pattern, own, inverse, r, d, pull, push, still, out):  # type: ignore[no-untyped-def]
    """One Chebyshev step: d = pull d + push D^-1 (r - K u); out = u + d. ``still``: u is zero."""
    count = base.shape[0]
    for chunk in numba.prange((count + _CHUNK - 1) // _CHUNK):
        first, last = chunk * _CHUNK, min((chunk + 1) * _CHUNK, count)
        near, image = np.empty(81, u.dtype), np.empty(3 * _CHUNK + _WIDE, u.dtype)
        if still:
            image[:] = 0
        else:
            _image(first, last, u, base, row, scale, pattern, own, False, near, image)
        for n in range(first, last):
            k, m = 3 * n, 3 * (n - first)
            a, b, c = r[k] - image[m], r[k + 1] - image[m + 1], r[k + 2] - image[m + 2]
            for i in range(3):
                v = pull * d[k + i] + push * (inverse[n, i, 0] * a + inverse[n, i, 1] * b + inverse[n, i, 2] * c)
                d[k + i] = v
                out[k + i] = u[k + i] + v


@numba.njit(cache=True, nogil=True, parallel=True)
def _halve(own, split):  # type: ignore[no-untyped-def]
    """Double numbers in place as two singles, the second what the first left out. One block at a time."""
    for b in numba.prange(split.shape[0]):
        mine = own[b * _BLOCK : (b + 1) * _BLOCK].copy()
        for m in range(_BLOCK):
            for i in range(3):
                for k in range(81):
                    high = np.float32(mine[m, i, k])
                    split[b, 0, m, i, k] = high
                    split[b, 1, m, i, k] = np.float32(mine[m, i, k] - np.float64(high))


@dataclass(frozen=True)
class Stencil:
    """``base`` (n, 9) first neighbour of each column; ``row`` (n,) of ``own``, or -1 where ``shared``
    (3, 81) times ``scale`` (n,) serves. ``own`` (blocks, 1, _BLOCK, 3, 81) holds rows in single precision;
    with 2 for 1 also what rounding left out, where a double-precision product is wanted."""

    base: Ints
    row: Ints
    scale: Array
    shared: Array
    own: Array

    @cached_property
    def _plain(self) -> dict[type, tuple[Array, Array]]:
        return {t: (self.scale.astype(t), _pattern(self.shared).astype(t)) for t in (np.float32, np.float64)}

    def _parts(self, u: Array) -> tuple[Ints, Ints, Array, Array, Array]:
        scale, pattern = self._plain[u.dtype.type]
        return self.base, self.row, scale, pattern, self.own

    def apply(self, u: Array) -> Array:
        """K u, in the precision of ``u``."""
        out = np.empty_like(u)
        _apply(u, *self._parts(u), u.dtype == np.float64, u, False, out)
        return out

    def rest(self, u: Array, r: Array) -> Array:
        """r - K u, in single precision."""
        out = np.empty_like(u)
        _apply(u, *self._parts(u), False, r, True, out)
        return out

    def relax(self, u: Array, out: Array, inverse: Array, r: Array, d: Array, pull: float, push: float, still: bool):  # type: ignore[no-untyped-def]
        """One smoothing step from ``u`` to ``out``; ``d`` is the running direction, changed in place."""
        _relax(u, *self._parts(u), inverse, r, d, np.float32(pull), np.float32(push), still, out)

    def diagonal(self) -> Array:
        """Blocks on the diagonal, (n, 3, 3)."""
        out = self.shared[:, 39:42] * self.scale[:, None, None]
        mine = np.flatnonzero(self.row >= 0)
        at = 36 + 3 * (mine - self.base[mine, 4])
        for d in range(3):
            out[mine, :, d] = self.own[self.row[mine] // _BLOCK, 0, self.row[mine] % _BLOCK, :, at + d]
        return out


def _pattern(shared: Array) -> Array:
    """(9, 11, 3 _RUN): coefficient of each column's number m - 2 on, for each output of a run."""
    out = np.zeros((9, 11, 3 * _RUN))
    for m in range(11):
        for i in range(3):
            if 0 <= m - 2 + i < 9:
                out[:, m, i::3] = shared[i].reshape(9, 9)[:, m - 2 + i, None]
    return out


class Gatherer:
    """Collects cell matrices into a :class:`Stencil`, a batch at a time; ``exact`` keeps double precision."""

    def __init__(
        self, nodes: Ints, count: int, whole: Array, even: np.ndarray, scale: Array, exact: bool = True
    ) -> None:
        self.nodes = nodes
        self.base = np.zeros((count, 9), np.int32)
        _bases(nodes, _COLUMN, self.base)
        plain = np.ones(count, np.bool_)
        self.scale = np.ones(count)
        _plain(nodes, even, scale, np.zeros(count, np.int8), self.scale, plain)
        # A run reads two numbers more at either end than it needs.
        plain &= (self.base.min(axis=1) > 0) & (self.base.max(axis=1) < count - 3)
        self.row = np.where(plain, -1, np.cumsum(~plain) - 1).astype(np.int32)
        self.exact = exact
        rows = -(-int((~plain).sum()) // _BLOCK) * _BLOCK
        self.own = np.zeros((rows, 3, 81), np.float64 if exact else np.float32)
        self.shared = np.zeros((3, 81))
        for a in range(8):
            for b in range(8):
                at = 9 * _COLUMN[a, b] + 3 * (1 + (b >> 2) - (a >> 2))
                self.shared[:, at : at + 3] += whole[3 * a : 3 * a + 3, 3 * b : 3 * b + 3]

    def add(self, cells: Ints, matrices: Array, scale: Array) -> None:
        """``matrices`` (m, 24, 24), or (1, 24, 24) for all; ``cells`` their numbers."""
        nodes = self.nodes[cells]
        mine = np.flatnonzero((self.row[nodes] >= 0).any(axis=1))
        one = len(matrices) == 1
        if not one and len(mine) < len(cells):
            matrices = matrices[mine]
        _add(
            np.ascontiguousarray(nodes[mine]),
            matrices,
            np.ascontiguousarray(scale[mine]),
            one,
            self.row,
            _COLUMN,
            self.base,
            self.own,
        )

    def done(self) -> Stencil:
        own = self.own.view(np.float32).reshape(-1, 2 if self.exact else 1, _BLOCK, 3, 81)
        if self.exact:
            _halve(self.own, own)
        return Stencil(self.base, self.row, self.scale, self.shared, own)
