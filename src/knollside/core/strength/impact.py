"""A weight that falls: how many times its own weight it pushes with when it is caught.

Energy: what it loses in falling and in what it bends is stored in the part, W (h + d) = k d^2 / 2, so that it pushes
with n = 1 + sqrt(1 + 2 h / s) times its weight, s being how far that bends the part at rest (S. Timoshenko 1930). The
part's own mass and what is lost where they meet are left out, so that n is on the high side.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from knollside.core.model import Array, LoadCase
from knollside.core.strength.field import CaseAnswer, StressField
from knollside.core.strength.movement import moved_at


def impact_factor(drop_mm: float, sag_mm: float) -> float:
    """Times its weight that one which falls ``drop_mm`` pushes with, where it sags by ``sag_mm`` at rest.

    >>> impact_factor(0.0, 0.1), impact_factor(12.0, 1.0)
    (2.0, 6.0)
    """
    return 1 + math.sqrt(1 + 2 * drop_mm / max(sag_mm, 1e-9))


def sag(points: Array, answer: CaseAnswer) -> float:
    """How far the loads of a case sink along themselves, by their share of it, mm; ``points`` (n, 3) are the grid's."""
    e = answer.external
    forces, at = e.forces[~e.at_fixture], e.points[~e.at_fixture]
    moved = moved_at(points, answer.displacement, at)
    total = float(np.linalg.norm(forces.sum(axis=0)))
    return float((forces * moved).sum()) / max(total, 1e-12)


def caught(field: StressField, cases: tuple[LoadCase, ...]) -> StressField:
    """A field whose answers are of ``cases``, in their order, with what falls in them caught."""
    if not any(c.falls_mm for c in cases):
        return field
    stress, probed, answers = field.stress.copy(), field.probed.copy(), []
    for k, (answer, case) in enumerate(zip(field.cases, cases, strict=True)):
        n = impact_factor(case.falls_mm, sag(field.grid_points, answer)) if case.falls_mm else 1.0
        stress[k] *= n
        if probed.size:
            probed[k] *= n
        answers.append(_times(answer, n))
    return replace(field, stress=stress, probed=probed, cases=tuple(answers))


def _times(answer: CaseAnswer, n: float) -> CaseAnswer:
    external = replace(answer.external, forces=n * answer.external.forces)
    reactions = tuple((name, (n * x, n * y, n * z)) for name, (x, y, z) in answer.reactions)
    return replace(
        answer, displacement=n * answer.displacement, external=external, reactions=reactions, impact=n * answer.impact
    )
