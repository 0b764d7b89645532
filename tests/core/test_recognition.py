"""What is on parts of other kernels and meshers, held against the recipe each was made from; and meshes put right.

The parts in ``kernels`` were written by four geometry kernels and six meshers (benchmarks/fitset), from measures drawn
at random; their truth is the recipe's, never the mesh's.
"""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import manifold3d as m3
import numpy as np
import pytest

from knollside.core.job.answer import read_part
from knollside.core.mesh.check import check, overlapping
from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_bytes
from knollside.core.mesh.recognition import quadrics
from knollside.core.mesh.recognition.quadrics import Form, Surface
from knollside.core.mesh.repair import repair
from knollside.core.mesh.rounding import digits_of, grid_of
from knollside.core.mesh.solid import mesh_of
from knollside.core.mesh.tidy import tidied
from knollside.core.mesh.weld import weld
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Feature, Mesh, Refused, square_to

KERNELS = sorted((Path(__file__).parent / "kernels").glob("*.npz"))
Rod = m3.Manifold.cylinder


def of_kernel(path: Path) -> tuple[Mesh, list[dict[str, Any]], int]:
    held = np.load(path, allow_pickle=False)
    mesh = weld(held["vertices"].astype(float), held["faces"].astype(np.int64))
    return tidied(mesh).mesh, json.loads(str(held["truth"])), int(held["bodies"])


def answers(truth: dict[str, Any], f: Feature) -> bool:
    """Whether a feature is what the recipe drew: its kind and every measure of it."""
    more = {k: pytest.approx(v, abs=0.004) for k, v in truth["more"].items()}
    kind = truth["kind"]
    if kind in ("d-bore", "d-shaft"):
        return (f.kind, f.form) == ({"d-bore": "hole", "d-shaft": "pin"}[kind], "D") and f.flat == more["flat"]
    if kind in ("keyhole", "keyed bore"):
        return f.kind == "hole" and f.form == kind.split()[0] and f.span in more.values()
    if kind in ("slot", "open slot", "arc slot"):
        form = "" if kind == "slot" else kind.split()[0]
        return f.kind == "slot" and f.form == form and all(f.span == v for v in more.values())
    if kind == "rounded rectangle":
        return f.kind == "rectangle" and (f.span, f.corner) == (more["long"], more["corner"])
    if kind == "taper":
        return f.kind == "taper" and f.angle == more["angle"]
    plain = {
        "octagon": f.kind == "polygon" and f.facets == 8,
        "counterbore": f.kind == "hole" and f.role == "counterbore",
        "countersink": f.kind == "cone" and f.role == "countersink",
        "socket": f.kind == "ball" and f.inside is True,
        "ball": f.kind == "ball" and f.inside is False,
        "knuckle": f.kind in ("pin", "round") and f.inside is False,
        "groove": f.kind == "round" and f.inside is True,
    }
    return plain.get(kind, f.kind == kind)


def lies(truth: dict[str, Any], f: Feature) -> bool:
    """On the drawn axis, and along it within the drawn length."""
    off = np.asarray(f.centre) - truth["at"]
    if truth["kind"] in ("ball", "socket"):
        return bool(np.linalg.norm(off) < 1e-3)
    axis = np.asarray(truth["axis"])
    along = float(off @ axis)
    near = float(np.linalg.norm(off - along * axis)) < 2e-3 and abs(float(axis @ f.axis)) > 1 - 1e-6
    length = truth["length"]
    return near and (length is None or f.length is None or abs(f.length - length) < 0.35 * length + 0.1)


def about(truth: dict[str, Any], f: Feature) -> bool:
    """Of about the drawn size; a taper's and a countersink's widest end depends on the face they come out of."""
    if truth["kind"] in ("taper", "countersink"):
        return True
    return f.diameter is not None and abs(f.diameter - truth["size"]) < 0.02 * truth["size"]


@pytest.mark.parametrize("path", KERNELS, ids=lambda p: p.stem)
def test_all_that_was_drawn_is_found_and_nothing_else(path: Path) -> None:
    mesh, truth, bodies = of_kernel(path)
    state = check(mesh)
    assert state.closed and state.bodies == bodies
    left = [f for f in find_features(mesh) if f.kind not in ("flat", "fillet", "round") or f.inside]
    for t in truth:
        found = next((f for f in left if answers(t, f) and lies(t, f) and about(t, f)), None)
        assert found is not None, (t["kind"], t["size"], t["at"])
        left = [f for f in left if f is not found]
        if t["kind"] not in ("taper", "countersink"):
            assert found.diameter == pytest.approx(t["size"], abs=1e-3)
    # A chamfer at a pin's tip is a cone that no recipe names.
    assert [f.title for f in left if f.kind not in ("cone", "fillet", "round")] == []


@pytest.mark.parametrize("path", [p for p in KERNELS if "crossing" in p.stem or "tube" in p.stem], ids=lambda p: p.stem)
def test_a_file_of_fewer_digits_still_tells_its_holes(path: Path) -> None:
    mesh, truth, _ = of_kernel(path)
    rounded = Mesh(np.round(mesh.vertices, 3), mesh.faces)
    assert grid_of(rounded.vertices) == 0.001
    holes = [f for f in find_features(rounded) if f.kind == "hole"]
    drawn = [t for t in truth if t["kind"] == "hole"]
    assert len(holes) == len(drawn)
    for t in drawn:
        best = min(abs(f.diameter - t["size"]) for f in holes if f.diameter is not None)
        assert best < 1e-3


def test_no_triangle_is_of_two_features() -> None:
    for path in KERNELS[:6]:
        mesh, _, _ = of_kernel(path)
        count = np.zeros(len(mesh.faces), int)
        for f in find_features(mesh):
            # The walls of a sharp-cornered pocket are flats besides, to be pressed on one by one.
            if not f.is_pocket_of_flats:
                count[f.faces] += 1
        assert count.max() == 1


@pytest.mark.parametrize("sides", [8, 10, 13, 24])
@pytest.mark.parametrize("hollow", [True, False])
def test_coarse_rounds_keep_both_readings(sides: int, hollow: bool) -> None:
    plate = m3.Manifold.cube((30, 30, 6))
    rod = Rod(12, 4, 4, sides).translate((15, 15, -1 if hollow else 3))
    (f,) = (g for g in find_features(mesh_of(plate - rod if hollow else plate + rod)) if g.kind in ("hole", "pin"))
    assert f.kind == ("hole" if hollow else "pin") and f.facets == sides
    assert f.readings == pytest.approx((8.0, 8.0 * math.cos(math.pi / sides)), abs=1e-6)


def test_an_octagon_among_fine_rounds_is_told_from_a_hole_of_eight_sides() -> None:
    plate = m3.Manifold.cube((60, 30, 6)) - Rod(8, 3, 3, 64).translate((45, 15, -1))
    flats = 10.0 / math.cos(math.pi / 8)  # ten across flats
    fine = find_features(mesh_of(plate - Rod(8, flats / 2, flats / 2, 8).translate((15, 15, -1))))
    assert {(f.kind, round(f.diameter or 0, 3)) for f in fine if f.kind != "flat"} == {("polygon", 10.0), ("hole", 6.0)}
    coarse = find_features(mesh_of(m3.Manifold.cube((30, 30, 6)) - Rod(8, 5, 5, 8).translate((15, 15, -1))))
    assert [(f.kind, round(f.diameter or 0, 3)) for f in coarse if f.kind != "flat"] == [("hole", 10.0)]


def test_a_ball_of_rings_is_a_ball_and_a_cone_to_its_tip_a_cone() -> None:
    ball = find_features(mesh_of(m3.Manifold.sphere(9, 64)))
    assert [(f.kind, round(f.diameter or 0, 3)) for f in ball] == [("ball", 18.0)]
    tip = mesh_of(m3.Manifold.cube((20, 20, 4)) + Rod(6, 5, 0, 48).translate((10, 10, 4)))
    (cone,) = (f for f in find_features(tip) if f.kind != "flat")
    assert cone.kind == "cone" and cone.angle == pytest.approx(math.degrees(math.atan2(5, 6)), abs=1e-6)
    assert cone.diameter == pytest.approx(10.0, abs=1e-6)


@pytest.mark.parametrize("sweep", [2 * math.pi, 2.0, 0.7])
def test_fits_return_the_surface_the_points_were_taken_from(sweep: float) -> None:
    rng = np.random.default_rng(3)
    axis = np.array([0.2, -0.5, 0.84])
    axis = axis / np.linalg.norm(axis)
    u, v = square_to(axis)
    a, z = rng.uniform(0, sweep, 80), rng.uniform(2, 12, 80)
    ring = np.cos(a)[:, None] * u + np.sin(a)[:, None] * v
    foot = np.array([5.0, 7.0, -3.0])
    rod = foot + 3.3 * ring + z[:, None] * axis
    tilted = axis + 0.05 * u
    near = quadrics.cylinder_along(tilted / np.linalg.norm(tilted), rod)
    fine = quadrics.cylinder(rod, near)
    assert fine.radius == pytest.approx(3.3, abs=1e-9) and abs(float(fine.axis @ axis)) == pytest.approx(1, abs=1e-12)
    assert np.abs(fine.off(rod)).max() < 1e-9 and fine.off(rod + 0.2 * ring) == pytest.approx(0.2, abs=1e-9)
    lean = math.radians(20)
    funnel = foot + (z * math.tan(lean))[:, None] * ring + z[:, None] * axis
    start = Surface(Form.CONE, foot - 0.3 * axis + 0.1 * u, axis, 0.0, math.radians(21))
    cone = quadrics.cone(funnel, start)
    assert math.degrees(cone.angle) == pytest.approx(20, abs=1e-7) and cone.point == pytest.approx(foot, abs=1e-7)
    out = ring * math.cos(lean) - axis * math.sin(lean)
    assert cone.off(funnel + 0.1 * out) == pytest.approx(0.1, abs=1e-9)
    globe = foot + 4.2 * (ring * 0.6 + 0.8 * np.sign(np.sin(5 * a))[:, None] * axis)
    assert quadrics.ball(globe).radius == pytest.approx(4.2, abs=1e-9)


# --- put right on reading ------------------------------------------------------------------------------------------


def plate() -> Mesh:
    return mesh_of(m3.Manifold.cube((40, 30, 8)) - Rod(20, 2.5, 2.5, 48).translate((20, 15, -2)))


def ball_of_quads(radius: float, around: int = 24, up: int = 12) -> Mesh:
    """Collapsed quads at both poles, as revolved balls have them."""
    t, p = np.linspace(0, np.pi, up + 1), np.linspace(0, 2 * np.pi, around, endpoint=False)
    at = [(math.sin(a) * math.cos(b), math.sin(a) * math.sin(b), math.cos(a)) for a in t for b in p]
    quads = [
        (i * around + j, (i + 1) * around + j, (i + 1) * around + (j + 1) % around, i * around + (j + 1) % around)
        for i in range(up)
        for j in range(around)
    ]
    return Mesh(np.array(at) * radius, np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))]))


def together(*some: Mesh) -> Mesh:
    starts = np.cumsum([0, *(len(m.vertices) for m in some)])
    return Mesh(
        np.vstack([m.vertices for m in some]), np.vstack([m.faces + n for m, n in zip(some, starts, strict=False)])
    )


def reread(mesh: Mesh) -> tuple[Mesh, str]:
    loaded = load_bytes(stl_bytes(mesh), "part.stl")
    return loaded.mesh, " ".join(loaded.notes)


def test_an_inside_out_file_is_turned_and_its_hole_stays_a_hole() -> None:
    mesh, said = reread(Mesh(plate().vertices, plate().faces[:, ::-1]))
    assert said == "1 shell turned right side out, of 1." and mesh.volume == pytest.approx(plate().volume, rel=1e-6)
    (hole,) = (f for f in find_features(mesh) if f.kind in ("hole", "pin"))
    assert hole.kind == "hole" and hole.through and hole.diameter == pytest.approx(5, abs=1e-4)


def test_mixed_windings_and_double_triangles_are_put_right_with_counts() -> None:
    mesh = plate()
    some = np.random.default_rng(2).random(len(mesh.faces)) < 0.3
    mixed, said = reread(Mesh(mesh.vertices, np.where(some[:, None], mesh.faces[:, ::-1], mesh.faces)))
    assert said == f"{some.sum()} triangles turned to face as the neighbours do." and check(mixed).sound
    double, said = reread(Mesh(mesh.vertices, np.vstack([mesh.faces, mesh.faces[:7]])))
    assert said == "7 triangles there twice removed." and check(double).sound and len(double.faces) == len(mesh.faces)
    # A wall of no thickness, seen from both sides, goes as a whole.
    membrane = mesh.faces[:5]
    both, said = reread(Mesh(mesh.vertices, np.vstack([mesh.faces, membrane, membrane[:, ::-1]])))
    assert "there twice removed" in said and check(both).sound and both.volume == pytest.approx(mesh.volume, rel=1e-6)


def test_a_ball_in_its_socket_stays_two_bodies_and_a_bearing_fourteen() -> None:
    cup = m3.Manifold.cube((40, 40, 25), True) - m3.Manifold.sphere(10.4, 48) - Rod(30, 7, 7, 48)
    mesh, said = reread(together(mesh_of(cup), ball_of_quads(10)))
    assert said == "48 triangles without area removed." and check(mesh).sound and check(mesh).bodies == 2
    mended = repair(together(mesh_of(cup), ball_of_quads(10)))
    assert check(mended.mesh).bodies == 2
    races = [Rod(8, 20, 20, 96) - Rod(8, 16, 16, 96), Rod(8, 9, 9, 96) - Rod(8, 5, 5, 96)]
    turns = 2 * np.pi * np.arange(12) / 12
    rollers = [Rod(8, 3.2, 3.2, 48).translate((12.5 * math.cos(t), 12.5 * math.sin(t), 0)) for t in turns]
    bearing = together(*(mesh_of(p) for p in (*races, *rollers)))
    mesh, said = reread(Mesh(bearing.vertices, bearing.faces[:, ::-1]))
    assert said == "14 shells turned right side out, of 14." and check(mesh).bodies == 14


def test_a_hollow_stays_one_and_a_crumb_goes() -> None:
    hollow = mesh_of(m3.Manifold.cube((20, 20, 20)) - m3.Manifold.sphere(4, 32).translate((10, 10, 10)))
    mesh, _ = reread(Mesh(hollow.vertices, hollow.faces[:, ::-1]))
    assert mesh.volume == pytest.approx(hollow.volume, rel=1e-5) and check(mesh).bodies == 1
    crumb = mesh_of(m3.Manifold.cube((0.05, 0.05, 0.05)).translate((30, 0, 0)))
    mended = repair(together(hollow, crumb))
    assert "crumb" in mended.account[0] and mended.mesh.volume == pytest.approx(hollow.volume, rel=1e-9)


def test_overlapping_bodies_are_united_when_asked() -> None:
    cube = m3.Manifold.cube((20, 20, 20))
    two = together(mesh_of(cube), mesh_of(cube.translate((10, 5, 5))))
    assert overlapping(check(two)) and not check(repair(two).mesh).sound
    one = repair(two, unite=True)
    assert one.mesh.volume == pytest.approx(2 * 8000 - 10 * 15 * 15) and check(one.mesh).sound
    assert "2 bodies united to 1." in one.account
    within = together(mesh_of(cube), mesh_of(m3.Manifold.cube((5, 5, 5)).translate((5, 5, 5))))
    assert [p.kind for p in check(within).problems] == ["nested"]
    assert repair(within, unite=True).mesh.volume == pytest.approx(8000)
    with pytest.raises(Refused, match="no two bodies"):
        repair(mesh_of(cube), unite=True)


def test_a_far_part_comes_to_the_origin_and_rounded_corners_are_said() -> None:
    mesh, said = reread(Mesh(plate().vertices + np.array([20_000, -300, 50]), plate().faces))
    assert "moved to the origin" in said and np.abs(mesh.bounds).max() < 50
    assert mesh.volume == pytest.approx(plate().volume, rel=1e-4)
    turned = plate().vertices @ np.array([[0.8, -0.6, 0], [0.6, 0.8, 0], [0, 0, 1]]).T
    _, said = reread(Mesh(np.round(turned, 2), plate().faces))
    assert "rounded to 0.01 mm" in said
    six = np.array([float(f"{x:.6g}") for x in (turned * 7.3).ravel()]).reshape(-1, 3)
    assert digits_of(six) == pytest.approx(5e-4) and digits_of(turned) == 0.0


def test_nothing_is_cut_into_a_mesh_that_is_not_sound() -> None:
    mesh = plate()
    torn = read_part(Mesh(mesh.vertices, mesh.faces[1:]))
    with pytest.raises(Refused, match=r"not sound.*3 edges.*Mend it first"):
        torn.changeable()
    assert read_part(mesh).changeable() is not None


def test_a_fillet_round_a_peg_is_one_fillet_and_a_free_form_is_none() -> None:
    """A peg on a disc with a quarter of a ring's tube of 3 mm between them: every triangle is of one feature."""
    turn = np.radians(np.linspace(180, 270, 9))
    tube = np.stack([8 + 3 * np.cos(turn), 7 + 3 * np.sin(turn)], axis=1)
    profile = np.concatenate([[[0, 0], [20, 0], [20, 4]], tube[::-1], [[5, 20], [0, 20]]])
    mesh = mesh_of(m3.Manifold.revolve(m3.CrossSection([profile]), 96))
    found = find_features(mesh)
    fillets = [f for f in found if f.kind == "fillet"]
    assert len(fillets) == 1 and abs(fillets[0].axis[2]) > 0.999
    # Pappus, with the mean of the quarter circle's radius about the axis.
    mean = 8 - 3 * 2 / np.pi
    assert mesh.areas[fillets[0].faces].sum() == pytest.approx(2 * np.pi * mean * 3 * np.pi / 2, rel=0.01)
    assert sorted(f.diameter for f in found if f.kind == "pin") == pytest.approx([10, 40], abs=1e-3)
    owned = np.concatenate([f.faces for f in found])
    assert len(owned) == len(np.unique(owned)) == len(mesh.faces)
    ring = m3.Manifold.level_set(
        lambda x, y, z: 5 - float(np.hypot(np.hypot(x, y) - 12, z)), [-20, -20, -8, 20, 20, 8], 1.5
    )
    assert not any(f.kind == "fillet" for f in find_features(mesh_of(ring)))


@pytest.mark.parametrize("unit", ["mm", "cm"])
def test_a_far_part_is_mended_where_it_stood(tmp_path: Path, capsys: pytest.CaptureFixture[str], unit: str) -> None:
    """With one triangle twice; the same corners come out as went in, to what a single-precision file holds."""
    from knollside.cli import main

    there = np.array([20_000, -300, 50])
    mesh = Mesh(plate().vertices + there, plate().faces)
    twice = Mesh(mesh.vertices, np.vstack([mesh.faces, mesh.faces[:1]]))
    source, target = tmp_path / "far.stl", tmp_path / "out.stl"
    source.write_bytes(stl_bytes(twice))
    assert main(["check", str(source), "--mend", str(target), "--unit", unit, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert any("moved to the origin" in n for n in told["notes"]) and told["closed"]
    times = {"mm": 1.0, "cm": 10.0}[unit]
    row = np.dtype([("n", "<f4", 3), ("c", "<f4", (3, 3)), ("x", "<u2")])
    corners = np.frombuffer(target.read_bytes()[84:], row)["c"].reshape(-1, 3)
    assert corners.min(axis=0) == pytest.approx(mesh.bounds[0] * times, abs=0.01 * times)
    assert corners.max(axis=0) == pytest.approx(mesh.bounds[1] * times, abs=0.01 * times)
