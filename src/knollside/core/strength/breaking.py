"""What would break a part now: pushed as one load case, once, in a dry room, soon after it was printed.

The reserve with every knock-down taken off again (heat, time, repeats, cold, knocks, wet, sun): what a break on the
bench is held against. Each load case by itself, since that is how one pushes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from knollside.core.material.allowables import as_printed
from knollside.core.model import Array, LoadCase, Range
from knollside.core.strength.rating import MODES, PARTED, rate_points, weakest
from knollside.core.strength.strength import Strength


@dataclass(frozen=True)
class BreakNow:
    """One load case: newtons at which it breaks, nine in ten, along a layer or not (``mode`` in words), where (mm, in
    the part's frame); and the middle loads at which layers would part and at which it would go across them."""

    case: str
    load: Range
    mode: str
    along: bool
    place: tuple[float, float, float]
    parting_N: float
    across_N: float


def breaks_now(s: Strength, cases: Sequence[LoadCase], direction: Array) -> tuple[BreakNow, ...]:
    """Every load case that pushes with a force; ``cases`` in the order of the strength's limits."""
    n, out = np.asarray(direction, float), []
    for k, (case, limits) in enumerate(zip(cases, s.limits, strict=True)):
        newtons = sum(ld.newtons for ld in case.loads)
        if newtons <= 0 or limits.by_strain:
            continue
        fresh, alone = as_printed(limits), replace(s.field, stress=s.field.stress[k : k + 1])
        goes, found = weakest(alone, (fresh,), n), rate_points(alone, (fresh,), n)
        clear = ~s.field.excluded
        parting = float(found.interlayer_reserve[clear].min())
        across = float(found.inside[clear].min())
        along = goes.mode in PARTED
        low, high = fresh.interlayer_spread if along else fresh.in_plane_spread
        load = newtons * goes.reserve
        at = s.field.points[goes.point]
        place = (float(at[0]), float(at[1]), float(at[2]))
        words = MODES[goes.mode]
        told = Range(load, load * low, load * high, limits.bond.source)
        out.append(BreakNow(case.name, told, words, along, place, newtons * parting, newtons * across))
    return tuple(out)
