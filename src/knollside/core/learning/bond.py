"""What breaks and pull tests say about the bond between layers (docs/methods.md 7.19)."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from scipy.special import stdtrit

from knollside.core.model import BreakTest, Range


def learn_bond(tests: Iterable[BreakTest], typical: Range) -> Range:
    """Bond ratio (strength across the layers over along) from the person's own trials.

    Pairs of pull bars give the ratio itself. A part that let go along a layer
    at a known load gives predicted bond times load over predicted load. Log
    ratios with a weak prior worth one test, interval by Student's t.
    """
    logs = []
    for test in tests:
        if test.ratio is not None:
            logs.append(math.log(test.ratio))
        elif test.mode == "along a layer" and test.load_N and test.predicted_N:
            logs.append(math.log(typical.value * min(max(test.load_N / test.predicted_N, 0.1), 3.0)))
    if not logs:
        return typical
    middle = math.log(typical.value)
    sigma = math.log(typical.high / typical.low) / 2 / 1.645
    n, mean = len(logs), float(np.mean(logs))
    value = (middle + n * mean) / (1 + n)
    nu = 2 + n
    square = (2 * sigma**2 + float(((np.array(logs) - mean) ** 2).sum()) + n / (1 + n) * (mean - middle) ** 2) / nu
    half = float(stdtrit(nu, 0.95)) * math.sqrt(square / (1 + n))
    half = min(half, 1.645 * sigma * 1.5)
    top = min(math.exp(value + half), 1.0)
    return Range(min(math.exp(value), 1.0), math.exp(value - half), max(top, min(math.exp(value), 1.0)), f"yours, {n}")


def agrees(test: BreakTest, mode: str) -> bool:
    """Whether a recorded break went the way the prediction said."""
    along = mode in ("layers pulled apart", "layers sheared")
    return (test.mode == "along a layer") == along
