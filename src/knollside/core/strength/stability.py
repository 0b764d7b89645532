"""What buckling means for a verdict: the least factor of all cases, with what knocks it down and every doubt."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.material.allowables import KnockDown, combine
from knollside.core.material.cards import Material
from knollside.core.material.stiffness import stiffness_left
from knollside.core.model import Array, LoadCase, Range, Surroundings
from knollside.core.strength.buckling import FAR
from knollside.core.strength.slender import CaseBuckling

# A print is never quite straight, and its load never quite central: typical shares of the factor that is left.
_STRAIGHT = Range(0.80, 0.65, 0.95, "typical")
# Where several shapes lie close together, as in thin shells, far less is left (METHODS: 0.3 to 0.6).
_SHELL = Range(0.45, 0.30, 0.60, "typical")
_CLOSE = 1.12  # of the first factor: within it so many shapes lie close together
_MANY = 4
# Prints are less stiff across their layers; the solve takes them as stiff all round.
_LAYERS = Range(0.92, 0.85, 1.0, "typical")
AMPLE = 10.0  # reserve at the low end, several times what any duty needs


@dataclass(frozen=True)
class Stability:
    """The least reserve against buckling: ``factor`` on the load as solved, ``reserve`` with the ``steps`` that knock
    it down; the ``case``, where it gives way most (``place``, the part's frame) and the ``shape`` (n, 3) of ``points``,
    of unit greatest movement."""

    factor: float
    reserve: Range
    steps: tuple[KnockDown, ...]
    case: str
    place: tuple[float, float, float]
    points: Array
    shape: Array

    @property
    def beyond(self) -> bool:
        """Whether it buckles at no load that matters, with everything that knocks the factor down."""
        return self.reserve.low >= AMPLE


def steadied_range(breaking: Range, s: Stability) -> Range:
    """What is left of a reserve against breaking: the smaller of it and that against buckling, its low end besides as
    what sways makes it. A part bent by what presses it is bent 1 / (1 - load / buckling load) times as far (Timoshenko
    and Gere 1961), so that it breaks at 1 / (1 / R + 1 / factor) at worst."""
    if s.beyond:
        return breaking
    first = min(breaking, s.reserve, key=lambda r: r.low)
    low = min(first.low, 1 / (1 / breaking.low + 1 / s.reserve.value)) if breaking.low > 0 else first.low
    return Range(first.value, low, first.high, first.source)


def stability_of(
    found: tuple[CaseBuckling, ...], cases: tuple[LoadCase, ...], card: Material, place: Surroundings
) -> Stability:
    """The least of all ``found`` cases, ``cases`` being those with loads, in the same order."""
    every = [_of_case(f, c, card, place) for f, c in zip(found, cases, strict=True)]
    return min(every, key=lambda s: s.reserve.low)


def _of_case(found: CaseBuckling, case: LoadCase, card: Material, place: Surroundings) -> Stability:
    b = found.found
    steps = [_imperfect(b.factors), KnockDown("Softer across its layers", _LAYERS, "no print is as stiff that way")]
    doubts = [Range(1.0, 1 - _grid(b.error), 1.0)]
    if not case.bends:  # what is moved by a stated way buckles at that way, whatever it is made of
        m = card.modulus
        doubts.append(Range(1.0, m.low / m.value, m.high / m.value))
        left = stiffness_left(card, place, case)
        if left.value < 1:
            steps.append(KnockDown("Stiffness left by heat and time", left, "creep, typical"))
    middle, low, high = combine([s.factor for s in steps] + doubts)
    value = b.first * middle if np.isfinite(b.first) else FAR * 1e3
    size = np.linalg.norm(b.shapes[0], axis=1)
    x, y, z = (float(v) for v in found.points[int(size.argmax())])
    reserve = Range(value, value * low, value * high, "typical")
    return Stability(b.first, reserve, tuple(steps), found.name, (x, y, z), found.points, b.shapes[0])


def _imperfect(factors: tuple[float, ...]) -> KnockDown:
    if sum(f < _CLOSE * factors[0] for f in factors) >= _MANY:
        return KnockDown("A thin shell, never true", _SHELL, "many ways to buckle at about the same load")
    return KnockDown("Never quite straight", _STRAIGHT, "typical of slender parts")


def _grid(error: float) -> float:
    """What the solve of the shape is unsure of, a share; at least what it was measured to be (docs/methods.md)."""
    return min(max(2 * error, 0.05), 0.5)
