"""The whole loop on the simulated workshop: print a bar, measure, correct, print the part, measure: does it fit?"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from knollside.core.fit.correction import correct
from knollside.core.fit.process import learn
from knollside.core.model import Feature, Mate, Measurement
from knollside.sim.desk import SimulatedCalliper, SimulatedPrinter, some_printer

UP = (0.0, 0.0, 1.0)


@dataclass(frozen=True)
class LoopFigures:
    """Of many seeded runs: the mean error after correction, mm (bias), its spread, the share of nine-in-ten intervals
    that held the printed hole, the mean chance to fit foretold and the share that did fit, and both by bands of
    chance."""

    runs: int
    mean_error: float
    spread: float
    within: float
    foretold: float
    fitted: float
    by_chance: tuple[tuple[float, float, int], ...]


def run_loops(
    runs: int = 1000,
    holes: int = 8,
    seed: int = 20261124,
    make: Callable[[np.random.Generator], SimulatedPrinter] = some_printer,
) -> LoopFigures:
    """Each run is another printer that ``make`` draws, another bar of ``holes`` holes, and one corrected hole with a
    rod of its size."""
    rng = np.random.default_rng(seed)
    calliper = SimulatedCalliper()
    errors, held, chance, fits = [], [], [], []
    for _ in range(runs):
        printer = make(rng)
        sizes = rng.uniform(3, 12, holes)
        taken = [
            Measurement(
                kind="hole",
                axis="upright",
                drawn=float(d),
                printed=calliper.read(printer.printed("hole", "upright", float(d), rng), rng),
            )
            for d in sizes
        ]
        drawn = float(rng.uniform(4, 11))
        f = Feature("hole-1", "hole", (0, 0, 0), UP, np.zeros(0, np.int64), 0.0, drawn, 8.0, True, 64)
        fit = ("snug", "slide", "free")[int(rng.integers(3))]
        # Windows of every width, so that all chances come up, not only the good ones.
        low = {"snug": 0.0, "slide": 0.15, "free": 0.35}[fit]
        window = (low, low + float(rng.uniform(0.01, 0.16)))
        c = correct(f, Mate(feature="hole-1", hardware=f"rod {drawn:.3f} mm", fit=fit, window=window), UP, taken)
        errors.append(printer.true_size("hole", "upright", c.to_mm) - c.target.size)
        shift = learn(taken, "hole", "upright", c.to_mm)
        out = printer.printed("hole", "upright", c.to_mm, rng)
        held.append(shift.low <= out - c.to_mm <= shift.high)
        chance.append(c.chance_then[1])
        fits.append(c.target.low <= out <= c.target.high)
    p, y = np.array(chance), np.array(fits, float)
    bins = []
    for low, high in ((0, 0.4), (0.4, 0.6), (0.6, 0.8), (0.8, 0.95), (0.95, 1.01)):
        inside = (p >= low) & (p < high)
        if inside.sum() >= 20:
            bins.append((float(p[inside].mean()), float(y[inside].mean()), int(inside.sum())))
    return LoopFigures(
        runs,
        float(np.mean(errors)),
        float(np.std(errors)),
        float(np.mean(held)),
        float(p.mean()),
        float(y.mean()),
        tuple(bins),
    )
