"""A printer's supports with hidden thresholds: how a gap comes off it is told one trial at a time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.model.trials import Outcome, RoofPattern, SupportTrial


@dataclass(frozen=True)
class SimulatedSupports:
    """Welds up to ``welds`` mm and lifts from ``lifts`` on, each half of the time, with logistic ``scatter``; a full
    fan in place of none shifts both by ``fan``, slow roofs by ``slow``, a
    solid roof of the support by ``solid`` (a grid by half of that); some outcomes are told ``wrongly``."""

    welds: float = 0.15
    lifts: float = 0.27
    scatter: float = 0.012
    fan: float = -0.05
    slow: float = 0.02
    solid: float = 0.03
    wrongly: float = 0.0

    def _shift(self, fan: float, slow: bool, pattern: RoofPattern) -> float:
        of = {"lines": 0.0, "grid": 0.5, "solid": 1.0}[pattern]
        return self.fan * (fan - 0.5) + (self.slow if slow else 0.0) + of * self.solid

    def chance(self, gap: float, fan: float = 0.5, slow: bool = False, pattern: RoofPattern = "lines") -> float:
        """True chance that a gap comes off clean."""
        at = gap - self._shift(fan, slow, pattern)
        welded = 1 / (1 + np.exp((at - self.welds) / self.scatter))
        lifted = 1 / (1 + np.exp((self.lifts - at) / self.scatter))
        return float(max(1 - welded - lifted, 0.0))

    def tried(
        self,
        gap: float,
        rng: np.random.Generator,
        fan: float = 0.5,
        slow: bool = False,
        pattern: RoofPattern = "lines",
    ) -> SupportTrial:
        """One support printed with that gap and taken off."""
        at = gap - self._shift(fan, slow, pattern) + float(rng.logistic(0, self.scatter))
        outcome: Outcome = "welded" if at < self.welds else "lifted" if at > self.lifts else "clean"
        if rng.random() < self.wrongly:
            outcome = "clean" if outcome != "clean" else "welded"
        force = float(np.clip(8 * np.exp(-(at - self.welds) / 0.08) * rng.lognormal(0, 0.2), 0.2, 80))
        return SupportTrial(
            gap_mm=gap,
            fan=fan,
            slow=slow,
            pattern=pattern,
            outcome=outcome,
            force_N=round(force, 1),
            source="simulated",
        )


def some_supports(rng: np.random.Generator) -> SimulatedSupports:
    """As printers come: evenly spread, not as the program supposes."""
    welds = float(rng.uniform(0.04, 0.24))
    return SimulatedSupports(
        welds, welds + float(rng.uniform(0.05, 0.22)), float(rng.uniform(0.005, 0.02)), float(rng.uniform(-0.12, 0.0))
    )


def supports_named(name: str) -> SimulatedSupports:
    """The hidden supports of a printer and material, the same every time."""
    return some_supports(np.random.default_rng(sum(name.encode()) + 11))
