"""Several pegs in several holes at once: against closed form, linear programming, and the odds of one."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
from conftest import mesh_of
from scipy.optimize import linprog
from scipy.special import ndtr

from knollside.core.fit.process import process_of
from knollside.core.fit.together import POSITION, chance_of_all, least_overlap, together
from knollside.core.job import answer, correcting
from knollside.core.model import Mate

UP = (0.0, 0.0, 1.0)


def test_of_two_pegs_only_the_distance_counts() -> None:
    """Shift and turn take all but the difference along the line: it goes in where that is under the mean of both gaps.
    With normal gaps and places both are normal, and so is the sum of them (4000 samples: 0.02)."""
    rng = np.random.default_rng(3)
    at = np.array([[-20.0, 0.0], [20.0, 0.0]])
    for mean, position in ((0.10, 0.04), (0.05, 0.06), (0.20, 0.03)):
        gaps = mean + 0.03 * rng.standard_normal((4000, 2))
        found = chance_of_all(gaps, at, np.zeros((2, 2)), position)
        # |delta| <= s: delta of 2 sigma of position, s of mean and 0.03 / sqrt(2).
        spread = math.hypot(2 * position, 0.03 / math.sqrt(2))
        told = ndtr(mean / spread) - ndtr(-mean / spread)
        # Not both sides independently: check by a million plain samples instead of the formula where they differ.
        delta = 2 * position * rng.standard_normal(10**6)
        s = mean + 0.03 / math.sqrt(2) * rng.standard_normal(10**6)
        truth = float((np.abs(delta) <= s).mean())
        assert told == pytest.approx(truth, abs=0.02)
        assert found == pytest.approx(truth, abs=0.02)


def by_linear_programming(d: np.ndarray, at: np.ndarray, room: np.ndarray) -> float:
    """The least largest overlap with each disc as a polygon of 180 sides."""
    turn = np.linspace(0, 2 * np.pi, 180, endpoint=False)
    n = np.stack([np.cos(turn), np.sin(turn)], axis=1)
    rows, right = [], []
    for k in range(len(d)):
        arm = np.array([-at[k, 1], at[k, 0]]) / 20
        for m in n:
            rows.append([m[0], m[1], float(m @ arm), -1.0])
            right.append(room[k] - float(m @ d[k]))
    made = linprog([0, 0, 0, 1.0], A_ub=rows, b_ub=right, bounds=[(None, None)] * 4)
    return float(made.fun)


def test_the_least_overlap_is_that_of_linear_programming() -> None:
    rng = np.random.default_rng(5)
    at = np.array([[-20.0, -15.0], [20.0, -15.0], [20.0, 15.0], [-20.0, 15.0], [3.0, 8.0]])
    d = 0.06 * rng.standard_normal((60, 5, 2))
    room = 0.08 + 0.02 * rng.standard_normal((60, 5))
    found = least_overlap(d, at, room)
    truth = np.array([by_linear_programming(*one) for one in zip(d, [at] * 60, room, strict=True)])
    assert np.abs(found - truth).max() < 1.5e-3 and ((found > 0) == (truth > 0)).mean() > 0.97


def lid(pegs: int = 4, off: float = 0.0):  # type: ignore[no-untyped-def]
    """A lid of pegs beside its box of holes, turned about, and its mates; the last peg stands ``off`` its place."""
    at = [(8, 8), (32, 8), (32, 22), (8, 22)][:pegs]
    box = m3.Manifold.cube((40, 30, 8))
    cover = m3.Manifold.cube((40, 30, 3))
    for k, (x, y) in enumerate(at):
        box -= m3.Manifold.cylinder(20, 2.55, circular_segments=64).translate((x, y, -5))
        away = off if k == pegs - 1 else 0.0
        cover += m3.Manifold.cylinder(6, 2.5, circular_segments=64).translate((x + away, y, 2.9))
    part = answer.read_part(mesh_of(m3.Manifold.compose([box, cover.rotate((0, 0, 37)).translate((80, 0, 0))])))
    holes = [f for f in part.features if f.kind == "hole"]
    pins = [f for f in part.features if f.kind == "pin"]
    place = np.array([f.centre[:2] for f in pins])
    turn = np.radians(37)
    back = (place - [80, 0]) @ np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    mates = []
    for h in holes:
        nearest = int(np.argmin(np.linalg.norm(back - np.array(h.centre[:2]), axis=1)))
        mates.append(Mate(feature=h.id, partner=pins[nearest].id, fit="slide"))
    return part, tuple(mates)


def test_four_pegs_go_in_less_often_than_one_and_a_misplaced_one_least() -> None:
    process = {"upright": process_of((), "upright")}

    def chances(pegs: int, off: float = 0.0):  # type: ignore[no-untyped-def]
        part, mates = lid(pegs, off)
        found, refused = correcting.corrections(part, mates, UP, ())
        assert not refused
        sizes = {c.feature: c.to_mm for c in found}
        (told,) = together(part.features, mates, sizes, process, UP)
        assert len(told.pairs) == pegs and told.bodies in ((0, 1), (1, 0)) and told.position is POSITION
        return told

    two, four, moved = chances(2), chances(4), chances(4, 0.3)
    assert four.then < two.then < two.alone and moved.then < four.then - 0.1
    assert four.now < four.then
    part, mates = lid(4)
    assert together(part.features, mates[:1], {}, process, UP) == ()
    assert together(part.features, (), {}, process, UP) == ()
