"""How far a support stays off the part: the chance that a gap lifts, comes off clean or welds, and the next to try.

Cumulative probit (McCullagh 1980): welded below one threshold, lifted above another, with the fan's and slow printing's
shift of both; prior typical, posterior on a grid. The next trial is the gap most likely to come off clean.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.special import ndtr

from knollside.core.model import Array, Range
from knollside.core.model.trials import RoofPattern, SupportTrial

STEP = 0.02  # mm a gap can be set to
ENOUGH = 0.8  # believed chance of clean from which a gap is settled
_PATTERN = 0.03  # mm that another pattern may shift both thresholds by, one sigma, typical
GAPS = np.round(np.arange(0.0, 0.60 + 1e-9, STEP), 2)


@dataclass(frozen=True)
class Chances:
    """Of every gap in :data:`GAPS` at one fan and pace, (k,)."""

    lifted: Array
    clean: Array
    welded: Array


@dataclass(frozen=True)
class Settled:
    """``best`` gap mm with the believed ``chance`` of clean; ``settled`` where that is enough;
    ``edges``: where welding ends and lifting begins half of the time, mm; in words what contradicts itself and whether
    there may be no good gap."""

    best: float
    chance: float
    settled: bool
    edges: tuple[Range, Range]
    chances: Chances
    notes: tuple[str, ...]

    @property
    def next(self) -> float:
        """The gap to try next: the one most likely to come off clean."""
        return self.best


@dataclass(frozen=True)
class _Grid:
    welds: Array
    wide: Array
    scatter: Array
    fan: Array
    slow: Array
    other: Array
    weight: Array


@lru_cache(maxsize=2)
def _prior(others: bool = False) -> _Grid:
    """Typical of printers with plain supports: welding ends about 0.14 mm, a tenth further on lifting begins; a full
    fan in place of none lets the gap be 0.06 smaller, slow printing asks 0.02 more. ``others``: with the shift that
    another pattern may have, 0.03 either way."""
    welds = np.linspace(0.0, 0.34, 30)
    wide = np.geomspace(0.02, 0.5, 13)
    scatter = np.geomspace(0.008, 0.09, 5)
    fan = np.linspace(-0.16, 0.04, 5)
    slow = np.linspace(-0.02, 0.06, 3)
    other = np.array([-0.06, -0.03, 0.0, 0.03, 0.06]) if others else np.zeros(1)
    axes = np.meshgrid(welds, wide, scatter, fan, slow, other, indexing="ij")
    log = (
        -0.5 * ((axes[0] - 0.14) / 0.06) ** 2
        - 0.5 * (np.log(axes[1] / 0.11) / 0.55) ** 2
        - 0.5 * (np.log(axes[2] / 0.025) / 0.5) ** 2
        - 0.5 * ((axes[3] + 0.06) / 0.05) ** 2
        - 0.5 * ((axes[4] - 0.02) / 0.025) ** 2
        - 0.5 * (axes[5] / _PATTERN) ** 2
    )
    weight = np.exp(log - log.max()).ravel()
    flat = [a.ravel() for a in axes]
    return _Grid(flat[0], flat[1], flat[2], flat[3], flat[4], flat[5], weight / weight.sum())


def _shift(g: _Grid, fan: float, slow: bool, other: bool = False) -> Array:
    """What fan (from a half), pace and another pattern add to both thresholds."""
    return g.fan * (fan - 0.5) + (g.slow if slow else 0.0) + (g.other if other else 0.0)


def _chance(g: _Grid, gap: float, fan: float, slow: bool, other: bool = False) -> tuple[Array, Array, Array]:
    """Chance of lifted, clean and welded at every point of the grid."""
    at = gap - _shift(g, fan, slow, other)
    welded = ndtr((g.welds - at) / g.scatter)
    lifted = ndtr((at - g.welds - g.wide) / g.scatter)
    return lifted, np.maximum(1 - welded - lifted, 1e-12), welded


def _posterior(g: _Grid, trials: Sequence[SupportTrial], pattern: RoofPattern) -> Array:
    log = np.log(g.weight + 1e-300)
    for t in trials:
        lifted, clean, welded = _chance(g, t.gap_mm, t.fan, t.slow, t.pattern != pattern)
        of = {"lifted": lifted, "clean": clean, "welded": welded}[t.outcome]
        # One in thirty is told wrongly or had another cause.
        log += np.log(0.97 * of + 0.01)
    weight = np.exp(log - log.max())
    return np.asarray(weight / weight.sum())


def settle(
    trials: Sequence[SupportTrial], fan: float = 0.5, slow: bool = False, pattern: RoofPattern = "lines"
) -> Settled:
    """What the trials say of gaps at this fan, pace and pattern. Those of another pattern count through a shift that is
    not known. Pages ask again at every refresh: the last answers are kept."""
    return _settle(tuple(trials), fan, slow, pattern)


def gap_words(trials: Sequence[SupportTrial], gap: float, fan: float) -> str:
    """How supports with a gap come off, in a sentence, with where that is from."""
    c = settle(trials, fan).chances
    lifted, clean, welded = (100 * float(np.interp(gap, GAPS, v)) for v in (c.lifted, c.clean, c.welded))
    n = len(trials)
    source = f"yours, {n} trial{'s' if n > 1 else ''}" if n else "typical"
    return f"At {gap:.2f} mm {clean:.0f} of 100 come off clean, {welded:.0f} weld, {lifted:.0f} lift ({source})."


@lru_cache(maxsize=16)
def _settle(trials: tuple[SupportTrial, ...], fan: float, slow: bool, pattern: RoofPattern) -> Settled:
    others = any(t.pattern != pattern for t in trials)
    g = _prior(others)
    w = _posterior(g, trials, pattern)
    rows = np.array([[float(w @ c) for c in _chance(g, gap, fan, slow)] for gap in GAPS])
    chances = Chances(*rows.T)
    clean = chances.clean
    k = int(np.argmax(clean))
    shift = _shift(g, fan, slow)
    edges = _range(g.welds + shift, w), _range(g.welds + g.wide + shift, w)
    notes = list(_contradictions(trials))
    # The best that any gap of this printer may reach, by what is believed of it.
    reach = float(w @ (1 - 2 * ndtr(-g.wide / 2 / g.scatter)))
    if len(trials) >= 4 and clean[k] < ENOUGH and reach < ENOUGH:
        notes.append(
            f"Its good range is hardly wider than what prints differ by: at best {100 * reach:.0f} of 100 come off "
            "clean. More fan, slower roofs or a denser interface would widen it."
        )
    settled = bool(clean[k] >= ENOUGH and any(t.outcome == "clean" for t in trials))
    return Settled(float(GAPS[k]), float(clean[k]), settled, edges, chances, tuple(notes))


def _range(values: Array, weight: Array) -> Range:
    order = np.argsort(values)
    total = np.cumsum(weight[order])
    low, middle, high = (float(values[order][np.searchsorted(total, q)]) for q in (0.05, 0.5, 0.95))
    return Range(middle, low, high, "by trials")


def _contradictions(trials: Sequence[SupportTrial]) -> list[str]:
    """Trials of one fan, pace and pattern that no order of outcomes over the gap allows."""
    out = []
    for j, b in enumerate(trials):
        for i, a in enumerate(trials[:j]):
            if (a.fan, a.slow, a.pattern) != (b.fan, b.slow, b.pattern):
                continue
            low, high = (a, b) if a.gap_mm <= b.gap_mm else (b, a)
            if low.outcome == "lifted" and high.outcome == "welded" and high.gap_mm > low.gap_mm:
                out.append(
                    f"Trials {i + 1} and {j + 1} contradict each other: {low.gap_mm:.2f} mm lifted, {high.gap_mm:.2f} "
                    "mm welded. Was something else changed, or the bed's height?"
                )
    return out
