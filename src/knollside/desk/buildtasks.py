"""What Build asks of the worker: the board, single recipes, what each choice buys, roofs, and when empty pays."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.build.board import Board, Dot, PlainPricer, Pricer, trade_board
from knollside.core.build.breakeven import BreakEven, break_even
from knollside.core.build.choose import Choice
from knollside.core.build.price import Pace
from knollside.core.build.roofs import Roof, roofs
from knollside.core.build.spiral import Spiral, spiral_of
from knollside.core.build.trim import Trim, anchors, trim
from knollside.core.job import answer
from knollside.core.job.answer import PartFacts, Strength, Tick
from knollside.core.job.file import PrinterFacts
from knollside.core.job.variants import Variant, variants
from knollside.core.lay.strata import Strata, lay_strata
from knollside.core.material.cards import Material
from knollside.core.model import Duty, Range, Recipe, Way

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Building:
    board: Board
    materials: tuple[Choice, ...]


@dataclass(frozen=True)
class Roofing:
    """The roofs of a recipe, and the same roofs left empty, matched by place."""

    roofs: tuple[Roof, ...]
    empty: tuple[Roof, ...]


@dataclass(frozen=True)
class Buys:
    """What each choice buys round one recipe, and one spiral wall against two."""

    dot: Dot
    variants: tuple[Variant, ...]
    spiral: Spiral


# Kept in the worker: the open part's way, ready to price; and its layers.
_pricer: dict[object, Pricer] = {}
_strata: dict[object, Strata] = {}


def _ready(part: PartFacts, s: Strength, direction: Vec, factor: Range, nozzle: float, key: object) -> Pricer:
    if key not in _pricer:
        _pricer.clear()
        _pricer[key] = answer.pricer(part, s, direction, Pace(), factor, nozzle)
    return _pricer[key]


def layers_of(part: PartFacts, direction: Vec, recipe: Recipe, tick: Tick) -> Strata:
    """The exact layers of one way; kept, as several pages ask for them."""
    key = (part.mesh.vertices.tobytes(), part.mesh.faces.tobytes(), direction, recipe.layer_height, recipe.line_width)
    if key not in _strata:
        _strata.clear()
        _strata[key] = lay_strata(part.mesh, direction, recipe, tick=lambda x: tick(0.7 * x, "looking at each layer"))
    return _strata[key]


@dataclass(frozen=True)
class Asked:
    """What the board rests on. ``key`` tells whether the way at hand is still the same."""

    part: PartFacts
    strength: Strength
    duty: Duty
    direction: Vec
    recipe: Recipe
    printer: PrinterFacts
    cards: tuple[Material, ...]
    factor: Range
    key: object


def build(a: Asked, tick: Tick) -> Building:
    """Every recipe priced, every material ranked."""
    tick(0.05, "cutting the weak place")
    pricer = _ready(a.part, a.strength, a.direction, a.factor, a.printer.nozzle_mm, a.key)
    board = trade_board(pricer, a.recipe, a.strength.target, a.printer.nozzle_mm, tick)
    tick(0.97, "ranking materials")
    return Building(board, answer.materials(a.strength, a.duty, a.direction, a.printer, a.cards))


def check_board(a: Asked, cells: int, tick: Tick) -> Building:
    """Solve a few recipes whole and put the board right between them; takes as long as that many solves."""
    pricer = _ready(a.part, a.strength, a.direction, a.factor, a.printer.nozzle_mm, a.key)
    pricer.trim = Trim()
    tried = anchors(a.recipe)
    estimated = np.array([d.reserve.value for d in pricer.dots(tried, a.printer.nozzle_mm)])
    solved = []
    for i, r in enumerate(tried):

        def tell(x: float, words: str, i: int = i) -> None:
            tick(0.95 * (i + x) / len(tried), f"solving recipe {i + 1} of {len(tried)}")

        way = Way(direction=a.direction)
        found = answer.verify(a.part, a.duty, r, a.strength.card, way, Range(0, 0, 0), cells, tell)
        solved.append(found.solved.value)
    pricer.trim = trim(tried, estimated, np.array(solved))
    return build(a, tick)


def buys(
    part: PartFacts,
    s: Strength | None,
    card: Material,
    direction: Vec,
    recipe: Recipe,
    nozzle: float,
    factor: Range,
    key: object,
    tick: Tick,
) -> Buys:
    """One recipe and all that lies round it; without strength it is priced only."""
    tick(0.1, "pricing this recipe")
    pricer: PlainPricer
    if s is not None:
        pricer = _ready(part, s, direction, factor, nozzle, key)
    else:
        pricer = PlainPricer(part.mesh, card, direction, Pace(), factor, recipe)
    dot = pricer.dots([recipe], nozzle)[0]
    tick(0.3, "pricing other layers and nozzles")
    found = variants(pricer, recipe, nozzle)
    strata = layers_of(part, direction, recipe, tick)
    tick(0.9, "trying one spiral wall")
    return Buys(dot, found, spiral_of(pricer, strata.outline, recipe, nozzle))


def roofs_of(part: PartFacts, direction: Vec, recipe: Recipe, tick: Tick) -> Roofing:
    """Which roofs would close with this recipe, and left empty."""
    s = layers_of(part, direction, recipe, tick)
    tick(0.8, "looking at the roofs")
    at = s.outline, s.h, s.turn, s.base
    return Roofing(roofs(*at, recipe), roofs(*at, recipe.model_copy(update={"infill": 0.0})))


def even(part: PartFacts, direction: Vec, recipe: Recipe, card: Material, tick: Tick) -> BreakEven:
    """When an empty shell of two more walls saves against this recipe with infill."""
    tick(0.2, "pricing it at other sizes")
    filled = recipe if 0 < recipe.infill < 1 else recipe.model_copy(update={"infill": 0.3})
    empty = filled.model_copy(update={"infill": 0.0, "walls": min(filled.walls + 2, 20)})
    return break_even(part.mesh, direction, empty, filled, card)
