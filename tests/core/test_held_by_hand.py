"""Held and pushed places before any solve: points, weights, springs and forces against what statics says of them."""

from __future__ import annotations

import math
from types import SimpleNamespace

import manifold3d as m3
import numpy as np
import pytest
from conftest import box, mesh_of

from knollside.core.mesh.features import find_features
from knollside.core.model import (
    BearingLoad,
    DesignCase,
    EdgeFixture,
    Feature,
    FixedFixture,
    Fixture,
    ForceLoad,
    LoadCase,
    Mesh,
    PinFixture,
    PressureLoad,
    Refused,
    ScrewFixture,
    SlidingFixture,
    TorqueLoad,
    WallFixture,
)
from knollside.core.strength.conditions import (
    Constraint,
    constrain,
    moved,
    point_forces,
    refuse_if_loose,
    springs,
)
from knollside.core.strength.field import Medium, solve
from knollside.core.strength.grid import Grid, make_grid
from knollside.core.strength.loads import push
from knollside.core.strength.resultants import balance_by_stress
from knollside.core.strength.set_out import CellSize
from knollside.core.strength.spots import locate, sample_faces

E, CELL = 2000.0, 1.0


def plate() -> Mesh:
    hole = m3.Manifold.cylinder(20, 3, circular_segments=96).translate((12, 10, -5))
    return mesh_of((m3.Manifold.cube((40, 20, 6)) - hole).rotate((20, 0, 35)).translate((7, -3, 11)))


def feature(mesh: Mesh, kind: str, size: float = 0.0) -> Feature:
    return next(f for f in find_features(mesh) if f.kind == kind and f.area >= size)


def held(mesh: Mesh, f: Feature, fixture: Fixture) -> tuple[Grid, Constraint]:
    grid = make_grid(mesh, CELL)
    return grid, constrain(grid, mesh, f.faces, fixture, f)


@pytest.mark.parametrize("spacing", [0.3, 1.1, 50.0])
def test_points_of_a_face_keep_its_area_and_its_middle(spacing: float) -> None:
    mesh = plate()
    f = feature(mesh, "flat", 700)
    spots = sample_faces(mesh, f.faces, spacing)
    tri, area = mesh.triangles[f.faces], mesh.areas[f.faces]
    middle = (tri.mean(axis=1) * area[:, None]).sum(axis=0) / area.sum()
    assert spots.area.sum() == pytest.approx(area.sum())
    assert (spots.points * spots.area[:, None]).sum(axis=0) / area.sum() == pytest.approx(middle)
    assert np.allclose(spots.normals @ np.asarray(f.axis), 1.0)
    if spacing < 10:  # second moments of a fine spread come near the face's own, by the corners' formula
        own = sum(
            a / 12 * (np.einsum("ki,kj->ij", t - middle, t - middle) + 9 * np.outer(*(t.mean(axis=0) - middle,) * 2))
            for t, a in zip(tri, area, strict=True)
        )
        off = spots.points - middle
        assert np.einsum("ki,kj,k->ij", off, off, spots.area) == pytest.approx(own, rel=0.02, abs=0.02 * np.trace(own))


def test_weights_give_back_the_place_and_a_face_off_the_grid_is_refused() -> None:
    mesh = plate()
    grid = make_grid(mesh, CELL)
    spots = sample_faces(mesh, np.arange(len(mesh.faces)), 0.7)
    cell, weights = locate(grid, spots)
    assert weights.sum(axis=1) == pytest.approx(np.ones(len(weights)))
    back = np.einsum("sa,sad->sd", weights, grid.points[grid.nodes[cell]])
    assert np.abs(back - spots.points).max() < 0.75 * CELL and np.abs(back - spots.points).mean() < 0.02
    with pytest.raises(Refused, match="no material"):
        locate(grid, sample_faces(Mesh(mesh.vertices + 30.0, mesh.faces), np.arange(4), 1.0))


def energy(grid: Grid, h: Constraint, u: np.ndarray) -> float:
    """u' K u of the springs alone, over their stiffness a unit of area: 40 times the modulus over the cell."""
    total = 0.0
    for c, k in springs(grid, [h], E).items():
        mine = u[grid.nodes[c]].reshape(-1)
        total += float(mine @ k @ mine)
    return total / (40 * E / float(grid.size.min()))


@pytest.mark.parametrize("fixture", [FixedFixture(at=(0, 0, 0)), SlidingFixture(at=(0, 0, 0))])
def test_springs_bear_a_shift_by_their_area_and_a_turn_by_their_arm(fixture: Fixture) -> None:
    mesh = plate()
    f = feature(mesh, "flat", 700)
    grid, h = held(mesh, f, fixture)
    n, area = np.asarray(f.axis), float(mesh.areas[f.faces].sum())
    across = np.cross(n, (0.3, 0.5, 0.8))
    across /= np.linalg.norm(across)
    sliding = isinstance(fixture, SlidingFixture)
    for way, share in ((n, 1.0), (across, 0.0 if sliding else 1.0), ((n + across) / 2**0.5, 0.5 if sliding else 1.0)):
        u = np.tile(0.01 * way, (len(grid.points), 1))
        assert energy(grid, h, u) == pytest.approx(1e-4 * area * share, abs=1e-9)
        pull = point_forces(h, grid, u.reshape(-1), E)
        want = -40 * E / float(grid.size.min()) * area * 0.01 * (n * (way @ n) if sliding else way)
        assert pull.sum(axis=0) == pytest.approx(want, rel=1e-6, abs=1e-6 * 40 * E * area * 0.01)
    middle = (h.spots.points * h.spots.area[:, None]).sum(axis=0) / area
    u = np.cross(0.001 * across, grid.points - middle)
    there = np.cross(0.001 * across, h.spots.points - middle)
    assert np.abs(moved(grid, h, u.reshape(-1)) - there).max() < 1e-3 * 0.75 * CELL
    arm = ((there @ n) ** 2 if sliding else (there**2).sum(axis=1)) @ h.spots.area
    assert energy(grid, h, u) == pytest.approx(arm, rel=0.02)


def test_a_screws_head_presses_a_ring_on_both_sides_and_an_edge_is_a_strip() -> None:
    mesh = plate()
    hole, flat = feature(mesh, "hole"), feature(mesh, "flat", 700)
    ring = 96 / 2 * math.sin(2 * math.pi / 96) * 3**2
    for head, radius in ((None, 6.0), (8.0, 4.0)):
        grid, h = held(mesh, hole, ScrewFixture(feature=hole.id, head_mm=head))
        assert h.spots.area.sum() == pytest.approx(2 * (math.pi * radius**2 - ring), rel=0.04)
        off = h.spots.points - np.asarray(hole.centre)
        along = off @ np.asarray(hole.axis)
        away = np.linalg.norm(off - np.outer(along, hole.axis), axis=1)
        assert np.allclose(np.abs(along), 3.0, atol=1e-6) and away.max() <= radius and away.min() > 2.99
        assert (along > 0).mean() == pytest.approx(0.5, abs=0.02) and h.along is None
    for bad, who in ((ScrewFixture(feature="x"), flat), (PinFixture(feature="x"), flat)):
        with pytest.raises(Refused):
            held(mesh, who, bad)
    with pytest.raises(Refused, match="no wider"):
        held(mesh, hole, ScrewFixture(feature=hole.id, head_mm=5.9))
    assert held(mesh, hole, ScrewFixture(feature=hole.id, head_mm=24.0))[1].spots.area.sum() > 0
    with pytest.raises(Refused, match="too small for it"):
        held(mesh, hole, ScrewFixture(feature=hole.id, head_mm=60.0))
    off = np.array([50.0, -70.0, 20.0])
    square = Mesh(box(30, 20, 5).vertices + off, box(30, 20, 5).faces)
    top = next(f for f in find_features(square) if f.kind == "flat" and f.axis[2] > 0.9)
    for at, low, high in (((15, 1, 5), (0, 0, 5), (30, 0, 5)), ((29, 12, 5), (30, 0, 5), (30, 20, 5))):
        at, low, high = (np.add(p, off) for p in (at, low, high))
        grid, h = held(square, top, EdgeFixture(at=tuple(at)))
        length = float(np.linalg.norm(np.subtract(high, low)))
        assert h.spots.area.sum() == pytest.approx(length * float(grid.size.min()))
        assert h.spots.points.mean(axis=0) == pytest.approx(np.add(low, high) / 2)
        step = np.subtract(high, low) / length
        assert np.ptp(h.spots.points @ step) == pytest.approx(length, rel=0.03)
    _, pin = held(mesh, hole, PinFixture(feature=hole.id))
    assert pin.one_way and pin.along is not None and np.allclose(pin.along @ np.asarray(hole.axis), 0, atol=1e-9)


def test_what_is_left_free_is_named() -> None:
    mesh = box(30, 20, 10)
    grid = make_grid(mesh, CELL)
    flats = {tuple(np.round(f.axis).astype(int)): f for f in find_features(mesh) if f.kind == "flat"}

    def slides(*axes: tuple[int, int, int]) -> list[Constraint]:
        return [constrain(grid, mesh, flats[a].faces, SlidingFixture(at=(0, 0, 0)), flats[a]) for a in axes]

    refuse_if_loose(slides((1, 0, 0), (0, 1, 0), (0, 0, 1)), 30.0)
    for axes, words in (
        (((1, 0, 0), (0, 1, 0)), "slide along (0.00, 0.00, 1.00)"),
        (((0, 1, 0), (0, 0, 1)), "slide along (1.00, 0.00, 0.00)"),
    ):
        with pytest.raises(Refused) as told:
            refuse_if_loose(slides(*axes), 30.0)
        assert words in str(told.value)
    edge = constrain(grid, mesh, flats[0, 0, 1].faces, EdgeFixture(at=(15, 0, 10)), flats[0, 0, 1])
    with pytest.raises(Refused) as told:
        refuse_if_loose([edge], 30.0)
    assert "turn about the direction (1.00, 0.00, 0.00)" in str(told.value)


def test_every_load_keeps_its_force_its_moment_and_its_shape_on_the_grid() -> None:
    mesh = plate()
    hole, flat = feature(mesh, "hole"), feature(mesh, "flat", 700)
    grid = make_grid(mesh, CELL)
    n, area = np.asarray(flat.axis), float(mesh.areas[flat.faces].sum())

    def sums(load, f: Feature):  # type: ignore[no-untyped-def]
        nodal, spots, each = push(grid, mesh, f, f.faces, load)
        about = np.asarray(f.centre)
        p = nodal.reshape(-1, 3)
        assert p.sum(axis=0) == pytest.approx(each.sum(axis=0), abs=1e-9)
        return p.sum(axis=0), np.cross(grid.points - about, p).sum(axis=0), spots, each

    force, _, spots, each = sums(ForceLoad(at=(0, 0, 0), force_N=(3, -4, 12)), flat)
    assert force == pytest.approx((3, -4, 12)) and np.allclose(each / spots.area[:, None], np.array([3, -4, 12]) / area)
    force, *_ = sums(PressureLoad(at=(0, 0, 0), pressure_MPa=0.2), flat)
    assert force == pytest.approx(-0.2 * area * n)
    for axis in (None, tuple(np.cross(n, (1.0, 0.2, 0.1)))):
        force, moment, _, _ = sums(TorqueLoad(at=(0, 0, 0), torque_Nmm=500.0, axis=axis), flat)
        about = n if axis is None else np.asarray(axis) / np.linalg.norm(axis)
        assert force == pytest.approx(np.zeros(3), abs=1e-9) and moment @ about == pytest.approx(500.0, rel=5e-3)
    across = np.cross(np.asarray(hole.axis), (0.2, 0.9, 0.4))
    across *= 70 / np.linalg.norm(across)
    force, _, spots, each = sums(BearingLoad(at=(0, 0, 0), force_N=tuple(across)), hole)
    assert force == pytest.approx(across, rel=2e-3, abs=0.05)
    # Pressure by the cosine, its greatest 4 F / (pi d t): and none on the side the pin leaves.
    pressure = -np.einsum("ij,ij->i", each, spots.normals) / spots.area
    cosine = -(spots.normals @ across) / 70
    assert pressure == pytest.approx(np.maximum(cosine, 0) * 4 * 70 / (math.pi * 6 * 6), rel=5e-3, abs=1e-6)
    for bad, who in (
        (BearingLoad(at=(0, 0, 0), force_N=(0, 0, 1)), flat),
        (BearingLoad(at=(0, 0, 0), force_N=tuple(np.asarray(hole.axis))), hole),
    ):
        with pytest.raises(Refused):
            push(grid, mesh, who, who.faces, bad)


def test_stress_balances_the_force_through_any_cut_as_the_tensor_says() -> None:
    """Even stress of six parts: the force through a cut is n S n times its area, whichever way it is cut."""
    stress = np.array([3.0, -1.0, 2.0, 0.7, -1.3, 0.9])  # xx, yy, zz, yz, zx, xy
    tensor = np.array([[3.0, 0.9, -1.3], [0.9, -1.0, 0.7], [-1.3, 0.7, 2.0]])
    points = np.random.default_rng(1).uniform(0, 10, (40_000, 3))
    volume = np.ones(len(points))
    even = np.tile(stress, (1, len(points), 1))
    field = SimpleNamespace(points=points, normals=np.zeros_like(points), stress=even, cell=0.5, volume=volume)
    for n in (np.array([0.48, 0.6, 0.64]), np.array([0.0, -0.6, 0.8]), np.array([1.0, 0.0, 0.0])):
        base = float((points @ n).min())
        heights = np.linspace(0.05, 0.95, 12) * float(np.ptp(points @ n))
        through = float(n @ tensor @ n) * 50.0
        force = np.zeros((1, 12, 3))
        force[0, :, 2] = through
        sections = tuple(SimpleNamespace(area=50.0) for _ in heights)
        res = SimpleNamespace(heights=heights, base=base, force=force, sections=sections)
        assert balance_by_stress(res, None, field, n) < 1e-9  # type: ignore[arg-type]
        res.force[0, 5, 2] *= 1.1
        assert balance_by_stress(res, None, field, n) == pytest.approx(0.1 / 1.1, rel=1e-6)  # type: ignore[arg-type]


def test_a_strip_lifts_off_a_wall_as_beam_theory_says() -> None:
    """Pressed down by q and lifted by P at its end it leaves the wall over c = 2 P / q, by q c^4 / 24 E I at the tip:
    there moment, slope and deflection are nothing where it still lies."""
    length, wide, deep, lifted = 120.0, 6.0, 3.0, 60.0
    second = wide * deep**3 / 12
    q = 0.5 * 24 * 2000.0 * second / lifted**4
    strip = box(length, wide, deep)
    case = DesignCase(
        fixtures=(FixedFixture(at=(0, wide / 2, deep / 2)), WallFixture(at=(40, wide / 2, 0))),
        cases=(
            LoadCase(
                name="a",
                loads=(
                    PressureLoad(at=(40, wide / 2, deep), pressure_MPa=q / wide),
                    ForceLoad(at=(length, wide / 2, deep / 2), force_N=(0, 0, q * lifted / 2)),
                ),
            ),
        ),
    )
    found = solve(strip, find_features(strip), case, Medium(2000.0), CellSize(1.0), probes=np.array([[120, 3, 1.5]]))
    assert found.probed[0, 0, 2] == pytest.approx(0.5, rel=0.03)
    e = found.cases[0].external
    wall = e.holder == 1
    push = e.forces[wall][:, 2]
    assert -push[push < 0].sum() < 1e-3 * push.sum(), "a wall never pulls"
    acting = e.points[wall][np.linalg.norm(e.forces[wall], axis=1) > 1e-6]
    assert acting[:, 0].max() == pytest.approx(length - lifted, abs=deep)
    # Begun from where it acted on another grid it comes to the same.
    again = solve(
        strip,
        find_features(strip),
        case,
        Medium(2000.0),
        CellSize(1.0),
        probes=np.array([[120, 3, 1.5]]),
        before=solve(strip, find_features(strip), case, Medium(2000.0), CellSize(1.5)).cases,
    )
    assert again.probed[0, 0, 2] == pytest.approx(found.probed[0, 0, 2], rel=0.01)
    assert again.iterations < 0.6 * found.iterations


def test_what_lifts_off_the_wall_with_nothing_else_to_hold_it_is_refused() -> None:
    block = box(20, 20, 20)
    held = WallFixture(at=(10, 10, 0)), SlidingFixture(at=(0, 10, 10)), SlidingFixture(at=(10, 0, 10))
    for way, lifts in ((-10.0, False), (10.0, True)):
        case = DesignCase(
            fixtures=held, cases=(LoadCase(name="a", loads=(ForceLoad(at=(10, 10, 20), force_N=(0, 0, way)),)),)
        )
        at = block, find_features(block), case, Medium(2000.0), CellSize(1.0)
        if lifts:
            with pytest.raises(Refused, match="lifts off, and then can still slide along"):
                solve(*at)
        else:
            found = solve(*at)
            assert found.stress[0, ~found.excluded, 2].mean() == pytest.approx(-10 / 400, rel=0.02)
