"""What finishing does to a fit: paint, primer and sanding, by surface (F8)."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.model import Mate

# Typical thickness a coat and side, mm, with its one sigma (docs/methods.md 7.5: 0.03 to 0.1 mm).
FINISHES: dict[str, tuple[float, float]] = {
    "none": (0.0, 0.0),
    "primer": (0.05, 0.015),
    "paint": (0.06, 0.02),
    "primer and paint": (0.11, 0.025),
    "sanded": (-0.05, 0.025),
}


@dataclass(frozen=True)
class Coat:
    """What lies on a surface, mm a side (negative: taken off), and its one sigma."""

    name: str
    mm: float
    sigma: float
    source: str


def coat_of(mate: Mate) -> Coat | None:
    """The finish of a mate's surfaces, or None where they stay bare. A person's own thickness replaces the typical."""
    if mate.finish == "none" and mate.finish_mm is None:
        return None
    typical, sigma = FINISHES[mate.finish]
    if mate.finish_mm is None:
        return Coat(mate.finish, typical, sigma, "typical")
    return Coat(mate.finish, mate.finish_mm, 0.2 * abs(mate.finish_mm), "yours")
