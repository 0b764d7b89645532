"""What readings say against the model, the reading worth most next, gauges, and readings that came in a wrong order."""

from __future__ import annotations

from datetime import date, timedelta

import numpy as np
import pytest
from printers import SIZES, Habits, bars_of
from scipy.stats import f as fisher
from scipy.stats import linregress, t

from knollside.core.fit.doubts import disorders, doubts, next_reading, put_in_order, strangers
from knollside.core.fit.gauges import GaugeSet, Tried, sizes
from knollside.core.fit.posterior import Foretold
from knollside.core.fit.process import process_of
from knollside.core.learning.readingstable import read_readings, write_readings
from knollside.core.model import Measurement, Refused

PLAIN = dict.fromkeys(("small", "oval", "prints", "drift", "grows", "zero", "jaws", "slips"), 0.0)


def printer(**more: float) -> Habits:
    return Habits(**({"loses": 0.2, "shrink": -0.002, "scatter": 0.015} | PLAIN | more))


def told(h: Habits, bars: int, seed: int = 1) -> list[str]:
    p = process_of(bars_of(h, bars, np.random.default_rng(seed)), "upright")
    return [d.words for d in doubts(p, "hole")]


def test_each_habit_is_named_and_a_straight_printer_hardly_ever_accused() -> None:
    assert any("small holes close more. Print the bar with 3, 5, 8 and 12 mm" in w for w in told(printer(small=0.6), 2))
    assert any("one more print tells more" in w for w in told(printer(prints=0.08), 3))
    assert any("+0.0" in w and "a week" in w for w in told(printer(drift=0.05), 5))
    assert any("larger along X than along Y" in w for w in told(printer(oval=0.008), 2))
    alarms = [len(told(printer(), 2, seed)) for seed in range(60)]
    assert np.mean(alarms) < 0.15  # two tests that can be made, one in fifty each


def test_the_tests_are_the_plain_ones_of_a_statistics_library() -> None:
    """A drift's chance by a straight line through print means; prints against each other by Fisher's F."""
    rng = np.random.default_rng(4)
    rows, means = [], []
    for k in range(5):
        off = 0.05 * k + rng.normal(0, 0.004)
        errors = off + rng.normal(0, 0.01, 4)
        means.append(errors.mean())
        rows += [
            Measurement(
                kind="hole",
                axis="upright",
                drawn=5,
                printed=5 + e,
                bar="b",
                on=date(2026, 5, 1) + timedelta(weeks=k),
            )
            for e in errors
        ]
    found = {("week" if "week" in d.words else "prints"): d.chance for d in doubts(process_of(rows, "upright"), "hole")}
    assert found["week"] == pytest.approx(linregress(np.arange(5), means).pvalue, rel=1e-6)
    y = np.array([m.printed - m.drawn for m in rows]).reshape(5, 4)
    inside = ((y - y.mean(axis=1, keepdims=True)) ** 2).sum()
    between = 4 * ((y.mean(axis=1) - y.mean()) ** 2).sum()
    assert found["prints"] == pytest.approx(fisher.sf(between / 4 / (inside / 15), 4, 15), rel=1e-6)
    # And 1/d by the t of a regression written out.
    d = np.tile(SIZES, 2)
    e = -0.2 - 0.5 / d + rng.normal(0, 0.005, 16)
    rows = [Measurement(kind="hole", axis="upright", drawn=a, printed=a + b) for a, b in zip(d, e, strict=True)]
    x = np.column_stack([np.ones(16), d, 1 / d])
    y1 = np.array([m.printed - m.drawn for m in rows])
    best, rest, *_ = np.linalg.lstsq(x, y1, rcond=None)
    sd = np.sqrt(rest[0] / 13 * np.linalg.inv(x.T @ x)[2, 2])
    (curved,) = (q for q in doubts(process_of(rows, "upright"), "hole") if "line" in q.words)
    assert curved.chance == pytest.approx(2 * t.sf(abs(best[2] / sd), 13), rel=1e-6)


def test_another_print_is_worth_more_than_another_place_where_prints_differ() -> None:
    p = process_of(bars_of(printer(prints=0.06), 2, np.random.default_rng(2)), "upright")
    n = next_reading(p, "hole", 6.0)
    assert n.new_print and n.then < n.now
    # The doubt it foretells is what such readings leave, on the whole of what they may show.
    seen, left = p.shift("hole", n.drawn).one, []
    for share in np.linspace(0.025, 0.975, 20):
        more = Measurement(
            kind="hole", axis="upright", drawn=n.drawn, printed=n.drawn + seen.quantile(share), bar="new"
        )
        left.append(process_of([*p.used, more], "upright").shift("hole", 6.0).doubt ** 2)
    assert n.then == pytest.approx(np.sqrt(np.mean(left)), rel=0.2)
    oval = process_of(bars_of(printer(oval=0.01), 2, np.random.default_rng(2))[:9], "upright")
    assert next_reading(oval, "hole", 12.0).drawn >= 3


def test_another_printers_bar_and_a_bar_read_from_the_wrong_end_are_noticed() -> None:
    rng = np.random.default_rng(6)
    mine = bars_of(printer(), 2, rng)
    other = [m.model_copy(update={"bar": "theirs"}) for m in bars_of(printer(loses=-0.15), 1, rng)]
    (said,) = strangers([*mine, *other])
    assert said.startswith("The readings of theirs") and "another printer" in said and strangers(mine) == ()
    bar = bars_of(printer(), 1, rng)
    right = [m.printed for m in bar]
    turned = [m.model_copy(update={"printed": v}) for m, v in zip(bar, right[::-1], strict=True)]
    rolled = [m.model_copy(update={"printed": v}) for m, v in zip(bar, right[1:] + right[:1], strict=True)]
    for wrong in (turned, rolled):
        again = put_in_order(wrong)
        assert again is not None and [m.printed for m in again] == right
    assert put_in_order(bar) is None and put_in_order(bar[:3]) is None
    # Among others it is found by itself, and told where its readings stand.
    mixed = tuple(m.model_copy(update={"bar": "b"}) for m in bar) + tuple(
        m.model_copy(update={"bar": "a"}) for m in wrong
    )
    (found,) = disorders(mixed)
    assert found.bar == "a" and found.at == tuple(range(len(bar), len(mixed))) and list(found.printed) == right


def test_gauges_are_asked_for_by_halves_and_contradictions_said() -> None:
    expected = Foretold(np.ones(1), np.array([4.83]), np.array([0.12]))
    for true in (4.71, 4.83, 4.99):
        tried, asked = Tried(GaugeSet.DRILLS_TENTH), 0
        while tried.between is None:
            size = tried.next(expected)
            tried, asked = tried.told(size, size <= true), asked + 1
        low, high = tried.between
        assert low <= true < high and high - low == pytest.approx(0.1) and asked <= 5
    tried = Tried(GaugeSet.DRILLS_TENTH).told(4.8, True)
    with pytest.raises(Refused, match=r"4\.7 mm did not go in, but 4\.8 mm did"):
        tried.told(4.7, False)
    with pytest.raises(Refused, match=r"5 mm went in, but 4\.9 mm did not"):
        tried.told(4.9, False).told(5.0, True)
    with pytest.raises(Refused, match="nothing larger"):
        Tried(GaugeSet.FEELERS, went_in=1.0).next(expected)
    assert sizes(GaugeSet.PINS)[:2] == (1.0, 1.02)


def test_gauge_readings_go_through_a_table_and_wrong_ones_are_named_by_row() -> None:
    rows = bars_of(printer(oval=0.004, jaws=1.0), 1, np.random.default_rng(1))
    rows.append(rows[0].model_copy(update={"between": (2.7, 2.8), "printed": 2.75, "place": "hole 1", "lot": "L7"}))
    back = read_readings(write_readings(tuple(rows)))
    assert [m.model_copy(update={"source": "typed"}) for m in back] == rows
    head = "kind,axis,drawn,went_in,did_not\n"
    (one,) = read_readings(head + "hole,upright,6,5.8,5.9\n")
    assert one.printed == pytest.approx(5.85) and one.between == (5.8, 5.9)
    for row, words in (
        ("hole,upright,6,5.9,5.8", "row 2"),
        ("hole,upright,6,5.8,", "needs both"),
        ("hole,upright,6,a,5.8", "not both numbers"),
    ):
        with pytest.raises(Refused, match=words):
            read_readings(head + row + "\n")


def test_drills_settle_what_a_calliper_with_wide_jaws_gets_wrong() -> None:
    """Jaws a millimetre wide read a hole of 4 mm 0.13 mm too small; three drills in the same holes find it out."""
    h = printer(jaws=1.0, loses=0.15)
    rows = [m for m in bars_of(h, 1, np.random.default_rng(8)) if m.kind == "hole"]
    alone = process_of(rows, "upright").shift("hole", 4.0).value
    drilled = []
    for k in (1, 3, 4):
        low = float(np.floor(h.size(SIZES[k], "", 0) * 10)) / 10
        drilled.append(rows[k].model_copy(update={"between": (low, low + 0.1), "printed": low + 0.05}))
    both = process_of([*rows, *drilled], "upright").shift("hole", 4.0).value
    true = h.size(4.0, "", 0) - 4.0
    assert abs(both - true) < 0.05 < abs(alone - true)


def test_a_coarse_calliper_counts_as_one() -> None:
    rows = bars_of(printer(scatter=0.004), 2, np.random.default_rng(3))
    coarse = [m.model_copy(update={"printed": round(m.printed, 1)}) for m in rows]
    assert process_of(coarse, "upright").shift("hole", 5.0).doubt > process_of(rows, "upright").shift("hole", 5.0).doubt
    p = process_of(coarse, "upright")
    assert abs(p.shift("hole", 8.0).value - (printer().size(8.0, "", 0) - 8.0)) < 0.05


def test_readings_of_an_older_lot_count_through_its_jump() -> None:
    rows = bars_of(printer(), 2, np.random.default_rng(5))
    lots = [m.model_copy(update={"lot": "old" if m.bar == "bar 1" else "new"}) for m in rows]
    same = process_of(rows, "upright").shift("hole", 5.0)
    jumped = process_of(
        [m.model_copy(update={"printed": m.printed + 0.05 * (m.lot == "old")}) for m in lots], "upright"
    )
    assert jumped.shift("hole", 5.0).value == pytest.approx(same.value, abs=0.03)
