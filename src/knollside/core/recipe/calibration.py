"""The board held against full solves of a few recipes, and put right between them.

Nominal stresses miss what is local: a tooth on a hollow bar, a screw seat in a thin top. A handful of recipes is
solved whole; the logarithm of solved over estimated reserve is carried to the others by how thick their walls and
how stiff their cores are (linear radial basis, exact at the solved ones).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.material.infill import stiffness_share
from knollside.core.model import Array, Recipe

# (walls, infill) that are solved: the ends, where an estimate is least sure, and between; solid stands for every wall
# count.
ANCHORS = ((2, 0.0), (6, 0.0), (1, 0.15), (2, 0.2), (2, 0.5), (4, 0.3), (8, 0.05), (8, 0.2), (4, 1.0))
_MOST = 1.5  # log ratio; past it estimate and solve speak of different things


@dataclass(frozen=True)
class Calibration:
    """``places`` (a, 2) of the solved recipes and their ``logs`` (a,) of solved over estimated reserve; none yet
    leaves everything as it is."""

    places: Array | None = None
    logs: Array | None = None

    @property
    def count(self) -> int:
        return 0 if self.logs is None else len(self.logs)

    def at(self, recipes: list[Recipe]) -> Array:
        """Factor on each recipe's estimate."""
        if self.places is None or self.logs is None or not recipes:
            return np.ones(len(recipes))
        from scipy.interpolate import RBFInterpolator  # a fifth of a second that start-up need not pay

        spread = RBFInterpolator(self.places, self.logs, kernel="linear")
        return np.asarray(np.exp(np.clip(spread(np.array([_place(r) for r in recipes])), -_MOST, _MOST)))


def anchors(base: Recipe) -> list[Recipe]:
    """The recipes to solve, with the layers, tops and pattern of ``base``."""
    return [base.model_copy(update={"walls": w, "infill": i}) for w, i in ANCHORS]


def calibration(recipes: list[Recipe], estimated: Array, solved: Array) -> Calibration:
    """What the estimates of some recipes lack against their solves."""
    places, logs = [], []
    for r, e, s in zip(recipes, estimated, solved, strict=True):
        log = float(np.log(max(s, 1e-6) / max(e, 1e-6)))
        walls = (1, 4, 10) if r.infill >= 1 else (r.walls,)
        for w in walls:
            places.append(_place(r.model_copy(update={"walls": w})))
            logs.append(log)
    return Calibration(np.array(places), np.array(logs))


def _place(r: Recipe) -> tuple[float, float]:
    """Where a recipe stands: logarithm of its walls' thickness, root of its core's stiffness share."""
    return float(np.log(r.walls * r.line_width)), 2.0 * float(np.sqrt(stiffness_share(r.pattern, r.infill)))
