"""When an empty shell really saves: grams of both schools against the size of the part.

At scale s a wall keeps its thickness, so at the drawn size it counts as 1/s of it; areas grow with s squared.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.material.cards import Material
from knollside.core.model import Array, Mesh, Recipe
from knollside.core.recipe.price import grams_of
from knollside.core.recipe.shellmap import map_shells

SCALES = (0.35, 0.5, 0.7, 1.0, 1.4, 2.0, 2.8, 4.0)
WORTH = 0.10  # a saving under a tenth is hardly one


@dataclass(frozen=True)
class BreakEven:
    """``scales`` (k,) with the ``grams`` (k, 2) of the empty shell and of walls with infill; ``pays`` the scale from
    which the shell saves a tenth or more, None where it never does in this range."""

    scales: Array
    grams: Array
    empty: Recipe
    filled: Recipe
    pays: float | None

    @property
    def saving(self) -> Array:
        return np.asarray(1 - self.grams[:, 0] / self.grams[:, 1])


def break_even(
    mesh: Mesh, direction: tuple[float, float, float], empty: Recipe, filled: Recipe, card: Material
) -> BreakEven:
    """Both recipes over :data:`SCALES`, by counted layers of each size."""
    shells = max(empty.tops, empty.bottoms, filled.tops, filled.bottoms, 1)
    grams = []
    for s in SCALES:
        found = map_shells(mesh, direction, empty.layer_height / s, empty.line_width / s, min(shells, 10))
        grams.append([grams_of(found.thickness, found.use(r), r, card) * s**3 for r in (empty, filled)])
    table = np.array(grams)
    saving = 1 - table[:, 0] / table[:, 1]
    return BreakEven(np.array(SCALES), table, empty, filled, _crossing(np.log(SCALES), saving))


def _crossing(x: Array, saving: Array) -> float | None:
    """Scale from which on the saving stays at or above :data:`WORTH`, between the samples by a straight line."""
    short = np.flatnonzero(saving < WORTH)
    if len(short) == 0:
        return float(np.exp(x[0]))
    k = int(short[-1])
    if k == len(x) - 1:
        return None
    t = (WORTH - saving[k]) / (saving[k + 1] - saving[k])
    return float(np.exp(x[k] + t * (x[k + 1] - x[k])))
