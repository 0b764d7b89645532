"""What dry fits say of a class: where it begins to bind and to rattle, moved from its typical window.

Each dry fit tells on which side of two edges a printed gap lay that is known only as far as the printer is: ordered
probit with uncertain covariate (McCullagh 1980; Carroll et al., *Measurement Error in Nonlinear Models*, 8), half of a
gap's doubt common to all of them. Posterior on a grid of both edges, prior the typical window.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.special import logsumexp, ndtr

from knollside.core.fit.correction import Correction
from knollside.core.fit.windows import Windows, gap_window
from knollside.core.model import Array, Mate, Range, ends_of
from knollside.core.model.fitchecks import FitCheck
from knollside.core.model.mates import WornGap

_SIGMA = 0.10  # mm that an edge of a class may lie elsewhere, one sigma: typical
_FEEL = 0.02  # mm between two hands, or two tries
_WRONG = 0.06  # of dry fits are told of a burr, a string or another mate
_COMMON = 0.5  # of a foretold gap's variance is this printer's, the same in all its prints
_MEASURED = 0.03  # mm, of a gap that was measured
_LEAST = 0.03  # mm that a window is wide
_ENDS = ends_of(WornGap)
_STEPS = np.linspace(-0.36, 0.36, 61)
_COMMONS, _SHARES = np.polynomial.hermite_e.hermegauss(7)


@dataclass(frozen=True)
class LearnedWindow:
    """Least and most gap of a class, mm, with their doubt, from so many dry fits."""

    low: Range
    high: Range
    tried: int

    @property
    def ends(self) -> tuple[float, float]:
        return round(self.low.value, 3), round(self.high.value, 3)


def foretold_gap(c: Correction, mate: Mate, windows: Windows, corrected: bool) -> float | None:
    """The gap that a print of the drawn (or corrected) mesh was foretold to have, mm, on the scale of its class'
    window: paint and a thing's tolerance counted. None where it has no one gap: a lying round hole is tighter from top
    to bottom, and what suits a standard has no class."""
    if mate.fit not in windows or (c.axis == "lying" and c.shift.kind == "hole" and mate.shape == "round"):
        return None
    low, high = gap_window(mate, windows)
    if corrected and c.partner:
        return (low + high) / 2  # both partners give way until it is there
    printed = c.printed_then if corrected else c.printed_now
    gap = low + (printed - c.target.low if c.shift.kind == "hole" else c.target.high - printed)
    return gap if _ENDS[0] <= gap <= _ENDS[1] else None  # no gap of a fit: another thing goes there


def learn_windows(typical: Windows, typed: Collection[str], checks: Sequence[FitCheck]) -> dict[str, LearnedWindow]:
    """Windows that dry fits have moved, by class; a window the person typed is theirs and stays."""
    out = {}
    for name, window in typical.items():
        mine = [c for c in checks if c.fit == name and c.told and c.gap is not None]
        if mine and name not in typed:
            out[name] = _learn(window, tuple(mine))
    return out


@lru_cache(maxsize=16)  # asked again at every edit of a part
def _learn(window: tuple[float, float], checks: tuple[FitCheck, ...]) -> LearnedWindow:
    low, high = window[0] + _STEPS[:, None], window[1] + _STEPS[None, :]
    # Both ends of a hand's or a plastic's own way move together as often as not.
    a, b = (low - window[0]) / _SIGMA, (high - window[1]) / _SIGMA
    prior = -(a**2 - a * b + b**2) / (2 * 0.75)
    # In logs: the likelihood of a thousand dry fits is no number any more.
    each = [_log_likelihood(low, high, checks, z) + math.log(s) for z, s in zip(_COMMONS, _SHARES, strict=True)]
    log = np.where(high - low >= _LEAST, prior, -np.inf) + logsumexp(each, axis=0)
    weight = np.exp(log - log.max())
    weight /= weight.sum()
    n = len(checks)
    return LearnedWindow(_marginal(low[:, 0], weight.sum(axis=1), n), _marginal(high[0], weight.sum(axis=0), n), n)


def _log_likelihood(low: Array, high: Array, checks: Sequence[FitCheck], z: float) -> Array:
    """Of all outcomes where what is common to the gaps stands ``z`` sigma off."""
    out = np.zeros(np.broadcast_shapes(low.shape, high.shape))
    for c in checks:
        assert c.gap is not None
        common = 0.0 if c.measured_mm is not None else math.sqrt(_COMMON) * c.doubt_mm
        own = _MEASURED if c.measured_mm is not None else math.sqrt(1 - _COMMON) * c.doubt_mm
        gap, sigma = c.gap + z * common, math.hypot(own, _FEEL)
        binds, rattles = ndtr((low - gap) / sigma), ndtr((gap - high) / sigma)
        of = {"binds": binds, "rattles": rattles, "fits": np.maximum(1 - binds - rattles, 0.0)}[c.told]
        out = out + np.log((1 - _WRONG) * of + _WRONG / 3)
    return np.asarray(out)


def _marginal(at: Array, weight: Array, n: int) -> Range:
    below = np.cumsum(weight)
    low, high = (float(np.interp(p, below, at)) for p in (0.05, 0.95))
    return Range(float(weight @ at), low, high, f"yours, {n} dry fit{'s' if n > 1 else ''}")
