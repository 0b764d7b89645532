"""Clean-up and dry fit: what a shape made for it needs, drills that fit, when a part drops, what a thread stands."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
from conftest import mesh_of

from knollside.core.fit.dryfit import FRICTION, STICKS, highest_torque, slides, tries
from knollside.core.lay.bed_adhesion import BedAdhesion
from knollside.core.lay.cleanup import Mess, Wanted, chores, drill_for
from knollside.core.lay.strata import lay_strata
from knollside.core.lay.supports import regions
from knollside.core.material.cards import MATERIALS
from knollside.core.mesh.features import find_features
from knollside.core.model import Mate, Mesh, Range, Recipe, Refused, SupportSettings

UP = (0.0, 0.0, 1.0)
NONE = BedAdhesion("nothing", 0.0, "", 0.0, 0.0)


def done(mesh: Mesh, settings: SupportSettings | None = None, wanted=(), weak=(), bed=NONE):  # type: ignore[no-untyped-def]
    recipe, settings = Recipe(layer_height=0.4), settings or SupportSettings()
    strata = lay_strata(mesh, UP, recipe)
    features = find_features(mesh)
    found = regions(mesh, features, {}, strata, recipe, settings, MATERIALS["PETG"])
    return chores(strata, found, settings, bed, None, features, weak, wanted)


def two_posts() -> Mesh:
    solid = m3.Manifold.cube((40, 10, 2))
    for x in (0, 30):
        solid = solid + m3.Manifold.cube((10, 10, 20)).translate((x, 0, 0))
    return mesh_of(solid)


def shelf() -> Mesh:
    return mesh_of(m3.Manifold.cube((10, 20, 30)) + m3.Manifold.cube((40, 20, 4)).translate((0, 0, 26)))


def test_strings_hang_between_two_posts_and_nowhere_else() -> None:
    found = done(two_posts())
    strings = [c for c in found if c.mess is Mess.STRINGS]
    assert len(strings) == 1 and "hang over 20 mm" in strings[0].how
    assert strings[0].low == pytest.approx(2.0, abs=0.41) and strings[0].high == pytest.approx(20.0, abs=0.41)
    assert strings[0].at[0] == pytest.approx(20.0, abs=0.1)
    assert not [c for c in done(mesh_of(m3.Manifold.cube((20, 20, 20)))) if c.mess is Mess.STRINGS]


def test_a_support_is_pulled_off_to_its_side_and_near_a_weak_place_with_care() -> None:
    support = next(c for c in done(shelf()) if c.mess is Mess.SUPPORT)
    assert "pull to the right" in support.how and support.tool == "flat pliers"
    assert support.at[0] > 10 and support.high == pytest.approx(26.4, abs=0.5)
    careful = next(c for c in done(shelf(), weak=((12.0, 10.0, 26.0),)) if c.mess is Mess.SUPPORT)
    assert any("weak place" in w for w in careful.care) == (math.dist(support.at, (12, 10, 26)) < 10)
    left = done(shelf(), SupportSettings(preset="none"))
    assert not [c for c in left if c.mess is Mess.SUPPORT] and any(c.mess is Mess.STRANDS for c in left)


def test_a_support_between_two_walls_is_pulled_out_along_them() -> None:
    block = m3.Manifold.cube((40, 12, 30)) - m3.Manifold.cube((24, 40, 24)).translate((8, -10, 0))
    support = next(c for c in done(mesh_of(block)) if c.mess is Mess.SUPPORT)
    assert "pull to the front" in support.how or "pull to the back" in support.how
    # A shelf on a wall at its left, whose foot reaches out under it: left is shut.
    foot = (
        m3.Manifold.cube((60, 30, 8))
        + m3.Manifold.cube((8, 30, 30))
        + m3.Manifold.cube((30, 30, 6)).translate((0, 0, 24))
    )
    held = next(c for c in done(mesh_of(foot)) if c.mess is Mess.SUPPORT)
    assert "pull to the left" not in held.how


def test_the_order_is_brim_supports_foot_then_drills() -> None:
    brim = BedAdhesion("brim", 5.0, "", 1.0, 40.0)
    order = [c.mess for c in done(shelf(), bed=brim)]
    assert order[0] is Mess.BRIM and order[1] is Mess.SUPPORT and order.index(Mess.FOOT) > 1


@pytest.mark.parametrize(
    ("low", "high", "printed", "drill"),
    [
        (5.25, 5.35, 5.1, 5.3),
        (5.25, 5.35, 5.6, None),
        (5.31, 5.39, 5.0, None),
        (3.2, 3.6, 3.0, 3.4),
        (20, 21, 19, None),
    ],
)
def test_a_drill_is_one_that_fits_and_still_cuts(low: float, high: float, printed: float, drill: float | None) -> None:
    assert drill_for(low, high, printed) == drill


def test_a_lying_hole_is_drilled_and_an_upright_that_fits_is_not() -> None:
    block = m3.Manifold.cube((30, 30, 20))
    lying = block - m3.Manifold.cylinder(60, 2.65, circular_segments=64).rotate((90, 0, 0)).translate((15, 50, 10))
    upright = block - m3.Manifold.cylinder(60, 2.65, circular_segments=64).translate((15, 15, -5))
    for solid, drilled in ((lying, True), (upright, False)):
        mesh = mesh_of(solid)
        hole = next(f for f in find_features(mesh) if f.kind == "hole")
        found = done(mesh, wanted=(Wanted(hole.id, 5.2, 5.4, "M5, close", 5.25),))
        assert any(c.mess is Mess.DRILL for c in found) is drilled


# Does it drop by itself?


def test_a_heavy_part_slides_at_the_angle_of_friction() -> None:
    told = slides(5000.0)
    for mu, angle in (
        (FRICTION.low, told.angle.low),
        (FRICTION.value, told.angle.value),
        (FRICTION.high, told.angle.high),
    ):
        assert angle == pytest.approx(math.degrees(math.atan(mu)), abs=0.3)
    assert told.drops is True


def test_the_angle_is_where_weight_along_equals_friction_and_sticking() -> None:
    grams = 12.0
    a = math.radians(slides(grams).angle.value)
    weight = grams * 9.81e-3
    assert weight * math.sin(a) == pytest.approx(FRICTION.value * weight * math.cos(a) + STICKS.value, rel=1e-9)
    assert slides(0.5).drops is False and slides(8.0).drops is None


def test_a_short_wide_guide_jams() -> None:
    assert slides(500, guided=10, breadth=40).jams and slides(500, guided=10, breadth=40).drops is False
    assert not slides(500, guided=40, breadth=20).jams
    with pytest.raises(Refused, match="without weight"):
        slides(0.0)


def test_what_is_pressed_goes_last_and_like_mates_are_told_once() -> None:
    mates = (
        Mate(feature="hole-9", hardware="insert M3", fit="melt in"),
        Mate(feature="hole-1", hardware="M5"),
        Mate(feature="pin-1", partner="hole-7", fit="slide"),
        Mate(feature="hole-2", hardware="M5"),
    )
    order = [[m.feature for m in t.mates] for t in tries(mates, 20.0, {})]
    assert order == [["pin-1"], ["hole-1", "hole-2"], ["hole-9"]]


def test_the_torque_of_a_thread_is_shear_on_half_its_cylinder() -> None:
    pull, bond = Range(40.0, 30.0, 50.0), Range(0.6, 0.5, 0.7)
    found = highest_torque(4.2, 10.0, None, pull, bond)
    by_hand = 0.27 * 4.2 * 0.577 * 24.0 * 0.5 * math.pi * 4.2 * 10.0
    assert found.value == pytest.approx(by_hand, rel=1e-12)
    # A small head sinks in before the thread strips.
    headed = highest_torque(4.2, 30.0, 5.0, pull, bond)
    assert headed.value == pytest.approx(0.27 * 4.2 * 24.0 * math.pi / 4 * (25 - 4.2**2), rel=1e-12)
    assert found.low < found.value < found.high and np.isfinite(found.high)
