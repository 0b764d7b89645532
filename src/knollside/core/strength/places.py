"""Which places of a part could govern a way to lie once they are looked at closely.

A coarse grid reads too little at a notch, at the rim of a hold and in a small fillet. What it may have missed is
bounded by what is known of such places; a place matters where, with that much more, it would be the first to go in
some way to lie.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
from scipy.spatial import cKDTree

from knollside.core.material.allowables import Allowables
from knollside.core.model import Array, Ints, Mesh
from knollside.core.strength.field import StressField
from knollside.core.strength.rating import point_index, rate
from knollside.core.strength.rims import inner_edges

# r^(lambda - 1) of the worst inner edge (90 degrees of air: Williams 1952), and of a rim held fast (free surface
# square to a rigid wall, Poisson 0.35), read a cell and a half deep instead of at half the critical distance.
NOTCH, RIM = 0.455, 0.29
_MARGIN = 1.15  # what a smooth place may gain
_UNSURE = 0.05  # of a reading: more between a plane and a curved fit, and the place is not resolved
_DIRECTIONS = 160


@dataclass(frozen=True)
class Suspects:
    """Places (n, 3) that a finer grid should look at, and how much of the governing stress each may have (n,)."""

    points: Array
    weight: Array


def suspects(
    mesh: Mesh, field: StressField, limits: tuple[Allowables, ...], directions: Array, depth: float
) -> Suspects:
    """Places that could govern one of ``directions`` (d, 3); ``depth`` mm is where stress is judged."""
    step = max(1, len(directions) // _DIRECTIONS)
    some = np.ascontiguousarray(directions[::step])
    places, gain, near, _ = _looked_at(mesh, field, depth)
    if not len(places):
        return Suspects(places, gain)
    first = np.asarray(1 / rate(field, limits, some).reserve)
    weight = np.zeros(len(places))
    for k, allow in enumerate(limits):
        _may(field.stress[k], near, some, *allow.limits, first, weight)
    return Suspects(places, weight * gain)


def left_over(
    mesh: Mesh,
    field: StressField,
    close: StressField,
    limits: tuple[Allowables, ...],
    directions: Array,
    depth: float,
) -> Array:
    """By what share each of ``directions`` (d, 3) may still be worse at a place that the plain ``field`` suspects and
    ``close`` had no cells for, (d,)."""
    places, gain, near, wanted = _looked_at(mesh, field, depth)
    if not len(places):
        return np.zeros(len(directions))
    first = np.asarray(1 / rate(close, limits, directions).reserve)
    assert close.sizing is not None
    away = np.asarray(cKDTree(close.sizing.sources).query(places)[0])
    left = np.asarray(close.sizing.size_at(away) > wanted)
    most = np.zeros(len(directions))
    for k, allow in enumerate(limits):
        _most(field.stress[k], near[left], gain[left], np.ascontiguousarray(directions), *allow.limits, first, most)
    return np.maximum(most - 1, 0.0)


def _looked_at(mesh: Mesh, field: StressField, depth: float) -> tuple[Array, Array, Ints, Array]:
    """Places (n, 3) where a plain grid reads too little, by what factor at most, the judged points around each, and
    the cells, mm, on which it would be seen."""
    edge, _, _ = inner_edges(mesh, max(0.5 * field.cell, depth))
    surface = np.flatnonzero(np.linalg.norm(field.normals, axis=1) > 0)
    unsure = surface[field.unsure[surface] > _UNSURE]
    places = np.vstack([edge, field.rims, field.points[unsure] + 0.5 * depth * field.normals[unsure]])
    far = max(1.5 * field.cell / (0.5 * depth), 1.0)
    gain = np.concatenate(
        [
            np.full(len(edge), _MARGIN * far**NOTCH),
            np.full(len(field.rims), _MARGIN * far**RIM),
            _MARGIN * (1 + 2 * field.unsure[unsure]),
        ]
    )
    wanted = np.full(len(places), 0.5 * depth)
    wanted[len(edge) + len(field.rims) :] = 0.5 * field.cell
    solved = field.points[: field.solved]
    near = np.asarray(cKDTree(solved).query(places, k=min(6, len(solved)))[1])
    return places, gain, near, wanted


@numba.njit(cache=True, parallel=True, nogil=True)
def _most(stress, near, gain, n, zt, zs, xt, xc, y, first, out):  # type: ignore[no-untyped-def]
    """The same by direction: the greatest share that any place may have of it."""
    for d in numba.prange(n.shape[0]):
        best = out[d]
        for p in range(near.shape[0]):
            for q in range(near.shape[1]):
                s = stress[near[p, q]]
                part, inside, _, _ = point_index(s, n[d, 0], n[d, 1], n[d, 2], zt, zs, xt, xc, y)
                best = max(best, gain[p] * max(part, inside) / first[d])
        out[d] = best


@numba.njit(cache=True, parallel=True, nogil=True)
def _may(stress, near, n, zt, zs, xt, xc, y, first, out):  # type: ignore[no-untyped-def]
    """The greatest share of a direction's governing index that the points around each place have."""
    for p in numba.prange(near.shape[0]):
        best = out[p]
        for q in range(near.shape[1]):
            s = stress[near[p, q]]
            for d in range(n.shape[0]):
                part, inside, _, _ = point_index(s, n[d, 0], n[d, 1], n[d, 2], zt, zs, xt, xc, y)
                best = max(best, max(part, inside) / first[d])
        out[p] = best
