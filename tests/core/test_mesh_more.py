"""More of the mesh room: odd files, packages within packages, topology, sizes in bulk, edits that must not be."""

import io
import struct
import zipfile

import manifold3d as m3
import numpy as np
import pytest
import trimesh
from conftest import DEMO, box, mesh_of, plate_with_hole
from hypothesis import given, settings
from hypothesis import strategies as st

from knollside.core.mesh.check import check, unit_suspicion
from knollside.core.mesh.crossing import crossing_pairs
from knollside.core.mesh.edit import resize
from knollside.core.mesh.features import feature_at, feature_of_face, find_features
from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.load import load_bytes, load_file
from knollside.core.mesh.measured import dihedral
from knollside.core.mesh.nearest import nearest_face
from knollside.core.mesh.patches import patches_of
from knollside.core.mesh.recognition.quadrics import circle
from knollside.core.mesh.repair import repair
from knollside.core.mesh.slicer import cut, polygon_of, section_of
from knollside.core.mesh.topology import bodies_of, edges_of
from knollside.core.mesh.weld import weld
from knollside.core.mesh.write import stl_bytes, threemf_bytes
from knollside.core.model import Mesh, Orientation, Refused, rotation_to_up

_CORE = 'xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"'


def package(model: str, name: str = "3D/3dmodel.model", rels: str | None = None) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as z:
        z.writestr(name, model)
        if rels:
            z.writestr("_rels/.rels", rels)
    return out.getvalue()


def tetra(scale: float = 1.0) -> str:
    points = [(0, 0, 0), (scale, 0, 0), (0, scale, 0), (0, 0, scale)]
    v = "".join(f'<vertex x="{x}" y="{y}" z="{z}"/>' for x, y, z in points)
    f = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in ((0, 2, 1), (0, 1, 3), (1, 2, 3), (0, 3, 2)))
    return f"<mesh><vertices>{v}</vertices><triangles>{f}</triangles></mesh>"


def model(objects: str, build: str, unit: str = "millimeter") -> str:
    return f'<model unit="{unit}" {_CORE}><resources>{objects}</resources><build>{build}</build></model>'


def test_3mf_components_transforms_and_units_are_followed() -> None:
    objects = (
        f'<object id="1">{tetra(10)}</object>'
        '<object id="2"><components><component objectid="1" transform="1 0 0 0 1 0 0 0 1 5 0 0"/>'
        '<component objectid="1" transform="2 0 0 0 2 0 0 0 2 100 0 0"/></components></object>'
    )
    got = load_bytes(
        package(model(objects, '<item objectid="2" transform="1 0 0 0 1 0 0 0 1 0 0 7"/>', "centimeter")), "a.3mf"
    )
    assert got.notes == ("The file is in centimeter; converted to mm.",)
    assert bodies_of(got.mesh)[0] == 2
    assert got.mesh.volume == pytest.approx((1000 / 6 + 8000 / 6) * 1000)
    assert got.mesh.bounds[0] == pytest.approx([50, 0, 70])


def test_3mf_model_is_found_by_its_relationship() -> None:
    rels = (
        '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="a" '
        'Target="/stuff/part.model" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>'
    )
    text = model(f'<object id="1">{tetra()}</object>', '<item objectid="1"/>')
    assert len(load_bytes(package(text, "stuff/part.model", rels), "a.3mf").mesh.faces) == 4


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (model(f'<object id="1">{tetra()}</object>', ""), "builds nothing"),
        (model(f'<object id="1">{tetra()}</object>', '<item objectid="9"/>'), "missing"),
        (
            model('<object id="1"><components><component objectid="1"/></components></object>', '<item objectid="1"/>'),
            "nested",
        ),
        (model(f'<object id="1">{tetra()}</object>', '<item objectid="1"/>', "furlong"), "unknown unit"),
        (model(f'<object id="1">{tetra()}</object>', '<item objectid="1" transform="1 2 3"/>'), "twelve numbers"),
        (
            model('<object id="1">' + tetra().replace('v1="0"', 'v1="99"', 1) + "</object>", '<item objectid="1"/>'),
            "corner",
        ),
        ("<model", "readable"),
    ],
)
def test_broken_3mf_models_are_refused_in_words(text: str, words: str) -> None:
    with pytest.raises(Refused, match=words):
        load_bytes(package(text), "a.3mf")


def test_paths_that_climb_out_of_an_archive_lead_nowhere(tmp_path) -> None:  # type: ignore[no-untyped-def]
    rels = (
        '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="a" '
        'Target="../../../../etc/passwd" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>'
    )
    with pytest.raises(Refused, match="missing"):
        load_bytes(package("x", rels=rels), "a.3mf")


def test_a_binary_stl_whose_header_says_solid_is_read_as_binary() -> None:
    data = bytearray(stl_bytes(box(2, 3, 4)))
    data[:5] = b"solid"
    assert load_bytes(bytes(data), "a.stl").mesh.volume == pytest.approx(24)


def test_text_stl_cut_short_or_with_words_for_numbers_is_refused() -> None:
    corners = "vertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0"
    good = f"solid a\nfacet normal 0 0 1\nouter loop\n{corners}\nendloop\nendfacet\nendsolid a"
    assert len(load_bytes(good.encode(), "a.stl").mesh.faces) == 1
    for bad, words in (
        (good[:90], "cut short"),
        (good.replace("1 0 0", "one 0 0"), "not a number"),
        ("solid facet", "no tri"),
    ):
        with pytest.raises(Refused, match=words):
            load_bytes(bad.encode(), "a.stl")


def test_a_missing_or_huge_file_is_told_by_name(tmp_path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    from knollside.core.mesh import load

    with pytest.raises(Refused, match=r"gone\.stl could not be read"):
        load_file(tmp_path / "gone.stl")
    (tmp_path / "big.stl").write_bytes(b"x" * 2000)
    monkeypatch.setattr(load, "MAX_BYTES", 1000)
    with pytest.raises(Refused, match=r"big\.stl is 0 MB; the limit"):
        load_file(tmp_path / "big.stl")


@settings(max_examples=60, deadline=None)
@given(st.binary(max_size=400), st.sampled_from([".stl", ".obj", ".ply", ".3mf", ".step"]))
def test_no_bytes_whatever_bring_the_reader_down(data: bytes, kind: str) -> None:
    try:
        got = load_bytes(data, f"any{kind}")
        assert len(got.mesh.faces) > 0
    except Refused as refusal:
        assert "any" in str(refusal)


def test_welding_joins_what_single_precision_split_and_no_more() -> None:
    m = box(100, 50, 20)
    loose = m.triangles.reshape(-1, 3).astype(np.float32).astype(float) + 1000
    joined = weld(loose, np.arange(len(loose)).reshape(-1, 3))
    assert len(joined.vertices) == 8
    near = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0.01, 0, 0]], float)
    assert len(weld(near, np.array([[0, 1, 2], [3, 1, 2]])).vertices) == 4


def test_edges_bodies_and_bends_of_a_box() -> None:
    m = box(4, 4, 4)
    e = edges_of(m)
    assert (len(e.corners), e.count.max(), e.turn.any()) == (18, 2, False)
    bend = np.degrees(dihedral(m, e))
    assert sorted(np.round(bend)) == [0] * 6 + [90] * 12
    inner = mesh_of(m3.Manifold.cube((9, 9, 9)) - m3.Manifold.cube((3, 3, 20)).translate((3, 3, -1)))
    assert (np.round(np.degrees(dihedral(inner, edges_of(inner)))) == -90).sum() == 4
    p = patches_of(m)
    assert p.count == 6 and p.area == pytest.approx(np.full(6, 16)) and len(p.pair) == 12


def test_bodies_that_touch_at_an_edge_count_as_one_shell() -> None:
    a = box(1, 1, 1)
    joined = weld(np.vstack([a.vertices, a.vertices + np.array([1, 1, 0])]), np.vstack([a.faces, a.faces + 8]))
    s = check(joined)
    assert s.bodies == 1 and {p.kind for p in s.problems} == {"non-manifold"}


def test_crossing_finds_every_pair_and_no_touching_ones() -> None:
    a = box(10, 10, 10)
    apart = Mesh(np.vstack([a.vertices, a.vertices + 20]), np.vstack([a.faces, a.faces + 8]))
    assert len(crossing_pairs(apart)) == 0
    tri = np.array([[0, 0, 0], [4, 0, 0], [0, 4, 0], [1, 1, -1], [1, 1, 1], [2, 1, 1]], float)
    assert len(crossing_pairs(Mesh(tri, np.array([[0, 1, 2], [3, 4, 5]])))) == 1
    lifted = tri + np.array([[0, 0, 0]] * 3 + [[0, 0, 2]] * 3)
    assert len(crossing_pairs(Mesh(lifted, np.array([[0, 1, 2], [3, 4, 5]])))) == 0


def test_unit_doubt_has_limits() -> None:
    assert [unit_suspicion((x, x / 2, x / 3)) for x in (0.5, 5.0, 11.9, 12.1, 300.0)] == [
        "metre",
        "inch",
        "inch",
        None,
        None,
    ]


def test_repair_turns_one_shell_and_keeps_a_cavity() -> None:
    hollow = mesh_of(m3.Manifold.cube((20, 20, 20)) - m3.Manifold.sphere(4, 32).translate((10, 10, 10)))
    assert repair(hollow).account == ("Nothing needed mending.",)
    label = bodies_of(hollow)[1]
    outer = label == label[np.argmin(hollow.triangles.min(axis=(1, 2)))]
    faces = hollow.faces.copy()
    faces[outer] = faces[outer][:, ::-1]
    mended = repair(Mesh(hollow.vertices, faces))
    assert mended.mesh.volume == pytest.approx(hollow.volume) and check(mended.mesh).sound
    with pytest.raises(Refused, match="Nothing would be left"):
        repair(Mesh(np.zeros((3, 3)), np.array([[0, 1, 2]])))
    torn = repair(Mesh(hollow.vertices, hollow.faces[1:]))
    assert any("not closed" in line for line in torn.account)


def test_inside_agrees_with_the_equation_of_a_sphere() -> None:
    ball = mesh_of(m3.Manifold.sphere(10, 128))
    p = np.random.default_rng(4).uniform(-12, 12, (400, 3))
    r = np.linalg.norm(p, axis=1)
    clear = np.abs(r - 10) > 0.1
    assert (points_inside(ball, p)[clear] == (r < 10)[clear]).all()


def test_the_nearest_face_is_the_nearest_face() -> None:
    m = mesh_of(m3.Manifold.sphere(10, 48))
    for p in np.random.default_rng(6).uniform(-15, 15, (20, 3)):
        face, distance = nearest_face(m, p)
        assert distance == pytest.approx(abs(np.linalg.norm(p) - 10), abs=0.06)
        # Of a ball, the nearest face looks along the point's own direction.
        assert float(m.normals[face] @ (p / np.linalg.norm(p))) > 0.99


@settings(max_examples=30, deadline=None)
@given(st.floats(0.5, 80), st.floats(-300, 300), st.integers(3, 90), st.integers(0, 99))
def test_a_circle_is_fitted_wherever_it_is(radius: float, x: float, n: int, seed: int) -> None:
    a = np.linspace(0, 1.5 + seed / 25, n)
    points = np.stack([x + radius * np.cos(a), -x + radius * np.sin(a)], axis=1)
    centre, r = circle(points)
    assert centre == pytest.approx([x, -x], abs=1e-5) and r == pytest.approx(radius, rel=1e-6)


def test_two_hundred_holes_are_found_to_a_thousandth() -> None:
    rng = np.random.default_rng(9)
    drawn, posts = [], []
    for i in range(200):
        d, n = float(rng.uniform(2, 12)), int(rng.integers(8, 120))
        drawn.append(d)
        x, y = 10 + 16 * (i % 20), 10 + 16 * (i // 20)
        posts.append(m3.Manifold.cylinder(30, d / 2, circular_segments=n).translate((x, y, -5)))
    solid = m3.Manifold.cube((330, 170, 6)) - m3.Manifold.batch_boolean(posts, m3.OpType.Add)
    got = [f.diameter for f in find_features(mesh_of(solid.rotate((12, 34, 56)))) if f.kind == "hole"]
    hits = sum(min(abs(g - d) for g in got) < 1e-3 for d in drawn)
    assert hits >= 194 and len(got) <= hits / 0.97


def test_six_digit_text_files_far_from_the_origin_keep_their_holes() -> None:
    m = plate_with_hole(64, 6.4)
    far = Mesh(m.vertices + np.array([900, -700, 300]), m.faces)
    text = trimesh.Trimesh(far.vertices, far.faces, process=False).export(file_type="stl_ascii")
    rounded = "\n".join(
        " ".join([w[0], *(f"{float(x):.6g}" for x in w[1:])]) if (w := line.split()) and w[0] == "vertex" else line
        for line in text.splitlines()
    )
    holes = [f for f in find_features(load_bytes(rounded.encode(), "a.stl").mesh) if f.kind == "hole"]
    assert len(holes) == 1 and holes[0].diameter == pytest.approx(6.4, abs=0.003)


def test_a_circumscribed_polygon_is_read_by_its_flats() -> None:
    n, d = 16, 5.0
    mesh = plate_with_hole(n, d / np.cos(np.pi / n))
    hole = next(f for f in find_features(mesh) if f.kind == "hole")
    assert hole.diameter == pytest.approx(d, abs=1e-3)


def test_counterbored_countersunk_and_crossing_holes_keep_their_names() -> None:
    c = m3.Manifold
    block = c.cube((60, 40, 20))
    block -= c.cylinder(30, 2.75, circular_segments=48).translate((15, 20, -5))
    block -= c.cylinder(10, 5, circular_segments=48).translate((15, 20, 14))
    block -= c.cylinder(30, 2, circular_segments=48).translate((40, 20, -5))
    block -= c.cylinder(3.01, 2, 5, circular_segments=48).translate((40, 20, 17))
    found = find_features(mesh_of(block))
    holes = sorted((round(f.diameter, 2), f.through) for f in found if f.kind == "hole")
    assert holes == [(4.0, True), (5.5, True), (10.0, False)]
    assert [f.kind for f in found].count("cone") == 1


def test_features_of_every_face_lead_somewhere(arm: Mesh) -> None:
    features = find_features(arm)
    for face in range(0, len(arm.faces), 97):
        f = feature_of_face(arm, features, face)
        assert face in f.faces
    ids = [f.id for f in features]
    assert len(ids) == len(set(ids)) and find_features(arm)[0].id == ids[0]
    assert feature_at(arm, features, (0, 0, 50)).kind == "flat"


@pytest.mark.parametrize("direction", [(0, 0, 1), (0, 0, -1), (1, 2, 3), (1, 0, 0)])
def test_a_way_turns_its_direction_up(direction: tuple[float, float, float]) -> None:
    orientation = Orientation(direction=direction)
    turn = rotation_to_up(orientation.direction)
    assert turn @ np.asarray(orientation.direction) == pytest.approx([0, 0, 1])
    assert turn @ turn.T == pytest.approx(np.eye(3)) and np.linalg.det(turn) == pytest.approx(1)
    with pytest.raises(ValueError, match="length"):
        Orientation(direction=(0, 0, 0))


def test_cuts_through_flats_and_nested_rings_are_whole() -> None:
    c = m3.Manifold
    tube = c.cylinder(10, 20, circular_segments=64) - c.cylinder(12, 15, circular_segments=64).translate((0, 0, -1))
    nest = mesh_of(c.compose([tube, c.cylinder(10, 8, circular_segments=64)]))
    cuts = cut(nest, np.array([0.0, 5.0, 10.0]))
    polygon = polygon_of(cuts.at(1))
    assert polygon.area == pytest.approx(section_of(cuts.at(1)).area, rel=1e-6)
    assert len(polygon.geoms) == 2 and sum(len(g.interiors) for g in polygon.geoms) == 1
    # A level on the bottom face is nudged into the part; one on top of it finds nothing.
    assert section_of(cuts.at(0)).area == pytest.approx(polygon.area, rel=1e-6)
    assert polygon_of(cuts.at(2)).is_empty and section_of(cuts.at(2)).area == 0


def test_edits_refuse_what_they_cannot_do_and_leave_the_mesh_alone() -> None:
    mesh = plate_with_hole()
    features = find_features(mesh)
    before = mesh.vertices.copy()
    for wanted, words in (
        ({"flat-1": 5.0}, "not a hole"),
        ({"hole-1": 0.05}, "not a usable size"),
        ({"hole-1": 29.5}, "wall|cut into"),
        ({"hole-7": 5.0}, "not a hole"),
    ):
        with pytest.raises(Refused, match=words):
            resize(mesh, features, wanted)
    assert np.array_equal(mesh.vertices, before)
    assert resize(mesh, features, {}).changes == ()


def test_a_pin_grows_outward_and_a_hole_may_shrink() -> None:
    solid = m3.Manifold.cube((30, 30, 5)) + m3.Manifold.cylinder(10, 4, circular_segments=64).translate((15, 15, 4))
    mesh = mesh_of(solid)
    grown = resize(mesh, find_features(mesh), {"pin-1": 8.4})
    ring = 64 / 2 * np.sin(2 * np.pi / 64)
    assert grown.mesh.volume - mesh.volume == pytest.approx(ring * (4.2**2 - 4**2) * 9, rel=1e-6)
    plate = plate_with_hole(48, 6.0)
    assert resize(plate, find_features(plate), {"hole-1": 5.5}).mesh.volume > plate.volume


def test_written_files_are_the_same_for_the_same_part_and_small_names_are_escaped() -> None:
    m = box(3, 3, 3)
    assert threemf_bytes(m, "a") == threemf_bytes(m, "a") and stl_bytes(m) == stl_bytes(m)
    data = threemf_bytes(m, '<&">', {"Material": "PE<TG"})
    text = zipfile.ZipFile(io.BytesIO(data)).read("3D/3dmodel.model").decode()
    assert "&lt;&amp;" in text and "PE<TG" not in text
    assert struct.unpack("<I", stl_bytes(m)[80:84])[0] == 12


def test_a_rim_that_grows_past_a_long_edge_leaves_no_fold() -> None:
    """The hinge's plate has long triangles beside its holes: growing them must cut the flat anew."""
    mesh = load_file(DEMO / "vent-hinge.stl").mesh
    features = find_features(mesh)
    wanted = {f"hole-{i}": 5.6 for i in (1, 2, 3, 4)}
    edited = resize(mesh, features, wanted)
    grown = sum(np.pi / 4 * (5.6**2 - 4.5**2) * 4.0 for _ in wanted)
    polygon = np.sin(2 * np.pi / 48) / (2 * np.pi / 48)  # 48 corners on the circle
    assert mesh.volume - edited.mesh.volume == pytest.approx(grown * polygon, rel=1e-4)
    assert not any(p.kind == "self-crossing" for p in check(edited.mesh).problems)
    flat = np.abs(edited.mesh.normals[:, 2]) > 0.999999
    assert (edited.mesh.areas[flat & (edited.mesh.normals[:, 2] > 0)].sum()) == pytest.approx(
        mesh.areas[np.abs(mesh.normals[:, 2] - 1) < 1e-6].sum() - grown / 4 * polygon, rel=1e-5
    )


def test_bodies_that_overlap_are_said_to_cross_even_at_their_diagonals() -> None:
    a, b = box(10, 10, 10), box(10, 10, 10)
    both = Mesh(np.vstack([a.vertices, b.vertices + 5]), np.vstack([a.faces, b.faces + len(a.vertices)]))
    assert any(p.kind == "self-crossing" for p in check(both).problems)
    apart = Mesh(np.vstack([a.vertices, b.vertices + np.array([0, 0, 10.5])]), both.faces)
    assert not any(p.kind == "self-crossing" for p in check(apart).problems)


def test_a_needle_in_a_cap_does_not_join_it_to_the_wall() -> None:
    """Three outline corners almost in line make a needle whose second edge is nearly as long as its longest."""
    outline = np.array([(0, 0), (30, 0), (40, 0.00001), (40.0004, 0.00002), (40, 12), (-4, 12), (-8, 6)], float)
    solid = m3.Manifold.extrude(m3.CrossSection([outline]), 8)
    features = find_features(mesh_of(solid))
    caps = [f for f in features if f.kind == "flat" and abs(f.axis[2]) > 0.999]
    area = abs(float(np.cross(outline, np.roll(outline, -1, axis=0)).sum())) / 2
    assert len(caps) == 2
    assert [f.area for f in caps] == pytest.approx([area, area], rel=1e-4)


def test_bodies_that_each_have_an_edge_of_four_triangles_stay_apart() -> None:
    """Two blocks that meet along an edge are one shell; two such pairs are two."""
    one = m3.Manifold.compose([m3.Manifold.cube((5, 5, 5)), m3.Manifold.cube((5, 5, 5)).translate((5, 5, 0))])
    pair = mesh_of(one)
    assert (edges_of(pair).count > 2).any() and bodies_of(pair)[0] == 1
    far = Mesh(np.vstack([pair.vertices, pair.vertices + 30]), np.vstack([pair.faces, pair.faces + len(pair.vertices)]))
    count, label = bodies_of(far)
    assert count == 2 and (label == np.repeat([0, 1], len(pair.faces))).all()
