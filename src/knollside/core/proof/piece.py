"""Test pieces: what they are made of, what to measure or try on them, and what they cannot tell (T2)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from manifold3d import Manifold as Solid

from knollside.core.mesh.solid import mesh_of
from knollside.core.model import Mesh, Refused

SEGMENTS = 96


@dataclass(frozen=True)
class Spot:
    """One place to measure: kind and axis as a :class:`Measurement` has them, drawn size in mm, where it is on the
    piece as printed, and how to hold the calliper."""

    name: str
    kind: str
    drawn: float
    at: tuple[float, float, float]
    axis: str = "upright"

    @property
    def how(self) -> str:
        """How to hold the calliper there, in words."""
        if self.kind in ("known hole", "known outside"):
            jaws = "Small jaws" if self.kind == "known hole" else "Large jaws"
            return f"{jaws}, as you measure a print: what they are off by is taken off your readings."
        if self.kind == "foot":
            return "Tips of the large jaws at the very bottom, on the bed's side; the largest of three places."
        if self.axis == "plumb":
            return "Small jaws, from the floor straight up to the roof; the least reading."
        if self.axis == "lying" and self.kind == "hole":
            return "Small jaws, level across at mid height; rock it, the largest reading."
        if self.kind == "hole":
            return "Small jaws, rock it, keep the largest reading."
        return "Large jaws, half-way up, keep the smallest reading."


# Things of known size that many have at hand (ISO 15 bearings to 0.01 mm), to tell what a calliper is off by.
KNOWN = (
    Spot("bore of a 608 bearing", "known hole", 8.0, (0.0, 0.0, 0.0)),
    Spot("bore of a 624 bearing", "known hole", 4.0, (0.0, 0.0, 0.0)),
    Spot("outside of a 624 bearing", "known outside", 13.0, (0.0, 0.0, 0.0)),
    Spot("outside of a 608 bearing", "known outside", 22.0, (0.0, 0.0, 0.0)),
)


@dataclass(frozen=True)
class GapStep:
    """One gap to try: its number of notches, the direction, the drawn gap a side, mm, and where it is."""

    number: int
    direction: str
    drawn: float
    at: tuple[float, float, float]


@dataclass(frozen=True)
class TestPiece:
    """A piece ready to print as it lies, with its measuring slip."""

    name: str
    title: str
    mesh: Mesh
    spots: tuple[Spot, ...]
    gap_steps: tuple[GapStep, ...]
    about: str
    cannot: str


def box(x0: float, x1: float, y0: float, y1: float, z0: float, z1: float) -> Solid:
    """A block from corner to corner, mm."""
    return Solid.cube((x1 - x0, y1 - y0, z1 - z0)).translate((x0, y0, z0))


def rod(d: float, length: float, sides: int = SEGMENTS) -> Solid:
    """A cylinder along +Z from the origin."""
    return Solid.cylinder(length, d / 2, circular_segments=sides)


def notches(count: int, x: float, y: float, z0: float, z1: float) -> list[Solid]:
    """So many grooves cut into an edge along X at ``y``, to tell one place from another."""
    return [box(x + 1.6 * k - 0.4, x + 1.6 * k + 0.4, y - 0.8, y + 0.8, z0 - 1, z1 + 1) for k in range(count)]


def placed(*solids: Solid) -> Mesh:
    """Bodies side by side as one mesh, its lowest point on the bed."""
    mesh = mesh_of(Solid.compose(list(solids)))
    low = mesh.bounds[0]
    return Mesh(mesh.vertices - np.array([0.0, 0.0, low[2]]), mesh.faces)


def gap_steps_of(middle: float, count: int, step: float) -> list[float]:
    """Gaps in equal steps round a middle one, none under 0.05 mm."""
    if not 0.05 <= middle <= 2:
        raise Refused(f"{middle:.2f} mm is no gap to make a ladder of: 0.05 to 2 mm.")
    first = max(middle - step * (count // 2), 0.05)
    return [round(first + step * k, 3) for k in range(count)]
