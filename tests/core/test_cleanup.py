"""Clean-up and dry fit: what a shape made for it needs, drills that fit, when a part drops, what a thread stands."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
from conftest import mesh_of

from knollside.core.fit.dryfit import FRICTION, STICKS, Between, Guide, slides, snap, tries
from knollside.core.fit.torques import head_torque, insert_torque, thread_torque, torque_of
from knollside.core.job.answer import PartFacts
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import ask_fits, ask_gaps, ask_price
from knollside.core.job.questions.cleanup import Finish, Finishing, _bodies, _guide
from knollside.core.job.questions.orientation import Supports
from knollside.core.job.questions.part import Part, ReadMesh, names_of_new
from knollside.core.job.stated import Stated
from knollside.core.lay.bed_adhesion import BedAdhesion
from knollside.core.lay.cleanup import Mess, Wanted, chores, drill_for
from knollside.core.lay.strata import lay_strata
from knollside.core.lay.supports import regions
from knollside.core.material.cards import MATERIALS
from knollside.core.mesh.features import find_features
from knollside.core.model import Feature, Mate, Mesh, Range, Recipe, Refused, SupportSettings

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
    told = slides(Guide(5000.0))
    for mu, angle in (
        (FRICTION.low, told.angle.low),
        (FRICTION.value, told.angle.value),
        (FRICTION.high, told.angle.high),
    ):
        assert angle == pytest.approx(math.degrees(math.atan(mu)), abs=0.3)
    assert told.drops is True


def test_the_angle_is_where_weight_along_equals_friction_and_sticking() -> None:
    grams = 12.0
    a = math.radians(slides(Guide(grams)).angle.value)
    weight = grams * 9.81e-3
    assert weight * math.sin(a) == pytest.approx(FRICTION.value * weight * math.cos(a) + STICKS.value, rel=1e-9)
    assert slides(Guide(0.5)).drops is False and slides(Guide(8.0)).drops is None


def test_twelve_grams_slide_where_a_hand_computes_it() -> None:
    """Weight 0.1177 N; 0.3 and 0.06 N: 16.7 degrees and asin(0.488); 0.2 and 0.02: 11.3 and asin(0.167); 0.4 and 0.15
    never."""
    told = slides(Guide(12.0)).angle
    assert (told.value, told.low, told.high) == pytest.approx((45.91, 20.90, 180.0), abs=0.02)


def test_bodies_printed_in_place_drop_by_the_weight_of_the_lighter_one() -> None:
    heavy, light = (Between((0, 1), 0.3, True, g, True, 0.1, 0.2) for g in (400.0, 0.05))
    a, b = tries((), {}, {}, between=(heavy, light))
    assert "slide by itself from 12 to 24°" in a.should and "10 of 100 weld, 20 rattle" in a.should
    assert "too light to drop" in b.should and a.key == "bodies 1 and 2" and a.outcomes[0] == "by itself"
    # A guide that nobody weighed is as light as the lightest that is told: a tenth of a gram, no more.
    m = Mate(feature="h", hardware="rod 8 mm", fit="free")
    assert tries((m,), {}, {})[0].should == tries((m,), {"h": Guide(0.1)}, {})[0].should
    assert tries((m,), {"h": Guide(0.001)}, {})[0].should == tries((m,), {"h": Guide(0.1)}, {})[0].should


def test_what_hangs_off_a_short_guide_jams() -> None:
    """Weight w at an arm a turns it in a guide l long; its ends press with w a / l each and rub with mu of that."""
    for length, arm in ((10.0, 40.0), (40.0, 20.0), (31.9, 40.0), (32.1, 40.0)):
        told = slides(Guide(500.0, length, arm))
        assert told.jams is (2 * FRICTION.high * arm / length > 1)
        assert told.drops is (not told.jams)
    assert not slides(Guide(500.0, 10.0)).jams
    with pytest.raises(Refused, match="without weight"):
        slides(Guide(0.0))


def test_what_is_pressed_goes_last_and_like_mates_are_told_once() -> None:
    mates = (
        Mate(feature="hole-9", hardware="insert M3", fit="melt in"),
        Mate(feature="hole-1", hardware="M5"),
        Mate(feature="pin-1", partner="hole-7", fit="slide"),
        Mate(feature="hole-2", hardware="M5"),
    )
    order = [[m.feature for m in t.mates] for t in tries(mates, {m.feature: Guide(20.0) for m in mates}, {})]
    assert order == [["pin-1"], ["hole-1", "hole-2"], ["hole-9"]]


PULL, BOND = Range(40.0, 30.0, 50.0), Range(0.6, 0.5, 0.7)


def test_the_torque_of_a_thread_is_shear_on_half_its_cylinder() -> None:
    found = thread_torque(4.2, 10.0, PULL, BOND)
    assert found.value == pytest.approx(0.27 * 4.2 * 0.577 * 24.0 * 0.5 * math.pi * 4.2 * 10.0, rel=1e-12)
    assert found.low == pytest.approx(0.20 * 4.2 * 0.577 * 15.0 * 0.5 * math.pi * 4.2 * 10.0, rel=1e-12)
    assert found.low < found.value < found.high and np.isfinite(found.high)
    with pytest.raises(Refused, match="above nought"):
        thread_torque(4.2, 0.0, PULL, BOND)


def test_a_head_bears_on_its_ring_and_an_insert_turns_before_it_comes_out() -> None:
    found = head_torque(5.0, 8.5, 5.5, PULL, BOND)
    assert found.value == pytest.approx(0.27 * 5.0 * 24.0 * math.pi / 4 * (8.5**2 - 5.5**2), rel=1e-12)
    # M3, 4 mm over its knurls, 5 long: along it K d F = 0.27 x 3 x F, turned F x 2; the first is less.
    along = 0.577 * 24.0 * 0.5 * math.pi * 4.0 * 5.0
    assert insert_torque(3.0, 4.0, 5.0, PULL, BOND).value == pytest.approx(0.27 * 3.0 * along, rel=1e-12)
    with pytest.raises(Refused, match="wider than its hole"):
        head_torque(5.0, 5.4, 5.5, PULL, BOND)
    # A screw as wide as its insert turns it first only where K is more than half.
    assert insert_torque(9.0, 4.0, 5.0, PULL, BOND).value == pytest.approx(along * 2.0, rel=1e-12)


def test_mates_are_told_what_their_screws_stand() -> None:
    block = m3.Manifold.cube((30, 30, 8)) - m3.Manifold.cylinder(30, 2.75, circular_segments=64).translate((15, 15, -5))
    hole = next(f for f in find_features(mesh_of(block)) if f.kind == "hole")
    assert hole.diameter == pytest.approx(5.5, abs=1e-3)
    through = torque_of(Mate(feature=hole.id, hardware="M5"), hole, PULL, BOND)
    assert through is not None and through.most.value == pytest.approx(head_torque(5.0, 8.5, 5.5, PULL, BOND).value)
    assert through.words.startswith("No tighter than 0.49 N m: its head sinks in at 1.1")
    cut = torque_of(Mate(feature=hole.id, hardware="M6", fit="thread"), hole, PULL, BOND)
    assert cut is not None and cut.most.low == pytest.approx(thread_torque(5.5, 8.0, PULL, BOND).low)
    melted = torque_of(Mate(feature=hole.id, hardware="insert M4 x 8", fit="melt in"), hole, PULL, BOND)
    assert melted is not None and melted.most.low == pytest.approx(insert_torque(4.0, 5.5, 8.0, PULL, BOND).low)
    assert torque_of(Mate(feature=hole.id, hardware="rod 5 mm", fit="slide"), hole, PULL, BOND) is None
    order = tries((Mate(feature=hole.id, hardware="M5"),), {}, {}, torques={hole.id: through})
    assert "No tighter than 0.49 N m" in order[0].should


def test_a_snap_arm_is_pushed_before_what_never_comes_out() -> None:
    arm = Feature("snap-1", "flat", (0, 0, 0), (0, 0, 1), np.zeros(0, int), length=20.0, readings=(1.5, 1.0))
    assert arm.passing_strain == pytest.approx(100 * 1.5 * 1.5 * 1.0 / 20**2)  # Roark: 3 t y / 2 l2
    told = snap(arm, Range(2.5, 1.5, 4.0))
    assert "click and hold" in told.should and told.outcomes == ("clicks", "does not click", "it broke")
    assert "may break" in snap(arm, Range(0.6, 0.5, 0.8)).should and "likely" in snap(arm, Range(0.3, 0.2, 0.5)).should
    mates = (Mate(feature="a", hardware="insert M3", fit="melt in"), Mate(feature="b", hardware="M5"))
    assert [t.key for t in tries(mates, {}, {}, arms=(told,))] == ["b", "snap-1", "a"]


def test_where_bodies_are_heavy_is_their_middle() -> None:
    part = m3.Manifold.cube((10, 10, 10)) + m3.Manifold.cylinder(6, 4, circular_segments=96).translate((40, 0, 3))
    shares, middles = _bodies(mesh_of(part))
    volumes = np.array([1000.0, math.pi * 16 * 6])
    by_share = np.argsort(shares)
    assert shares[by_share] == pytest.approx(np.sort(volumes) / volumes.sum(), rel=2e-3)
    assert middles[by_share[0]] == pytest.approx([40, 0, 6], abs=1e-6)
    assert middles[by_share[1]] == pytest.approx([5, 5, 5], abs=1e-9)


def hung(arm: float, deep: float) -> Mesh:
    """A block with a hole of 8.4 and, in it, a pin of 8 that carries a cube ``arm`` beside its axis; ``deep`` long."""
    block = m3.Manifold.cube((60, 60, deep), True).translate((0, 0, deep / 2))
    block = block - m3.Manifold.cylinder(99, 4.2, circular_segments=96).translate((0, 0, -20))
    pin = m3.Manifold.cylinder(deep + 10, 4.0, circular_segments=96)
    bar = m3.Manifold.cube((arm + 4, 4, 4)).translate((0, -2, deep + 6))
    cube = m3.Manifold.cube((20, 20, 20), True).translate((arm, 0, deep + 14))
    return mesh_of(m3.Manifold.compose([block, pin + bar + cube]).translate((13, -7, 2)))


def finishing(mesh: Mesh) -> tuple[PartFacts, Finishing, float]:
    """All of a part with its pin as a slide in its hole, and the grams of the whole."""
    ask = Answerer()
    key = ask.meshes.put(mesh)
    facts = ask(ReadMesh(key)).facts
    part = Part(key, names_of_new(key, facts))
    found = ask(part)
    hole = next(f for f in found.features if f.kind == "hole")
    pin = next(f for f in found.features if f.kind == "pin" and abs((f.diameter or 0) - 8) < 0.1)
    s = Stated(mates=(Mate(feature=hole.id, partner=pin.id, fit="slide"),))
    supports = Supports(part, (), s.direction, s.recipe, s.support_settings, s.card, s.printer, (), s.peel)
    told = ask(Finish(supports, ask_fits(part, s), ask_gaps(part, s), ask_price(part, s)))
    return found, told, ask(ask_price(part, s)).grams


def test_a_pair_moves_by_its_lighter_body_and_jams_by_what_hangs_beside_its_guide() -> None:
    found, told, grams = finishing(hung(60.0, 20.0))
    (mate,) = (t for t in told.tries if t.mates)
    shares, middles = _bodies(found.mesh)
    guide = _guide(found, mate.mates[0], grams * shares, middles)
    # By hand: cube 8000, bar 64 by 4 by 4, pin, all at their arms; the block is many times heavier.
    parts = np.array([8000.0, 64 * 16.0 - 14 * 16.0, math.pi * 16 * 30])
    arm = float(parts @ [60.0, 32.0, 0.0] / parts.sum())
    assert guide.arm == pytest.approx(arm, rel=0.03) and guide.length == pytest.approx(20.0, abs=0.01)
    moving = parts.sum() / (parts.sum() + 60 * 60 * 20 - math.pi * 4.2**2 * 20)
    assert guide.grams == pytest.approx(grams * moving, rel=0.02)
    assert "jam askew" in mate.should and mate.drops is False
    between = next(t.between for t in told.tries if t.between is not None)
    assert between.grams == pytest.approx(guide.grams) and between.bodies == (0, 1)
    # Hung by its middle in a long guide it does not jam, light as it is.
    _, told, _ = finishing(hung(4.0, 40.0))
    (mate,) = (t for t in told.tries if t.mates)
    assert "jam" not in mate.should and "a push" in mate.should
