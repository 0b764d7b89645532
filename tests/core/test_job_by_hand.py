"""Remedies, variants and cuts in two from made-up answers, and screw threads from their own equation."""

from __future__ import annotations

import math
from dataclasses import replace
from types import SimpleNamespace

import manifold3d as m3
import numpy as np
import pytest
import shapely
from conftest import box, mesh_of

from knollside.core.job.answer import LayerLog, laid, plain_log
from knollside.core.job.remedies import Remedy, _recipe, _thicken, remedies
from knollside.core.job.split import CutPlan, Half, _gain, _glued, _normals, _screws
from knollside.core.job.variants import variants, with_layer, with_nozzle
from knollside.core.material.allowables import allowables
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.mesh.helix import helical, profile_of
from knollside.core.mesh.nearest import nearest_face
from knollside.core.mesh.slicer import Section
from knollside.core.model import DesignCase, LoadCase, Mesh, Range, Recipe, Surroundings
from knollside.core.recipe.board import PlainPricer
from knollside.core.recipe.choose import MaterialChoice
from knollside.core.recipe.price import PrinterMotion
from knollside.core.strength.resultants import Resultants

PETG = material("PETG")
LIMIT = allowables(PETG, Surroundings(temperature_c=40.0), LoadCase(name="a", loads=()))


def way(
    reserve: float, letter: str = "A", height: float = 30.0, overhang: float = 500.0, **more: object
) -> SimpleNamespace:
    footing = SimpleNamespace(height=height, stands=True, fits=True, **more)
    told = {"letter": letter, "title": "On its back", "place_height": 10.0, "place_name": "near hole 1"}
    return SimpleNamespace(
        reserve=Range(reserve, 0.8 * reserve, 1.2 * reserve), footing=footing, overhang=overhang, **told
    )


def strength(target: float = 2.0) -> SimpleNamespace:
    return SimpleNamespace(target=target, card=PETG, limits=(LIMIT,), field=None)


def told(have: float, ways: tuple = (), choices: tuple = (), board=None, log=None) -> dict[str, Remedy]:  # type: ignore[no-untyped-def,type-arg]
    ranking = SimpleNamespace(orientations=ways)
    found = remedies(None, DesignCase(), strength(), ranking, way(have), log, board, choices)  # type: ignore[arg-type]
    return {r.kind: r for r in found}


def test_remedies_are_told_from_their_limits_on() -> None:
    assert "way" not in told(1.0, (way(1.09, "B"),)) and told(1.0, (way(1.11, "B"), way(1.5, "C", 42.0, 760.0)))[
        "way"
    ] == (Remedy("way", "Lie it as C, on its back", 1.5, "+12 mm high, +3 cm² leaning too far"))
    dear = replace(PETG, name="ASA", price_per_kg=2 * PETG.price_per_kg)
    for reserve, said in ((1.04, False), (1.06, True)):
        choice = MaterialChoice(dear, Range(reserve, 1.0, 2.0), "", "")
        assert ("material" in told(1.0, choices=(choice,))) is said
    assert told(1.0, choices=(choice,))["material"].price.startswith("2.0 times the price")
    assert "load" not in told(0.19) and "load" not in told(2.01)
    assert told(0.9)["load"].title == "Load it with 45 % of what is stated" and "load" in told(0.21)
    # Bending: depth by the root of what it is short by; past 120 % it is another shape.
    assert told(1.0)["thicken"].title == "Make it 41 % deeper at 10 mm, near hole 1"
    assert "No sensible" in told(2.0 / 4.85)["thicken"].title and "119 %" in told(2.0 / 4.8)["thicken"].title
    assert "thicken" not in told(2.1)
    dots = [
        SimpleNamespace(
            recipe=Recipe(walls=w, infill=i),
            reserve=Range(v, low, 9.0),
            price=SimpleNamespace(grams=g, hours=Range(2, 1, 3)),
        )
        for w, i, v, low, g in ((3, 0.2, 1.5, 1.2, 10.0), (5, 0.4, 2.4, 2.0, 14.0), (6, 1.0, 3.0, 2.6, 20.0))
    ]
    board = SimpleNamespace(dots=dots)
    assert _recipe(board, 1.0, 2.0) == [Remedy("recipe", "Print 5 walls, 40 % infill", 2.4, "14 g, 2.0 h")]  # type: ignore[arg-type]
    assert _recipe(board, 1.0, 2.5)[0].title == "Print 6 walls, solid"  # type: ignore[arg-type]
    assert _recipe(board, 1.0, 9.0)[0].reserve == 3.0 and _recipe(board, 2.3, 2.0) == []  # type: ignore[arg-type]
    assert _recipe(board, 2.28, 2.0)[0].reserve == 2.4  # type: ignore[arg-type]


def test_a_fillet_is_sized_by_how_much_more_than_the_plain_section_its_corner_carries() -> None:
    """1 + sqrt(depth / radius) / 2 over the plain stress, solved for the radius."""

    def fillet(nominal: float, peak: float, area: float, short: float) -> str:
        rows = (np.array([nominal]), np.array([peak]), np.array([area]), np.zeros(1), np.zeros(1))
        log = LayerLog(np.array([10.0]), *rows, 0.0, 50, 0.2)
        made = _thicken(None, strength(), way(peak), log, short)  # type: ignore[arg-type]
        return made[0].title if made[0].kind == "fillet" else ""

    # Nominal 6, peak 2, short by 1.5: the corner may carry twice the plain stress; depth 20: 20 (0.5 / 1)^2 = 5.
    assert fillet(6.0, 2.0, 400.0, 1.5) == "Round the inner corner near hole 1 to about 5 mm"
    assert fillet(6.0, 2.0, 4.0, 1.5) == "Round the inner corner near hole 1 to about 0.5 mm"
    assert fillet(6.0, 2.0, 3.9, 1.5) == "" and fillet(2.48, 2.0, 400.0, 1.1) == ""
    assert fillet(6.0, 2.0, 400.0, 2.75) == ""  # only a tenth more: no corner is that smooth
    assert fillet(6.0, 2.0, 400.0, 1.95).endswith("about 17 mm")


def test_variants_keep_the_depth_of_walls_and_tops() -> None:
    base = Recipe(walls=4, tops=5, bottoms=4, layer_height=0.2, line_width=0.45, infill=0.2)
    for h, tops, bottoms in ((0.1, 10, 8), (0.3, 3, 3), (0.02, 30, 30), (2.0, 1, 1)):
        made = with_layer(base, h)
        assert (made.layer_height, made.tops, made.bottoms) == (h, tops, bottoms)
    assert with_layer(base.model_copy(update={"tops": 0}), 0.1).tops == 0
    wide = with_nozzle(base, 0.4, 0.8)
    assert (wide.line_width, wide.walls, wide.layer_height, wide.tops) == (0.9, 2, 0.4, 2) and with_nozzle(
        base, 0.4, 0.4
    ) == base
    fine = with_nozzle(base, 0.4, 0.25)
    assert (fine.line_width, fine.walls, fine.layer_height) == (0.281, 6, 0.12)
    pricer = PlainPricer(box(20, 20, 8), PETG, (0.0, 0.0, 1.0), PrinterMotion(), Range(1, 1, 1), base)
    made = variants(pricer, base, 0.4)
    names = [v.name for v in made if v.kind == "layer"]
    assert names == ["0.1 mm", "0.14 mm", "0.2 mm", "0.24 mm", "0.3 mm"]
    assert [v.name for v in made if v.kind == "nozzle"][-2:] == ["0.8 mm", "0.8 mm, as many walls"]
    note = next(v.note for v in made if v.name == "0.3 mm")
    # Half a line may stick out: atan(0.225 / 0.3); pressed by three quarters of the bore: an eighth less bond.
    assert note == "leans 37° unsupported, steps of 0.3 mm, bond 12 % less"
    assert "bond" not in next(v.note for v in made if v.name == "0.2 mm")


def plan(glued: float, first: float, overhang: float = 100.0, fits: bool = True) -> CutPlan:
    half = Half((0, 0, 1), first, overhang / 2, 10.0, 0.5, fits)
    return CutPlan((1, 0, 0), (0, 0, 0), 200.0, (half, replace(half, reserve=9.0)), glued, (glued / 2, 2 * glued), 2)


def test_a_cut_gains_strength_up_to_twice_the_need_less_leaning_and_room() -> None:
    whole = way(1.0, overhang=500.0)
    gain = _gain(plan(3.0, 2.6), whole, 2.0)  # type: ignore[arg-type]
    assert gain == pytest.approx(0.6 * (1.3 / 2 - 0.5 / 2) + 0.4 * (500 - 100) / 500)
    assert _gain(plan(9.0, 9.0), whole, 2.0) == pytest.approx(0.6 * (1 - 0.25) + 0.32)  # type: ignore[arg-type]
    weak = _gain(plan(0.8, 5.0), whole, 2.0)  # type: ignore[arg-type]
    assert weak == pytest.approx(0.6 * (0.2 - 0.25) + 0.32 - 1)
    small = way(1.0, overhang=120.0)
    assert _gain(plan(3.0, 2.6), small, 2.0) == pytest.approx(0.24 + 0.4 * 20 / 300)  # type: ignore[arg-type]
    whole.footing.fits = False
    assert _gain(plan(3.0, 2.6), whole, 2.0) == pytest.approx(gain + 1)  # type: ignore[arg-type]
    assert _gain(plan(3.0, 2.6, fits=False), whole, 2.0) == pytest.approx(gain)  # type: ignore[arg-type]


def test_a_joint_is_glued_or_screwed_by_the_forces_through_it() -> None:
    area = 600.0
    section = Section(area, (0.0, 0.0), 20 * 30**3 / 12, 30 * 20**3 / 12, 0.0, (-10, -15, 10, 15))
    corners = np.array([(-10, -15), (10, -15), (10, 15), (-10, 15)], float)
    ring = np.stack([corners, np.roll(corners, -1, axis=0)], axis=1)
    cuts = SimpleNamespace(at=lambda k: ring)
    force, moment = np.array([[[30.0, 40.0, 200.0]]]), np.array([[[3000.0, -4000.0, 0.0]]])
    res = Resultants(np.array([1.0]), (section,), force, moment, cuts, 0.0)  # type: ignore[arg-type]
    stress = 200 / area + 3000 * 15 / section.ixx + 4000 * 10 / section.iyy
    both = math.hypot(stress, 1.5 * 50 / area)
    left = LIMIT.tension / LIMIT.table.value  # what heat and doubt leave of the plastic is taken of the glue, too
    glued = _glued(res, strength())  # type: ignore[arg-type]
    assert glued[:, 0] == pytest.approx([g * left / both for g in (6.0, 3.0, 10.0)], rel=1e-3)
    most = 200 + 5000 / (0.8 * math.sqrt(area)) + 50
    assert _screws(res, 0, section, strength()) == math.ceil(most * 2 / 400)  # type: ignore[arg-type]
    assert _screws(res, 0, replace(section, area=179.0), strength()) is None  # type: ignore[arg-type]
    pressed = replace(res, force=np.array([[[0.0, 0.0, -200.0]]]), moment=np.zeros((1, 1, 3)))
    assert _screws(pressed, 0, section, strength()) == 2  # type: ignore[arg-type]


def test_a_part_is_laid_on_the_bed_with_its_middle_at_the_origin() -> None:
    mesh = laid(Mesh(box(10, 20, 30).vertices + np.array([5.0, 60.0, -7.0]), box(10, 20, 30).faces), (1.0, 0.0, 0.0))
    assert sorted(mesh.size.tolist()) == pytest.approx([10, 20, 30]) and mesh.size[2] == pytest.approx(10)
    assert mesh.bounds[0, 2] == pytest.approx(0) and mesh.bounds[:, :2].mean(axis=0) == pytest.approx((0, 0))


@pytest.mark.parametrize(("hand", "turn"), [(1, (70, 25, -40)), (-1, (0, 0, 0))])
def test_a_screw_is_read_as_the_equation_it_was_made_by(hand: int, turn: tuple[float, float, float]) -> None:
    """r = 6 + 0.5 cos of the phase: its volume by integration, its pitch, hand, ends and radius read off the mesh."""

    def radius(phase: np.ndarray) -> np.ndarray:
        return np.asarray(6 + 0.5 * np.cos(2 * np.pi * phase))

    pitch, high = 2.0, 15.0
    solid = helical(radius, pitch, high)
    # A section of 60 corners; its area is the mean of r squared over a turn, whatever the height.
    mean = 36 + 0.125
    assert solid.volume() == pytest.approx(30 * math.sin(math.pi / 30) * mean * high, rel=3e-3)
    solid = solid.mirror((0, 1, 0)) if hand < 0 else solid
    mesh = mesh_of(solid.rotate(turn).translate((40, -10, 25)))
    (f,) = [g for g in find_features(mesh) if g.kind == "thread"]
    assert f.pitch == pytest.approx(pitch, rel=2e-3) and f.length == pytest.approx(high, abs=0.05) and f.inside is False
    assert f.readings == pytest.approx((13.0, 11.0), abs=0.05)
    steep = 0.5 * 2 * math.pi / pitch * np.sin(np.linspace(0, 2 * math.pi, 1000))
    assert f.area == pytest.approx(2 * math.pi * 6 * high * np.hypot(1, steep).mean(), rel=0.02)
    middle = mesh_of(
        m3.Manifold.cube((1e-3,) * 3, True).translate((0, 0, high / 2)).rotate(turn).translate((40, -10, 25))
    )
    assert f.centre == pytest.approx(tuple(middle.bounds.mean(axis=0)), abs=0.06)
    p = profile_of(mesh, f)
    assert p.pitch == pytest.approx(pitch, rel=1e-3) and (p.low, p.high) == pytest.approx(
        (-high / 2, high / 2), abs=0.06
    )
    phase = np.linspace(0, 1, 200)
    read = p.at(phase)
    assert (read.max(), read.min()) == pytest.approx((6.5, 5.5), abs=0.02) and read.mean() == pytest.approx(6, abs=0.01)
    assert np.roll(read, 100)[:100] + read[:100] == pytest.approx(np.full(100, 12.0), abs=0.04)
    again = p.solid(1.0, 2.0)
    assert again.volume() == pytest.approx(math.pi * mean * (high + 3), rel=4e-3)
    assert (again ^ m3.Manifold(m3.Mesh(mesh.vertices.astype(np.float32), mesh.faces.astype(np.uint32)))).volume() > (
        0.985 * mesh.volume
    )
    fat = p.offset(0.2)
    flank = shapely.LineString([(x, 6 + 0.5 * math.cos(2 * math.pi * x / pitch)) for x in np.linspace(-4, 4, 4001)])
    for x in (0.0, 0.4, 1.0, 1.3):
        # Where the profile peaks is not said: both are taken by how far they stand off the flank.
        place = (x / pitch + float(phase[np.argmax(read)])) % 1.0
        r = float(fat.at(np.array([place]))[0])
        assert flank.distance(shapely.Point(x, r)) == pytest.approx(0.2, abs=0.02)


def test_how_far_a_surface_can_have_moved_is_half_the_change_of_its_diameter_and_its_roof() -> None:
    from knollside.core.job.questions.motion import motion_of
    from knollside.core.mesh.edit import Change, Edited

    mesh = box(1, 1, 1)
    wall, roof = Change("a", 5.0, 5.6, 0, 0, 1), Change("b", 6.0, 6.4, 0, 0, 1, "cut anew, teardrop")
    assert motion_of(Edited(mesh, (wall,)), mesh).by == pytest.approx(0.3 + 0.02)
    # A roof stands off the round by up to half its radius.
    assert motion_of(Edited(mesh, (wall, roof)), mesh).by == pytest.approx(0.2 + 6.4 / 4 + 0.02)
    assert motion_of(Edited(mesh, ()), mesh).by == pytest.approx(0.02)


def test_a_log_without_a_load_has_area_and_leaning_where_they_are() -> None:
    """A post with a cap from 20 to 24: ten slices of 2.4; the cap's underside leans, the post's own foot does not."""
    solid = m3.Manifold.cube((10, 10, 24)) + m3.Manifold.cube((30, 10, 4)).translate((0, 0, 20))
    mesh = mesh_of(solid.translate((3, -8, 55)))
    log = plain_log(mesh, (0.0, 0.0, 1.0), Recipe(layer_height=0.2), count=10)
    assert log.heights == pytest.approx(1.2 + 2.4 * np.arange(10)) and log.layers == 120
    assert log.area == pytest.approx([100.0] * 8 + [300.0] * 2)
    assert log.overhang == pytest.approx([0.0] * 8 + [200.0, 0.0])


def test_the_nearest_face_of_an_edge_is_the_one_that_looks_at_the_point_or_the_larger() -> None:
    mesh = box(30, 20, 5)
    face, away = nearest_face(mesh, np.array([33.0, 10.0, 6.0]))  # out beyond an edge: more of it sideways than up
    assert away == pytest.approx(math.hypot(3, 1)) and mesh.normals[face][0] == pytest.approx(1.0)
    face, away = nearest_face(mesh, np.array([31.0, 10.0, 8.0]))
    assert mesh.normals[face][2] == pytest.approx(1.0)
    face, away = nearest_face(mesh, np.array([30.0, 10.0, 5.0]))  # on the edge itself
    assert away == pytest.approx(0.0) and mesh.areas[face] == pytest.approx(300.0)


def test_cuts_are_tried_square_to_the_axes_and_to_flats_that_are_not() -> None:
    wedge = m3.Manifold.cube((40, 30, 20)).trim_by_plane((-1, 0, -2), -60 / math.sqrt(5))
    part = SimpleNamespace(features=find_features(mesh_of(wedge)))
    found = _normals(part)  # type: ignore[arg-type]
    assert len(found) == 4 and np.allclose(found[:3], np.eye(3))
    assert abs(found[3] @ np.array([1, 0, 2]) / math.sqrt(5)) == pytest.approx(1.0)
