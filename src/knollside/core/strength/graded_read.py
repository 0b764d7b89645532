"""Stress on a graded grid: judged points as dense as the cells are, each read on the finest level around it."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.model import Array, Ints
from knollside.core.strength.element import Brick
from knollside.core.strength.graded import Graded, Level
from knollside.core.strength.grid import CORNERS
from knollside.core.strength.recover import BEND, Samples, fitted, sample_stress
from knollside.core.strength.recover import REACH as WIDE

REACH = 1.5  # cells: near a notch the stress bends too much for more


def reading_level(grid: Graded, points: Array) -> Ints:
    """The finest level all of whose cells within a fit's reach of each point are there (m,)."""
    out = np.zeros(len(points), np.int64)
    if len(grid.levels) == 1:
        return out
    away = cKDTree(grid.sizing.sources).query(points)[0]
    for k in range(1, len(grid.levels)):
        out[away + REACH * grid.levels[k].largest < grid.sizing.reach(grid.levels[k - 1].largest)] = k
    return out


def stress_on(grid: Graded, bricks: list[Brick], scales: list[Array], u: Array, points: Array, level: Ints) -> Array:
    """Recovered stress (k, n, 6) MPa of k cases ``u`` (k, 3n), each point read on its ``level``."""
    out = np.empty((len(u), len(points), 6))
    ends = 3 * grid.offsets
    finer: Samples | None = None
    for k in range(len(grid.levels) - 1, -1, -1):
        v = grid.levels[k]
        samples = sample_stress(v, bricks[k], np.ascontiguousarray(u[:, ends[k] : ends[k + 1]]))
        if finer is not None:
            _from_children(samples, v, grid.levels[k + 1], finer, scales[k + 1])
        finer = samples
        mine = np.flatnonzero(level == k)
        if len(mine):
            reach = REACH if k else WIDE  # the base grid is read as where it stands alone
            at = grid.origin, v.size, v.lookup, samples
            out[:, mine] = fitted(*at, points[mine], v.fill * scales[k], BEND, reach)
    return out


def _from_children(samples: Samples, level: Level, fine: Level, finer: Samples, scale: Array) -> None:
    """Refined cells take the mean of their children, at their middle: their own corners may lie in the air, where what
    a sliver says of them means nothing."""
    amount = fine.fill * scale
    total = np.maximum(np.bincount(fine.up, amount, minlength=len(level.places)), 1e-12)[level.refined]
    at = amount[:, None] * (CORNERS[fine.child] + finer.middle) / 2
    for d in range(3):
        samples.middle[level.refined, d] = (
            np.bincount(fine.up, at[:, d], minlength=len(level.places))[level.refined] / total
        )
    mean = amount[:, None] * finer.values.mean(axis=1)
    for j in range(mean.shape[1]):
        found = np.bincount(fine.up, mean[:, j], minlength=len(level.places))[level.refined] / total
        samples.values[level.refined, :, j] = found[:, None]
    samples.spread[level.refined] = 0
