"""Which materials suit: ranking by duty and place, and what rules one out."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from knollside.core.material.allowables import limits_of
from knollside.core.material.cards import Material
from knollside.core.model import DesignCase, Range, Refused
from knollside.core.strength.discretisation import widened
from knollside.core.strength.field import StressField
from knollside.core.strength.rating import rate


@dataclass(frozen=True)
class Reach:
    """What a printer can do: degrees C, mm."""

    nozzle_max: int = 260
    bed_max: int = 90
    enclosed: bool = False
    hard_nozzle: bool = False


@dataclass(frozen=True)
class MaterialChoice:
    """A material for this duty: its reserve, or the one word and the sentence that rule it out."""

    card: Material
    reserve: Range | None
    out: str
    why: str


def rank_materials(
    field: StressField,
    design_case: DesignCase,
    direction: tuple[float, float, float],
    reach: Reach,
    cards: Iterable[Material],
    as_printed: float = 1.0,
    doubt: float = 0.0,
) -> tuple[MaterialChoice, ...]:
    """Usable ones first, strongest first; the rest with what disqualifies them.

    Reserves use this stress field: for one material stress does not depend on its modulus. ``as_printed`` is what the
    recipe's true tops make of a reserve whose field has tops as thick as its walls (the board's factor); ``doubt`` the
    grid's, a share.
    """
    usable: list[MaterialChoice] = []
    out: list[MaterialChoice] = []
    for card in cards:
        word, why = _ruled_out(card, design_case, reach)
        reserve: Range | None = None
        if not word:
            try:
                limits = limits_of(design_case, card)
                reserve = widened(rate(field, limits, np.array([direction])).range_of(0).times(as_printed), doubt)
            except Refused as refusal:
                word, why = "heat", str(refusal)
        if reserve is not None and reserve.value < 1:
            word, why = "load", f"holds {reserve.value:.1f} times the load"
        stretch = field.greatest_movement * field.modulus / card.modulus.value
        if not word and stretch > 15:
            word, why = "bends", f"would give {stretch:.0f} mm under the load"
        (out if word else usable).append(MaterialChoice(card, reserve, word, why or _told(card)))
    usable.sort(key=lambda c: -(c.reserve.value if c.reserve else 0))
    return (*usable, *out)


def _told(card: Material) -> str:
    """What one should know of a usable material: its note, drying and fumes."""
    words = [card.note]
    if card.hygroscopic and card.dry is not None:
        words.append(f"dry it {card.dry[1]} h at {card.dry[0]} °C")
    if card.fumes:
        words.append("fumes: air the room")
    return "; ".join(words)


def try_first(choices: tuple[MaterialChoice, ...], mine: str) -> str:
    """Whether a first print in a cheaper, easier material pays; empty where the part's own is the easy one."""
    cards = {c.card.name: c.card for c in choices}
    own, easy = cards.get(mine), cards.get("PLA")
    if own is None or easy is None:
        return ""
    if own.price_per_kg < 1.2 * easy.price_per_kg and not (own.fumes or own.hygroscopic or own.enclosed):
        return ""
    gap = own.shrink_percent[1] - easy.shrink_percent[0]
    size = "" if gap < 0.25 else f" Sizes differ by up to {gap:.1f} % between the two: judge reach, not fits."
    times = own.price_per_kg / easy.price_per_kg
    cost = f"{own.name} costs {times:.1f} times as much" if times > 1.05 else f"{own.name} is harder to print"
    return f"{cost}: print one in {easy.name} to see that it fits and reaches; not to be loaded.{size}"


def _ruled_out(card: Material, design_case: DesignCase, reach: Reach) -> tuple[str, str]:
    place = design_case.surroundings
    if place.temperature_c > card.use_below:
        return "heat", f"use below {card.use_below:.0f} °C"
    if place.temperature_c >= card.use_below - 1 and card.creeps and any(c.permanent for c in design_case.cases):
        return "heat", f"{card.use_below:.0f} °C is its limit; it creeps"
    if place.sun and card.sun == "poor":
        return "sun", "chalks and cracks in the sun"
    if place.wet and card.hygroscopic:
        return "rain", "takes up water, then sags"
    if card.nozzle[0] > reach.nozzle_max:
        return "printer", f"nozzle {card.nozzle[0]} °C; this printer gives {reach.nozzle_max}"
    if card.bed[0] > reach.bed_max:
        return "printer", f"bed {card.bed[0]} °C; this printer gives {reach.bed_max}"
    if card.enclosed and not reach.enclosed:
        return "printer", "wants a closed chamber"
    if card.hard_nozzle and not reach.hard_nozzle:
        return "nozzle", "grinds a soft nozzle; fit a hardened one"
    return "", ""
