"""Stiffness and strength of infill patterns: C r^n of the solid's.

Gibson and Ashby, *Cellular Solids* (1997): upright walls loaded along
themselves carry in proportion (n = 1); sheet and strut networks bend (n up to 2).
A grid's two wall families share a load in the layer; typical until measured.
"""

from __future__ import annotations

# pattern: (C, n) along the build direction, (C, n) in the layer, strength exponent
_PATTERNS = {
    "grid": ((1.0, 1.0), (0.5, 1.0), 1.5),
    "gyroid": ((0.6, 1.6), (0.6, 1.6), 1.7),
}


def stiffness_share(pattern: str, density: float) -> float:
    """Modulus of the infill over the solid's, the weaker of along and across."""
    if density >= 1:
        return 1.0
    along, across, _ = _PATTERNS[pattern]
    return min(along[0] * density ** along[1], across[0] * density ** across[1])


def strength_share(pattern: str, density: float) -> float:
    """Crushing or tearing strength of the infill over the solid's."""
    return 1.0 if density >= 1 else 0.5 * density ** _PATTERNS[pattern][2]
