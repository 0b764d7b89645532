"""Loads as forces at points of the true surface."""

from __future__ import annotations

import numpy as np

from knollside.core.model import Array, BearingLoad, Feature, Ints, Load, Mesh, PressureLoad, Refused, TorqueLoad
from knollside.core.strength.graded import Graded
from knollside.core.strength.grid import Grid
from knollside.core.strength.spots import Spots, locate, sample_on


def forces_of(load: Load, feature: Feature, spots: Spots) -> Array:
    """The load as a force at each spot, (n, 3) N.

    Forces and weights spread evenly; pressure along the inward normal; a torque as a pure couple that grows
    with the distance from its axis; a bearing load as the cosine of the angle over the half of the hole that
    the pin presses (the usual assumption for a pin with clearance).
    """
    area = spots.area[:, None]
    if isinstance(load, PressureLoad):
        return -load.pressure_MPa * spots.normals * area
    if isinstance(load, TorqueLoad):
        axis = np.asarray(load.axis if load.axis is not None else feature.axis, float)
        length = float(np.linalg.norm(axis))
        if length < 1e-9:
            raise Refused(f"The torque on {feature.title.lower()} needs an axis with a length.")
        axis /= length
        middle = (spots.points * area).sum(axis=0) / spots.area.sum()
        arm = spots.points - middle
        swirl = np.cross(axis, arm) * area
        moment = float(np.cross(arm, swirl).sum(axis=0) @ axis)
        if moment < 1e-9 * float(spots.area.sum()):
            raise Refused(f"{feature.title} is a line about that axis: a torque cannot act on it.")
        return swirl * (load.torque_Nmm / moment)
    vector = np.asarray(load.vector, float)
    if isinstance(load, BearingLoad):
        if feature.kind not in ("hole", "slot"):
            raise Refused(f"A bearing load wants a hole; {feature.title.lower()} is none.")
        toward = vector / np.linalg.norm(vector)
        # The wall the pin is pushed against faces it: its outward normal looks back at the pin.
        press = np.maximum(-(spots.normals @ toward), 0.0)
        each = -spots.normals * (press * spots.area)[:, None]
        along = float((each @ toward).sum())
        if along < 1e-9:
            raise Refused(f"The bearing load runs along {feature.title.lower()}; it must press its wall.")
        return np.asarray(each * (np.linalg.norm(vector) / along))
    return np.outer(spots.area / spots.area.sum(), vector)


def push(grid: Grid | Graded, mesh: Mesh, feature: Feature, faces: Ints, load: Load) -> tuple[Array, Spots, Array]:
    """Nodal forces (3n,) of a load on ``faces`` of ``mesh``, with the spots and the force at each."""
    spots = sample_on(grid, mesh, faces)
    cell, weights = locate(grid, spots)
    each = forces_of(load, feature, spots)
    f = np.zeros((len(grid.points), 3))
    for a in range(8):
        for d in range(3):
            f[:, d] += np.bincount(grid.nodes[cell, a], weights[:, a] * each[:, d], minlength=len(f))
    return f.reshape(-1), spots, each


def weigh(grid: Grid | Graded, per_mm3: float) -> tuple[Array, Array, Array]:
    """Nodal forces (3n,) of what the part itself weighs, ``per_mm3`` N down along -Z, with the middle of each cell and
    the force there. It counts as solid, which is never too little."""
    each = np.zeros((len(grid.nodes), 3))
    each[:, 2] = -per_mm3 * grid.volumes
    f = np.zeros((len(grid.points), 3))
    f[:, 2] = np.bincount(grid.nodes.ravel(), np.repeat(each[:, 2] / 8, 8), minlength=len(f))
    return f.reshape(-1), grid.centres, each
