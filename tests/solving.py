"""A stress solved and held against its limits in one call, for tests of what comes after."""

from __future__ import annotations

from dataclasses import replace

from knollside.core.job import answer
from knollside.core.job.answer import CELLS, PartFacts, Strength
from knollside.core.material.allowables import limits_of
from knollside.core.material.cards import Material
from knollside.core.model import DesignCase, Orientation, Range, Recipe
from knollside.core.recipe.board import Board, trade_board
from knollside.core.recipe.price import PrinterMotion
from knollside.core.strength.field import Medium, refuse_unready
from knollside.core.strength.skin import skin_of
from knollside.core.strength.superpose import mix, plan_of

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
    """The stress of a design case, as sums of unit answers, held against its limits."""
    limits_of(design_case, card)
    refuse_unready(part.mesh, design_case)
    plan = plan_of(design_case.fixtures, design_case.cases)
    rows = design_case.model_copy(update={"cases": plan.rows})
    skin = skin_of(recipe, None if orientation is None else orientation.direction)
    found = answer.solve_part(part, rows, Medium(card.modulus.value, skin=skin), cells, exactly=exactly)
    told = answer.strength_of(mix(found.field, plan), design_case, recipe, card)
    return replace(told, mesh_size=found.mesh_size)


def boards(
    part: PartFacts, s: Strength, direction: Vec, printer_motion: PrinterMotion, factor: Range, nozzle: float = 0.4
) -> Board:
    """Every recipe of one way priced."""
    pricer = answer.pricer(part, s, direction, printer_motion, factor, nozzle)
    return trade_board(pricer, s.recipe, s.target, nozzle)
