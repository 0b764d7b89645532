"""Layer resultants: force and moment through each level, from balance alone (docs/methods.md 1.20)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.material.allowables import Allowables
from knollside.core.mesh.slicer import Cuts, Section, cut, section_of
from knollside.core.model import Array, Mesh, rotation_to_up
from knollside.core.strength.field import External, StressField


@dataclass(frozen=True)
class Resultants:
    """For one way to lie: ``heights`` (k,) above the bed, the cut ``sections``, and per case the
    force (c, k, 3) and the moment about each section's centroid (c, k, 3) that the part above
    receives, in the bed's frame (Z up), N and N mm."""

    heights: Array
    sections: tuple[Section, ...]
    force: Array
    moment: Array
    cuts: Cuts
    base: float


def resultants(mesh: Mesh, field: StressField, direction: Array, count: int = 80) -> Resultants:
    """Exact for any shape: what acts above a level must pass through it."""
    turn = rotation_to_up(direction)
    turned = mesh.turned(turn)
    low, high = turned.bounds[:, 2]
    levels = low + (np.arange(count) + 0.5) * (high - low) / count
    cuts = cut(turned, levels)
    sections = tuple(section_of(cuts.at(k)) for k in range(count))
    force = np.zeros((len(field.cases), count, 3))
    moment = np.zeros_like(force)
    for c, case in enumerate(field.cases):
        force[c], moment[c] = through_levels(case.external, turn, cuts.levels, sections)
    return Resultants(levels - low, sections, force, moment, cuts, float(low))


def through_levels(
    external: External, turn: Array, levels: Array, sections: tuple[Section, ...]
) -> tuple[Array, Array]:
    """Resultants (k, 3) of the outside forces above each level, moments about the section centroid."""
    p, f = external.points @ turn.T, external.forces @ turn.T
    order = np.argsort(-p[:, 2])
    p, f = p[order], f[order]
    total = np.vstack([np.zeros(3), np.cumsum(f, axis=0)])
    about_origin = np.vstack([np.zeros(3), np.cumsum(np.cross(p, f), axis=0)])
    above = np.searchsorted(-p[:, 2], -levels)
    force, moment = total[above], about_origin[above]
    # Balance lets either side be counted; the last row is what is left over.
    centre = np.array([(*s.centroid, z) for s, z in zip(sections, levels, strict=True)])
    return force, moment - np.cross(centre, force)


def nominal_reserve(
    res: Resultants,
    limits: tuple[Allowables, ...],
    sections: list[Section] | None = None,
    corners: list[Array] | None = None,
) -> Array:
    """Reserve against parting at each level from plain beam stress (k,), least over the cases.

    Normal stress N/A + bending about both axes at the section's outermost points,
    shear taken as 1.5 V/A. Levels with no section get infinity.
    """
    out = np.full(len(res.heights), np.inf)
    for k in range(len(res.heights)):
        s = res.sections[k] if sections is None else sections[k]
        if s.area <= 0:
            continue
        rim = res.cuts.at(k).reshape(-1, 2) if corners is None else corners[k]
        for c, allow in enumerate(limits):
            out[k] = min(out[k], _parting(s, rim, res.force[c, k], res.moment[c, k], allow))
    return out


def _parting(s: Section, rim: Array, force: Array, moment: Array, allow: Allowables) -> float:
    # The material above receives force F and moment M; the cut face pulls back with -F, so a
    # positive F_z (pushed up from above) is tension in the layer.
    det = s.ixx * s.iyy - s.ixy**2
    if det <= 0:
        return float("inf")
    mx, my = moment[0], moment[1]
    kx = (mx * s.iyy + my * s.ixy) / det
    ky = -(my * s.ixx + mx * s.ixy) / det
    d = rim - np.asarray(s.centroid)
    stress = force[2] / s.area + kx * d[:, 1] + ky * d[:, 0]
    pull = max(float(stress.max()), 0.0) if len(stress) else 0.0
    shear = 1.5 * float(np.hypot(force[0], force[1])) / s.area
    index = np.hypot(pull / allow.interlayer, shear / allow.shear)
    return float(1 / index) if index > 1e-9 else float("inf")


def balance_by_stress(res: Resultants, mesh: Mesh, field: StressField, direction: Array) -> float:
    """An independent check: pull through the levels from the recovered stress against the exact one.

    Returns the largest disagreement of the normal force over the loads, levels near holds left out.
    """
    turn = rotation_to_up(direction)
    n = np.asarray(direction, float) / np.linalg.norm(direction)
    inner = np.flatnonzero((np.linalg.norm(field.normals, axis=1) == 0) & (field.volume > 0))
    z = field.points[inner] @ turn.T[:, 2] - res.base
    s = field.stress[0][inner]
    pull = (
        s[:, 0] * n[0] ** 2
        + s[:, 1] * n[1] ** 2
        + s[:, 2] * n[2] ** 2
        + 2 * (s[:, 3] * n[1] * n[2] + s[:, 4] * n[0] * n[2] + s[:, 5] * n[0] * n[1])
    )
    scale = max(float(np.abs(res.force[0]).max()), 1e-9)
    worst = 0.0
    for k in range(2, len(res.heights) - 2):
        near = np.abs(z - res.heights[k]) < field.cell
        if near.sum() > 20:
            mean = float(np.average(pull[near], weights=field.volume[inner][near]))
            worst = max(worst, abs(mean * res.sections[k].area - float(res.force[0, k, 2])) / scale)
    return worst
