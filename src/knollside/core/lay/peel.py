"""Force to take a support off: typical of printed thermoplastics until trials of one's own tell it.

A support is peeled, not torn off whole: a front of it, ``FRONT_MM`` deep over its width, lets go at a time. What the
front bears falls exponentially with the gap. Log of the felt force over front and density is a line over the gap with
normal and inverse-gamma prior (Gelman et al., *Bayesian Data Analysis*, 14); the next force is Student's t, widened by
what front and density leave out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.special import stdtrit

from knollside.core.model import Range
from knollside.core.model.trials import SupportTrial
from knollside.core.units import two_digits

PEEL_MPA = 0.4  # of touching support at the front where it comes off
GAP_MM = 0.2  # the top gap that peel strength belongs to
FRONT_MM = 5.0  # depth of that front
_HALVES = 0.1  # mm of gap that halve it
_LEVEL = 0.45  # one sigma of the typical strength's log
_FALL = 0.25  # and of the fall's, over one such step
_SCATTER, _WORTH = 0.25, 4.0  # of two alike, hand and scale in it; trials that this is worth
_LAW = 0.2  # of the log: what front and density leave out when another place is held
_MOST = 8.0  # times typical: at a gap of nought it is a weld, whatever the line says


@dataclass(frozen=True)
class Peel:
    """Log of strength in MPa at ``GAP_MM`` and its fall for each step of the gap: means (2,), covariance over the
    scatter's square ((2, 2), as rows), that scatter and its degrees of freedom; so many ``trials`` told it."""

    mean: tuple[float, float] = (math.log(PEEL_MPA), -math.log(2))
    spread: tuple[tuple[float, float], tuple[float, float]] = (
        ((_LEVEL / _SCATTER) ** 2, 0.0),
        (0.0, (_FALL / _SCATTER) ** 2),
    )
    scatter: float = _SCATTER
    freedom: float = _WORTH
    trials: int = 0

    def force(self, area: float, wide: float, gap: float, density: float) -> Range:
        """Newtons to peel a support off ``area`` mm2 that is ``wide`` mm across, nine in ten of such places."""
        at = np.array([1.0, (gap - GAP_MM) / _HALVES])
        log = float(at @ np.array(self.mean))
        wide_by = math.hypot(self.scatter * math.sqrt(1 + float(at @ np.array(self.spread) @ at)), _LAW)
        half = float(stdtrit(self.freedom, 0.95)) * wide_by
        most = math.log(_MOST * PEEL_MPA)
        front = front_of(area, wide, density)
        value, low, high = (front * math.exp(v) for v in (min(log, most), min(log - half, most), log + half))
        source = f"yours, {self.trials} trial{'s' if self.trials > 1 else ''}" if self.trials else "typical"
        return Range(value, low, high, source)


def front_of(area: float, wide: float, density: float) -> float:
    """Touching mm2 that let go at a time: ``density`` is the support's, which its interface layers partly even out."""
    return min(area, FRONT_MM * wide) * min(1.0, 2 * density + 0.3)


def newtons(force: Range) -> str:
    """A force in words, no finer than a hand tells it."""
    return f"{two_digits(force.low)} to {two_digits(force.high)} N ({force.source})"


def learn_peel(trials: Sequence[SupportTrial]) -> Peel:
    """What felt forces of supports that came off say. A welded one was torn, not peeled, and a trial without a force or
    the size of its roof cannot tell."""
    told = [t for t in trials if t.force_N and t.roof_mm is not None and t.outcome != "welded"]
    prior = Peel()
    if not told:
        return prior
    x = np.array([(1.0, (t.gap_mm - GAP_MM) / _HALVES) for t in told])
    y = np.array([_log_strength(t) for t in told])
    mean, before = np.array(prior.mean), np.linalg.inv(np.array(prior.spread))
    after = before + x.T @ x
    found = np.linalg.solve(after, before @ mean + x.T @ y)
    # The least squares that are left, of the trials and of the prior's own place.
    rest, off = y - x @ found, found - mean
    square = _WORTH * _SCATTER**2 + float(rest @ rest) + float(off @ before @ off)
    freedom = _WORTH + len(told)
    (a, b), (c, d) = np.linalg.inv(after).tolist()
    level, fall = found.tolist()
    return Peel((level, fall), ((a, b), (c, d)), math.sqrt(square / freedom), freedom, len(told))


def _log_strength(t: SupportTrial) -> float:
    assert t.force_N is not None and t.roof_mm is not None
    wide, deep = t.roof_mm
    return math.log(t.force_N / front_of(wide * deep, min(wide, deep), t.density))
