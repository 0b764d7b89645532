"""The engine against independent computations: booleans for moments, Gauss sums for bricks, eigenvalues for ratings."""

import manifold3d as m3
import numpy as np
import pytest
from conftest import box, mesh_of
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from knollside.core.material.allowables import allowables, combine
from knollside.core.material.cards import MATERIALS, material
from knollside.core.model import LoadCase, Mesh, Range, Surroundings
from knollside.core.strength import recover
from knollside.core.strength.element import WHOLE, Brick, isotropic, layered
from knollside.core.strength.grid import CORNERS, Grid, make_grid, number_cells
from knollside.core.strength.moments import cell_moments
from knollside.core.strength.multigrid import Operator
from knollside.core.strength.rating import _bounds, point_index, sphere
from knollside.core.strength.spots import locate, sample_faces

E, NU = 2000.0, 0.35


def gauss(n: int) -> tuple[np.ndarray, np.ndarray]:
    x, w = np.polynomial.legendre.leggauss(n)
    at = np.array([[a, b, c] for a in x for b in x for c in x])
    return at, np.array([a * b * c for a in w for b in w for c in w])


def strains(size: np.ndarray, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Strain rows of the eight corners (6, 24) and of the nine modes (6, 9), written out by hand."""
    s = 2.0 * CORNERS - 1
    gradient = np.empty((8, 3))
    for a in range(8):
        for d in range(3):
            e, f = [k for k in range(3) if k != d]
            gradient[a, d] = s[a, d] * (1 + s[a, e] * at[e]) * (1 + s[a, f] * at[f]) / 8 * 2 / size[d]
    modes = np.diag(-2 * at * 2 / size)
    out = []
    for g in (gradient, modes):
        b = np.zeros((6, 3 * len(g)))
        for a, (x, y, z) in enumerate(g):
            b[:, 3 * a : 3 * a + 3] = [[x, 0, 0], [0, y, 0], [0, 0, z], [0, z, y], [z, 0, x], [y, x, 0]]
        out.append(b)
    return out[0], out[1]


@pytest.mark.parametrize("kind", ["isotropic", "layered"])
def test_a_brick_is_the_gauss_sum_with_its_modes_condensed(kind: str) -> None:
    size = np.array([1.2, 0.7, 0.9])
    c = isotropic(E, NU) if kind == "isotropic" else layered(E, NU, 0.8, np.array([1.0, 1.0, 0.5]))
    at, weight = gauss(3)
    full = np.zeros((33, 33))
    for x, w in zip(at, weight):
        b = np.hstack(strains(size, x))
        full += w * b.T @ c @ b * size.prod() / 8
    k = full[:24, :24] - full[:24, 24:] @ np.linalg.solve(full[24:, 24:], full[24:, :24])
    assert Brick(size, c).stiffness == pytest.approx(k, abs=1e-6 * np.abs(k).max())


def test_a_half_filled_brick_is_the_gauss_sum_over_its_half() -> None:
    """Filled for x < 0.2: Gauss points mapped onto that part, the modes taken about their mean there."""
    size, c, edge = np.array([1.0, 1.3, 0.8]), isotropic(E, NU), 0.2
    at, weight = gauss(4)
    at = at.copy()
    at[:, 0] = -1 + (at[:, 0] + 1) / 2 * (edge + 1)
    weight = weight * (edge + 1) / 2
    rows = [strains(size, x) for x in at]
    mean = sum(w * m for w, (_, m) in zip(weight, rows)) / weight.sum()
    full = np.zeros((33, 33))
    for w, (u, m) in zip(weight, rows):
        b = np.hstack([u, m - mean])
        full += w * b.T @ c @ b * size.prod() / 8
    k = full[:24, :24] - full[:24, 24:] @ np.linalg.solve(full[24:, 24:], full[24:, :24])
    powers = [
        np.array([(x**a * y**b * z**d) for x, y, z in at]) @ weight / 8
        for a in range(3)
        for b in range(3)
        for d in range(3)
    ]
    got = Brick(size, c).condense(np.array([powers])).stiffness[0]
    assert got == pytest.approx(k, abs=1e-5 * np.abs(k).max())


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_moments_are_those_of_the_cells_cut_by_an_exact_boolean(seed: int) -> None:
    """Volume and centroid of each cell's filled part against a boolean of the solid with the cell."""
    rng = np.random.default_rng(seed)
    turn = tuple(rng.uniform(0, 90, 3))
    solid = (
        m3.Manifold.cube((5, 4, 3)) - m3.Manifold.cylinder(9, 1.1, circular_segments=24).translate((2, 2, -2))
    ).rotate(turn)
    mesh = mesh_of(solid)
    low = mesh.bounds[0] - 0.3
    shape = tuple(int(n) for n in np.ceil((mesh.bounds[1] - low) / 1.0) + 1)
    fill, places, moments = cell_moments(mesh, low, np.ones(3), shape)
    assert fill.sum() == pytest.approx(mesh.volume, rel=1e-6)
    for i in rng.choice(len(places), 25, replace=False):
        corner = low + places[i]
        piece = solid ^ m3.Manifold.cube((1, 1, 1)).translate(tuple(corner))
        m = moments[i].reshape(3, 3, 3)
        assert m[0, 0, 0] == pytest.approx(piece.volume(), abs=2e-5)
        if piece.volume() < 1e-3:
            continue
        part = mesh_of(piece)
        t = part.triangles - corner
        six = np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2]))
        centroid = (t.sum(axis=1) * six[:, None]).sum(axis=0) / (4 * six.sum())
        got = np.array([m[1, 0, 0], m[0, 1, 0], m[0, 0, 1]]) / m[0, 0, 0]
        assert (got + 1) / 2 == pytest.approx(centroid, abs=3e-4)


def test_the_operator_with_cut_cells_is_the_assembled_matrix() -> None:
    """Stencils, strands and shared rows against a dense assembly of the same cells."""
    mesh = mesh_of(m3.Manifold.cylinder(6, 3.2, circular_segments=40).rotate((20, 10, 0)))
    grid = make_grid(mesh, 1.0)
    brick = Brick(grid.size, isotropic(E, NU))
    rng = np.random.default_rng(4)
    scale = np.where(grid.centres[:, 2] > 2, 1.0, 0.3)
    held = {int(c): np.eye(24) * 300.0 for c in rng.choice(len(grid.cells), 9, replace=False)}
    operator = Operator(brick, scale, grid.cells, grid.nodes, grid.cut, grid.moments, held)
    each = np.repeat(brick.stiffness[None], len(grid.cells), axis=0)
    each[grid.cut] = brick.condense(grid.moments).stiffness
    n = 3 * len(grid.points)
    full = np.zeros((n, n))
    dof = (3 * grid.nodes[:, :, None] + np.arange(3)).reshape(-1, 24)
    for c, d in enumerate(dof):
        full[np.ix_(d, d)] += scale[c] * each[c] + held.get(c, np.zeros((24, 24)))
    v = rng.standard_normal(n)
    assert operator.apply(v) == pytest.approx(full @ v, rel=1e-9, abs=1e-6)
    u, rounds = operator.solve(v, 1e-9)
    assert full @ u == pytest.approx(v, abs=1e-6) and rounds < 60


def loaded(mesh: Mesh, cell: float, ends: np.ndarray, traction) -> tuple[Grid, recover.Samples, np.ndarray]:  # type: ignore[no-untyped-def]
    """A free body under balanced tractions, its free motions stopped by springs too soft to matter."""
    grid = make_grid(mesh, cell)
    brick = Brick(grid.size, isotropic(E, NU))
    at_surface = sample_faces(mesh, ends, 0.35 * cell)
    at, weight = locate(grid, at_surface)
    force = traction(at_surface.points, at_surface.normals) * at_surface.area[:, None]
    f = np.zeros((len(grid.points), 3))
    for a in range(8):
        np.add.at(f, grid.nodes[at, a], weight[:, a, None] * force)
    soft = {int(c): np.eye(24) * 1e-6 * E for c in range(0, len(grid.cells), 7)}
    even = np.ones(len(grid.cells))
    u, _ = Operator(brick, even, grid.cells, grid.nodes, grid.cut, grid.moments, soft).solve(f.ravel(), 1e-8)
    return grid, recover.sample_stress(grid, brick, u[None]), u


def tensor(s: np.ndarray) -> np.ndarray:
    return np.array([[s[0], s[5], s[4]], [s[5], s[1], s[3]], [s[4], s[3], s[2]]])


@pytest.mark.parametrize("turn", [(0, 0, 0), (20, 35, 10)])
def test_hole_stress_at_any_tilt_with_eight_cells_a_radius(turn: tuple[float, float, float]) -> None:
    width, d, length, thick = 50.0, 10.0, 110.0, 2.5
    solid = m3.Manifold.cube((length, width, thick)).translate((-length / 2, -width / 2, -thick / 2))
    solid -= m3.Manifold.cylinder(20, d / 2, circular_segments=128).translate((0, 0, -10))
    mesh = mesh_of(solid.rotate(turn))
    x, y, _ = Rotation.from_euler("xyz", turn, degrees=True).as_matrix().T
    ends = np.flatnonzero(np.abs(np.abs(mesh.triangles.mean(axis=1) @ x) - length / 2) < 1e-3)
    grid, samples, _ = loaded(mesh, d / 16, ends, lambda p, n: n)
    points = np.array([d / 2 * y, -d / 2 * y])
    got = [x @ tensor(s) @ x for s in recover.stress_at(grid, samples, points, grid.filled)[0]]
    kt = (2 + (1 - d / width) ** 3) * width / (width - d)
    assert np.mean(got) == pytest.approx(kt, rel=0.05)


def test_a_slanted_bar_in_pure_bending_keeps_stress_and_curvature() -> None:
    length, side, turn = 110.0, 10.0, (17, 31, 0)
    mesh = mesh_of(m3.Manifold.cube((length, side, side)).translate((-length / 2, -side / 2, -side / 2)).rotate(turn))
    x, _, z = Rotation.from_euler("xyz", turn, degrees=True).as_matrix().T
    ends = np.flatnonzero(np.abs(np.abs(mesh.triangles.mean(axis=1) @ x) - length / 2) < 1e-3)
    grid, samples, u = loaded(mesh, side / 8, ends, lambda p, n: n * ((p @ z) / (side / 2))[:, None])
    top = np.array([a * x + side / 2 * z for a in np.linspace(-25, 25, 9)])
    got = np.array([x @ tensor(s) @ x for s in recover.stress_at(grid, samples, top, grid.filled)[0]])
    assert got == pytest.approx(np.ones(9), abs=0.05)
    p = grid.points
    near = np.abs(p @ x) < 40
    terms = np.c_[np.ones(near.sum()), p[near] @ x, (p[near] @ x) ** 2, p[near] @ z, (p[near] @ z) ** 2]
    curve = 2 * np.linalg.lstsq(terms, u.reshape(-1, 3)[near] @ z, rcond=None)[0][2]
    assert abs(curve) == pytest.approx(2 / (side * E), rel=0.05)


stresses = st.lists(st.floats(-50, 50), min_size=6, max_size=6).map(np.array)
angles = st.tuples(st.floats(0.01, 3.13), st.floats(0, 6.28))


@given(stresses, angles)
@settings(max_examples=150, deadline=None)
def test_a_rating_is_tractions_and_eigenvalues_and_never_over_its_bound(
    s: np.ndarray, angle: tuple[float, float]
) -> None:
    n = np.array([np.sin(angle[0]) * np.cos(angle[1]), np.sin(angle[0]) * np.sin(angle[1]), np.cos(angle[0])])
    zt, zs, xt, xc, y = 20.0, 12.0, 40.0, 45.0, 40.0
    part, inside, _, _ = point_index(s, *n, zt, zs, xt, xc, y)
    m = tensor(s)
    t = m @ n
    pull = float(n @ t)
    shear = float(np.linalg.norm(t - pull * n))
    assert part == pytest.approx(np.hypot(max(pull, 0) / zt, shear / zs), abs=1e-9)
    frame = np.linalg.svd(n[None])[2][1:]
    flat = np.linalg.eigvalsh(frame @ m @ frame.T)
    e = np.linalg.eigvalsh(m)
    mises = np.sqrt(0.5 * ((e[0] - e[1]) ** 2 + (e[1] - e[2]) ** 2 + (e[2] - e[0]) ** 2))
    assert inside == pytest.approx(max(flat[1] / xt, -flat[0] / xc, mises / y), rel=1e-6, abs=1e-7)
    bound = np.empty(1)
    _bounds(s[None].astype(float), zt, zs, xt, xc, y, bound)
    assert max(part, inside) <= bound[0] * (1 + 1e-9) + 1e-12


def test_the_sphere_is_even_and_the_whole_cell_has_its_moments() -> None:
    d = sphere(1000)
    assert np.linalg.norm(d, axis=1) == pytest.approx(np.ones(1000))
    assert np.abs(d.mean(axis=0)).max() < 2e-3
    assert d.T @ d / 1000 == pytest.approx(np.eye(3) / 3, abs=2e-3)
    assert WHOLE.reshape(3, 3, 3)[2, 0, 2] == pytest.approx(1 / 9) and WHOLE.reshape(3, 3, 3)[1, 0, 0] == 0


def test_doubts_combine_as_independent_logarithms_do() -> None:
    """The quoted range against 200,000 seeded draws of the product."""
    parts = [Range(45, 40, 50.6), Range(0.6, 0.5, 0.72), Range(0.8, 0.7, 0.914)]
    rng = np.random.default_rng(3)
    draws = np.ones(200_000)
    for p in parts:
        draws *= np.exp(rng.normal(np.log(p.value), np.log(p.high / p.value) / 1.645, len(draws)))
    middle, low, high = combine(parts)
    assert middle == pytest.approx(np.median(draws), rel=0.01)
    assert middle * high == pytest.approx(np.quantile(draws, 0.95), rel=0.02)
    assert middle * low == pytest.approx(np.quantile(draws, 0.05), rel=0.02)


@pytest.mark.parametrize("name", list(MATERIALS))
def test_every_material_has_limits_that_fall_with_each_tread(name: str) -> None:
    card = material(name)
    quiet = LoadCase(name="x", loads=())
    plain = allowables(card, Surroundings(), quiet)
    assert plain.tension == card.pull.value and plain.interlayer == pytest.approx(card.pull.value * card.bond.value)
    assert (
        plain.shear == pytest.approx(plain.interlayer / np.sqrt(3))
        and plain.interlayer_spread[0] < plain.in_plane_spread[0] < 1
    )
    for change in ({"permanent": True}, {"repeated": True}, {"knocked": True}):
        less = allowables(card, Surroundings(), quiet.model_copy(update=change))
        assert less.tension < plain.tension and less.interlayer / less.tension == pytest.approx(
            plain.interlayer / plain.tension
        )
    warm = allowables(card, Surroundings(temperature_c=(25 + card.softens) / 2), quiet)
    assert 0 < warm.tension < plain.tension and warm.in_plane_spread[0] < plain.in_plane_spread[0]
    assert 0 < card.snap.low < card.snap.value < card.snap.high


def test_cells_are_numbered_and_shared_as_the_lattice_says() -> None:
    fill = np.ones((2, 3, 1))
    fill[1, 2, 0] = 0
    g = number_cells(np.zeros(3), np.ones(3), fill, fill > 0)
    assert len(g.cells) == 5 and g.nodes.shape == (5, 8) and len(g.points) == 2 * 11
    for c, place in enumerate(g.cells):
        assert g.points[g.nodes[c]] == pytest.approx(place + CORNERS)
    assert g.centres[0] == pytest.approx([0.5, 0.5, 0.5]) and len(g.cut) == 0


@given(st.floats(0.2, 4.0), st.floats(0.1, 5.0))
@settings(max_examples=30, deadline=None)
def test_sample_points_keep_area_and_first_moment(spacing: float, stretch: float) -> None:
    mesh = box(3 * stretch, 2.0, 1.0)
    at_surface = sample_faces(mesh, np.arange(len(mesh.faces)), spacing)
    assert at_surface.area.sum() == pytest.approx(mesh.areas.sum())
    middle = (at_surface.points * at_surface.area[:, None]).sum(axis=0) / at_surface.area.sum()
    exact = (mesh.triangles.mean(axis=1) * mesh.areas[:, None]).sum(axis=0) / mesh.areas.sum()
    assert middle == pytest.approx(exact, abs=1e-9)
