"""One endless spiral wall against two plain walls: can it be printed so, what each holds, and which face moves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.model import Recipe
from knollside.core.recipe.board import Dot, PlainPricer

_FEW = 0.03  # of the height may break the rule: a mouth that is cut off level


@dataclass(frozen=True)
class Spiral:
    """``possible`` with the reason, the two ways priced, and what thickening by one line does: ``line`` mm a side."""

    possible: bool
    why: str
    one: Dot
    two: Dot
    line: float

    @property
    def across(self) -> float:
        """How much a size across changes on the face that moves, mm: both sides of it."""
        return 2 * self.line


def single_wall(recipe: Recipe) -> Recipe:
    return recipe.model_copy(update={"walls": 1, "infill": 0.0, "tops": 0, "bottoms": max(recipe.bottoms, 3)})


def spiral_of(pricer: PlainPricer, outline: tuple[BaseGeometry, ...], recipe: Recipe, nozzle: float) -> Spiral:
    """Compare one spiral wall with two; ``outline`` the layers of the way."""
    single = single_wall(recipe)
    one, two = pricer.dots([single, single.model_copy(update={"walls": 2})], nozzle)
    possible, why = spiral_possible(outline, recipe.bottoms)
    return Spiral(possible, why, one, two, recipe.line_width)


def spiral_possible(outline: tuple[BaseGeometry, ...], bottoms: int) -> tuple[bool, str]:
    """Whether every layer above the bottom is one closed loop, as one unbroken wall asks."""
    above = outline[bottoms:]
    if not above:
        return False, "It is no higher than its own bottom."
    parts = np.array([sum(p.area > 0.5 for p in shapely.get_parts(o)) for o in above])
    holes = np.array([sum(len(p.interiors) for p in shapely.get_parts(o) if p.geom_type == "Polygon") for o in above])
    several, pierced = float((parts > 1).mean()), float((holes > 0).mean())
    if several > _FEW:
        return False, f"{several * 100:.0f} % of its layers are in more than one piece; a spiral is one loop."
    if pierced > _FEW:
        return False, f"{pierced * 100:.0f} % of its layers have a hole in them; a spiral wall leaves its holes out."
    return True, "Every layer is one loop."
