"""Bars that break with a hidden bond over nozzle heat, from print runs that differ, with grips that slip."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.model.trials import Pull


@dataclass(frozen=True)
class SimulatedBond:
    """Strength along the layers MPa; the share of it across them: rises to ``best`` with a soft knee at ``knee`` C,
    falls off past ``burns``; ``spread`` of single bars at the knee's foot and its top, and from run to run; ``slips``:
    share of bars whose grip lets go."""

    along: float = 48.0
    best: float = 0.72
    knee: float = 228.0
    soft: float = 7.0
    burns: float = 262.0
    spread: tuple[float, float] = (0.10, 0.06)
    run: float = 0.05
    slips: float = 0.02

    def share(self, celsius: float) -> float:
        """True bond over strength along the layers, on average."""
        rise = 1 / (1 + np.exp(-(celsius - self.knee) / self.soft))
        return float(self.best * rise * (1 - 0.0006 * max(celsius - self.burns, 0.0) ** 2))

    def pull(
        self, celsius: float, run: int, rng: np.random.Generator, area: float = 24.0, standing: bool = True
    ) -> Pull:
        """One bar of a print run."""
        rise = 1 / (1 + np.exp(-(celsius - self.knee) / self.soft))
        spread = self.spread[0] * (1 - rise) + self.spread[1] * rise
        of_run = float(np.random.default_rng([run, int(1000 * self.best)]).normal(0, self.run))
        share = self.share(celsius) if standing else 1.0
        true = self.along * share * np.exp(of_run + rng.normal(0, spread if standing else 0.03))
        slipped = rng.random() < self.slips
        load = true * area * (float(rng.uniform(0.5, 0.9)) if slipped else 1.0)
        mode = "along a layer" if standing else "across the layers"
        return Pull.model_validate(
            {
                "level": celsius,
                "load_N": round(float(load), 1),
                "area_mm2": area,
                "run": run,
                "standing": standing,
                "mode": mode,
                "source": "simulated",
            }
        )


def bond_named(name: str) -> SimulatedBond:
    """The hidden bond of a printer and material, the same every time."""
    rng = np.random.default_rng(sum(name.encode()) + 3)
    return SimulatedBond(
        along=float(rng.uniform(40, 55)),
        best=float(rng.uniform(0.55, 0.85)),
        knee=float(rng.uniform(218, 234)),
        soft=float(rng.uniform(4, 9)),
        burns=float(rng.uniform(252, 270)),
    )
