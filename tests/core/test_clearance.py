"""Distances between bodies, gaps of what is printed in place, and scaling that keeps sizes and gaps."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
from conftest import DEMO, box, mesh_of
from hypothesis import given, settings
from hypothesis import strategies as st

from knollside.core.fit.clearance import freedom, gaps, split_bodies
from knollside.core.fit.flaring import TYPICAL as FLARE
from knollside.core.fit.freeing import TYPICAL as FREES
from knollside.core.fit.process import process_of
from knollside.core.fit.scaling import plain_gaps, scale_keeping
from knollside.core.mesh.check import check
from knollside.core.mesh.distance import shortest
from knollside.core.mesh.facing import move_faces
from knollside.core.mesh.features import find_features
from knollside.core.mesh.flare import take_flare_off
from knollside.core.mesh.load import load_file
from knollside.core.model import Measurement, Mesh, Recipe, Refused

Solid = m3.Manifold
UP = (0.0, 0.0, 1.0)
R = Recipe(layer_height=0.2)


def slab(x0: float, x1: float, y0: float, y1: float, z0: float, z1: float) -> m3.Manifold:
    return Solid.cube((x1 - x0, y1 - y0, z1 - z0)).translate((x0, y0, z0))


def two(a: m3.Manifold, b: m3.Manifold) -> Mesh:
    return mesh_of(Solid.compose([a, b]))


@settings(max_examples=25, deadline=None)
@given(st.tuples(st.floats(25, 40), st.floats(-30, 30), st.floats(-30, 30)), st.integers(0, 359))
def test_distance_of_two_turned_boxes_is_that_of_their_supports(at: tuple[float, float, float], turn: int) -> None:
    a = box(10, 10, 10)
    b = mesh_of(Solid.cube((8, 6, 4), True).rotate((turn, 2 * turn, 33)).translate(at))
    found = shortest(a, b)
    # By projecting one corner onto the other: alternating projections of convex bodies (Cheney and Goldstein 1959).
    corner = b.vertices
    best = np.inf
    p = np.clip(corner.mean(axis=0), 0, 10)
    from scipy.optimize import nnls

    for _ in range(200):
        # Nearest point of the hull of b to p, by non-negative least squares with the weights summing to one.
        weight, _ = nnls(np.vstack([corner.T - p[:, None], 1e4 * np.ones(len(corner))]), np.r_[0, 0, 0, 1e4])
        q = corner.T @ weight
        p = np.clip(q, 0, 10)
        best = min(best, float(np.linalg.norm(p - q)))
    assert found.distance == pytest.approx(best, abs=2e-3)
    assert np.linalg.norm(found.at[0] - found.at[1]) == pytest.approx(found.distance, abs=1e-9)


def test_distance_of_every_triangle_stops_at_the_reach() -> None:
    a, b = box(10, 10, 1), mesh_of(Solid.cube((10, 10, 1)).translate((0, 0, 3)))
    found = shortest(a, b, reach=2.5)
    top = a.normals[:, 2] > 0.9
    assert found.distance == pytest.approx(2.0) and np.allclose(found.each[top], 2.0)
    assert np.isinf(found.each[a.normals[:, 2] < -0.9]).all()
    assert shortest(a, a).distance == 0.0


def test_a_gap_is_told_in_the_layer_and_across_it() -> None:
    """A peg in a well: 0.5 mm at its sides, 0.6 mm (three layers) under its foot, 0.4 mm at the brim's first layers."""
    well = slab(0, 30, 0, 30, 0, 20) - slab(10, 20, 10, 20, 5, 21)
    peg = slab(10.5, 19.5, 10.5, 19.5, 5.6, 30)
    (g,) = gaps(two(well, peg), UP, R)
    assert g.smallest == pytest.approx(0.5) and g.anywhere.in_layer == pytest.approx(0.5, abs=1e-6)
    assert g.anywhere.across.layers == 3 and g.anywhere.lowest is None
    assert g.anywhere.across.drawn == pytest.approx(0.6) and g.anywhere.across.starts == pytest.approx(5.0)
    # Laid on its side what was across is in the layer, and the other way round.
    (side,) = gaps(two(well, peg), (1.0, 0.0, 0.0), R)
    # 0.5 mm from a layer's border: its second layer's middle is at the very edge, and may be laid.
    assert side.anywhere.in_layer == pytest.approx(0.5, abs=1e-6) and side.anywhere.across.layers == 2
    apart = two(slab(0, 5, 0, 5, 0, 5), slab(20, 25, 0, 5, 0, 5))
    assert gaps(apart, UP, R) == ()
    (none,) = gaps(two(slab(0, 5, 0, 5, 0, 5), slab(6, 11, 0, 5, 0, 5)), UP, R)
    assert none.anywhere.across is None and none.anywhere.lowest == pytest.approx(1.0)
    assert none.at[0] == pytest.approx(5.5) and 0 <= none.at[1] <= 5  # half-way between them


def side_of(readings):  # type: ignore[no-untyped-def]
    """What a side of a gap prints at, less what is drawn, and its source."""
    upright = process_of(readings, "upright")
    return upright.gap(5.0, 5.0).scaled(0.5), upright.shift("hole").source


def test_narrow_gaps_weld_wide_ones_rattle_and_flare_closes_the_lowest() -> None:
    side = side_of(())

    def of(gap: float, low: float = 5.0):  # type: ignore[no-untyped-def]
        (g,) = gaps(two(slab(0, 9, 0, 9, low, low + 9), slab(9 + gap, 20, 0, 9, 0, 20)), UP, R)
        return freedom(g, *side, *FREES.values(), FLARE)

    tight, right, wide = of(0.15), of(0.5), of(0.9)
    assert tight.welds > 0.9 and right.turns > 0.75 and wide.rattles > 0.9
    for f in (tight, right, wide):
        assert f.welds + f.turns + f.rattles == pytest.approx(1.0, abs=1e-9)
    shrink = -side[0].mean
    assert right.printed.value == pytest.approx(0.5 - shrink) and "open it" in tight.cure and "close it" in wide.cure
    flared = of(0.5, low=0.0)
    assert flared.welds > right.welds and "flare" in flared.why
    assert f"leave about {0.5 - shrink - 2 * FLARE.value:.2f} mm" in flared.why
    # Own readings take the place of typical shifts and narrow the doubt.
    own = [Measurement(kind="hole", axis="upright", drawn=5, printed=4.9) for _ in range(8)]
    own += [Measurement(kind="pin", axis="upright", drawn=5, printed=5.0) for _ in range(8)]
    mine = freedom(right.gap, *side_of(own), *FREES.values(), FLARE)
    assert mine.printed.value > right.printed.value and mine.printed.source.startswith("yours")


def test_a_plate_over_another_by_one_layer_welds() -> None:
    side = side_of(())
    mesh = two(slab(0, 30, 0, 30, 0, 4), slab(5, 25, 5, 25, 4.0 + 0.001, 8))
    (g,) = gaps(mesh, UP, R)
    assert g.anywhere.across.layers == 0 and freedom(g, *side, *FREES.values(), FLARE).welds >= 0.9
    assert "layers" in freedom(g, *side, *FREES.values(), FLARE).cure


@pytest.mark.parametrize("by", [0.3, -0.3])
def test_moved_faces_of_a_box_make_the_exact_box(by: float) -> None:
    mesh = box(20, 12, 8)
    top = np.flatnonzero((mesh.normals[:, 2] > 0.9) | (mesh.normals[:, 0] > 0.9))
    moved = move_faces(mesh, top, by)
    assert moved.volume == pytest.approx((20 + by) * 12 * (8 + by), abs=1e-9)
    assert np.allclose(moved.bounds, [[0, 0, 0], [20 + by, 12, 8 + by]])


def test_a_moved_round_grows_all_round_and_a_cone_keeps_its_tip() -> None:
    rod = mesh_of(Solid.cylinder(10, 5, circular_segments=96))
    side = np.flatnonzero(np.abs(rod.normals[:, 2]) < 0.1)
    grown = move_faces(rod, side, 0.2)
    across = np.linalg.norm(grown.vertices[:, :2], axis=1)
    flat = np.cos(np.pi / 96)
    assert np.allclose(across, 5 + 0.2 / flat, atol=1e-6) and check(grown).sound
    cone = mesh_of(Solid.cylinder(6, 6, 0.01, circular_segments=96))
    slope = np.flatnonzero(np.abs(cone.normals[:, 2]) < 0.9)
    fat = move_faces(cone, slope, 0.3)
    # A 45 degree face moved square to itself lifts the tip by the square root of two of it.
    assert fat.bounds[1, 2] == pytest.approx(6 + 0.3 * np.sqrt(2), abs=0.02) and check(fat).sound


def test_the_hinge_grows_by_half_again_and_keeps_its_gap_and_its_holes() -> None:
    mesh = load_file(DEMO / "vent-hinge.stl").mesh
    features = find_features(mesh)
    holes = tuple(f.id for f in features if f.kind == "hole")
    made = scale_keeping(mesh, features, 1.6, holes, True)
    (before,), (after,) = plain_gaps(mesh), plain_gaps(made.mesh)
    assert after[1] == pytest.approx(before[1], abs=0.005)
    assert made.gaps[0].plain == pytest.approx(1.6 * before[1])
    assert np.allclose(made.mesh.size, 1.6 * mesh.size, atol=1.0)
    found = {f.id: f.diameter for f in find_features(made.mesh) if f.kind == "hole"}
    assert sorted(found.values()) == pytest.approx([4.5] * 4, abs=1e-3)
    assert check(made.mesh).sound and len(split_bodies(made.mesh)) == 2
    # The body that was not moved is scaled and nothing else, to the last bit.
    plain, only = scale_keeping(mesh, features, 1.6).mesh, scale_keeping(mesh, features, 1.6, (), True).mesh
    assert np.array_equal(split_bodies(plain)[0].vertices, split_bodies(only)[0].vertices)
    moved = (plain.vertices != only.vertices).any(axis=1)
    assert 0 < moved.sum() <= made.gaps[0].moved


def test_scaling_down_that_would_weld_and_bad_factors_are_refused() -> None:
    mesh = load_file(DEMO / "vent-hinge.stl").mesh
    features = find_features(mesh)
    with pytest.raises(Refused, match=r"nothing was changed|come out|would have to move"):
        scale_keeping(mesh, features, 0.3, (), True)
    smaller = scale_keeping(mesh, features, 0.5, (), True)
    assert (
        plain_gaps(smaller.mesh)[0][1] == pytest.approx(plain_gaps(mesh)[0][1], abs=1e-6) and check(smaller.mesh).sound
    )
    with pytest.raises(Refused, match=r"0\.1 to 10"):
        scale_keeping(mesh, features, 0.0)
    with pytest.raises(Refused, match="cannot be kept"):
        scale_keeping(mesh, features, 1.5, ("flat-1",))
    plain = scale_keeping(mesh, features, 0.7)
    assert np.allclose(plain.mesh.size, 0.7 * mesh.size) and plain.sizes == plain.gaps == ()


def test_a_nut_pocket_keeps_its_flats() -> None:
    mesh = load_file(DEMO / "m6-knob.stl").mesh
    features = find_features(mesh)
    made = scale_keeping(mesh, features, 1.3, ("hexagon-1", "hole-1"))
    found = {f.kind: f.diameter for f in find_features(made.mesh) if f.kind in ("hexagon", "hole")}
    drawn = {f.id: f.diameter for f in features}
    assert found["hexagon"] == pytest.approx(drawn["hexagon-1"], abs=1e-3)
    assert found["hole"] == pytest.approx(drawn["hole-1"], abs=1e-3)


def test_flare_is_taken_off_edges_and_mouths_and_nothing_else_moves() -> None:
    plate = mesh_of(slab(0, 40, 0, 30, 0, 8) - Solid.cylinder(20, 4, circular_segments=64).translate((12, 15, -5)))
    made = take_flare_off(plate, UP, 0.2, 0.4)
    ring = 40 * 30 - 39.6 * 29.6
    mouth = 32 * np.sin(2 * np.pi / 64) * ((4 + 0.2 / np.cos(np.pi / 64)) ** 2 - 16)
    assert made.found == pytest.approx(-0.4 * (ring + mouth), rel=1e-3) and made.predicted == pytest.approx(made.found)
    above = plate.vertices[plate.vertices[:, 2] > 1]
    kept = {v.tobytes() for v in made.mesh.vertices}
    assert all(v.tobytes() in kept for v in np.ascontiguousarray(above)) and check(made.mesh).sound
    # Lying another way it comes off that way's bed face.
    side = take_flare_off(plate, (1.0, 0.0, 0.0), 0.2, 0.4)
    assert side.found == pytest.approx(-0.4 * (30 * 8 - 29.6 * 7.6), rel=1e-3)
    digits = load_file(DEMO / "label-plate.stl").mesh
    relieved = take_flare_off(digits, UP, 0.15, 0.32).mesh
    raised = digits.vertices[digits.vertices[:, 2] > 2.5]
    kept = {v.tobytes() for v in relieved.vertices}
    assert all(v.tobytes() in kept for v in np.ascontiguousarray(raised))


def test_thin_feet_bad_sizes_and_open_meshes_keep_their_flare() -> None:
    blade = mesh_of(slab(0, 0.5, 0, 30, 0, 10))
    with pytest.raises(Refused, match="too thin"):
        take_flare_off(blade, UP, 0.2, 0.4)
    with pytest.raises(Refused, match="half of it"):
        take_flare_off(box(10, 10, 0.6), UP, 0.1, 0.4)
    with pytest.raises(Refused, match="is not one"):
        take_flare_off(box(10, 10, 10), UP, 0.0, 0.4)
