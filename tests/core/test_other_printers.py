"""What is learned of printers that differ from the program's own idea of one.

The truths here are not drawn from the typical values: other middles, other shrink, another law of size, readings with
heavy tails, a printer that drifts while it prints, a coarse calliper. Figures are those of docs/methods.md 7.1.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np
import pytest

from knollside.core.fit.process import learn
from knollside.core.model import Measurement
from knollside.sim.desk import SimulatedPrinter
from knollside.sim.loop import run_loops

RUNS = 600
Law = Callable[[float], float]


def law(kind: str, rng: np.random.Generator) -> Law:
    """Printed minus drawn by drawn diameter, mm, of one printer."""
    at_five, shrink, curve = rng.uniform(-0.30, -0.06), rng.normal(-0.002, 0.003), 0.0
    if kind == "shifted":  # three sigma and more off the typical middle
        at_five = rng.choice([-0.45, -0.40, 0.05, 0.12]) + rng.normal(0, 0.02)
    if kind == "shrinks":
        shrink = rng.choice([-0.012, -0.009, 0.006])
    if kind == "curved":  # small holes lose more: no straight line
        curve = rng.uniform(0.2, 0.5)
    return lambda d: at_five + shrink * (d - 5) - curve * (1 / d - 1 / 5)


def noise(kind: str, n: int, rng: np.random.Generator) -> np.ndarray:
    sigma = rng.uniform(0.010, 0.035)
    made = sigma * (rng.standard_t(3, n) if kind == "heavy-tailed" else rng.normal(size=n))
    return made + (np.linspace(-0.03, 0.03, n) if kind == "drifting" else 0.0)


@cache
def figures(kind: str, n: int) -> tuple[float, float, float]:
    """Share of nine-in-ten intervals that held the truth, mean error and its spread, mm, after ``n`` readings."""
    rng = np.random.default_rng(5)
    hit, error = [], []
    step = 0.05 if kind == "coarse calliper" else 0.01
    for _ in range(RUNS):
        true, drawn = law(kind, rng), rng.uniform(3, 12, n)
        printed = drawn + np.array([true(d) for d in drawn]) + noise(kind, n, rng)
        read = [
            Measurement(kind="hole", axis="upright", drawn=float(d), printed=float(p))
            for d, p in zip(drawn, np.round(printed / step) * step, strict=True)
        ]
        at = float(rng.uniform(4, 11))
        got = learn(read, "hole", "upright", at)
        hit.append(got.low <= true(at) <= got.high)
        error.append(got.value - true(at))
    return float(np.mean(hit)), float(np.mean(error)), float(np.std(error))


# The line that is fitted cannot follow these; the interval then says too little. Known, and told in docs/methods.md.
_TOO_NARROW = pytest.mark.xfail(strict=True, reason="the interval takes no doubt of the law itself into account")


@pytest.mark.parametrize("n", [8, 20])
@pytest.mark.parametrize(
    "kind",
    [
        "level",
        "shifted",
        "heavy-tailed",
        "drifting",
        "coarse calliper",
        pytest.param("shrinks", marks=_TOO_NARROW),
        pytest.param("curved", marks=_TOO_NARROW),
    ],
)
def test_nine_in_ten_intervals_hold_a_truth_that_is_not_the_programs_own(kind: str, n: int) -> None:
    held, _, _ = figures(kind, n)
    assert held >= 0.86


@pytest.mark.parametrize(
    "kind", ["level", "shifted", "shrinks", "curved", "heavy-tailed", "drifting", "coarse calliper"]
)
def test_what_is_learned_is_near_the_truth_wherever_it_lies(kind: str) -> None:
    """A figure no doubt is needed for: eight readings come within 0.016 mm (one sigma), without a lean."""
    _, mean, spread = figures(kind, 8)
    assert abs(mean) < 0.006 and spread < 0.017


def unlike(rng: np.random.Generator) -> SimulatedPrinter:
    """A printer of the outer rims: holes that lose nothing or half a millimetre, rough or very even."""
    return SimulatedPrinter(
        hole_shift=float(rng.choice([-0.5, -0.42, 0.06, 0.12])),
        shrink=float(rng.uniform(0.994, 1.001)),
        scatter=float(rng.choice([0.008, 0.02, 0.045])),
    )


def test_the_whole_loop_on_printers_unlike_the_typical_one() -> None:
    """Print a bar of eight holes, measure, correct, print again: does it fit as often as foretold?"""
    f = run_loops(600, make=unlike)
    assert abs(f.mean_error) < 0.01 and f.spread < 0.025
    assert abs(f.foretold - f.fitted) < 0.05 and len(f.by_chance) >= 4
    # Band by band, within eight points or what chance leaves of so many runs.
    for foretold, fitted, n in f.by_chance:
        assert abs(foretold - fitted) < max(0.08, 3 * np.sqrt(foretold * (1 - foretold) / n))
