"""How far the quick answer can be trusted: a second grid, and the short list solved again in layers."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.material.allowables import Allowables
from knollside.core.model import Array, DesignCase, Feature, Mesh, Range, Recipe, Refused, same_direction
from knollside.core.strength.field import Medium, StressField, Tick, solve
from knollside.core.strength.hollow import hollow_of
from knollside.core.strength.hot_spots import HotSpot, hot_spots
from knollside.core.strength.mesh_size import WallDepth, wall_at
from knollside.core.strength.rating import rate, rate_points
from knollside.core.strength.set_out import CellSize
from knollside.core.strength.skin import skin_of
from knollside.core.strength.zoom import Closeness

# Stiffness across the layers over along them, of printed solids; typical (0.7 to 0.95).
ACROSS = 0.85
MOVED = 0.10  # beyond this the grid is refined once more
UNCHECKED = 0.25  # taken for the change where no other grid can be solved
# What a close look is unsure of at least, as measured against quadratic tetrahedra (docs/methods.md).
CLOSE = 0.04
MOST_CELLS = 250_000
_READ = 1.0  # cells around a place within which another grid has its point for it
_FEWEST = 1500  # cells of a grid worth comparing with

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Layered:
    """One way solved again with layered stiffness and its own shell and core."""

    direction: Vec
    quick: float
    reserve: Range
    mode: str
    place: Vec
    movement: float

    @property
    def off(self) -> float:
        """How far the quick rating was from this one, as a share."""
        return self.quick / self.reserve.value - 1


@dataclass(frozen=True)
class GridDoubt:
    """What another grid says of the listed ways: each one's change of reserve (a share) against ``other_cells``, the
    wall where it goes first, and what they must be rated on: cells ``cell_mm`` wide where that was over a tenth, or a
    grid that looks ``close`` where something could govern that the plain one cannot see. ``assumed`` where no other
    grid could be solved: the change is then taken as ``UNCHECKED``."""

    directions: tuple[Vec, ...]
    changes: tuple[float, ...]
    walls: tuple[WallDepth, ...]
    other_cells: int
    cell_mm: float | None = None
    assumed: str = ""
    close: Closeness | None = None

    @property
    def change(self) -> float:
        """The greatest change of a listed way."""
        return max(self.changes, default=0.0)

    def share(self, direction: Vec) -> float:
        """The grid's doubt of one way, a share: its own, or the greatest for a way that is not on the list."""
        # The other grid's change and a thin wall's stiffness are two doubts; the larger speaks.
        least = CLOSE if self.close is not None else 0.0
        each = [max(math.hypot(c, least), w.too_stiff) for c, w in zip(self.changes, self.walls, strict=True)]
        same = [d for w, d in zip(self.directions, each, strict=True) if same_direction(w, direction)]
        return same[0] if same else max(each, default=0.0)

    @property
    def thinnest(self) -> WallDepth | None:
        """The wall that the fewest cells cross, of those where a listed way would go."""
        return min(self.walls, key=lambda w: w.cells, default=None)


def coarser_cell(field: StressField) -> float | None:
    """The cell size, mm, of a third of the cells; None where those are too few to say anything."""
    return field.asked * 3.0 ** (1 / 3) if field.cells >= 3 * _FEWEST else None


def finer_cell(field: StressField) -> float | None:
    """The cell size, mm, of two and a half times as many cells; None where that is more than is worth waiting for."""
    if field.cells * 2 > MOST_CELLS:
        return None
    return float(field.asked * (field.cells / min(field.cells * 2.5, MOST_CELLS)) ** (1 / 3))


def grid_doubt(
    mesh: Mesh,
    field: StressField,
    limits: tuple[Allowables, ...],
    directions: tuple[Vec, ...],
    changes: tuple[float, ...],
    other_cells: int,
    cell_mm: float | None = None,
    assumed: str = "",
    close: Closeness | None = None,
) -> GridDoubt:
    """The doubt of some ways with the wall where each goes first on ``field``."""
    at = field.points[rate(field, limits, np.array(directions)).point]
    walls = tuple(wall_at(mesh, field, (float(x), float(y), float(z))) for x, y, z in at)
    return GridDoubt(directions, changes, walls, other_cells, cell_mm, assumed, close)


def changes_of(
    a: StressField, b: StressField, limits: tuple[Allowables, ...], orientations: Array
) -> tuple[float, ...]:
    """Change of each way's reserve from field ``a`` to the finer ``b``, a share; ``ways`` (w, 3)."""
    # Judged where neither grid calls it a support's edge: the coarser one's margin serves both.
    margin = b.excluded.copy()
    if a.excluded.any() and b.sizing is None:
        margin |= cKDTree(a.points[a.excluded]).query(b.points)[0] < 0.6 * a.cell
    keep = ~margin if not margin.all() else ~b.excluded
    first, second = rate(a, limits, orientations).reserve, rate(b, limits, orientations, points=keep).reserve
    return tuple(float(c) for c in np.abs(second / first - 1))


def doubted_places(
    places: tuple[HotSpot, ...], other: StressField, limits: tuple[Allowables, ...], direction: Array
) -> tuple[HotSpot, ...]:
    """The places a close look found, each with what a coarser close look, ``other``, says of it: the change of its
    reserve, at the weakest point within that one's own reading there, and ``CLOSE`` at least."""
    found = rate_points(other, limits, direction).reserve
    near = cKDTree(other.points)
    out = []
    for p in places:
        if not p.by_hand and not p.at_support:
            reach = max(_READ * other.cell_at(np.array(p.at)), near.query(p.at)[0] * 1.001)
            around = near.query_ball_point(p.at, reach)
            p = replace(p, doubt=math.hypot(float(found[around].min()) / p.reserve - 1, CLOSE))
        out.append(p)
    return tuple(out)


def widened(reserve: Range, change: float) -> Range:
    """A range with the grid's own doubt taken in, as an independent share (quadrature of logarithms).

    >>> told = widened(Range(2.0, 1.6, 2.5), 0.25)
    >>> round(told.low, 2), told.value, round(told.high, 2)
    (1.46, 2.0, 2.74)
    """
    if not reserve.low > 0:
        return reserve
    more = math.log1p(change)
    low = math.exp(-math.hypot(math.log(reserve.value / reserve.low), more))
    high = math.exp(math.hypot(math.log(reserve.high / reserve.value), more))
    return Range(reserve.value, reserve.value * low, reserve.value * high, reserve.source)


def solve_layered(
    mesh: Mesh,
    features: tuple[Feature, ...],
    design_case: DesignCase,
    field: StressField,
    limits: tuple[Allowables, ...],
    recipe: Recipe,
    direction: Vec,
    tick: Tick,
    density: float = 0.0,
) -> tuple[Layered, StressField]:
    """One way with Ez/E = 0.85 and the shell that way makes; ``density`` g/cm3."""
    n = np.asarray(direction, float)
    skin = skin_of(recipe, direction)
    hollow = hollow_of(recipe, limits[0].table.value)
    medium = Medium(field.modulus, skin=skin, layers=(ACROSS, n), hollow=hollow, density=density)
    # On the same cells, as close as the way was looked at before.
    again = solve(mesh, features, design_case, medium, CellSize(field.asked), tick, sizing=field.sizing)
    quick = float(rate(field, limits, n[None]).reserve[0])
    rated = rate(again, limits, n[None])
    worst = next((p for p in hot_spots(again, limits, n, 3) if not p.at_support), None)
    if worst is None:
        raise Refused("There is no place away from the supports to judge.")
    return Layered(direction, quick, rated.range_of(0), worst.mode, worst.at, again.greatest_movement), again
