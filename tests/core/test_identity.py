"""Names of features follow every edit of the mesh, and never go to another face."""

import manifold3d as m3
import numpy as np
import pytest
from conftest import DEMO, box, mesh_of, plate_with_hole, shuffled

from knollside.core.job.answer import PartFacts, read_part
from knollside.core.job.questions.motion import motion_of
from knollside.core.mesh.edit import resize
from knollside.core.mesh.facemap import Motion, trace
from knollside.core.mesh.features import find_features
from knollside.core.mesh.flare import take_flare_off
from knollside.core.mesh.identity import NamedFeatures, Names, first_names, follow, named, with_patch
from knollside.core.mesh.load import load_file
from knollside.core.model import Feature, Mesh

PARTS = sorted(p.stem for p in DEMO.glob("*.stl"))


def told(mesh: Mesh) -> NamedFeatures:
    found = find_features(mesh)
    return named(mesh, found, first_names("old", found))


def carried(old: Mesh, before: NamedFeatures, new: Mesh, motion: Motion | None) -> NamedFeatures:
    return follow(old, before, new, find_features(new), "new", motion)


def flat(features: tuple[Feature, ...], axis: tuple[float, float, float]) -> Feature:
    return next(f for f in features if f.kind == "flat" and np.dot(f.axis, axis) > 0.99)


def test_first_names_are_those_that_were_found_and_reading_again_keeps_them() -> None:
    mesh = load_file(DEMO / "hose-arm.stl").mesh
    found = find_features(mesh)
    names = first_names("a", found)
    assert [e.id for e in names.entries] == [f.id for f in found]
    again = named(mesh, found, names)
    assert [f.id for f in again.features] == [f.id for f in found] and not again.names.lost


def test_another_order_of_finding_changes_no_name() -> None:
    """A recogniser that numbers otherwise must not move a name to another face."""
    mesh = load_file(DEMO / "hose-arm.stl").mesh
    found = find_features(mesh)
    names = first_names("a", found)
    shuffled = tuple(found[i] for i in np.random.default_rng(3).permutation(len(found)))
    again = {f.id: f for f in named(mesh, shuffled, names).features}
    for f in found:
        assert set(again[f.id].faces) == set(f.faces)


@pytest.mark.parametrize("name", PARTS)
def test_a_turned_triangle_list_is_followed_to_the_same_faces(name: str) -> None:
    """The same solid with its triangles and corners in another order: every feature keeps its place under its id."""
    mesh = load_file(DEMO / f"{name}.stl").mesh
    other = shuffled(mesh, np.random.default_rng(5))
    before = told(mesh)
    after = carried(mesh, before, other, Motion(by=1e-3))
    assert not after.names.lost
    now = {f.id: f for f in after.features}
    for f in before.features:
        assert np.linalg.norm(np.subtract(now[f.id].centre, f.centre)) < 0.02, f.id
        assert now[f.id].area == pytest.approx(f.area, rel=1e-3)


def test_the_flare_taken_off_leaves_every_face_its_own_name() -> None:
    """The fault that made this: a held face became the opposite one after the flare was taken off."""
    mesh = load_file(DEMO / "hose-arm.stl").mesh
    before = told(mesh)
    made = take_flare_off(mesh, (0, 0, 1), 0.2, 0.4)
    after = carried(mesh, before, made.mesh, motion_of(made, mesh))
    now = {f.id: f for f in after.features}
    for f in before.features:
        if f.id in now and f.kind == "flat":
            assert np.dot(now[f.id].axis, f.axis) > 0.99
            off = abs(float(np.dot(np.subtract(now[f.id].centre, f.centre), f.axis)))
            assert off < 1e-6, f"{f.id} went {off:.2f} mm to another face"


def test_a_face_that_is_cut_away_is_lost_and_its_name_is_never_given_again() -> None:
    solid = m3.Manifold.cube((40, 30, 10)) + m3.Manifold.cube((10, 10, 6)).translate((15, 10, 10))
    mesh, bare = mesh_of(solid), box(40, 30, 10)
    before = told(mesh)
    stud = next(f.id for f in before.features if f.kind == "flat" and f.centre[2] > 15.9)
    side = flat(before.features, (0, 0, -1)).id
    after = carried(mesh, before, bare, Motion(by=0.1))
    assert stud in {e.id for e in after.names.lost} and stud not in {f.id for f in after.features}
    assert flat(after.features, (0, 0, -1)).id == side
    # Drawn back, it is another face as far as anyone can know: a new id, the old one stays lost.
    again = carried(bare, after, mesh, Motion(by=0.1))
    tops = [f.id for f in again.features if f.kind == "flat" and f.centre[2] > 15.9]
    assert tops and tops[0] not in {f.id for f in before.features}


def test_of_two_like_holes_each_keeps_its_own() -> None:
    hole = m3.Manifold.cylinder(20, 2.5, circular_segments=32)
    plate = m3.Manifold.cube((60, 30, 8))
    mesh = mesh_of(plate - hole.translate((15, 15, -5)) - hole.translate((45, 15, -5)))
    before = told(mesh)
    wide = resize(mesh, before.features, {"hole-2": 5.4})
    after = carried(mesh, before, wide.mesh, motion_of(wide, mesh))
    for f in before.features:
        now = next(g for g in after.features if g.id == f.id)
        assert np.linalg.norm(np.subtract(now.centre, f.centre)) < (1e-6 if f.kind == "hole" else 0.1)
    assert next(g for g in after.features if g.id == "hole-2").diameter == pytest.approx(5.4, abs=1e-3)


def test_a_part_drawn_anew_is_matched_by_signature_and_never_guessed() -> None:
    """Without a map only what is alike and alone keeps its name; two candidates as near as each other lose it."""
    hole = m3.Manifold.cylinder(20, 2.5, circular_segments=32)
    plate = m3.Manifold.cube((60, 30, 8))
    old = mesh_of(plate - hole.translate((30, 15, -5)))
    before = told(old)
    moved = mesh_of(plate - hole.translate((31, 15, -5)))
    assert "hole-1" in {f.id for f in carried(old, before, moved, None).features}
    two = mesh_of(plate - hole.translate((27, 15, -5)) - hole.translate((33, 15, -5)))
    after = carried(old, before, two, None)
    assert "hole-1" in {e.id for e in after.names.lost}
    assert not {"hole-1"} & {f.id for f in after.features}


def test_an_unnamed_patch_is_remembered_by_its_place_not_by_its_number() -> None:
    """A fin too small to be named a flat, pointed at: its id is of a triangle that has another number afterwards."""
    solid = m3.Manifold.cube((80, 60, 10)) + m3.Manifold.cube((1.0, 1.0, 1.0)).translate((20, 20, 10))
    mesh = mesh_of(solid)
    part = read_part(mesh)
    top = int(np.argmax(mesh.triangles.mean(axis=1)[:, 2] + mesh.normals[:, 2]))
    from knollside.core.mesh.features import feature_of_face

    patch = feature_of_face(mesh, part.features, top)
    assert patch.kind == "patch"
    names = with_patch(first_names("a", part.features), patch)
    before = named(mesh, part.features, names)
    assert patch.id in {f.id for f in before.features}
    order = np.random.default_rng(2).permutation(len(mesh.faces))
    other = Mesh(mesh.vertices, mesh.faces[order])
    after = carried(mesh, before, other, Motion(by=1e-3))
    now = next(f for f in after.features if f.id == patch.id)
    assert now.centre == pytest.approx(patch.centre, abs=1e-6)
    gone = carried(mesh, before, box(80, 60, 10), Motion(by=0.05))
    assert patch.id in {e.id for e in gone.names.lost}


def test_the_face_map_is_exact_where_triangles_are_the_same_and_honest_elsewhere() -> None:
    mesh = plate_with_hole()
    same = trace(mesh, Mesh(mesh.vertices + 0.1, mesh.faces), Motion(by=0.2))
    assert same.exact and np.array_equal(same.faces(len(mesh.faces)), np.arange(len(mesh.faces)))
    # Cut down by 3 mm at the top: what was the top maps to nothing, the underside to itself.
    low = mesh_of(
        m3.Manifold.cube((40, 30, 5)) - m3.Manifold.cylinder(20, 2.5, circular_segments=48).translate((12, 15, -5))
    )
    onto = trace(mesh, low, Motion(by=0.05)).faces(len(mesh.faces))
    up, down = mesh.normals[:, 2] > 0.9, mesh.normals[:, 2] < -0.9
    assert (onto[up] == -1).all()
    kept = down & (onto >= 0)
    assert mesh.areas[kept].sum() > 0.97 * mesh.areas[down].sum()
    assert (low.normals[onto[kept]][:, 2] < -0.9).all()


def test_names_leave_and_return_as_text() -> None:
    facts: PartFacts = read_part(load_file(DEMO / "vent-hinge.stl").mesh)
    names = first_names("abc", facts.features)
    assert Names.model_validate_json(names.model_dump_json()) == names
