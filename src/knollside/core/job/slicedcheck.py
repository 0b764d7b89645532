"""A sliced file held against the plan: what it would print, how that differs, and what it would then hold."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from knollside.core.job import answer
from knollside.core.job.answer import PartFacts
from knollside.core.job.questions.settling import Proved
from knollside.core.material.bond import bond_at
from knollside.core.material.cards import Material, with_bond
from knollside.core.model import DesignCase, Range, Recipe, Refused, rotation_to_up
from knollside.core.run.gcode import Toolpath
from knollside.core.run.sliced import Difference, Sliced, describe, differences


@dataclass(frozen=True)
class SlicedCheck:
    """``reserve`` is what the file would hold, solved and checked on another grid with what was found in it, the bond
    at its nozzle's temperature (``bond_left`` of the card's); None where nothing is asked of the part, or the file
    prints something else, with ``why`` not."""

    name: str
    found: Sliced
    recipe: Recipe
    differences: tuple[Difference, ...]
    reserve: Range | None
    why: str
    grams: float
    bond_left: float


@dataclass(frozen=True)
class Plan:
    """What a sliced file is held against: the part, what is asked of it, and how it was to be printed."""

    part: PartFacts
    design_case: DesignCase
    recipe: Recipe
    card: Material
    direction: tuple[float, float, float]


def check_sliced(
    moves: Toolpath,
    name: str,
    plan: Plan,
    prove: Callable[[Recipe, Material], Proved],
    weak: tuple[tuple[float, float, float], ...] = (),
) -> SlicedCheck:
    """Compare a file's moves with the plan; ``weak`` places in the part's frame. ``prove`` solves what was
    found in the file as it would be printed, or refuses."""
    part, card, found = plan.part, plan.card, describe(moves)
    laid = answer.laid(part.mesh, plan.direction)
    turn = rotation_to_up(plan.direction)
    turned = part.mesh.turned(turn)
    low, high = turned.bounds
    middle = np.r_[(low[:2] + high[:2]) / 2, low[2]]
    places = [tuple(float(v) for v in turn @ np.asarray(p) - middle) for p in weak]
    x, y, z = (float(v) for v in laid.size)
    told = differences(found, plan.recipe, card, (x, y, z), places)  # type: ignore[arg-type]
    recipe = found.recipe(plan.recipe)
    left = bond_at(card, found.nozzle_c) if found.nozzle_c is not None else 1.0
    used = with_bond(card, card.bond.times(left))
    reserve, why = None, ""
    if any(d.title == "Another size" for d in told):
        why = "It is not worked out: the file prints another size."
    elif not (plan.design_case.fixtures and any(c.loads for c in plan.design_case.cases)):
        why = "Nothing is asked of the part yet."
    else:
        try:
            proved = prove(recipe, used)
            reserve, why = (proved.solved, "") if not proved.withheld else (None, proved.withheld)
        except Refused as refusal:
            why = str(refusal)
    return SlicedCheck(name, found, recipe, told, reserve, why, found.volume * card.density / 1000, left)
