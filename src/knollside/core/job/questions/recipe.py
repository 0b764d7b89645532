"""Recipes: the trade board, what each choice buys, roofs, and when empty pays."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from knollside.core.job import answer
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.detail import Detail
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.settling import Prove
from knollside.core.job.questions.strength import Rank, StrengthOf
from knollside.core.job.remedies import Remedy, remedies
from knollside.core.job.variants import Variant, variants
from knollside.core.lay.strata import Strata, lay_strata
from knollside.core.material.cards import Material
from knollside.core.model import PrinterFacts, Range, Recipe
from knollside.core.recipe.board import Board, Dot, PlainPricer, Pricer, trade_board
from knollside.core.recipe.breakeven import BreakEven, break_even
from knollside.core.recipe.calibration import anchors, calibration
from knollside.core.recipe.choose import MaterialChoice
from knollside.core.recipe.price import Price, PrinterMotion
from knollside.core.recipe.roofs import Roof, roofs
from knollside.core.recipe.spiral import Spiral, spiral_of

Vec = tuple[float, float, float]
_TRIES = 4  # recipes solved until the lightest one holds


@dataclass(frozen=True, eq=False)
class StrataOf(Question[Strata]):
    """The exact layers of one way."""

    part: Part
    direction: Vec
    layer_height: float
    line_width: float
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Strata:
        recipe = Recipe(layer_height=self.layer_height, line_width=self.line_width)
        mesh = ask(self.part).mesh
        return lay_strata(mesh, self.direction, recipe, tick=lambda x: ask.tick(x, "looking at each layer"))


def strata_of(part: Part, direction: Vec, recipe: Recipe) -> StrataOf:
    return StrataOf(part, direction, recipe.layer_height, recipe.line_width)


@dataclass(frozen=True, eq=False)
class PricerOf(Question[Pricer]):
    """One way, ready to price any recipe; ``checked`` puts its estimates right by full solves of some; ``doubt`` is the
    grid's of this way, a share."""

    strength: StrengthOf
    direction: Vec
    factor: Range
    nozzle_mm: float
    checked: bool
    doubt: float
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Pricer:
        part, s = ask(self.strength.solve.part), ask(self.strength, 0.0, 0.1 if self.checked else 0.8)
        made = answer.pricer(part, s, self.direction, PrinterMotion(), self.factor, self.nozzle_mm)
        made.doubt = self.doubt
        if self.checked:
            tried = anchors(self.strength.recipe)
            estimated, _ = made.by_stress(tried, self.nozzle_mm)
            solved = []
            for i, r in enumerate(tried):
                low, high = (0.1 + 0.9 * (i + k) / len(tried) for k in (0, 1))
                ask.tick(low, f"solving recipe {i + 1} of {len(tried)}")
                proof = ask(Prove(self.strength.plain().printed(r, self.direction)), low, high)
                solved.append(proof.breaking.value)
            made.calibration = calibration(tried, estimated, np.array(solved))
        return made


@dataclass(frozen=True)
class Building:
    board: Board
    materials: tuple[MaterialChoice, ...]


@dataclass(frozen=True, eq=False)
class Build(Question[Building]):
    """Every recipe priced, every material ranked, for one way to lie."""

    strength: StrengthOf
    direction: Vec
    printer: PrinterFacts
    cards: tuple[Material, ...]
    factor: Range
    doubt: float
    checked: bool = False

    def answer(self, ask: Answerer) -> Building:
        nozzle_mm = self.printer.nozzle_mm
        at = self.strength, self.direction, self.factor, nozzle_mm, self.checked, self.doubt
        pricer = ask(PricerOf(*at), 0.0, 0.6)
        s = ask(self.strength)
        board = trade_board(pricer, s.recipe, s.target, nozzle_mm, lambda x, t: ask.tick(0.6 + 0.05 * x, t))
        if self.checked:
            board = self._with_the_lightest_solved(ask, board)
        ask.tick(0.97, "ranking materials")
        design_case = self.strength.design_case
        # One recipe, one reserve: the list's own card says what the board says of this recipe.
        own, solid = board.dot(s.recipe), float(pricer.rating.reserve[0])
        as_printed = own.reserve.value / solid if own is not None and 0 < solid < np.inf else 1.0
        at_place = self.direction, self.printer, self.cards, as_printed, pricer.off(s.recipe)
        return Building(board, answer.materials(s, design_case, *at_place))

    def _with_the_lightest_solved(self, ask: Answerer, board: Board) -> Board:
        """Solve the lightest by estimate, and where it does not hold the next, until one does."""
        need = board.target
        for i in range(_TRIES):
            guess = board.lightest_unsolved(need)
            if guess is None:
                break
            low, high = (0.65 + 0.3 * k / _TRIES for k in (i, i + 1))
            ask.tick(low, "solving the lightest")
            prove = Prove(self.strength.plain().printed(guess.recipe, self.direction))
            solved = ask(prove, low, high).solved
            board = board.with_solve(guess.recipe, solved)
            if solved.low >= board.target:
                break
            # By as much as this one was told too strong the next had better be stronger.
            need *= max(guess.reserve.low / max(solved.low, 1e-9), 1.02)
        return board


@dataclass(frozen=True, eq=False)
class Remedies(Question[tuple[Remedy, ...]]):
    """What would cure a way that is too weak, each with its gain and its price."""

    detail: Detail
    rank: Rank
    build: Build

    def answer(self, ask: Answerer) -> tuple[Remedy, ...]:
        strength = self.detail.strength
        told, ranked = ask(self.detail, 0.0, 0.3), ask(self.rank, 0.3, 0.5)
        building = ask(self.build, 0.5, 0.95)
        at = ask(strength.solve.part), strength.design_case, ask(strength), ranked.ranking, told.orientation, told.log
        return remedies(*at, building.board, building.materials)


@dataclass(frozen=True)
class Buying:
    """What each choice buys round one recipe, and one spiral wall against two."""

    dot: Dot
    variants: tuple[Variant, ...]
    spiral: Spiral


@dataclass(frozen=True, eq=False)
class Buys(Question[Buying]):
    """One recipe and all that lies round it; without ``strength`` it is priced only."""

    part: Part
    strength: StrengthOf | None
    card: Material
    direction: Vec
    recipe: Recipe
    nozzle_mm: float
    factor: Range
    checked: bool
    doubt: float = 0.0

    def answer(self, ask: Answerer) -> Buying:
        part = ask(self.part)
        pricer: PlainPricer
        if self.strength is not None:
            at = self.strength, self.direction, self.factor, self.nozzle_mm, self.checked, self.doubt
            pricer = ask(PricerOf(*at), 0.0, 0.3)
        else:
            pricer = PlainPricer(part.mesh, self.card, self.direction, PrinterMotion(), self.factor, self.recipe)
        dot = pricer.dots([self.recipe], self.nozzle_mm)[0]
        ask.tick(0.3, "pricing other layers and nozzles")
        found = variants(pricer, self.recipe, self.nozzle_mm)
        strata = ask(strata_of(self.part, self.direction, self.recipe), 0.5, 0.9)
        ask.tick(0.9, "trying one spiral wall")
        return Buying(dot, found, spiral_of(pricer, strata.outline, self.recipe, self.nozzle_mm))


@dataclass(frozen=True, eq=False)
class PriceOf(Question[Price]):
    """Grams and hours of one recipe for one way, without supports."""

    part: Part
    card: Material
    direction: Vec
    recipe: Recipe
    factor: Range

    def answer(self, ask: Answerer) -> Price:
        ask.tick(0.1, "pricing it")
        return PlainPricer(
            ask(self.part).mesh, self.card, self.direction, PrinterMotion(), self.factor, self.recipe
        ).price(self.recipe)


@dataclass(frozen=True)
class Roofing:
    """The roofs of a recipe, and the same roofs left empty, matched by place."""

    roofs: tuple[Roof, ...]
    empty: tuple[Roof, ...]


@dataclass(frozen=True, eq=False)
class Roofs(Question[Roofing]):
    """Which roofs would close with a recipe, and left empty."""

    part: Part
    direction: Vec
    recipe: Recipe

    def answer(self, ask: Answerer) -> Roofing:
        s = ask(strata_of(self.part, self.direction, self.recipe), 0.0, 0.8)
        ask.tick(0.8, "looking at the roofs")
        at = s.outline, s.h, s.turn, s.base
        return Roofing(roofs(*at, self.recipe), roofs(*at, self.recipe.model_copy(update={"infill": 0.0})))


@dataclass(frozen=True, eq=False)
class Even(Question[BreakEven]):
    """When an empty shell of two more walls saves against a recipe with infill."""

    part: Part
    direction: Vec
    recipe: Recipe
    card: Material

    def answer(self, ask: Answerer) -> BreakEven:
        ask.tick(0.2, "pricing it at other sizes")
        r = self.recipe
        filled = r if 0 < r.infill < 1 else r.model_copy(update={"infill": 0.3})
        empty = filled.model_copy(update={"infill": 0.0, "walls": min(filled.walls + 2, 20)})
        return break_even(ask(self.part).mesh, self.direction, empty, filled, self.card)
