"""Strength: one solve, the limits it is held against, every way rated, and what backs the numbers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from knollside.core.job import answer
from knollside.core.job.answer import CELLS, LayerLog, Solved, Strength, strength_of
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.part import Part
from knollside.core.lay.ways import NET_DIRECTIONS, WEIGHTS, Ground, Ranking, RatedWay, weighed
from knollside.core.material.allowables import limits_of
from knollside.core.material.cards import Material
from knollside.core.model import (
    Array,
    Danger,
    Duty,
    Fixture,
    LoadCase,
    Purpose,
    Range,
    Recipe,
    Refused,
    Surroundings,
)
from knollside.core.strength.discretisation import (
    MOVED,
    UNCHECKED,
    GridDoubt,
    Layered,
    changes_of,
    coarser_cell,
    finer_cell,
    grid_doubt,
    solve_layered,
    widened,
)
from knollside.core.strength.field import POISSON, refuse_unready
from knollside.core.strength.hot_spots import HotSpot, Portion, hot_spots, portions
from knollside.core.strength.rating import rate, sphere
from knollside.core.strength.superpose import mix, plan_of

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Shell:
    """All of a recipe that the stress rests on."""

    walls: int
    line_width: float
    tops: int
    bottoms: int
    layer_height: float
    infill: float
    pattern: str

    @classmethod
    def of(cls, r: Recipe) -> Shell:
        return cls(r.walls, r.line_width, r.tops, r.bottoms, r.layer_height, r.infill, r.pattern)

    def recipe(self) -> Recipe:
        """A recipe with this shell; heat and fan, which no stress rests on, as usual."""
        return Recipe.model_validate({name: getattr(self, name) for name in self.__dataclass_fields__})


@dataclass(frozen=True, eq=False)
class Solve(Question[Solved]):
    """One stress solve: the rows of loads on one set-up. ``direction`` gives tops and walls of that way, None a shell
    that is alike all round; ``exactly`` takes ``cells`` as they are
    asked, ``cell_mm`` a size of cell."""

    part: Part
    held: tuple[Fixture, ...]
    rows: tuple[LoadCase, ...]
    critical_mm: float
    material: str
    modulus: float
    poisson: float
    shell: Shell
    direction: Vec | None
    cells: int
    exactly: bool
    cell_mm: float | None
    probes: tuple[Vec, ...]
    kept: ClassVar[int] = 4

    def answer(self, ask: Answerer) -> Solved:
        duty = Duty(held=self.held, cases=self.rows, critical_mm=self.critical_mm)
        probes = np.array(self.probes) if self.probes else None
        return answer.solve_part(
            ask(self.part, 0.0, 0.05),
            duty,
            self.shell.recipe(),
            self.modulus,
            self.cells,
            self.direction,
            ask.tick,
            probes,
            self.exactly,
            self.poisson,
            self.cell_mm,
        )


@dataclass(frozen=True, eq=False)
class StrengthOf(Question[Strength]):
    """The stress of a duty's cases, as sums of one solve, with the strengths it is held against."""

    solve: Solve
    cases: tuple[LoadCase, ...]
    surroundings: Surroundings
    treads: tuple[tuple[str, float], ...]
    danger: Danger
    card: Material
    recipe: Recipe
    kept: ClassVar[int] = 4

    @property
    def duty(self) -> Duty:
        """What was asked, without marks and weights, on which no strength rests."""
        return Duty(
            held=self.solve.held,
            cases=self.cases,
            surroundings=self.surroundings,
            danger=self.danger,
            treads=dict(self.treads),
            critical_mm=self.solve.critical_mm,
        )

    def answer(self, ask: Answerer) -> Strength:
        # Asked first: a material or a duty that cannot be judged refuses before any solving.
        limits_of(self.duty, self.card)
        refuse_unready(ask(self.solve.part).mesh, self.duty)
        found = ask(self.solve, 0.0, 0.99)
        field = mix(found.field, plan_of(self.solve.held, self.cases))
        return replace(strength_of(field, self.duty, self.recipe, self.card), mesh_size=found.mesh_size)

    def printed(self, recipe: Recipe, direction: Vec | None) -> StrengthOf:
        """The same question of another recipe, with the shell that a way makes."""
        return replace(self, recipe=recipe, solve=replace(self.solve, shell=Shell.of(recipe), direction=direction))

    def on(self, cell_mm: float) -> StrengthOf:
        """The same question on a grid of another cell size."""
        return replace(self, solve=replace(self.solve, cell_mm=cell_mm))


def strength_question(
    part: Part,
    duty: Duty,
    recipe: Recipe,
    card: Material,
    cells: int = CELLS,
    direction: Vec | None = None,
    exactly: bool = False,
    probes: tuple[Vec, ...] = (),
) -> StrengthOf:
    """The one place where a duty, a recipe and a card become a question of strength."""
    rows = plan_of(duty.held, duty.cases).rows
    solve = Solve(
        part,
        duty.held,
        rows,
        duty.critical_mm,
        card.name,
        card.modulus.value,
        POISSON,
        Shell.of(recipe),
        direction,
        cells,
        exactly,
        None,
        probes,
    )
    treads = tuple(sorted(duty.treads.items()))
    return StrengthOf(solve, duty.cases, duty.surroundings, treads, duty.danger, card, recipe)


@dataclass(frozen=True)
class Laying:
    """The rated ways with the stress they were rated by."""

    strength: Strength
    ranking: Ranking


@dataclass(frozen=True, eq=False)
class GroundOf(Question[Ground]):
    """What the shape alone says of the ways to lie."""

    part: Part
    layer_height: float
    line_width: float
    bed: Vec
    directions: int
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Ground:
        recipe = Recipe(layer_height=self.layer_height, line_width=self.line_width)
        return answer.ground(ask(self.part), recipe, self.bed, self.directions)


@dataclass(frozen=True, eq=False)
class Rank(Question[Laying]):
    """Every way to lie, rated and put in order."""

    strength: StrengthOf
    purpose: Purpose
    bed: Vec
    directions: int = NET_DIRECTIONS
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Laying:
        s = ask(self.strength, 0.0, 0.95)
        r = s.recipe
        ground = ask(GroundOf(self.strength.solve.part, r.layer_height, r.line_width, self.bed, self.directions))
        ask.tick(0.96, "rating the ways")
        duty = self.strength.duty.model_copy(update={"purpose": self.purpose})
        part = ask(self.strength.solve.part)
        return Laying(s, answer.ways(part, duty, s, self.bed, self.directions, known=ground))


@dataclass(frozen=True, eq=False)
class Grids(Question[GridDoubt]):
    """Some ways on another grid, and on a finer one where they moved by more than a tenth."""

    strength: StrengthOf
    directions: tuple[Vec, ...]
    kept: ClassVar[int] = 4

    def answer(self, ask: Answerer) -> GridDoubt:
        s, ways = ask(self.strength, 0.0, 0.3), np.array(self.directions)
        mesh, field = ask(self.strength.solve.part).mesh, s.field
        size, why, other = finer_cell(field), "", 0
        changes: tuple[float, ...] = (UNCHECKED,) * len(ways)
        ask.tick(0.3, "on another grid")
        try:
            wide = coarser_cell(field)
            if wide is not None:
                coarse = ask(self.strength.on(wide), 0.3, 0.5).field
                changes, other = changes_of(coarse, field, s.limits, ways), coarse.cells
                if max(changes) <= MOVED or size is None:
                    return grid_doubt(mesh, field, s.limits, self.directions, changes, other)
        except Refused as refusal:
            why = str(refusal)
        if size is not None:
            try:
                finer = ask(self.strength.on(size), 0.5, 1.0).field
                changes = changes_of(field, finer, s.limits, ways)
                return grid_doubt(mesh, finer, s.limits, self.directions, changes, field.cells, size)
            except Refused as refusal:
                why = str(refusal)
        assumed = "" if other else why or "A finer grid is too large."
        return grid_doubt(mesh, field, s.limits, self.directions, changes, other, assumed=assumed)


def doubted(laying: Laying, share: Callable[[Vec], float]) -> Laying:
    """The ways with the grid's own doubt, ``share`` of each direction, in their ranges, in the order these give."""
    ranking = laying.ranking
    every = tuple(replace(w, reserve=widened(w.reserve, share(w.direction))) for w in ranking.every)
    return Laying(laying.strength, weighed(replace(ranking, every=every), WEIGHTS[ranking.purpose]))


def unsettled(laying: Laying) -> Laying:
    """The ways before any other grid was tried: a change as large as is taken where none can be."""
    return doubted(laying, lambda direction: UNCHECKED)


@dataclass(frozen=True)
class Settled:
    """The rated ways as a verdict may use them: on the grid that was found fine enough, its doubt in their ranges."""

    laying: Laying
    grid: GridDoubt


@dataclass(frozen=True, eq=False)
class Settle(Question[Settled]):
    """Every way rated, checked on another grid, and rated again on a finer one where that was needed."""

    rank: Rank
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Settled:
        first = ask(self.rank, 0.0, 0.4)
        grid = ask(Grids(self.rank.strength, tuple(w.direction for w in first.ranking.ways)), 0.4, 0.9)
        rank = self.rank if grid.cell_mm is None else replace(self.rank, strength=self.rank.strength.on(grid.cell_mm))
        return Settled(doubted(ask(rank, 0.9, 1.0), grid.share), grid)


@dataclass(frozen=True, eq=False)
class Layers(Question[tuple[Layered, ...]]):
    """The first ``count`` ways of the list solved again in layers."""

    settle: Settle
    count: int = 4
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> tuple[Layered, ...]:
        laying = ask(self.settle, 0.0, 0.1).laying
        base = self.settle.rank.strength
        part, s, out = ask(base.solve.part), laying.strength, []
        ways = laying.ranking.ways[: self.count]
        for i, w in enumerate(ways):

            def tell(x: float, t: str, i: int = i) -> None:
                ask.tick(0.1 + 0.9 * (i + x) / len(ways), f"way {ways[i].letter} in layers")

            at = part.mesh, part.features, base.duty, s.field, s.limits, s.recipe, w.direction
            out.append(solve_layered(*at, tell)[0])
        return tuple(out)


@dataclass(frozen=True, eq=False)
class Why(Question[RatedWay]):
    """One direction by itself: what would go first, where, and what is given up; ``doubt`` the grid's, a share."""

    strength: StrengthOf
    bed: Vec
    direction: Vec
    doubt: float = 0.0

    def answer(self, ask: Answerer) -> RatedWay:
        s = ask(self.strength, 0.0, 0.9)
        ask.tick(0.9, "rating it")
        way = answer.one_way(ask(self.strength.solve.part), s, self.bed, self.direction, "?")
        return replace(way, reserve=widened(way.reserve, self.doubt))


@dataclass(frozen=True)
class WayDetail:
    """A way with its log, the places that would go first, its thin portions, and how it bends."""

    log: LayerLog
    way: RatedWay
    places: tuple[HotSpot, ...]
    portions: tuple[Portion, ...]
    bend: Array
    movement: float
    bending_case: str


@dataclass(frozen=True, eq=False)
class Detail(Question[WayDetail]):
    """The layer log of one way and what would go first."""

    strength: StrengthOf
    bed: Vec
    direction: Vec

    def answer(self, ask: Answerer) -> WayDetail:
        part, s = ask(self.strength.solve.part), ask(self.strength, 0.0, 0.5)
        ask.tick(0.5, "cutting layers")
        log = answer.layer_log(part, s, self.direction)
        way = answer.one_way(part, s, self.bed, self.direction)
        n = np.asarray(self.direction)
        ask.tick(0.75, "finding what goes first")
        places = hot_spots(s.field, s.limits, n)
        thin = portions(part.mesh, s.field, s.limits, n, sphere(NET_DIRECTIONS)[::4])
        return WayDetail(log, way, places, thin, *answer.bend_of(part, s))


@dataclass(frozen=True)
class Proved:
    """The chosen way and recipe solved with their own shell and core."""

    solved: Range
    movement: float
    target: float
    bond_source: str
    withheld: str | None


@dataclass(frozen=True, eq=False)
class Prove(Question[Proved]):
    """Solve a recipe as its way makes it, on a grid that another one bears out. ``strength`` carries the direction."""

    strength: StrengthOf

    def answer(self, ask: Answerer) -> Proved:
        direction = self.strength.solve.direction
        assert direction is not None
        grid = ask(Grids(self.strength, (direction,)), 0.0, 0.98)
        s = ask(self.strength if grid.cell_mm is None else self.strength.on(grid.cell_mm))
        rating = rate(s.field, s.limits, np.array([direction]))
        solved = widened(rating.range_of(0), grid.share(direction))
        return Proved(solved, s.field.greatest_movement, s.target, s.card.bond.source, s.withheld)


def prove_printed(
    part: Part, duty: Duty, recipe: Recipe, card: Material, direction: Vec, cells: int = CELLS, exactly: bool = False
) -> Prove:
    """The question of what a recipe would hold as a way prints it."""
    return Prove(strength_question(part, duty, recipe, card, cells, exactly=exactly).printed(recipe, direction))
