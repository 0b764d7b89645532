"""Loads that come and go, that fall, and that act in the cold: against closed forms and a simulated fall."""

from __future__ import annotations

import math

import numpy as np
import pytest
import solving
from conftest import box
from pydantic import ValidationError
from scipy.integrate import solve_ivp

from knollside.core.job.edits import case_turned_into
from knollside.core.job.stated import Stated
from knollside.core.material.allowables import brittle, fatigue, steps_for
from knollside.core.material.cards import MATERIALS, material
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    GRAVITY,
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Recipe,
    Refused,
    Surroundings,
    WeightLoad,
)
from knollside.core.strength.field import Medium, solve
from knollside.core.strength.graded import Sizing
from knollside.core.strength.impact import impact_factor, sag
from knollside.core.strength.superpose import plan_of

E = 2000.0


@pytest.mark.parametrize("cycles", [10.0, 1000.0, 1e5])
def test_any_mean_stress_lies_on_goodmans_line(cycles: float) -> None:
    """Amplitude over reversed endurance and mean over strength make one, whatever the ratio."""
    for end in ("value", "low", "high"):
        swung = getattr(fatigue(cycles, -1.0), end)
        for ratio in (-1.0, -0.5, 0.0, 0.3, 0.9):
            most = getattr(fatigue(cycles, ratio), end)
            amplitude, mean = most * (1 - ratio) / 2, most * (1 + ratio) / 2
            assert amplitude / swung + mean == pytest.approx(1.0, rel=1e-9)
    # A load that stays is as good as at rest; one that goes fully is as it always was.
    assert fatigue(cycles, 0.95).value > 0.97 * (1 if cycles < 20 else 0.96)
    assert fatigue(cycles, 0.0).value == pytest.approx(1 - 0.1 * math.log10(cycles))


def test_a_load_that_swings_back_is_told_and_takes_more() -> None:
    card, place = material("PETG"), Surroundings()
    goes, swings = (
        steps_for(card, place, LoadCase(name="a", loads=(), repeated=True, stress_ratio=r))[0] for r in (0.0, -1.0)
    )
    assert swings.factor.value < goes.factor.value == pytest.approx(0.7)
    assert "back and forth" in swings.why and "back and forth" not in goes.why


def test_in_the_cold_a_plastic_breaks_sooner_and_a_knock_sooner_still() -> None:
    card = material("PP")
    assert brittle(card, 0.0, False).value == 1.0 and brittle(card, 5.0, True).value == 1.0
    assert brittle(card, -10.0, True).value == pytest.approx(1 - 0.45 / 2)
    assert brittle(card, -20.0, False).low == pytest.approx(0.7) and brittle(card, -60.0, True).low == 0.35
    knocked, steady = (LoadCase(name="a", loads=(), knocked=k) for k in (True, False))
    names = [s.name for s in steps_for(card, Surroundings(coldest_c=-10.0), knocked)]
    assert names == ["In the cold", "Knocked"]
    assert not steps_for(card, Surroundings(), steady)
    # A freezer is cold at its warmest.
    assert steps_for(card, Surroundings(temperature_c=-18.0), steady)[0].name == "In the cold"
    assert all(-40 < c.brittle_below <= 10 for c in MATERIALS.values())


@pytest.mark.parametrize(("drop", "still"), [(0.0, 0.5), (20.0, 0.5), (150.0, 3.0)])
def test_a_fall_pushes_as_a_mass_on_a_spring_does(drop: float, still: float) -> None:
    """The same in time: a mass that arrives at sqrt(2 g h) on a spring that sags by ``still`` under it at rest."""
    g = GRAVITY * 1000
    k = g / still  # of one unit of mass

    def moved(_: float, y: np.ndarray) -> list[float]:
        return [y[1], g - k * y[0]]

    found = solve_ivp(moved, (0, 8 * math.sqrt(still / g)), [0.0, math.sqrt(2 * g * drop)], rtol=1e-10, max_step=1e-4)
    assert k * found.y[0].max() / g == pytest.approx(impact_factor(drop, still), rel=1e-5)


def test_a_beam_that_catches_a_weight() -> None:
    """60 x 10 x 10, built in at one end: it sags by P L3 / 3 E I and the shear's share (Timoshenko)."""
    part = box(60, 10, 10)
    load = WeightLoad(at=(60, 5, 5), weight_g=1000.0)
    case = DesignCase(fixtures=(FixedFixture(at=(0, 5, 5)),), cases=(LoadCase(name="a", loads=(load,)),))
    field = solve(part, find_features(part), case, Medium(E), 6000)
    weight, second = GRAVITY, 10**4 / 12
    want = weight * 60**3 / (3 * E * second) + weight * 60 / (5 / 6 * E / 2.7 * 100)
    assert sag(field.grid_points, field.cases[0]) == pytest.approx(want, rel=0.03)


@pytest.mark.parametrize("close", [False, True])
def test_a_beam_sags_under_what_it_weighs_itself(close: bool) -> None:
    """120 x 10 x 10 built in at one end: w L4 / 8 E I and the shear's share; what holds it bears all of it."""
    part, density = box(120, 10, 10), 1.24
    push = ForceLoad(at=(120, 5, 5), force_N=(0, 1e-9, 0))
    case = LoadCase(name="a", loads=(push,), own_weight=True)
    duty = DesignCase(fixtures=(FixedFixture(at=(0, 5, 5)),), cases=(case,))
    sizing = Sizing(np.array([[0.0, 5.0, 10.0]]), 0.4, 0.5) if close else None
    answer = solve(part, find_features(part), duty, Medium(E, density=density), 6000, sizing=sizing).cases[0]
    line = density * 1e-6 * GRAVITY * 100  # N a mm
    want = line * 120**4 / (8 * E * 10**4 / 12) + line * 120**2 / (2 * 5 / 6 * E / 2.7 * 100)
    assert np.abs(answer.displacement[:, 2]).max() == pytest.approx(want, rel=0.02)
    assert np.asarray(answer.reactions[0][1]) == pytest.approx([0, 0, 120 * line], abs=1e-5 * 120 * line + 1e-6)


def test_its_own_weight_is_one_more_row_for_all_cases() -> None:
    push, far = (ForceLoad(at=(60, 5, 5), force_N=f) for f in ((0.0, 0.0, -3.0), (0.0, 0.0, -9.0)))
    cases = tuple(
        LoadCase(name=n, loads=(ld,), own_weight=w)
        for n, ld, w in (("a", push, True), ("b", far, True), ("c", far, False))
    )
    plan = plan_of((FixedFixture(at=(0, 5, 5)),), cases)
    assert [r.own_weight for r in plan.rows] == [False, True]
    assert [dict(parts) for _, parts in plan.sums] == [{0: -3.0, 1: 1.0}, {0: -9.0, 1: 1.0}, {0: -9.0}]
    ask, rank = solving.ranking(
        box(60, 10, 10),
        Stated(design_case=DesignCase(fixtures=(FixedFixture(at=(0, 5, 5)),), cases=cases)),
        2000,
        True,
        30,
    )
    a, _, c = ask(rank).strength.field.cases
    own = material("PETG").density * 6000 * 1e-6 * GRAVITY
    assert a.reactions[0][1][2] == pytest.approx(3 + own, rel=1e-4) and c.reactions[0][1][2] == pytest.approx(
        9, rel=1e-4
    )


def test_what_falls_takes_its_times_off_the_reserve() -> None:
    part = box(60, 10, 10)

    def reserve(**how: object) -> tuple[float, float, float]:
        case = LoadCase(name="a", loads=(WeightLoad(at=(60, 5, 5), weight_g=300.0),), knocked=True, **how)  # type: ignore[arg-type]
        duty = DesignCase(fixtures=(FixedFixture(at=(0, 5, 5)),), cases=(case,))
        ask, rank = solving.ranking(
            part, Stated(design_case=duty, recipe=Recipe(infill=1.0)), cells=3000, directions=50
        )
        s = ask(rank).strength
        assert s.movement is not None
        return ask(rank).ranking.every[0].reserve.value, s.field.cases[0].impact, s.movement.at_once

    rest, one, still = reserve()
    fallen, times, far = reserve(drop_mm=30.0)
    assert one == 1.0 and times == pytest.approx(impact_factor(30.0, still), rel=0.03)
    # At rest it stands with the usual factor for a knock, which a fall is told in place of.
    assert fallen == pytest.approx(rest / 0.8 / times, rel=1e-6) and far == pytest.approx(still * times, rel=1e-6)


def test_only_weights_fall() -> None:
    push = ForceLoad(at=(60, 5, 5), force_N=(0, 0, -5))
    with pytest.raises(ValidationError, match="only a hanging weight can fall"):
        LoadCase(name="a", loads=(push,), knocked=True, drop_mm=10.0)
    hung = LoadCase(name="a", loads=(WeightLoad(at=(0, 0, 0), weight_g=100.0),), knocked=True, drop_mm=10.0)
    assert case_turned_into(hung, "force").drop_mm is None and case_turned_into(hung, "weight").drop_mm == 10.0
    assert hung.falls_mm == 10.0 and hung.model_copy(update={"knocked": False}).falls_mm == 0.0


def test_a_part_of_a_twentieth_of_a_millimetre_is_refused_by_its_size() -> None:
    case = LoadCase(name="a", loads=(ForceLoad(at=(0.06, 0.03, 0.03), force_N=(0, 0, -1)),))
    duty = DesignCase(fixtures=(FixedFixture(at=(0, 0.03, 0.03)),), cases=(case,))
    part = box(0.06, 0.06, 0.06)
    with pytest.raises(Refused, match=r"0\.06 mm long.*another unit"):
        solve(part, find_features(part), duty, Medium(E), 2000)
