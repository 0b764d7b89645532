"""The flow of a printer by a single wall that was measured, and by the flow at which a top closes.

A wall of one line, drawn ``line`` mm wide, comes out ``t``: flow times line over t brings it back (volume laid is
volume asked for). Doubt: Student t of the readings over their count, and the calliper's own.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from scipy import stats

from knollside.core.model import Range, Refused

CALLIPER = 0.015  # mm, one sigma of a reading's shared error, typical
LEAST = 3
_MAY = (0.5, 2.0)


def flow_of_wall(line: float, readings: Sequence[float], flow: float = 1.0) -> Range:
    """Flow that makes a single wall as wide as drawn, with nine in ten, where it was printed at ``flow``.

    ``readings`` mm. Raises :class:`Refused` for fewer than three, or for a wall that is no single line of that width.
    """
    t = np.asarray(readings, float)
    if len(t) < LEAST:
        raise Refused(f"{len(t)} readings say too little: measure the wall at {LEAST} places or more, better eight.")
    mean = float(t.mean())
    if not _MAY[0] * line <= mean <= _MAY[1] * line:
        raise Refused(
            f"A wall of {mean:.2f} mm is no single line of {line:.2f} mm: is it the right piece, and the unit?"
        )
    error = math.hypot(
        float(t.std(ddof=1)) / math.sqrt(len(t)) * float(stats.t.ppf(0.95, len(t) - 1)), 1.645 * CALLIPER
    )
    low, high = mean - error, mean + error
    return Range(flow * line / mean, flow * line / high, flow * line / low, f"yours, {len(t)} readings")


def wall_answer(line: float, readings: Sequence[float]) -> str:
    """Which answer of the test with a single wall its readings give; raises as :func:`flow_of_wall`."""
    off = flow_of_wall(line, readings)
    return "thinner" if off.value > 1.03 else "thicker" if off.value < 0.97 else "within 3 %"


def flow_of_top(tried: Sequence[tuple[float, bool]]) -> Range:
    """Lowest flow at which a top closes, from flows tried and whether each closed. Raises :class:`Refused` where they
    contradict one another, or none closed."""
    closed, open_ = sorted(f for f, c in tried if c), sorted(f for f, c in tried if not c)
    if not closed:
        raise Refused("No top closed yet: try a higher flow, or more layers of roof.")
    if open_ and open_[-1] > closed[0]:
        raise Refused(
            f"{open_[-1]:.2f} stayed open and {closed[0]:.2f} closed: something else differs. Print both again at once."
        )
    low = open_[-1] if open_ else 0.9 * closed[0]
    return Range((low + closed[0]) / 2, low, closed[0], f"yours, {len(tried)} tops")
