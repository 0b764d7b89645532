"""What the workshop knows that makes a cause likelier or less likely: factors on its odds, each with its reason.

Factors are *typical* and rounded; None means not known, and moves nothing.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from pydantic import Field

from knollside.core.model import Record
from knollside.core.model.faults import Cause as C
from knollside.core.model.running import EventKind, FirstLayer

SHORT_S, LONG_S = 9.0, 20.0  # seconds a layer: too few to set, plenty
ROOF_MM = 0.8
RECENT = 4  # days that a change is still likely behind it


class Known(Record):
    """Of the print and its printer. ``water``: of the spool, over what harms; ``nozzle_hours``: worn, counted as with
    plain filament on brass; ``changed``: what was done last at the printer within :data:`RECENT` days; ``rested`` days
    before; ``fan`` a share; ``degrees_off``: nozzle heat less the card's usual; ``warps``: how much the material does,
    0 to 1; ``chamber``: it is kept warm; ``layer_s``: seconds of a layer at the place; ``hangs``: an overhang is at the
    place that needs more than it has; ``supported``; ``gap_off``: mm the support's gap is wider than what was settled;
    ``roof_mm``; ``at_start``: the place is at the bed."""

    water: float | None = Field(None, ge=0, le=1000)
    nozzle_hours: float | None = Field(None, ge=0, le=1e6)
    changed: EventKind | None = None
    rested: int | None = Field(None, ge=0, le=100_000)
    first_layer: FirstLayer = ""
    fan: float | None = Field(None, ge=0, le=1)
    degrees_off: float | None = Field(None, ge=-200, le=200)
    warps: float | None = Field(None, ge=0, le=1)
    chamber: bool | None = None
    layer_s: float | None = Field(None, ge=0, le=1e6)
    hangs: bool | None = None
    supported: bool | None = None
    gap_off: float | None = Field(None, ge=-5, le=5)
    roof_mm: float | None = Field(None, ge=0, le=1000)
    at_start: bool | None = None


@dataclass(frozen=True)
class Shift:
    """A cause's odds are ``factor`` times the typical ones, because of ``why``."""

    cause: C
    factor: float
    why: str


_CHANGES: dict[EventKind, dict[C, float]] = {
    "nozzle": {C.LEAK: 4, C.HIGH_START: 3, C.LOW_START: 3, C.WORN: 0.1, C.CLOG: 0.5},
    "sheet": {C.HIGH_START: 2.5, C.LOW_START: 2.5, C.GREASE: 0.5},
    "belt": {C.SLACK: 0.4, C.CROOKED: 2},
    "firmware": {C.MUCH_FLOW: 2, C.LITTLE_FLOW: 2, C.STALL: 2, C.JERKY: 2},
    "moved": {C.CROOKED: 2, C.HIGH_START: 2, C.LOW_START: 2, C.DRAUGHT: 2, C.SLACK: 1.5},
    "cleaned": {C.GREASE: 0.4, C.LITTLE_FAN: 0.4},
    "levelled": {C.HIGH_START: 0.5, C.LOW_START: 0.5},
    "adhesive": {C.GREASE: 0.5},
    "square": {C.CROOKED: 0.2},
    "first use": {C.CROOKED: 2, C.SLACK: 2, C.HIGH_START: 2, C.LOW_START: 2},
}
_DONE: dict[EventKind, str] = {
    "nozzle": "the nozzle was changed",
    "sheet": "the sheet was changed",
    "belt": "the belts were tightened",
    "firmware": "the firmware is new",
    "moved": "the printer was moved",
    "cleaned": "it was cleaned",
    "levelled": "its first-layer height was set",
    "adhesive": "the sheet got adhesive",
    "square": "its frame was measured",
    "first use": "the printer is new",
}


def shifts(k: Known) -> tuple[Shift, ...]:
    """Every factor that what is known gives."""
    return (*_of_filament(k), *_of_printer(k), *_of_place(k), *_of_supports(k))


def shifted(odds: Mapping[C, float], known: Known) -> dict[C, float]:
    """Odds of causes times what is known."""
    out = dict(odds)
    for s in shifts(known):
        out[s.cause] *= s.factor
    total = sum(out.values())
    return {c: v / total for c, v in out.items()}


def _of_filament(k: Known) -> list[Shift]:
    out = []
    if k.water is not None:
        factor = 4.0 if k.water >= 1 else 1.5 if k.water >= 0.6 else 0.25
        wet = f"the spool holds {k.water:.1f} times the water that harms"
        out.append(Shift(C.WET, factor, wet if k.water >= 0.6 else "the spool is dry"))
    if k.degrees_off is not None and abs(k.degrees_off) >= 6:
        word = "hotter" if k.degrees_off > 0 else "cooler"
        why = f"the nozzle is {abs(k.degrees_off):.0f} °C {word} than usual"
        near, far = (C.HOT, C.COLD) if k.degrees_off > 0 else (C.COLD, C.HOT)
        out += [Shift(near, 3.0, why), Shift(far, 0.3, why)]
    if k.warps is not None:
        if k.warps >= 0.5 and not k.chamber:
            out.append(Shift(C.DRAUGHT, 2.5, "this material warps, and nothing keeps it warm"))
        elif k.warps < 0.3 or k.chamber:
            why = "it is kept warm" if k.chamber else "this material hardly warps"
            out.append(Shift(C.DRAUGHT, 0.4, why))
    return out


def _of_printer(k: Known) -> list[Shift]:
    out = []
    if k.nozzle_hours is not None:
        worn = 4.0 if k.nozzle_hours >= 400 else 0.3 if k.nozzle_hours < 150 else 1.0
        if worn != 1.0:
            out.append(Shift(C.WORN, worn, f"its nozzle has printed {k.nozzle_hours:.0f} h"))
    if k.changed is not None:
        out += [Shift(c, f, f"{_DONE[k.changed]} a short while ago") for c, f in _CHANGES[k.changed].items()]
    if k.rested is not None and k.rested >= 30:
        why = f"it rested for {k.rested} days"
        out += [Shift(C.CLOG, 2.0, why), Shift(C.GREASE, 1.5, why), Shift(C.WET, 1.5 if k.water is None else 1.0, why)]
    if k.fan is not None:
        why = f"the fan is at {100 * k.fan:.0f} %"
        if k.fan <= 0.3:
            out += [Shift(C.LITTLE_FAN, 2.5, why), Shift(C.MUCH_FAN, 0.15, why)]
        elif k.fan >= 0.7:
            out += [Shift(C.LITTLE_FAN, 0.4, why), Shift(C.MUCH_FAN, 2.0, why)]
    if k.first_layer:
        out += _of_first_layer(k.first_layer)
    return out


def _of_first_layer(said: FirstLayer) -> list[Shift]:
    factors: dict[FirstLayer, dict[C, float]] = {
        "right": {C.HIGH_START: 0.2, C.LOW_START: 0.2, C.GREASE: 0.7},
        "too high": {C.HIGH_START: 8.0, C.LOW_START: 0.1},
        "too low": {C.LOW_START: 8.0, C.HIGH_START: 0.1},
        "lifting": {C.GREASE: 2.5, C.COLD_BED: 2.5, C.HIGH_START: 1.5},
    }
    return [Shift(c, f, f"its first layer was {said}") for c, f in factors.get(said, {}).items()]


def _of_place(k: Known) -> list[Shift]:
    out = []
    if k.layer_s is not None:
        why = f"a layer there takes {k.layer_s:.0f} s"
        if k.layer_s < SHORT_S:
            out.append(Shift(C.SHORT_LAYERS, 4.0, why))
        elif k.layer_s > LONG_S:
            out.append(Shift(C.SHORT_LAYERS, 0.15, why))
    if k.hangs is not None:
        why = "an overhang there needs more than it has" if k.hangs else "nothing hangs in the air there"
        out.append(Shift(C.STEEP, 3.5 if k.hangs else 0.2, why))
    if k.roof_mm is not None:
        why = f"the roof is {k.roof_mm:.1f} mm"
        out.append(Shift(C.THIN_ROOF, 2.5 if k.roof_mm < ROOF_MM else 0.5, why))
    if k.at_start:
        out += [Shift(c, 1.5, "it is at the bed") for c in (C.HIGH_START, C.LOW_START, C.GREASE, C.HOT_BED)]
        out += [Shift(c, 0.3, "it is at the bed") for c in (C.SHORT_LAYERS, C.STRUCK, C.THIN_ROOF)]
    return out


def _of_supports(k: Known) -> list[Shift]:
    out = []
    if k.supported is False:
        none = "it has no supports"
        out += [Shift(c, 0.03, none) for c in (C.NEAR_SUPPORT, C.FAR_SUPPORT, C.SUPPORT_FOOT)]
    elif k.gap_off is not None and abs(k.gap_off) >= 0.03:
        why = f"its gap is {abs(k.gap_off):.2f} mm {'wider' if k.gap_off > 0 else 'narrower'} than what was settled"
        near, far = (C.FAR_SUPPORT, C.NEAR_SUPPORT) if k.gap_off > 0 else (C.NEAR_SUPPORT, C.FAR_SUPPORT)
        out += [Shift(near, 3.0, why), Shift(far, 0.3, why)]
    return out
