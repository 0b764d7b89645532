"""Notes by height, access and price of supports, grain of show faces, weights, first layer, and cuts in two."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import box, mesh_of

from knollside.core.job import answer
from knollside.core.job.split import GLUE_MPA, cut_plans
from knollside.core.lay.layer_warnings import free_area, layer_warnings
from knollside.core.lay.orientations import WEIGHTS, plain_orientations, weighed
from knollside.core.lay.strata import lay_strata
from knollside.core.lay.supports import regions
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Mesh,
    Purpose,
    Recipe,
    Refused,
    SupportSettings,
)

UP = (0.0, 0.0, 1.0)
R = Recipe(layer_height=0.2, line_width=0.45)
Solid = m3.Manifold
ALL = SupportSettings(preset="all")


def slab(x0: float, x1: float, y0: float, y1: float, z0: float, z1: float) -> m3.Manifold:
    return Solid.cube((x1 - x0, y1 - y0, z1 - z0)).translate((x0, y0, z0))


def held_places(mesh: Mesh, support_settings: SupportSettings = ALL):  # type: ignore[no-untyped-def]
    strata = lay_strata(mesh, UP, R)
    return strata, regions(mesh, find_features(mesh), {}, strata, R, support_settings, material("PETG"))


def test_a_support_in_a_well_comes_out_where_the_well_opens() -> None:
    block = slab(0, 40, 0, 40, 0, 30)
    from_below = mesh_of(block - slab(12, 28, 12, 28, -1, 20))  # a pocket open at the bed, its ceiling held
    assert {r.access for r in held_places(from_below)[1] if r.area > 50} == {"through an opening"}
    # A well with a wider chamber at its foot: the chamber's ceiling stands on the part, the well leads up and out.
    well = mesh_of(block - slab(8, 32, 8, 32, 5, 15) - slab(16, 24, 16, 24, 10, 31))
    assert {r.access for r in held_places(well)[1] if r.area > 50} == {"through an opening"}
    shut = mesh_of(block - slab(8, 32, 8, 32, 5, 15))
    assert {r.access for r in held_places(shut)[1] if r.area > 50} == {"shut in"}
    shelf = mesh_of(block + slab(40, 60, 0, 40, 20, 30))
    assert {r.access for r in held_places(shelf)[1] if r.area > 50} == {"outside"}


def test_notes_name_islands_bridges_thin_walls_and_lying_holes() -> None:
    solid = (
        slab(0, 40, 0, 10, 0, 3) + slab(0, 4, 0, 10, 0, 20) + slab(36, 40, 0, 10, 0, 20) + slab(0, 40, 0, 10, 20, 23)
    )
    solid += slab(15, 25, 2, 8, 10, 12)  # hangs in the air
    solid += slab(50, 50.3, 0, 10, 0, 12)  # under one line
    solid += slab(60, 80, 0, 20, 0, 20) - Solid.cylinder(60, 4, circular_segments=48).rotate((-90, 0, 0)).translate(
        (70, -5, 10)
    )
    mesh = mesh_of(solid)
    strata, found = held_places(mesh)
    notes = layer_warnings(strata, found, find_features(mesh), ((20.0, 23.0, 3.0),), R)
    by = {n.kind: n for n in notes}
    assert by["island"].low == pytest.approx(10.0, abs=0.2) and by["island"].grave
    bridge = by.get("ceiling") or by["bridge"]
    assert "32 mm" in bridge.words and bridge.low == pytest.approx(20.0, abs=0.2)
    assert "one line" in by["thin"].words and by["thin"].high == pytest.approx(12.0, abs=1.0)
    assert (by["lying hole"].low, by["lying hole"].high) == pytest.approx((6.0, 14.0), abs=0.1)
    assert by["quick"].words.startswith("3 s")
    assert [n.grave for n in notes] == sorted((n.grave for n in notes), reverse=True)
    heights = np.arange(0.5, 23, 1.0)
    free = free_area(strata, heights)
    assert free.sum() == pytest.approx(sum(f.patch.area for f in strata.free))
    assert free[10] == pytest.approx(60.0, rel=0.02)  # the island's underside, 10 x 6


def test_a_solid_block_has_nothing_to_note() -> None:
    mesh = box(30, 20, 10)
    strata, found = held_places(mesh)
    assert layer_warnings(strata, found, find_features(mesh), (), R) == ()


@pytest.fixture(scope="module")
def tee() -> tuple[answer.PartFacts, DesignCase, answer.Strength]:
    """A plate with an arm standing out: neither way of the whole suits both."""
    part = answer.read_part(mesh_of(slab(0, 6, 0, 60, 0, 60) + slab(5, 70, 22, 38, 24, 36)))
    design_case = DesignCase(
        fixtures=(
            FixedFixture(at=(0, 5, 5)),
            FixedFixture(at=(0, 55, 5)),
            FixedFixture(at=(0, 5, 55)),
            FixedFixture(at=(0, 55, 55)),
        ),
        cases=(LoadCase(name="hook", loads=(ForceLoad(at=(70, 30, 30), force_N=(0, 0, -40)),)),),
    )
    return part, design_case, solving.strength(part, design_case, Recipe(infill=1.0), material("PETG"), 8000)


def test_own_weights_put_the_list_in_another_order_and_the_purpose_s_back(tee) -> None:  # type: ignore[no-untyped-def]
    part, design_case, s = tee
    ranking = answer.orientations(part, design_case, s, (220, 220, 250))
    assert [w.direction for w in weighed(ranking, WEIGHTS[Purpose.WORKING]).orientations] == [
        w.direction for w in ranking.orientations
    ]
    low = weighed(ranking, {"strength": 0.0, "overhang": 0.0, "height": 1.0, "contact": 0.0})
    support_settings = [w for w in low.orientations if w.reserve.value >= ranking.target and w.footing.stands]
    heights = [w.footing.height for w in support_settings]
    assert (
        heights == sorted(heights) and [w.letter for w in low.orientations] == list("ABCDEFG")[: len(low.orientations)]
    )


def test_a_cut_lets_plate_and_arm_each_lie_well(tee) -> None:  # type: ignore[no-untyped-def]
    part, design_case, s = tee
    ranking = answer.orientations(part, design_case, s, (220, 220, 250))
    worst = max(ranking.orientations, key=lambda w: w.overhang)
    plans = cut_plans(part, s, worst, (220, 220, 250))
    plan = next(p for p in plans if abs(p.normal[0]) > 0.99)
    assert 5.9 < plan.at[0] < 70 and plan.area == pytest.approx(16 * 12, rel=0.01)
    assert sum(h.share for h in plan.pieces) == pytest.approx(1.0, abs=1e-6)
    assert plan.overhang < worst.overhang
    # The glued face by hand: bending 40 N over the rest of the arm, and shear.
    lever = 70 - plan.at[0]
    limit = s.limits[0]
    allowed = GLUE_MPA[0] * limit.tension / limit.table.value
    bend, shear = 6 * 40 * lever / (16 * 12**2), 1.5 * 40 / (16 * 12)
    assert plan.glued == pytest.approx(allowed / np.hypot(bend, shear), rel=0.06)
    assert plan.glued_range[0] < plan.glued < plan.glued_range[1]


def test_a_plain_bar_needs_no_cut_and_bodies_are_refused() -> None:
    part = answer.read_part(box(80, 12, 12))
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 6, 6)),),
        cases=(LoadCase(name="pull", loads=(ForceLoad(at=(80, 6, 6), force_N=(20, 0, 0)),)),),
    )
    s = solving.strength(part, design_case, Recipe(infill=1.0), material("PETG"), 4000)
    best = answer.orientations(part, design_case, s, (220, 220, 250)).orientations[0]
    assert cut_plans(part, s, best, (220, 220, 250)) == ()
    two = answer.read_part(mesh_of(slab(0, 10, 0, 10, 0, 10) + slab(20, 30, 0, 10, 0, 10)))
    with pytest.raises(Refused, match="several bodies"):
        cut_plans(two, s, best, (220, 220, 250))


def test_a_ball_and_a_giant_are_listed_with_what_is_wrong() -> None:
    ball = answer.read_part(mesh_of(Solid.sphere(20, 64)))
    ground = answer.ground(ball, R, (220, 220, 250), 200)
    orientations = plain_orientations(ball.mesh, ball.features, Purpose.WORKING, {}, ground)
    assert len(orientations) == 6 and all(w.gives_up.startswith("Next to nothing to stand on") for w in orientations)
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 0, -20)),),
        cases=(LoadCase(name="push", loads=(ForceLoad(at=(0, 0, 20), force_N=(0, 0, -20)),)),),
    )
    s = solving.strength(ball, design_case, Recipe(infill=1.0), material("PETG"), 3000)
    assert all(
        "Next to nothing" in w.gives_up
        for w in answer.orientations(ball, design_case, s, (220, 220, 250), 200).orientations
    )
    giant = answer.read_part(box(400, 300, 280))
    ground = answer.ground(giant, R, (220, 220, 250), 200)
    orientations = plain_orientations(giant.mesh, giant.features, Purpose.WORKING, {}, ground)
    assert orientations and all("Too large for the bed this way." in w.gives_up for w in orientations)


def test_without_a_load_the_weights_alone_order_the_ways() -> None:
    slabs = answer.read_part(box(60, 40, 5))
    ground = answer.ground(slabs, R, (220, 220, 250), 200)
    low = plain_orientations(slabs.mesh, slabs.features, Purpose.FIT_CHECK, {}, ground)[0]
    assert abs(low.direction[2]) > 0.99 and low.reserve.value != low.reserve.value
    only = {"contact": 0.0, "overhang": 0.0, "height": 0.0}
    same = plain_orientations(slabs.mesh, slabs.features, Purpose.FIT_CHECK, only, ground)
    assert {round(w.score, 9) for w in same} == {0.0}
