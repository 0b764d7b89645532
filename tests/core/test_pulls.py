"""Pull tests: against another program's Welch, by simulated studies whose truth is not the model's, and on paper."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError
from scipy import stats

from knollside.cli import main
from knollside.core.learning.bondcurve import bond_curve, curve_of, fitted
from knollside.core.learning.pulls import WEAKER, Verdict, advice, bars_for, bars_for_study, studied
from knollside.core.learning.pullstable import read_pulls
from knollside.core.material.bond import BondSetting, shares, usual_nozzle, with_setting
from knollside.core.material.cards import material
from knollside.core.material.own import BondCurve, BondPoint, OwnCard, with_own
from knollside.core.model import Refused
from knollside.core.model.trials import Pull, PullStudy
from knollside.core.proof.pullplan import awaited, levels_of, places, planned
from knollside.sim.pulling import SimulatedBond, bond_named


def bar(level: float, strength: float, run: int = 1, **more: object) -> Pull:
    return Pull.model_validate({"level": level, "load_N": 24 * strength, "area_mm2": 24.0, "run": run} | more)


def test_two_levels_of_one_print_are_welchs_test_on_logs() -> None:
    rng = np.random.default_rng(1)
    a, b = 30 * np.exp(rng.normal(0, 0.05, 7)), 28.5 * np.exp(rng.normal(0, 0.11, 9))
    s = studied([*(bar(250, v) for v in a), *(bar(238, v) for v in b)], reference=250)
    (c,) = s.claims
    welch = stats.ttest_ind(np.log(b), np.log(a), equal_var=False)
    low, high = welch.confidence_interval(0.90)
    # The middle is exact, the variance too; degrees of freedom are reckoned for spreads alike, Welch's for those seen.
    assert c.ratio.value == pytest.approx(np.exp(np.log(b).mean() - np.log(a).mean()))
    assert np.log(c.ratio.high / c.ratio.value) == pytest.approx((high - low) / 2, rel=0.06)
    one_sided = stats.ttest_ind(np.log(b) - np.log(0.9), np.log(a), equal_var=False, alternative="greater")
    assert c.p == pytest.approx(one_sided.pvalue, abs=0.01)


def test_bars_spread_over_prints_are_compared_within_them() -> None:
    """What prints differ by falls out: two levels 3 % apart in each of four prints that differ by a fifth."""
    rng = np.random.default_rng(2)
    bars = []
    for run, of_run in enumerate((1.0, 0.8, 1.2, 0.9), start=1):
        bars += [bar(250, 30 * of_run * np.exp(rng.normal(0, 0.01)), run) for _ in range(2)]
        bars += [bar(240, 29.1 * of_run * np.exp(rng.normal(0, 0.01)), run) for _ in range(2)]
    (c,) = studied(bars).claims
    assert c.ratio.value == pytest.approx(0.97, abs=0.01) and c.ratio.high - c.ratio.low < 0.03
    assert c.verdict is Verdict.AS_STRONG
    # By hand: the mean of what the prints' own differences are.
    own = [
        np.mean([np.log(p.strength) for p in bars if p.run == r and p.level == 240])
        - np.mean([np.log(p.strength) for p in bars if p.run == r and p.level == 250])
        for r in (1, 2, 3, 4)
    ]
    assert np.log(c.ratio.value) == pytest.approx(np.mean(own))
    # A print for each level instead: what prints differ by anyway is in the doubt, and nothing is proved.
    apart = [p.model_copy(update={"run": 1 if p.level == 250 else 2}) for p in bars]
    s = studied(apart)
    assert s.claims[0].verdict is Verdict.OPEN and "No print holds bars of all levels" in s.notes[0]
    assert s.claims[0].ratio.high - s.claims[0].ratio.low > 0.2


def study(rng: np.random.Generator, true: np.ndarray, design: str, bars: int) -> list[Pull]:
    """Unequal spreads, heavy tails, prints that differ, grips that slip."""
    spread, of_run, out = rng.uniform(0.03, 0.2, len(true)), rng.normal(0, 0.05, 60), []
    for k, share in enumerate(true):
        for b in range(bars):
            run = {"spread": 1 + b % 4, "each": 1 + k, "one": 1}[design]
            noise = rng.normal(0, spread[k]) if rng.random() < 0.7 else spread[k] * rng.standard_t(4) / 1.41
            slip = rng.uniform(0.5, 0.9) if rng.random() < 0.03 else 1.0
            out.append(bar(230 + 5 * k, 40 * share * float(np.exp(of_run[run] + noise)) * slip, run))
    return out


@pytest.mark.parametrize("design", ["spread", "each", "one"])
@pytest.mark.parametrize("bars", [4, 12])
def test_hardly_a_study_calls_strong_what_is_not(design: str, bars: int) -> None:
    rng, wrong = np.random.default_rng([bars, len(design)]), 0
    for _ in range(170):
        true = np.array([1.0, *rng.choice([0.899, 0.88, 0.85, 0.95, 1.0], 3)])
        s = studied(study(rng, true, design, bars))
        at = {230 + 5 * k: v for k, v in enumerate(true)}
        wrong += any(c.verdict is Verdict.AS_STRONG and at[c.level] < 0.9 * at[s.reference] for c in s.claims)
    assert wrong <= 0.05 * 170


@pytest.mark.parametrize("design", ["spread", "one"])
@pytest.mark.parametrize("levels", [2, 4])
def test_hardly_an_alike_level_is_called_weaker_and_a_weak_one_mostly_is(design: str, levels: int) -> None:
    """The best one is picked by the bars: held against it as if it had been named before, 10 to 20 % of alike levels
    were called weaker. A quarter weaker is told in four of five of eight bars."""
    rng, wrong, right, n = np.random.default_rng([levels, len(design)]), 0, 0, 150
    for _ in range(n):
        alike = studied(study(rng, np.ones(levels), design, 8)).claims
        wrong += sum(c.verdict is Verdict.WEAKER for c in alike)
        weak = studied(study(rng, np.array([1.0] * (levels - 1) + [0.75]), design, 8))
        right += any(c.verdict is Verdict.WEAKER and c.level == 230 + 5 * (levels - 1) for c in weak.claims)
    assert wrong <= 0.05 * n * (levels - 1) + 2 and right >= 0.8 * n


def test_weaker_is_the_range_of_alike_means_by_another_program() -> None:
    """Four levels of one print, eight bars each, spreads alike: Tukey's test of the same logs (SciPy)."""
    rng = np.random.default_rng(4)
    logs = [np.log(30) + rng.normal(m, 0.06, 8) for m in (0.0, -0.02, -0.09, -0.13)]
    bars = [bar(230 + 5 * k, float(np.exp(v))) for k, row in enumerate(logs) for v in row]
    s = studied(bars)
    theirs = stats.tukey_hsd(*logs).pvalue
    best = int((s.reference - 230) / 5)
    for c in s.claims:
        p = theirs[best, int((c.level - 230) / 5)]
        if abs(p - WEAKER) > 0.015:
            assert (c.verdict is Verdict.WEAKER) == (p < WEAKER)


@pytest.mark.parametrize("levels", [2, 4])
def test_so_many_bars_of_a_planned_study_show_it_in_four_of_five(levels: int) -> None:
    """The whole of it, with prints that differ, the best one chosen by the bars themselves and all others asked."""
    n = bars_for_study(levels, 0.08, -np.log(0.9))
    plan = PullStudy(printer=1, material="PETG", levels=tuple(230.0 + 5 * k for k in range(levels)), each=n)
    rng, told, asked = np.random.default_rng(levels), 0, 0
    for _ in range(200):
        runs = rng.normal(0, 0.05, 10)
        bars = [
            bar(p.level, 30 * float(np.exp(runs[p.round] + rng.normal(0, 0.08))), p.round)
            for p in planned(plan, 1)
            if p.standing
            for _ in range(p.bars)
        ]
        claims = studied(bars).claims
        told += sum(c.verdict is Verdict.AS_STRONG for c in claims)
        asked += len(claims)
    assert told / asked == pytest.approx(0.8, abs=0.08)
    assert bars_for_study(levels, 0.5, 0.02) is None


def test_what_is_open_among_others_asks_for_more_bars_than_alone() -> None:
    assert bars_for(0.08, 0.105, 0.05 / 3) > bars_for(0.08, 0.105) == 8
    # By another program: power of a one-sided t test at that level.
    n = bars_for(0.08, 0.105, 0.05 / 3)

    def power(m: int) -> float:
        free = 2 * m - 2
        return float(stats.nct.sf(stats.t.ppf(1 - 0.05 / 3, free), free, 0.105 / (0.08 * np.sqrt(2 / m))))

    assert power(n - 1) < 0.8 <= power(n)


def test_so_many_bars_show_it_in_four_of_five() -> None:
    rng = np.random.default_rng(7)
    n = bars_for(0.08, -np.log(0.9))
    assert (
        n == 8
        and bars_for(0.12, -np.log(0.9)) == 17
        and bars_for(0.2, -np.log(0.9)) == 46
        and bars_for(0.5, 0.02) is None
    )
    shown = 0
    for _ in range(400):
        a, b = (np.exp(rng.normal(0, 0.08, n)) for _ in range(2))
        bars = [*(bar(240, 30 * v) for v in a), *(bar(250, 30 * v) for v in b)]
        shown += studied(bars, reference=250).claims[0].verdict is Verdict.AS_STRONG
    assert shown == pytest.approx(320, abs=25)


def test_several_levels_are_judged_together_by_holm() -> None:
    rng = np.random.default_rng(3)
    bars = [bar(level, 30 * np.exp(rng.normal(0, 0.06))) for level in (220, 230, 240, 250) for _ in range(6)]
    many, alone = studied(bars, reference=250), {}
    for level in (220, 230, 240):
        pair = [p for p in bars if p.level in (level, 250)]
        alone[level] = studied(pair, reference=250).claims[0].p
    order = sorted(alone, key=alone.get)
    want, worst = {}, 0.0
    for i, level in enumerate(order):
        worst = max(worst, min((3 - i) * alone[level], 1.0))
        want[level] = worst
    assert {c.level: pytest.approx(want[c.level], abs=0.02) for c in many.claims} == {c.level: c.p for c in many.claims}


def test_slips_are_told_and_do_not_make_others_look_strong() -> None:
    strengths = {250: [30.0, 30.5, 29.8, 30.2, 16.0], 230: [26.0, 26.3, 25.8, 26.1, 26.2]}
    s = studied([bar(level, v) for level, all_of in strengths.items() for v in all_of])
    assert s.slips == (4,) and s.reference == 250 and "far under the others" in s.notes[-1]
    assert s.claims[0].verdict is Verdict.WEAKER and s.claims[0].ratio.value == pytest.approx(0.866, abs=0.01)
    words = advice(s, "°C")
    assert words == "230 °C is weaker than 250."


@pytest.mark.parametrize(
    ("bars", "words"),
    [
        ([], "compare with nothing"),
        ([bar(240, 30), bar(240, 31)], "compare with nothing"),
        ([bar(240, 30), bar(240, 31), bar(250, 30)], "One bar of 250"),
        ([bar(240, 30, standing=False), bar(250, 31, standing=False)], "compare with nothing"),
    ],
)
def test_what_bars_cannot_say_is_refused(bars: list[Pull], words: str) -> None:
    with pytest.raises(Refused, match=words):
        studied(bars)


def test_an_open_level_is_open_for_the_reason_that_is_told() -> None:
    wild = [bar(250, v) for v in (10.0, 30.0, 60.0)] + [bar(240, v) for v in (11.0, 32.0, 55.0)]
    assert "its bars differ too much" in advice(studied(wild, reference=250), "°C")
    near = [bar(250, v) for v in (28.0, 30.0, 32.0)] + [bar(240, v) for v in (24.0, 27.0, 29.5)]
    assert "it looks weaker, by too little to be sure" in advice(studied(near, reference=250), "°C")


def test_the_bond_over_heat_is_found_and_is_what_a_card_then_holds() -> None:
    held = 0
    for k in range(60):
        rng, hidden = np.random.default_rng(k), bond_named(f"printer {k}")
        heats = (220, 230, 240, 250)
        bars = [hidden.pull(t, 1 + b % 3, rng) for t in heats for b in range(9)]
        bars += [hidden.pull(240, 1 + b % 3, rng, standing=False) for b in range(6)]
        curve = bond_curve(bars)
        held += sum(p.low <= hidden.share(p.at) <= p.high for p in curve)
    assert held >= 0.84 * 240  # the truth over all runs, of prints that differ
    card = with_own(material("PETG"), OwnCard(bond_curves=(BondCurve(points=curve),)))
    at = with_setting(card, BondSetting(nozzle_c=235.0))
    assert at.bond.value == pytest.approx((curve[1].value + curve[2].value) / 2)
    assert at.bond.low == pytest.approx((curve[1].low + curve[2].low) / 2) and at.bond.source.startswith("yours")
    # Past what was pulled the low end falls; with another nozzle nothing of it counts.
    past = with_setting(card, BondSetting(nozzle_c=210.0)).bond
    assert past.value == curve[0].value and past.low == pytest.approx(curve[0].low * (1 - 2 * 0.012 * 10))
    hard = with_setting(card, BondSetting(nozzle_c=235.0, hard_nozzle=True)).bond
    assert hard == with_setting(material("PETG"), BondSetting(nozzle_c=235.0, hard_nozzle=True)).bond
    fan = with_setting(card, BondSetting(nozzle_c=235.0, fan=1.0)).bond
    assert fan.value < at.bond.value
    with pytest.raises(Refused, match="lying"):
        bond_curve([b for b in bars if b.standing])


def test_a_point_of_the_bond_has_the_doubt_of_both_kinds_of_bars() -> None:
    """Eight standing at 20 MPa or so, five lying at 40: ends by Student's t of each, in quadrature of the logs."""
    up, flat = [19.0, 20.0, 21.0, 20.0, 18.5, 21.5, 20.5, 19.5], [39.0, 41.0, 40.0, 42.0, 38.0]
    bars = [Pull(level=240, load_N=24 * v, area_mm2=24, run=1 + k % 2) for k, v in enumerate(up)]
    bars += [Pull(level=250, load_N=24 * v, area_mm2=24, run=1 + k % 2) for k, v in enumerate(up)]
    bars += [Pull(level=240, load_N=24 * v, area_mm2=24, standing=False) for v in flat]
    (found, _) = bond_curve(bars)
    logs = [np.log(up), np.log(flat)]
    half = [stats.t.ppf(0.95, len(v) - 1) * v.std(ddof=1) / np.sqrt(len(v)) for v in logs]
    middle, off = np.exp(logs[0].mean() - logs[1].mean()), float(np.hypot(*half))
    assert (found.value, found.low, found.high) == pytest.approx((middle, middle * np.exp(-off), middle * np.exp(off)))


def point(at: float, value: float) -> BondPoint:
    return BondPoint(at=at, value=value, low=0.9 * value, high=min(1.1 * value, 1.0))


def test_each_nozzle_and_each_setting_has_a_curve_of_its_own() -> None:
    plain = BondCurve(points=(point(220, 0.4), point(240, 0.6)))
    hard = BondCurve(hard_nozzle=True, points=(point(230, 0.3), point(250, 0.5)))
    fan = BondCurve(over="fan", points=(point(0.0, 0.66), point(0.5, 0.6), point(1.0, 0.3)))
    own = OwnCard().with_curve(plain).with_curve(hard).with_curve(fan)
    assert own.with_curve(plain).bond_curves == (hard, fan, plain)
    card = with_own(material("PETG"), own)
    assert with_setting(card, BondSetting(nozzle_c=230)).bond.value == pytest.approx(0.5)
    assert with_setting(card, BondSetting(nozzle_c=240, hard_nozzle=True)).bond.value == pytest.approx(0.4)
    # The usual fan of PETG is a half: at full fan half of its bond is left, without one a tenth more.
    blown = with_setting(card, BondSetting(nozzle_c=230, fan=1.0)).bond
    assert blown.value == pytest.approx(0.25)
    # The doubts of both fans and of the heat add in quadrature.
    off = np.sqrt(2 * np.log(0.9) ** 2 + np.log(1.1) ** 2)
    assert blown.low == pytest.approx(0.25 * np.exp(-off))
    assert with_setting(card, BondSetting(nozzle_c=230, fan=0.0)).bond.value == pytest.approx(0.55)
    # Fans were pulled with the plain nozzle: the other one loses what is typical.
    typical = with_setting(card, BondSetting(nozzle_c=240, fan=1.0, hard_nozzle=True)).bond
    assert typical.value == pytest.approx(0.4 * 0.8)
    tall = BondCurve(over="layer height", points=(point(0.25, 0.5), point(0.5, 0.6), point(0.75, 0.45)))
    taller = with_own(material("PETG"), own.with_curve(tall))
    assert with_setting(taller, BondSetting(nozzle_c=230, over_nozzle=0.75)).bond.value == pytest.approx(0.5 * 0.75)
    with pytest.raises(ValidationError, match="one curve"):
        OwnCard(bond_curves=(plain, plain))


def test_typical_shares_of_the_bond_by_hand() -> None:
    """PETG's usual fan is a half, its nozzle 240: full fan a fifth less (35 to 10 %), a minute a layer 4 % (8 to 0), at
    most three tenths, 0.3 mm out of a bore of 0.4 an eighth."""
    card = material("PETG")
    told = {s.name: s.left for s in shares(card, BondSetting(fan=1.0, layer_s=60.0, over_nozzle=0.75))}
    assert [(r.value, r.low, r.high) for r in (told["Fan"], told["Slow layers"], told["Thick layers"])] == [
        pytest.approx((0.8, 0.65, 0.9)),
        pytest.approx((0.96, 0.92, 1.0)),
        pytest.approx((0.875, 0.75, 0.9625)),
    ]
    (slow,) = shares(card, BondSetting(layer_s=30.0 * 2**20))
    assert slow.left.value == pytest.approx(0.7)
    cold = shares(card, BondSetting(nozzle_c=usual_nozzle(card) - 10))[0].left
    assert (cold.value, cold.low, cold.high) == pytest.approx((0.88, 0.76, 0.94))


def test_a_card_stored_with_one_curve_is_still_read() -> None:
    told = {"bond_curve": [{"celsius": 230, "value": 0.5, "low": 0.4, "high": 0.6}], "curve_hard_nozzle": True}
    (curve,) = OwnCard.model_validate(told).bond_curves
    assert curve.of == ("nozzle temperature", True) and curve.points[0].at == 230
    assert OwnCard.model_validate({"bond_curve": [], "curve_hard_nozzle": False}).bond_curves == ()


def test_what_a_study_gives_the_card_is_in_the_card_s_own_measure() -> None:
    rng, hidden = np.random.default_rng(3), bond_named("a")
    bars = [hidden.pull(240, 1 + b % 3, rng) for b in range(12)]
    bars = [b.model_copy(update={"level": 50.0 if k % 2 else 100.0}) for k, b in enumerate(bars)]
    bars += [hidden.pull(240, 1, rng, standing=False) for _ in range(4)]
    study = PullStudy(printer=1, material="PETG", varies="fan", pulls=tuple(bars))
    assert [p.at for p in curve_of(study, 0.4).points] == [0.5, 1.0] and curve_of(study, 0.4).over == "fan"
    tall = study.model_copy(update={"varies": "layer height"})
    low = tuple(b.model_copy(update={"level": 0.001 * b.level}) for b in tall.pulls)
    assert [p.at for p in curve_of(tall.model_copy(update={"pulls": low}), 0.4).points] == pytest.approx([0.125, 0.25])
    under = study.model_copy(update={"pulls": tuple(b.model_copy(update={"level": -b.level}) for b in study.pulls)})
    with pytest.raises(Refused, match="no fan"):
        curve_of(under, 0.4)
    for varies in ("nozzle kind", "material lot"):
        with pytest.raises(Refused, match="card"):
            curve_of(study.model_copy(update={"varies": varies}), 0.4)


def test_a_plan_prints_every_level_in_every_round_in_places_drawn_by_lot() -> None:
    study = PullStudy(printer=1, material="PETG", levels=levels_of("250, 226; 238"), each=8)
    plates = planned(study, 7)
    assert planned(study, 7) == plates and planned(study, 8) != plates
    assert [p.number for p in plates] == list(range(1, 13)) and [p.round for p in plates] == sorted([1, 2, 3] * 4)
    for r in (1, 2, 3):
        of = [p for p in plates if p.round == r]
        assert sorted((p.level, p.standing) for p in of) == [(226, True), (238, False), (238, True), (250, True)]
    for level in study.levels:
        assert sum(p.bars for p in plates if p.level == level and p.standing) == 8
    # No level comes first more often than chance has it: all orders of four are about as frequent.
    first = [planned(study, k)[0] for k in range(600)]
    assert all(120 < sum((p.level, p.standing) == of for p in first) < 180 for of in ((226, True), (238, False)))
    assert places(6, 0) == (1, 2, 3, 4, 5, 6) and sorted(places(6, 41)) == [1, 2, 3, 4, 5, 6]
    at = [places(4, lot).index(1) for lot in range(1, 801)]
    assert all(150 < at.count(k) < 250 for k in range(4))


def test_a_plan_goes_on_where_bars_are_recorded() -> None:
    study = PullStudy(printer=1, material="PETG", levels=(226.0, 238.0), each=2)
    plates, pulls = planned(study, 1), []
    for p in plates:
        for k in range(p.bars):
            assert awaited(plates, pulls) == (p, k)
            pulls.append(Pull(level=p.level, load_N=500, area_mm2=24, run=p.round, standing=p.standing))
    assert awaited(plates, pulls) is None and planned(study.model_copy(update={"levels": ()}), 1) == ()


@pytest.mark.parametrize(
    ("text", "says"), [("230", "these are 1"), ("230 2x", "“2x” is no level"), ("1 99999", "no level")]
)
def test_levels_that_are_none_are_refused(text: str, says: str) -> None:
    with pytest.raises(Refused, match=says):
        levels_of(text)


def test_the_simulated_bond_is_what_it_says() -> None:
    hidden, rng = SimulatedBond(slips=0.0), np.random.default_rng(1)
    pulled = [np.log(hidden.pull(240, 1 + k % 200, rng).strength) for k in range(4000)]
    assert np.exp(np.mean(pulled)) == pytest.approx(48 * hidden.share(240), rel=0.02)
    assert hidden.share(200) < 0.1 < 0.6 < hidden.share(245)


def test_a_table_of_bars_is_answered_by_the_command_line(tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    rng = np.random.default_rng(4)
    rows = ["level;load_N;area_mm2;run;standing"]
    for level, strength in ((238, 30.0), (250, 30.2), (226, 22.0)):
        rows += [f"{level};{24 * strength * np.exp(rng.normal(0, 0.04)):.1f};24,0;{1 + k % 2};yes" for k in range(8)]
    rows += [f"250;{24 * 45 * np.exp(rng.normal(0, 0.03)):.1f};24,0;1;no" for _ in range(4)]
    (tmp_path / "bars.csv").write_text("\n".join(rows))
    assert main(["pulls", str(tmp_path / "bars.csv"), "--json", "--against", "250"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["advice"] == "238 °C is as strong as 250 (within 10 %). 226 °C is weaker than 250."
    assert told["lowest_as_strong"] == 238 and [b["at"] for b in told["bond"]] == [226, 238, 250]
    assert told["bond"][2]["value"] == pytest.approx(30.2 / 45, rel=0.06)
    for text, words in (
        ("", "is empty"),
        ("level,load_N\n1,2", "no column 'area_mm2'"),
        ("level,load_N,area_mm2\n240,many,24", "row 2"),
        ("level,load_N,area_mm2\n240,-5,24", "row 2"),
        ("level,load_N,area_mm2", "no bars"),
        ("level,load_N,area_mm2,standing\n240,5,24,perhaps", "row 2"),
    ):
        with pytest.raises(Refused, match=words):
            read_pulls(text)
    assert main(["pulls", str(tmp_path / "gone.csv")]) == 1 and "no file" in capsys.readouterr().err
    assert main(["pulls", str(tmp_path / "bars.csv"), "--margin", "0.9"]) == 1


@pytest.mark.parametrize("bump", [0.0, 5.0])
def test_a_curve_through_the_levels_is_that_of_weighed_least_squares(bump: float) -> None:
    """With a bump at one level its means stray more than their bars say, and the band is wider for it."""
    rng = np.random.default_rng(4)
    pulls = [
        Pull(
            level=t,
            load_N=24 * (20 - 0.004 * (t - 245) ** 2 + bump * (t == 225) + rng.normal(0, 0.6)),
            area_mm2=24,
            run=1 + k % 3,
        )
        for t in (215, 225, 235, 245, 255)
        for k in range(9)
    ]
    found = studied(pulls)
    curve = fitted(found)
    assert curve is not None
    # The same by another program: numpy's own polynomial fit with weights.
    x = np.array([v.value for v in found.levels])
    y = np.array([v.mean.value for v in found.levels])
    w = 1.645 * 2 / np.array([v.mean.high - v.mean.low for v in found.levels])
    again = np.polynomial.Polynomial.fit(x, y, 2, w=w)
    assert np.allclose(curve.value, again(curve.levels), rtol=1e-6)
    # Its band by drawing means within their own doubt a thousand times, where they stray no more than that says.
    drawn = [np.polynomial.Polynomial.fit(x, y + rng.normal(0, 1 / w), 2, w=w)(curve.levels) for _ in range(1000)]
    stray = float((((again(x) - y) * w) ** 2).sum()) / 2
    assert (stray > 2) is (bump > 0)
    band = 1.645 * np.std(drawn, axis=0) * np.sqrt(max(stray, 1.0))
    assert np.allclose(curve.high - curve.value, band, rtol=0.12)
    assert np.allclose(curve.value - curve.low, band, rtol=0.12)
    true = 20 - 0.004 * (curve.levels - 245) ** 2
    assert ((curve.low <= true) & (true <= curve.high)).mean() > (0.8 if not bump else 0.5)
    few = studied([p for p in pulls if p.level in (215, 235, 255)])
    assert fitted(few) is None
