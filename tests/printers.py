"""Printers whose truth is not the model's: what they do to sizes, and what a person reads of them.

Nothing here comes from the fit's own priors. A truth is any number of habits of :class:`Habits`; bars are printed,
read with a calliper, dated, and the size of the next print is foretold and then printed.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from knollside.core.fit.process import PrintSetting, Process, process_of
from knollside.core.model import Measurement

SIZES = (3.0, 4.0, 5.0, 6.0, 8.0, 10.0, 12.0, 15.0)
DAY = date(2026, 6, 1)
ALL = "small+oval+prints+drift+grows+zero+jaws+slips"
TRUTHS = ("linear", "small", "oval", "prints", "drift", "shrinks", "grows", "zero", "jaws", "slips", ALL)


@dataclass(frozen=True)
class Habits:
    """One printer and calliper: what it loses, shrink, loss by 1/d, X over Y, scatter between prints, drift a week,
    scatter of a place and its growth, the calliper's zero and jaw lands, how often a reading slips."""

    loses: float
    shrink: float
    small: float
    oval: float
    prints: float
    drift: float
    scatter: float
    grows: float
    zero: float
    jaws: float
    slips: float

    def size(self, d: float, along: str, weeks: float) -> float:
        lean = {"x": 0.5, "y": -0.5, "": 0.0}[along] * self.oval
        return d * (1 + self.shrink + lean) - self.loses - self.small / d + self.drift * weeks

    def read(self, true: float, rng: np.random.Generator) -> float:
        got = np.sqrt(true**2 - self.jaws**2) + self.zero + rng.normal(0, 0.006)
        if rng.random() < self.slips:
            got += rng.choice([-1, 1]) * rng.uniform(0.1, 0.5)
        return round(float(got), 2)


def habits(truth: str, rng: np.random.Generator) -> Habits:
    has = set(truth.split("+"))

    def sign() -> float:
        return float(rng.choice([-1, 1]))

    return Habits(
        loses=rng.uniform(0.02, 0.34),
        shrink=-0.015 if "shrinks" in has else rng.normal(-0.002, 0.002),
        small=rng.uniform(0.2, 0.6) if "small" in has else 0.0,
        oval=0.004 * ("oval" in has),
        prints=0.04 * ("prints" in has),
        drift=0.03 * sign() * ("drift" in has),
        scatter=rng.uniform(0.012, 0.028),
        grows=rng.uniform(0.002, 0.005) if "grows" in has else 0.0,
        zero=0.05 * sign() * ("zero" in has),
        jaws=1.0 * ("jaws" in has),
        slips=0.1 * ("slips" in has),
    )


@dataclass(frozen=True)
class Outcome:
    """Foretold and come: whether nine in ten held one hole of the next print, its error, and half the interval."""

    held: bool
    error: float
    half: float


def bars_of(h: Habits, bars: int, rng: np.random.Generator) -> list[Measurement]:
    out = []
    for k in range(bars):
        of_print = rng.normal(0, h.prints)
        for i, d in enumerate(SIZES):
            along = "xy"[(i + k) % 2] if h.oval else ""
            true = h.size(d, along, k) + of_print + rng.normal(0, h.scatter + h.grows * d)
            out.append(
                Measurement(
                    kind="hole",
                    axis="upright",
                    drawn=d,
                    printed=h.read(true, rng),
                    bar=f"bar {k + 1}",
                    on=DAY + timedelta(weeks=k),
                    across=along,
                )
            )
    if h.zero or h.jaws:
        for d in (4.0, 8.0) if h.jaws else (6.0,):
            got = round(float(np.sqrt(d**2 - h.jaws**2) + h.zero + rng.normal(0, 0.006)), 2)
            out.append(Measurement(kind="known hole", axis="upright", drawn=d, printed=got))
    return out


def fitted(h: Habits, bars: int, rng: np.random.Generator) -> Process:
    return process_of(bars_of(h, bars, rng), "upright", PrintSetting(0.4, 0.2, DAY + timedelta(weeks=bars)))


def outcomes(truth: str, bars: int, runs: int, seed: int) -> list[Outcome]:
    """So many printers of one truth: ``bars`` bars a week apart, and one hole of the print a week later."""
    rng = np.random.default_rng(seed)
    out = []
    for _ in range(runs):
        h = habits(truth, rng)
        shift_of = fitted(h, bars, rng)
        d, along = float(rng.uniform(3.5, 13)), "xy"[rng.integers(2)] if h.oval else ""
        shift = shift_of.shift("hole", d, along)
        mean = h.size(d, along, bars) + rng.normal(0, h.prints)
        came = mean + rng.normal(0, h.scatter + h.grows * d) - d
        out.append(Outcome(shift.low <= came <= shift.high, shift.value - (h.size(d, along, bars) - d), shift.half))
    return out
