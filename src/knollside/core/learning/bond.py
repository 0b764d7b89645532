"""What breaks and pull tests say about the bond between layers (docs/methods.md 7.19)."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from itertools import chain, repeat

import numpy as np
from scipy.special import stdtrit

from knollside.core.model import BreakTest, Range

JUMP = 0.15  # spread of the log of the bond from before a change of nozzle or firmware to after it: typical


def learn_bond(tests: Iterable[BreakTest], typical: Range, changes: Sequence[int] = ()) -> Range:
    """Bond ratio (strength across the layers over along) from the person's own pull bars.

    Pairs of pull bars give the ratio itself; what parts broke at moves the model instead (``breaks``). Log
    ratios with a weak prior worth one test, interval by Student's t. ``changes``: for each test, how many changes of
    the printer came after it that can change the bond; what it says goes through a jump for each (methods 8.3).
    """
    after = chain(changes, repeat(0))
    told = [(math.log(test.ratio), k) for test, k in zip(tests, after, strict=False) if test.ratio is not None]
    if not told:
        return typical
    middle = math.log(typical.value)
    sigma = math.log(typical.high / typical.low) / 2 / 1.645
    log, age = np.array([v for v, _ in told]), np.array([k for _, k in told])
    ages = sorted(set(age.tolist()), reverse=True)
    groups = [log[age == k] for k in ages]
    n = len(log)
    within = sum(float(((g - g.mean()) ** 2).sum()) for g in groups)
    oldest = groups[0]
    first = len(oldest) / (1 + len(oldest)) * (float(oldest.mean()) - middle) ** 2
    nu = 2 + n
    square = (2 * sigma**2 + within + first) / nu
    # The prior is worth one test; what is known goes through a jump at each change, and is worth less after it.
    value, worth, at = middle, 1.0, ages[0]
    for g, k in zip(groups, ages, strict=True):
        worth = _after(worth, square, at - k)
        value = (worth * value + float(g.sum())) / (worth + len(g))
        worth, at = worth + len(g), k
    worth = _after(worth, square, at)
    half = float(stdtrit(nu, 0.95)) * math.sqrt(square / worth)
    half = min(half, 1.645 * sigma * 1.5)
    top = min(math.exp(value + half), 1.0)
    source = f"yours, {n}" if at == 0 else f"yours, {n}, all from before a change"
    return Range(min(math.exp(value), 1.0), math.exp(value - half), max(top, min(math.exp(value), 1.0)), source)


def _after(worth: float, square: float, jumps: int) -> float:
    """What knowledge worth so many tests is worth after jumps."""
    return square / (square / worth + jumps * JUMP**2)


def agrees(test: BreakTest, mode: str) -> bool:
    """Whether a recorded break went the way the prediction said."""
    along = mode in ("layers pulled apart", "layers sheared")
    return (test.mode == "along a layer") == along
