"""How far the quick answer can be trusted: a second grid, and the short list solved again in layers."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from knollside.core.material.allowables import Allowables
from knollside.core.model import Array, Duty, Feature, Mesh, Range, Recipe, Refused
from knollside.core.strength.field import StressField, Tick, solve
from knollside.core.strength.fineness import Wall
from knollside.core.strength.places import weak_places
from knollside.core.strength.rating import rate
from knollside.core.strength.skin import skin_of

# Stiffness across the layers over along them, of printed solids; typical (0.7 to 0.95).
ACROSS = 0.85
MOVED = 0.10  # beyond this the grid is refined once more
MOST_CELLS = 250_000

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
class Trust:
    """What backs a reserve: cells and cell size, balance error, each listed way's change of reserve against
    another grid (a share), the ways solved again in layers, and the wall where each listed way goes first."""

    cells: int
    cell: float
    balance_error: float
    coarse_cells: int
    changes: tuple[float, ...]
    layered: tuple[Layered, ...]
    finer: StressField | None = None
    walls: tuple[Wall, ...] = ()

    @property
    def change(self) -> float:
        """The greatest change of a listed way."""
        return max(self.changes, default=0.0)

    @property
    def thinnest(self) -> Wall | None:
        """The wall that the fewest cells cross, of those where a listed way would go."""
        return min(self.walls, key=lambda w: w.cells, default=None)

    def layered_for(self, direction: Vec) -> Layered | None:
        return next((w for w in self.layered if float(np.dot(w.direction, direction)) > 0.99999), None)


def refine(
    mesh: Mesh,
    features: tuple[Feature, ...],
    duty: Duty,
    field: StressField,
    limits: tuple[Allowables, ...],
    recipe: Recipe,
    ways: Array,
    tick: Tick,
) -> tuple[tuple[float, ...], int, StressField | None]:
    """Change of each way's reserve against a coarser grid, that grid's cells, and a finer field when a change
    was over a tenth and memory allows (the changes are then those of the finer against the first)."""
    skin = skin_of(recipe)
    coarse = solve(mesh, features, duty, field.modulus, max(field.cells // 3, 1500), skin, tick=tick)
    change = _moved(coarse, field, limits, ways)
    if max(change) <= MOVED or field.cells * 2 > MOST_CELLS:
        return change, coarse.cells, None
    finer = solve(mesh, features, duty, field.modulus, min(int(field.cells * 2.5), MOST_CELLS), skin, tick=tick)
    return _moved(field, finer, limits, ways), field.cells, finer


def _moved(a: StressField, b: StressField, limits: tuple[Allowables, ...], ways: Array) -> tuple[float, ...]:
    # Judged where neither grid calls it a support's edge: the coarser one's margin serves both.
    from scipy.spatial import cKDTree

    margin = b.apart.copy()
    if a.apart.any():
        margin |= cKDTree(a.points[a.apart]).query(b.points)[0] < 0.6 * a.cell
    keep = ~margin if not margin.all() else ~b.apart
    first, second = rate(a, limits, ways).reserve, rate(b, limits, ways, points=keep).reserve
    return tuple(float(c) for c in np.abs(second / first - 1))


def widened(reserve: Range, change: float) -> Range:
    """A range with the grid's own doubt taken in, as an independent share (quadrature of logarithms)."""
    more = math.log1p(change)
    low = math.exp(-math.hypot(math.log(reserve.value / reserve.low), more))
    high = math.exp(math.hypot(math.log(reserve.high / reserve.value), more))
    return Range(reserve.value, reserve.value * low, reserve.value * high, reserve.source)


def solve_layered(
    mesh: Mesh,
    features: tuple[Feature, ...],
    duty: Duty,
    field: StressField,
    limits: tuple[Allowables, ...],
    recipe: Recipe,
    direction: Vec,
    tick: Tick,
) -> tuple[Layered, StressField]:
    """One way with Ez/E = 0.85 and the shell that way makes."""
    n = np.asarray(direction, float)
    skin = skin_of(recipe, direction)
    again = solve(mesh, features, duty, field.modulus, field.cells, skin, (ACROSS, n), tick)
    quick = float(rate(field, limits, n[None]).reserve[0])
    rated = rate(again, limits, n[None])
    worst = next((p for p in weak_places(again, limits, n, 3) if not p.at_support), None)
    if worst is None:
        raise Refused("There is no place away from the supports to judge.")
    return Layered(direction, quick, rated.range_of(0), worst.mode, worst.at, again.greatest_movement), again
