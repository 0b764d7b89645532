"""The shipped question of strength asked in one call, for tests of what comes after."""

from __future__ import annotations

from knollside.core.job import answer
from knollside.core.job.answer import CELLS, PartFacts
from knollside.core.job.ask import Answerer
from knollside.core.job.questions.part import Part, names_of_new
from knollside.core.job.questions.strength import strength_question
from knollside.core.material.cards import Material
from knollside.core.model import DesignCase, Orientation, Range, Recipe
from knollside.core.recipe.board import Board, trade_board
from knollside.core.recipe.price import PrinterMotion
from knollside.core.strength.strength import Strength

Vec = tuple[float, float, float]


def strength(
    part: PartFacts,
    design_case: DesignCase,
    recipe: Recipe,
    card: Material,
    cells: int = CELLS,
    orientation: Orientation | None = None,
    exactly: bool = False,
) -> Strength:
    """The stress of a design case held against its limits, as window and command line ask for it."""
    ask = Answerer()
    key = ask.meshes.put(part.mesh)
    direction = None if orientation is None else orientation.direction
    named = Part(key, names_of_new(key, part))
    return ask(strength_question(named, design_case, recipe, card, cells, direction, exactly))


def boards(
    part: PartFacts, s: Strength, direction: Vec, printer_motion: PrinterMotion, factor: Range, nozzle: float = 0.4
) -> Board:
    """Every recipe of one way priced."""
    pricer = answer.pricer(part, s, direction, printer_motion, factor, nozzle)
    return trade_board(pricer, s.recipe, s.target, nozzle)
