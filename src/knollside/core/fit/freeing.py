"""What gaps a printer frees, learned from gap ladders: each rung came free or it did not.

A gap frees when its printed width exceeds a limit that varies from rung to rung; the limit has a normal prior from
typical printers. Middle and spread of the posterior by summing over a grid (probit likelihood; Finney 1971).
"""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from scipy.special import log_ndtr

from knollside.core.model import GapTrial, Range

# Drawn gap a side that frees in the layer, mm, and across it: typical, until a ladder is printed.
TYPICAL = {"in the layer": Range(0.30, 0.20, 0.40), "across it": Range(0.16, 0.08, 0.30)}
_RUNG = 0.03  # mm; how much the limit varies from rung to rung


def learn_frees(trials: Iterable[GapTrial], direction: str) -> Range:
    """The drawn gap a side that comes free half the time, with its nine-in-ten interval, mm."""
    typical = TYPICAL[direction]
    mine = [t for t in trials if t.direction == direction]
    if not mine:
        return typical
    sigma = (typical.high - typical.low) / 2 / 1.645
    limit = np.linspace(0.0, 1.2, 1201)
    log = -0.5 * ((limit - typical.value) / sigma) ** 2
    for t in mine:
        z = (t.drawn - limit) / _RUNG
        log = log + log_ndtr(z if t.freed else -z)
    share = np.exp(log - log.max())
    share /= share.sum()
    below = np.cumsum(share)
    low, high = (float(np.interp(p, below, limit)) for p in (0.05, 0.95))
    return Range(float(share @ limit), low, high, f"yours, {len(mine)}")


def chance_freed(drawn: float, frees: Range) -> float:
    """That a gap drawn so comes free."""
    sigma = math.hypot((frees.high - frees.low) / 2 / 1.645, _RUNG)
    return float(np.exp(log_ndtr((drawn - frees.value) / sigma)))


def odd_gap_steps(trials: Iterable[GapTrial], direction: str) -> str:
    """In words, where a narrower gap came free and a wider one did not; nothing if the ladder is in order."""
    mine = [t for t in trials if t.direction == direction]
    freed = [t.drawn for t in mine if t.freed]
    stuck = [t.drawn for t in mine if not t.freed]
    if freed and stuck and min(freed) < max(stuck) - 1e-9:
        return f"{min(freed):.2f} mm came free and {max(stuck):.2f} mm did not: look at both again."
    return ""
