"""How a printer makes holes and outsides, learned from measurements (docs/methods.md 7.1).

Inside d = s D - b + e, outside d = s D + c + e: one shrink s an axis, a shift each for holes (b) and outsides (c), and
the scatter e of one print. The shift grows with size by the shrink, so it is always given at a drawn size. Fitted by
weighted least squares with the shipped typical values as a weak prior (Gelman et al., *Bayesian Data Analysis*, 14.8);
the scatter is learned too, so intervals are Student's t. Few readings keep the prior's doubt.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from scipy.special import stdtrit  # scipy.stats alone would take a second to load

from knollside.core.model import Array, Measurement, Recipe

REFERENCE = 5.0  # mm; the size typical shifts are stated at
# Typical printed minus drawn diameter at that size, mm, and how far printers differ (one sigma). "plumb" is a lying
# hole measured from top to bottom: its roof sags.
TYPICAL: dict[tuple[str, str], tuple[float, float]] = {
    ("hole", "upright"): (-0.18, 0.08),
    ("hole", "lying"): (-0.28, 0.12),
    ("hole", "plumb"): (-0.42, 0.16),
    ("pin", "upright"): (0.04, 0.06),
    ("pin", "lying"): (0.06, 0.10),
    ("pin", "plumb"): (0.02, 0.12),
}
AXES = ("upright", "lying", "plumb")
_SHRINK, _SHRINK_SIGMA = -0.002, 0.003  # of a typical filament, s - 1
_PRIOR_SCATTER, _PRIOR_COUNT = 0.021, 2.0
_READING = 0.2  # share of a lone reading's variance that is the calliper's: repeats lessen only that
_LONE_DOUBT = 4  # below this many readings the typical value's doubt stays in
OUTLIER = 3.5
_MOST_MORE = 200


@dataclass(frozen=True)
class PrintSetting:
    """What readings must share with the print they speak for: nozzle and layer height, mm."""

    nozzle_mm: float
    layer_height: float

    def same(self, m: Measurement) -> bool:
        """Whether a reading was taken of a print made alike; one that does not say is taken for it."""
        nozzle = m.nozzle_mm is None or abs(m.nozzle_mm - self.nozzle_mm) < 0.01
        return nozzle and (m.layer_height is None or abs(m.layer_height - self.layer_height) < 0.031)


def setting_of(recipe: Recipe, nozzle_mm: float) -> PrintSetting:
    """What readings must share with prints of ``recipe`` through this nozzle, mm."""
    return PrintSetting(nozzle_mm, recipe.layer_height)


@dataclass(frozen=True)
class Shift:
    """Printed minus drawn diameter at the size ``at``: middle, the interval nine in ten of true shifts lie in,
    scatter of one print, readings used, and which readings look wrong (numbers among those of this kind and axis)."""

    kind: str
    axis: str
    at: float
    value: float
    low: float
    high: float
    scatter: float
    count: int
    outliers: tuple[int, ...]
    source: str
    freedom: float = 1e6

    @property
    def half(self) -> float:
        """Half the width of the interval, mm."""
        return (self.high - self.low) / 2

    @property
    def sigma(self) -> float:
        """Of one more print: its scatter, without the calliper's share of it, and the doubt of the shift."""
        return math.hypot(self.scatter * math.sqrt(1 - _READING), self.half / float(stdtrit(self.freedom, 0.95)))


@dataclass(frozen=True)
class Process:
    """One axis of a printer, fitted. ``mean`` and ``cov`` of (s - 1, hole shift, pin shift at the reference size)."""

    axis: str
    mean: Array
    cov: Array
    freedom: float
    scatter: float
    counts: dict[str, int]
    outliers: dict[str, tuple[int, ...]]
    others: int  # readings of other nozzles or layer heights, not used

    @property
    def shrink(self) -> float:
        """s of the model: printed over drawn length."""
        return 1 + float(self.mean[0])

    @property
    def hole_b(self) -> float:
        """b of the model: what a hole of no size would lose, mm."""
        return REFERENCE * float(self.mean[0]) - float(self.mean[1])

    @property
    def pin_c(self) -> float:
        """c of the model: what an outside of no size would gain, mm."""
        return float(self.mean[2]) - REFERENCE * float(self.mean[0])

    def shift(self, kind: str, drawn: float = REFERENCE) -> Shift:
        """The shift of a 'hole' or a 'pin' (any outside) of a drawn size, mm."""
        x = _row(kind, drawn)
        n = self.counts[kind]
        sd = math.sqrt(float(x @ self.cov @ x))
        value = float(x @ self.mean)
        # What no reading speaks of keeps the normal doubt of the table.
        freedom = self.freedom if n else 1e6
        half = float(stdtrit(freedom, 0.95)) * sd
        if 0 < n < _LONE_DOUBT:
            half = max(half, 1.645 * TYPICAL[kind, self.axis][1] / math.sqrt(1 + n))
        source = f"yours, {n}" if n else "typical"
        return Shift(
            kind,
            self.axis,
            drawn,
            value,
            value - half,
            value + half,
            self.scatter,
            n,
            self.outliers[kind],
            source,
            freedom,
        )


def _row(kind: str, drawn: float) -> Array:
    return np.array([drawn - REFERENCE, kind == "hole", kind == "pin"], float)


def process_of(readings: Iterable[Measurement], axis: str, setting: PrintSetting | None = None) -> Process:
    """Fit one axis ('upright', 'lying', 'plumb'). Left-out readings do not count; those of another nozzle or layer
    height are counted as ``others``. Outliers (robust residual over 3.5; Iglewicz and Hoaglin 1993) are named, never
    dropped by themselves."""
    mine = [m for m in readings if m.axis == axis and m.kind in ("hole", "pin")]
    alike = [m for m in mine if setting is None or setting.same(m)]
    used = [m for m in alike if not m.left_out]
    m0 = np.array([_SHRINK, TYPICAL["hole", axis][0], TYPICAL["pin", axis][0]])
    prior = np.diag([_SHRINK_SIGMA**-2, TYPICAL["hole", axis][1] ** -2, TYPICAL["pin", axis][1] ** -2])
    x = np.array([_row(m.kind, m.drawn) for m in used]).reshape(-1, 3)
    y = np.array([m.printed - m.drawn for m in used])
    weight = np.array([1 / (1 - _READING + _READING / m.repeats) for m in used])
    mean, cov, square, freedom = _fit(x, y, weight, m0, prior)
    odd = _odd(x, y, weight, m0, prior)
    numbers = {
        kind: tuple(k for k, m in enumerate([a for a in alike if a.kind == kind]) if any(m is used[i] for i in odd))
        for kind in ("hole", "pin")
    }
    counts = {kind: sum(m.kind == kind for m in used) for kind in ("hole", "pin")}
    return Process(axis, mean, cov, freedom, math.sqrt(square), counts, numbers, len(mine) - len(alike))


def _fit(x: Array, y: Array, weight: Array, m0: Array, prior: Array) -> tuple[Array, Array, float, float]:
    """Posterior mean and covariance of the coefficients, the scatter squared and its degrees of freedom.

    The scatter and the coefficients depend on each other: a few rounds settle them to six digits.
    """
    square, freedom = _PRIOR_SCATTER**2, _PRIOR_COUNT
    gram, right = x.T @ (x * weight[:, None]), x.T @ (weight * y)
    for _ in range(60):
        cov = np.linalg.inv(prior + gram / square)
        mean = cov @ (prior @ m0 + right / square)
        taken = float(np.trace(cov @ gram)) / square  # coefficients the readings, not the prior, have settled
        freedom = _PRIOR_COUNT + len(y) - taken
        rest = y - x @ mean
        fresh = (_PRIOR_COUNT * _PRIOR_SCATTER**2 + float(weight @ rest**2)) / freedom
        if abs(fresh - square) < 1e-7 * square:
            break
        square = fresh
    return mean, cov, square, freedom


def _odd(x: Array, y: Array, weight: Array, m0: Array, prior: Array) -> list[int]:
    """Readings far from a fit that gives far ones no say (bisquare weights; Beaton and Tukey 1974)."""
    if len(y) < 3:
        return []
    rest = y - np.array([np.median(y[x[:, 1] == r[1]]) for r in x])
    for _ in range(20):
        scale = max(1.4826 * float(np.median(np.abs(rest))), 0.01)
        say = np.clip(1 - (rest / (4.685 * scale)) ** 2, 1e-6, 1) ** 2
        gram = x.T @ (x * (weight * say)[:, None]) / scale**2
        mean = np.linalg.solve(prior + gram, prior @ m0 + x.T @ (weight * say * y) / scale**2)
        rest = y - x @ mean
    mad = max(float(np.median(np.abs(rest))), 0.01)
    return [i for i in range(len(y)) if 0.6745 * abs(rest[i]) / mad > OUTLIER]


def learn(
    readings: Iterable[Measurement],
    kind: str,
    axis: str,
    drawn: float = REFERENCE,
    setting: PrintSetting | None = None,
) -> Shift:
    """Shift of one kind ('hole', 'pin') and axis at a drawn size.

    Without a reading the typical values stand; a hole comes out smaller than drawn:

    >>> shift = learn((), "hole", "upright")
    >>> shift.value < 0, shift.source
    (True, 'typical')
    """
    return process_of(readings, axis, setting).shift(kind, drawn)


def more_to_halve(process: Process, kind: str, drawn: float = REFERENCE) -> int | None:
    """How many more readings of such a size would halve the shift's doubt; None if 200 would not."""
    now = process.shift(kind, drawn).half
    x = _row(kind, drawn)
    inner = np.linalg.inv(process.cov)
    for n in range(1, _MOST_MORE + 1):
        cov = np.linalg.inv(inner + n * np.outer(x, x) / process.scatter**2)
        half = float(stdtrit(process.freedom + n, 0.95)) * math.sqrt(float(x @ cov @ x))
        if process.counts[kind] + n < _LONE_DOUBT:
            half = max(half, 1.645 * TYPICAL[kind, process.axis][1] / math.sqrt(1 + process.counts[kind] + n))
        if half <= now / 2:
            return n
    return None


@dataclass(frozen=True)
class Moved:
    """The shift as it was known after one session of measuring: when, which bar, how many readings by then."""

    when: datetime
    bar: str
    count: int
    value: float
    low: float
    high: float


def history(
    dated: Iterable[tuple[datetime, Measurement]],
    kind: str,
    axis: str,
    drawn: float = REFERENCE,
    setting: PrintSetting | None = None,
) -> tuple[Moved, ...]:
    """How a shift moved as readings came in, one entry a day and bar that spoke of it."""
    ordered = sorted(dated, key=lambda d: d[0])
    out: list[Moved] = []
    groups: dict[tuple[object, str], list[int]] = {}
    for i, (when, m) in enumerate(ordered):
        if m.axis == axis and m.kind == kind and not m.left_out and (setting is None or setting.same(m)):
            groups.setdefault((when.date(), m.bar), []).append(i)
    for (_, bar), numbers in groups.items():
        last = numbers[-1]
        s = learn((m for _, m in ordered[: last + 1]), kind, axis, drawn, setting)
        out.append(Moved(ordered[last][0], bar, s.count, s.value, s.low, s.high))
    return tuple(out)


def contradictions(readings: Iterable[Measurement]) -> tuple[str, ...]:
    """Readings of one size, kind and axis that cannot both be right: farther apart than eight scatters."""
    groups: dict[tuple[str, str, float], list[float]] = {}
    for m in readings:
        if not m.left_out:
            groups.setdefault((m.kind, m.axis, round(m.drawn, 2)), []).append(m.printed)
    return tuple(
        f"{kind.capitalize()}s of {drawn:g} mm, {axis}: {min(v):.2f} and {max(v):.2f} mm cannot both be right. "
        "Measure them again, or leave one out."
        for (kind, axis, drawn), v in groups.items()
        if len(v) > 1 and max(v) - min(v) > 8 * _PRIOR_SCATTER
    )
