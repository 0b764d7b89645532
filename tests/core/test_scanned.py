"""Scanned and softened meshes: their scatter, what is found on them, and what a person points at."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
import scans
import shapely
from conftest import DEMO, mesh_of, plate_with_hole

from knollside.core.job import answer, correcting
from knollside.core.job.ask import Answerer, Meshes, MeshKey
from knollside.core.job.questions.part import Part, PointedAt, names_of_new, with_names
from knollside.core.mesh.check import check
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.features import find_features
from knollside.core.mesh.identity import follow, named, with_said, without
from knollside.core.mesh.load import load_file
from knollside.core.mesh.noise import scatter_of
from knollside.core.mesh.recognition.pointed import feature_pointed_at
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.wallmoves import Sizes
from knollside.core.model import Feature, Mesh, Recipe, Refused

UP = (0.0, 0.0, 1.0)
WALL = (11.0, 10.0, 3.0)  # of the hole


def one(features: tuple[Feature, ...], kind: str, size: float) -> Feature:
    return min((f for f in features if f.kind == kind), key=lambda f: abs((f.diameter or 0) - size))


@pytest.mark.parametrize("scatter", [0.01, 0.03, 0.06])
def test_scatter_is_told_as_it_was_made(scatter: float) -> None:
    m = scans.scanned(scatter, pitch=0.5 if scatter < 0.02 else 0.6)
    assert scatter_of(m, m.normals) == pytest.approx(scatter, rel=0.15)


def test_drawn_and_smooth_meshes_do_not_scatter() -> None:
    ring = m3.Manifold.level_set(
        lambda x, y, z: 5 - float(np.hypot(np.hypot(x, y) - 12, z)), [-20, -20, -8, 20, 20, 8], 1.2
    )
    for m in (mesh_of(ring), scans.plate(), scans.softened(), plate_with_hole()):
        assert scatter_of(m, m.normals) == 0.0
    for path in sorted(DEMO.glob("*.stl")):
        m = load_file(path).mesh
        assert scatter_of(m, m.normals) == 0.0, path.name


@pytest.mark.parametrize("scatter", [0.015, 0.04])
def test_rounds_of_a_scan_are_found_to_half_its_scatter(scatter: float) -> None:
    part = answer.read_part(scans.scanned(scatter, 3))
    found = part.features
    assert part.soundness.notes and part.soundness.notes[0].startswith("Scanned: its surface scatters by 0.0")
    for kind, size, through in (("hole", scans.HOLE, True), ("hole", scans.BLIND, False), ("pin", scans.PEG, None)):
        f = one(found, kind, size)
        assert f.diameter == pytest.approx(size, abs=scatter / 2 + 0.004) and f.through is through
        assert abs(f.axis[2]) > 0.9995
    assert sum(f.kind in ("hole", "pin") for f in found) == 3
    slot = one(found, "slot", scans.SLOT)
    assert slot.diameter == pytest.approx(scans.SLOT, abs=scatter) and slot.through
    assert slot.span == pytest.approx(scans.SPAN, abs=1.5 * scatter)
    top = max((f for f in found if f.kind == "flat"), key=lambda f: f.area)
    assert abs(top.axis[2]) > 0.9999
    owned = np.concatenate([f.faces for f in found])
    assert len(owned) == len(np.unique(owned))


@pytest.mark.parametrize(
    ("kind", "size", "by", "how"),
    [
        ("hole", scans.HOLE, 0.3, "cut anew"),
        ("hole", scans.HOLE, -0.3, "lined"),
        ("hole", scans.BLIND, 0.3, "cut anew"),
        ("hole", scans.BLIND, -0.3, "lined"),
        ("pin", scans.PEG, 0.3, "lined"),
        ("pin", scans.PEG, -0.3, "cut anew"),
        ("slot", scans.SLOT, 0.3, "cut anew"),
        ("slot", scans.SLOT, -0.3, "lined"),
    ],
)
def test_rough_walls_are_made_anew_true_to_size(kind: str, size: float, by: float, how: str) -> None:
    """Read off the section in the middle of the wall: its area is that of the true shape."""
    part = answer.read_part(scans.scanned(0.02, 5))
    f = one(part.features, kind, size)
    to = f.diameter + by
    work = correcting.Cutting(part.mesh, part.features, UP, Recipe(), 0.0)
    mesh, changes = correcting.carved(part.mesh, f, Sizes(to), work.steps(f, None, Sizes(to)), Recipe())
    assert [c.how for c in changes] == [how] and check(mesh).sound
    z = 4.0 if kind != "pin" else 8.5
    section = polygon_of(cut(mesh, np.array([z])).at(0))
    near = shapely.Point(f.centre[:2]).buffer(6.0)
    if kind == "pin":
        shape = shapely.intersection(section, near)
    else:
        voids = shapely.get_parts(shapely.difference(near, section))
        shape = next(v for v in voids if v.contains(shapely.Point(f.centre[:2])))
    # The area of 96 sides with their corners on the round, and a slot's middle.
    true = 48 * np.sin(np.pi / 48) * (to / 2) ** 2 + to * (f.span or 0.0)
    assert shape.area == pytest.approx(true, rel=2e-3)
    assert mesh.volume - part.mesh.volume == pytest.approx(sum(c.volume_found for c in changes), rel=1e-6)


POINTS: list[tuple[str, tuple[tuple[float, float, float], ...], float]] = [
    ("hole", (WALL,), scans.HOLE),
    ("hole", ((18.0 + scans.BLIND / 2, 12.5, 4.0),), scans.BLIND),
    ("pin", ((7.0, 2.9 + scans.PEG / 2, 9.0),), scans.PEG),
    ("slot", ((13.0, 5.0, 3.0), (22.0, 5.0, 3.0)), scans.SLOT),
]


@pytest.mark.parametrize("made", ["scanned", "softened", "fine"])
@pytest.mark.parametrize(("kind", "points", "size"), POINTS)
def test_what_is_pointed_at_is_fitted(made: str, kind: str, points, size: float) -> None:  # type: ignore[no-untyped-def]
    mesh = {"scanned": scans.scanned(0.03, 2), "softened": scans.softened(), "fine": scans.plate()}[made]
    f = feature_pointed_at(mesh, kind, points)
    room = {"scanned": 0.02, "softened": 0.06, "fine": 0.012}[made]
    assert f.kind == kind and f.diameter == pytest.approx(size, abs=room) and f.pointed == points
    if kind == "slot":
        assert f.span == pytest.approx(scans.SPAN, abs=3 * room)
    if kind != "pin":
        assert f.through is (size != scans.BLIND)


def test_what_is_no_such_thing_is_refused_with_the_reason() -> None:
    mesh = scans.scanned(0.03, 2)
    for kind, points, words in (
        ("pin", (WALL,), "looks inward"),
        ("hole", ((7.0, 2.9 + scans.PEG / 2, 9.0),), "bulges outward"),
        ("hole", ((24.0, 16.0, 6.0),), "flat"),
        ("slot", (WALL,), "both its round ends"),
        ("slot", (WALL, (20.5, 12.5, 4.0)), "it is no slot"),
        ("slot", (WALL, (3.0, 10.0, 3.0)), "one round"),
        ("flat", ((24.0, 16.0, 6.0), (24.0, 16.0, 0.0)), "not on one flat"),
        ("hole", ((60.0, 0.0, 0.0),), "mm from the part"),
        ("hole", (), "one to 12 places"),
    ):
        with pytest.raises(Refused, match=words):
            feature_pointed_at(mesh, kind, points)
    oval = mesh_of(
        m3.Manifold.cube((40, 24, 8))
        - m3.Manifold.cylinder(20, 4, circular_segments=64).scale((1, 1.3, 1)).translate((20, 12, -5))
    )
    with pytest.raises(Refused, match=r"stands off by 0\.\d\d mm"):
        feature_pointed_at(oval, "hole", ((24.0, 12.0, 4.0),))
    # Less than half a round is told as what it is.
    half = mesh_of(
        m3.Manifold.cube((40, 24, 8))
        - m3.Manifold.cylinder(60, 4, circular_segments=64).rotate((0, 90, 0)).translate((-5, 12, 8))
    )
    f = feature_pointed_at(half, "hole", ((20.0, 12.0, 4.0),))
    assert f.kind == "round" and f.sweep == pytest.approx(180, abs=1) and f.diameter == pytest.approx(8, abs=1e-3)


def said(mesh: Mesh):  # type: ignore[no-untyped-def]
    """The facts of a softened plate, with the hole said by a person, its names and its id."""
    facts = answer.read_part(mesh)
    key = MeshKey(mesh.fingerprint())
    names, name = with_said(names_of_new(key, facts), feature_pointed_at(mesh, "hole", (WALL,)))
    return facts, names, name


def test_what_was_said_has_a_lasting_name_and_its_faces_to_itself() -> None:
    mesh = scans.softened()
    facts, names, name = said(mesh)
    part = with_names(facts, names)
    hole = part.feature(name)
    assert hole is not None and hole.pointed == (WALL,) and name == "hole-1"
    owned = np.concatenate([f.faces for f in part.features])
    assert len(owned) == len(np.unique(owned))
    # Scaled, it is fitted where it went; drawn anew without it, it is lost, and comes back with it.
    twice = Mesh(mesh.vertices * 2, mesh.faces)
    before = named(mesh, facts.features, names)
    after = follow(mesh, before, twice, find_features(twice), "x", Motion(factor=2.0))
    grown = next(f for f in after.features if f.id == name)
    assert grown.diameter == pytest.approx(2 * (hole.diameter or 0), abs=0.02)
    solid = mesh_of(m3.Manifold.cube((26, 18, 6)))
    gone = follow(mesh, before, solid, find_features(solid), "y", None)
    assert [e.id for e in gone.names.lost if e.signature.pointed] == [name]
    back = follow(solid, gone, mesh, facts.features, "z", None)
    assert name in {f.id for f in back.features} and name not in {e.id for e in back.names.lost}
    assert without(names, name).entry(name) is None


def test_a_hole_that_is_known_is_not_said_again() -> None:
    mesh = plate_with_hole()
    facts = answer.read_part(mesh)
    meshes = Meshes()
    key = MeshKey(mesh.fingerprint())
    meshes.put(mesh, key.fingerprint)
    part = Part(key, names_of_new(key, facts))
    with pytest.raises(Refused, match="hole 1 already"):
        Answerer(meshes)(PointedAt(part, "hole", ((14.5, 15.0, 4.0),)))


def test_places_that_are_none_and_too_many_of_them_are_answered() -> None:
    mesh = plate_with_hole()
    for bad in (float("nan"), float("inf"), -float("inf"), 1e300):
        with pytest.raises(Refused):
            feature_pointed_at(mesh, "hole", ((bad, 0.0, 0.0),))
    facts = answer.read_part(mesh)
    names = names_of_new(MeshKey(mesh.fingerprint()), facts)
    made = feature_pointed_at(mesh, "flat", ((30.0, 25.0, 8.0),))
    many = names
    for _ in range(230):
        many, _ = with_said(many, made)
    # What is over the limit is lost, not computed for hours; nothing else is touched.
    part = with_names(facts, many)
    assert sum(bool(f.pointed) for f in part.features) == 200 and len(part.lost) >= 30
    assert any(f.kind == "hole" and not f.pointed for f in part.features)


@pytest.mark.parametrize("noise", [0.02, 0.04])
def test_a_scanned_size_is_told_with_a_doubt_that_holds_the_true_one(noise: float) -> None:
    sizes = {"hole": (scans.HOLE, scans.BLIND), "slot": (scans.SLOT,), "pin": (scans.PEG,)}
    found = [f for f in find_features(scans.scanned(noise, seed=3)) if f.kind in sizes]
    assert len(found) == 4
    for f in found:
        assert min(abs(f.diameter - d) for d in sizes[f.kind]) <= f.doubt < 2.5 * noise
        assert f"{f.diameter:.2f} ± {f.doubt:.2f} mm across" in f.size_text
    assert all(f.doubt == 0 and "±" not in f.size_text for f in find_features(plate_with_hole()) if f.diameter)
