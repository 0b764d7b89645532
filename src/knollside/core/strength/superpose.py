"""A load case as a sum of unit answers: solved once, whatever the forces (docs/methods.md 1.14).

The plan depends on the duty alone, so the same duty gives the same answer whatever was solved before it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from knollside.core.model import (
    Array,
    BearingLoad,
    Fixture,
    ForceLoad,
    Load,
    LoadCase,
    PressureLoad,
    TorqueLoad,
)
from knollside.core.strength.field import CaseAnswer, External, StressField

_MOST_ROWS = 6  # unit rows that are always worth solving; beyond, up to twice as many as there are cases
_TINY = 1e-12


@dataclass(frozen=True)
class Plan:
    """``rows`` to solve, and of each case with loads its name and the (row, amount) it is the sum of."""

    rows: tuple[LoadCase, ...]
    sums: tuple[tuple[str, tuple[tuple[int, float], ...]], ...]


def plan_of(fixtures: tuple[Fixture, ...], cases: tuple[LoadCase, ...]) -> Plan:
    """Unit rows where answers add up: each place and axis that is pushed, each torque, pressure and pin, and what the
    part itself weighs.

    Where a pin or a wall lets go or a face is moved by a stated way, or where units would be more work than they save,
    the cases themselves are the rows.
    """
    loaded = [c for c in cases if c.loads]
    whole = Plan(
        tuple(LoadCase(name="", loads=c.loads, own_weight=c.own_weight) for c in loaded),
        tuple((c.name, ((k, 1.0),)) for k, c in enumerate(loaded)),
    )
    if any(h.one_way for h in fixtures) or any(c.bends for c in loaded):
        return whole
    rows: dict[Load | None, int] = {}  # None: the part's own weight
    sums = []
    for c in loaded:
        parts = [(rows.setdefault(u, len(rows)), amount) for ld in c.loads for u, amount in _units(ld)]
        if c.own_weight:
            parts.append((rows.setdefault(None, len(rows)), 1.0))
        sums.append((c.name, tuple(parts)))
    if len(rows) > max(_MOST_ROWS, 2 * len(loaded)):
        return whole
    units = (LoadCase(name="", loads=() if u is None else (u,), own_weight=u is None) for u in rows)
    return Plan(tuple(units), tuple(sums))


def _units(load: Load) -> list[tuple[Load, float]]:
    """The unit loads one load is made of, with how much of each."""
    if isinstance(load, TorqueLoad):
        return [(load.sized(1000.0), load.size / 1000.0)]
    if isinstance(load, PressureLoad):
        return [(load.sized(0.1), load.size / 0.1)]
    if isinstance(load, BearingLoad):
        # The part of the wall that bears turns with the force, so the direction belongs to the unit.
        return [(load.sized(1.0), load.size)]
    units: list[tuple[Load, float]] = []
    for axis, amount in zip(np.eye(3), load.vector, strict=True):
        if abs(amount) > _TINY:
            x, y, z = (float(v) for v in axis)
            units.append((ForceLoad(feature=load.feature, at=load.at, force_N=(x, y, z)), float(amount)))
    return units


def mix(field: StressField, plan: Plan) -> StressField:
    """The field of the planned cases from the field of the plan's rows."""
    if all(parts == ((k, 1.0),) for k, (_, parts) in enumerate(plan.sums)):
        cases = tuple(replace(a, name=n) for a, (n, _) in zip(field.cases, plan.sums, strict=True))
        return replace(field, cases=cases)
    weight = np.zeros((len(plan.sums), len(plan.rows)))
    for k, (_, parts) in enumerate(plan.sums):
        for row, amount in parts:
            weight[k, row] += amount
    stress = np.tensordot(weight, field.stress, axes=1)
    probed = np.tensordot(weight, field.probed, axes=1) if field.probed.size else np.zeros((0, 0, 9))
    answers = tuple(_sum(n, weight[k], field.cases) for k, (n, _) in enumerate(plan.sums))
    return replace(field, stress=stress, probed=probed, cases=answers)


def _sum(name: str, weight: Array, rows: tuple[CaseAnswer, ...]) -> CaseAnswer:
    used = [(float(a), c) for a, c in zip(weight, rows, strict=True) if abs(a) > _TINY]
    moved: Array = sum((a * c.displacement for a, c in used), np.zeros_like(rows[0].displacement))
    points = np.vstack([c.external.points for _, c in used])
    forces = np.vstack([a * c.external.forces for a, c in used])
    holder = np.concatenate([c.external.holder for _, c in used])
    total: list[tuple[str, Array]] = [(n, np.zeros(3)) for n, _ in used[0][1].reactions]
    for a, c in used:
        # A face held in two ways is two holds: they are told apart by their place in the list.
        total = [(n, f + a * np.asarray(g)) for (n, f), (_, g) in zip(total, c.reactions, strict=True)]
    named = tuple((n, (float(f[0]), float(f[1]), float(f[2]))) for n, f in total)
    return CaseAnswer(name, moved, External(points, forces, holder), named)
