"""A node's 27 neighbours and the 3 x 3 blocks between them: the operator the solver applies.

Nodes amid whole, even cells share one constant stencil and store nothing; only nodes at cut,
held or blended cells keep their own. Nodes are numbered along z first, so that the three
neighbours of a column lie side by side: nine reads of nine numbers fetch all 81.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Array, Ints
from knollside.core.strength.grid import CORNERS

# Column of corner b as seen from corner a: (dx + 1) 3 + (dy + 1).
_COLUMN = ((CORNERS[None, :, :2] - CORNERS[:, None, :2] + 1) @ np.array([3, 1])).astype(np.int64)
_CHUNK = 512


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


@numba.njit(cache=True, nogil=True, parallel=True, fastmath=True)
def _apply(u, base, row, scale, shared, own, out):  # type: ignore[no-untyped-def]
    count = base.shape[0]
    for chunk in numba.prange((count + _CHUNK - 1) // _CHUNK):
        near = np.empty(81, u.dtype)
        for n in range(chunk * _CHUNK, min((chunk + 1) * _CHUNK, count)):
            for q in range(9):
                start = 3 * base[n, q]
                for k in range(9):
                    near[9 * q + k] = u[start + k]
            r = row[n]
            s0 = s1 = s2 = u[0] * 0
            if r >= 0:
                for k in range(81):
                    v = near[k]
                    s0 += own[r, 0, k] * v
                    s1 += own[r, 1, k] * v
                    s2 += own[r, 2, k] * v
            else:
                for k in range(81):
                    v = near[k]
                    s0 += shared[0, k] * v
                    s1 += shared[1, k] * v
                    s2 += shared[2, k] * v
                f = scale[n]
                s0, s1, s2 = f * s0, f * s1, f * s2
            out[3 * n], out[3 * n + 1], out[3 * n + 2] = s0, s1, s2


@dataclass(frozen=True)
class Stencil:
    """``base`` (n, 9) first neighbour of each column; ``row`` (n,) of ``own`` (r, 3, 81), or -1 where
    ``shared`` (3, 81) times ``scale`` (n,) serves."""

    base: Ints
    row: Ints
    scale: Array
    shared: Array
    own: Array

    def apply(self, u: Array) -> Array:
        out = np.empty_like(u)
        _apply(u, self.base, self.row, self.scale, self.shared, self.own, out)
        return out

    def single(self) -> Stencil:
        """The same in single precision, for the preconditioner."""
        f = np.float32
        return Stencil(self.base, self.row, self.scale.astype(f), self.shared.astype(f), self.own.astype(f))

    def diagonal(self) -> Array:
        """Blocks on the diagonal, (n, 3, 3)."""
        out = self.shared[:, 39:42] * self.scale[:, None, None]
        mine = np.flatnonzero(self.row >= 0)
        at = 36 + 3 * (mine - self.base[mine, 4])
        for d in range(3):
            out[mine, :, d] = self.own[self.row[mine], :, at + d]
        return out


class Gatherer:
    """Collects cell matrices into a :class:`Stencil`, a batch at a time."""

    def __init__(self, nodes: Ints, count: int, whole: Array | None, even: np.ndarray, scale: Array) -> None:
        self.nodes = nodes
        self.base = np.zeros((count, 9), np.int32)
        _bases(nodes, _COLUMN, self.base)
        plain = np.ones(count, np.bool_)
        self.scale = np.ones(count)
        if whole is None:
            plain[:] = False
        else:
            _plain(nodes, even, scale, np.zeros(count, np.int8), self.scale, plain)
        self.row = np.where(plain, -1, np.cumsum(~plain) - 1).astype(np.int32)
        self.own = np.zeros((int((~plain).sum()), 3, 81))
        self.shared = np.zeros((3, 81))
        if whole is not None:
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
        return Stencil(self.base, self.row, self.scale, self.shared, self.own)
