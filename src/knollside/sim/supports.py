"""A printer's supports with hidden thresholds: how a gap comes off it is told one trial at a time."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from knollside.core.model.trials import Outcome, RoofPattern, SupportTrial

ROOF = (20.0, 20.0)  # mm, of the piece to try where no face of the part is held


@dataclass(frozen=True)
class SimulatedSupports:
    """Welds up to ``welds`` mm and lifts from ``lifts`` on, each half of the time, with logistic ``scatter``; a full
    fan in place of none shifts both by ``fan``, slow roofs by ``slow``, a
    solid roof of the support by ``solid`` (a grid by half of that); some outcomes are told ``wrongly``.

    It takes ``bite`` newtons a square millimetre at 0.2 mm: with the width to the power ``width`` and with the depth up
    to some ``reach``; over the gap by a power law or by halves every ``fall`` mm."""

    welds: float = 0.15
    lifts: float = 0.27
    scatter: float = 0.012
    fan: float = -0.05
    slow: float = 0.02
    solid: float = 0.03
    wrongly: float = 0.0
    bite: float = 0.5
    width: float = 0.9
    reach: float = 4.0
    fall: float = 0.12
    power: bool = False

    def _shift(self, fan: float, slow: bool, pattern: RoofPattern) -> float:
        of = {"lines": 0.0, "grid": 0.5, "solid": 1.0}[pattern]
        return self.fan * (fan - 0.5) + (self.slow if slow else 0.0) + of * self.solid

    def chance(self, gap: float, fan: float = 0.5, slow: bool = False, pattern: RoofPattern = "lines") -> float:
        """True chance that a gap comes off clean."""
        at = gap - self._shift(fan, slow, pattern)
        welded = 1 / (1 + np.exp((at - self.welds) / self.scatter))
        lifted = 1 / (1 + np.exp((self.lifts - at) / self.scatter))
        return float(max(1 - welded - lifted, 0.0))

    def takes(self, gap: float, roof: tuple[float, float] = ROOF, density: float = 0.15) -> float:
        """Newtons that a support under such a roof takes on average, short and long side in mm."""
        short, long = roof
        deep = self.reach * (1 - math.exp(-long / self.reach))
        over = ((0.2 + 0.1) / (gap + 0.1)) ** (0.2 / self.fall) if self.power else 2 ** ((0.2 - gap) / self.fall)
        front = 10 * (short / 10) ** self.width * deep * min(1.0, 0.25 + 2.2 * density)
        return float(self.bite * front * over)

    def tried(
        self,
        gap: float,
        rng: np.random.Generator,
        fan: float = 0.5,
        slow: bool = False,
        pattern: RoofPattern = "lines",
        roof: tuple[float, float] = ROOF,
        density: float = 0.15,
    ) -> SupportTrial:
        """One support printed with that gap and taken off."""
        at = gap - self._shift(fan, slow, pattern) + float(rng.logistic(0, self.scatter))
        outcome: Outcome = "welded" if at < self.welds else "lifted" if at > self.lifts else "clean"
        if rng.random() < self.wrongly:
            outcome = "clean" if outcome != "clean" else "welded"
        force = float(np.clip(self.takes(gap, roof, density) * math.exp(0.2 * rng.standard_t(5)), 0.1, 400))
        return SupportTrial(
            gap_mm=gap,
            fan=fan,
            slow=slow,
            pattern=pattern,
            outcome=outcome,
            force_N=round(force, 1),
            roof_mm=roof,
            density=density,
            source="simulated",
        )


def some_supports(rng: np.random.Generator) -> SimulatedSupports:
    """As printers come: evenly spread, not as the program supposes."""
    welds = float(rng.uniform(0.04, 0.24))
    made = SimulatedSupports(
        welds, welds + float(rng.uniform(0.05, 0.22)), float(rng.uniform(0.005, 0.02)), float(rng.uniform(-0.12, 0.0))
    )
    return replace(
        made,
        bite=float(np.exp(rng.uniform(math.log(0.15), math.log(0.9)))),
        width=float(rng.uniform(0.8, 1.1)),
        reach=float(rng.uniform(2.5, 6.0)),
        fall=float(rng.uniform(0.07, 0.16)),
        power=bool(rng.random() < 0.5),
    )


def supports_named(name: str) -> SimulatedSupports:
    """The hidden supports of a printer and material, the same every time."""
    return some_supports(np.random.default_rng(sum(name.encode()) + 11))
