"""What printing does to the bond between layers: nozzle heat, fan, layer time, nozzle kind, layer height.

Strands weld by how long their faces stay hot (reptation; Wool and O'Connor 1981): colder, blown on, slower back
or pressed less, they weld less. The slopes are typical of ours, with wide ranges, until pull tests at two
settings give the person's own. A card's bond belongs to the middle of its nozzle range and its usual fan.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from knollside.core.material.cards import CurveOver, Material, OwnCurve
from knollside.core.model import Range

PER_DEGREE = 0.012  # share of the bond lost per degree C under the middle of the card's range
_LEAST = 0.2  # what the low end of any one reason leaves: past it our slopes say nothing, and no bond is none
HARD_NOZZLE_C = 8.0  # a hardened nozzle passes heat on less well: as if set so much colder (4 to 15)
_FAN = 0.20  # lost from the usual fan to a full one (0.1 to 0.35)
_PER_DOUBLING = 0.04  # lost each time the layer time doubles past half a minute
_SOON_S = 30.0
_PRESSED = 0.5  # of the nozzle's bore: layers up to here are pressed on fully


@dataclass(frozen=True)
class BondSetting:
    """How it is printed; None where nothing is said: degrees C, a share of the fan, s a layer, and the layer height
    over the nozzle's bore."""

    nozzle_c: float | None = None
    fan: float | None = None
    layer_s: float | None = None
    hard_nozzle: bool = False
    over_nozzle: float | None = None


@dataclass(frozen=True)
class BondShare:
    """What is left of the bond for one reason, with the (low, high) of it."""

    name: str
    left: Range
    why: str


def usual_nozzle(card: Material) -> float:
    """Nozzle heat a card supposes, degrees C: the middle of its range."""
    return 0.5 * (card.nozzle[0] + card.nozzle[1])


def usual_fan(card: Material) -> float:
    """Usual fan of a material: closed chambers go without, stiff cool ones full."""
    return 0.1 if card.enclosed else 1.0 if card.name == "PLA" else 0.5


def bond_at(card: Material, nozzle_c: float) -> float:
    """What is left of the card's bond at a nozzle temperature, a share; hotter than the middle gains nothing.

    >>> from knollside.core.material.cards import material
    >>> bond_at(material("PETG"), 300.0)
    1.0
    """
    return max(1.0 - PER_DEGREE * max(usual_nozzle(card) - nozzle_c, 0.0), _LEAST)


def height_share(ratio: float) -> float:
    """What is left of the bond at a layer height over the nozzle's bore, a share: thick layers are pressed less.

    >>> height_share(0.2 / 0.4), height_share(0.3 / 0.4)
    (1.0, 0.875)
    """
    return max(1.0 - 0.5 * max(ratio - _PRESSED, 0.0), 0.5)


def own_curve(card: Material, over: CurveOver, hard_nozzle: bool) -> OwnCurve | None:
    """The person's own pull tests over a setting with this kind of nozzle."""
    return next((c for c in card.bond_curves if (c.over, c.hard_nozzle) == (over, hard_nozzle)), None)


def on_curve(card: Material, at: BondSetting) -> Range | None:
    """The bond by the person's own pull tests at this heat; None where they are not of this nozzle or no heat is said.
    Past the last heat its low end is less by twice the typical slope."""
    curve = own_curve(card, "nozzle temperature", at.hard_nozzle)
    if curve is None or at.nozzle_c is None:
        return None
    found, past = curve.at(at.nozzle_c), curve.past(at.nozzle_c)
    words = f"yours, pulled {past:.0f} °C from it" if past else f"yours, pulled at {len(curve.points)} heats"
    return Range(found.value, found.low * max(1 - 2 * PER_DEGREE * past, _LEAST), found.high, words)


def _pulled(curve: OwnCurve, place: float, usual: float) -> Range:
    """What is left at a place of a curve of what there is at the usual one, a share. Both are told by bars of one
    study, and their doubts are taken as if they were not."""
    here, there = curve.at(place), curve.at(usual)
    left = here.value / there.value
    low = math.hypot(math.log(here.value / here.low), math.log(there.high / there.value))
    high = math.hypot(math.log(here.high / here.value), math.log(there.value / there.low))
    return Range(left, left * math.exp(-low), left * math.exp(high), "yours")


def _fan_share(card: Material, at: BondSetting) -> BondShare | None:
    """What the fan leaves: by bars pulled at several, else typical past the usual one."""
    usual = usual_fan(card)
    if at.fan is None:
        return None
    curve = own_curve(card, "fan", at.hard_nozzle)
    if curve is not None:
        words = f"{at.fan * 100:.0f} %, pulled at {len(curve.points)} fans"
        return BondShare("Fan", _pulled(curve, at.fan, usual), words) if at.fan != usual else None
    if at.fan <= usual:
        return None
    x = (at.fan - usual) / max(1 - usual, 1e-9)
    return BondShare("Fan", Range(1 - _FAN * x, 1 - 0.35 * x, 1 - 0.1 * x), f"{at.fan * 100:.0f} %")


def _height_share(card: Material, at: BondSetting) -> BondShare | None:
    """What a layer's height leaves: by bars pulled at several, else typical of layers that are pressed less."""
    if at.over_nozzle is None:
        return None
    curve = own_curve(card, "layer height", at.hard_nozzle)
    if curve is not None:
        words = f"{at.over_nozzle * 100:.0f} % of the bore, pulled at {len(curve.points)} heights"
        return BondShare("Layer height", _pulled(curve, at.over_nozzle, _PRESSED), words)
    lost = 1 - height_share(at.over_nozzle)
    if lost <= 0:
        return None
    thick = Range(1 - lost, max(1 - 2 * lost, _LEAST), 1 - 0.3 * lost)
    return BondShare("Thick layers", thick, f"{at.over_nozzle * 100:.0f} % of the bore")


def shares(card: Material, at: BondSetting) -> tuple[BondShare, ...]:
    """Every reason by which this setting weakens the bond; none where it is as the card supposes, nor for heat that the
    person's own pull tests speak of."""
    out = []
    told = on_curve(card, at) is not None
    hard = HARD_NOZZLE_C if at.hard_nozzle and not card.hard_nozzle else 0.0
    if not told and (at.nozzle_c is not None or hard):
        asked = usual_nozzle(card) if at.nozzle_c is None else at.nozzle_c
        left = bond_at(card, asked - hard)
        if left < 1:
            lost = 1 - left
            why = f"{asked:.0f} °C" + (f", a hardened nozzle: as {asked - hard:.0f} °C" if hard else "")
            out.append(BondShare("Nozzle heat", Range(left, max(1 - 2 * lost, _LEAST), 1 - 0.5 * lost), why))
    blown, pressed = _fan_share(card, at), _height_share(card, at)
    if blown is not None:
        out.append(blown)
    if at.layer_s is not None and at.layer_s > _SOON_S:
        lost = min(_PER_DOUBLING * math.log2(at.layer_s / _SOON_S), 0.3)
        out.append(BondShare("Slow layers", Range(1 - lost, 1 - 2 * lost, 1.0), f"{at.layer_s:.0f} s a layer"))
    if pressed is not None:
        out.append(pressed)
    return tuple(out)


def with_setting(card: Material, at: BondSetting) -> Material:
    """The card with its bond as this setting leaves it; its own doubt and the slopes' add in quadrature."""
    found, own = shares(card, at), on_curve(card, at)
    if own is not None:
        card = replace(card, bond=own)
    if not found:
        return card
    b = card.bond
    middle = min(b.value * math.prod(s.left.value for s in found), 1.0)
    low = math.hypot(math.log(b.low / b.value), *(math.log(s.left.low / s.left.value) for s in found))
    high = math.hypot(math.log(b.high / b.value), *(math.log(s.left.high / s.left.value) for s in found))
    left = Range(middle, middle * math.exp(-low), min(middle * math.exp(high), 1.0), b.source)
    return replace(card, bond=left)
