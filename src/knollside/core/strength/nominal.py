"""A stress worked out by hand at a place, to be rated like any solved one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.model import Array
from knollside.core.strength.element import VOIGT
from knollside.core.strength.field import StressField
from knollside.core.strength.rules import Rule


@dataclass(frozen=True)
class Nominal:
    """One stress worked out by hand: the ``rule``, its place, the number of the load case, and the stress (6,) MPa of
    the solid, order xx yy zz yz zx xy."""

    rule: Rule
    at: Array
    case: int
    stress: Array


def tensor(size: float, one: Array, two: Array) -> Array:
    """A pull of ``size`` along ``one``, or where the two are square to each other a shear, (6,)."""
    t = size * np.outer(one, two)
    if abs(float(one @ two)) < 0.5:
        t = t + t.T
    return np.array([t[i, j] for i, j in VOIGT])


def with_rules(field: StressField, rules: tuple[Nominal, ...]) -> StressField:
    """A field that is rated at the places of the ``rules``, too: its last points."""
    stress = np.zeros((len(field.cases), len(rules), 6))
    for k, r in enumerate(rules):
        stress[r.case, k] = r.stress
    points = np.array([r.at for r in rules]).reshape(-1, 3)
    return field.judged_besides(points, stress, np.array([r.rule for r in rules], np.int64))
