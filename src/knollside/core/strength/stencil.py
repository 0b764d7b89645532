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
_GROUP = 8  # runs handed to a strand at a time
_RUN = 32  # plain nodes taken together
_WIDE = 32  # outputs reckoned at a time: vectors without a scalar rest
_SHIFT = 6
_BLOCK = 1 << _SHIFT  # kept rows stored, and reckoned, side by side


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
    """Add cell matrices to the kept rows. Two strands share the blocks between them, so none meets the other."""
    for strand in numba.prange(2):
        for c in range(nodes.shape[0]):
            m = 0 if one else c
            f = scale[c]
            for a in range(8):
                n = nodes[c, a]
                r = row[n]
                block, lane = r >> _SHIFT, r & (_BLOCK - 1)
                if r < 0 or block % 2 != strand:
                    continue
                for b in range(8):
                    q = column[a, b]
                    at = 9 * q + 3 * (nodes[c, b] - base[n, q])
                    for i in range(3):
                        for d in range(3):
                            own[block, i, at + d, lane] += f * matrices[m, 3 * a + i, 3 * b + d]


@numba.njit(cache=True, nogil=True, fastmath=True)
def _column(p, q, v, start, out, length):  # type: ignore[no-untyped-def]
    """Add one column's eleven shifted copies. Unsigned places: a sign to test would stop the vectors."""
    for j in range(length):
        i = np.uint64(j)
        k = start + i
        out[i] += (
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
def _run(t, u, length, first, scale, pattern, out):  # type: ignore[no-untyped-def]
    """K u of a run of plain nodes. They climb one column and so do all their neighbours: the stencil is a sum
    of shifted, scaled copies of nine columns, with coefficients of period three."""
    wide = (length + _WIDE - 1) // _WIDE * _WIDE
    for q in range(9):
        if first[t, q] + wide + 8 > len(u):
            wide = length
    for j in range(wide):
        out[j] = 0
    for q in range(9):
        _column(pattern, np.uint64(q), u, np.uint64(first[t, q] - 2), out, wide)
    for j in range(length):
        out[j] *= scale


@numba.njit(cache=True, nogil=True, fastmath=True)
def _nine(own, b, i, q, near, out):  # type: ignore[no-untyped-def]
    """Add one column's nine products for all rows of a block, side by side as vectors."""
    for m in range(_BLOCK):
        out[i, m] += (
            own[b, 0, i, 9 * q, m] * near[9 * q, m]
            + own[b, 0, i, 9 * q + 1, m] * near[9 * q + 1, m]
            + own[b, 0, i, 9 * q + 2, m] * near[9 * q + 2, m]
            + own[b, 0, i, 9 * q + 3, m] * near[9 * q + 3, m]
            + own[b, 0, i, 9 * q + 4, m] * near[9 * q + 4, m]
            + own[b, 0, i, 9 * q + 5, m] * near[9 * q + 5, m]
            + own[b, 0, i, 9 * q + 6, m] * near[9 * q + 6, m]
            + own[b, 0, i, 9 * q + 7, m] * near[9 * q + 7, m]
            + own[b, 0, i, 9 * q + 8, m] * near[9 * q + 8, m]
        )


@numba.njit(cache=True, nogil=True, fastmath=True)
def _rows(b, u, start, own, exact, near, out):  # type: ignore[no-untyped-def]
    """K u of one block of kept rows, (3, _BLOCK)."""
    for q in range(9):
        for m in range(_BLOCK):
            at = np.uint64(start[b, q, m])
            for k in range(9):
                near[9 * q + k, m] = u[at + np.uint64(k)]
    out[:] = 0
    for i in range(3):
        if exact:
            for k in range(81):
                for m in range(_BLOCK):
                    out[i, m] += (np.float64(own[b, 0, i, k, m]) + np.float64(own[b, 1, i, k, m])) * near[k, m]
        else:
            for q in range(9):
                _nine(own, b, i, q, near, out)


@numba.njit(cache=True, nogil=True, parallel=True)
def _apply(u, start, node, own, run, first, scale, pattern, exact, r, minus, out):  # type: ignore[no-untyped-def]
    """out = K u, or r - K u if ``minus``, for each of the vectors (m, 3n): a block's rows serve them all."""
    for b in numba.prange(start.shape[0]):
        near, image = np.empty((81, _BLOCK), u.dtype), np.empty((3, _BLOCK), u.dtype)
        for v in range(u.shape[0]):
            _rows(b, u[v], start, own, exact, near, image)
            for m in range(_BLOCK):
                n = 3 * node[b, m]
                if n >= 0:
                    for i in range(3):
                        out[v, n + i] = r[v, n + i] - image[i, m] if minus else image[i, m]
    count = run.shape[0]
    for group in numba.prange((count + _GROUP - 1) // _GROUP):
        image = np.empty(3 * _RUN + _WIDE, u.dtype)
        for t in range(group * _GROUP, min((group + 1) * _GROUP, count)):
            n, length = 3 * run[t, 0], 3 * run[t, 1]
            for v in range(u.shape[0]):
                _run(t, u[v], length, first, scale[t], pattern, image)
                for k in range(length):
                    out[v, n + k] = r[v, n + k] - image[k] if minus else image[k]


@numba.njit(cache=True, nogil=True, parallel=True)
def _relax(u, start, node, own, run, first, scale, pattern, inverse, r, d, pull, push, still, out):  # type: ignore[no-untyped-def]
    """One Chebyshev step: d = pull d + push D^-1 (r - K u); out = u + d. ``still``: u is zero."""
    for b in numba.prange(start.shape[0]):
        near, image = np.empty((81, _BLOCK), u.dtype), np.zeros((3, _BLOCK), u.dtype)
        for v in range(u.shape[0]):
            if not still:
                _rows(b, u[v], start, own, False, near, image)
            for m in range(_BLOCK):
                n = node[b, m]
                if n >= 0:
                    _step(n, image[0, m], image[1, m], image[2, m], u, v, inverse, r, d, pull, push, out)
    count = run.shape[0]
    for group in numba.prange((count + _GROUP - 1) // _GROUP):
        image = np.zeros(3 * _RUN + _WIDE, u.dtype)
        for t in range(group * _GROUP, min((group + 1) * _GROUP, count)):
            for v in range(u.shape[0]):
                if not still:
                    _run(t, u[v], 3 * run[t, 1], first, scale[t], pattern, image)
                for k in range(run[t, 1]):
                    n = run[t, 0] + k
                    _step(n, image[3 * k], image[3 * k + 1], image[3 * k + 2], u, v, inverse, r, d, pull, push, out)


@numba.njit(cache=True, nogil=True, inline="always")
def _step(n, x, y, z, u, v, inverse, r, d, pull, push, out):  # type: ignore[no-untyped-def]
    k = 3 * n
    a, b, c = r[v, k] - x, r[v, k + 1] - y, r[v, k + 2] - z
    for i in range(3):
        w = pull * d[v, k + i] + push * (inverse[n, i, 0] * a + inverse[n, i, 1] * b + inverse[n, i, 2] * c)
        d[v, k + i] = w
        out[v, k + i] = u[v, k + i] + w


@numba.njit(cache=True, nogil=True, parallel=True)
def _halve(own, split):  # type: ignore[no-untyped-def]
    """Double numbers in place as two singles, the second what the first left out. One block at a time."""
    for b in numba.prange(split.shape[0]):
        mine = own[b].copy()
        for i in range(3):
            for k in range(81):
                for m in range(_BLOCK):
                    high = np.float32(mine[i, k, m])
                    split[b, 0, i, k, m] = high
                    split[b, 1, i, k, m] = np.float32(mine[i, k, m] - np.float64(high))


@dataclass(frozen=True)
class Stencil:
    """Nodes that keep their own rows, ``node`` (blocks, _BLOCK) or -1, with the ``start`` (blocks, 9, _BLOCK) of
    the numbers each column reads and the rows ``own`` (blocks, 1, 3, 81, _BLOCK) in single precision; with 2
    for 1 also what rounding left out, where a double-precision product is wanted. And plain nodes in ``run``s
    (t, 2) of first node and count, the ``first`` (t, 9) number of each column, and ``scale`` (t,) of the
    ``shared`` (3, 81) row."""

    start: Ints
    node: Ints
    own: Array
    run: Ints
    first: Ints
    scale: Array
    shared: Array

    @cached_property
    def _plain(self) -> dict[type, tuple[Array, Array]]:
        return {t: (self.scale.astype(t), _pattern(self.shared).astype(t)) for t in (np.float32, np.float64)}

    def _parts(self, u: Array) -> tuple[Ints, Ints, Array, Ints, Ints, Array, Array]:
        return (self.start, self.node, self.own, self.run, self.first, *self._plain[u.dtype.type])

    def apply(self, u: Array) -> Array:
        """K u for vectors ``u`` (m, 3n), in their precision."""
        out = np.empty_like(u)
        _apply(u, *self._parts(u), u.dtype == np.float64, u, False, out)
        return out

    def rest(self, u: Array, r: Array) -> Array:
        """r - K u for vectors (m, 3n), in single precision."""
        out = np.empty_like(u)
        _apply(u, *self._parts(u), False, r, True, out)
        return out

    def relax(self, u: Array, out: Array, inverse: Array, r: Array, d: Array, pull: float, push: float, still: bool):  # type: ignore[no-untyped-def]
        """One smoothing step from ``u`` to ``out``; ``d`` is the running direction, changed in place."""
        _relax(u, *self._parts(u), inverse, r, d, np.float32(pull), np.float32(push), still, out)

    def diagonal(self, count: int) -> Array:
        """Blocks on the diagonal of ``count`` nodes, (n, 3, 3)."""
        out = np.empty((count, 3, 3))
        for k in range(_RUN):
            long = self.run[:, 1] > k
            out[self.run[long, 0] + k] = self.scale[long, None, None] * self.shared[:, 39:42]
        block, lane = np.nonzero(self.node >= 0)
        mine = self.node[block, lane]
        at = 36 + 3 * mine - self.start[block, 4, lane]
        for d in range(3):
            out[mine, :, d] = self.own[block, 0, :, at + d, lane]
        return out


def _pattern(shared: Array) -> Array:
    """(9, 11, 3 _RUN): coefficient of each column's number m - 2 on, for each output of a run."""
    out = np.zeros((9, 11, 3 * _RUN))
    for m in range(11):
        for i in range(3):
            if 0 <= m - 2 + i < 9:
                out[:, m, i::3] = shared[i].reshape(9, 9)[:, m - 2 + i, None]
    return out


@numba.njit(cache=True, nogil=True)
def _runs(row, scale, most, out):  # type: ignore[no-untyped-def]
    """Plain nodes that follow each other, of one scale: first and count; how many runs."""
    t, n = 0, 0
    while n < len(row):
        if row[n] >= 0:
            n += 1
            continue
        end = n + 1
        while end < len(row) and end - n < most and row[end] < 0 and scale[end] == scale[n]:
            end += 1
        out[t, 0], out[t, 1] = n, end - n
        t += 1
        n = end
    return t


class Gatherer:
    """Collects cell matrices into a :class:`Stencil`, a batch at a time; ``exact`` keeps double precision.

    ``nodes`` (c, 8), ``count`` of them; ``even`` (c,) marks the cells that are ``scale`` times ``whole``.
    """

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
        blocks = -(-int((~plain).sum()) // _BLOCK)
        self.own = np.zeros((blocks, 3, 81, _BLOCK), np.float64 if exact else np.float32)
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
        at = np.ascontiguousarray(nodes[mine]), matrices, np.ascontiguousarray(scale[mine]), one
        _add(*at, self.row, _COLUMN, self.base, self.own)

    def done(self) -> Stencil:
        blocks = len(self.own)
        own = self.own.view(np.float32).reshape(blocks, 2 if self.exact else 1, 3, 81, _BLOCK)
        if self.exact:
            _halve(self.own, own)
        mine = np.flatnonzero(self.row >= 0)
        node = np.full(blocks * _BLOCK, -1, np.int32)
        node[: len(mine)] = mine
        start = np.zeros((blocks * _BLOCK, 9), np.int32)
        start[: len(mine)] = 3 * self.base[mine]
        run = np.empty((int((self.row < 0).sum()), 2), np.int32)
        run = run[: _runs(self.row, self.scale, _RUN, run)].copy()
        return Stencil(
            np.ascontiguousarray(start.reshape(blocks, _BLOCK, 9).transpose(0, 2, 1)),
            node.reshape(blocks, _BLOCK),
            own,
            run,
            3 * self.base[run[:, 0]],
            self.scale[run[:, 0]],
            self.shared,
        )
