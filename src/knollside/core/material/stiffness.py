"""Stiffness left by heat and time: a creep modulus E(t, T) = E0 / (1 + A t^n), after Findley (1944).

A and n are typical of each kind of plastic at low stress, with a range; heat speeds creep up by a decade of time for
each 15 degrees, and softens besides as the softening point comes near. All of it typical until measured.
"""

from __future__ import annotations

import math

from knollside.core.material.allowables import ROOM, combine
from knollside.core.material.cards import Material
from knollside.core.model import LoadCase, Range, Surroundings

_POWER = Range(0.25, 0.18, 0.33)
_DECADE = 15.0  # degrees that speed creep up tenfold
_WEEKS = 1000.0  # hours after which the table below tells what is left

# Share of the short-term stiffness left after a thousand hours at room heat, loaded to under a quarter of strength.
_LEFT = {
    "PLA": (0.50, 0.30, 0.70),
    "PETG": (0.60, 0.45, 0.75),
    "ABS": (0.55, 0.40, 0.70),
    "ASA": (0.55, 0.40, 0.70),
    "PC": (0.75, 0.65, 0.85),
    "Nylon": (0.45, 0.30, 0.60),
    "Nylon + carbon": (0.60, 0.45, 0.75),
    "PETG + carbon": (0.65, 0.50, 0.80),
    "TPU 95A": (0.50, 0.35, 0.65),
    "PP": (0.35, 0.25, 0.50),
}
_UNKNOWN = (0.45, 0.25, 0.70)


def creep_left(card: Material, hours: float, celsius: float = ROOM) -> Range:
    """Share of the stiffness left after ``hours`` under load at a temperature; 1 at once.

    >>> from knollside.core.material.cards import MATERIALS
    >>> round(creep_left(MATERIALS["PC"], 1000.0).value, 2), creep_left(MATERIALS["PC"], 0.0).value
    (0.75, 1.0)
    """
    middle, low, high = _LEFT.get(card.name, _UNKNOWN)
    told = hours * 10 ** (max(celsius - ROOM, 0.0) / _DECADE) / _WEEKS
    # Later than the table a steeper power is the low end, earlier a flatter one.
    steep, flat = (_POWER.high, _POWER.low) if told > 1 else (_POWER.low, _POWER.high)

    def left(share: float, power: float) -> float:
        return 1 / (1 + (1 / share - 1) * math.pow(told, power))

    return Range(left(middle, _POWER.value), left(low, steep), left(high, flat), "typical")


def softened(card: Material, celsius: float) -> Range:
    """Share of the short-term stiffness left at a temperature below softening: falls slowly, then fast."""
    if celsius <= ROOM:
        return Range(1.0, 1.0, 1.0)
    x = min((celsius - ROOM) / (card.softens - ROOM), 1.0)
    return Range(1 - 0.6 * x**2, 1 - 0.8 * x**1.5, 1 - 0.4 * x**2, "typical")


def stiffness_left(card: Material, place: Surroundings, case: LoadCase) -> Range:
    """Share of the card's modulus that a case meets: the heat it lives in, and the time it lasts."""
    hours = case.lasting_h if case.permanent else 0.0
    parts = [softened(card, place.temperature_c), creep_left(card, hours, place.temperature_c)]
    middle, low, high = combine(parts)
    return Range(middle, middle * low, middle * high, "typical")
