"""Fits worked a second way: whitened least squares, normal tables, plain integration, the standards' rows."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import date, datetime, timedelta
from statistics import NormalDist

import numpy as np
import pytest
from scipy.optimize import minimize
from scipy.stats import multivariate_normal, norm

from knollside.core.fit import posterior, process
from knollside.core.fit.clearance import Across, Freedom, Gap, Place, freedom
from knollside.core.fit.correction import axis_of, correct, odds
from knollside.core.fit.freeing import chance_freed, learn_frees, odd_gap_steps
from knollside.core.fit.hardware import item, names, suggestion
from knollside.core.fit.layering import Layering
from knollside.core.fit.play import across_of_flank, running_in, start_tight, tight_window, wobble
from knollside.core.fit.posterior import Foretold
from knollside.core.fit.process import (
    PrintSetting,
    contradictions,
    history,
    learn,
    process_of,
)
from knollside.core.fit.windows import Target
from knollside.core.model import Feature, GapTrial, Mate, Measurement, Range

UP = (0.0, 0.0, 1.0)


def reading(kind: str, drawn: float, error: float, repeats: int = 1, **more: object) -> Measurement:
    said = {"kind": kind, "axis": "upright", "drawn": drawn, "printed": drawn + error, "repeats": repeats}
    return Measurement.model_validate(said | more)


DAY = date(2026, 6, 1)
TWO_PRINTS = [
    *(reading("hole", d, e, n, bar="a", on=DAY) for d, e, n in ((3, -0.20, 1), (5, -0.24, 3), (12, -0.26, 5))),
    *(reading("hole", d, e, bar="b", on=DAY + timedelta(days=7)) for d, e in ((4, -0.15), (8, -0.19))),
    *(reading("pin", d, e, bar="b", on=DAY + timedelta(days=7)) for d, e in ((4, 0.05), (25, -0.05))),
    reading("hole", 8, -0.16, bar="b", on=DAY + timedelta(days=7), between=(7.8, 7.9)),
    reading("known hole", 6, 0.03),
]
SD = {"s0": 0.02, "s1": 0.003, "su": 0.045, "small": 0.4, "drift": 0.03}


def dense(  # type: ignore[no-untyped-def]
    rows: list[Measurement],
    s0: float,
    s1: float,
    su: float,
    small: float,
    drift: float,
    changed: tuple[date, ...] = (),
):
    """Mean, covariance of the readings, and of them with a hole and a pin of the next print, written out term by term
    from the model in words, with no least squares anywhere."""
    end = max(m.on for m in rows if m.on)
    var = {
        "shrink": 0.006**2,
        "hole": 0.10**2,
        "pin": 0.08**2,
        "small": small**2,
        "hole drift": drift**2,
        "pin drift": drift**2,
        "zero": 0.06**2,
        "outside zero": 0.06**2,
        "jaws": 0.25**2,
    }
    told = {"shrink": -0.002, "hole": -0.18, "pin": 0.04, "jaws": 0.1}

    def speaks(m: Measurement) -> dict[str, float]:
        known, inside = m.kind.startswith("known"), m.kind.endswith("hole")
        out: dict[str, float] = {}
        if not known:
            out |= {"shrink": m.drawn - 5, "hole" if inside else "pin": 1}
            if inside:
                out["small"] = 0.2 - 1 / m.drawn
            out["hole drift" if inside else "pin drift"] = (m.on - end).days / 7 if m.on else 0.0
        if m.between is None:
            out["zero" if inside else "outside zero"] = 1
            if inside:
                out["jaws"] = -1 / m.printed
        return out

    n = len(rows)
    terms = [speaks(m) for m in rows]
    mean = np.array([sum(told.get(k, 0.0) * v for k, v in t.items()) for t in terms])
    cov = np.array([[sum(var[k] * a[k] * b[k] for k in a.keys() & b.keys()) for b in terms] for a in terms])
    for i, a in enumerate(rows):
        for j, b in enumerate(rows):
            if a.kind.startswith("known") or b.kind.startswith("known"):
                continue
            # Both from before a change of the printer, and between the same two: one jump of 0.03 mm.
            older = [sum(m.on < day for day in changed) for m in (a, b)]
            if a.kind == b.kind and older[0] == older[1] > 0:
                cov[i, j] += 0.03**2
            if a.kind == b.kind and (a.bar, a.on) == (b.bar, b.on):
                cov[i, j] += su**2
                if a.drawn == b.drawn:  # one place, read twice
                    cov[i, j] += 0.9 * (s0 + s1 * a.drawn) ** 2
    for i, m in enumerate(rows):
        if m.kind.startswith("known"):
            cov[i, i] += 0.01**2 / 12 + 0.01**2
        elif m.between is not None:
            cov[i, i] += (m.between[1] - m.between[0]) ** 2 / 12
        else:
            cov[i, i] += 0.01**2 / 12 + 0.1 / m.repeats * (s0 + s1 * m.drawn) ** 2
    to = [{"shrink": 4.0, "hole": 1, "small": 0.2 - 1 / 9}, {"shrink": -3.0, "pin": 1}]
    ahead = np.array([sum(told.get(k, 0.0) * v for k, v in t.items()) for t in to])
    cross = np.array([[sum(var[k] * a[k] * b[k] for k in a.keys() & b.keys()) for b in terms] for a in to])
    own = np.array([[sum(var[k] * a[k] * b[k] for k in a.keys() & b.keys()) for b in to] for a in to])
    gain = cross @ np.linalg.inv(cov)
    off = np.array([m.printed - m.drawn for m in rows]) - mean
    log = multivariate_normal(np.zeros(n), cov).logpdf(off)
    return log, ahead + gain @ off, own - gain @ cross.T


@pytest.mark.parametrize("at", [{}, {"s1": 0.0}, {"su": 0.012}, {"small": 1e-9, "drift": 1e-9}])
def test_a_printer_is_learned_as_by_conditioning_one_large_normal(
    at: dict[str, float], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two points of the grid: their weights by the readings' own density, what they foretell by conditioning."""
    both = SD, SD | at | {"s0": 0.03}
    monkeypatch.setattr(posterior, "_SLIP", 1e-12)
    found = []
    for sd in both:
        monkeypatch.setattr(posterior, "_SCATTERS", np.array([sd["s0"]]))
        for name, key in (("_GROWS", "s1"), ("_PRINTS", "su"), ("_SMALL", "small"), ("_RESTLESS", "drift")):
            monkeypatch.setattr(posterior, name, ((sd[key], 1.0),))
        process._process.cache_clear()
        p = process_of(TWO_PRINTS, "upright")
        log, mean, cov = dense(TWO_PRINTS, **sd)
        hole, pin = p.shift("hole", 9.0), p.shift("pin", 2.0)
        place = [0.9 * (sd["s0"] + sd["s1"] * d) ** 2 for d in (9.0, 2.0)]
        assert (hole.value, pin.value) == pytest.approx(tuple(mean), abs=1e-6)
        assert hole.sigma**2 == pytest.approx(cov[0, 0] + sd["su"] ** 2 + place[0], rel=1e-4)
        assert pin.sigma**2 == pytest.approx(cov[1, 1] + sd["su"] ** 2 + place[1], rel=1e-4)
        assert hole.half == pytest.approx(1.6449 * hole.sigma, rel=1e-3)
        assert hole.doubt == pytest.approx(1.6449 * math.sqrt(cov[0, 0] + sd["su"] ** 2), rel=1e-3)
        # One print, one shrink: the gap's doubt is that of the difference, and too much material is in both.
        gap = cov[0, 0] + cov[1, 1] - 2 * cov[0, 1] + (2 * sd["su"]) ** 2 + sum(place)
        assert p.gap(9.0, 2.0).sigma ** 2 == pytest.approx(gap, rel=1e-4)
        found.append((log, p))
    # Both in one grid: weighed by how likely each makes the readings, and by the scatter's own prior.
    if not at:
        monkeypatch.setattr(posterior, "_SCATTERS", np.array([0.02, 0.03]))
        process._process.cache_clear()
        weights = process_of(TWO_PRINTS, "upright").posterior.weights
        prior = [-0.5 * ((math.log(s) - math.log(0.018)) / 0.55) ** 2 for s in (0.02, 0.03)]
        odds_now = math.exp(found[1][0] + prior[1] - found[0][0] - prior[0])
        assert weights[1] / weights[0] == pytest.approx(odds_now, rel=1e-4)
    process._process.cache_clear()


@pytest.mark.parametrize("days", [(3,), (3, 9), (0, 20)])
def test_readings_from_before_a_change_of_the_printer_speak_through_a_jump(
    days: tuple[int, ...], monkeypatch: pytest.MonkeyPatch
) -> None:
    changed = tuple(DAY + timedelta(days=d) for d in days)
    monkeypatch.setattr(posterior, "_SLIP", 1e-12)
    monkeypatch.setattr(posterior, "_SCATTERS", np.array([SD["s0"]]))
    for name, key in (("_GROWS", "s1"), ("_PRINTS", "su"), ("_SMALL", "small"), ("_RESTLESS", "drift")):
        monkeypatch.setattr(posterior, name, ((SD[key], 1.0),))
    process._process.cache_clear()
    p = process_of(TWO_PRINTS, "upright", PrintSetting(0.4, 0.2, None, changed))
    _, mean, cov = dense(TWO_PRINTS, **SD, changed=changed)
    plain = dense(TWO_PRINTS, **SD)[2]
    hole, pin = p.shift("hole", 9.0), p.shift("pin", 2.0)
    assert (hole.value, pin.value) == pytest.approx(tuple(mean), abs=1e-6)
    place = [0.9 * (SD["s0"] + SD["s1"] * d) ** 2 for d in (9.0, 2.0)]
    assert hole.sigma**2 == pytest.approx(cov[0, 0] + SD["su"] ** 2 + place[0], rel=1e-4)
    assert pin.sigma**2 == pytest.approx(cov[1, 1] + SD["su"] ** 2 + place[1], rel=1e-4)
    if days[-1] > 7:
        assert cov[0, 0] > plain[0, 0] + 0.0001  # nothing was read since: as doubtful as the jump
    process._process.cache_clear()


def test_a_mixture_is_read_as_by_plain_integration() -> None:
    f = Foretold(np.array([0.7, 0.3]), np.array([0.0, 0.2]), np.array([0.1, 0.3]))
    x = np.linspace(-3, 3, 600_001)
    density = 0.7 * norm.pdf(x, 0, 0.1) + 0.3 * norm.pdf(x, 0.2, 0.3)
    below = np.cumsum(density) * (x[1] - x[0])
    assert f.mean == pytest.approx(0.06) and f.sigma == pytest.approx(math.sqrt((x**2 @ density) * 1e-5 - 0.06**2))
    for share in (0.05, 0.5, 0.95):
        assert f.quantile(share) == pytest.approx(float(np.interp(share, below, x)), abs=1e-4)
    assert f.below(0.1) == pytest.approx(float(np.interp(0.1, x, below)), abs=3e-5)
    g = f.scaled(-0.5).moved(1.0, 0.2)
    assert g.mean == pytest.approx(0.97) and g.sigma == pytest.approx(math.hypot(0.5 * f.sigma, 0.2))
    assert f.less(g, 0.1).sigma == pytest.approx(math.sqrt(f.sigma**2 + g.sigma**2 + 2 * 0.01))


def test_readings_far_off_are_named_and_hardly_count() -> None:
    even = [reading("hole", d, -0.18 + e) for d, e in ((4, -0.02), (5, 0.02), (6, -0.01), (8, 0.01), (10, 0.0))]
    plain = process_of(even, "upright")
    slipped = process_of([*even, reading("hole", 7, 0.3)], "upright")
    assert plain.outliers["hole"] == () and slipped.outliers["hole"] == (5,)
    assert slipped.shift("hole", 7.0).value == pytest.approx(plain.shift("hole", 7.0).value, abs=0.02)
    # With few readings none is called wrong: which it is cannot be told.
    assert process_of([reading("hole", 5, e) for e in (-0.2, 3.0)], "upright").outliers["hole"] == ()


def test_prints_made_alike_days_and_contradictions_have_their_limits() -> None:
    setting = PrintSetting(0.4, 0.2)
    for nozzle, layer, same in ((0.409, 0.2, True), (0.411, 0.2, False), (0.4, 0.2305, True), (0.4, 0.168, False)):
        assert setting.same(reading("hole", 5, -0.2, nozzle_mm=nozzle, layer_height=layer)) is same
    assert setting.same(reading("hole", 5, -0.2))
    assert process_of([reading("hole", 5, -0.2, layer_height=0.3), *TWO_PRINTS], "upright", setting).others == 1
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


SIDE = Foretold(np.ones(1), np.array([-0.13]), np.array([0.04]))
FREES, ACROSS, FLARE = Range(0.30, 0.20, 0.40), Range(0.16, 0.08, 0.30), Range(0.15, 0.05, 0.25)


def gap(drawn: float | None, between: int | None = None, lowest: float | None = None) -> Freedom:
    over = None if between is None else Across(0.2 * between, 3.0, between, between, None, Layering(0.2, 0.2))
    place = Place(drawn, 3.0, over, lowest)
    g = Gap((0, 1), drawn if drawn is not None else 0.2, (0, 0, 0), None, None, place)
    return freedom(g, SIDE, "yours, 5", FREES, ACROSS, FLARE)


def test_what_comes_of_a_gap_is_by_normal_tables() -> None:
    """A side prints 0.13 mm narrower, give or take 0.04."""
    scatter = 0.04
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
    assert (c.low, c.high) == pytest.approx((c.to_mm - now.doubt, c.to_mm + now.doubt))
    want = Target(5.25, 5.15, 5.35, 5.0, "")
    for inside in (True, False):
        told = odds(want, Foretold(np.ones(1), np.array([5.15 + 1.2 * 0.1]), np.array([0.1])), inside)
        small, large = norm.cdf(-1.2), norm.cdf((5.27 - 5.35) / 0.1)
        mid = 1 - small - large
        assert told == pytest.approx((small, mid, large) if inside else (large, mid, small))
    pin = replace(f, id="pin-1", kind="pin", inside=None, diameter=27.0)
    painted = Mate(feature="hole-1", hardware="as drawn", fit="slide", partner="pin-1", side="hole", finish_mm=0.05)
    pair = correct(f, painted, UP, (), pin)
    over = 27.0 + learn((), "pin", "upright", 27.0).value
    # Both are painted all round: four coats of the diameter.
    assert (pair.target.low, pair.target.high) == pytest.approx((over + 0.15 + 0.2, over + 0.35 + 0.2))
    assert pair.to_mm == pytest.approx(over + 0.45 - learn((), "hole", "upright", pair.to_mm).value)
