"""Lugs, screw heads and held sections worked out by hand, against the same on paper."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import box, mesh_of

from knollside.core.job.questions.settling import Settle
from knollside.core.job.stated import Stated
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    BearingLoad,
    DesignCase,
    FixedFixture,
    Fixture,
    ForceLoad,
    Load,
    LoadCase,
    Mesh,
    PinFixture,
    Recipe,
    ScrewFixture,
    SlidingFixture,
)
from knollside.core.strength.field import Medium, solve
from knollside.core.strength.hand_rules import by_hand
from knollside.core.strength.nominal import Nominal
from knollside.core.strength.rules import Rule

SOLID = Recipe(infill=1.0)
COS, SIN = math.cos(math.radians(40)), math.sin(math.radians(40))


def rules(part: Mesh, held: tuple[Fixture, ...], load: Load, recipe: Recipe = SOLID) -> dict[Rule, list[Nominal]]:
    case = DesignCase(fixtures=held, cases=(LoadCase(name="a", loads=(load,)),))
    features = find_features(part)
    field = solve(part, features, case, Medium(2000.0), 3000)
    out: dict[Rule, list[Nominal]] = {}
    for r in by_hand(part, features, case, field.cases, recipe, (1.0,)):
        out.setdefault(r.rule, []).append(r)
    return out


def strap(edge: float, round_end: bool = False) -> Mesh:
    """80 x 24 x 6 with a hole of 10 mm, ``edge`` mm from its middle to the end at x = 80."""
    made = m3.Manifold.cube((80, 24, 6))
    if round_end:
        end = m3.Manifold.cylinder(6, 12, circular_segments=256).translate((80 - edge, 12, 0))
        made = m3.Manifold.cube((80 - edge, 24, 6)) + end
    return mesh_of(made - m3.Manifold.cylinder(20, 5, circular_segments=128).translate((80 - edge, 12, -5)))


HELD = (FixedFixture(at=(0, 12, 3)),)


@pytest.mark.parametrize("edge", [8.0, 12.0])
def test_a_lug_with_a_square_end(edge: float) -> None:
    found = rules(strap(edge), HELD, BearingLoad(at=(85 - edge, 12, 3), force_N=(120, 0, 0)))
    net, shear, bearing = (found[r][0] for r in (Rule.NET_SECTION, Rule.SHEAR_OUT, Rule.BEARING))
    assert net.stress == pytest.approx([120 / (14 * 6), 0, 0, 0, 0, 0], abs=0.02)
    plane = (edge - 5 * COS) * 6
    assert abs(shear.stress[5]) == pytest.approx(120 / (2 * plane), rel=0.01)
    assert np.abs(shear.stress[:5]).max() < 1e-6
    assert bearing.stress == pytest.approx([-120 / (10 * 6), 0, 0, 0, 0, 0], abs=0.02)
    assert shear.at == pytest.approx([80 - edge + 5 * COS, 12 + 5 * SIN, 3], abs=0.05) or shear.at[1] < 12


def test_a_lug_with_a_round_end() -> None:
    found = rules(strap(12.0, True), HELD, BearingLoad(at=(73, 12, 3), force_N=(120, 0, 0)))
    plane = (math.sqrt(12**2 - (5 * SIN) ** 2) - 5 * COS) * 6
    assert abs(found[Rule.SHEAR_OUT][0].stress[5]) == pytest.approx(120 / (2 * plane), rel=0.01)


def test_pushed_into_the_part_only_the_wall_of_the_hole_is_pressed() -> None:
    found = rules(strap(12.0), HELD, BearingLoad(at=(63, 12, 3), force_N=(-120, 0, 0)))
    assert Rule.BEARING in found and Rule.SHEAR_OUT not in found and Rule.NET_SECTION not in found


def test_a_pin_that_carries_the_part_tears_the_same_planes() -> None:
    held = PinFixture(at=(73, 12, 3)), SlidingFixture(at=(40, 12, 0)), SlidingFixture(at=(40, 0, 3))
    found = rules(strap(12.0), held, ForceLoad(at=(0, 12, 3), force_N=(-120, 0, 0)))
    plane = (12 - 5 * COS) * 6
    assert abs(found[Rule.SHEAR_OUT][0].stress[5]) == pytest.approx(120 / (2 * plane), rel=0.02)


def test_walls_and_infill_fill_less_of_a_lug() -> None:
    hollow = Recipe(walls=2, line_width=0.5, infill=0.2, pattern="grid")
    load = BearingLoad(at=(73, 12, 3), force_N=(120, 0, 0))
    solid, thin = (rules(strap(12.0), HELD, load, r)[Rule.NET_SECTION][0].stress[0] for r in (SOLID, hollow))
    # Each side of the hole is 7 mm: two walls of a mm, and a little of what lies between.
    assert 120 / (2 * 6 * 3.4) < thin < 120 / (2 * 6 * 2.0)
    assert solid == pytest.approx(120 / (14 * 6), rel=0.01)


def test_a_head_presses_its_ring_and_may_be_pulled_through() -> None:
    plate = mesh_of(
        m3.Manifold.cube((80, 30, 4)) - m3.Manifold.cylinder(20, 2.5, circular_segments=64).translate((40, 15, -5))
    )
    held = ScrewFixture(at=(42.5, 15, 2), head_mm=10)
    found = rules(plate, (held,), ForceLoad(at=(10, 15, 4), force_N=(0, 0, 50)))
    ring = math.pi / 4 * (10**2 - 5**2)
    assert found[Rule.HEAD][0].stress == pytest.approx([0, 0, -50 / ring, 0, 0, 0], abs=1e-3)
    through = found[Rule.PULLED_THROUGH][0].stress
    assert np.abs(through).max() == pytest.approx(50 / (math.pi * 10 * 4), rel=1e-3)


def test_the_section_at_a_hold_bends_as_a_beam() -> None:
    found = rules(box(60, 8, 10), (FixedFixture(at=(0, 4, 5)),), ForceLoad(at=(60, 4, 5), force_N=(40, 0, -20)))
    each = sorted(found[Rule.ROOT], key=lambda r: r.at[2])
    bending, pull = 6 * 20 * 60 / (8 * 10**2), 40 / 80
    assert each[0].stress == pytest.approx([pull - bending, 0, 0, 0, 0, 0], abs=0.02)
    assert each[2].stress == pytest.approx([pull + bending, 0, 0, 0, 0, 0], abs=0.02)
    assert each[0].at[2] == 0 and each[2].at[2] == 10
    assert each[1].stress == pytest.approx([0, 0, 0, 0, -20 / 80, 0], abs=1e-3)


def settled(edge: float, load: float):  # type: ignore[no-untyped-def]
    case = LoadCase(name="the strap", loads=(BearingLoad(at=(85 - edge, 12, 3), force_N=(load, 0, 0)),))
    stated = Stated(design_case=DesignCase(fixtures=HELD, cases=(case,)), recipe=SOLID)
    ask, rank = solving.ranking(strap(edge), stated, 6000)
    return ask(Settle(rank)).ranked.ranking


def test_a_lug_holds_less_the_nearer_its_edge() -> None:
    """With two thirds of a millimetre left ahead of the pin it must not look as strong as with seven."""
    thin, stout = settled(5.7, 150.0), settled(12.0, 150.0)
    assert thin.orientations[0].reserve.value < 0.5 * stout.orientations[0].reserve.value
    assert thin.net.reserve.max() < 0.5 * stout.net.reserve.max()
