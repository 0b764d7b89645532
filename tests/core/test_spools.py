"""Spools: water against a diffusion that is stepped in space, drying against spools that are not the model's, grams."""

from __future__ import annotations

import math

import numpy as np
import pytest

from knollside.core.model import Range, Refused
from knollside.core.run.moisture import Stay, drying_of, floor_at, left, uptake_of, water_of
from knollside.core.run.scale import grams_in, settled
from knollside.core.run.spools import Known, Need, OnShelf, lasts, left_on, shared_out
from knollside.sim.shelf import SimulatedScale, SimulatedSpool


def stepped(x_end: float, rings: int = 200) -> float:
    """Share left in a cylinder of radius one after D t = x, by finite volumes in rings and small implicit steps."""
    edge = np.linspace(0, 1, rings + 1)
    volume = np.pi * np.diff(edge**2)
    flow = 2 * np.pi * edge[1:-1] / (1 / rings)
    a = np.diag(volume)
    n = 400
    dt = x_end / n
    k = np.zeros((rings, rings))
    for i, g in enumerate(flow):
        k[i, i] += g
        k[i + 1, i + 1] += g
        k[i, i + 1] -= g
        k[i + 1, i] -= g
    k[-1, -1] += 2 * np.pi / (0.5 / rings)
    solve = np.linalg.inv(a + dt * k) @ a
    c = np.ones(rings)
    for _ in range(n):
        c = solve @ c
    return float(volume @ c / np.pi)


@pytest.mark.parametrize("x", [0.005, 0.0630, 0.2, 0.5])
def test_a_strand_dries_as_a_cylinder_that_is_stepped_in_space(x: float) -> None:
    assert float(left(x)) == pytest.approx(stepped(x), abs=0.004)
    if x == 0.0630:
        assert float(left(x)) == pytest.approx(0.5, abs=0.002)


def test_water_after_stays_is_that_of_the_middle_of_its_doubts_and_a_box_keeps_it_dry() -> None:
    pa = uptake_of("Nylon")
    assert pa.rest.value == 2.75 and pa.seen and not uptake_of("PETG").seen
    dry = Range(0.0, 0.0, 0.0)
    # Half of what it holds at half humidity after the hours to half, by their very meaning.
    half = water_of(pa, [Stay(140.0, 0.5)], dry)
    assert half.now.value == pytest.approx(2.75 / 2, rel=0.01) and half.now.low < 0.95 and half.now.high > 1.9
    ever = water_of(pa, [Stay(9000.0, 0.5)], dry)
    assert ever.now.value == pytest.approx(2.75, rel=0.03) and ever.wet > 0.99
    humid = water_of(pa, [Stay(9000.0, 0.8)], dry)
    assert humid.now.value == pytest.approx(1.6 * ever.now.value, rel=1e-6)
    box = water_of(pa, [Stay(140.0, 0.1)], dry)
    assert box.now.value == pytest.approx(half.now.value / 5, rel=0.02) and box.wet < half.wet
    # Open for two days, then a week in a dry box: some of it comes out again.
    both = water_of(pa, [Stay(48.0, 0.5), Stay(168.0, 0.05)], dry)
    assert both.now.value < water_of(pa, [Stay(48.0, 0.5)], dry).now.value
    with pytest.raises(Refused, match="not known"):
        uptake_of("Unobtainium")
    with pytest.raises(Refused, match="no stay"):
        water_of(pa, [Stay(1.0, 1.4)])


def test_how_prints_came_out_moves_the_odds_by_bayes() -> None:
    petg = uptake_of("PETG")
    before = water_of(petg, [Stay(60.0, 0.5)], Range(0, 0, 0)).wet
    for seen, (wet, dry) in {(True,): (0.7, 0.15), (False,): (0.3, 0.85), (True, True): (0.49, 0.0225)}.items():
        odds = before / (1 - before) * wet / dry
        after = water_of(petg, [Stay(60.0, 0.5)], Range(0, 0, 0), seen).wet
        assert after == pytest.approx(odds / (1 + odds), rel=1e-9)


def true_spool(rng: np.random.Generator, rest: Range, usual: float, celsius: float):  # type: ignore[no-untyped-def]
    """A spool as none in the model: two populations of windings with any share, heat that is off, any humidity."""
    held = rng.normal(rest.value, (rest.high - rest.low) / 3.29) * rng.uniform(0.5, 1.0)
    rate = 0.275 / usual * math.exp(rng.normal(0, 0.4))
    slow, part = rng.uniform(0.45, 1.0), rng.uniform(0.2, 0.5)
    floor = min(floor_at(celsius) * rest.value * rng.uniform(0.6, 1.5), held)
    return lambda t: floor + (held - floor) * ((1 - part) * left(rate * t) + part * left(rate * slow * t))


@pytest.mark.parametrize(
    ("material", "grams", "usual", "celsius", "target"),
    [("PA", 800.0, 12.0, 80.0, 0.4), ("TPU 95A", 700.0, 5.0, 55.0, 0.2), ("PLA", 900.0, 6.0, 45.0, 0.2)],
)
def test_spools_that_are_not_the_models_are_dry_by_the_hours_told_in_nine_of_ten(
    material: str, grams: float, usual: float, celsius: float, target: float
) -> None:
    u = uptake_of(material)
    water = Range(0.75 * u.rest.value, 0.5 * u.rest.value, u.rest.value)
    hours = np.linspace(0.05, 90, 2500)
    doubt = []
    for times in ((), (0, 1, 2, 3, 5)):
        rng = np.random.default_rng(4)
        held, seen = [], []
        for _ in range(120):
            spool = true_spool(rng, u.rest, usual, celsius)
            done = hours[spool(hours) <= target]
            if not len(done):
                continue
            read = [
                (float(t), round(1000 + grams / 100 * float(spool(np.array(float(t)))) + rng.normal(0, 0.05), 1))
                for t in times
            ]
            found = drying_of(u, water, usual, celsius, grams, read, target=target)
            held.append(done[0] <= found.planned)
            seen.append(found.hours.high / max(found.hours.low, 0.1))
            assert found.learned == len(times) and found.hours.low <= found.hours.value <= found.hours.high
        assert np.mean(held) > 0.85
        doubt.append(np.median(seen))
    if material == "PA":
        assert doubt[1] < 0.75 * doubt[0]  # seen well on a scale of a tenth of a gram


def test_drying_says_what_it_cannot_reach_and_refuses_weighings_that_are_none() -> None:
    pla = uptake_of("PLA")
    # Air of a damp room heated to 45 C leaves 0.29 of what it holds at rest: the target stays out of reach.
    assert drying_of(pla, Range(0.4, 0.35, 0.45), 6, 45, 900, humidity=0.7, target=0.06).reaches < 0.1
    assert drying_of(pla, Range(0.05, 0.04, 0.06), 6, 45, 900).planned == 0
    for weighings, words in (
        ([(0, 1000.0), (2, 1003.0)], "3.0 g more after drying"),
        ([(2, 1000.0), (1, 999.0)], "in the order"),
        ([(0, float("nan")), (1, 999.0)], "in the order"),
    ):
        with pytest.raises(Refused, match=words):
            drying_of(pla, Range(0.4, 0.3, 0.5), 6, 45, 900, weighings)
    with pytest.raises(Refused, match="usual hours"):
        drying_of(pla, Range(0.4, 0.3, 0.5), 0, 45, 900)


def test_grams_left_by_both_ways_is_the_weighted_mean_and_holds_the_truth() -> None:
    assert "By weight 490 g" in left_on(Known(1000, 230, 780, (150, 250, 60), (60,))).contradicts  # fifty grams apart
    # Both ways as one normal: new weight, tare, scale, each print's own share and the common one, by their matrix.
    took = np.array([150.0, 250.0, 60.0])
    own, common = math.sqrt(0.06**2 - 0.03**2) / 2, 0.015
    noise = np.diag(np.r_[5.0, 1.0, 1.0, own * took, 1.0])
    by_prints = np.r_[1, 0, 0, -1, -1, -1, -common * 460]
    by_weight = np.r_[0, -1, 1, 0, 0, -1, -common * 60]
    cov = (a := np.array([by_prints, by_weight]) @ noise) @ a.T
    w = np.linalg.inv(cov).sum(axis=0) / np.linalg.inv(cov).sum()
    agree = left_on(Known(1000, 230, 825, (150, 250, 60), (60,)))
    assert agree.grams.value == pytest.approx(w @ [540, 535]) and not agree.contradicts
    assert agree.grams.high - agree.grams.low == pytest.approx(2 * 1.6449 / math.sqrt(np.linalg.inv(cov).sum()))
    assert left_on(Known(1000, None, None)).grams.value == 1000
    with pytest.raises(Refused, match="less than the empty spool"):
        left_on(Known(1000, 230, 180))
    rng = np.random.default_rng(1)
    held = []
    for _ in range(2000):
        tare, net, common = rng.normal(220, 15), 1000 * (1 + rng.normal(0, 0.005)), rng.normal(0, 0.015)
        est = rng.uniform(20, 150, 6)
        real = est * (1 + common + rng.normal(0, 0.026, 6))
        gross = round(net - real[:4].sum() + tare + rng.normal(0, 1))
        known = Known(1000, None if rng.random() < 0.5 else tare + rng.normal(0, 1), gross, tuple(est), tuple(est[4:]))
        r = left_on(known).grams
        held.append(r.low <= net - real.sum() <= r.high)
    assert 0.86 < np.mean(held) < 0.96


def test_a_spool_lasts_as_often_as_it_is_said() -> None:
    rng = np.random.default_rng(2)
    for left_, grams in ((Range(100, 92, 108), 95.0), (Range(60, 40, 80), 70.0)):
        real = rng.normal(left_.value, (left_.high - left_.low) / 3.29, 40000)
        took = grams * (1 + rng.normal(0, 0.03, 40000))
        assert lasts(left_, grams) == pytest.approx(float((took <= real).mean()), abs=0.01)


def test_a_plate_takes_the_spool_it_is_tied_to_and_it_is_told_where_that_will_not_last() -> None:
    shelf = [
        OnShelf("end", "End", "PETG green", Range(60, 50, 70)),
        OnShelf("full", "Full", "PETG green", Range(990, 980, 1000)),
    ]
    needs = [
        Need("a", "A", "PETG green", 20.0, "full"),
        Need("b", "B", "PETG green", 55.0, "end"),
        Need("c", "C", "PETG green", 20.0),
    ]
    given = shared_out(needs, shelf)
    # C would have used up the end, had B not been tied to it.
    assert given.spool_of == {"a": "full", "b": "end", "c": "full"}
    assert len(given.short) == 1 and "B is tied to End" in given.short[0]
    assert shared_out([needs[2]], shelf).spool_of == {"c": "end"}
    assert shared_out([Need("d", "D", "PETG green", 20.0, "gone")], shelf).spool_of == {"d": "end"}


def test_small_prints_use_up_ends_and_what_is_short_is_said() -> None:
    def spool(key: str, grams: float, filament: str = "PETG green") -> OnShelf:
        return OnShelf(key, f"Spool {key}", filament, Range(grams, grams - 2, grams + 2))

    needs = [Need(f"p{g}", f"Plate {g}", "PETG green", float(g)) for g in (30, 45, 200, 120)]
    given = shared_out(needs, [spool("end", 85), spool("half", 350), spool("full", 1000)])
    # 200 and 120 leave 30 of 350; the two small ones fit the end.
    assert given.spool_of == {"p200": "half", "p120": "half", "p45": "end", "p30": "end"} and not given.short
    assert all(v >= 0.95 for v in given.lasts.values())
    tight = shared_out(needs, [spool("end", 85), spool("half", 330)])
    assert tight.spool_of["p200"] == "half" and all(v >= 0.95 for v in tight.lasts.values())
    short = shared_out([Need("a", "Plate a", "ASA", 50), Need("b", "Plate b", "PETG green", 400)], [spool("end", 85)])
    assert "there is no such spool" in " ".join(
        short.short
    ) and "has about 85 g to spare (0 % that it lasts)" in " ".join(short.short)


def test_a_scales_lines_are_read_and_it_must_settle() -> None:
    assert [grams_in(t) for t in ("ST,GS,+  812.4 g", "812,4", "0.8124 kg", "28.66 oz")] == [
        812.4,
        812.4,
        812.4,
        pytest.approx(812.5, abs=0.1),
    ]
    for text in ("", "OL", "-12 g", "12 stone", "1e9 g", "nan", "812.4 g 813"):
        with pytest.raises(Refused):
            grams_in(text)
    assert settled([800.0, 812.0, 812.4]) is None and settled([800.0, 812.0, 812.4, 812.2]) == pytest.approx(812.2)
    with pytest.raises(Refused, match="does not settle: 836, 839, 842 g"):
        settled([800.0 + 3 * k for k in range(15)])


@pytest.mark.parametrize("seed", range(3))
def test_the_simulated_drier_dries_by_the_told_hours(seed: int) -> None:
    """Spools whose outer turns dry fast and inner ones slowly, weighed to a tenth of a gram: dry by what was told."""
    rng, dry = np.random.default_rng(seed), 0
    for k in range(60):
        spool = SimulatedSpool(210, 900, rng.uniform(0.8, 2.2), *rng.uniform((0.8, 4, 0.03), (2.5, 9, 0.1)))
        scale = SimulatedScale(fine=True, rng=np.random.default_rng(k))
        weighings = [(h, scale.read(spool, h)) for h in (0.0, 1.0, 2.0, 4.0)]
        water = Range(spool.water, 0.7 * spool.water, 1.4 * spool.water)
        found = drying_of(uptake_of("Nylon"), water, 12.0, 80.0, 900.0, weighings)
        dry += spool.dried(found.planned) <= max(found.target, spool.water * spool.keeps * 1.15)
    assert dry >= 0.85 * 60
