"""Walls of every kind of hole, pin and pocket moved: read back from the mesh, and held against solids drawn so."""

from __future__ import annotations

from pathlib import Path

import manifold3d as m3
import numpy as np
import pytest
import shapely
import shapely.affinity
from core.test_recognition import KERNELS, of_kernel

from knollside.core.job.answer import read_part
from knollside.core.job.correcting import Cutting, apply_corrections, carved, corrections
from knollside.core.mesh.bore import carve, moved_walls
from knollside.core.mesh.check import check
from knollside.core.mesh.edit import can_move, resize
from knollside.core.mesh.features import find_features
from knollside.core.mesh.solid import mesh_of
from knollside.core.mesh.wallmoves import Sizes, moves_of, second_size, swept
from knollside.core.model import SIZED, Feature, Mate, Mesh, Recipe

UP = (0.0, 0.0, 1.0)
PLATE = m3.Manifold.cube((60, 40, 8))


def pocket(shape: shapely.Polygon, z0: float = -1, z1: float = 9) -> m3.Manifold:
    ring = [np.asarray(shape.exterior.coords)[:-1]]
    return m3.Manifold.extrude(m3.CrossSection(ring, m3.FillRule.EvenOdd), z1 - z0).translate((0, 0, z0))


def slot(width: float, whole: float) -> shapely.Polygon:
    half = (whole - width) / 2
    return shapely.LineString([(30 - half, 20), (30 + half, 20)]).buffer(width / 2, quad_segs=12)


def one(mesh: Mesh, kind: str) -> Feature:
    return next(f for f in find_features(mesh) if f.kind == kind)


def test_a_slot_gets_another_width_and_length_as_one_drawn_so() -> None:
    mesh = mesh_of(PLATE - pocket(slot(5.0, 18.0)))
    f = one(mesh, "slot")
    assert second_size(f) == pytest.approx(18.0, abs=1e-4)
    made = resize(mesh, find_features(mesh), {f.id: Sizes(5.4, 18.6)})
    drawn = PLATE - pocket(slot(5.4, 18.6))
    assert made.mesh.volume == pytest.approx(drawn.volume(), rel=1e-9) and check(made.mesh).sound
    again = one(made.mesh, "slot")
    assert (again.diameter, second_size(again)) == pytest.approx((5.4, 18.6), abs=1e-3)


@pytest.mark.parametrize("turn", [0.0, 25.0])
def test_a_pocket_gets_another_width_and_length(turn: float) -> None:
    def drawn(wide: float, long: float) -> m3.Manifold:
        hole = m3.Manifold.cube((long, wide, 20), True).rotate((0, 0, turn)).translate((30, 20, 12))
        return PLATE - hole

    mesh = mesh_of(drawn(10, 16))
    f = one(mesh, "rectangle")
    made = resize(mesh, find_features(mesh), {f.id: Sizes(10.3, 16.5)}).mesh
    assert made.volume == pytest.approx(drawn(10.3, 16.5).volume(), rel=1e-9) and check(made).sound


def test_a_hole_with_a_sloping_mouth_moves_within_its_plane() -> None:
    """A wedge: the mouth leans by 20 degrees, and stays the plane it is."""
    block = PLATE.trim_by_plane((-np.sin(np.radians(20)), 0, -np.cos(np.radians(20))), -14.0)

    def drilled(d: float) -> m3.Manifold:
        return block - m3.Manifold.cylinder(40, d / 2, d / 2, 48).translate((25, 20, -10))

    mesh = mesh_of(drilled(6.0))
    f = one(mesh, "hole")
    for d in (5.6, 6.4):
        made = resize(mesh, find_features(mesh), {f.id: d})
        assert made.mesh.volume == pytest.approx(drilled(d).volume(), rel=1e-9)
        assert made.changes[0].volume_predicted == pytest.approx(made.changes[0].volume_found, rel=1e-9)


def test_a_hole_through_a_rod_is_lined_and_opened_though_its_mouths_curve() -> None:
    rod = m3.Manifold.cylinder(40, 12, 12, 96)

    def drilled(d: float) -> m3.Manifold:
        return rod - m3.Manifold.cylinder(60, d / 2, d / 2, 64).translate((0, 0, -30)).rotate((0, 90, 0)).translate(
            (0, 0, 20)
        )

    mesh = mesh_of(drilled(6.0))
    f = one(mesh, "hole")
    assert not can_move(mesh, f, Sizes(5.8))
    for d in (5.8, 6.2):
        made = carve(mesh, [moved_walls(mesh, f, Sizes(d))[0]], "Hole")
        assert made.volume == pytest.approx(drilled(d).volume(), abs=0.3) and check(made).sound
        assert one(made, "hole").diameter == pytest.approx(d, abs=2e-3)


def test_what_is_swept_is_what_the_volume_changes_by_on_parts_of_other_kernels() -> None:
    """Every feature of the fixtures that can be moved, both ways: sound, read back at its size, nothing else moved."""
    tried = wrong = 0
    for path in KERNELS[::2]:
        mesh = of_kernel(path)[0]
        features = find_features(mesh)
        for f in [f for f in features if f.kind in SIZED and f.diameter and f.form != "arc"][:6]:
            to = Sizes(f.diameter - 0.15, None if second_size(f) is None else second_size(f) - 0.2)
            if not can_move(mesh, f, to):
                continue
            made = resize(mesh, features, {f.id: to}).mesh
            moves = moves_of(mesh, f, to)
            assert made.volume - mesh.volume == pytest.approx(swept(mesh, f.faces, moves), rel=1e-6, abs=1e-6)
            still = np.ones(len(mesh.vertices), bool)
            still[moves.own] = False
            assert np.array_equal(made.vertices[still], mesh.vertices[still])
            tried += 1
            again = [g for g in find_features(made) if g.kind == f.kind and abs(g.diameter - to.across) < 3e-3]
            wrong += not again
    assert tried >= 15 and wrong <= 0.03 * tried


def test_a_wall_that_is_refused_does_not_stop_the_others() -> None:
    thin = PLATE - m3.Manifold.cylinder(20, 3, 3, 48).translate((30, 20, -5))
    thin -= m3.Manifold.cylinder(20, 3, 3, 48).translate((56.4, 20, -5))
    part = read_part(mesh_of(thin))
    holes = [f.id for f in part.features if f.kind == "hole"]
    mates = tuple(Mate(feature=h, hardware="rod 6 mm", fit="free") for h in holes)
    found, _ = corrections(part, mates, UP, ())
    made = apply_corrections(part, mates, found, UP, Recipe())
    assert len(made.changes) == 1 and len(made.refused) == 1 and check(made.mesh).sound
    name, why = made.refused[0]
    assert "wall" in why and {name, made.changes[0].feature} == set(holes)


def test_a_slot_is_corrected_in_both_its_sizes_for_the_printer() -> None:
    part = read_part(mesh_of(PLATE - pocket(slot(5.0, 18.0))))
    f = one(part.mesh, "slot")
    (c,), refused = corrections(part, (Mate(feature=f.id, hardware="M5", fit="medium"),), UP, ())
    assert not refused and c.target.size == 5.5
    # The travel, whole length less width, prints as it is drawn; the two shifts differ by shrink alone.
    travel = 13.0
    assert c.along_mm is not None and c.along_mm - c.to_mm == pytest.approx(travel, abs=0.1)
    made = apply_corrections(part, (Mate(feature=f.id, hardware="M5", fit="medium"),), (c,), UP, Recipe())
    assert made.changes[0].along == c.along_mm and not made.refused


@pytest.mark.parametrize("by", [0.2, -0.2])
def test_a_slot_along_an_arc_of_another_mesher_gets_another_width(by: float) -> None:
    path = next(p for p in KERNELS if p.stem.startswith("arcslot"))
    mesh = of_kernel(path)[0]
    f = next(g for g in find_features(mesh) if g.form == "arc")
    made = resize(mesh, find_features(mesh), {f.id: f.diameter + by}).mesh
    again = next(g for g in find_features(made) if g.form == "arc")
    assert again.diameter == pytest.approx(f.diameter + by, abs=1e-3) and check(made).sound


def arc_slot(across: float, radius: float = 20.0) -> m3.Manifold:
    """A plate with a slot along a quarter of a ring, 96 facets a turn, as tall as the plate."""
    turn = np.radians(np.linspace(20, 110, 25))
    line = shapely.LineString(np.stack([np.cos(turn), np.sin(turn)], axis=1) * radius)
    outer, inner = (np.stack([np.cos(turn), np.sin(turn)], axis=1) * (radius + s * across / 2) for s in (1, -1))
    sector = shapely.Polygon(np.concatenate([outer, inner[::-1]]))
    ends = [shapely.Point(p).buffer(across / 2, quad_segs=24) for p in (line.coords[0], line.coords[-1])]
    ends = [shapely.affinity.rotate(e, a, origin=e.centroid) for e, a in zip(ends, (20, 110), strict=True)]
    return m3.Manifold.cube((70, 70, 6)).translate((-35, -35, 0)) - pocket(shapely.union_all([sector, *ends]), -1, 7)


@pytest.mark.parametrize("by", [0.3, -0.3])
def test_a_slot_along_an_arc_gets_another_width(by: float) -> None:
    mesh = mesh_of(arc_slot(6.0))
    f = one(mesh, "slot")
    assert f.form == "arc" and f.span == pytest.approx(20.0, abs=1e-3)
    made = resize(mesh, find_features(mesh), {f.id: 6.0 + by}).mesh
    again = one(made, "slot")
    assert again.form == "arc" and again.diameter == pytest.approx(6.0 + by, abs=1e-3) and check(made).sound
    assert made.volume - mesh.volume == pytest.approx(arc_slot(6.0 + by).volume() - mesh.volume, rel=5e-3)


def across_block(d: float, other: float = 9.0) -> m3.Manifold:
    """A block with a bore along Z and a wider one across it."""
    bore = m3.Manifold.cylinder(60, d / 2, circular_segments=64).translate((0, 0, -30))
    wide = m3.Manifold.cylinder(60, other / 2, circular_segments=96).rotate((90, 0, 0)).translate((0, 30, 2))
    return m3.Manifold.cube((30, 30, 40), True) - bore - wide


@pytest.mark.parametrize("by", [0.3, -0.3])
def test_bores_that_cross_get_another_size_and_leave_each_other_open(by: float) -> None:
    """Equal to the solid drawn so, the sleeve left out where the other bore is."""
    mesh = mesh_of(across_block(6.0))
    part = read_part(mesh)
    f = next(g for g in part.features if g.kind == "hole" and abs(g.axis[2]) > 0.9)
    assert f.role == "crossing"
    made = carve(mesh, [moved_walls(mesh, f, Sizes(6.0 + by), part.features)[0]], f.title)
    assert made.volume == pytest.approx(across_block(6.0 + by).volume(), abs=0.05) and check(made).sound
    sizes = sorted(g.diameter for g in find_features(made) if g.kind == "hole")
    assert sizes == pytest.approx([6.0 + by, 9.0], abs=1e-3)


def crossed_peg(d: float) -> m3.Manifold:
    """A peg on a plate with a hole across it."""
    peg = m3.Manifold.cylinder(20, d / 2, circular_segments=96).translate((0, 0, 4))
    bore = m3.Manifold.cylinder(60, 2.5, circular_segments=48).rotate((90, 0, 0)).translate((0, 30, 14))
    return m3.Manifold.cube((40, 40, 5), True).translate((0, 0, 2.5)) + peg - bore


@pytest.mark.parametrize("by", [0.3, -0.3])
def test_a_peg_with_a_hole_across_it_gets_another_size(by: float) -> None:
    mesh = mesh_of(crossed_peg(14.0))
    part = read_part(mesh)
    f = next(g for g in part.features if g.kind == "pin")
    made = carve(mesh, [moved_walls(mesh, f, Sizes(14.0 + by), part.features)[0]], f.title)
    assert made.volume == pytest.approx(crossed_peg(14.0 + by).volume(), abs=0.1) and check(made).sound
    found = {g.kind: g.diameter for g in find_features(made) if g.kind in ("hole", "pin")}
    assert found == pytest.approx({"pin": 14.0 + by, "hole": 5.0}, abs=1e-3)


def test_a_wall_beside_a_leaning_mouth_is_not_thin_for_its_edge() -> None:
    """A bore square to the foot of a block whose top leans by 35 degrees, 10 mm from any side."""
    block = m3.Manifold.cube((40, 40, 30)) - m3.Manifold.cube((90, 90, 60)).rotate((0, 35, 0)).translate(
        (0.3, -20, 28.2)
    )
    mesh = mesh_of(block - m3.Manifold.cylinder(60, 3, circular_segments=64).translate((16, 20, -10)))
    part = read_part(mesh)
    f = one(mesh, "hole")
    mates = (Mate(feature=f.id, hardware="rod 6 mm", fit="free"),)
    found, _ = corrections(part, mates, UP, ())
    made = apply_corrections(part, mates, found, UP, Recipe())
    assert not made.refused and len(made.changes) == 1 and check(made.mesh).sound


def test_a_tilted_countersunk_hole_of_another_kernel_is_a_hole_after_it_was_widened() -> None:
    """Its facets lean from the corners of one mouth to those of the other; cut on at new mouths they were no round."""
    with np.load(Path(__file__).parent / "files" / "tilted-bracket.npz") as z:
        part = read_part(Mesh(z["vertices"], z["faces"].astype(np.int64)))
    holes = [f for f in part.features if f.kind == "hole" and not f.form]
    assert [round(f.diameter, 3) for f in holes] == [5.2, 5.2] and all(0.9 < f.axis[2] < 0.97 for f in holes)
    work = Cutting(part.mesh, part.features, (0.0, 0.0, 1.0), Recipe(), 0.0)
    for by in (0.56, -0.3):
        to = Sizes(5.2 + by)
        made, (change,) = carved(part.mesh, holes[0], to, work.steps(holes[0], None, to), Recipe())
        assert change.volume_found == pytest.approx(change.volume_predicted, rel=0.02)
        sizes = sorted(f.diameter for f in find_features(made) if f.kind == "hole" and not f.form)
        assert sizes == pytest.approx(sorted((5.2, 5.2 + by)), abs=1e-3)
