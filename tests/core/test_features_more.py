"""Features that belong together: counterbores, steps, countersinks, crossings, threads, lettering."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import DEMO, mesh_of
from manifold3d import CrossSection, FillRule, Manifold

from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_file
from knollside.core.model import Feature, Mesh


def rod(d: float, length: float, sides: int = 64) -> Manifold:
    return Manifold.cylinder(length, d / 2, circular_segments=sides)


def of_kind(mesh: Mesh, kind: str) -> list[Feature]:
    return [f for f in find_features(mesh) if f.kind == kind]


PLATE = Manifold.cube((40, 40, 10))


@pytest.mark.parametrize("turn", [(0, 0, 0), (30, 40, 10)])
def test_counterbore_and_steps_are_told_from_their_hole(turn: tuple[float, float, float]) -> None:
    bored = PLATE - rod(5, 20).translate((10, 10, -5)) - rod(9, 20).translate((10, 10, 6))
    stepped = bored - rod(4, 20).translate((30, 30, -5)) - rod(7, 20).translate((30, 30, 4))
    stepped -= rod(11, 20).translate((30, 30, 7))
    found = {round(f.diameter or 0, 2): f for f in of_kind(mesh_of(stepped.rotate(turn)), "hole")}
    assert set(found) == {5.0, 9.0, 4.0, 7.0, 11.0}
    assert found[9.0].role == "counterbore" and found[9.0].beside == (found[5.0].id,)
    assert found[9.0].title.startswith("Counterbore") and found[5.0].beside == (found[9.0].id,)
    assert found[9.0].relation == f"counterbore of {found[5.0].id.replace('-', ' ')}" and found[5.0].relation == ""
    assert {found[7.0].role, found[11.0].role} == {"step"} and found[4.0].role == found[5.0].role == ""


def test_a_countersink_belongs_to_its_hole_and_a_cone_point_to_none() -> None:
    sink = Manifold.cylinder(3, 2.5, 5.5, circular_segments=64).translate((20, 20, 7))
    top = Manifold.cylinder(4, 5, 0.5, circular_segments=64).translate((8, 32, 10))
    mesh = mesh_of(PLATE - rod(5, 20).translate((20, 20, -5)) - sink + top)
    cones = {f.role: f for f in of_kind(mesh, "cone")}
    (hole,) = of_kind(mesh, "hole")
    assert set(cones) == {"countersink", ""}
    assert cones["countersink"].beside == (hole.id,) and cones["countersink"].id in hole.beside
    assert cones["countersink"].inside and cones["countersink"].diameter == pytest.approx(11, abs=1e-3)
    assert cones[""].inside is False and hole.length == pytest.approx(7, abs=1e-6)


def test_crossing_holes_name_each_other_and_parallel_ones_do_not() -> None:
    solid = PLATE - rod(4, 50).rotate((0, 90, 0)).translate((-5, 20, 5)) - rod(5, 20).translate((20, 20, -5))
    solid -= rod(3, 20).translate((8, 8, -5))
    found = {round(f.diameter or 0, 1): f for f in of_kind(mesh_of(solid), "hole")}
    assert found[4.0].role == found[5.0].role == "crossing" and found[3.0].role == ""
    assert found[4.0].beside == (found[5.0].id,)


def test_both_readings_of_a_coarse_polygon_are_kept_and_the_rounder_believed() -> None:
    flats = mesh_of(PLATE - rod(6 / np.cos(np.pi / 12), 20, 12).translate((20, 20, -5)))
    (f,) = of_kind(flats, "hole")
    assert f.diameter == pytest.approx(6.0, abs=1e-6)
    assert f.readings == pytest.approx((6 / np.cos(np.pi / 12), 6.0), abs=1e-6)


@pytest.mark.parametrize(("pitch", "hand"), [(1.5, 1), (2.5, -1)])
def test_a_thread_is_one_feature_with_its_pitch(pitch: float, hand: int) -> None:
    high, mean, depth = 14.0, 10.0, 0.9
    turns = high / pitch
    ring = CrossSection.circle(mean / 2, 48).translate((depth / 4, 0))
    screw = Manifold.extrude(ring, high, round(24 * turns), hand * 360 * turns)
    nut = Manifold.cube((24, 24, high - 4), True).translate((0, 0, high / 2)) - screw
    for mesh, inside in ((mesh_of(screw + rod(20, 4).translate((0, 0, -3.9))), False), (mesh_of(nut), True)):
        (f,) = of_kind(mesh, "thread")
        assert f.pitch == pytest.approx(pitch, rel=0.01) and f.inside is inside
        assert f.readings is not None and f.readings[0] - f.readings[1] == pytest.approx(depth, abs=0.2)
        rounds = [g for g in find_features(mesh) if g.kind in ("hole", "fillet", "cone")]
        assert not rounds  # no false crests


def test_digits_are_one_lettering_and_a_small_boss_is_not() -> None:
    plate = load_file(DEMO / "label-plate.stl").mesh
    (digits,) = of_kind(plate, "lettering")
    z = plate.vertices[np.unique(plate.faces[digits.faces])][:, 2]
    assert z.min() == pytest.approx(3.0) and z.max() == pytest.approx(3.9) and digits.length == pytest.approx(0.9)
    # Every triangle above the plate's face, and no other.
    raised = np.flatnonzero(plate.triangles[:, :, 2].max(axis=1) > 3.0 + 1e-9)
    assert set(raised) <= set(digits.faces)
    assert len(of_kind(plate, "hole")) == 2 and not of_kind(plate, "pin")
    boss = PLATE + rod(6, 1.2).translate((10, 10, 9.9)) - rod(6, 2).translate((30, 30, 8.9))
    found = find_features(mesh_of(boss))
    assert not [f for f in found if f.kind == "lettering" and f.diameter is None]
    assert [f.kind for f in found if f.kind == "pin"] == ["pin"]


def test_sunk_letters_are_found_too() -> None:
    cross = CrossSection([np.array([(0, 0), (6, 0), (6, 2), (2, 2), (2, 8), (0, 8)], float)], FillRule.EvenOdd)
    hook = CrossSection([np.array([(0, 0), (4, 0), (4, 8), (2.5, 8), (2.5, 2), (0, 2)], float)], FillRule.EvenOdd)
    cut = Manifold.extrude(cross, 2).translate((8, 8, 9.2)) + Manifold.extrude(hook, 2).translate((18, 8, 9.2))
    (f,) = of_kind(mesh_of(PLATE - cut), "lettering")
    assert f.length == pytest.approx(0.8)
