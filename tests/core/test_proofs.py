"""Harder proofs of the stress field: holes, rings, torsion, hooks, sandwiches, and the shell in a solid."""

import manifold3d as m3
import numpy as np
import pytest
from conftest import box, mesh_of

from knollside.core.mesh.features import find_features
from knollside.core.model import DesignCase, ForceLoad, LoadCase, Mesh, Recipe, fixture_of
from knollside.core.strength import recover
from knollside.core.strength.element import Brick, isotropic, shape
from knollside.core.strength.field import Medium, solve
from knollside.core.strength.grid import CORNERS, Grid, make_grid
from knollside.core.strength.moments import cell_moments
from knollside.core.strength.multigrid import Operator
from knollside.core.strength.skin import Skin, cell_scale, skin_of

E = 2000.0


def design_case(
    held: list[tuple[float, float, float]], loads: list[tuple[tuple, tuple]], kind: str = "fixed"
) -> DesignCase:
    return DesignCase(
        fixtures=tuple(fixture_of({"at": h, "kind": kind}) for h in held),
        cases=(LoadCase(name="it", loads=tuple(ForceLoad(at=a, force_N=f) for a, f in loads)),),
    )


def operator_of(grid: Grid, element: Brick, scale: np.ndarray, held: dict[int, np.ndarray]) -> Operator:
    return Operator(element, scale, grid.cells, grid.nodes, grid.cut, grid.moments, held)


def run(mesh: Mesh, what: DesignCase, cells: int, **more):  # type: ignore[no-untyped-def]
    return solve(mesh, find_features(mesh), what, Medium(E, **more), cells)


def test_plate_with_a_hole_concentrates_stress_as_heywood_says() -> None:
    """Net-section Kt = 2 + (1 - d/W)^3 for a finite plate in tension; d/W 0.2."""
    width, d, thick, length = 50.0, 10.0, 2.0, 120.0
    plate = m3.Manifold.cube((length, width, thick)) - m3.Manifold.cylinder(20, d / 2, circular_segments=96).translate(
        (length / 2, width / 2, -5)
    )
    mesh = mesh_of(plate)
    net = 100.0 / ((width - d) * thick)
    field = run(mesh, design_case([(0, width / 2, thick / 2)], [((length, width / 2, thick / 2), (100, 0, 0))]), 60_000)
    # At the hole's side, half the critical distance inside, the stress has already fallen a little.
    radius = np.hypot(field.points[:, 0] - length / 2, field.points[:, 1] - width / 2)
    near = (np.abs(field.points[:, 0] - length / 2) < 0.8) & (np.abs(radius - d / 2 - 0.25) < 0.1)
    got = field.stress[0, near, 0].mean()
    kt = 2 + (1 - d / width) ** 3
    r = d / 2 + 0.25
    fall = (2 + (d / 2 / r) ** 2 + 3 * (d / 2 / r) ** 4) / 6  # Kirsch, along the net section
    assert got / net == pytest.approx(kt * fall, rel=0.08)


def test_a_round_bar_and_a_tube_twist_as_they_should() -> None:
    """Twist T L / (G J), torque put on as pairs of forces on four end blocks."""
    for inner in (0.0, 5.0):
        check_twist(inner)


def check_twist(inner: float) -> None:
    r, length = 8.0, 60.0
    solid = m3.Manifold.cylinder(length, r, circular_segments=96)
    if inner:
        solid -= m3.Manifold.cylinder(length + 2, inner, circular_segments=96).translate((0, 0, -1))
    ears = m3.Manifold.cube((40, 6, 6)).translate((-20, -3, length - 6)) - m3.Manifold.cylinder(
        length + 2, max(inner, 0.01), circular_segments=96
    )
    mesh = mesh_of(solid + ears)
    torque = 2 * 20 * 25.0
    what = design_case(
        [(0, (r + inner) / 2, 0)], [((20, 0, length - 3), (0, 25, 0)), ((-20, 0, length - 3), (0, -25, 0))]
    )
    field = run(mesh, what, 60_000)
    j = np.pi / 2 * (r**4 - inner**4)
    g = E / 2.7

    def twist(z: float) -> float:
        at = np.abs(field.grid_points[:, 2] - z) < 0.55 * field.cell
        p, u = field.grid_points[at], field.cases[0].displacement[at]
        on = np.hypot(p[:, 0], p[:, 1]) <= r
        p, u = p[on], u[on]
        return float((p[:, 0] * u[:, 1] - p[:, 1] * u[:, 0]).sum() / (p[:, 0] ** 2 + p[:, 1] ** 2).sum())

    low, high = 12.0, 42.0
    zs = np.unique(field.grid_points[:, 2])
    low, high = zs[np.argmin(np.abs(zs - low))], zs[np.argmin(np.abs(zs - high))]
    assert twist(high) - twist(low) == pytest.approx(torque * (high - low) / (g * j), rel=0.05)


def test_a_curved_hook_follows_winkler_bach() -> None:
    """Square-section half ring pulled open: inner-fibre stress of curved-beam theory."""
    inner, depth, wide = 20.0, 10.0, 10.0
    ring = m3.Manifold.cylinder(wide, inner + depth, circular_segments=160) - m3.Manifold.cylinder(
        wide + 2, inner, circular_segments=160
    ).translate((0, 0, -1))
    half = ring - m3.Manifold.cube((100, 100, 40)).translate((-50, -100, -10))
    legs = m3.Manifold.cube((depth, 25, wide))
    solid = half + legs.translate((inner, -25, 0)) + legs.translate((-inner - depth, -25, 0))
    mesh = mesh_of(solid)
    pull = 20.0
    what = design_case([(inner + depth / 2, -25, wide / 2)], [((-inner - depth / 2, -25, wide / 2), (-pull, 0, 0))])
    field = run(mesh, what, 60_000)
    # At the crown the section carries the pull and its moment about the section's centroid.
    centroid = inner + depth / 2
    neutral = depth / np.log((inner + depth) / inner)
    moment = pull * (25 + centroid)
    shift = centroid - neutral
    fibre = inner + 0.25
    expected = moment * (neutral - fibre) / (wide * depth * shift * fibre) + pull / (wide * depth)
    near = np.linalg.norm(field.points[:, :2] - [0, inner + 0.25], axis=1) < 0.9
    near &= np.abs(field.points[:, 2] - wide / 2) < 3
    assert np.abs(field.stress[0, near, 0]).max() == pytest.approx(expected, rel=0.06)


def test_a_sandwich_beam_bends_by_layered_theory() -> None:
    """Stiff faces 2 mm on a soft core 8 mm: deflection from the transformed section plus core shear."""
    length, wide, face, core = 120.0, 12.0, 2.0, 8.0
    mesh = box(length, wide, core + 2 * face)
    soft = 0.1
    grid = make_grid(mesh, 1.0)
    z = grid.centres[:, 2]
    scale = np.where((z < face) | (z > face + core), 1.0, soft)
    element = Brick(grid.size, isotropic(E, 0.35))
    held = {int(c): np.eye(24) * 1e6 for c in np.flatnonzero(grid.cells[:, 0] == 0)}
    operator = operator_of(grid, element, scale, held)
    end = np.abs(grid.points[:, 0] - length) < 1e-9
    f = np.zeros((len(grid.points), 3))
    f[end, 2] = -5.0 / end.sum()
    u, rounds = operator.solve(f.ravel())
    h = core + 2 * face
    stiff = E * wide * (h**3 - core**3) / 12 + soft * E * wide * core**3 / 12
    shear = soft * E / 2.7 * wide * (core + face) ** 2 / core
    start = 0.5  # the clamp holds the first cell's middle
    span = length - start
    expected = 5 * span**3 / (3 * stiff) + 5 * span / shear
    assert -u.reshape(-1, 3)[end, 2].mean() == pytest.approx(expected, rel=0.05)
    assert rounds < 60


def test_a_thick_ring_under_inner_pressure_follows_lame() -> None:
    """Hoop stress through the wall of a ring pressed from inside."""
    a, b, p, thick = 15.0, 30.0, 2.0, 6.0
    ring = m3.Manifold.cylinder(thick, b, circular_segments=160) - m3.Manifold.cylinder(
        thick + 2, a, circular_segments=160
    ).translate((0, 0, -1))
    mesh = mesh_of(ring)
    grid = make_grid(mesh, 1.25)
    element = Brick(grid.size, isotropic(E, 0.35))
    features = find_features(mesh)
    hole = next(f for f in features if f.kind == "hole")
    from knollside.core.strength.spots import locate, sample_faces

    spots = sample_faces(mesh, hole.faces, 0.4)
    cell, weight = locate(grid, spots)
    push = -spots.normals * (p * spots.area)[:, None]
    f = np.zeros((len(grid.points), 3))
    for k in range(8):
        np.add.at(f, grid.nodes[cell, k], weight[:, k, None] * push)
    # Springs so soft that they only stop the free motions.
    held = {c: np.eye(24) * 1e-8 * E for c in range(len(grid.cells))}
    u, _ = operator_of(grid, element, np.ones(len(grid.cells)), held).solve(f.ravel())
    r = np.array([18.0, 22.0, 26.0])
    points = np.stack([r, np.zeros(3), np.full(3, thick / 2)], axis=1)
    stress = recover.stress_at(grid, recover.sample_stress(grid, element, u[None]), points, grid.filled)[0]
    hoop = p * a**2 / (b**2 - a**2) * (1 + b**2 / r**2)
    assert stress[:, 1] == pytest.approx(hoop, rel=0.05)


def test_recovery_is_exact_for_linear_stress_and_reaches_the_surface() -> None:
    grid = make_grid(box(12, 10, 8), 1.0)
    middle, spread = np.full((len(grid.cells), 3), 0.5), np.full((len(grid.cells), 3), 0.29)
    six = np.vstack([np.eye(3), -np.eye(3)])
    at = grid.origin + (grid.cells[:, None, :] + middle[:, None, :] + six * spread[:, None, :]) * grid.size
    gradient = np.array([0.3, -0.7, 0.2])
    values = recover.Samples(middle, spread, np.repeat((5 + at @ gradient)[..., None], 6, axis=2))
    points = np.array([[6, 5, 8.0], [0, 0, 0], [12, 10, 4], [3.3, 4.4, 5.5]])
    got = recover.stress_at(grid, values, points, grid.filled)[0]
    # A touch of ridge keeps one-cell walls stable; it costs little here.
    assert got[:, 0] == pytest.approx(5 + points @ gradient, abs=0.05)


@pytest.mark.parametrize("turn", [(0, 0, 0), (13, 29, 47)])
def test_fill_is_the_volume_share_whatever_the_tilt(turn: tuple[float, float, float]) -> None:
    mesh = mesh_of(m3.Manifold.cylinder(20, 6, circular_segments=64).rotate(turn))
    n = np.maximum(np.round(mesh.size / 1.0), 1).astype(int)
    fill, _, _ = cell_moments(mesh, mesh.bounds[0], mesh.size / n, (int(n[0]), int(n[1]), int(n[2])))
    assert fill.min() >= 0 and fill.max() <= 1 + 1e-12
    assert fill.sum() * (mesh.size / n).prod() == pytest.approx(mesh.volume, rel=1e-6)


def test_multigrid_solves_what_a_dense_factor_solves() -> None:
    grid = make_grid(box(9, 7, 5), 1.0)
    element = Brick(grid.size, isotropic(E, 0.35))
    rng = np.random.default_rng(1)
    scale = rng.uniform(0.05, 1.0, len(grid.cells))
    held = {int(c): np.eye(24) * 500.0 for c in np.flatnonzero(grid.cells[:, 0] == 0)}
    operator = operator_of(grid, element, scale, held)
    n = 3 * len(grid.points)
    full = np.zeros((n, n))
    dof = (3 * grid.nodes[:, :, None] + np.arange(3)).reshape(-1, 24)
    for c, d in enumerate(dof):
        full[np.ix_(d, d)] += scale[c] * element.stiffness + held.get(c, np.zeros((24, 24)))
    f = rng.standard_normal(n)
    assert operator.apply(f) == pytest.approx(full @ f, rel=1e-9, abs=1e-6)
    u, _ = operator.solve(f, 1e-9)
    assert u == pytest.approx(np.linalg.solve(full, f), rel=1e-5, abs=1e-9)
    assert shape(2.0 * CORNERS - 1) == pytest.approx(np.eye(8))


def test_a_shell_of_walls_and_tops_has_the_thicknesses_asked_for() -> None:
    mesh = box(40, 30, 20)
    grid = make_grid(mesh, 0.5)
    r = Recipe(walls=4, infill=0.2, tops=5, bottoms=4, layer_height=0.25, line_width=0.5)
    assert skin_of(Recipe(infill=1.0)) is None
    skin = skin_of(r, (0, 0, 1))
    assert isinstance(skin, Skin) and (skin.walls, skin.tops, skin.bottoms) == (2.0, 1.25, 1.0)
    scale = cell_scale(mesh, grid, skin)
    solid = scale > 0.5
    middle = np.abs(grid.centres - [20, 15, 10])
    across = solid[(middle[:, 1] < 0.3) & (middle[:, 2] < 0.3)].sum() * 0.5
    upward = solid[(middle[:, 0] < 0.3) & (middle[:, 1] < 0.3)].sum() * 0.5
    columns = len(np.unique(np.round(grid.centres[(middle[:, 1] < 0.3) & (middle[:, 2] < 0.3)][:, 1:], 3), axis=0))
    assert across / columns == pytest.approx(4.0, abs=0.6)
    columns = len(np.unique(np.round(grid.centres[(middle[:, 0] < 0.3) & (middle[:, 1] < 0.3)][:, :2], 3), axis=0))
    assert upward / columns == pytest.approx(2.25, abs=0.6)
    core = scale[(middle < [5, 5, 3]).all(axis=1)]
    assert core == pytest.approx(skin.core)


def test_a_hollow_beam_is_as_stiff_as_its_walls() -> None:
    """The blended shell against a mesh that really is hollow."""
    mesh = box(80, 14, 14)
    what = design_case([(0, 7, 7)], [((80, 7, 7), (0, 0, -5))])
    shell = run(mesh, what, 20_000, skin=Skin(2.0, 2.0, 1e-3))
    real = mesh_of(m3.Manifold.cube((80, 14, 14)) - m3.Manifold.cube((76, 10, 10)).translate((2, 2, 2)))
    hollow = run(real, what, 20_000)
    tip = [np.abs(f.cases[0].displacement[:, 2]).max() for f in (shell, hollow)]
    assert tip[0] == pytest.approx(tip[1], rel=0.06)
