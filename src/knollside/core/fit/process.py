"""How much bigger or smaller a printer makes holes and pins, learned from measurements.

One shift per kind and axis. The person's readings update a weak prior (the
typical shift) as a normal-inverse-gamma model, so the interval is Student's t
and shrinks with readings; few readings keep the prior's doubt (Gelman et al.,
*Bayesian Data Analysis*, section 3.3).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from scipy.special import ndtr, stdtrit  # scipy.stats alone would take a second to load

from knollside.core.fit.hardware import Target, target
from knollside.core.model import Feature, Mate, Measurement, Refused

# Typical printed minus drawn diameter, mm, and how far printers differ (one sigma).
TYPICAL: dict[tuple[str, str], tuple[float, float]] = {
    ("hole", "upright"): (-0.18, 0.08),
    ("hole", "lying"): (-0.28, 0.12),
    ("pin", "upright"): (0.04, 0.06),
    ("pin", "lying"): (0.06, 0.10),
}
_PRIOR_SCATTER, _PRIOR_COUNT = 0.04, 3.0
_LONE_DOUBT = 4  # below this many readings the typical value's doubt stays in
OUTLIER = 3.5


@dataclass(frozen=True)
class Shift:
    """Printed minus drawn diameter: middle, the interval nine in ten of true shifts lie in,
    scatter of one print, readings used, and which readings look wrong."""

    kind: str
    axis: str
    value: float
    low: float
    high: float
    scatter: float
    count: int
    outliers: tuple[int, ...]
    source: str

    @property
    def half(self) -> float:
        return (self.high - self.low) / 2


def learn(readings: Iterable[Measurement], kind: str, axis: str) -> Shift:
    """Shift of one kind ('hole', 'pin') and axis ('upright', 'lying'). Left-out readings do not count.

    Outliers (robust residual over 3.5; Iglewicz and Hoaglin 1993) are named, never dropped by themselves.
    """
    middle, prior = TYPICAL[kind, axis]
    mine = [m for m in readings if m.kind == kind and m.axis == axis]
    error = np.array([m.printed - m.drawn for m in mine if not m.left_out])
    n = len(error)
    if n == 0:
        half = 1.645 * prior
        return Shift(kind, axis, middle, middle - half, middle + half, _PRIOR_SCATTER, 0, (), "typical")
    k0 = (_PRIOR_SCATTER / prior) ** 2  # readings the prior is worth
    mean = float(error.mean())
    kn = k0 + n
    value = (k0 * middle + n * mean) / kn
    nu = _PRIOR_COUNT + n
    square = (
        _PRIOR_COUNT * _PRIOR_SCATTER**2 + float(((error - mean) ** 2).sum()) + k0 * n / kn * (mean - middle) ** 2
    ) / nu
    half = float(stdtrit(nu, 0.95)) * math.sqrt(square / kn)
    if n < _LONE_DOUBT:
        half = max(half, 1.645 * prior / math.sqrt(1 + n))
    med = float(np.median(error))
    mad = max(float(np.median(np.abs(error - med))), 0.01)
    odd = tuple(
        i
        for i, m in enumerate(mine)
        if not m.left_out and n >= 3 and 0.6745 * abs(m.printed - m.drawn - med) / mad > OUTLIER
    )
    return Shift(kind, axis, value, value - half, value + half, math.sqrt(square), n, odd, f"yours, {n}")


@dataclass(frozen=True)
class Correction:
    """What one feature should be drawn as, and the odds before and after.

    ``chance_now`` and ``chance_then`` are (binds, fits, rattles) as drawn and as corrected.
    """

    feature: str
    from_mm: float
    to_mm: float
    low: float
    high: float
    source: str
    printed_now: float
    printed_then: float
    target: Target
    shift: Shift
    axis: str
    chance_now: tuple[float, float, float]
    chance_then: tuple[float, float, float]


def axis_of(feature: Feature, direction: tuple[float, float, float]) -> str:
    """'upright' when the round's axis stands along the build direction, else 'lying'."""
    return "upright" if abs(float(np.dot(feature.axis, direction))) > math.cos(math.radians(30)) else "lying"


def correct(
    feature: Feature, mate: Mate, direction: tuple[float, float, float], readings: Iterable[Measurement]
) -> Correction:
    """The drawn diameter that prints at the size the mate wants. Diameters throughout, mm."""
    if feature.kind not in ("hole", "pin") or feature.diameter is None:
        raise Refused(f"{feature.title} is not a round hole or pin; only those are corrected.")
    hole = feature.kind == "hole"
    axis = axis_of(feature, direction)
    shift = learn(readings, feature.kind, axis)
    want = target(mate.hardware, mate.fit, hole, feature.diameter)
    to = want.size - shift.value
    return Correction(
        feature.id,
        feature.diameter,
        to,
        want.size - shift.high,
        want.size - shift.low,
        shift.source,
        feature.diameter + shift.value,
        to + shift.value,
        want,
        shift,
        axis,
        chances(want, shift, feature.diameter, hole),
        chances(want, shift, to, hole),
    )


def chances(want: Target, shift: Shift, drawn: float, hole: bool) -> tuple[float, float, float]:
    """(binds, fits, rattles) of a print drawn at ``drawn``: normal scatter and shift doubt together."""
    sigma = math.hypot(shift.scatter, shift.half / 1.645)
    small = float(ndtr((want.low - drawn - shift.value) / sigma))
    large = float(ndtr((drawn + shift.value - want.high) / sigma))
    middle = max(0.0, 1 - small - large)
    return (small, middle, large) if hole else (large, middle, small)
