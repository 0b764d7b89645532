"""Gaps set, walls moved with their partners, and scaling that keeps walls or touches one body only."""

from __future__ import annotations

import math

import numpy as np
import pytest
from conftest import DEMO, mesh_of
from manifold3d import Manifold

from knollside.core.fit.clearance import freedom, gaps
from knollside.core.fit.flaring import TYPICAL as FLARE
from knollside.core.fit.freeing import TYPICAL as FREES
from knollside.core.fit.opening import set_gap, thicken, wall_behind
from knollside.core.fit.process import learn, process_of
from knollside.core.fit.scaling import plain_gaps, scale_keeping
from knollside.core.fit.threadfit import move_flanks, plan_thread
from knollside.core.mesh.check import check
from knollside.core.mesh.features import find_features
from knollside.core.mesh.helix import profile_of
from knollside.core.mesh.load import load_file
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Mesh, Recipe, Refused
from knollside.core.proof.couples import screw


def slab(x0: float, x1: float, y0: float, y1: float, z0: float, z1: float) -> Manifold:
    return Manifold.cube((x1 - x0, y1 - y0, z1 - z0)).translate((x0, y0, z0))


def cup_and_peg(gap: float = 0.3) -> Mesh:
    """A cup with 2 mm walls round a square peg, ``gap`` to every side of it."""
    cup = slab(0, 14, 0, 14, 0, 10) - slab(2, 12, 2, 12, 2, 11)
    return mesh_of(Manifold.compose([cup, slab(2 + gap, 12 - gap, 2 + gap, 12 - gap, 2 + gap, 14)]))


@pytest.mark.parametrize("to", [0.2, 0.45])
def test_a_gap_is_opened_by_moving_only_the_faces_that_look(to: float) -> None:
    mesh = cup_and_peg()
    made = set_gap(mesh, (0, 1), to)
    assert made.before == pytest.approx(0.3) and made.now == pytest.approx(to, abs=1e-9) and check(made.mesh).sound
    label = bodies_of(mesh)[1]
    cup = np.unique(mesh.faces[label == 0])
    assert np.array_equal(made.mesh.vertices[cup], mesh.vertices[cup])
    side = 10 - 2 * to
    assert Mesh(made.mesh.vertices, mesh.faces[label == 1]).volume == pytest.approx(side * side * (12 - to))


def test_the_hinges_gap_opens_to_what_the_printer_frees() -> None:
    hinge = load_file(DEMO / "vent-hinge.stl").mesh
    made = set_gap(hinge, (0, 1), 0.5)
    assert made.now == pytest.approx(0.5, abs=0.03) and check(made.mesh).sound
    assert made.mesh.volume < hinge.volume
    apart = mesh_of(Manifold.compose([slab(0, 5, 0, 5, 0, 5), slab(20, 25, 0, 5, 0, 5)]))
    with pytest.raises(Refused):
        set_gap(apart, (0, 1), 0.3, 0.3)


def test_touching_bodies_are_said_to_weld_and_are_not_opened() -> None:
    mesh = Mesh(*_beside(slab(0, 10, 0, 10, 0, 5), slab(10, 20, 0, 10, 0, 5)))
    (g,) = gaps(mesh, (0.0, 0.0, 1.0), Recipe())
    side = process_of((), "upright").gap(5.0, 5.0).scaled(0.5)
    assert g.smallest == pytest.approx(0, abs=1e-9)
    assert freedom(g, side, "typical", *FREES.values(), FLARE).welds > 0.95
    with pytest.raises(Refused, match="touch"):
        set_gap(mesh, (0, 1), 0.3)


def _beside(a: Manifold, b: Manifold):  # type: ignore[no-untyped-def]
    """Two solids with a face in common, each with corners of its own."""
    one, two = mesh_of(a), mesh_of(b)
    return np.vstack([one.vertices, two.vertices]), np.vstack([one.faces, two.faces + len(one.vertices)])


def flat_at(mesh: Mesh, axis: int, sign: int, at: float) -> str:
    return next(
        f.id
        for f in find_features(mesh)
        if f.kind == "flat" and f.axis[axis] * sign > 0.9 and abs(f.centre[axis] - at) < 0.01 and f.body == 0
    )


def test_a_wall_is_found_and_either_side_of_it_moves() -> None:
    mesh = cup_and_peg()
    found = find_features(mesh)
    inner = flat_at(mesh, 0, 1, 2.0)  # the cup's inner face at x = 2
    wall = wall_behind(mesh, found, inner)
    assert wall.thick == pytest.approx(2.0)
    out = thicken(mesh, found, wall, 0.45, "far", follow=False)
    assert out.volume == pytest.approx(0.45 * 14 * 10) and out.mesh.bounds[0, 0] == pytest.approx(-0.45)
    both = thicken(mesh, found, wall, 0.2, "both", follow=False)
    assert both.mesh.bounds[0, 0] == pytest.approx(-0.1) and len(both.moved) == 2
    # Inwards it would close the gap; the peg steps back by as much.
    alone, followed = (thicken(mesh, found, wall, 0.2, "near", follow=f) for f in (False, True))
    assert plain_gaps(alone.mesh)[0][1] == pytest.approx(0.1) and plain_gaps(followed.mesh)[0][1] == pytest.approx(0.3)
    assert followed.followed == 4 and "gives way" in followed.advice and check(followed.mesh).sound
    for by, words in ((9.0, "up to 5"), (-1.9, "none that prints")):
        with pytest.raises(Refused, match=words):
            thicken(mesh, found, wall, by, "far", follow=False)
    with pytest.raises(Refused, match="flat face"):
        wall_behind(mesh, found, "hole-9")


def test_scaling_keeps_a_wall_or_touches_one_body_only() -> None:
    mesh = cup_and_peg()
    found = find_features(mesh)
    inner = flat_at(mesh, 0, 1, 2.0)
    kept = scale_keeping(mesh, found, 1.5, walls=(inner,))
    assert kept.walls == (inner,) and kept.mesh.bounds[0, 0] == pytest.approx(7 - 7 * 1.5 + 1.0)
    one = scale_keeping(mesh, found, 0.98, only=1)
    label = bodies_of(mesh)[1]
    cup = np.unique(mesh.faces[label == 0])
    assert np.array_equal(one.mesh.vertices[cup], mesh.vertices[cup])
    peg = Mesh(one.mesh.vertices, mesh.faces[label == 1])
    assert peg.size == pytest.approx(np.array([9.4, 9.4, 11.7]) * 0.98)
    with pytest.raises(Refused, match="no body 3"):
        scale_keeping(mesh, found, 0.98, only=2)


def test_scaling_says_what_becomes_of_a_thread() -> None:
    nut = load_file(DEMO / "union-nut.stl").mesh
    made = scale_keeping(nut, find_features(nut), 1.2)
    (words,) = made.threads
    assert "fits no other thread" in words


def test_a_threads_flanks_move_by_what_the_fit_and_the_printer_need() -> None:
    major, pitch = 20.0, 2.5
    nut = mesh_of(
        Manifold.cube((30, 30, 12), True).translate((0, 0, 6)) - screw(major, pitch, 14).translate((0, 0, -1))
    )
    (f,) = [g for g in find_features(nut) if g.kind == "thread"]
    plan = plan_thread(f, (), allowance=0.1)
    shift = learn((), "hole", "upright", f.diameter)
    assert plan.for_printer == pytest.approx(-shift.value / 4) and plan.flank == pytest.approx(0.1 - shift.value / 4)
    made = move_flanks(nut, f, 0.1)
    # A flank leans by 30 degrees: it retreats by 0.1 / sin 30 along the radius; root and crest by 0.1.
    (g,) = [h for h in find_features(made.mesh) if h.kind == "thread"]
    before, after = profile_of(nut, f).radius, profile_of(made.mesh, g).radius
    for q, moved in ((5, 0.1), (95, 0.1), (50, 0.2)):
        assert np.percentile(after, q) - np.percentile(before, q) == pytest.approx(moved, abs=0.035)
    assert made.found == pytest.approx(made.predicted, rel=0.08) and check(made.mesh).sound
    outside = np.abs(nut.vertices[:, :2]).max(axis=1) > 14
    kept = {v.tobytes() for v in made.mesh.vertices}
    assert outside.sum() == 8 and all(v.tobytes() in kept for v in nut.vertices[outside])
    bolt = mesh_of(screw(major, pitch, 14) + Manifold.cylinder(4, 14, circular_segments=6).translate((0, 0, -4)))
    (g,) = [h for h in find_features(bolt) if h.kind == "thread"]
    less = move_flanks(bolt, g, 0.1)
    assert less.found == pytest.approx(-0.1 * bolt.areas[g.faces].sum(), rel=0.08) and check(less.mesh).sound
    for flank in (0.0, 0.9, -0.9):
        with pytest.raises(Refused):
            move_flanks(nut, f, flank)


def test_a_loose_thread_is_closed_and_a_tapered_start_stays_one() -> None:
    """Closed by 0.1 and opened again it is what it was; the cone at its end gains no collar."""
    cone = Manifold.cylinder(14, 14 + 8.2, 8.2, circular_segments=120)  # takes the thread's end down by 45 degrees
    bolt = mesh_of((screw(20.0, 2.5, 14) ^ cone) + Manifold.cylinder(4, 14, circular_segments=6).translate((0, 0, -4)))
    nut = mesh_of(Manifold.cube((30, 30, 12), True).translate((0, 0, 6)) - screw(20.0, 2.5, 14).translate((0, 0, -1)))
    for mesh, inside in ((bolt, False), (nut, True)):
        (f,) = [h for h in find_features(mesh) if h.kind == "thread"]
        assert f.inside is inside
        made = move_flanks(mesh, f, -0.1)
        assert made.found == pytest.approx(0.1 * mesh.areas[f.faces].sum(), rel=0.1) and check(made.mesh).sound
        (g,) = [h for h in find_features(made.mesh) if h.kind == "thread"]
        back = move_flanks(made.mesh, g, 0.1)
        assert back.mesh.volume == pytest.approx(mesh.volume, abs=0.12 * made.found)
        moved = [profile_of(m, h).radius for m, h in ((mesh, f), (made.mesh, g))]
        assert np.percentile(moved[1] - moved[0], 50) * (-1 if inside else 1) == pytest.approx(0.15, abs=0.06)
        if not inside:
            reach = np.hypot(made.mesh.vertices[:, 0], made.mesh.vertices[:, 1])
            at = made.mesh.vertices[:, 2]
            assert (reach[at > 9] - (22.2 - at[at > 9]) < 0.1 * math.sqrt(2) + 0.02).all()
