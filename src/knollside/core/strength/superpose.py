"""New loads at old places without a new solve: a load case is a sum of unit answers (METHODS 1.1)."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from knollside.core.model import Array, Duty, Load, LoadCase
from knollside.core.strength.field import CaseAnswer, External, StressField

MOST_LOADS = 4  # each costs three solves


@dataclass(frozen=True)
class Units:
    """A solved ``duty`` with its ``field``, and ``units``: one newton along x, y and z for each load in turn."""

    duty: Duty
    field: StressField
    units: StressField


def unit_duty(duty: Duty) -> Duty | None:
    """A case for each load and axis; None where answers do not add up (pins, movements) or loads are other
    than forces and weights, or too many."""
    loads = [ld for c in duty.cases for ld in c.loads]
    if not 0 < len(loads) <= MOST_LOADS or any(h.kind == "pin" for h in duty.held):
        return None
    if any(ld.kind not in ("force", "weight") for ld in loads):
        return None
    cases = tuple(
        LoadCase(name=f"{i} {axis}", loads=(Load(feature=ld.feature, at=ld.at, force_N=tuple(float(v) for v in e)),))
        for i, ld in enumerate(loads)
        for axis, e in zip("xyz", np.eye(3))
    )
    return duty.model_copy(update={"cases": cases})


def same_places(old: Duty, new: Duty) -> bool:
    """Whether only the forces differ: holds, places of the loads and the averaging distance are the same."""

    def places(duty: Duty) -> object:
        return [[(ld.feature, ld.at, ld.kind in ("force", "weight")) for ld in c.loads] for c in duty.cases]

    return old.held == new.held and old.critical_mm == new.critical_mm and places(old) == places(new)


def superpose(solved: Units, new: Duty) -> StressField:
    """The field of ``new``, whose loads act at the places of the solved duty."""
    field, units = solved.field, solved.units
    stress, answers = [], []
    at = k = 0
    for old_case, case in zip(solved.duty.cases, new.cases, strict=True):
        if not case.loads:
            continue
        change: list[tuple[float, int]] = []
        for was, now in zip(old_case.loads, case.loads, strict=True):
            for d in range(3):
                amount = now.vector[d] - was.vector[d]
                if abs(amount) > 1e-12:
                    change.append((amount, 3 * at + d))
            at += 1
        stress.append(field.stress[k] + sum((a * units.stress[u] for a, u in change), np.zeros_like(field.stress[k])))
        answers.append(_answer(case.name, field.cases[k], [(a, units.cases[u]) for a, u in change]))
        k += 1
    return replace(field, stress=np.stack(stress), cases=tuple(answers), seconds=0.0)


def _answer(name: str, base: CaseAnswer, parts: list[tuple[float, CaseAnswer]]) -> CaseAnswer:
    moved: Array = base.displacement + sum((a * c.displacement for a, c in parts), np.zeros_like(base.displacement))
    points = np.vstack([base.external.points, *(c.external.points for _, c in parts)])
    forces = np.vstack([base.external.forces, *(a * c.external.forces for a, c in parts)])
    held = np.concatenate([base.external.held, *(c.external.held for _, c in parts)])
    total = {n: np.asarray(f) for n, f in base.reactions}
    for a, c in parts:
        for n, f in c.reactions:
            total[n] = total.get(n, np.zeros(3)) + a * np.asarray(f)
    named = tuple((n, (float(f[0]), float(f[1]), float(f[2]))) for n, f in total.items())
    return CaseAnswer(name, moved, External(points, forces, held), named)
