"""A shell under a load with infill below, against a plate on an elastic bed and a clamped strip solved apart."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import box, mesh_of
from scipy.integrate import solve_bvp
from scipy.sparse import diags, eye, kron
from scipy.sparse.linalg import spsolve

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

NU = 0.35
NO_LINES = math.inf


def plate_on_bed(x: float) -> tuple[float, float]:
    """Deflection and moment in the middle of a plate on a bed, both of unit stiffness, pushed by 1 out to x."""
    start = 1e-4
    r = np.unique(np.concatenate([np.geomspace(start, 12 + x, 700), np.linspace(max(x - 0.05, start), x + 0.05, 90)]))
    found = solve_bvp(
        lambda r, y: np.vstack([y[1], y[2] - y[1] / r, y[3], -y[0] - y[3] / r + (r < x)]),
        lambda a, b: np.array([a[1], a[3], b[0], b[1]]),
        r,
        np.zeros((4, len(r))),
        tol=1e-4,
        max_nodes=40_000,
    )
    y = found.sol(start)
    return float(y[0]), float(abs(y[2]) * (1 + NU) / 2)


@pytest.mark.filterwarnings("ignore:invalid value")
@pytest.mark.parametrize("x", [0.1, 1.0, 3.0])
def test_a_shell_on_its_infill_is_a_plate_on_an_elastic_bed(x: float) -> None:
    shell, stiff = 1.0, 0.05
    deep = 2 * shell * stiff ** (-1 / 3)
    spread = (shell**3 * deep / (12 * (1 - NU**2) * stiff)) ** 0.25
    area = math.pi * (x * spread) ** 2
    pad = Pad(area, area, shell, 1000.0, stiff, NO_LINES)  # a MPa
    bed, moment = plate_on_bed(x)
    assert pad.bedding == pytest.approx(bed, rel=1e-3)
    assert pad.bending == pytest.approx(6 * moment * spread**2 / shell**2, rel=1e-3)
    # A bed shallower than the dent is stiffer, and is pressed harder.
    assert Pad(area, area, shell, 0.2 * deep, stiff, NO_LINES).bedding > 1.05 * bed or x > 2


def clamped_strip(wide: float, n: int = 40, long: int = 4) -> float:
    """Edge moment of a strip of unit width clamped at both sides, pushed by 1 on a square ``wide`` in its middle: the
    biharmonic equation by differences. A wider push covers it by its own share only."""
    h, nx, ny = 1 / n, n - 1, long * n - 1

    def second(m: int):  # type: ignore[no-untyped-def]
        return diags([np.ones(m - 1), -2 * np.ones(m), np.ones(m - 1)], [-1, 0, 1]) / h**2

    def fourth(m: int):  # type: ignore[no-untyped-def]
        middle = np.r_[7, 6 * np.ones(m - 2), 7]
        return (
            diags([np.ones(m - 2), -4 * np.ones(m - 1), middle, -4 * np.ones(m - 1), np.ones(m - 2)], [-2, -1, 0, 1, 2])
            / h**4
        )

    def covered(at: np.ndarray, width: float) -> np.ndarray:
        return np.clip((np.minimum(at + h / 2, width / 2) - np.maximum(at - h / 2, -width / 2)) / h, 0, 1)

    x, y = (np.arange(nx) + 1) * h - 0.5, (np.arange(ny) + 1) * h - long / 2
    push = np.outer(covered(x, min(wide, 1)), covered(y, wide))
    push *= min(1, 1 / wide) / push.sum() / h**2
    plate = kron(fourth(nx), eye(ny)) + 2 * kron(second(nx), second(ny)) + kron(eye(nx), fourth(ny))
    down = spsolve(plate.tocsc(), push.ravel()).reshape(nx, ny)
    return float(np.abs(2 * down[0] / h**2).max())


@pytest.mark.parametrize("wide", [0.1, 0.5, 1.0, 2.0])
def test_a_shell_between_two_lines_is_a_clamped_strip(wide: float) -> None:
    # A hard bed, so that what bends is the strip between lines 3 mm apart.
    pad = Pad(10.0, (3 * wide) ** 2, 0.8, 0.5, 0.9, 3.0)
    assert pad.bending == pytest.approx(10 * 6 * clamped_strip(wide) / 0.8**2, rel=0.07)


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
    shell, stiff, strong = 4 * recipe.layer_height, stiffness_share("gyroid", 0.15), strength_share("gyroid", 0.15)
    alike = Pad(120.0, 36.0, shell, 21 - 2 * shell, stiff, 2 * recipe.line_width / 0.15)
    assert found[Rule.DENT][2] == pytest.approx(-alike.bedding / strong, rel=0.01)
    assert np.abs(found[Rule.BENT_IN]).max() == pytest.approx(alike.bending, rel=0.01)
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
