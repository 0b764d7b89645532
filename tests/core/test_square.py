"""One printed square tells a frame: against frames that are known, a calliper with its error, and readings that are
none."""

from __future__ import annotations

import math

import numpy as np
import pytest
from conftest import plate_with_hole

from knollside.core.mesh.features import find_features
from knollside.core.model import Range, Refused
from knollside.core.run.square import Square, frame_of, printed_true


def read(
    x: float, y: float, skew: float, drawn: float = 100.0, wider: float = 0.0, rng=None, sigma: float = 0.0
) -> Square:  # type: ignore[no-untyped-def]
    """A calliper over the square a frame prints: corners by its own two directions, lengths by Pythagoras."""
    s = math.radians(skew)
    u, v = np.array([x, 0.0]), y * np.array([math.sin(s), math.cos(s)])
    noise = np.zeros(4) if rng is None else rng.normal(0, sigma, 4)
    far = math.hypot(x, y)
    grown = [wider, wider, wider * (x + y) / far, wider * (x + y) / far]
    lengths = [np.linalg.norm(w) for w in (drawn * u, drawn * v, drawn * (u + v), drawn * (u - v))]
    got = [
        round(float(a + b + c), 2) if rng is not None else float(a + b)
        for a, b, c in zip(lengths, grown, noise, strict=True)
    ]
    return Square(drawn, drawn, *got)


NO_WIDER = Range(0.0, 0.0, 0.0)


@pytest.mark.parametrize(("x", "y", "skew"), [(1.0, 1.0, 0.0), (0.996, 1.003, 0.4), (1.01, 0.99, -1.2)])
def test_a_frame_is_told_exactly_by_exact_lengths(x: float, y: float, skew: float) -> None:
    f = frame_of(read(x, y, skew), outside=NO_WIDER)
    assert (f.scale_x.value, f.scale_y.value, f.skew.value) == pytest.approx((x, y, skew), abs=1e-9)
    other = frame_of(read(x, y, skew, 150.0, 0.1), outside=Range(0.1, 0.1, 0.1))
    assert other.skew.value == pytest.approx(skew, abs=2e-3) and other.scale_x.value == pytest.approx(x, abs=1e-9)


def test_one_piece_and_a_calliper_of_002_find_it_within_a_twentieth_of_a_degree_and_a_tenth_of_a_percent() -> None:
    rng = np.random.default_rng(3)
    angle, scale, held = [], [], []
    for _ in range(800):
        x, y, skew = 1 + rng.normal(0, 0.004), 1 + rng.normal(0, 0.004), rng.normal(0, 0.4)
        wider = rng.normal(0.04, 0.08)
        f = frame_of(read(x, y, skew, 100.0, wider, rng, 0.02))
        angle.append(abs(f.skew.value - skew))
        scale += [abs(f.scale_x.value - x), abs(f.scale_y.value - y)]
        held.append((f.skew.low <= skew <= f.skew.high, f.scale_x.low <= x <= f.scale_x.high))
    assert np.quantile(angle, 0.99) < 0.05 and np.quantile(scale, 0.75) < 0.001
    share = np.mean(held, axis=0)
    assert (share > 0.87).all() and (share < 0.95).all()
    # Where what outsides come out wider was learned, the scale is within a tenth of a percent, too.
    known = [
        abs(frame_of(read(1.003, 1, 0, 100, 0.05, rng, 0.02), outside=Range(0.05, 0.03, 0.07)).scale_x.value - 1.003)
        for _ in range(300)
    ]
    assert np.quantile(known, 0.99) < 0.001


def test_a_corrected_part_measures_true_on_that_frame() -> None:
    plate = plate_with_hole()
    frame = frame_of(read(0.996, 1.004, 0.7), outside=NO_WIDER)
    made, moved = printed_true(plate, frame)
    s = math.radians(0.7)
    does = np.array([[0.996, 1.004 * math.sin(s)], [0, 1.004 * math.cos(s)]])
    out = made.vertices.copy()
    out[:, :2] = out[:, :2] @ does.T
    out += plate.bounds.mean(axis=0) - np.array(
        [*(out[:, :2].min(0) + out[:, :2].max(0)) / 2, plate.bounds.mean(axis=0)[2]]
    )
    assert np.abs(out - plate.vertices).max() < 1e-9 and 0.1 < moved < 0.5
    assert any(f.kind == "hole" for f in find_features(plate))


def test_what_is_off_is_said_only_beyond_its_doubt_and_readings_that_are_none_are_refused() -> None:
    assert frame_of(read(1.0, 1.0, 0.0), outside=NO_WIDER).off == ()
    said = frame_of(read(0.994, 1.0, -0.5), outside=NO_WIDER).off
    assert said == ("X prints -0.60 %", "Y leans 0.50° to the left")
    good = read(1.0, 1.0, 0.0)
    for q, words in (
        (Square(100, 100, 90.0, 100, 141.4, 141.4), "not this piece"),
        (Square(100, 100, 100, 100, 150.0, 132.0), "more than a frame leans"),
        (Square(100, 100, 100, 100, 141.4, 141.0 + 2.5), "do not belong together"),
        (Square(5, 100, 5, 100, 141.4, 141.4), "20 to 1000"),
    ):
        with pytest.raises(Refused, match=words):
            frame_of(q, outside=NO_WIDER)
    assert good.rising == pytest.approx(good.falling)
