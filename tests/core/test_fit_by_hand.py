"""Fits worked a second way: whitened least squares, normal tables, plain integration, the standards' rows."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import datetime, timedelta
from statistics import NormalDist

import numpy as np
import pytest
from scipy.optimize import brentq, minimize
from scipy.stats import norm, t

from knollside.core.fit.clearance import Freedom, Gap, freedom
from knollside.core.fit.correction import axis_of, correct, odds
from knollside.core.fit.freeing import chance_freed, learn_frees, odd_gap_steps
from knollside.core.fit.hardware import item, names, suggestion
from knollside.core.fit.play import across_of_flank, running_in, start_tight, tight_window, wobble
from knollside.core.fit.process import (
    PrintSetting,
    Process,
    Shift,
    contradictions,
    history,
    learn,
    more_to_halve,
    process_of,
)
from knollside.core.fit.windows import Target
from knollside.core.model import Feature, GapTrial, Mate, Measurement, Range

UP = (0.0, 0.0, 1.0)


def reading(kind: str, drawn: float, error: float, repeats: int = 1, **more: object) -> Measurement:
    said = {"kind": kind, "axis": "upright", "drawn": drawn, "printed": drawn + error, "repeats": repeats}
    return Measurement.model_validate(said | more)


MIXED = [
    *(reading("hole", d, e, n) for d, e, n in ((3, -0.20, 1), (5, -0.24, 3), (8, -0.19, 1), (12, -0.26, 5))),
    *(reading("pin", d, e, n) for d, e, n in ((4, 0.05, 1), (10, 0.01, 2), (25, -0.05, 1))),
]


def whitened(square: float, rows: list[Measurement]) -> tuple[np.ndarray, np.ndarray, float, float]:
    """Coefficients, their covariance, weighted rest squared, and how many of them the readings settled: the typical
    values taken as three more readings, everything divided by its own doubt, and plain least squares of that."""
    weight = np.array([1 / (0.8 + 0.2 / m.repeats) for m in rows])
    x = np.array([[m.drawn - 5, m.kind == "hole", m.kind == "pin"] for m in rows], float)
    y = np.array([m.printed - m.drawn for m in rows])
    sigma = np.r_[np.sqrt(square / weight), 0.003, 0.08, 0.06]
    whole, said = np.vstack([x, np.eye(3)]) / sigma[:, None], np.r_[y, -0.002, -0.18, 0.04] / sigma
    mean = np.linalg.lstsq(whole, said, rcond=None)[0]
    q = np.linalg.qr(whole)[0]
    return mean, np.linalg.inv(whole.T @ whole), float(weight @ (y - x @ mean) ** 2), float((q[: len(y)] ** 2).sum())


@pytest.mark.parametrize("rows", [MIXED, MIXED[:4], MIXED[4:], MIXED[:1]])
def test_a_printer_is_fitted_as_by_whitened_least_squares_with_its_scatter_at_rest(rows: list[Measurement]) -> None:
    def off(square: float) -> float:
        _, _, rest, settled = whitened(square, rows)
        return (2 * 0.021**2 + rest) / (2 + len(rows) - settled) - square

    square = brentq(off, 1e-5, 0.02, xtol=1e-12)
    mean, cov, _, settled = whitened(square, rows)
    p = process_of(rows, "upright")
    assert p.scatter == pytest.approx(math.sqrt(square), rel=1e-4) and p.mean == pytest.approx(mean, rel=1e-4)
    assert p.freedom == pytest.approx(2 + len(rows) - settled, rel=1e-4)
    assert p.cov == pytest.approx(cov, rel=1e-3) and (p.shrink, p.hole_b) == pytest.approx(
        (1 + mean[0], 5 * mean[0] - mean[1]), rel=1e-4
    )
    for kind, drawn, row in (("hole", 9.0, [4.0, 1, 0]), ("pin", 2.0, [-3.0, 0, 1])):
        s, n = p.shift(kind, drawn), sum(m.kind == kind for m in rows)
        sd = math.sqrt(np.array(row) @ cov @ np.array(row))
        half = t.ppf(0.95, p.freedom) * sd if n else 1.6448536 * sd
        if 0 < n < 4:
            half = max(half, 1.645 * (0.08 if kind == "hole" else 0.06) / math.sqrt(1 + n))
        assert (s.value, s.half, s.count) == (pytest.approx(mean @ row, rel=1e-4), pytest.approx(half, rel=1e-3), n)
        print_only = math.sqrt(0.8) * p.scatter
        level = t.ppf(0.95, p.freedom) if n else 1.6448536
        assert s.sigma == pytest.approx(math.hypot(print_only, s.half / level), rel=1e-3)


def test_readings_far_off_are_named_from_three_and_a_half_robust_scatters_on() -> None:
    """Four a little under, four a little over the typical, and one: its distance over the median one, times 0.6745."""
    for a, x, named in ((0.02, 0.098, ()), (0.02, 0.130, (8,)), (0.002, 0.0505, ()), (0.002, 0.0545, (8,))):
        rows = [reading("hole", 5, -0.18 + e) for e in (*[-a] * 4, *[a] * 4, x)]
        assert process_of(rows, "upright").outliers == {"hole": named, "pin": ()}
    assert process_of([reading("hole", 5, e) for e in (-0.2, 3.0)], "upright").outliers["hole"] == ()


def test_so_many_readings_halve_a_doubt_as_by_adding_them_up() -> None:
    """Information adds: each reading of that size brings one over the scatter squared."""
    for p in (process_of(MIXED, "upright"), process_of(MIXED[:2], "upright"), process_of([], "upright")):
        for kind, row in (("hole", np.array([3.0, 1, 0])), ("pin", np.array([3.0, 0, 1]))):
            n, now = more_to_halve(p, kind, 8.0), p.shift(kind, 8.0).half
            assert n is not None
            halves = [left_after(p, kind, row, k) for k in (n - 1, n)]
            assert halves[1] <= now / 2 < halves[0] or n == 1


def left_after(p: Process, kind: str, row: np.ndarray, n: int) -> float:
    if n == 0:
        return p.shift(kind, 8.0).half
    spread = float(row @ p.cov @ row)
    # One direction of three learns: the scalar form of the update (Sherman and Morrison).
    left = spread / (1 + n * spread / p.scatter**2)
    half = float(t.ppf(0.95, p.freedom + n)) * math.sqrt(left)
    count = p.counts[kind] + n
    typical = 0.08 if kind == "hole" else 0.06
    return max(half, 1.645 * typical / math.sqrt(1 + count)) if count < 4 else half


def test_prints_made_alike_days_and_contradictions_have_their_limits() -> None:
    setting = PrintSetting(0.4, 0.2)
    for nozzle, layer, same in ((0.409, 0.2, True), (0.411, 0.2, False), (0.4, 0.2305, True), (0.4, 0.168, False)):
        assert setting.same(reading("hole", 5, -0.2, nozzle_mm=nozzle, layer_height=layer)) is same
    assert setting.same(reading("hole", 5, -0.2))
    assert process_of([reading("hole", 5, -0.2, layer_height=0.3), *MIXED], "upright", setting).others == 1
    assert contradictions([reading("hole", 5, 0.0), reading("hole", 5.004, 0.163)]) == ()
    assert len(contradictions([reading("hole", 5, 0.0), reading("hole", 5, 0.169)])) == 1
    assert contradictions([reading("hole", 5, 0.0), reading("hole", 5, 0.3, left_out=True)]) == ()
    day = datetime(2026, 5, 1, 9)
    rows = [
        (day + timedelta(days=2), reading("hole", 5, -0.30, bar="b")),
        (day, reading("hole", 5, -0.20, bar="a")),
        (day + timedelta(hours=2), reading("hole", 5, -0.22, bar="a")),
        (day + timedelta(hours=3), reading("hole", 5, -0.40, bar="c", left_out=True)),
        (day + timedelta(days=2, hours=1), reading("pin", 5, 0.1, bar="b")),
        (day + timedelta(days=2, hours=2), reading("hole", 5, -0.31, bar="d", layer_height=0.3)),
    ]
    moved = history(rows, "hole", "upright", 5.0, setting)
    assert [(m.bar, m.count, m.when) for m in moved] == [
        ("a", 2, day + timedelta(hours=2)),
        ("b", 3, day + timedelta(days=2)),
    ]


def test_windows_of_screws_reach_half_way_to_their_neighbours() -> None:
    """M5 by ISO 273: 5.3, 5.5, 5.8; pitch 0.8 by ISO 261. A quarter inch by ASME: 0.266, 0.281, 0.297; 20 turns."""
    m5, quarter = item("M5").bores, item("1/4 in").bores
    assert m5["close"] == pytest.approx((5.15, 5.3, 5.4)) and m5["medium"] == pytest.approx((5.4, 5.5, 5.65))
    assert m5["coarse"] == pytest.approx((5.65, 5.8, 5.95)) and m5["thread"] == pytest.approx((4.0, 4.2, 4.4))
    assert quarter["close"] == pytest.approx(tuple(25.4 * v for v in (0.258, 0.266, 0.2735)))
    assert quarter["thread"] == pytest.approx(tuple(25.4 * v for v in (0.2 - 0.0125, 0.2, 0.2 + 0.0125)))
    assert item("insert M3").bores["melt in"] == pytest.approx((3.9, 4.0, 4.1))
    assert item("nut 1/4 in").size == pytest.approx(11.1125) and item("tube 20 mm").size == 20
    for drawn, fit in ((5.5, ("M5", "medium")), (24.24, ("M20", "coarse")), (24.26, ("as drawn", "as drawn"))):
        assert suggestion(drawn) == fit
    assert suggestion(10.44, "hexagon")[0] == "nut M6" and suggestion(10.46, "hexagon")[0] == "as drawn"
    # Offered from 0.62 times less 0.4 to 1.3 times and 0.4 more.
    assert ("M8" in names("hole", 5.85), "M8" in names("hole", 5.84)) == (True, False)
    assert ("M8" in names("hole", 13.54), "M8" in names("hole", 13.56)) == (True, False)


HOLE = Shift("hole", "upright", 5, -0.20, -0.26, -0.14, 0.03, 5, (), "yours, 5", 8.0)
PIN = Shift("pin", "upright", 5, 0.06, 0.02, 0.10, 0.02, 5, (), "yours, 5", 8.0)
FREES, ACROSS, FLARE = Range(0.30, 0.20, 0.40), Range(0.16, 0.08, 0.30), Range(0.15, 0.05, 0.25)


def gap(drawn: float | None, between: int | None = None, lowest: float | None = None) -> Freedom:
    g = Gap((0, 1), drawn if drawn is not None else 0.2, (0, 0, 0), drawn, 3.0, between, 0.2, lowest)
    return freedom(g, HOLE, PIN, FREES, ACROSS, FLARE)


def test_what_comes_of_a_gap_is_by_normal_tables() -> None:
    """Half of each shift of diameters a side: 0.13 mm narrower; the doubts of both, halved, and the scatter."""
    scatter = math.hypot(math.hypot(0.03, 0.02) / 2, math.hypot(0.06, 0.04) / 2 / 1.645)
    limit, over = NormalDist(0.30, math.hypot(0.1 / 1.645, 0.03)), NormalDist(0.16, math.hypot(0.11 / 1.645, 0.03))
    for drawn in (0.25, 0.35, 0.45, 0.60):
        f = gap(drawn)
        printed = NormalDist(drawn - 0.13, scatter)
        assert (f.printed.value, f.printed.low, f.printed.high) == pytest.approx(
            (drawn - 0.13, drawn - 0.13 - 1.645 * scatter, drawn - 0.13 + 1.645 * scatter)
        )
        assert f.welds == pytest.approx(1 - limit.cdf(drawn)) and f.rattles == pytest.approx(
            limit.cdf(drawn) * (1 - printed.cdf(0.45))
        )
        assert f.turns == pytest.approx(1 - f.welds - f.rattles)
    sure = 0.30 + 1.645 * math.hypot(0.1 / 1.645, 0.03)
    assert gap(0.25).open_to == pytest.approx(sure) and gap(0.25).cure == f"open it to {sure:.2f} mm a side"
    wide = gap(0.62)
    assert wide.open_to == pytest.approx(0.45 + 0.13 - 1.645 * scatter) and "close it" in wide.cure
    assert gap(0.45).open_to == 0.45 and gap(0.45).cure == ""
    # Both feet flare; less than a twentieth of a millimetre left, and they hold together.
    low = gap(0.5, lowest=0.5)
    left = NormalDist(0.5 - 0.13 - 2 * 0.15, math.hypot(scatter, 2 * 0.1 / 1.645))
    assert low.welds == pytest.approx(left.cdf(0.05)) and "leave about 0.07 mm" in low.why and low.open_to == 0.5
    assert "close it" in gap(0.5, lowest=0.44).why
    for empty in (0, 1, 2):
        f = gap(0.6, empty)
        assert f.welds == pytest.approx(max(1 - over.cdf(0.2 * empty), 1 - limit.cdf(0.6)), abs=1e-9)
    # 0.16 and the doubt of 0.11: two layers of 0.2, for a gap that shares no layer and one that does.
    assert gap(0.6, 0).cure == "leave 2 layers, 0.40 mm, across the layers"
    assert gap(None, 3).welds == pytest.approx(1 - over.cdf(0.6), abs=1e-9)


def test_a_ladders_interval_is_that_of_plain_integration() -> None:
    rows = [GapTrial(direction="in the layer", drawn=g, freed=g > 0.26) for g in (0.2, 0.25, 0.3, 0.35)]
    x = np.linspace(0, 1.2, 240_001)
    weight = norm.pdf(x, 0.30, 0.1 / 1.645)
    for r in rows:
        weight *= norm.cdf((r.drawn - x) / 0.03) if r.freed else norm.sf((r.drawn - x) / 0.03)
    below = np.cumsum(weight) / weight.sum()
    got = learn_frees(rows, "in the layer")
    want = float(x @ weight / weight.sum()), float(np.interp(0.05, below, x)), float(np.interp(0.95, below, x))
    assert (got.value, got.low, got.high) == pytest.approx(want, abs=1e-3)
    assert chance_freed(0.27, got) == pytest.approx(
        NormalDist(got.value, math.hypot((got.high - got.low) / 3.29, 0.03)).cdf(0.27)
    )
    said = odd_gap_steps([*rows, GapTrial(direction="in the layer", drawn=0.32, freed=False)], "in the layer")
    assert said.startswith("0.30 mm came free and 0.32 mm did not") and odd_gap_steps(rows, "across it") == ""


def test_running_in_weighs_readings_and_typical_growth_as_a_second_search_does() -> None:
    logged = [(0.0, 0.10), (5.0, 0.13), (15.0, 0.17), (60.0, 0.22)]
    n, c = np.array(logged).T

    def cost(x: np.ndarray) -> float:
        curve = x[0] + x[1] * (1 - np.exp(-n / np.exp(x[2])))
        # Readings to two hundredths; growth 0.075, three times its own doubt; the cycles to a factor e squared.
        grown = (x[1] - 0.075) / (3 * 0.05 / 3.29)
        return float((((curve - c) / 0.02) ** 2).sum() + grown**2 + ((x[2] - math.log(20)) / 2) ** 2)

    best = minimize(cost, [0.1, 0.1, 3.0], method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-12}).x
    made = running_in(logged)
    assert (made.start, made.grows, math.log(made.cycles)) == pytest.approx(tuple(best), abs=2e-5)
    assert running_in(logged[:2]).after(20) == pytest.approx(0.10 + 0.075 * (1 - math.exp(-1)))
    assert running_in((), 0.05).start == 0.05
    assert tight_window((0.15, 0.35)) == (0.075, 0.275) and start_tight((0.15, 0.19)) == pytest.approx(0.15 - 0.0375)
    ball, cone = wobble(0.2, 30, 50, "ball"), wobble(0.2, 30, 50, "cone", 30.0)
    # A flank of 30 degrees that gives a tenth: four tenths of diameter.
    assert across_of_flank(0.1) == pytest.approx(0.4)
    assert ball.at_tip == pytest.approx(0.2) and cone.at_tip == pytest.approx(50 * 2 * 0.2 / math.cos(math.pi / 6) / 30)


def test_a_correction_prints_at_what_is_wanted_by_the_shift_of_its_own_size() -> None:
    for degrees, axis in ((29.5, "upright"), (30.5, "lying")):
        lean = math.radians(degrees)
        f = Feature("hole-1", "hole", (0, 0, 0), (math.sin(lean), 0, math.cos(lean)), np.zeros(0, int), 0.0, 8.0, 8.0)
        assert axis_of(f, UP) == axis
    f = Feature("hole-1", "hole", (0, 0, 0), UP, np.zeros(0, int), 0.0, 30.0, 8.0, True, 48)
    rows = [reading("hole", d, -0.1 - 0.01 * d) for d in (5, 10, 20, 30, 40, 50)]  # loses a hundredth of its size
    c = correct(f, Mate(feature="hole-1", hardware="rod 28 mm", fit="slide"), UP, rows)
    assert c.to_mm + learn(rows, "hole", "upright", c.to_mm).value == pytest.approx(28.25, abs=5e-6)
    now = learn(rows, "hole", "upright", 30.0)
    assert (c.low, c.high) == pytest.approx((c.to_mm - now.half, c.to_mm + now.half))
    want = Target(5.25, 5.15, 5.35, 5.0, "")
    for inside in (True, False):
        told = odds(want, 5.15 + 1.2 * 0.1, 0.1, 6.0, inside)
        small, large = t.cdf(-1.2, 6.0), t.cdf((5.27 - 5.35) / 0.1, 6.0)
        mid = 1 - small - large
        assert told == pytest.approx((small, mid, large) if inside else (large, mid, small))
    pin = replace(f, id="pin-1", kind="pin", inside=None, diameter=27.0)
    painted = Mate(feature="hole-1", hardware="as drawn", fit="slide", partner="pin-1", side="hole", finish_mm=0.05)
    pair = correct(f, painted, UP, (), pin)
    over = 27.0 + learn((), "pin", "upright", 27.0).value
    # Both are painted all round: four coats of the diameter.
    assert (pair.target.low, pair.target.high) == pytest.approx((over + 0.15 + 0.2, over + 0.35 + 0.2))
    assert pair.to_mm == pytest.approx(over + 0.45 - learn((), "hole", "upright", 30.0).value)
