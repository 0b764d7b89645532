"""A simulated printer and calliper with hidden true behaviour, so that every loop can be run on a desk."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.proof.piece import GapStep, Spot


@dataclass(frozen=True)
class SimulatedPrinter:
    """What this printer really does, mm; the program is never told.

    Shifts are of diameters, stated near 5 mm; shrink acts on the rest. ``sag``: how much lower a lying hole's roof is;
    ``flare``: the foot's growth a side; ``frees`` and ``frees_across``: drawn gaps that come free half the time.
    """

    hole_shift: float = -0.21
    pin_shift: float = 0.03
    lying_extra: float = -0.08
    shrink: float = 0.997
    scatter: float = 0.018
    sag: float = 0.17
    flare: float = 0.19
    frees: float = 0.24
    frees_across: float = 0.21

    def true_size(self, kind: str, axis: str, drawn: float) -> float:
        """What such a hole, pin or foot comes out at on average."""
        if kind.startswith("known"):
            return drawn
        shift = self.hole_shift if kind == "hole" else self.pin_shift
        shift += self.lying_extra if axis != "upright" else 0.0
        shift -= self.sag if axis == "plumb" else 0.0
        shift += 2 * self.flare if kind == "foot" else 0.0
        return drawn + shift + (self.shrink - 1) * (drawn - 5)

    def printed(self, kind: str, axis: str, drawn: float, rng: np.random.Generator) -> float:
        """True size of one printed hole, pin or foot; a thing of known size is what it is."""
        if kind.startswith("known"):
            return drawn
        return self.true_size(kind, axis, drawn) + float(rng.normal(0, self.scatter))

    def came_free(self, gap_step: GapStep, rng: np.random.Generator) -> bool:
        """Whether one gap of a ladder let go."""
        limit = self.frees if gap_step.direction == "in the layer" else self.frees_across
        return bool(gap_step.drawn > limit + float(rng.normal(0, 0.02)))


@dataclass(frozen=True)
class SimulatedCalliper:
    """Reads with its own small error and rounds to its step."""

    error: float = 0.008
    step: float = 0.01

    def read(self, size: float, rng: np.random.Generator) -> float:
        return round(round((size + float(rng.normal(0, self.error))) / self.step) * self.step, 4)


@dataclass(frozen=True)
class SimulatedFrame:
    """A frame that is off: printed over drawn along X and Y, degrees by which Y leans towards X, and how much wider an
    outside comes out, mm."""

    scale_x: float
    scale_y: float
    skew: float
    wider: float

    def square(self, drawn_x: float, drawn_y: float) -> tuple[float, float, float, float]:
        """Sides along X and Y and the rising and falling diagonal of a printed square, mm."""
        lean = np.radians(self.skew)
        x = np.array([drawn_x * self.scale_x, 0.0])
        y = drawn_y * self.scale_y * np.array([np.sin(lean), np.cos(lean)])
        sides = [float(np.linalg.norm(v)) + self.wider for v in (x, y)]
        across = [float(np.linalg.norm(v)) + self.wider * 2**0.5 for v in (x + y, x - y)]
        return sides[0], sides[1], across[0], across[1]


def frame_named(name: str) -> SimulatedFrame:
    """The simulated frame of a printer, the same every time."""
    rng = np.random.default_rng(sum(name.encode()) + 7)
    scales = rng.normal(1.0, 0.0015, 2)
    return SimulatedFrame(float(scales[0]), float(scales[1]), float(rng.normal(0, 0.35)), float(rng.normal(0.04, 0.05)))


@dataclass(frozen=True)
class PrintedPiece:
    """One print of a test piece on a simulated printer: the same piece, measured twice, is the same size."""

    printer: SimulatedPrinter
    seed: int

    def size(self, spot: Spot) -> float:
        rng = np.random.default_rng([self.seed, *spot.name.encode()])
        return self.printer.printed(spot.kind, spot.axis, spot.drawn, rng)

    def read(self, spot: Spot, times: int) -> float:
        """What the calliper shows the ``times``-th time it is put there."""
        return SimulatedCalliper().read(self.size(spot), np.random.default_rng([self.seed, times, *spot.name.encode()]))

    def came_free(self, gap_step: GapStep) -> bool:
        return self.printer.came_free(
            gap_step, np.random.default_rng([self.seed, gap_step.number, len(gap_step.direction)])
        )


PRINTERS = {
    "Old Tom": SimulatedPrinter(),
    "The Brick": SimulatedPrinter(-0.14, 0.05, -0.06, 0.996, 0.015, 0.12, 0.11, 0.19, 0.17),
}


def printer_named(name: str) -> SimulatedPrinter:
    """The simulated twin of a printer; one of its own for a name it does not know."""
    if name in PRINTERS:
        return PRINTERS[name]
    return some_printer(np.random.default_rng(sum(name.encode())))


def some_printer(rng: np.random.Generator) -> SimulatedPrinter:
    """A printer as they come: each hidden value drawn from what home printers spread over."""
    return SimulatedPrinter(
        hole_shift=float(rng.normal(-0.18, 0.08)),
        pin_shift=float(rng.normal(0.04, 0.06)),
        lying_extra=float(rng.normal(-0.09, 0.04)),
        shrink=float(rng.normal(0.998, 0.002)),
        scatter=float(np.clip(rng.lognormal(np.log(0.02), 0.3), 0.008, 0.06)),
        sag=float(np.clip(rng.normal(0.15, 0.05), 0.02, 0.4)),
        flare=float(np.clip(rng.normal(0.16, 0.06), 0.0, 0.4)),
        frees=float(np.clip(rng.normal(0.28, 0.06), 0.1, 0.5)),
        frees_across=float(np.clip(rng.normal(0.17, 0.05), 0.05, 0.4)),
    )
