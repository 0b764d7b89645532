"""The operator of a graded grid, and its multigrid.

Composite grids solved by a cycle over their levels with smoothing on each level's own patch (McCormick 1989;
Janssen and Kanschat 2011): the base grid's own cycle stands at the bottom. A hanging corner moves as the side it
lies on does.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Array, Ints
from knollside.core.strength.element import Brick
from knollside.core.strength.graded import Graded, Level, same_corner
from knollside.core.strength.multigrid import (
    WEIGHT,
    Operator,
    Smoothed,
    children_of,
    conjugate_gradients,
    fold_in,
    fold_whole,
    gather,
    largest,
    smooth,
    smoothed,
    spread,
)
from knollside.core.strength.stencil import Gatherer, Stencil

_BATCH = 3000


class _Patch:
    """One level: ``full`` is the operator of all its cells, ``covered`` that of those which a finer level replaces."""

    def __init__(self, level: Level, brick: Brick, scale: Array, springs: dict[int, Array], base: bool) -> None:
        self.level = level
        self.base: Operator | None = None
        count = len(level.lattice)
        if base:
            self.base = Operator(brick, scale, level.places, level.nodes, level.cut, level.moments, springs)
            self.full = self.base.fine
        else:
            self.full = _gathered(level, brick, scale, springs, np.ones(len(level.places), np.bool_))
            self.smoothed = self._patch(count)
        self.covered: Stencil | None = None
        if level.refined.any():
            self.covered = _gathered(level, brick, scale, springs, level.refined)
            self.covers = np.unique(level.nodes[level.refined])

    def _patch(self, count: int) -> Smoothed:
        made = smoothed(self.full, count)
        made.inverse[self.level.hanging] = 0  # they belong to the level before
        made.bound = largest(made)
        return made

    def hand_down(self, coarse: int) -> None:
        """Tell the way to and from the ``coarse`` corners of the level before."""
        who, weight = self.level.masters.astype(np.int32), self.level.share.astype(np.float32)
        self.smoothed.parents = who, weight
        self.smoothed.children = children_of(who, weight, coarse)

    def apply(self, u: Array) -> Array:
        """What the leaves of this level make of ``u`` (m, 3n)."""
        out = self.full.apply(u)
        if self.covered is not None:
            dof = (3 * self.covers[:, None] + np.arange(3)).ravel()
            out[:, dof] -= self.covered.apply(np.ascontiguousarray(u[:, dof]))
        return out


def _gathered(level: Level, brick: Brick, scale: Array, springs: dict[int, Array], some: np.ndarray) -> Stencil:
    """The operator of ``some`` cells of a level, on the corners they touch."""
    mine = np.flatnonzero(some)
    used, nodes = np.unique(level.nodes[mine], return_inverse=True)
    nodes = nodes.reshape(-1, 8)
    place = np.full(len(level.places), -1, np.int64)
    place[mine] = np.arange(len(mine))
    at = place[level.cut]
    cut, moments = at[at >= 0], level.moments[at >= 0]
    held = np.array([c for c in springs if place[c] >= 0], np.int64)
    even = np.ones(len(mine), np.bool_)
    even[cut] = False
    whole = np.flatnonzero(even)
    even[place[held]] = False
    share = scale[mine]
    out = Gatherer(nodes, len(used), brick.stiffness, even, share)
    out.add(whole, brick.stiffness[None], share[whole])
    for a in range(0, len(cut), _BATCH):
        batch = cut[a : a + _BATCH]
        out.add(batch, brick.condense(moments[a : a + _BATCH]).stiffness, share[batch])
    if len(held):
        out.add(place[held], np.array([springs[int(c)] for c in held]), np.ones(len(held)))
    return out.done()


class Composite:
    """Stiffness of a graded grid's leaves and of springs at held places; vectors count every level's corners.

    ``scales`` one array (c,) a level, of all its cells; ``springs`` extra matrices by leaf number. Coarse
    cells over finer ones only guide the solve: they are these summed up, which a thin shell over next to nothing needs.
    """

    def __init__(self, grid: Graded, bricks: list[Brick], scales: list[Array], springs: dict[int, Array]) -> None:
        self.grid = grid
        each = _by_level(grid, springs)
        scales = _stand_in(grid, bricks, scales, each)
        self.patches = [
            _Patch(v, b, s, e, k == 0)
            for k, (v, b, s, e) in enumerate(zip(grid.levels, bricks, scales, each, strict=True))
        ]
        for k in range(1, len(self.patches)):
            self.patches[k].hand_down(len(grid.levels[k - 1].lattice))
        self._ends = 3 * grid.offsets
        self._idle = np.concatenate(
            [e + (3 * np.flatnonzero(~v.own)[:, None] + np.arange(3)).ravel() for e, v in zip(self._ends, grid.levels)]
        )
        self._hung = [_Hung.of(v) for v in grid.levels]

    def _parts(self, x: Array) -> list[Array]:
        """A vector as one of each level, the hanging corners moved along; shadows stay at nought."""
        out = self._split(x)
        for k in range(1, len(out)):
            self._hung[k].follow(out[k - 1], out[k])
        return out

    def _collected(self, parts: list[Array]) -> Array:
        """The transpose of :meth:`_parts`. Overwrites ``parts``."""
        for k in range(len(parts) - 1, 0, -1):
            self._hung[k].hand_on(parts[k], parts[k - 1])
        return self._owned(parts)

    def apply(self, x: Array) -> Array:
        """K x for vectors (m, 3n) of every level's corners, nought where a corner is no unknown."""
        parts = self._parts(x)
        return self._collected([p.apply(u) for p, u in zip(self.patches, parts, strict=True)])

    def cycle(self, r: Array) -> Array:
        """About K^-1 r, for such vectors in single precision: every level smoothed on the way down and up."""
        top = len(self.patches) - 1
        loads = self._split(r)
        found: list[Array] = [np.zeros(0)] * (top + 1)
        for k in range(top, 0, -1):
            s = self.patches[k].smoothed
            found[k] = smooth(s, np.zeros_like(loads[k]), loads[k], True)
            rest = s.stencil.rest(found[k], loads[k])
            coarse = np.empty_like(loads[k - 1])
            assert s.children is not None
            gather(*s.children, rest, coarse)
            loads[k - 1] += coarse
        assert self.patches[0].base is not None
        found[0] = self.patches[0].base.cycle(loads[0])
        for k in range(1, top + 1):
            s = self.patches[k].smoothed
            assert s.parents is not None
            spread(*s.parents, found[k - 1], found[k])
            found[k] = smooth(s, found[k], loads[k], False)
        return self._owned(found)

    def solve(
        self,
        f: Array,
        tolerance: float = 1e-7,
        limit: int = 600,
        tick: Callable[[float], None] | None = None,
        start: Array | None = None,
    ) -> tuple[Array, int]:
        """Displacements of every corner for forces ``f`` on them, (3n,) or (m, 3n), and the iterations taken."""
        b = self._collected(self._split(np.atleast_2d(f)))
        first = None if start is None else self._owned(self._split(np.atleast_2d(start)))
        x, rounds = conjugate_gradients(self.apply, self.cycle, b, tolerance, limit, tick, first)
        return self.spread(x).reshape(f.shape), rounds

    def _split(self, u: Array) -> list[Array]:
        """Copies of a vector of every level's corners (m, 3n), one of each level."""
        return [u[:, a:b].copy() for a, b in zip(self._ends, self._ends[1:])]

    def _owned(self, parts: list[Array]) -> Array:
        """Each level's corners as one vector (m, 3n), nought where one is no unknown."""
        out = np.concatenate(parts, axis=1)
        out[:, self._idle] = 0
        return out

    def spread(self, x: Array) -> Array:
        """A solution as displacements of every level's corners, those under finer cells as these move there."""
        parts = self._parts(x)
        for k in range(len(parts) - 1, 0, -1):
            fine, coarse = self.grid.levels[k], self.grid.levels[k - 1]
            shadow = np.flatnonzero(~coarse.own & ~coarse.hanging)
            at = same_corner(fine, coarse.lattice[shadow])
            seen = at >= 0
            here, there = 3 * shadow[seen, None] + np.arange(3), 3 * at[seen, None] + np.arange(3)
            parts[k - 1][:, here.ravel()] = parts[k][:, there.ravel()]
        return np.concatenate(parts, axis=1)


@dataclass(frozen=True)
class _Hung:
    """Corners of a level that move as the side of a larger cell does: their numbers (h,), the ``who`` (h, 8) of the
    level before they follow, and by what ``share`` (h, 8)."""

    corner: Ints
    who: Ints
    share: Array

    @classmethod
    def of(cls, level: Level) -> _Hung:
        mine = np.flatnonzero(level.hanging)
        if not len(mine):  # the first level has no one to follow
            return cls(mine, np.zeros((0, 8), np.int64), np.zeros((0, 8)))
        return cls(mine, level.masters[mine], level.share[mine])

    def follow(self, coarse: Array, u: Array) -> None:
        """Move them in ``u`` (m, 3n) as those of the level before move in ``coarse``."""
        _follow(self.corner, self.who, self.share, coarse, u)

    def hand_on(self, fine: Array, coarse: Array) -> None:
        """Add the forces on them to those whom they follow."""
        _hand_on(self.corner, self.who, self.share, fine, coarse)


@numba.njit(cache=True, nogil=True, parallel=True)
def _follow(corner, who, share, coarse, u):  # type: ignore[no-untyped-def]
    for h in numba.prange(len(corner)):
        for m in range(u.shape[0]):
            for d in range(3):
                s = 0.0
                for a in range(8):
                    s += share[h, a] * coarse[m, 3 * who[h, a] + d]
                u[m, 3 * corner[h] + d] = s


@numba.njit(cache=True, nogil=True)
def _hand_on(corner, who, share, fine, coarse):  # type: ignore[no-untyped-def]
    for h in range(len(corner)):
        for a in range(8):
            if share[h, a] != 0:
                for m in range(fine.shape[0]):
                    for d in range(3):
                        coarse[m, 3 * who[h, a] + d] += share[h, a] * fine[m, 3 * corner[h] + d]


def _stand_in(grid: Graded, bricks: list[Brick], scales: list[Array], each: list[dict[int, Array]]) -> list[Array]:
    """Put the sum of their children, springs and all, into ``each`` level's refined cells; returns the scales of what
    is left, nought there."""
    out = [np.where(v.refined, 0.0, s) for v, s in zip(grid.levels, scales, strict=True)]
    for k in range(len(grid.levels) - 1, 0, -1):
        level, brick, scale, springs = grid.levels[k], bricks[k], out[k], each[k]
        up, slot = np.unique(level.up, return_inverse=True)
        whole = np.ones(len(level.places), np.bool_)
        whole[level.cut] = False
        at = 8 * slot[whole] + level.child[whole]
        weight = np.bincount(at, scale[whole], minlength=8 * len(up)).reshape(-1, 8)
        sums = (weight @ fold_whole(brick.stiffness).reshape(8, 576)).reshape(-1, 24, 24)
        for a in range(0, len(level.cut), _BATCH):
            batch = level.cut[a : a + _BATCH]
            matrices = brick.condense(level.moments[a : a + _BATCH]).stiffness
            fold_in(sums, matrices, slot[batch], level.child[batch], scale[batch], WEIGHT)
        if springs:
            held = np.array(list(springs), np.int64)
            fold_in(sums, np.array(list(springs.values())), slot[held], level.child[held], np.ones(len(held)), WEIGHT)
        each[k - 1].update((int(cell), matrix) for cell, matrix in zip(up, sums, strict=True))
    return out


def _by_level(grid: Graded, springs: dict[int, Array]) -> list[dict[int, Array]]:
    """Springs of each level's own leaves, by the cell's number there."""
    out: list[dict[int, Array]] = [{} for _ in grid.levels]
    for leaf, matrix in springs.items():
        k, cell = (int(v) for v in grid.leaf[leaf])
        out[k][cell] = matrix
    return out
