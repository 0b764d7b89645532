"""Looking closely: the places that could govern, on cells finer than a fifth of the critical distance.

Everything is solved again at once, on a grid that gets finer towards all these places (graded.py): what a coarse grid
says of the stiffness next to a notch would otherwise spoil what a close look sees (docs/methods.md 12.6).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.material.allowables import Allowables
from knollside.core.model import Array, Mesh
from knollside.core.strength.field import StressField
from knollside.core.strength.graded import Sizing
from knollside.core.strength.places import suspects

# Finest cells, as a share of the critical distance: at 0.2 a sharp corner reads within 3 % (docs/methods.md).
FINEST = 0.2
_COARSEST = 0.84 * FINEST  # finest cells may be smaller by so much, to let the base grid keep about its size
_RADIUS = 0.5  # of the critical distance, around a place
_CELLS, _TIMES = 100_000, 2  # that a close look may add, and times those of the plain grid
_FIRST, _FINE = 12, 4
_ROUGH = 1.6  # how much coarser everything is where it is looked at a second time


@dataclass(frozen=True)
class Closeness:
    """A grid for a close look: cells of ``base`` mm that get finer as ``sizing`` says."""

    base: float
    sizing: Sizing

    @property
    def finest(self) -> float:
        return self.sizing.aim

    def rougher(self) -> Closeness:
        """All of it coarser: what the answer changes by from there tells how far it is from settled."""
        s = self.sizing
        return Closeness(self.base * _ROUGH, Sizing(s.sources, s.aim * _ROUGH, s.radius))


def look_closely(
    mesh: Mesh,
    field: StressField,
    limits: tuple[Allowables, ...],
    directions: Array,
    depth: float,
    watched: tuple[tuple[float, float, float], ...] = (),
) -> Closeness | None:
    """Where and how finely to look, for ``directions`` (d, 3) rated by a plain ``field``: at the ``watched`` places,
    and at what is notched, held or bent enough to be worth it; None where nothing is. ``depth`` is the critical
    distance, mm."""
    found = suspects(mesh, field, limits, directions, depth)
    order = np.argsort(-found.weight, kind="stable")
    places = np.vstack([_on_the_part(field, watched), found.points[order[: int((found.weight >= 1.0).sum())]]])
    if not len(places):
        return None
    base, finest = sizes(field.asked, depth)
    # A hair above the lattice's own size, which is rounded to whole cells along the part.
    sizing = Sizing(np.round(places, 6), 1.06 * finest, _RADIUS * depth)
    return Closeness(base, _affordable(field, base, sizing))


def _on_the_part(field: StressField, watched: tuple[tuple[float, float, float], ...]) -> Array:
    """Places to watch (w, 3): as they are, or the nearest of the part where they lie off it."""
    places = np.array(watched, float).reshape(-1, 3)
    away, near = cKDTree(field.points).query(places)
    off = np.asarray(away) > 1.5 * field.cell
    return np.asarray(np.where(off[:, None], field.points[near], places))


def _affordable(field: StressField, base: float, sizing: Sizing) -> Sizing:
    """The first of the places, weightiest first, that a close look has cells for."""
    ends = np.unique(np.minimum((_FIRST * 1.4 ** np.arange(40)).astype(int), len(sizing.sources)))
    # Sampled some times a base cell in what is solid: how much of it lies how near.
    near = cKDTree(sizing.sources).query(field.points, distance_upper_bound=sizing.reach(base) + base)[0]
    step = base / _FINE
    grid = np.unique(np.floor(field.points[np.isfinite(near)] / base).astype(np.int64), axis=0)
    off = (np.stack(np.meshgrid(*[np.arange(_FINE)] * 3, indexing="ij"), axis=-1).reshape(-1, 3) + 0.5) * step
    spots = (grid[:, None, :] * base + off).reshape(-1, 3)
    away = np.full(len(spots), np.inf)
    last = 0
    for end in ends:
        found = cKDTree(sizing.sources[last:end]).query(spots, distance_upper_bound=sizing.reach(base))[0]
        away = np.minimum(away, found)
        cells, size = 0.0, base
        while (reach := sizing.reach(size)) > 0:
            size /= 2
            cells += float((away < reach).sum()) * (step / size) ** 3 * 7 / 8
        if cells > min(_CELLS, _TIMES * field.cells) and last:
            break
        last = end
    return Sizing(sizing.sources[:last], sizing.aim, sizing.radius)


def may_have(mesh: Mesh, field: StressField, limits: tuple[Allowables, ...], directions: Array, depth: float) -> float:
    """By what share a close look may find more stress than a plain ``field`` shows; 0 where it looked closely."""
    if field.sizing is not None:
        return 0.0
    weight = suspects(mesh, field, limits, directions, depth).weight
    return max(float(weight.max(initial=1.0)) - 1, 0.0)


def sizes(asked: float, depth: float) -> tuple[float, float]:
    """Base and finest cell, mm: the base about as ``asked``, halved some times to near a fifth of ``depth``."""
    middle = math.sqrt(FINEST * _COARSEST) * depth
    halvings = max(round(math.log2(asked / middle)), 0)
    finest = min(max(asked / 2**halvings, _COARSEST * depth), FINEST * depth)
    return finest * 2**halvings, finest
