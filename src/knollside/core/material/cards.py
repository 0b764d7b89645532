"""Material cards: typical values of filament as printed at home, each with its range.

Source: docs/methods.md 2.1 (ranges as printed, not resin data sheets). A person's own
values replace a card's, visibly.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np

from knollside.core.model import Range, Refused

CurveOver = Literal["nozzle temperature", "fan", "layer height"]


@dataclass(frozen=True)
class OwnCurve:
    """The bond by the person's own pull tests with one kind of nozzle: ``points`` (place, bond), rising, over degrees
    C, a share of the fan, or the layer height over the nozzle's bore."""

    over: CurveOver
    hard_nozzle: bool
    points: tuple[tuple[float, Range], ...]

    def at(self, place: float) -> Range:
        """The bond there: between two points in proportion, past the last one as at it."""
        x = [p for p, _ in self.points]
        value, low, high = (
            float(np.interp(place, x, [getattr(r, end) for _, r in self.points])) for end in ("value", "low", "high")
        )
        return Range(value, low, high, "yours")

    def past(self, place: float) -> float:
        """How far a place lies beyond the points; nothing between them."""
        return max(self.points[0][0] - place, place - self.points[-1][0], 0.0)


@dataclass(frozen=True)
class Material:
    """One filament. Stresses MPa, temperatures degrees C, density g/cm3."""

    name: str
    density: float
    modulus: Range
    pull: Range
    bond: Range
    softens: float
    use_below: float
    nozzle: tuple[int, int]
    bed: tuple[int, int]
    dry: tuple[int, int] | None
    sun: str
    shrink_percent: tuple[float, float]
    enclosed: bool = False
    hard_nozzle: bool = False
    fumes: bool = False
    hygroscopic: bool = False
    creeps: bool = False
    flexible: bool = False
    price_per_kg: float = 20.0
    note: str = ""
    snap: Range = field(default_factory=lambda: Range(2.5, 1.5, 4.0))  # strain in % that one snap may reach
    brittle_below: float = -10.0  # degrees under which it breaks rather than gives, typical
    bond_curves: tuple[OwnCurve, ...] = ()
    model_along: Range | None = None  # how far parts break off what is foretold, along a layer, by own breaks
    model_across: Range | None = None  # and across the layers

    @property
    def basis(self) -> tuple[float, float]:
        """MPa that a break is foretold with: along a layer, and across the layers."""
        along, across = (1.0 if m is None else m.value for m in (self.model_along, self.model_across))
        return self.pull.value * self.bond.value * along, self.pull.value * across


def _card(
    name: str,
    density: float,
    e: tuple[float, float],
    pull: tuple[float, float],
    bond: tuple[float, float],
    soft: tuple[float, float],
    nozzle: tuple[int, int],
    bed: tuple[int, int],
    dry: tuple[int, int] | None,
    sun: str,
    shrink: tuple[float, float],
    note: str,
    price: float,
    **flags: Any,
) -> Material:
    def middle(r: tuple[float, float]) -> Range:
        return Range((r[0] + r[1]) / 2, r[0], r[1], "typical")

    return Material(
        name,
        density,
        middle(e),
        middle(pull),
        middle(bond),
        soft[0],
        soft[1],
        nozzle,
        bed,
        dry,
        sun,
        shrink,
        price_per_kg=price,
        note=note,
        snap=Range(*_SNAP.get(name, (2.5, 1.5, 4.0))),
        brittle_below=_BRITTLE[name],
        **flags,
    )


# Strain (%) one snap may reach: middle, low, high. Typical of printed parts, about half of what moulded ones
# of the same plastic are given in snap-fit design; seasonal or daily snapping takes the stair's fatigue tread.
_SNAP = {
    "PLA": (1.5, 1.0, 2.2),
    "PETG": (3.0, 2.0, 4.5),
    "ABS": (2.5, 1.6, 3.5),
    "ASA": (2.5, 1.6, 3.5),
    "PC": (3.0, 2.0, 4.0),
    "Nylon": (5.0, 3.0, 8.0),
    "Nylon + carbon": (1.5, 0.9, 2.2),
    "PETG + carbon": (1.4, 0.9, 2.0),
    "TPU 95A": (30.0, 18.0, 45.0),
    "PP": (8.0, 5.0, 12.0),
}


# Degrees C under which it breaks rather than gives, typical: near the glass temperature of a soft part of it, or where
# notched bars are known to turn brittle.
_BRITTLE = {
    "PLA": 10.0,
    "PETG": -10.0,
    "ABS": -20.0,
    "ASA": -20.0,
    "PC": -25.0,
    "Nylon": -10.0,
    "Nylon + carbon": -10.0,
    "PETG + carbon": 0.0,
    "TPU 95A": -30.0,
    "PP": 0.0,
}


MATERIALS: dict[str, Material] = {
    m.name: m
    for m in (
        _card(
            "PLA",
            1.24,
            (2600, 3500),
            (45, 60),
            (0.5, 0.8),
            (57, 45),
            (190, 220),
            (50, 60),
            (45, 6),
            "poor",
            (0.2, 0.3),
            "stiff, creeps, brittle",
            20,
            creeps=True,
        ),
        _card(
            "PETG",
            1.27,
            (1500, 2100),
            (40, 50),
            (0.5, 0.75),
            (79, 65),
            (230, 250),
            (70, 85),
            (65, 6),
            "fair",
            (0.2, 0.4),
            "tough, strings",
            21,
        ),
        _card(
            "ABS",
            1.04,
            (1700, 2300),
            (30, 42),
            (0.4, 0.7),
            (103, 85),
            (230, 260),
            (95, 110),
            (75, 4),
            "poor",
            (0.4, 0.8),
            "wants a closed chamber",
            20,
            enclosed=True,
            fumes=True,
        ),
        _card(
            "ASA",
            1.07,
            (1700, 2200),
            (30, 45),
            (0.4, 0.7),
            (100, 85),
            (240, 260),
            (95, 110),
            (80, 4),
            "good",
            (0.4, 0.7),
            "stands the sun, wants a closed chamber",
            27,
            enclosed=True,
            fumes=True,
        ),
        _card(
            "PC",
            1.20,
            (2000, 2400),
            (55, 68),
            (0.5, 0.75),
            (145, 115),
            (260, 300),
            (100, 120),
            (100, 8),
            "fair",
            (0.5, 0.8),
            "strong, curls, wants a hot chamber",
            38,
            enclosed=True,
        ),
        _card(
            "Nylon",
            1.08,
            (900, 1800),
            (40, 60),
            (0.6, 0.8),
            (160, 80),
            (240, 280),
            (70, 100),
            (80, 12),
            "poor",
            (0.8, 1.5),
            "tough, slides well, drinks water",
            42,
            hygroscopic=True,
        ),
        _card(
            "Nylon + carbon",
            1.17,
            (3500, 6500),
            (60, 90),
            (0.3, 0.5),
            (170, 120),
            (260, 290),
            (80, 110),
            (80, 12),
            "fair",
            (0.2, 0.4),
            "stiff, weak between layers; dust",
            60,
            hard_nozzle=True,
            hygroscopic=True,
        ),
        _card(
            "PETG + carbon",
            1.30,
            (3000, 4500),
            (45, 60),
            (0.4, 0.6),
            (79, 65),
            (240, 260),
            (70, 85),
            (65, 8),
            "fair",
            (0.1, 0.3),
            "stiffer, weaker between layers; dust",
            35,
            hard_nozzle=True,
        ),
        _card(
            "TPU 95A",
            1.21,
            (25, 70),
            (25, 40),
            (0.8, 0.95),
            (90, 60),
            (220, 235),
            (40, 60),
            (55, 8),
            "fair",
            (0.3, 0.6),
            "flexes, prints slowly",
            32,
            flexible=True,
        ),
        _card(
            "PP",
            0.90,
            (900, 1300),
            (20, 30),
            (0.6, 0.9),
            (110, 80),
            (220, 245),
            (85, 85),
            None,
            "poor",
            (1.0, 2.0),
            "living hinges, chemicals; grips the bed badly",
            35,
        ),
    )
}
_OTHER_NAMES = {"PA": "Nylon", "PA + carbon": "Nylon + carbon", "TPU": "TPU 95A"}


def material(name: str) -> Material:
    """The card of that name; raises :class:`Refused` naming the ones there are.

    >>> material("petg").name
    'PETG'
    """
    known = {k.lower(): m for k, m in MATERIALS.items()}
    found = known.get(_OTHER_NAMES.get(name, name).lower())
    if found is None:
        raise Refused(f"No material called '{name}'. There are: {', '.join(MATERIALS)}.")
    return found


def with_bond(card: Material, bond: Range | None) -> Material:
    """The card with the person's own bond ratio in place of the typical one."""
    return card if bond is None else replace(card, bond=bond)
