"""Reading, checking, features, slicing and editing, against shapes whose answers are known."""

import io
import struct
import zipfile

import manifold3d as m3
import numpy as np
import pytest
import trimesh
from conftest import box, mesh_of, plate_with_hole

from knollside.core.mesh import load
from knollside.core.mesh.check import check
from knollside.core.mesh.edit import resize, sizes_found
from knollside.core.mesh.features import find_features
from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.load import load_bytes
from knollside.core.mesh.repair import repair
from knollside.core.mesh.slicer import cut, polygon_of, section_of
from knollside.core.mesh.solid import solid_of
from knollside.core.mesh.write import stl_bytes, threemf_bytes
from knollside.core.model import Mesh, Refused


@pytest.mark.parametrize("kind", ["stl", "obj", "ply", "text stl", "3mf"])
def test_every_open_format_reads_to_the_same_solid(kind: str) -> None:
    mesh = plate_with_hole()
    t = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    data = {
        "stl": lambda: stl_bytes(mesh),
        "obj": lambda: t.export(file_type="obj").encode(),
        "ply": lambda: t.export(file_type="ply"),
        "text stl": lambda: t.export(file_type="stl_ascii").encode(),
        "3mf": lambda: threemf_bytes(mesh, "plate"),
    }[kind]()
    got = load_bytes(data, f"plate.{kind[-3:]}").mesh
    assert got.volume == pytest.approx(mesh.volume, rel=1e-5)
    assert len(got.vertices) == len(mesh.vertices)
    assert check(got).sound


def test_step_arrives_in_millimetres_and_closed() -> None:
    from pathlib import Path

    mesh = load.load_file(Path(__file__).parent / "block.step").mesh
    assert mesh.size == pytest.approx([20, 10, 5], abs=1e-4)
    assert check(mesh).closed


def test_our_3mf_is_accepted_by_an_independent_reader(tmp_path) -> None:  # type: ignore[no-untyped-def]
    import lib3mf

    path = tmp_path / "two.3mf"
    two = mesh_of(m3.Manifold.compose([m3.Manifold.cube((5, 5, 5)), m3.Manifold.sphere(3).translate((20, 0, 0))]))
    path.write_bytes(threemf_bytes(two, 'two <bodies> & "more"'))
    model = lib3mf.get_wrapper().CreateModel()
    reader = model.QueryReader("3mf")
    reader.SetStrictModeActive(True)
    reader.ReadFromFile(str(path))
    assert reader.GetWarningCount() == 0
    found, items = 0, model.GetMeshObjects()
    while items.MoveNext():
        found += items.GetCurrentMeshObject().GetTriangleCount()
    assert found == len(two.faces)


def _bad(kind: str) -> tuple[bytes, str]:
    good = stl_bytes(box(10, 10, 10))
    record = bytearray(good)
    if kind == "empty":
        return b"", "a.stl"
    if kind == "truncated":
        return good[:300], "a.stl"
    if kind == "wrong ending":
        return good, "a.obj"
    if kind == "no kind":
        return good, "a.txt"
    if kind == "nan":
        record[96:100] = struct.pack("<f", float("nan"))
        return bytes(record), "a.stl"
    if kind == "huge":
        record[96:100] = struct.pack("<f", 1e30)
        return bytes(record), "a.stl"
    if kind == "lying count":
        record[80:84] = struct.pack("<I", 4_000_000_000)
        return bytes(record), "a.stl"
    if kind == "entities":
        bomb = (
            b'<?xml version="1.0"?><!DOCTYPE m [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]>'
            b'<model unit="millimeter">&b;</model>'
        )
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as z:
            z.writestr("3D/3dmodel.model", bomb)
        return out.getvalue(), "a.3mf"
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("3D/3dmodel.model", b" " * 50_000_000)
    return out.getvalue(), "a.3mf"


@pytest.mark.parametrize(
    "kind", ["empty", "truncated", "wrong ending", "no kind", "nan", "huge", "lying count", "entities", "zip bomb"]
)
def test_hostile_files_get_a_sentence_with_their_name(kind: str) -> None:
    data, name = _bad(kind)
    with pytest.raises(Refused) as caught:
        load_bytes(data, name)
    assert name in str(caught.value) and len(str(caught.value)) > len(name) + 5


def test_limits_on_size_hold(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(load, "MAX_TRIANGLES", 10)
    with pytest.raises(Refused, match="12 triangles; the limit is 10"):
        load_bytes(stl_bytes(box(1, 1, 1)), "a.stl")


def test_faults_are_named_and_counted() -> None:
    m = box(10, 10, 10)
    kinds = {p.kind: p.count for p in check(Mesh(m.vertices, m.faces[:-1])).problems}
    assert kinds == {"open": 3}
    assert {p.kind for p in check(Mesh(m.vertices, m.faces[:, ::-1])).problems} == {"inside-out"}
    flipped = m.faces.copy()
    flipped[0] = flipped[0][::-1]
    assert "winding" in {p.kind for p in check(Mesh(m.vertices, flipped)).problems}
    crossed = Mesh(np.vstack([m.vertices, m.vertices + 5.3]), np.vstack([m.faces, m.faces + 8]))
    assert "self-crossing" in {p.kind for p in check(crossed).problems}
    thin = Mesh(m.vertices, np.vstack([m.faces, [[0, 0, 1]]]))
    assert "zero-area" in {p.kind for p in check(thin).problems}


def test_a_cavity_is_no_body_and_is_not_inside_out() -> None:
    hollow = mesh_of(m3.Manifold.cube((20, 20, 20)) - m3.Manifold.cube((5, 5, 5)).translate((7, 7, 7)))
    s = check(hollow)
    assert (s.bodies, s.sound) == (1, True)
    assert s.volume_mm3 == pytest.approx(8000 - 125)
    assert list(points_inside(hollow, np.array([[1.0, 1, 1], [9, 9, 9], [30, 0, 0]]))) == [True, False, False]


@pytest.mark.parametrize(("scale", "unit"), [(1 / 25.4, "inch"), (0.001, "metre"), (1.0, None)])
def test_wrong_units_are_suspected(scale: float, unit: str | None) -> None:
    m = box(120, 40, 30)
    assert check(Mesh(m.vertices * scale, m.faces)).unit_suspicion == unit


def test_repair_gives_an_account_and_keeps_bodies() -> None:
    m = box(10, 10, 10)
    spoiled = m.faces.copy()
    spoiled[[0, 5]] = spoiled[[0, 5]][:, ::-1]
    done = repair(Mesh(m.vertices, np.vstack([spoiled, [[0, 0, 1]], spoiled[:1]])))
    assert check(done.mesh).sound
    assert done.mesh.volume == pytest.approx(1000)
    assert len(done.account) == 5 and done.account[-1] == "After: 12 triangles, 1 shell, 1,000.0 mm³."
    assert (done.before.triangles, done.before.volume) == (14, None) and done.after.shells == done.before.shells == 1
    inside_out = repair(Mesh(m.vertices, m.faces[:, ::-1]))
    assert inside_out.mesh.volume == pytest.approx(1000)


@pytest.mark.parametrize("turn", [(0, 0, 0), (20, 35, 50)])
@pytest.mark.parametrize("sides", [8, 16, 48, 180])
def test_a_hole_is_found_with_its_drawn_diameter(sides: int, turn: tuple[float, float, float]) -> None:
    mesh = plate_with_hole(sides, 5.0, turn)
    holes = [f for f in find_features(mesh) if f.kind == "hole"]
    assert len(holes) == 1
    h = holes[0]
    assert h.diameter == pytest.approx(5.0, abs=0.001)
    assert (h.length, h.through, h.facets) == (pytest.approx(8.0, abs=1e-4), True, sides)
    axis = trimesh.transformations.euler_matrix(*np.radians(turn), axes="sxyz")[:3, :3] @ [0, 0, 1]
    assert abs(float(np.dot(axis, h.axis))) == pytest.approx(1, abs=1e-6)


def test_sections_agree_with_closed_forms_and_polygons() -> None:
    cuts = cut(plate_with_hole(720, 10.0), np.array([4.0]))
    s = section_of(cuts.at(0))
    hole = np.pi * 25
    area = 40 * 30 - hole
    cx = (1200 * 20 - hole * 12) / area
    ixx = 40 * 30**3 / 12 - np.pi * 5**4 / 4
    assert s.area == pytest.approx(area, rel=1e-4)
    assert s.centroid[0] == pytest.approx(cx, rel=1e-4)
    assert s.ixx == pytest.approx(ixx, rel=1e-4)
    assert polygon_of(cuts.at(0)).area == pytest.approx(s.area, rel=1e-9)


def test_layers_add_up_to_the_volume(arm: Mesh) -> None:
    count = 400
    low, high = arm.bounds[:, 2]
    cuts = cut(arm, low + (np.arange(count) + 0.5) * (high - low) / count)
    total = sum(section_of(cuts.at(k)).area for k in range(count)) * (high - low) / count
    assert total == pytest.approx(arm.volume, rel=1e-3)


def test_a_hole_is_resized_there_and_nowhere_else() -> None:
    mesh = plate_with_hole(48, 5.0, (10, 20, 30))
    f = find_features(mesh)
    done = resize(mesh, f, {"hole-1": 5.4})
    moved = (done.mesh.vertices != mesh.vertices).any(axis=1)
    own = np.zeros(len(mesh.vertices), bool)
    own[np.unique(mesh.faces[f[0].faces])] = True
    assert np.array_equal(moved, own)
    polygon = 48 / 2 * np.sin(2 * np.pi / 48)
    assert done.mesh.volume - mesh.volume == pytest.approx(-polygon * (2.7**2 - 2.5**2) * 8, rel=1e-6)
    assert sizes_found(done.mesh, ["hole-1"], f)["hole-1"] == pytest.approx(5.4, abs=1e-6)
    assert check(done.mesh).sound


def test_a_correction_into_a_neighbour_or_the_edge_is_refused() -> None:
    c = m3.Manifold
    near = c.cube((40, 30, 8))
    for x in (12, 20):
        near -= c.cylinder(20, 2.5, circular_segments=48).translate((x, 15, -5))
    mesh = mesh_of(near)
    f = find_features(mesh)
    with pytest.raises(Refused, match="wall"):
        resize(mesh, f, {"hole-1": 10.0})
    sunk = mesh_of(
        c.cube((40, 30, 8))
        - c.cylinder(20, 2.5, circular_segments=48).translate((12, 15, -5))
        - c.cylinder(4, 2.5, 6, circular_segments=48).translate((12, 15, 5))
    )
    # A hole in a countersink goes along its cone, which stays the cone it is.
    cut = c.cylinder(20, 2.65, circular_segments=48).translate((12, 15, -5))
    made = resize(sunk, find_features(sunk), {"hole-1": 5.3}).mesh
    assert made.volume == pytest.approx((solid_of(sunk) - cut).volume(), rel=1e-9)
