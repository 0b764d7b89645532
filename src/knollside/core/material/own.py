"""A person's own values of a material card, each with its range and where it comes from."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

from pydantic import Field, model_validator

from knollside.core.material.cards import CurveOver, Material, OwnCurve
from knollside.core.model import Range, Record

FieldName = Literal["pull", "modulus", "bond", "snap", "density", "softens", "use_below", "price_per_kg"]


@dataclass(frozen=True)
class CardField:
    """A value of the card that can be a person's own: what it is called, its unit, the least and most that make
    sense, and whether it carries a range."""

    words: str
    unit: str
    least: float
    most: float
    ranged: bool
    decimals: int


FIELDS: dict[FieldName, CardField] = {
    "pull": CardField("Pull, in the layer", "MPa", 1, 500, True, 0),
    "modulus": CardField("Stiffness", "MPa", 5, 50_000, True, 0),
    "bond": CardField("Bond across layers", "", 0.05, 1.0, True, 2),
    "snap": CardField("Strain one snap may reach", "%", 0.2, 100, True, 1),
    "density": CardField("Density", "g/cm³", 0.3, 4.0, False, 2),
    "softens": CardField("Softens at", "°C", 40, 400, False, 0),
    "use_below": CardField("Use below", "°C", 20, 390, False, 0),
    "price_per_kg": CardField("Price a kilogram", "", 0.5, 2000, False, 2),
}


class OwnValue(Record):
    """One value with its range (low = value = high where it has none) and its source in the person's words."""

    value: float = Field(gt=0, le=100_000)
    low: float = Field(gt=0, le=100_000)
    high: float = Field(gt=0, le=100_000)
    note: str = Field("", max_length=120)

    @model_validator(mode="after")
    def _ordered(self) -> OwnValue:
        if not self.low <= self.value <= self.high:
            raise ValueError("the value lies outside its own range")
        return self


class BondPoint(Record):
    """The bond that pull tests gave at a level, nine in ten between its ends."""

    at: float = Field(ge=0, le=600)
    value: float = Field(gt=0, le=1)
    low: float = Field(gt=0, le=1)
    high: float = Field(gt=0, le=1)

    @model_validator(mode="after")
    def _ordered(self) -> BondPoint:
        if not self.low <= self.value <= self.high:
            raise ValueError("the value lies outside its own range")
        return self


class BondCurve(Record):
    """The bond by pull tests over nozzle heat (degrees C), fan (a share) or layer height (over the nozzle's bore), with
    a hard nozzle or a plain one."""

    over: CurveOver = "nozzle temperature"
    hard_nozzle: bool = False
    points: tuple[BondPoint, ...] = Field(min_length=1, max_length=60)

    @property
    def of(self) -> tuple[str, bool]:
        """What there is one curve of."""
        return self.over, self.hard_nozzle


class OwnCard(Record):
    """All values of one material that are the person's own, their windows of fit classes (least, most gap, mm), and the
    bond by pull tests."""

    values: dict[FieldName, OwnValue] = Field(default_factory=dict, max_length=20)
    windows: dict[str, tuple[float, float]] = Field(default_factory=dict, max_length=20)
    bond_curves: tuple[BondCurve, ...] = Field((), max_length=6)

    @model_validator(mode="before")
    @classmethod
    def _one_curve(cls, told: Any) -> Any:
        """Cards stored before 2026-11-29 had one curve, over heat."""
        if not isinstance(told, dict) or "bond_curve" not in told:
            return told
        rest = {k: v for k, v in told.items() if k not in ("bond_curve", "curve_hard_nozzle")}
        points = [{("at" if k == "celsius" else k): v for k, v in dict(p).items()} for p in told["bond_curve"]]
        curve = {"points": points, "hard_nozzle": told.get("curve_hard_nozzle", False)}
        return rest | ({"bond_curves": [curve]} if points else {})

    @model_validator(mode="after")
    def _one_of_each(self) -> OwnCard:
        if len({c.of for c in self.bond_curves}) < len(self.bond_curves):
            raise ValueError("one curve of the bond for each setting and kind of nozzle")
        return self

    def with_curve(self, made: BondCurve) -> OwnCard:
        """The card with a curve in place of the one it had of that."""
        others = tuple(c for c in self.bond_curves if c.of != made.of)
        return self.model_copy(update={"bond_curves": (*others, made)})


def _curve(made: BondCurve) -> OwnCurve:
    points = [(p.at, Range(p.value, p.low, p.high, "yours")) for p in sorted(made.points, key=lambda p: p.at)]
    return OwnCurve(made.over, made.hard_nozzle, tuple(points))


def with_own(card: Material, own: OwnCard | None) -> Material:
    """The card with the person's values in place of typical ones; ranges say that they are ``yours``."""
    if own is not None and own.bond_curves:
        card = replace(card, bond_curves=tuple(_curve(c) for c in own.bond_curves))
    if own is None or not own.values:
        return card
    change: dict[str, object] = {}
    for name, v in own.values.items():
        change[name] = Range(v.value, v.low, v.high, "yours") if FIELDS[name].ranged else v.value
    made = replace(card, **change)  # type: ignore[arg-type]
    # A limit of use above the softening point would let a soft part pass.
    return made if made.use_below < made.softens else replace(made, use_below=made.softens - 1)


def shown_value(card: Material, name: FieldName) -> Range:
    """A card's value as a range, with its source."""
    v = getattr(card, name)
    return v if isinstance(v, Range) else Range(float(v), float(v), float(v))
