"""Holes cut anew where their walls cannot be moved, roofs and bridges that print, and the corrected mesh as a whole."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from conftest import DEMO, mesh_of
from manifold3d import Manifold

from knollside.core.job import answer, correcting
from knollside.core.mesh.bore import bore_of, carve, grown, moved_walls, roof_profile
from knollside.core.mesh.check import check
from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_file
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.trueshapes import cover
from knollside.core.mesh.wallmoves import Sizes
from knollside.core.mesh.weld import weld
from knollside.core.model import Feature, Mate, Mesh, Recipe, Refused

PLATE = Manifold.cube((40, 40, 10))
UP = (0.0, 0.0, 1.0)
N = 64


def rod(d: float, length: float, sides: int = N) -> Manifold:
    return Manifold.cylinder(length, d / 2, circular_segments=sides)


def polygon_area(d: float) -> float:
    return N / 2 * (d / 2) ** 2 * np.sin(2 * np.pi / N)


def hole_of(mesh: Mesh, d: float) -> Feature:
    return next(f for f in find_features(mesh) if f.kind == "hole" and abs((f.diameter or 0) - d) < 0.01)


SUNK = PLATE - rod(5, 20).translate((20, 20, -5)) - Manifold.cylinder(3, 2.5, 5.5, N).translate((20, 20, 7))


@pytest.mark.parametrize("turn", [(0, 0, 0), (35, 20, 60)])
def test_a_countersunk_hole_grows_to_the_same_solid_as_one_drawn_so(turn: tuple[float, float, float]) -> None:
    mesh = mesh_of(SUNK.rotate(turn))
    f = hole_of(mesh, 5.0)
    made = carve(mesh, [grown(mesh, f, 5.4)], "Hole 1", 0.9)
    drawn = SUNK - rod(5.4, 20).translate((20, 20, -5))
    assert made.volume == pytest.approx(drawn.volume(), rel=1e-9) and check(made).sound
    assert hole_of(made, 5.4).length == pytest.approx(7.2, abs=1e-6)  # it meets the 45 degree cone higher up
    outer = (np.linalg.norm(mesh.vertices - f.centre, axis=1)) > 9
    kept = {v.tobytes() for v in made.vertices}
    assert all(v.tobytes() in kept for v in mesh.vertices[outer])


def test_a_hole_over_a_counterbore_keeps_the_counterbores_floor() -> None:
    mesh = mesh_of(PLATE - rod(5, 20).translate((20, 20, -5)) - rod(9, 20).translate((20, 20, 6)))
    narrow, wide = hole_of(mesh, 5.0), hole_of(mesh, 9.0)
    assert bore_of(mesh, wide).open_low != bore_of(mesh, wide).open_high and bore_of(mesh, narrow).open_low
    both = carve(mesh, [grown(mesh, narrow, 5.3), grown(mesh, wide, 9.4)], "Both", 0.9)
    expected = 16_000 - polygon_area(5.3) * 6 - polygon_area(9.4) * 4
    assert both.volume == pytest.approx(expected, rel=1e-9)
    less = carve(mesh, [moved_walls(mesh, narrow, Sizes(4.6))[0]], "Hole", 0.9)
    assert less.volume - mesh.volume == pytest.approx((polygon_area(5) - polygon_area(4.6)) * 6, rel=1e-3)
    assert hole_of(less, 4.6).through


def test_crossing_holes_grow_and_thin_walls_refuse() -> None:
    solid = PLATE - rod(4, 50).rotate((0, 90, 0)).translate((-5, 20, 5)) - rod(5, 20).translate((20, 20, -5))
    mesh = mesh_of(solid)
    f = hole_of(mesh, 5.0)
    made = carve(mesh, [grown(mesh, f, 5.5)], "Hole", 0.9)
    assert made.volume == pytest.approx((solid - rod(5.5, 20).translate((20, 20, -5))).volume(), rel=1e-9)
    edge = mesh_of(
        PLATE - rod(5, 20).translate((3.5, 20, -5)) - Manifold.cylinder(3, 2.5, 3, N).translate((3.5, 20, 7.2))
    )
    with pytest.raises(Refused, match="of wall would be left"):
        carve(edge, [grown(edge, hole_of(edge, 5.0), 5.6)], "Hole", 0.9)


def test_roofs_are_the_shapes_they_are_called() -> None:
    r = 3.0
    circle = shapely.Point(0, 0).buffer(r, quad_segs=512)
    tear = shapely.union(circle, shapely.Polygon(roof_profile(r, "teardrop", 0)))
    # Circle plus the corner between two tangents at right angles: r squared (1 - pi / 4).
    assert tear.area == pytest.approx(np.pi * r**2 + r**2 * (1 - np.pi / 4), rel=1e-4)
    assert tear.bounds[3] == pytest.approx(r * np.sqrt(2))
    flat = shapely.union(circle, shapely.Polygon(roof_profile(r, "flat top", 0.2)))
    assert flat.bounds[3] == pytest.approx(3.2) and circle.area < flat.area < tear.area
    raised = shapely.Polygon(roof_profile(r, "sag", 0.3))
    assert raised.area == pytest.approx(np.pi * r * 3.3 / 2, rel=0.01)
    with pytest.raises(Refused):
        roof_profile(r, "sag", 0.0)


@pytest.mark.parametrize("shape", ["teardrop", "flat top", "sag"])
def test_a_lying_hole_gets_its_roof_towards_the_way_up(shape: str) -> None:
    mesh = mesh_of(PLATE - rod(6, 50).rotate((0, 90, 0)).translate((-5, 20, 5)))
    f = hole_of(mesh, 6.0)
    made = carve(mesh, [grown(mesh, f, 6.2, np.array(UP), shape, 0.3)], "Hole", 0.5)
    across = made.turned(np.array([[0, 1, 0], [0, 0, 1], [1, 0, 0]], float))  # looked at along the hole
    void = shapely.difference(shapely.box(5, 0, 35, 10), polygon_of(cut(across, np.array([20.0])).at(0)))
    top = {"teardrop": 3.1 * np.sqrt(2), "flat top": 3.4, "sag": 3.4}[shape]
    assert void.bounds[3] - 5 == pytest.approx(top, abs=0.01) and 5 - void.bounds[1] == pytest.approx(3.1, abs=0.01)
    assert check(made).sound
    with pytest.raises(Refused, match="upright"):
        grown(mesh, f, 6.2, np.array([1.0, 0, 0]), shape, 0.3)


def test_skin_and_steps_close_the_ceiling_of_a_counterbore() -> None:
    mesh = mesh_of(
        PLATE - rod(5, 20).translate((20, 20, -5)) - rod(9, 8).translate((20, 20, -4))
    )  # its mouth on the bed
    found = find_features(mesh)
    f = next(g for g in found if g.kind == "hole" and abs((g.diameter or 0) - 5) < 0.01)
    skin = carve(mesh, cover(mesh, f, 5.0, found, UP, "skin", 0.2), "Hole")
    assert skin.volume - mesh.volume == pytest.approx(polygon_area(5) * 0.2, rel=1e-3)
    assert not [g for g in find_features(skin) if g.kind == "hole" and g.through]
    steps = carve(mesh, cover(mesh, f, 5.0, found, UP, "steps", 0.2), "Hole")
    assert check(steps).sound

    def void(z: float):  # type: ignore[no-untyped-def]
        return shapely.difference(shapely.box(5, 5, 35, 35), polygon_of(cut(steps, np.array([z])).at(0)))

    slot, square, round_ = void(4.1), void(4.3), void(4.5)
    x0, y0, x1, y1 = slot.bounds
    assert min(x1 - x0, y1 - y0) == pytest.approx(5.05, abs=0.02) and max(x1 - x0, y1 - y0) == pytest.approx(
        8.82, abs=0.05
    )
    assert square.area == pytest.approx(5.05**2, abs=0.05) and round_.area == pytest.approx(polygon_area(5), abs=0.01)
    with pytest.raises(Refused, match="bed"):
        cover(mesh, f, 5.0, found, (0.0, 0.0, -1.0), "skin", 0.2)
    with pytest.raises(Refused, match="lies"):
        cover(mesh, f, 5.0, found, (1.0, 0.0, 0.0), "skin", 0.2)


def test_the_arms_holes_are_corrected_with_teardrops_and_nothing_else_changes() -> None:
    part = answer.read_part(load_file(DEMO / "hose-arm.stl").mesh)
    lying = (0.0, -1.0, 0.0)
    holes = [f for f in part.features if f.kind == "hole" and f.role == ""]
    mates = tuple(Mate(feature=f.id, hardware="M5", fit="medium", shape="teardrop") for f in holes)
    found, refused = correcting.corrections(part, mates, lying, ())
    assert len(found) == 4 and not refused and {c.axis for c in found} == {"lying"}
    made = correcting.apply_corrections(part, mates, found, lying, Recipe())
    assert [c.how for c in made.changes] == ["teardrop"] * 4 and check(made.mesh).sound
    assert sum(c.volume_found for c in made.changes) == pytest.approx(made.mesh.volume - part.mesh.volume)
    for c in made.changes:
        assert c.volume_found == pytest.approx(c.volume_predicted, rel=0.01)
    kept = {v.tobytes() for v in made.mesh.vertices}
    near = np.zeros(len(part.mesh.vertices), bool)
    for f in holes:
        off = part.mesh.vertices - f.centre
        near |= np.linalg.norm(off - np.outer(off @ np.array(f.axis), f.axis), axis=1) < 4.5
    assert all(v.tobytes() in kept for v in part.mesh.vertices[~near])


def test_the_label_plates_digits_stay_to_the_bit() -> None:
    part = answer.read_part(load_file(DEMO / "label-plate.stl").mesh)
    mates = tuple(Mate(feature=f.id, hardware="M4", fit="medium") for f in part.features if f.kind == "hole")
    found, _ = correcting.corrections(part, mates, UP, ())
    made = correcting.apply_corrections(part, mates, found, UP, Recipe())
    moved = (made.mesh.vertices != part.mesh.vertices).any(axis=1)
    digits = next(f for f in part.features if f.kind == "lettering")
    assert moved.sum() == sum(c.moved for c in made.changes) == 2 * 96
    assert not moved[np.unique(part.mesh.faces[digits.faces])].any()


def test_sag_is_what_lying_holes_lose_from_top_to_bottom() -> None:
    assert correcting.sag_of((), 5.0) == pytest.approx(0.14, abs=1e-9)


@pytest.mark.parametrize(
    ("orientation", "change", "how"),
    [
        ((0.0, -1.0, 0.0), {"shape": "teardrop"}, "teardrop"),
        ((0.0, -1.0, 0.0), {"shape": "sag"}, "sag"),
        ((-1.0, 0.0, 0.0), {"cover": "skin"}, "shut by a skin"),
        ((-1.0, 0.0, 0.0), {"cover": "steps"}, "stepped up to"),
    ],
)
def test_a_mesh_of_six_digits_far_from_the_origin_is_cut_as_truly(
    orientation: tuple[float, float, float], change: dict[str, str], how: str
) -> None:
    """What a text file leaves of the arm: corners off by up to half a thousandth."""
    arm = load_file(DEMO / "hose-arm.stl").mesh
    corners = np.array([[float(f"{x:.6g}") for x in v] for v in arm.vertices + np.array([137.3, -85.2, 41.7])])
    made = []
    for mesh in (arm, weld(corners, arm.faces)):
        part = answer.read_part(mesh)
        holes = [f for f in part.features if f.kind == "hole" and f.role == ""]
        mates = tuple(Mate(feature=f.id, hardware="M5", fit="medium", **change) for f in holes)
        found, _ = correcting.corrections(part, mates, orientation, ())
        out = correcting.apply_corrections(part, mates, found, orientation, Recipe(), 0.14)
        assert check(out.mesh).sound and [c.how for c in out.changes].count(how) == 4
        made.append(out.mesh.volume - mesh.volume)
    assert made[1] == pytest.approx(made[0], rel=2e-3, abs=0.05)
