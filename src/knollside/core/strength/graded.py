"""A grid that gets finer towards some places: whole cells cut in eight, and in eight again, where it matters.

Level 0 is the part's own grid; each level beyond halves its cells within a distance of the ``sources`` that shrinks
level by level, so that cells of one size only ever meet cells of half or twice it. A corner that lies on the side of a
larger cell hangs: it moves as that side does.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from knollside.core.model import Array, Ints, Mesh, Refused
from knollside.core.strength.grid import CORNERS, LEAST_FILL, Grid, splinters
from knollside.core.strength.lookup import Lookup, lookup_of
from knollside.core.strength.moments import box_moments

# How fast cells may grow away from a source, a share of the distance. Every cell that is cut then has all its
# neighbours at its own level: 1 / GROWTH must be over 1.5 sqrt(3), the way to a neighbour and half its parent.
GROWTH = 0.38
_BLOCK = 8
_CRUMB = 8.0  # cells' worth of solid that may float free on a finer level and is dropped


@dataclass(frozen=True)
class Sizing:
    """Where cells shall be small: within ``radius`` mm of the ``sources`` (s, 3) no larger than ``aim`` mm."""

    sources: Array
    aim: float
    radius: float

    def reach(self, size: float) -> float:
        """How far from a source cells of ``size`` mm are cut further; nothing where they are small enough."""
        return self.radius + (size - self.aim) / GROWTH if size > self.aim * (1 + 1e-9) else 0.0

    def size_at(self, away: Array) -> Array:
        """The size wanted at so many mm from a source."""
        return np.asarray(self.aim + GROWTH * np.maximum(away - self.radius, 0.0))


@dataclass(frozen=True)
class Level:
    """Cells of one ``size`` (3,): their lattice ``places`` (c, 3), corner numbers ``nodes`` (c, 8) into ``lattice``
    (n, 3), ``fill`` (c,), numbers of the ``cut`` ones with their ``moments``; which are ``refined`` by the next level.

    Every corner but level 0's lies among ``masters`` (n, 8) of the level before by ``share`` (n, 8); ``hanging`` (n,)
    tells which must, and ``own`` (n,) which are unknowns of the whole grid at this level. ``up`` (c,) is each cell's
    parent and ``child`` which eighth of it.
    """

    size: Array
    places: Ints
    nodes: Ints
    lattice: Ints
    fill: Array
    cut: Ints
    moments: Array
    lookup: Lookup
    refined: np.ndarray
    own: np.ndarray
    hanging: np.ndarray
    up: Ints
    child: Ints
    masters: Ints
    share: Array

    @property
    def cells(self) -> Ints:
        return self.places

    @property
    def largest(self) -> float:
        return float(self.size.max())


@dataclass(frozen=True)
class Graded:
    """The levels from coarse to fine, seen as one list of whole and cut leaf cells.

    ``nodes`` (c, 8) of the leaves and ``points`` (n, 3) count every level's corners one after the other; ``leaf``
    (c, 2) are each leaf's level and number there.
    """

    origin: Array
    levels: tuple[Level, ...]
    sizing: Sizing
    nodes: Ints
    points: Array
    leaf: Ints

    @property
    def size(self) -> Array:
        """Of the largest cells, mm (3,)."""
        return self.levels[0].size

    @cached_property
    def offsets(self) -> Ints:
        """Number of the first corner of each level, and of all."""
        return np.asarray(np.r_[0, np.cumsum([len(v.lattice) for v in self.levels])])

    @cached_property
    def numbers(self) -> tuple[Ints, ...]:
        """Of each level, each cell's number among the leaves; -1 for refined ones."""
        out = []
        for k, level in enumerate(self.levels):
            n = np.full(len(level.places), -1, np.int64)
            mine = self.leaf[:, 0] == k
            n[self.leaf[mine, 1]] = np.flatnonzero(mine)
            out.append(n)
        return tuple(out)

    @property
    def volumes(self) -> Array:
        """What each leaf holds, mm3 (c,)."""
        return np.concatenate([v.fill[~v.refined] * v.size.prod() for v in self.levels])

    @property
    def centres(self) -> Array:
        """Middle of each leaf, mm (c, 3)."""
        return np.vstack([self.origin + (v.places[~v.refined] + 0.5) * v.size for v in self.levels])


def graded(mesh: Mesh, base: Grid, sizing: Sizing, most: int = 400_000) -> Graded:
    """Cut the ``base`` grid finer as ``sizing`` asks; refuses beyond ``most`` leaves."""
    levels = [_base_level(base)]
    near = cKDTree(sizing.sources)
    leaves = 0
    while sizing.reach(levels[-1].largest) > 0 and len(levels) < 9:
        last = levels[-1]
        centre = base.origin + (last.places + 0.5) * last.size
        reach = sizing.reach(last.largest)
        refined = np.asarray(near.query(centre, distance_upper_bound=reach)[0] < reach)
        if not refined.any():
            break
        leaves += int((~refined).sum())
        if leaves + 8 * int(refined.sum()) > most:
            raise Refused(f"Cells of {last.largest / 2:.2g} mm at all these places would be over {most:,}.")
        finer = _children(mesh, base.origin, last, refined)
        last, finer = _joined(last, finer, refined)
        levels[-1] = last
        levels.append(finer)
    leaf, nodes, points, start = [], [], [], 0
    for k, level in enumerate(levels):
        mine = np.flatnonzero(~level.refined)
        leaf.append(np.stack([np.full(len(mine), k), mine], axis=1))
        nodes.append(level.nodes[mine] + start)
        points.append(base.origin + level.lattice * level.size)
        start += len(level.lattice)
    return Graded(base.origin, tuple(levels), sizing, np.vstack(nodes), np.vstack(points), np.vstack(leaf))


def _base_level(base: Grid) -> Level:
    lattice = np.round((base.points - base.origin) / base.size).astype(np.int64)
    nothing = np.zeros(len(base.cells), np.int64)
    return Level(
        base.size,
        base.cells,
        base.nodes,
        lattice,
        base.filled,
        base.cut,
        base.moments,
        lookup_of(base.cells),
        np.zeros(len(base.cells), np.bool_),
        np.ones(len(lattice), np.bool_),
        np.zeros(len(lattice), np.bool_),
        nothing,
        nothing,
        np.zeros((0, 8), np.int64),
        np.zeros((0, 8)),
    )


def _children(mesh: Mesh, origin: Array, coarse: Level, refined: np.ndarray) -> Level:
    """The next level's cells: the children of the refined ones that hold material."""
    size = coarse.size / 2
    every = (2 * coarse.places[refined][:, None, :] + CORNERS).reshape(-1, 3)
    up = np.repeat(np.flatnonzero(refined), 8)
    child = np.tile(np.arange(8), int(refined.sum()))
    fill, moments = _measured(mesh, origin, size, every)
    keep = (fill > LEAST_FILL) & ~splinters(moments)
    keep[keep] = _no_crumbs(every[keep], fill[keep], coarse, refined)
    # Along z first: the operator reads columns of corners that lie side by side.
    order = np.flatnonzero(keep)
    order = order[np.lexsort(every[order].T[::-1])]
    places, fill, up, child = every[order], fill[order], up[order], child[order]
    cut = np.flatnonzero(fill < 1)
    lattice, nodes = _corners(places)
    nothing = np.zeros(len(lattice), np.bool_)
    return Level(
        size,
        places,
        nodes,
        lattice,
        fill,
        cut,
        moments[order[cut]].astype(np.float64),
        lookup_of(places),
        np.zeros(len(places), np.bool_),
        ~nothing,
        nothing,
        up,
        child,
        np.zeros((0, 8), np.int64),
        np.zeros((0, 8)),
    )


def _corners(places: Ints) -> tuple[Ints, Ints]:
    """Corner places (n, 3), in the order of their numbers, and the eight of each cell (c, 8)."""
    low = places.min(axis=0)
    span = places.max(axis=0) - low + 2
    corner = places[:, None, :] - low + CORNERS
    flat = (corner[..., 0] * span[1] + corner[..., 1]) * span[2] + corner[..., 2]
    used, nodes = np.unique(flat, return_inverse=True)
    return np.stack(np.unravel_index(used, tuple(span)), axis=1) + low, nodes.reshape(-1, 8)


def _measured(mesh: Mesh, origin: Array, size: Array, places: Ints) -> tuple[Array, Array]:
    """Fill (m,) and moments (m, 27) of cells anywhere, worked out by columns of blocks."""
    tri = (mesh.triangles - origin) / size
    low, high = tri.min(axis=1), tri.max(axis=1)
    block = places // _BLOCK
    fill, moments = np.empty(len(places)), np.empty((len(places), 27), np.float32)
    columns, which = np.unique(block[:, :2], axis=0, return_inverse=True)
    order = np.argsort(which.ravel(), kind="stable")
    begin = np.r_[0, np.cumsum(np.bincount(which.ravel(), minlength=len(columns)))]
    some, row = np.zeros(0, np.int64), -1
    for c, (bx, by) in enumerate(columns):
        if bx != row:
            some, row = np.flatnonzero((low[:, 0] < _BLOCK * (bx + 1)) & (high[:, 0] > _BLOCK * bx)), bx
        mine = order[begin[c] : begin[c + 1]]
        there = some[(low[some, 1] < _BLOCK * (by + 1)) & (high[some, 1] > _BLOCK * by)]
        for heap in _stacks(block[mine, 2]):
            cells = mine[heap]
            first = np.array([bx, by, block[cells, 2].min()]) * _BLOCK
            tall = int((block[cells, 2].max() + 1) * _BLOCK - first[2])
            under = there[low[there, 2] < first[2] + tall]
            share, each = box_moments(tri[under], first, (_BLOCK, _BLOCK, tall))
            at = tuple((places[cells] - first).T)
            fill[cells], moments[cells] = share[at], each[at]
    return fill, moments


def _stacks(height: Ints) -> list[Ints]:
    """Numbers of the cells of each run of blocks without a gap between them."""
    order = np.argsort(height, kind="stable")
    breaks = np.flatnonzero(np.diff(height[order]) > 1) + 1
    return list(np.split(order, breaks))


def _no_crumbs(places: Ints, fill: Array, coarse: Level, refined: np.ndarray) -> np.ndarray:
    """Which finer cells hang together with something: small pieces that touch nothing else by a face are not kept."""
    look = lookup_of(places)
    pairs, anchored = [], np.zeros(len(places), np.bool_)
    for axis in range(3):
        for way in (-1, 1):
            step = np.zeros(3, np.int64)
            step[axis] = way
            other = look.find(places + step)
            if way > 0:
                here = np.flatnonzero(other >= 0)
                pairs.append(np.stack([here, other[here]], axis=1))
            over = coarse.lookup.find((places + step) // 2)
            anchored |= (over >= 0) & ~refined[np.maximum(over, 0)]
    pair = np.vstack(pairs)
    graph = coo_matrix((np.ones(len(pair)), (pair[:, 0], pair[:, 1])), shape=(len(places),) * 2)
    count, label = connected_components(graph, directed=False)
    amount = np.bincount(label, fill, minlength=count)
    held = np.bincount(label, anchored, minlength=count) > 0
    return np.asarray((held | (amount > _CRUMB))[label])


def _joined(coarse: Level, fine: Level, refined: np.ndarray) -> tuple[Level, Level]:
    """Both levels, knowing of each other: who hangs from whom, and which corner belongs where."""
    masters, share = _masters(coarse, fine)
    touched = np.zeros(len(coarse.lattice), np.bool_)
    touched[coarse.nodes[~refined]] = True
    # A fine corner on a side, edge or corner of a larger leaf: it lies in one of the up to eight cells around it.
    hanging = np.zeros(len(fine.lattice), np.bool_)
    for off in CORNERS:
        over = coarse.lookup.find((fine.lattice - off) // 2)
        hanging |= (over >= 0) & ~refined[np.maximum(over, 0)]
    return (
        replace(coarse, refined=refined, own=touched & ~coarse.hanging),
        replace(fine, masters=masters, share=share, hanging=hanging, own=~hanging),
    )


def _masters(coarse: Level, fine: Level) -> tuple[Ints, Array]:
    """Each fine corner's eight coarse corners and trilinear weights, by any cell it belongs to."""
    cell = np.zeros(len(fine.lattice), np.int64)
    corner = np.zeros(len(fine.lattice), np.int64)
    for a in range(8):
        cell[fine.nodes[:, a]] = np.arange(len(fine.nodes))
        corner[fine.nodes[:, a]] = a
    x = (CORNERS[fine.child[cell]] + CORNERS[corner]) / 2
    weight = np.prod(np.where(CORNERS[None] == 1, x[:, None], 1 - x[:, None]), axis=2)
    return coarse.nodes[fine.up[cell]], weight


def same_corner(fine: Level, lattice: Ints) -> Ints:
    """Number of the fine corner at each coarse corner's place (n, 3), or -1."""
    out = np.full(len(lattice), -1, np.int64)
    for a, off in enumerate(CORNERS):
        cell = fine.lookup.find(2 * lattice - off)
        seen = cell >= 0
        out[seen] = fine.nodes[cell[seen], a]
    return out
