"""Infill patterns: stiffness as C r^n of the solid's, their line spacing, and how they print.

Gibson and Ashby, *Cellular Solids* (1997): upright walls loaded along themselves carry in proportion (n = 1);
a triangular lattice stretches (a third of its share in the layer), a hexagonal one bends (1.5 r^3), crossed
strands touch only where they cross (r^2). A grid's two wall families share a load. Typical until measured.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Pattern:
    """One way to fill: stiffness (C, n) ``along`` the build direction and ``across`` it, ``strength`` by each way to
    fail (C, n, whether upright walls carry it and may buckle), the ``families`` of parallel lines that share the
    filament of a layer, its ``speed_share`` against straight lines, and what speaks for it."""

    along: tuple[float, float]
    across: tuple[float, float]
    strength: tuple[tuple[float, float, bool], ...]
    families: float
    speed_share: float
    note: str


_E_OVER_STRENGTH = 40.0  # of common filaments
_OPEN, _FULL = 0.5, 0.97  # share up to which lines stand free, and from which they touch on both sides
PATTERNS: dict[str, Pattern] = {
    "grid": Pattern(
        (1.0, 1.0),
        (0.5, 1.0),
        ((0.5, 1.0, True),),
        2.0,
        1.0,
        "upright walls; stiff along the build",
    ),
    "gyroid": Pattern(
        (0.6, 1.6), (0.6, 1.6), ((0.5, 1.5, False),), 2.0, 0.8, "even in every direction, crosses no line"
    ),
    "triangles": Pattern(
        (1.0, 1.0), (0.333, 1.0), ((0.333, 1.0, True),), 3.0, 1.0, "stiffest in the layer; wide cells under roofs"
    ),
    "honeycomb": Pattern(
        (1.0, 1.0),
        (1.5, 3.0),
        ((1.0, 1.0, True), (0.5, 2.0, False)),
        2.0,
        0.7,
        "crushes well along the build; soft in the layer",
    ),
    "cubic": Pattern(
        (0.45, 1.1), (0.45, 1.1), ((0.33, 1.0, True),), 3.0, 1.0, "slanted walls, even in every direction"
    ),
    "lines": Pattern(
        (0.7, 2.0),
        (0.5, 1.0),
        ((0.35, 2.0, False), (0.5, 1.0, True)),
        1.0,
        1.0,
        "quick; strands touch only where they cross",
    ),
}


def stiffness_share(pattern: str, density: float) -> float:
    """Modulus of the infill over the solid's, the weaker of along and across; from half full on it closes up, and where
    the lines touch on both sides it is as the solid.

    >>> stiffness_share("grid", 1.0)
    1.0
    >>> stiffness_share("triangles", 0.3) < 0.3
    True
    """
    p = PATTERNS[pattern]
    return _closed_up(min(c * density**n for c, n in (p.along, p.across)), density)


def strength_share(pattern: str, density: float) -> float:
    """Strength of the infill over the solid's, the weaker of along and across: what stretches by its density (C r),
    what bends by less (0.5 r^1.5, in the layer of a honeycomb 0.5 r^2), upright walls at most what buckles between
    two crossings, 3.6 E (t / l)^2 (Gibson and Ashby 1997; a plate held at four sides). Typical until measured.

    >>> strength_share("grid", 1.0), round(strength_share("grid", 0.3), 3)
    (1.0, 0.15)
    """
    p = PATTERNS[pattern]
    stands = min(1.0, 3.6 * _E_OVER_STRENGTH * (density / p.families) ** 2)
    return _closed_up(min(c * density**n * (stands if upright else 1.0) for c, n, upright in p.strength), density)


def _closed_up(share: float, density: float) -> float:
    """What a ``share`` of free lines comes to as they close up; never more than the ``density`` until they are full."""
    if density >= _FULL:
        return 1.0
    closed = max((density - _OPEN) / (_FULL - _OPEN), 0.0) ** 2
    return float(min(share + closed * (1 - share), density))


def line_spacing(pattern: str, density: float, line: float) -> float:
    """Clear distance between parallel infill lines, mm; infinite without infill. Each family lays its share."""
    return float("inf") if density <= 0 else PATTERNS[pattern].families * line / density


def density_for(pattern: str, spacing: float, line: float) -> float:
    """Infill share whose lines are ``spacing`` mm apart."""
    return min(PATTERNS[pattern].families * line / spacing, 1.0)
