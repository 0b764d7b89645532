"""A simulated printer and calliper with hidden true behaviour, so that every loop can be run on a desk."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class SimulatedPrinter:
    """What this printer really does to diameters, mm; the program is never told."""

    hole_shift: float = -0.21
    pin_shift: float = 0.03
    lying_extra: float = -0.08
    shrink: float = 0.997
    scatter: float = 0.018

    def printed(self, kind: str, axis: str, drawn: float, rng: np.random.Generator) -> float:
        """True size of one printed hole or pin."""
        shift = self.hole_shift if kind == "hole" else self.pin_shift
        shift += self.lying_extra if axis == "lying" else 0.0
        # Shifts are stated near 5 mm; shrink acts on the rest.
        return drawn + shift + (self.shrink - 1) * (drawn - 5) + float(rng.normal(0, self.scatter))


@dataclass(frozen=True)
class SimulatedCalliper:
    """Reads with its own small error and rounds to its step."""

    error: float = 0.008
    step: float = 0.01

    def read(self, size: float, rng: np.random.Generator) -> float:
        return round(round((size + float(rng.normal(0, self.error))) / self.step) * self.step, 4)


PRINTERS = {"Old Tom": SimulatedPrinter(), "The Brick": SimulatedPrinter(-0.14, 0.05, -0.06, 0.996, 0.015)}


def printer_named(name: str) -> SimulatedPrinter:
    """The simulated twin of a printer; one of its own for a name it does not know."""
    if name in PRINTERS:
        return PRINTERS[name]
    rng = np.random.default_rng(sum(name.encode()))
    return SimulatedPrinter(float(rng.uniform(-0.3, -0.08)), float(rng.uniform(-0.02, 0.08)))
