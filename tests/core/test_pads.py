"""A shell under a load with infill below, against limit loads found by linear programming and on paper."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import box, mesh_of
from scipy.optimize import linprog

from knollside.core.job.questions.settling import Prove
from knollside.core.job.stated import Stated
from knollside.core.material.infill import stiffness_share, strength_share
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Mesh,
    PressureLoad,
    Recipe,
    ScrewFixture,
)
from knollside.core.strength.field import Medium, solve
from knollside.core.strength.hand_rules import by_hand
from knollside.core.strength.pads import Pad, under_pads
from knollside.core.strength.rating import rate_points
from knollside.core.strength.rules import Rule


def least_dissipation(pad: float, crush: float, hinge: float, far: float, n: int = 160) -> float:
    """The limit load of a round plate on a bed that crushes, its middle pushed down out to ``pad`` and held at ``far``:
    the least that any way of sinking takes, by linear programming over the sinking of ``n`` rings (Tresca)."""
    r = np.linspace(pad, far, n + 1)
    h = r[1] - r[0]
    sink, slope, kink = np.arange(n + 1), n + 1 + np.arange(n), 2 * n + 1 + np.arange(n + 1)
    cost, rows = np.zeros(3 * n + 2), []

    def at_least(bound: int, terms: list[tuple[int, float]]) -> None:
        """|sum of terms| <= what stands at ``bound``."""
        for sign in (1.0, -1.0):
            row = np.zeros(len(cost))
            for k, x in terms:
                row[k] += sign * x
            row[bound] -= 1
            rows.append(row)

    for i in range(n):
        at_least(int(slope[i]), [(i + 1, 1 / h), (i, -1 / h)])
        cost[slope[i]] = 2 * np.pi * hinge * h
        cost[sink[i]] += crush * 2 * np.pi * h * (r[i] / 3 + r[i + 1] / 6)
        cost[sink[i + 1]] += crush * 2 * np.pi * h * (r[i] / 6 + r[i + 1] / 3)
    for j in range(n + 1):
        after = [(j + 1, 1 / h), (j, -1 / h)] if j < n else []
        before = [(j, -1 / h), (j - 1, 1 / h)] if j else []
        at_least(int(kink[j]), after + before)
        cost[kink[j]] = 2 * np.pi * r[j] * hinge
    bounds = [(1, 1)] + [(0, None)] * (n - 1) + [(0, 0)] + [(0, None)] * (2 * n + 1)
    found = linprog(cost, A_ub=np.array(rows), b_ub=np.zeros(len(rows)), bounds=bounds, method="highs")
    return float(found.fun + crush * np.pi * pad**2)


@pytest.mark.parametrize(("radius", "shell", "strong"), [(2.3, 0.4, 0.016), (0.3, 0.8, 0.05), (10.0, 0.9, 0.15)])
def test_a_dent_takes_the_least_that_any_way_of_sinking_takes(radius: float, shell: float, strong: float) -> None:
    pad = Pad(100.0, math.pi * radius**2, shell, strong, 5.0)
    found = min(least_dissipation(radius, strong, shell**2 / 4, radius + reach) for reach in (2.0, 5.0, 10.0))
    assert pad.dented == pytest.approx(100 / found, rel=0.01)


def test_a_wide_pad_only_crushes_and_a_small_one_sinks_in_between_lines() -> None:
    wide = Pad(5000.0, 1e6, 0.8, 0.1, 4.0)
    assert wide.dented == pytest.approx(5000 / (0.1 * 1e6), rel=0.01)
    # A clamped strip of span s gives at 16 M / s^2 of pressure, a plate under a point at 4 pi M.
    assert wide.bent_in == pytest.approx(5000 / 1e6 * 4.0**2 / (16 * 0.8**2 / 4))
    assert Pad(10.0, 1e-6, 0.8, 0.1, 4.0).bent_in == pytest.approx(10 / (math.pi * 0.8**2))


def pressed(
    load: ForceLoad | PressureLoad, recipe: Recipe, up: tuple[float, float, float] | None = None
) -> dict[Rule, np.ndarray]:
    """A block with a pad on top, pressed there: the stresses by rule."""
    part = mesh_of(m3.Manifold.cube((40, 40, 20)) + m3.Manifold.cube((6, 6, 1)).translate((17, 17, 20)))
    case = DesignCase(fixtures=(FixedFixture(at=(20, 20, 0)),), cases=(LoadCase(name="a", loads=(load,)),))
    features = find_features(part)
    field = solve(part, features, case, Medium(2000.0), 3000)
    return {r.rule: r.stress for r in under_pads(part, features, case, field.cases, recipe, up)}


def test_what_presses_a_pad_is_told_by_the_shell_and_the_infill_under_it() -> None:
    recipe = Recipe(walls=3, infill=0.15, tops=4, bottoms=4, pattern="gyroid")
    force = ForceLoad(at=(20, 20, 21), force_N=(30, 0, -120))
    found = pressed(force, recipe, (0.0, 0.0, 1.0))
    shell, strong = 4 * recipe.layer_height, strength_share("gyroid", 0.15)
    alike = Pad(120.0, 36.0, shell, strong, 2 * recipe.line_width / 0.15)
    assert found[Rule.DENT][2] == pytest.approx(-alike.dented, rel=0.01)
    assert np.abs(found[Rule.BENT_IN]).max() == pytest.approx(alike.bent_in, rel=0.01)
    assert np.abs(found[Rule.PUNCHED]).max() == pytest.approx(120 / (2 * math.sqrt(math.pi * 36) * shell), rel=0.01)
    # On its side the walls are what is pressed; pulled, or solid, nothing is.
    side = pressed(force, recipe, (1.0, 0.0, 0.0))
    assert np.abs(side[Rule.PUNCHED]).max() == pytest.approx(
        np.abs(found[Rule.PUNCHED]).max() * shell / (3 * recipe.line_width), rel=0.01
    )
    assert not pressed(ForceLoad(at=(20, 20, 21), force_N=(0, 0, 120)), recipe)
    assert not pressed(force, Recipe(infill=1.0)) and not pressed(force, recipe.model_copy(update={"infill": 0.0}))
    # As a pressure, the same.
    again = pressed(PressureLoad(at=(20, 20, 21), pressure_MPa=120 / 36), recipe, (0.0, 0.0, 1.0))
    assert again[Rule.DENT] == pytest.approx(found[Rule.DENT])


def test_a_hollow_lid_dents_before_its_solid_would_yield_and_says_so() -> None:
    part = mesh_of(m3.Manifold.cube((40, 40, 20)) + m3.Manifold.cube((4, 4, 1)).translate((18, 18, 20)))
    up = (0.0, 0.0, 1.0)
    load = LoadCase(name="a foot", loads=(ForceLoad(at=(20, 20, 21), force_N=(0, 0, -250)),))
    case = DesignCase(fixtures=(FixedFixture(at=(20, 20, 0)),), cases=(load,))
    told = {}
    for tops in (2, 12):
        recipe = Recipe(walls=2, infill=0.1, tops=tops, bottoms=3)
        ask, rank = solving.ranking(part, Stated(design_case=case, recipe=recipe), 4000, True, 100)
        s = ask(rank.strength.printed(recipe, up))
        found = rate_points(s.field, s.limits, np.array(up))
        first = int(np.argmin(np.where(s.field.excluded, np.inf, found.reserve)))
        told[tops] = s.field.rule(first), ask(Prove(rank.strength.printed(recipe, up))).breaking.value
    assert told[2][0] in (Rule.DENT, Rule.BENT_IN, Rule.PUNCHED)
    assert told[12][1] > 2 * told[2][1]


def plate_on_a_screw(recipe: Recipe) -> dict[Rule, float]:
    hole = m3.Manifold.cylinder(30, 2.5, circular_segments=96).translate((15, 15, -5))
    part = mesh_of(m3.Manifold.cube((60, 30, 12)) - hole)
    held = ScrewFixture(at=(17.5, 15, 6), head_mm=12)
    case = DesignCase(
        fixtures=(held, FixedFixture(at=(60, 15, 6))),
        cases=(LoadCase(name="a", loads=(ForceLoad(at=(30, 15, 12), force_N=(0, 0, 90)),)),),
    )
    features = find_features(part)
    field = solve(part, features, case, Medium(2000.0), 3000)
    rules = by_hand(part, features, case, field.cases, recipe, (1.0,))
    return {r.rule: float(np.abs(r.stress).max()) for r in rules if r.rule in (Rule.HEAD, Rule.PULLED_THROUGH)}


def test_a_head_sits_on_the_walls_round_its_hole_and_on_infill_beyond() -> None:
    recipe = Recipe(walls=2, infill=0.2, pattern="grid", tops=4, bottoms=4)
    solid, hollow = plate_on_a_screw(Recipe(infill=1.0)), plate_on_a_screw(recipe)
    wall = 2 * recipe.line_width
    ring = lambda outer, inner: outer**2 - inner**2  # noqa: E731
    kept = ring(5 + 2 * wall, 5) + strength_share("grid", 0.2) * ring(12, 5 + 2 * wall)
    assert hollow[Rule.HEAD] / solid[Rule.HEAD] == pytest.approx(ring(12, 5) / kept, rel=1e-3)
    sheared = 2 * wall + stiffness_share("grid", 0.2) * (12 - 2 * wall)
    assert hollow[Rule.PULLED_THROUGH] / solid[Rule.PULLED_THROUGH] == pytest.approx(12 / sheared, rel=1e-3)


def test_a_block_of_no_depth_has_no_infill_to_dent() -> None:
    thin: Mesh = box(40, 40, 1.6)
    case = DesignCase(
        fixtures=(FixedFixture(at=(0, 20, 0.8)),),
        cases=(LoadCase(name="a", loads=(ForceLoad(at=(20, 20, 1.6), force_N=(0, 0, -5)),)),),
    )
    features = find_features(thin)
    field = solve(thin, features, case, Medium(2000.0), 3000)
    assert not under_pads(thin, features, case, field.cases, Recipe(walls=3, infill=0.2), None)
