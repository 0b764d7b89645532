"""The shipped question of strength asked in one call, for tests of what comes after."""

from __future__ import annotations

from knollside.core.job import answer
from knollside.core.job.answer import CELLS, PartFacts
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import ask_orientations, ask_strength
from knollside.core.job.questions.part import Part, ReadMesh, names_of_new
from knollside.core.job.questions.strength import Rank, strength_question
from knollside.core.job.stated import Stated
from knollside.core.lay.orientations import NET_DIRECTIONS
from knollside.core.material.cards import Material
from knollside.core.model import DesignCase, Mesh, Orientation, Range, Recipe
from knollside.core.recipe.board import Board, trade_board
from knollside.core.recipe.price import PrinterMotion
from knollside.core.strength.strength import Strength

Vec = tuple[float, float, float]


def put(ask: Answerer, mesh: Mesh) -> Part:
    """A mesh handed over, as the question that reads it under new names."""
    key = ask.meshes.put(mesh)
    return Part(key, names_of_new(key, ask(ReadMesh(key)).facts))


def ranking(
    mesh: Mesh, stated: Stated, cells: int, exactly: bool = False, directions: int = NET_DIRECTIONS
) -> tuple[Answerer, Rank]:
    """The question of every way to lie, ready to be asked."""
    ask = Answerer()
    strength = ask_strength(put(ask, mesh), stated, cells, None, exactly)
    return ask, ask_orientations(strength, stated, directions)


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
