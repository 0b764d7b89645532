"""Plain pieces held against closed forms: a sign or a factor changed in any of them is noticed here.

Each was once changed without any test seeing it.
"""

from __future__ import annotations

import math
from dataclasses import replace

import manifold3d as m3
import numpy as np
import pytest
import shapely
from conftest import box, mesh_of

from knollside.core.fit.flaring import learn_flare
from knollside.core.fit.hardware import catalogue
from knollside.core.fit.play import running_in
from knollside.core.lay.bed_adhesion import bed_adhesion
from knollside.core.lay.orientations import _gives_up
from knollside.core.lay.stability import Footing
from knollside.core.lay.strata import Free, Strata, lay_strata
from knollside.core.lay.supports import BRIDGE_MM, SIDE_GAP, _risk, _without, regions
from knollside.core.learning.bond import learn_bond
from knollside.core.material.allowables import Allowables, limits_of
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.mesh.identity import _unrivalled
from knollside.core.mesh.load import load_bytes
from knollside.core.mesh.slicer import cut, section_of
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import (
    BearingLoad,
    BreakTest,
    DesignCase,
    Feature,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Measurement,
    Range,
    Recipe,
    Refused,
    SupportSettings,
)
from knollside.core.proof.bar import hole_and_pin_bar
from knollside.core.proof.couples import snap_arms
from knollside.core.proof.section import section_plane
from knollside.core.recipe.board import Dot, _named
from knollside.core.recipe.layer_areas import LayerUse
from knollside.core.recipe.price import Price, PrinterMotion, layer_seconds
from knollside.core.strength.conditions import Spots
from knollside.core.strength.field import Medium, solve
from knollside.core.strength.hot_spots import hot_spots
from knollside.core.strength.loads import forces_of
from knollside.core.strength.resultants import Resultants, nominal_reserve

PETG = material("PETG")


def allow(apart: float) -> Allowables:
    return Allowables(50, 50, apart, 1e9, (0.9, 1.1), (0.9, 1.1), (), Range(1, 1, 1), Range(1, 1, 1))


@pytest.mark.parametrize("turn", [0.0, 30.0, 90.0, 200.0])
def test_an_angle_bends_about_its_own_axes(turn: float) -> None:
    """Stress over an unsymmetric section is the one plane that balances force and moments: three equations for it,
    from the section's area laid out in small squares, and no moments of inertia by formula."""
    angle = m3.Manifold.cube((30, 6, 20)) + m3.Manifold.cube((5, 22, 20))
    angle = angle - m3.Manifold.cube((3, 3, 50)).translate((20, 1, -5))
    mesh = mesh_of(angle.rotate((0, 0, turn)))
    cuts = cut(mesh, np.array([10.0]))
    section = section_of(cuts.at(0))
    step = 0.125
    a, b = np.meshgrid(np.arange(step / 2, 30, step), np.arange(step / 2, 22, step))
    a, b = a.ravel(), b.ravel()
    inside = ((b < 6) | (a < 5)) & ~((a > 20) & (a < 23) & (b > 1) & (b < 4))
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    x, y = a[inside] * c - b[inside] * s, a[inside] * s + b[inside] * c
    cx, cy = x.mean(), y.mean()
    assert section.centroid == pytest.approx((cx, cy), abs=1e-6)
    # What acts above: a pull up and sideways loads, at a place off the centre.
    at, f = np.array([cx + 9.0, cy - 4.0, 25.0]), np.array([3.0, -2.0, 40.0])
    moment = np.cross(at - (cx, cy, 10.0), f)
    area = step * step
    one = np.ones_like(x)
    basis = np.stack([one, x - cx, y - cy])
    # The cut face pulls the piece above down by the stress: forces and both moments are nothing together.
    wanted = np.array([f[2], -moment[1], moment[0]])
    plane = np.linalg.solve(area * basis @ basis.T, wanted)
    rim = cuts.at(0).reshape(-1, 2)
    worst = (plane @ np.stack([np.ones(len(rim)), rim[:, 0] - cx, rim[:, 1] - cy])).max()
    res = Resultants(np.array([10.0]), (section,), f[None, None], moment[None, None], cuts, 0.0)
    assert nominal_reserve(res, (allow(20.0),))[0] == pytest.approx(20.0 / worst, rel=2e-3)


@pytest.mark.parametrize(("far", "layers", "force"), [(8.0, 5, 2.0), (12.0, 10, 5.0)])
def test_a_ledge_bends_as_a_cantilever_pulled_at_half_its_reach(far: float, layers: int, force: float) -> None:
    h, wide = 0.2, 20.0
    ledge, post = shapely.box(0, 0, far, wide), shapely.box(-10, 0, 0, wide)
    whole = shapely.union_all([ledge, post])
    strata = Strata((post,) * 3 + (whole,) * layers + (post,), (), h, 0.1, np.eye(3), 0.0)
    bending = force * far / 2
    section_modulus = wide * (layers * h) ** 2 / 6
    risk = _risk(strata, Free(3, ledge, far, "ledge"), force, PETG)
    assert risk == pytest.approx(bending / section_modulus / PETG.pull.value)


def test_a_strand_sags_as_a_beam_under_its_own_weight() -> None:
    """5 w L^4 / 384 E I: sixteen times the sag over twice the span; half a layer at the span that still closes."""
    h = 0.8
    strata = Strata((), (), h, 0.1, np.eye(3), 0.0)
    for share, text in ((1.0, "0.4"), (0.9, "0.3"), (0.7, "0.1"), (0.6, "0.05")):
        span = share * BRIDGE_MM
        pays, words = _without("bridge", Free(0, shapely.box(0, 0, span, 4), span / 2, "bridge"), strata, Recipe(), 0.0)
        assert f"{h / 2 * share**4:.1g}" == text
        assert not pays and f"sags about {text} mm" in words


@pytest.mark.parametrize("length", [75.0, 150.0, 300.0])
def test_curl_goes_with_the_length_that_shrinks(length: float) -> None:
    foot = Footing(shapely.box(0, 0, length, 20), length * 20, 10.0, 1.0, 10.0, 50, True, np.eye(3))
    shrink = sum(PETG.shrink_percent) / 2
    made = bed_adhesion(foot, PETG)
    # The index is 1 where a part 150 mm long shrinks by 0.4 per cent.
    assert made.curl == pytest.approx((shrink * length) / (0.4 * 150.0)) and made.span == pytest.approx(length)
    assert bed_adhesion(foot, PETG, enclosed=True).curl == pytest.approx(0.6 * made.curl)


def _from_rest_to_rest(length: float, v: float, a: float) -> float:
    """Seconds of one straight move, stepped through: speed up, keep pace, slow down."""
    t, at, speed, step = 0.0, 0.0, 0.0, 1e-4
    while at < length:
        left = length - at
        speed = min(speed + a * step, v, max(math.sqrt(2 * a * max(left, 0)), 1e-3))
        at, t = at + speed * step, t + step
    return t


def test_a_square_loop_stops_at_its_four_corners() -> None:
    side, printer_motion, recipe = 40.0, PrinterMotion(), Recipe(walls=1, infill=0.0)
    nothing = np.zeros(1)
    use = LayerUse(np.array([4 * side * 0.45]), nothing, nothing, np.array([4 * side]), np.ones(1), np.full(1, 1e-9))
    v = min(printer_motion.wall, printer_motion.flow / (recipe.line_width * recipe.layer_height))
    moved = layer_seconds(use, recipe, PETG, printer_motion)[0] - printer_motion.per_layer
    travel = math.sqrt(use.wall[0]) / printer_motion.travel
    assert moved - travel == pytest.approx(4 * _from_rest_to_rest(side, v, printer_motion.acceleration), rel=3e-3)


@pytest.mark.parametrize("ratio", [0.35, 0.5, 0.8])
def test_the_prior_of_a_bond_is_worth_one_test(ratio: float) -> None:
    """One test beside what is typical: the middle of both, as logarithms; four tests: four fifths of the way."""
    typical = Range(0.6, 0.45, 0.8)
    for n in (1, 4):
        tests = [BreakTest(mode="along a layer", ratio=ratio)] * n
        found = learn_bond(tests, typical)
        assert math.log(found.value) == pytest.approx((math.log(0.6) + n * math.log(ratio)) / (1 + n))


@pytest.mark.parametrize("opened", [0.02, 0.1, 0.25])
def test_wear_is_drawn_to_the_typical_by_just_its_doubt(opened: float) -> None:
    """Two readings new and two long worn in: the growth is the mean of what was seen and what is typical, each by its
    own variance (0.02 mm a reading; three times the typical range's sigma)."""
    found = running_in([(0, 0.1), (0, 0.1), (1e6, 0.1 + opened), (1e6, 0.1 + opened)])
    seen, typical = 2 * 0.02**2 / 2, (3 * (0.10 - 0.05) / 3.29) ** 2
    assert found.grows == pytest.approx((opened / seen + 0.075 / typical) / (1 / seen + 1 / typical), rel=1e-4)


def test_an_insert_melts_into_a_hole_a_tenth_either_side_of_its_own() -> None:
    inserts = [i for i in catalogue().values() if i.group == "insert"]
    assert len(inserts) >= 3
    for it in inserts:
        low, middle, high = it.bores["melt in"]
        assert (low, middle, high) == pytest.approx((it.size - 0.1, it.size, it.size + 0.1))


def test_a_weak_place_at_a_support_is_kept_a_place_and_a_strong_one_is_not() -> None:
    """A cantilever is stressed in proportion to the distance from its end: which end is held apart decides."""
    mesh = box(100, 4, 4)
    load = LoadCase(name="a", loads=(ForceLoad(at=(100, 2, 2), force_N=(0, 0, -1)),))
    case = DesignCase(fixtures=(FixedFixture(at=(0, 2, 2)),), cases=(load,))
    field = solve(mesh, find_features(mesh), case, Medium(2000.0), 8000)
    limits = limits_of(case, PETG)
    for near, kept in ((field.points[:, 0] < 25, True), (field.points[:, 0] > 75, False)):
        told = hot_spots(replace(field, excluded=near), limits, np.array([0.0, 0.0, 1.0]), 2)
        assert len(told) == 2 and any(t.at_support for t in told) == kept
        assert told[0].reserve <= told[1].reserve
    apart = np.linalg.norm(np.subtract(told[0].at, told[1].at))
    assert 10.0 <= apart < 20.0  # a tenth of the part, and no more than that is passed over
    # Between the ends the reserve goes as one over the distance from the load.
    first, second = (t for t in told if not t.at_support)
    assert second.reserve / first.reserve == pytest.approx((100 - first.at[0]) / (100 - second.at[0]), rel=0.1)


def test_the_column_under_a_shelf_stands_off_the_wall_beside_it() -> None:
    """A shelf of 20 x 10 mm at 20 mm over the bed beside a wall: the support is as high, and 0.6 mm clear of it."""
    post, shelf = m3.Manifold.cube((10, 10, 22)), m3.Manifold.cube((30, 10, 2)).translate((0, 0, 20))
    mesh, recipe = mesh_of(post + shelf), Recipe(layer_height=0.2, line_width=0.4)
    strata = lay_strata(mesh, (0.0, 0.0, 1.0), recipe)
    (region,) = regions(mesh, find_features(mesh), {}, strata, recipe, SupportSettings(), PETG)
    assert region.area == pytest.approx((20 - 0.2) * 10, rel=2e-3)  # half a line rests on the wall's edge
    assert region.column * region.area == pytest.approx((20 - SIDE_GAP) * 10 * 20, rel=3e-3)


def test_a_feature_with_a_near_rival_is_not_guessed() -> None:
    far = np.array([[0.1, 9.0], [9.0, 0.2]])
    assert _unrivalled(far) == {0: 0, 1: 1}
    # A second that is not three times as far off could be meant as well.
    assert _unrivalled(np.array([[0.1, 0.3], [9.0, 9.0]])) == {}
    assert _unrivalled(np.array([[0.1, 0.36], [np.inf, np.inf]])) == {0: 0}
    assert _unrivalled(np.array([[0.1], [0.3]])) == {}


def test_a_pin_presses_the_wall_of_its_hole_by_the_cosine_whatever_the_triangles() -> None:
    """Spots at uneven angles, each standing for its own arc: pressure p cos(a), so force p cos(a) times the arc."""
    edge = np.radians([-90, -70, -20, -5, 30, 80, 90, 140, 200, 270])
    middle, arc = (edge[1:] + edge[:-1]) / 2, np.diff(edge)
    normals = -np.c_[np.cos(middle), np.sin(middle), 0 * middle]  # out of the part, into the hole
    spots = Spots(-5 * normals, normals, 5 * arc)
    hole = Feature("hole-1", "hole", (0, 0, 0), (0, 0, 1), np.zeros(0, np.int64), diameter=10.0)
    each = forces_of(BearingLoad(feature="hole-1", force_N=(30.0, 0.0, 0.0)), hole, spots)
    pressing = np.maximum(np.cos(middle), 0)
    whole = (pressing * np.cos(middle) * arc).sum()
    assert each[:, 0] == pytest.approx(30 * pressing * np.cos(middle) * arc / whole)
    assert each.sum(axis=0)[0] == pytest.approx(30.0)
    assert each[:, 1] == pytest.approx(30 * pressing * np.sin(middle) * arc / whole)


def test_the_frontier_is_what_nothing_lighter_beats() -> None:
    """Dots made up, by a plain double loop instead of the sweep."""
    rng = np.random.default_rng(4)
    made = [
        Dot(Recipe(walls=2), Range(v, 0.7 * v, 1.4 * v), Price(g, Range(1, 1, 1), 1.0, np.zeros(1)))
        for v, g in zip(rng.uniform(0.5, 4, 60).tolist(), rng.uniform(20, 90, 60).tolist(), strict=True)
    ]
    for d, told in zip(made, _named(made, 2.0), strict=True):
        lighter = [e for e in made if e.price.grams < d.price.grams]
        beaten = any(e.reserve.value * 1.001 >= d.reserve.value for e in lighter)
        assert told.frontier == (not beaten)


def test_a_binary_mesh_is_as_long_as_its_count_says() -> None:
    whole = stl_bytes(box(3, 4, 5))
    assert load_bytes(whole, "a.stl").mesh.volume == pytest.approx(60)
    with pytest.raises(Refused, match="promises 12 triangles and holds 11"):
        load_bytes(whole[:-1], "a.stl")
    with pytest.raises(Refused, match="holds no triangles"):
        load_bytes(whole[:80] + bytes(4), "a.stl")


def test_what_a_way_gives_up_is_said_from_where_it_matters_on() -> None:
    def said(overhang: float = 0.0, **more: float) -> str:
        of = {"contact": 400.0, "margin": 5.0, "lean": 0.5, "height": 20.0, "layers": 100, "fits": True} | more
        return _gives_up(Footing(outline=shapely.Polygon(), turn=np.eye(3), **of), overhang)

    assert said() == said(overhang=29.9) == "Needs no support."
    assert said(overhang=130.0) == "1.3 cm² leans too far; support it."
    assert said(fits=False).startswith("Too large for the bed") and said(margin=-1.0) == "Tips over without help."
    assert said(lean=0.24) == "Stands narrow; give it a brim."
    assert said(contact=29.0).startswith("Next to nothing") and said(contact=29.0, height=4.9) == "Needs no support."


def test_a_section_is_cut_where_its_plane_says_however_long_the_normal() -> None:
    """Of a block 10 mm high, n . x >= d leaves what lies beyond d over the length of n."""
    for normal, offset, left in (((0, 0, 1), 4.0, 0.6), ((0, 0, 2), 8.0, 0.6), ((0, 0, -0.5), -2.0, 0.4)):
        got = section_plane(box(20, 10, 10), (), np.array(normal, float), offset)
        assert got.share == pytest.approx(left)


def test_a_flare_is_a_tenth_of_a_typical_one_and_all_that_was_measured() -> None:
    """Feet of 5 mm: outsides come out 0.04 mm larger there, the rest is twice the flare (Student's t by its table)."""
    flares = [0.12, 0.16, 0.20]
    feet = [Measurement(kind="foot", axis="upright", drawn=5.0, printed=5.04 + 2 * f) for f in flares]
    got = learn_flare(feet)
    middle = (0.1 * 0.15 + sum(flares)) / 3.1
    spread = math.sqrt((0.025**2 + sum((f - middle) ** 2 for f in flares)) / 3)
    assert got.value == pytest.approx(middle)
    assert got.high - got.value == pytest.approx(2.3534 * spread / math.sqrt(3), rel=1e-4)
    # One foot alone keeps the table's doubt: (0.30 - 0.05) / 2.
    one = learn_flare(feet[:1])
    assert (one.value - one.low, one.high - one.value) == (pytest.approx(0.125), pytest.approx(0.125))


def test_three_snap_arms_stand_clear_of_each_other_on_one_base() -> None:
    """Roark: strain = 1.5 t y / L2; room for the widest of them between any two."""
    length, thick, wide, strain = 30.0, 2.0, 6.0, 0.03
    reach = strain * length**2 / (1.5 * thick)
    size = np.ptp(snap_arms(length, thick, wide, strain).mesh.vertices, axis=0)
    assert sorted(size) == pytest.approx(sorted([12 + length, wide, 6 + 3 * (thick + 1.4 * reach + 6)]), abs=0.02)


def test_a_bar_adds_sizes_that_are_not_there_yet() -> None:
    assert 4.0 in {s.drawn for s in hole_and_pin_bar([4.8]).spots}
    assert 4.0 not in {s.drawn for s in hole_and_pin_bar([4.5]).spots}
