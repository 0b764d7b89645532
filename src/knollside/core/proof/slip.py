"""The measuring slip: what was typed or sent for one place, checked against what can be there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core import units
from knollside.core.model import Refused
from knollside.core.proof.piece import Spot

SPREAD = 0.06  # mm; readings of one place farther apart than that ask for another
_NEAR = 0.15  # share a printed size may be off the drawn one


@dataclass(frozen=True)
class Entry:
    """A size in mm, and what had to be taken for granted to read it (nothing, mostly)."""

    value: float
    note: str


def read_entry(text: str, spot: Spot, spots: tuple[Spot, ...] = ()) -> Entry:
    """Read one number for one place. Raises :class:`Refused` with a sentence for what cannot be, and takes nothing."""
    try:
        value = units.parse(text, "length")
    except units.QuantityError as error:
        raise Refused(f"{str(error)[:1].upper()}{str(error)[1:]}.") from None
    if value <= 0:
        raise Refused("A size is more than zero.")
    drawn = spot.drawn
    if abs(value * 25.4 / drawn - 1) < _NEAR:
        return Entry(value * 25.4, f"Read as inches: {value:.3f} in is {value * 25.4:.2f} mm.")
    for factor, words in ((10.0, "a tenth"), (0.1, "ten times")):
        if abs(value * factor / drawn - 1) < _NEAR:
            raise Refused(f"{value:g} mm is {words} of {spot.name}'s {drawn:g} mm; look at the point. Not taken.")
    slack = 0.5 + 0.04 * drawn
    if abs(value - drawn) > slack:
        others = [s for s in spots if s.kind == spot.kind and s.name != spot.name and abs(value - s.drawn) < 0.5]
        if others:
            first = min(others, key=lambda s: abs(value - s.drawn))
            raise Refused(
                f"{value:.2f} mm is about {first.name} ({first.drawn:g} mm); {spot.name} is drawn {drawn:g} mm. "
                "Not taken."
            )
    if not 0.6 < value / drawn < 1.5:
        raise Refused(
            f"{value:.2f} mm cannot be {spot.name}, drawn {drawn:g} mm. Wrong place, or another unit? Not taken."
        )
    return Entry(value, "")


def middle_of(values: tuple[float, ...]) -> float:
    """The middle of repeated readings of one place: their median, which one slip does not move."""
    return float(np.median(values))


def wants_another(values: tuple[float, ...]) -> str:
    """Why one place should be measured once more, or nothing: until two readings agree, the middle one among them."""
    if len(values) < 2 or len(values) >= 5:
        return ""
    middle = sorted(values)[len(values) // 2]
    rest = sorted(abs(v - middle) for v in values)[1]
    if rest <= SPREAD:
        return ""
    return f"{min(values):.2f} and {max(values):.2f} mm are too far apart; measure this place once more."
