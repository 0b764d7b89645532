"""Strength: one solve, the limits it is held against, every way rated, and what backs the numbers."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from knollside.core.job import answer
from knollside.core.job.answer import CELLS, PartFacts, Solved, strength_of
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.held import HELD_CELLS, HeldAs, Hold
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.solve import Shell, Solve
from knollside.core.lay.orientations import NET_DIRECTIONS, Ground, Ranking
from knollside.core.material.allowables import limits_of
from knollside.core.material.cards import Material
from knollside.core.material.stiffness import stiffness_left
from knollside.core.model import (
    Danger,
    DesignCase,
    LoadCase,
    Purpose,
    Recipe,
    Surroundings,
)
from knollside.core.strength.clamping import refuse_if_stripped
from knollside.core.strength.discretisation import UNCHECKED, GridDoubt
from knollside.core.strength.far import STRAIGHT, Turned
from knollside.core.strength.field import POISSON, refuse_unready
from knollside.core.strength.hand_rules import by_hand
from knollside.core.strength.impact import caught
from knollside.core.strength.movement import movement_of
from knollside.core.strength.nominal import with_rules
from knollside.core.strength.pads import under_pads
from knollside.core.strength.strength import Strength
from knollside.core.strength.superpose import mix, plan_of
from knollside.core.strength.zoom import Closeness, may_have

Vec = tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class StrengthOf(Question[Strength]):
    """The stress of a duty's cases, as sums of one solve, with the strengths it is held against; ``watched`` places are
    to be looked at closely, on ``held_cells`` it is found which screws stay tight, for every grid alike."""

    solve: Solve
    cases: tuple[LoadCase, ...]
    surroundings: Surroundings
    own_knock_downs: tuple[tuple[str, float], ...]
    danger: Danger
    card: Material
    recipe: Recipe
    watched: tuple[Vec, ...] = ()
    held_cells: int = HELD_CELLS
    kept: ClassVar[int] = 4

    @property
    def design_case(self) -> DesignCase:
        """What was asked, without marks and weights, on which no strength rests."""
        return DesignCase(
            fixtures=self.solve.fixtures,
            cases=self.cases,
            surroundings=self.surroundings,
            danger=self.danger,
            own_knock_downs=dict(self.own_knock_downs),
            critical_mm=self.solve.critical_mm,
        )

    def answer(self, ask: Answerer) -> Strength:
        # Asked first: a material or a duty that cannot be judged refuses before any solving.
        limits_of(self.design_case, self.card)
        part = ask(self.solve.part, 0.0, 0.05)
        refuse_unready(part.mesh, self.design_case)
        refuse_if_stripped(part.mesh, part.features, self.design_case, self.card)
        held = ask(self.hold, 0.05, 0.3)
        return self._judged(held.solved(ask, self.solve, self.cases, 0.3, 0.99), part, held)

    def alone(self, ask: Answerer, low: float, high: float) -> Strength:
        """The answer worked out without keeping it: one of many that nobody asks again."""
        held = ask(self.hold, low, low)
        found = held.solved(ask, self.solve, self.cases, low, high, keep=False)
        return self._judged(found, ask(self.solve.part), held)

    @property
    def hold(self) -> Hold:
        """Which of its screws can be counted on."""
        return Hold.of(self.solve, self.cases, self.surroundings, self.card, self.held_cells)

    def _judged(self, found: Solved, part: PartFacts, held: HeldAs) -> Strength:
        """A solve held against the duty's limits, with what is worked out by hand."""
        plan = plan_of(held.fixtures, self.cases)
        field = caught(mix(found.field, plan), self.design_case.loaded)
        # A head is pressed by what it was tightened with, even where that will not last.
        at = part.mesh, part.features, self.design_case, field.cases
        left = tuple(stiffness_left(self.card, self.surroundings, c).high for c in self.design_case.loaded)
        rules = by_hand(*at, self.recipe, left) + under_pads(*at, self.recipe, self.solve.direction)
        field = with_rules(field, rules)
        s = strength_of(field, self.design_case, self.recipe, self.card)
        movement = movement_of(field, self.design_case.loaded, self.card, self.surroundings)
        far = float(part.mesh.size.max())
        return replace(s, mesh_size=found.mesh_size, movement=movement, length=far, loosened=held.words)

    def printed(self, recipe: Recipe, direction: Vec | None) -> StrengthOf:
        """The same question of another recipe, with the shell that a way makes."""
        return replace(self, recipe=recipe, solve=replace(self.solve, shell=Shell.of(recipe), direction=direction))

    def on(self, cell_mm: float) -> StrengthOf:
        """The same question on a grid of another cell size."""
        return replace(self, solve=replace(self.solve, cell_mm=cell_mm))

    def close(self, close: Closeness) -> StrengthOf:
        """The same question on a grid that looks closely at some places."""
        return replace(self, solve=replace(self.solve, cell_mm=close.base, sizing=close.sizing))

    def plain(self) -> StrengthOf:
        """The same question on the grid that a first answer takes."""
        return replace(self, solve=replace(self.solve, cell_mm=None, sizing=None))

    def small(self, cells: int) -> StrengthOf:
        """The same question on a plain grid of so many cells at most, taken as they are."""
        return replace(self, solve=replace(self.plain().solve, cells=min(cells, self.solve.cells), exactly=True))

    def upon(self, grid: GridDoubt) -> StrengthOf:
        """The same question on the grid that was found good enough."""
        if grid.close is not None:
            return self.close(grid.close)
        return self if grid.cell_mm is None else self.on(grid.cell_mm)


def strength_question(
    part: Part,
    design_case: DesignCase,
    recipe: Recipe,
    card: Material,
    cells: int = CELLS,
    direction: Vec | None = None,
    exactly: bool = False,
    probes: tuple[Vec, ...] = (),
) -> StrengthOf:
    """The one place where a duty, a recipe and a card become a question of strength."""
    rows = plan_of(design_case.fixtures, design_case.cases).rows
    solve = Solve(
        part,
        design_case.fixtures,
        rows,
        design_case.critical_mm,
        card.name,
        card.modulus.value,
        card.pull.value,
        POISSON,
        Shell.of(recipe),
        direction,
        cells,
        exactly,
        None,
        probes,
        density=card.density if any(r.own_weight for r in rows) else 0.0,
    )
    own_knock_downs = tuple(sorted(design_case.own_knock_downs.items()))
    return StrengthOf(
        solve,
        design_case.cases,
        design_case.surroundings,
        own_knock_downs,
        design_case.danger,
        card,
        recipe,
        design_case.watched,
        min(HELD_CELLS, cells),
    )


@dataclass(frozen=True)
class RankedOrientations:
    """The rated ways with the stress they were rated by; ``unseen`` the share by which a close look may still lower
    a reserve that a plain grid gave, ``turned`` what a far movement makes of them."""

    strength: Strength
    ranking: Ranking
    unseen: float = UNCHECKED
    turned: Turned = STRAIGHT

    @property
    def moves_far(self) -> str:
        """What to say of a part that moves far."""
        return self.turned.words or self.strength.moves_far


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
class Rank(Question[RankedOrientations]):
    """Every way to lie, rated and put in order."""

    strength: StrengthOf
    purpose: Purpose
    bed: Vec
    directions: int = NET_DIRECTIONS
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> RankedOrientations:
        s = ask(self.strength, 0.0, 0.95)
        r = s.recipe
        ground = ask(GroundOf(self.strength.solve.part, r.layer_height, r.line_width, self.bed, self.directions))
        ask.tick(0.96, "rating the ways")
        design_case = self.strength.design_case.model_copy(update={"purpose": self.purpose})
        part = ask(self.strength.solve.part)
        ranking = answer.orientations(part, design_case, s, self.bed, self.directions, known=ground)
        unseen = max(UNCHECKED, may_have(part.mesh, s.field, s.limits, ground.directions, design_case.critical_mm))
        return RankedOrientations(s, ranking, unseen)
