"""Strength: one solve, the limits it is held against, every way rated, and what backs the numbers."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from knollside.core.job import answer
from knollside.core.job.answer import CELLS, LayerLog, Solved, Strength, strength_of
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.part import Part
from knollside.core.lay.ways import NET_DIRECTIONS, Ground, Ranking, RatedWay
from knollside.core.material.allowables import limits_of
from knollside.core.material.cards import Material
from knollside.core.model import (
    Array,
    Danger,
    Duty,
    Held,
    LoadCase,
    Purpose,
    Range,
    Recipe,
    Surroundings,
)
from knollside.core.strength.field import POISSON, refuse_unready
from knollside.core.strength.places import Portion, WeakPlace, portions, weak_places
from knollside.core.strength.rating import rate, sphere
from knollside.core.strength.superpose import mix, plan_of
from knollside.core.strength.trust import Trust

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
    held: tuple[Held, ...]
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
    kept: ClassVar[int] = 3

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
    kept: ClassVar[int] = 3

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
        return replace(strength_of(field, self.duty, self.recipe, self.card), fineness=found.fineness)

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


@dataclass(frozen=True)
class Backed:
    """What backs a ranking, and the finer cells, ``cell_mm`` wide, that its ways must be rated on where the grid left
    too much doubt."""

    trust: Trust
    cell_mm: float | None


@dataclass(frozen=True, eq=False)
class Backing(Question[Backed]):
    """The listed ways on another grid and in layers."""

    rank: Rank
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Backed:
        laying = ask(self.rank, 0.0, 0.1)
        part, duty = ask(self.rank.strength.solve.part), self.rank.strength.duty
        found = answer.trust(part, duty, laying.strength, laying.ranking, tick=ask.tick)
        return Backed(replace(found, finer=None), None if found.finer is None else found.finer.asked)


def doubted(laying: Laying, backed: Backed | None, before: Ranking | None = None) -> Laying:
    """The ways with the grid's own doubt in their ranges, once it is known. ``before`` is the ranking it was measured
    on, where that was another."""
    if backed is None:
        return laying
    from knollside.core.strength.trust import widened

    trust, measured = backed.trust, (before or laying.ranking).ways
    # The other grid's change and a thin wall's stiffness are two doubts; the larger speaks.
    doubts = [max(c, w.too_stiff) for c, w in zip(trust.changes, trust.walls, strict=True)]
    known = {w.direction: c for w, c in zip(measured, doubts, strict=True)}
    most = max([trust.change, *doubts])

    def wider(ways: tuple[RatedWay, ...]) -> tuple[RatedWay, ...]:
        return tuple(replace(w, reserve=widened(w.reserve, known.get(w.direction, most))) for w in ways)

    ranking = replace(laying.ranking, ways=wider(laying.ranking.ways), every=wider(laying.ranking.every))
    return Laying(laying.strength, ranking)


@dataclass(frozen=True, eq=False)
class Why(Question[RatedWay]):
    """One direction by itself: what would go first, where, and what is given up."""

    strength: StrengthOf
    bed: Vec
    direction: Vec

    def answer(self, ask: Answerer) -> RatedWay:
        s = ask(self.strength, 0.0, 0.9)
        ask.tick(0.9, "rating it")
        return answer.one_way(ask(self.strength.solve.part), s, self.bed, self.direction, "?")


@dataclass(frozen=True)
class WayDetail:
    """A way with its log, the places that would go first, its thin portions, and how it bends."""

    log: LayerLog
    way: RatedWay
    places: tuple[WeakPlace, ...]
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
        places = weak_places(s.field, s.limits, n)
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
    """Solve a recipe as its way makes it. ``strength`` carries that way's direction."""

    strength: StrengthOf

    def answer(self, ask: Answerer) -> Proved:
        s = ask(self.strength, 0.0, 0.98)
        rating = rate(s.field, s.limits, np.array([self.strength.solve.direction]))
        return Proved(rating.range_of(0), s.field.greatest_movement, s.target, s.card.bond.source, s.withheld)
