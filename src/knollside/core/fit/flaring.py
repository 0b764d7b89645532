"""How much the first layers flare, learned from widths of a piece's foot (F3)."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from scipy.special import stdtrit

from knollside.core.fit.process import PrintSetting, learn
from knollside.core.model import Measurement, Range

TYPICAL = Range(0.15, 0.05, 0.30)  # a body's first layer grows so much a side, mm
LAYERS = 2  # how many layers do


def learn_flare(readings: Iterable[Measurement], setting: PrintSetting | None = None) -> Range:
    """Extra width of the first layer, mm a side: the foot's width less what any outside of that size comes out at.

    A weak prior worth one reading; interval by Student's t.
    """
    taken = [m for m in readings if not m.left_out and (setting is None or setting.same(m))]
    feet = [m for m in taken if m.kind == "foot"]
    if not feet:
        return TYPICAL
    side = np.array([(m.printed - m.drawn - learn(taken, "pin", "upright", m.drawn, setting).value) / 2 for m in feet])
    n, sigma = len(side), (TYPICAL.high - TYPICAL.low) / 2 / 1.645
    value = (TYPICAL.value * 0.1 + side.sum()) / (0.1 + n)
    square = (0.025**2 + ((side - value) ** 2).sum()) / n  # a flare varies by a few hundredths along one edge
    half = min(float(stdtrit(n, 0.95)) * math.sqrt(square / n), 1.645 * sigma)
    return Range(float(value), float(value) - half, float(value) + half, f"yours, {n}")
