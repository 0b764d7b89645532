"""What play does: wobble of a hinge, allowance of a thread's flanks, and clearance that grows with use (F5, F6)."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from knollside.core.model import Range, Refused

# How much a running fit opens in the end, mm, and after how many cycles two thirds of that are there
# (docs/methods.md 7.17).
RUNNING_IN = Range(0.075, 0.05, 0.10)
CYCLES = 20.0


@dataclass(frozen=True)
class Wobble:
    """How far a hinged part tilts by its play: degrees to either side, and mm at a tip ``reach`` away."""

    degrees: float
    at_tip: float


def wobble(gap: float, span: float, reach: float, kind: str = "pin", cone_deg: float = 45.0) -> Wobble:
    """Tilt of a hinge of gap ``gap`` mm a side, borne over ``span`` mm along its axis, at ``reach`` mm from it.

    A *pin* may shift by its gap each way at both ends; on *cones* the axial play lets it shift by gap / cos of the
    cone's half-angle at most; on a *ball* play alone does not tilt it, it only shifts.
    """
    if gap < 0 or span <= 0 or reach < 0:
        raise Refused("A hinge needs a gap of nothing or more, and bearings some way apart.")
    shift = {"pin": gap, "cone": gap / math.cos(math.radians(cone_deg)), "ball": 0.0}[kind]
    tilt = math.atan2(2 * shift, span)
    return Wobble(math.degrees(tilt), reach * math.tan(tilt) + (gap if kind == "ball" else 0.0))


def across_of_flank(allowance: float, half_angle_deg: float = 30.0) -> float:
    """How much a thread's diameter changes when each flank gives way by ``allowance`` mm along its normal.

    A flank leans by its half-angle from square to the axis, so it retreats by allowance / sin of that along the radius.
    """
    return 2 * allowance / math.sin(math.radians(half_angle_deg))


@dataclass(frozen=True)
class RunningIn:
    """Clearance after ``n`` cycles: start + grows (1 - exp(-n / cycles)), mm."""

    start: float
    grows: float
    cycles: float
    source: str

    def after(self, n: float) -> float:
        """Clearance after ``n`` cycles, mm."""
        return self.start + self.grows * (1 - math.exp(-n / self.cycles))


def running_in(logged: Iterable[tuple[float, float]], start: float = 0.0) -> RunningIn:
    """The curve through logged (cycles, clearance mm); typical growth from ``start`` where fewer than three are there.

    Fitted by least squares with the typical growth as a weak prior.
    """
    points = np.array(list(logged), float).reshape(-1, 2)
    if (points[:, 0] < 0).any():
        raise Refused("Cycles are counted from nothing upwards.")
    if len(points) < 3:
        first = float(points[0, 1]) if len(points) else start
        return RunningIn(first, RUNNING_IN.value, CYCLES, "typical")
    n, c = points.T
    sigma = (RUNNING_IN.high - RUNNING_IN.low) / 3.29

    def off(x: np.ndarray) -> np.ndarray:
        curve = x[0] + x[1] * (1 - np.exp(-n / math.exp(x[2])))
        prior = [(x[1] - RUNNING_IN.value) / (3 * sigma), (x[2] - math.log(CYCLES)) / 2]
        return np.concatenate([(curve - c) / 0.02, prior])

    x = least_squares(off, [float(c.min()), RUNNING_IN.value, math.log(CYCLES)]).x
    return RunningIn(float(x[0]), float(x[1]), math.exp(float(x[2])), f"yours, {len(points)}")


def tight_window(window: tuple[float, float], grows: float = RUNNING_IN.value) -> tuple[float, float]:
    """The window to print a running fit in, so that run in it lies in ``window``, mm."""
    return round(window[0] - grows, 3), round(window[1] - grows, 3)


def start_tight(window: tuple[float, float], grows: float = RUNNING_IN.value) -> float:
    """The gap to print a running fit with, so that run in it ends in the middle of its window (never under the edge at
    which it would bind by more than it wears off)."""
    return max(sum(window) / 2 - grows, window[0] - grows / 2)
