"""Fits: the process learned from readings, hardware and windows, corrections with their odds."""

from __future__ import annotations

import math
from datetime import datetime, timedelta

import numpy as np
import pytest
from conftest import plate_with_hole
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm, t

from knollside.core.fit.correction import correct, odds
from knollside.core.fit.flaring import learn_flare
from knollside.core.fit.freeing import TYPICAL as FREES
from knollside.core.fit.freeing import chance_freed, learn_frees, odd_gap_steps
from knollside.core.fit.hardware import ISO_273, catalogue, item, names, suggestion
from knollside.core.fit.play import across_of_flank, running_in, start_tight, wobble
from knollside.core.fit.process import (
    TYPICAL,
    PrintSetting,
    contradictions,
    history,
    learn,
    more_to_halve,
    process_of,
)
from knollside.core.fit.windows import CLASSES, target, windows_for
from knollside.core.mesh.features import find_features
from knollside.core.model import Feature, GapTrial, Mate, Measurement, Range, Refused
from knollside.sim.desk import SimulatedCalliper, SimulatedPrinter

UP = (0.0, 0.0, 1.0)


def mate(hardware: str = "M5", fit: str = "medium", **more) -> Mate:  # type: ignore[no-untyped-def]
    return Mate(feature="hole-1", hardware=hardware, fit=fit, **more)


def round_of(kind: str, d: float, name: str = "") -> Feature:
    return Feature(name or f"{kind}-1", kind, (0, 0, 0), UP, np.zeros(0, int), 0.0, d, 8.0, True, 48)


def test_hardware_sizes_are_those_of_the_standard() -> None:
    assert ISO_273["M5"] == (5.0, 5.3, 5.5, 5.8) and ISO_273["M12"] == (12.0, 13.0, 13.5, 14.5)
    assert target(mate(), True, 5.0).size == 5.5
    slide = target(mate(fit="slide"), True, 5.0)
    assert (slide.size, slide.low, slide.high) == pytest.approx((5.25, 5.15, 5.35))
    assert target(mate("rod 8 mm", "press"), False, 8.0).size == pytest.approx(8.05)
    assert suggestion(5.3) == ("M5", "close") and suggestion(10.2, "hexagon") == ("nut M6", "snug")
    quarter = item("1/4 in")
    assert quarter.size == pytest.approx(6.35) and quarter.bores["medium"][1] == pytest.approx(0.281 * 25.4)
    assert item("#8").bores["thread"][1] == pytest.approx((0.164 - 1 / 32) * 25.4)  # nominal less pitch
    assert item("bearing 608").size == 22 and item("bore of 608").size == 8 and item("nut M6").size == 10
    assert all(i.bores or i.classes for i in catalogue().values()) and len(catalogue()) > 120
    assert "nut M6" in names("hexagon", 10.2) and "M5" in names("hole", 5.3) and "M20" not in names("hole", 5.3)
    for hardware, fit, hole in (("M99", "medium", True), ("rod 5 mm", "coarse", True), ("M5", "close", False)):
        with pytest.raises(Refused):
            target(mate(hardware, fit), hole, 5.0)


def test_a_thing_counts_with_its_sleeve_and_a_material_with_its_windows() -> None:
    thing = mate("as drawn", "slide", size_mm=20, sleeve_mm=1.5, tolerance_mm=0.2)
    want = target(thing, True, 22)
    assert (want.low, want.high) == pytest.approx((20 + 3 + 0.2 + 0.15, 20 + 3 + 0.2 + 0.35))
    assert want.partner == 23
    own = windows_for("PETG", {"slide": (0.3, 0.4)})
    assert target(mate("rod 8 mm", "slide"), True, 8, own).size == pytest.approx(8.35)
    assert windows_for("TPU 95A")["press"] != CLASSES["press"] and windows_for("PETG") == CLASSES
    assert target(mate("rod 8 mm", "slide", window=(0.1, 0.2)), True, 8).size == pytest.approx(8.15)
    with pytest.raises(ValueError, match="window"):
        mate(window=(0.3, 0.1))


def readings(errors: list[float], kind: str = "hole", drawn: float = 5.0) -> list[Measurement]:
    return [Measurement(kind=kind, axis="upright", drawn=drawn, printed=drawn + e) for e in errors]


def test_own_measurements_beat_the_table_as_they_grow() -> None:
    none = learn([], "hole", "upright")
    assert none.source == "typical" and none.value == pytest.approx(TYPICAL["hole", "upright"][0])
    few, many = (
        learn(readings([-0.30] * 3), "hole", "upright"),
        learn(readings([-0.30, -0.31, -0.29] * 6), "hole", "upright"),
    )
    assert none.value > few.value > many.value == pytest.approx(-0.30, abs=0.005)
    assert none.half > few.half > many.half
    assert many.source == "yours, 18"
    assert learn(readings([-0.2, -0.21, -0.2, -0.19, -0.6]), "hole", "upright").outliers == (4,)


def test_shrink_and_shifts_are_told_apart_as_by_least_squares() -> None:
    """Many exact readings over a wide range: the prior has no say, and the answer is ordinary least squares'."""
    sizes = np.tile(np.linspace(3, 60, 12), 6)
    rng = np.random.default_rng(4)
    hole = [(d, 0.994 * d - 0.11 + e) for d, e in zip(sizes, rng.normal(0, 0.005, len(sizes)), strict=True)]
    pin = [(d, 0.994 * d + 0.07 + e) for d, e in zip(sizes, rng.normal(0, 0.005, len(sizes)), strict=True)]
    taken = [
        Measurement(kind=k, axis="upright", drawn=d, printed=p)
        for k, rows in (("hole", hole), ("pin", pin))
        for d, p in rows
    ]
    p = process_of(taken, "upright")
    assert (p.shrink, p.hole_b, p.pin_c) == pytest.approx((0.994, 0.11, 0.07), abs=0.002)
    x = np.array([[m.drawn, m.kind == "hole", m.kind == "pin"] for m in taken], float)
    s, b, c = np.linalg.lstsq(x, np.array([m.printed for m in taken]), rcond=None)[0]
    assert (p.shrink, -p.hole_b, p.pin_c) == pytest.approx((s, b, c), abs=2e-4)
    assert p.shift("hole", 40).value == pytest.approx(-0.006 * 40 - 0.11, abs=0.005)
    # Pins alone tell the shrink of holes too: one shrink an axis.
    assert process_of(taken[len(hole) :], "upright").shift("hole", 60).value < learn([], "hole", "upright", 60).value


def test_readings_of_another_nozzle_or_layer_do_not_count_and_repeats_weigh_more() -> None:
    fine, thick = PrintSetting(0.4, 0.2), PrintSetting(0.4, 0.28)
    taken = [
        Measurement(kind="hole", axis="upright", drawn=5, printed=4.7, layer_height=0.28, nozzle_mm=0.4, bar="a"),
        Measurement(kind="hole", axis="upright", drawn=5, printed=4.9, layer_height=0.2, nozzle_mm=0.4, bar="b"),
    ]
    assert process_of(taken, "upright", fine).others == 1 and learn(taken, "hole", "upright", 5, fine).count == 1
    assert learn(taken, "hole", "upright", 5, fine).value > learn(taken, "hole", "upright", 5, thick).value
    one, five = (
        [*readings([-0.1]), Measurement(kind="hole", axis="upright", drawn=5, printed=4.7, repeats=n)] for n in (1, 50)
    )
    assert learn(five, "hole", "upright").value < learn(one, "hole", "upright").value


def test_so_many_more_readings_halve_the_doubt_and_no_fewer() -> None:
    base = readings([-0.2, -0.18, -0.22, -0.19])
    p = process_of(base, "upright")
    n = more_to_halve(p, "hole")
    assert n is not None
    # Readings that scatter as those so far do, added for real.
    more = list(np.resize([-0.1975 + p.scatter, -0.1975 - p.scatter], n))
    assert learn([*base, *readings(more)], "hole", "upright").half == pytest.approx(p.shift("hole").half / 2, rel=0.2)
    assert more_to_halve(process_of([], "upright"), "hole") is not None


def test_the_history_moves_from_bar_to_bar_and_contradictions_are_said() -> None:
    day = datetime(2026, 3, 1)
    dated = [(day + timedelta(days=k // 4), m) for k, m in enumerate(readings([-0.2] * 4 + [-0.3] * 8))]
    moved = history(dated, "hole", "upright")
    assert [m.count for m in moved] == [4, 8, 12] and moved[0].value > moved[1].value > moved[2].value
    assert moved[2].value == pytest.approx(learn([m for _, m in dated], "hole", "upright").value)
    (said,) = contradictions(readings([-0.2, -0.21, 0.2]))
    assert "5 mm" in said and "4.79 and 5.20" in said and contradictions(readings([-0.2, -0.25])) == ()


@settings(max_examples=40, deadline=None)
@given(st.floats(-0.4, 0.0), st.integers(4, 12), st.integers(0, 10_000))
def test_the_shift_lies_between_the_prior_and_the_readings(shift: float, n: int, seed: int) -> None:
    errors = np.random.default_rng(seed).normal(shift, 0.02, n)
    got = learn(readings(list(errors)), "hole", "upright")
    low, high = sorted((TYPICAL["hole", "upright"][0], float(errors.mean())))
    assert low - 1e-4 <= got.value <= high + 1e-4 and got.low < got.value < got.high


def test_the_closed_loop_centres_the_error() -> None:
    """Measure a simulated printer's holes, correct, print again: the error goes to nothing."""
    rng = np.random.default_rng(3)
    printer, calliper = SimulatedPrinter(), SimulatedCalliper()
    f = find_features(plate_with_hole(48, 5.5))[0]
    off = []
    for _ in range(60):
        taken = [
            Measurement(
                kind="hole",
                axis="upright",
                drawn=d,
                printed=calliper.read(printer.printed("hole", "upright", d, rng), rng),
            )
            for d in (4, 5, 5.5, 6) * 2
        ]
        c = correct(f, mate(), UP, taken)
        off.append(printer.printed("hole", "upright", c.to_mm, rng) - 5.5)
        assert c.low < c.to_mm < c.high and c.chance_then[1] > c.chance_now[1]
    assert abs(float(np.mean(off))) < 0.02


def test_chances_are_those_of_students_t_and_add_up() -> None:
    s = learn(readings([-0.2] * 8), "hole", "upright")
    want = target(mate(fit="slide"), True, 5.0)
    binds, fits, rattles = odds(want, 5.25 + s.value, s.sigma, s.freedom, True)
    assert binds + fits + rattles == pytest.approx(1)
    print_only = s.scatter * math.sqrt(0.8)  # a fifth of a lone reading's variance is the calliper's
    assert s.sigma == pytest.approx(math.hypot(print_only, s.half / t.ppf(0.95, s.freedom)))
    assert binds == pytest.approx(t.cdf((5.15 - 5.25 - s.value) / s.sigma, s.freedom))
    assert correct(round_of("hole", 5), mate(fit="slide"), (1.0, 0, 0), []).axis == "lying"


@pytest.mark.parametrize(("side", "moves"), [("hole", (1, 0)), ("pin", (0, 1)), ("both", (0.5, 0.5))])
def test_printed_partners_share_the_change_as_told(side: str, moves: tuple[float, float]) -> None:
    hole, pin = round_of("hole", 8.0), round_of("pin", 8.0)
    two = mate("as drawn", "slide", partner="pin-1", side=side)
    a = correct(hole, two, UP, [], pin)
    b = correct(pin, two.model_copy(update={"feature": "pin-1", "partner": "hole-1"}), UP, [], hole)
    up, over = learn([], "hole", "upright", 8.0), learn([], "pin", "upright", 8.0)
    whole = 0.25 - (up.value - over.value)  # to the middle of the window
    assert a.to_mm - 8 == pytest.approx(moves[0] * whole, abs=1e-9) and 8 - b.to_mm == pytest.approx(moves[1] * whole)
    # Whoever moves, the gap is then in the middle, and both say the same of it.
    assert a.chance_then == pytest.approx(b.chance_then) and a.chance_then[0] == pytest.approx(a.chance_then[2])
    assert a.sigma == pytest.approx(math.hypot(up.sigma, over.sigma)) and a.chance_now[0] > 0.9
    with pytest.raises(Refused, match="not a hole and a pin"):
        correct(hole, two, UP, [], round_of("hole", 8.0, "hole-2"))


def test_a_round_lying_hole_is_tighter_from_top_to_bottom() -> None:
    lying = (1.0, 0.0, 0.0)
    plain, tear = (
        correct(round_of("hole", 6), mate("rod 6 mm", "slide", shape=s), lying, []) for s in ("round", "teardrop")
    )
    across, plumb = (learn([], "hole", axis, 6) for axis in ("lying", "plumb"))
    drop = across.value - plumb.value
    assert drop == pytest.approx(0.14, abs=0.01) and plain.to_mm - tear.to_mm == pytest.approx(drop / 2, abs=1e-3)
    # Its two sizes lie to either side of the window's middle, and the lesser one binds.
    want, sigma = plain.target, across.sigma
    assert plain.chance_then[0] == pytest.approx(norm.cdf((want.low - want.size + drop / 2) / sigma), abs=1e-6)
    assert plain.chance_then[0] == pytest.approx(plain.chance_then[2]) and plain.chance_then[1] < tear.chance_then[1]


def test_paint_is_left_room_for_and_adds_its_doubt() -> None:
    bare, painted = (
        correct(round_of("hole", 8), mate("rod 8 mm", "slide", finish=f), UP, []) for f in ("none", "paint")
    )
    assert painted.to_mm - bare.to_mm == pytest.approx(2 * 0.06, abs=0.001) and painted.sigma > bare.sigma
    pin = correct(round_of("pin", 8), mate("tube 8 mm", "slide", finish="paint"), UP, [])
    assert pin.target.size == pytest.approx(8 - 0.25 - 0.12)
    assert correct(round_of("hole", 8), mate("rod 8 mm", "slide", finish_mm=0.1), UP, []).coat.source == "yours"


def test_a_gap_ladder_narrows_what_the_printer_frees() -> None:
    gap_steps = (0.1, 0.15, 0.2, 0.25, 0.3, 0.35)
    taken = [GapTrial(direction="in the layer", drawn=g, freed=g > 0.22) for g in gap_steps]
    got, typical = learn_frees(taken, "in the layer"), FREES["in the layer"]
    assert 0.19 < got.low < got.value < got.high < 0.29 and got.source == "yours, 6"
    assert got.high - got.low < 0.5 * (typical.high - typical.low)
    assert learn_frees(taken, "across it") == FREES["across it"]
    # Against the same posterior by plain numerical integration.
    x = np.linspace(0, 0.8, 8001)
    weight = norm.pdf(x, typical.value, (typical.high - typical.low) / 3.29)
    for r in taken:
        weight *= norm.cdf((r.drawn - x) / 0.03) if r.freed else norm.sf((r.drawn - x) / 0.03)
    assert got.value == pytest.approx(float((weight * x).sum() / weight.sum()), abs=1e-3)
    assert chance_freed(0.35, got) > 0.99 and chance_freed(0.15, got) < 0.02
    assert odd_gap_steps(taken, "in the layer") == ""
    assert "look at both" in odd_gap_steps(
        [*taken, GapTrial(direction="in the layer", drawn=0.12, freed=True)], "in the layer"
    )


def test_flare_is_the_foot_less_what_outsides_grow() -> None:
    outside = readings([0.06] * 12, "pin", 20.0)
    feet = [Measurement(kind="foot", axis="upright", drawn=20, printed=20.06 + 2 * f) for f in (0.2, 0.22, 0.18, 0.2)]
    got = learn_flare([*outside, *feet])
    assert got.value == pytest.approx(0.2, abs=0.01) and got.low < 0.2 < got.high and got.source == "yours, 4"
    assert isinstance(learn_flare(outside), Range) and learn_flare(outside).source == "typical"


def test_wobble_threads_and_running_in_follow_their_formulas() -> None:
    w = wobble(0.2, 30.0, 50.0)
    assert w.degrees == pytest.approx(math.degrees(math.atan(0.4 / 30))) and w.at_tip == pytest.approx(50 * 0.4 / 30)
    cone = wobble(0.2, 30.0, 50.0, "cone")
    assert cone.at_tip == pytest.approx(w.at_tip * math.sqrt(2)) and wobble(0.2, 30, 50, "ball").degrees == 0
    # 60 degree profile: a flank's 0.1 mm is 0.4 mm of diameter; flat square flanks would give none.
    assert across_of_flank(0.1) == pytest.approx(0.4)
    true = [(n, 0.05 + 0.09 * (1 - math.exp(-n / 12.0))) for n in (0, 3, 6, 10, 20, 40, 80)]
    fitted = running_in(true)
    assert fitted.after(1e6) == pytest.approx(0.14, abs=0.004) and fitted.after(0) == pytest.approx(0.05, abs=0.004)
    assert running_in([(0, 0.1)]).source == "typical" and fitted.source == "yours, 7"
    assert start_tight((0.15, 0.35)) == pytest.approx(0.25 - 0.075)
    with pytest.raises(Refused):
        wobble(0.2, 0.0, 10.0)
