"""Lying, standing and supports worked by hand: amounts of plain shapes, and the limits that decide what is said."""

from __future__ import annotations

import math
from dataclasses import replace

import manifold3d as m3
import numpy as np
import pytest
import shapely
from conftest import mesh_of

from knollside.core.lay.bed_adhesion import bed_adhesion, first_layer
from knollside.core.lay.layer_warnings import LayerWarning, layer_warnings
from knollside.core.lay.orientations import WEIGHTS, RatedOrientation, in_own_order, plain_orientations, survey, weighed
from knollside.core.lay.seams import CLEAR_MM, _side, seam_advice
from knollside.core.lay.second_material import second_material
from knollside.core.lay.stability import Footing, centre_of_mass, footing, standing
from knollside.core.lay.strata import Free, Strata, lay_strata
from knollside.core.lay.supports import Region, _kind_of, _linked, _without, bill, held, regions
from knollside.core.lay.surface_steps import surface_steps
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.mesh.outline import farthest, sides
from knollside.core.model import Mesh, Purpose, Range, Recipe, SupportSettings

PETG = material("PETG")
UP = (0.0, 0.0, 1.0)
R = Recipe(layer_height=0.2, line_width=0.4)
ALL = SupportSettings(preset="all", density=0.15, interface=2, gap_mm=0.2)
Solid = m3.Manifold


def slab(x0: float, x1: float, y0: float, y1: float, z0: float, z1: float) -> m3.Manifold:
    return Solid.cube((x1 - x0, y1 - y0, z1 - z0)).translate((x0, y0, z0))


def places(mesh: Mesh, settings: SupportSettings = ALL, marks: dict[str, str] | None = None) -> tuple[Region, ...]:
    return regions(mesh, find_features(mesh), marks or {}, lay_strata(mesh, UP, R), R, settings, PETG)


SHELF = mesh_of(slab(0, 20, 0, 30, 0, 24) + slab(20, 40, 0, 30, 20, 24))


@pytest.mark.parametrize(("style", "thin"), [("lines", 0.15), ("tree", 0.075)])
def test_a_support_weighs_lasts_and_holds_as_its_column_says(style: str, thin: float) -> None:
    """Twenty high under 19.8 by 30, 0.6 clear of the wall; two layers solid, the rest thin; 70 mm/s, 1.3 for turns."""
    (r,) = places(SHELF, ALL.model_copy(update={"style": style} if style != "lines" else {}))
    area, volume = 19.8 * 30, 19.4 * 30 * 20
    assert (r.low, r.high, r.area, r.far) == pytest.approx((20.0, 20.2, area, 20.0), rel=2e-3)
    made = 2 * 0.2 * area + thin * (volume - 2 * 0.2 * area)
    assert r.column == pytest.approx(volume / area, rel=3e-3)
    assert r.grams == pytest.approx(made * PETG.density / 1000, rel=4e-3)
    assert r.minutes == pytest.approx(made / (0.4 * 0.2) / 70 / 60 * 1.3, rel=4e-3)
    # A front five deep over the width of 19.8 breaks loose at 0.4 MPa; at this density six tenths of it touch.
    assert r.force.value == pytest.approx(0.4 * 5 * 19.8 * (2 * 0.15 + 0.3), rel=2e-3)
    assert r.layers == (0, 99) and r.touches == 100 and not r.on_part and r.kind == "ledge" and r.needed
    # A cantilever four thick and thirty wide, pulled at half its reach, with the most that may be needed.
    assert r.risk == pytest.approx(6 * r.force.high * 10 / (19.8 * 30 / 20 * 4**2) / PETG.pull.low, rel=4e-3)
    dense = places(SHELF, ALL.model_copy(update={"density": 0.5, "gap_mm": 0.6}))[0]
    assert dense.force.value == pytest.approx(0.4 / 16 * 5 * 19.8, rel=2e-3)


def test_supports_stand_on_the_part_scar_what_they_touch_and_are_billed_where_held() -> None:
    stairs = mesh_of(slab(0, 20, 0, 30, 0, 24) + slab(20, 40, 0, 30, 20, 24) + slab(20, 40, 0, 30, 0, 4))
    under = next(f.id for f in find_features(stairs) if f.kind == "flat" and f.axis[2] < -0.9 and f.centre[2] > 10)
    floor = next(f.id for f in find_features(stairs) if f.kind == "flat" and f.axis[2] > 0.9 and f.centre[2] < 10)
    (r,) = places(stairs, marks={under: "shown", floor: "mates"})
    assert r.on_part and r.scars == ("a show face",) and r.layers == (20, 99)
    # Over the step it keeps clear of the step's top by one layer's cut, of the wall by six tenths.
    assert r.column * r.area == pytest.approx(19.4 * 30 * 16, rel=0.02)
    off, on = SupportSettings(preset="none", by_hand={}), SupportSettings(preset="none", by_hand={r.key: True})
    assert not held(r, off) and held(r, on) and held(replace(r, needed=False), SupportSettings(preset="all"))
    assert not held(replace(r, needed=False), SupportSettings(preset="pays"))
    costs = bill((r, replace(r, key="b", access="shut in", needed=False)), SupportSettings(preset="pays"))
    assert (costs.grams, costs.minutes, costs.count, costs.open_ones) == (r.grams, r.minutes, 1, 0)
    costs = bill((r, replace(r, key="b", access="shut in")), SupportSettings(preset="all"))
    assert (costs.count, costs.shut_in, costs.scars) == (2, 1, ("a show face",)) and costs.grams == 2 * r.grams
    assert bill((r,), off).open_ones == 1
    whole, touching = second_material((r, replace(r, key="b", layers=(90, 109), touches=105)), ALL)
    assert whole.changes == 2 * 90 and touching.changes == 2 * (2 + 7)  # 98, 99 of the first; 103 to 109 of the other
    assert (whole.minutes, whole.flushed) == pytest.approx((1.5 * 180, 90.0)) and whole.risk == pytest.approx(
        1 - 0.998**180
    )


def at(x: float, k: int, far: float = 1.0, kind: str = "ledge") -> Free:
    return Free(k, shapely.box(x, 0, x + 1, 1), far, kind)  # type: ignore[arg-type]


def test_patches_within_six_tenths_and_three_layers_are_one_place() -> None:
    assert len(_linked((at(0, 5), at(1.55, 5)))) == 1 and len(_linked((at(0, 5), at(1.65, 5)))) == 2
    assert len(_linked((at(0, 5), at(0, 8)))) == 1 and len(_linked((at(0, 5), at(0, 9)))) == 2
    assert len(_linked((at(0, 5), at(3, 5), at(1.5, 6)))) == 1


def test_kinds_and_what_happens_without_have_their_limits() -> None:
    island, bridge, ledge = at(0, 5, math.inf, "island"), at(0, 5, 4.0, "bridge"), at(0, 5)
    assert _kind_of([island, ledge], island, 5, 5, 1) == "island" and _kind_of([bridge], bridge, 5, 5, 1) == "bridge"
    crown = at(0, 9, 4.0, "bridge")
    for group, wide, kind in (([ledge, crown], 30.0, "arch"), ([ledge, crown], 30.1, "bridge")):
        assert _kind_of(group, crown, 5, 9, wide) == kind
    assert _kind_of([ledge, at(0, 8, 4.0, "bridge")], ledge, 5, 9, 9) == "arch"
    assert _kind_of([ledge, at(0, 7, 4.0, "bridge")], ledge, 5, 9, 9) == "slope"
    assert [_kind_of([ledge], ledge, 5, last, 9) for last in (7, 8)] == ["ledge", "slope"]
    strata = Strata((), (), 0.2, 0.2, np.eye(3), 0.0)

    def pays(kind: str, far: float, wide: float = 9.0) -> bool:
        return _without(kind, at(0, 0, far), strata, R, wide)[0]

    assert pays("island", 1) and [pays("arch", 1, w) for w in (10.0, 10.1)] == [False, True]
    assert [pays("bridge", f) for f in (4.99, 5.01)] == [False, True]  # half a span of ten
    assert [pays("ledge", f) for f in (1.19, 1.21)] == [False, True]  # three lines of 0.4
    # 45 degrees print by themselves at this reach; 15 more with a rough face: tan 60 of a layer.
    assert [pays("slope", 0.2 * math.tan(math.radians(a))) for a in (59.5, 60.5)] == [False, True]
    assert "Leans 58°, 13° past" in _without("slope", at(0, 0, 0.2 * math.tan(math.radians(58))), strata, R, 9.0)[1]
    assert _without("ledge", at(0, 0, 2.0), strata, R, 9.0)[1].startswith("Sticks out 2.0 mm, 5 lines")


def test_how_far_and_whether_facing_is_by_distance() -> None:
    held_by = shapely.union_all([shapely.box(0, 0, 10, 10), shapely.box(16, 0, 20, 10)])
    far, facing = farthest(shapely.box(10, 0, 16, 10), held_by)
    assert far == pytest.approx(3.0, abs=0.21) and facing
    far, facing = farthest(shapely.box(10, 0, 12, 10), shapely.box(0, 0, 10, 10))
    assert far == pytest.approx(2.0) and not facing
    # A facing side is looked for twice as far as the near one, at least a millimetre.
    for gap, seen in ((0.9, True), (1.2, False)):
        near = shapely.union_all([shapely.box(0, 0, 10, 10), shapely.box(10.3 + gap, 0, 20, 10)])
        assert farthest(shapely.box(10, 0, 10.3, 10), near)[1] is seen
    for gap, seen in ((7.8, True), (8.2, False)):
        near = shapely.union_all([shapely.box(0, 0, 10, 10), shapely.box(14 + gap, 0, 30, 10)])
        assert farthest(shapely.box(10, 0, 14, 10), near)[1] is seen
    assert sides(shapely.affinity.rotate(shapely.box(0, 0, 3, 8), 33)) == pytest.approx((3, 8))


def foot(
    contact: float = 800.0, height: float = 30.0, lean: float = 1.0, long: float = 50.0, **more: object
) -> Footing:
    made = Footing(shapely.box(0, 0, long, 20), contact, 5.0, lean, height, 150, True, np.eye(3))
    return replace(made, **more)  # type: ignore[arg-type]


def test_brim_and_raft_come_where_their_rule_says() -> None:
    shrinks = replace(PETG, shrink_percent=(0.3, 0.5))  # index 1 where 150 mm shrink by 0.4 %
    for contact, height, kind in ((29.9, 5.1, "raft"), (30.1, 5.1, "nothing"), (29.9, 4.9, "nothing")):
        assert bed_adhesion(foot(contact, height), shrinks).kind == kind
    for long, kind, width in ((74.0, "nothing", 0.0), (76.0, "brim", 5.0), (150.0, "brim", 7.5), (225.0, "brim", 10.0)):
        made = bed_adhesion(foot(long=long), shrinks)
        assert (made.kind, made.width) == (kind, width) and made.curl == pytest.approx(long / 150)
    assert bed_adhesion(foot(long=900.0), shrinks).width == 15.0
    assert bed_adhesion(foot(long=150.0), shrinks, enclosed=True).curl == pytest.approx(0.6)
    for lean, height, kind in ((0.119, 20.1, "brim"), (0.121, 20.1, "nothing"), (0.119, 19.9, "nothing")):
        assert bed_adhesion(foot(height=height, lean=lean), shrinks).kind == kind
    ring = (
        shapely.box(0, 0, 40, 40).difference(shapely.box(10, 10, 16.2, 16.2)).difference(shapely.box(20, 20, 26.3, 26))
    )
    made = first_layer(ring, R, 0.4)
    assert (made.height, made.speed, made.small, made.small_speed) == (0.2, 25.0, 2, 12.0)
    assert first_layer(shapely.box(0, 0, 9.9, 10), R, 0.4).speed == 18.0
    assert [first_layer(ring, Recipe(layer_height=h), 0.4).height for h in (0.1, 0.25, 0.36)] == [0.2, 0.25, 0.3]


def test_a_footing_is_that_of_statics() -> None:
    """An L of two blocks: centre of mass by their moments, margin to the edge of the foot, lean over its height."""
    ell = mesh_of(slab(0, 10, 0, 20, 0, 40) + slab(10, 34, 0, 20, 30, 40))
    v1, v2 = 10 * 20 * 40, 24 * 20 * 10
    x, z = (5 * v1 + 22 * v2) / (v1 + v2), (20 * v1 + 35 * v2) / (v1 + v2)
    assert centre_of_mass(ell) == pytest.approx((x, 10, z))
    far = Mesh(ell.vertices + np.array([500.0, -300.0, 200.0]), ell.faces)
    for mesh in (ell, far):
        f = footing(mesh, UP, R, (220, 220, 250))
        assert f.contact == pytest.approx(200) and f.margin == pytest.approx(10 - x) and not f.stands
        assert f.lean == pytest.approx((10 - x) / z) and (f.height, f.layers) == (pytest.approx(40), 200)
    s = standing(ell, np.array([UP, (0.0, 0.0, -1.0)]), R)
    assert s.overhang == pytest.approx([24 * 20, 0.0]) and s.contact == pytest.approx([200, 34 * 20])
    assert s.height == pytest.approx([40, 40])
    for room, fits in (((34.1, 20.1, 40.1), True), ((33.9, 20.1, 40.1), False), ((20.1, 34.1, 39.9), False)):
        assert footing(ell, UP, R, room).fits is fits
    assert footing(ell, UP, R, (20.1, 34.1, 40.1)).fits  # laid across


def test_ways_are_weighed_by_the_sum_of_their_shares() -> None:
    mesh = mesh_of(slab(0, 40, 0, 20, 0, 6) + slab(0, 6, 0, 20, 6, 30))
    ground = survey(mesh, find_features(mesh), R, (220, 220, 250), 60)
    own = {"strength": 0.0, "overhang": 0.3, "height": 0.5, "contact": 0.2}
    listed = plain_orientations(mesh, find_features(mesh), Purpose.SHOW, own, ground, keep=10)
    most = max(f.contact for f in ground.feet)
    tall = max(f.height for f in ground.feet)
    surface = float(mesh.areas.sum())
    for w in listed:
        told = 0.2 * min(w.footing.contact / most, 1) - 0.3 * w.overhang / surface - 0.5 * w.footing.height / tall
        told -= (0 if w.footing.stands else 1) + (0 if w.footing.fits else 3)
        assert w.score == pytest.approx(told, abs=2e-3)
        assert w.footing.height == pytest.approx(np.ptp(mesh.vertices @ np.array(w.direction)))
    assert [w.score for w in listed] == sorted((w.score for w in listed), reverse=True)
    base = listed[0]

    def rated(low: float, **more: object) -> RatedOrientation:
        made = replace(
            base, reserve=Range(1.2 * low, low, 1.5 * low), target=2.0, shares=(0.1, 0.5, 0.8), footing=foot()
        )
        return replace(made, **more)  # type: ignore[arg-type]

    from knollside.core.lay.orientations import Ranking

    every = (
        rated(1.0),
        rated(3.0),
        rated(9.0),
        rated(3.0, footing=foot(margin=-1.0)),
        rated(3.0, footing=foot(fits=False)),
    )
    ranking = Ranking(None, None, (), 2.0, np.zeros(0), every, Purpose.WORKING)  # type: ignore[arg-type]
    shape = 0.10 * 0.8 - 0.20 * 0.1 - 0.10 * 0.5
    got = sorted(w.score for w in weighed(ranking, WEIGHTS[Purpose.WORKING]).orientations)
    want = [shape + 0.6 * 0.75, shape + 0.6, shape + 0.6 * 0.25 - 0.5 - 0.5, shape + 0.45 - 1, shape + 0.45 - 3]
    assert got == pytest.approx(sorted(want))
    mine = in_own_order(ranking, {"strength": 0.2}).orientations
    assert max(w.score for w in mine) == pytest.approx(shape + 0.2)
    show = replace(ranking, purpose=Purpose.SHOW)
    weak = min(weighed(replace(show, every=every[:1]), WEIGHTS[Purpose.SHOW]).orientations, key=lambda w: w.score)
    assert weak.score == pytest.approx(0.20 * 0.8 - 0.50 * 0.1 - 0.10 * 0.5 + 0.20 * 0.25)


def notes(solid: m3.Manifold, recipe: Recipe = R) -> tuple[LayerWarning, ...]:
    mesh = mesh_of(solid)
    return layer_warnings(lay_strata(mesh, UP, recipe), (), find_features(mesh), (), recipe)


def test_thin_walls_and_lying_holes_are_told_by_their_measure() -> None:
    for wide, words in ((0.36, "are lost"), (0.44, "leave a gap"), (0.76, "leave a gap"), (0.85, "")):
        found = notes(slab(0, 20, 0, 20, 0, 4) + slab(0, 20, 10, 10 + wide, 4, 12))
        assert [words in n.words for n in found] == ([True] if words else [])
        assert all(4.0 <= n.low < 4.5 and n.high == pytest.approx(12.0) and n.grave == ("lost" in words) for n in found)
    short = notes(slab(0, 20, 0, 20, 0, 4) + slab(0, 1.0, 10, 10.3, 4, 12))
    assert short == ()  # less than half a square millimetre of a layer

    def drilled(d: float, lean: float) -> tuple[LayerWarning, ...]:
        hole = Solid.cylinder(90, d / 2, circular_segments=48).translate((0, 0, -45)).rotate((0, lean, 0))
        return notes(slab(-20, 20, -10, 10, 0, 20) - hole.translate((0, 0, 10)))

    (lying,) = drilled(5.0, 62.0)
    assert (lying.low, lying.high, lying.kind) == (pytest.approx(7.5), pytest.approx(12.5), "lying hole")
    assert drilled(5.0, 58.0) == () and drilled(1.8, 90.0) == () and len(drilled(2.2, 90.0)) == 1


def test_a_seam_goes_by_clearance_reach_and_inward_corners() -> None:
    for spot, words in (
        ((1, 1), "front left"),
        ((5, 9), "back"),
        ((9, 5), "right"),
        ((5, 5), "middle"),
        ((3.3, 6.5), "left"),
    ):
        assert _side(np.array(spot, float) + 40, np.full(2, 40.0), np.full(2, 50.0)) == words
    # Two towers, one half as tall: its corners reach half the layers, and are taken where the tall one is not clear.
    towers = mesh_of(slab(0, 10, 0, 10, 0, 20) + slab(10, 30, 0, 10, 0, 4) + slab(30, 40, 0, 10, 0, 10))
    strata = lay_strata(towers, UP, R)
    s = seam_advice(towers, find_features(towers), {}, (), strata)
    assert s is not None and s.reach == 1.0 and not s.inward and s.clear == CLEAR_MM and s.best[0] == pytest.approx(0)
    weak = tuple((x, y, z) for x in (0.0, 10.0) for y in (0.0, 10.0) for z in np.arange(0, 20, 2.0))
    s = seam_advice(towers, find_features(towers), {}, weak, strata)
    assert s is not None and s.best[0] >= 29.9 and s.clear == CLEAR_MM and s.avoid == ("weak places (40)",)
    one = ((10.0, 0.0, 19.9), (10.0, 10.0, 19.9), (30.0, 0.0, 9.9), (30.0, 10.0, 9.9), (3.0, 5.0, 10.0))
    s = seam_advice(towers, find_features(towers), {}, one, strata)
    assert s is not None and s.clear == pytest.approx(math.hypot(3, 5), abs=0.3) and not s.inward


def test_steps_of_a_slope_are_a_layer_over_its_tangent() -> None:
    wedge = mesh_of(Solid.extrude(m3.CrossSection([[(0, 0), (40, 0), (0, 10)]]), 20).rotate((90, 0, 0)))
    slope = next(f for f in find_features(wedge) if f.kind == "flat" and 0.1 < f.axis[2] < 0.99)
    under = next(f for f in find_features(wedge) if f.kind == "flat" and f.axis[2] < -0.99)
    features = find_features(wedge)
    assert surface_steps(wedge, features, {slope.id: "shown"}, UP, 0.2) == "steps 0.8 mm"  # 0.2 times four
    assert surface_steps(wedge, features, {under.id: "shown"}, UP, 0.2) == "on the sheet"
    shelf = find_features(SHELF)
    hung = next(f for f in shelf if f.kind == "flat" and f.axis[2] < -0.99 and f.centre[2] > 5)
    assert surface_steps(SHELF, shelf, {hung.id: "shown"}, UP, 0.2) == "underside"
    assert surface_steps(SHELF, shelf, {hung.id: "shown"}, (0.0, 0.0, -1.0), 0.2) == "top lines"
    assert surface_steps(SHELF, shelf, {hung.id: "shown"}, (1.0, 0.0, 0.0), 0.2) == "layers"
    assert surface_steps(SHELF, shelf, {}, UP, 0.2) == ""
