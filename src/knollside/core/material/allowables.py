"""From table strength to the value used: the stair of docs/methods.md 2.1.

Each step multiplies; each carries a range and a source. Ranges combine in
quadrature of their logarithms (independent doubts).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from knollside.core.material.cards import Material
from knollside.core.model import TEN_YEARS, YEAR, Danger, DesignCase, LoadCase, Range, Refused, Surroundings

ROOM = 25.0
_PULL_H = 0.01  # hours that a pull test lasts
_COLD = 20.0  # degrees from where a plastic starts to turn brittle to where it is
MODEL_DOUBT = (
    0.25  # of the reserve itself until own breaks tell: how a print is filled, loads set, failure judged; typical
)


TYPICAL_MODEL = Range(1.0, 1 - MODEL_DOUBT, 1 + MODEL_DOUBT)


@dataclass(frozen=True)
class KnockDown:
    """One factor on strength, with its reason."""

    name: str
    factor: Range
    why: str


@dataclass(frozen=True)
class Allowables:
    """What a layer-built part may carry, MPa: ``pull`` and ``press`` in the layer, ``apart`` across
    layers, ``shear`` between them; ``spread`` the (low, high) factors of the combined doubt of pull
    and of apart. ``by_strain``: the case moves something by a stated way, so that stress follows strain."""

    tension: float
    compression: float
    interlayer: float
    shear: float
    in_plane_spread: tuple[float, float]
    interlayer_spread: tuple[float, float]
    knock_downs: tuple[KnockDown, ...]
    bond: Range
    table: Range
    by_strain: bool = False
    model_along: Range | None = None
    model_across: Range | None = None

    @property
    def limits(self) -> tuple[float, float, float, float, float]:
        """(apart, shear, pull, press, yield) for the rating kernel."""
        return self.interlayer, self.shear, self.tension, self.compression, self.tension


def temperature_factor(card: Material, celsius: float) -> Range:
    """Strength left at a temperature: all at room heat, none at softening (docs/methods.md 2.3).

    Between, a printed thermoplastic falls slowly then fast; the straight line
    is the low end of the range. Refuses at or above softening.
    """
    if celsius >= card.softens:
        raise Refused(
            f"{card.name} softens at {card.softens:.0f} °C; at {celsius:.0f} °C it carries nothing. "
            "Choose another material or a cooler place."
        )
    if celsius <= ROOM:
        return Range(1.0, 1.0, 1.0)
    x = (celsius - ROOM) / (card.softens - ROOM)
    return Range(1 - x**1.3, 1 - x, 1 - x**2)


def steps_for(card: Material, place: Surroundings, case: LoadCase) -> tuple[KnockDown, ...]:
    """The knock-downs that this material, place and load case call for."""
    out: list[KnockDown] = []
    if place.temperature_c > ROOM:
        warm = place.temperature_c > card.use_below
        out.append(
            KnockDown(
                f"At {place.temperature_c:.0f} °C",
                temperature_factor(card, place.temperature_c),
                f"above its limit of {card.use_below:.0f} °C" if warm else f"none left at {card.softens:.0f} °C",
            )
        )
    if case.permanent:
        out.append(
            KnockDown(
                "Always loaded", long_term(card, case.lasting_h), f"creep to rupture, {time_words(case.lasting_h)}"
            )
        )
    if case.repeated:
        back = ", back and forth" if case.stress_ratio < -0.5 else ""
        why = f"fatigue, {case.cycles or 1000:,.0f} times{back}"
        out.append(KnockDown("Many times", fatigue(case.cycles or 1000.0, case.stress_ratio), why))
    if place.cold < card.brittle_below:
        out.append(KnockDown("In the cold", brittle(card, place.cold, case.knocked), f"at {place.cold:.0f} °C"))
    if case.knocked and not case.falls_mm:  # a fall is worked out in the load itself
        out.append(KnockDown("Knocked", Range(0.80, 0.60, 0.95), "a sudden load bites deeper"))
    if place.wet and card.hygroscopic:
        out.append(KnockDown("Wet", Range(0.70, 0.55, 0.85), "takes up water and softens"))
    if place.sun:
        left = {"poor": Range(0.65, 0.45, 0.85), "fair": Range(0.85, 0.70, 0.95), "good": Range(0.95, 0.9, 1.0)}
        out.append(KnockDown("Weathered", left[card.sun], f"sun: {card.sun}"))
    return tuple(out)


def long_term(card: Material, hours: float) -> Range:
    """Strength left under a load that lasts ``hours``: it falls by about as much with each tenfold of time, from that
    of a pull of half a minute to 0.33 after ten years (0.25 to 0.4; 0.3 and 0.2 for what creeps), the usual design
    range of unfilled plastics."""
    tens = max(math.log10(hours / _PULL_H), 0.0) / math.log10(TEN_YEARS / _PULL_H)
    after = Range(0.30, 0.20, 0.40) if card.creeps else Range(0.33, 0.25, 0.40)
    middle, low, high = (max(1 - (1 - v) * tens, 0.05) for v in (after.value, after.low, after.high))
    return Range(middle, low, high)


def time_words(hours: float) -> str:
    """A time in plain words.

    >>> time_words(1.0), time_words(24.0), time_words(87600.0)
    ('1 hour', '1 day', '10 years')
    """
    units = ("year", YEAR), ("month", 730.0), ("day", 24.0), ("hour", 1.0)
    unit, size = next(((u, s) for u, s in units if hours >= 0.95 * s), units[-1])
    count = f"{hours / size:.2g}"
    return f"{count} {unit}{'' if count == '1' else 's'}"


def fatigue(cycles: float, stress_ratio: float = 0.0) -> Range:
    """Strength left, of the greatest load, after ``cycles`` loads between it and ``stress_ratio`` times it.

    Where the load goes fully in between, a tenth is lost each tenfold, 0.7 left at a thousand (typical of unfilled
    thermoplastics, stress against the logarithm of cycles), with a range that widens with the count; any other mean
    stress by Goodman's line (1899). Notches need no factor of their own: stress is averaged over the critical distance,
    which is what notch sensitivity stands for (R. E. Peterson 1959; D. Taylor 1999).

    >>> round(fatigue(1000.0).value, 2), round(fatigue(1000.0, -1.0).value, 2), round(fatigue(1000.0, 0.5).value, 2)
    (0.7, 0.54, 0.82)
    """
    tens = math.log10(max(cycles, 1.0))
    middle = max(1 - 0.1 * tens, 0.25)
    low, high = max(1 - 0.165 * tens, 0.15), max(1 - 0.05 * tens, middle)
    return Range(_goodman(middle, stress_ratio), _goodman(low, stress_ratio), _goodman(high, stress_ratio))


def _goodman(pulsating: float, stress_ratio: float) -> float:
    """Greatest stress, a share of strength, of a ``stress_ratio``, from that of a load which goes fully: amplitude over
    the reversed endurance and mean over strength make one."""
    reversed_ = 1 / (2 / pulsating - 1)
    return 1 / ((1 - stress_ratio) / (2 * reversed_) + (1 + stress_ratio) / 2)


def brittle(card: Material, celsius: float, knocked: bool) -> Range:
    """Strength left below where a plastic turns brittle, all of it lost that is lost within twenty degrees: a steady
    load finds less give at every flaw, a knock finds hardly any. Typical, and wide."""
    depth = min(max(card.brittle_below - celsius, 0.0) / _COLD, 1.0)
    middle, low, high = (0.55, 0.35, 0.80) if knocked else (0.85, 0.70, 1.0)
    return Range(1 - (1 - middle) * depth, 1 - (1 - low) * depth, 1 - (1 - high) * depth)


def combine(parts: list[Range]) -> tuple[float, float, float]:
    """Product of the middles, and the low and high factors around it."""
    middle = math.prod(p.value for p in parts)
    low = math.sqrt(sum(math.log(max(p.low, 1e-6) / p.value) ** 2 for p in parts))
    high = math.sqrt(sum(math.log(p.high / p.value) ** 2 for p in parts))
    return middle, math.exp(-low), math.exp(high)


def allowables(
    card: Material, place: Surroundings, case: LoadCase, own: Mapping[str, float] | None = None
) -> Allowables:
    """Strengths for one load case. Shear between layers is taken as apart / sqrt(3) (von Mises,
    until measured); pressing gets no more than pulling. ``treads`` replaces factors by name.

    A case that moves something by a stated way is judged by strain: the table value is then the card's snap
    strain times its modulus, the stress an elastic solve shows at that strain.
    """
    own = own or {}
    knock_downs = tuple(
        s if s.name not in own else KnockDown(s.name, Range(own[s.name], own[s.name], own[s.name], "yours"), s.why)
        for s in steps_for(card, place, case)
    )
    # What moves by a stated way is judged by strain: breaks under a load say nothing of it.
    table = card.snap.times(card.modulus.value / 100) if case.bends else card.pull
    own_model = (None, None) if case.bends else (card.model_along, card.model_across)
    return _held(table, card.bond, knock_downs, case.bends, *own_model)


def _held(
    table: Range,
    bond: Range,
    knock_downs: tuple[KnockDown, ...],
    by_strain: bool,
    along: Range | None,
    across: Range | None,
) -> Allowables:
    factors = [s.factor for s in knock_downs]
    tension, low, high = _by_model([table], across, factors)
    interlayer, alow, ahigh = _by_model([table, bond], along, factors)
    return Allowables(
        tension,
        tension,
        interlayer,
        interlayer / math.sqrt(3),
        (low, high),
        (alow, ahigh),
        knock_downs,
        bond,
        table,
        by_strain,
        along,
        across,
    )


def _by_model(parts: list[Range], model: Range | None, factors: list[Range]) -> tuple[float, float, float]:
    """Product and spread: by typical doubts of table, bond and model, or by what own breaks leave of all three."""
    if model is None:
        return combine([*parts, TYPICAL_MODEL, *factors])
    middle = math.prod(p.value for p in parts) * math.prod(f.value for f in factors) * model.value
    _, low, high = combine([model, *factors])
    return middle, low, high


def as_printed(a: Allowables) -> Allowables:
    """The same strengths with every knock-down taken off: as the print is on the bench, new, cool, dry, loaded once."""
    return _held(a.table, a.bond, (), a.by_strain, a.model_along, a.model_across)


def limits_of(design_case: DesignCase, card: Material) -> tuple[Allowables, ...]:
    """What each load case of a duty may ask of the material; cases without a load are passed over."""
    return tuple(allowables(card, design_case.surroundings, c, design_case.own_knock_downs) for c in design_case.loaded)


def target_reserve(design_case: DesignCase) -> float:
    """Needed reserve by duty: 2 ordinary, 3 knocked or repeated, 4 where someone may stand below.

    >>> target_reserve(DesignCase()), target_reserve(DesignCase(danger=Danger.BELOW))
    (2.0, 4.0)
    """
    if design_case.danger is Danger.BELOW:
        return 4.0
    if any(c.knocked or c.repeated for c in design_case.cases):
        return 3.0
    return 2.0


def withheld(design_case: DesignCase) -> str | None:
    """Why no verdict is given, or None. A person's safety is never judged here."""
    if design_case.danger is Danger.PERSON:
        return (
            "No verdict: a part that a person's safety hangs on is for licensed practice and tested "
            "hardware, not for a home print. The stresses are shown; no reserve is blessed."
        )
    return None
