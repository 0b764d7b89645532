"""The stress field, the rating of directions and the resultants, against closed forms."""

from dataclasses import replace

import manifold3d as m3
import numpy as np
import pytest
from conftest import box, mesh_of

from knollside.core.job import answer
from knollside.core.material.allowables import allowables, target_reserve, temperature_factor, withheld
from knollside.core.material.cards import MATERIALS, material
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    Danger,
    DesignCase,
    FixedFixture,
    Fixture,
    ForceLoad,
    LoadCase,
    Mesh,
    Recipe,
    Refused,
    SlidingFixture,
    Surroundings,
)
from knollside.core.strength.breaking import breaks_now
from knollside.core.strength.condense import read_stress
from knollside.core.strength.element import Brick, filled_spots, isotropic, layered
from knollside.core.strength.field import POISSON, Medium, StressField, solve
from knollside.core.strength.grid import CORNERS, make_grid
from knollside.core.strength.moments import cell_moments
from knollside.core.strength.rating import rate, sphere
from knollside.core.strength.resultants import nominal_reserve, resultants

E = 2000.0
L, B = 100.0, 10.0


def design_case(*cases: LoadCase, held: tuple[Fixture, ...] = (FixedFixture(at=(0, B / 2, B / 2)),)) -> DesignCase:
    return DesignCase(fixtures=held, cases=cases)


def case(
    force: tuple[float, float, float], at: tuple[float, float, float] = (L, B / 2, B / 2), **how: bool
) -> LoadCase:
    return LoadCase(name="pull", loads=(ForceLoad(at=at, force_N=force),), **how)


def run(mesh: Mesh, what: DesignCase, cells: int = 4000, **more) -> StressField:  # type: ignore[no-untyped-def]
    return solve(mesh, find_features(mesh), what, Medium(E), cells, **more)


def test_the_element_passes_the_patch_test() -> None:
    """Any constant strain on a non-cubic brick gives its exact stress and balanced corner forces."""
    size, c = np.array([1.0, 1.7, 0.6]), isotropic(E, POISSON)
    b = Brick(size, c)
    strain = np.array([1e-3, -4e-4, 2e-4, 3e-4, -5e-4, 7e-4])
    gradient = np.array([[strain[0], strain[5], strain[4]], [0, strain[1], strain[3]], [0, 0, strain[2]]])
    corners = np.array([[i & 1, i >> 1 & 1, i >> 2 & 1] for i in range(8)]) * size
    u = (corners @ gradient.T).ravel()
    middle, spread, out = np.zeros((1, 3)), np.full((1, 3), 0.577), np.empty((1, 6, 6))
    local = 2.0 * CORNERS - 1
    read_stress(np.arange(8)[None], u, np.zeros(1, int), b.release[None], middle, spread, b.half, b.c, local, out)
    assert out[0] == pytest.approx(np.tile(c @ strain, (6, 1)), abs=1e-9)
    assert (b.stiffness @ u).reshape(8, 3).sum(axis=0) == pytest.approx([0, 0, 0], abs=1e-9)
    assert np.linalg.eigvalsh(b.stiffness)[:6] == pytest.approx(0, abs=1e-8 * E)


def part_of_cell(low: tuple[float, float, float]) -> np.ndarray:
    """Moments of the box from ``low`` to (1, 1, 1) in a cell -1..1, by hand."""
    one = [[(1 - x ** (a + 1)) / (a + 1) / 2 for a in range(3)] for x in low]
    return np.einsum("a,b,c->abc", *one).reshape(27)


def test_a_cut_cell_passes_the_patch_test_too() -> None:
    """Constant strain in a cell filled in one corner only: energy and stress of that corner's volume."""
    size, c = np.array([1.0, 1.7, 0.6]), isotropic(E, POISSON)
    b = Brick(size, c)
    m = part_of_cell((-0.3, 0.2, -1.0))
    cell = b.condense(m[None])
    g = np.array([[1.0, 0.4, -0.2], [0.1, -0.7, 0.3], [0.5, 0.2, 0.9]]) * 1e-3
    u = ((2 * CORNERS - 1) * size / 2 @ g.T).reshape(1, 24)
    strain = np.array([g[0, 0], g[1, 1], g[2, 2], g[1, 2] + g[2, 1], g[0, 2] + g[2, 0], g[0, 1] + g[1, 0]])
    energy = 0.5 * float((u @ cell.stiffness[0] @ u.T)[0, 0])
    assert energy == pytest.approx(0.5 * m[0] * size.prod() * strain @ c @ strain, rel=1e-9)
    middle, spread = filled_spots(m[None])
    assert middle[0] == pytest.approx([0.35, 0.6, 0.0])
    out = np.empty((1, 6, 6))
    local = 2.0 * CORNERS - 1
    read_stress(np.arange(8)[None], u[0], np.zeros(1, int), cell.release, middle, spread, b.half, b.c, local, out)
    assert out[0] == pytest.approx(np.tile(c @ strain, (6, 1)), abs=1e-9)
    assert np.linalg.eigvalsh(cell.stiffness[0])[:6] == pytest.approx(0, abs=1e-8 * E)


def test_moments_of_a_box_off_the_lattice_are_exact() -> None:
    fill, places, moments = cell_moments(box(10, 10, 10), np.array([-0.3, -0.4, -0.6]), np.ones(3), (11, 11, 11))
    assert fill.sum() == pytest.approx(1000, rel=1e-6)
    first = np.flatnonzero((places == 0).all(axis=1))[0]
    assert moments[first] == pytest.approx(part_of_cell((-0.4, -0.2, 0.2)), abs=1e-6)


def test_layered_stiffness_has_the_moduli_it_was_asked_for() -> None:
    n = np.array([1.0, 2.0, 2.0]) / 3
    s = np.linalg.inv(layered(E, 0.35, 0.7, n))

    def modulus(d: np.ndarray) -> float:
        v = np.array([d[0] ** 2, d[1] ** 2, d[2] ** 2, d[1] * d[2], d[2] * d[0], d[0] * d[1]])
        return float(1 / (v @ s @ v))

    assert modulus(n) == pytest.approx(0.7 * E)
    assert modulus(np.array([2.0, -1, 0]) / np.sqrt(5)) == pytest.approx(E)


def test_cantilever_deflection_and_stress() -> None:
    field = run(box(L, B, B), design_case(case((0, 0, -10))), 1600)
    i = B**4 / 12
    tip = 10 * L**3 / (3 * E * i) + 10 * L / (5 / 6 * E / (2 * (1 + POISSON)) * B * B)
    end = np.abs(field.grid_points[:, 0] - L) < 1e-6
    assert -field.cases[0].displacement[end, 2].mean() == pytest.approx(tip, rel=0.02)
    near = np.argmin(np.linalg.norm(field.points - [B, B / 2, B], axis=1))
    p = field.points[near]
    assert field.stress[0, near, 0] == pytest.approx(10 * (L - p[0]) * (p[2] - B / 2) / i, rel=0.03)
    assert field.balance_error < 1e-5


def test_tension_in_a_bar_turned_to_the_grid() -> None:
    mesh = mesh_of(m3.Manifold.cube((80, 12, 12)).translate((-40, -6, -6)).rotate((0, 0, 30)))
    d = np.array([np.cos(np.pi / 6), 0.5, 0])
    field = run(
        mesh,
        DesignCase(fixtures=(FixedFixture(at=tuple(-40 * d)),), cases=(case(tuple(144 * d), tuple(40 * d)),)),
        12_000,
    )
    middle = (np.abs(field.points @ d) < 12) & (np.linalg.norm(field.normals, axis=1) == 0)
    s = field.stress[0, middle]
    along = s[:, 0] * d[0] ** 2 + s[:, 1] * d[1] ** 2 + 2 * s[:, 5] * d[0] * d[1]
    assert along.mean() == pytest.approx(1.0, rel=0.03)


@pytest.mark.parametrize("degrees", [0, 20, 45, 70, 90])
def test_reserve_of_a_tension_bar_for_any_build_direction(degrees: float) -> None:
    """s = S cos2 a, q = S sin a cos a; layers, in-layer pull and yield by docs/methods.md 1.11."""
    field = run(box(L, B, B), design_case(case((500, 0, 0))), 2500)
    allow = allowables(material("PETG"), Surroundings(), LoadCase(name="x", loads=()))
    a, pull = np.radians(degrees), 5.0
    n = np.array([[np.cos(a), np.sin(a), 0]])
    middle = np.abs(field.points[:, 0] - L / 2) < 15
    got = rate(field, (allow,), n, points=middle)
    interlayer_reserve = np.hypot(pull * np.cos(a) ** 2 / allow.interlayer, pull * np.sin(a) * np.cos(a) / allow.shear)
    inside = max(pull * np.sin(a) ** 2 / allow.tension, pull / allow.tension)
    assert got.interlayer_reserve[0] == pytest.approx(1 / max(interlayer_reserve, 1e-12), rel=0.01) or degrees == 90
    assert got.reserve[0] == pytest.approx(1 / max(interlayer_reserve, inside), rel=0.01)


def test_what_would_break_it_now_knows_no_heat_time_or_repeats() -> None:
    """A bar of 10 x 10 mm pulled along its layers' normal parts at table x bond x 100 mm2, whatever the case says of
    years and summers; the case with half the force is told by its own newtons."""
    told = (
        case((500, 0, 0), permanent=True, repeated=True),
        LoadCase(name="half", loads=(ForceLoad(at=(L, B / 2, B / 2), force_N=(250, 0, 0)),)),
    )
    what = design_case(*told).model_copy(update={"surroundings": Surroundings(temperature_c=45, wet=True, sun=True)})
    field, card = run(box(L, B, B), what, 2500), material("PETG")
    field = replace(field, excluded=np.abs(field.points[:, 0] - L / 2) >= 15)
    s = answer.strength_of(field, what, Recipe(), card)
    assert s.limits[0].interlayer < 0.35 * s.limits[1].interlayer or s.limits[0].interlayer < s.limits[1].interlayer
    first, half = breaks_now(s, what.loaded, np.array([1.0, 0, 0]))
    want = card.pull.value * card.bond.value * 100
    assert first.load.value == pytest.approx(want, rel=0.015) and half.load.value == pytest.approx(want, rel=0.015)
    assert first.along and first.mode == "layers pulled apart" and first.parting_N == pytest.approx(want, rel=0.015)
    assert abs(first.place[0] - L / 2) < 15 and first.load.low < 0.8 * want and first.load.high > 1.2 * want
    # Pulled along the layers it breaks across them, at the table's own strength.
    across = breaks_now(s, what.loaded, np.array([0, 0, 1.0]))[0]
    assert not across.along and across.load.value == pytest.approx(card.pull.value * 100, rel=0.015)
    assert across.across_N == pytest.approx(across.load.value)


def test_early_exit_is_the_full_rating_to_the_bit(arm: Mesh) -> None:
    features = find_features(arm)
    what = DesignCase(
        fixtures=tuple(FixedFixture(feature=f"hole-{i}") for i in (1, 2, 3, 4)),
        cases=(case((0, 0, -88), (120, 0, 78)), case((0, 60, 0), (146, 0, 84), knocked=True)),
    )
    field = solve(arm, features, what, Medium(E), 8000)
    limits = tuple(allowables(material("PETG"), Surroundings(), c) for c in what.cases)
    quick, full = rate(field, limits, sphere(300)), rate(field, limits, sphere(300), early=False)
    assert np.array_equal(quick.reserve, full.reserve) and np.array_equal(
        quick.interlayer_reserve, full.interlayer_reserve
    )
    assert np.array_equal(quick.point, full.point)
    assert quick.visited_share < full.visited_share == 1.0
    # Balance, and layer strength is the same for a direction and its opposite.
    assert field.balance_error < 1e-4
    assert rate(field, limits, -sphere(300)).interlayer_reserve == pytest.approx(quick.interlayer_reserve, rel=1e-12)


def test_two_load_cases_add() -> None:
    mesh = box(60, B, B)
    a, b = ForceLoad(at=(60, 5, 5), force_N=(0, 0, -10)), ForceLoad(at=(60, 5, 5), force_N=(30, 4, 0))
    field = run(
        mesh,
        design_case(LoadCase(name="a", loads=(a,)), LoadCase(name="b", loads=(b,)), LoadCase(name="ab", loads=(a, b))),
    )
    u = [c.displacement for c in field.cases]
    assert np.abs(u[0] + u[1] - u[2]).max() < 1e-6 * np.abs(u[2]).max()


def test_a_rotated_part_holds_the_same() -> None:
    d = design_case(case((0, 0, -10)))
    limits = (allowables(material("PETG"), Surroundings(), d.cases[0]),)
    plain = rate(run(box(L, B, B), d, 9000), limits, np.eye(3))
    # A quarter turn about Y: X becomes -Z, Z becomes X.
    turned = mesh_of(m3.Manifold.cube((L, B, B)).rotate((0, 90, 0)))
    other = DesignCase(fixtures=(FixedFixture(at=(5, 5, 0)),), cases=(case((-10, 0, 0), (5, 5, -L)),))
    same = rate(run(turned, other, 9000), limits, np.array([[0, 0, -1.0], [0, 1, 0], [1, 0, 0]]))
    assert same.reserve == pytest.approx(plain.reserve, rel=0.05)


def test_half_the_cell_moves_the_reserve_little() -> None:
    d = design_case(case((0, 0, -10)))
    limits = (allowables(material("PETG"), Surroundings(), d.cases[0]),)
    mesh = box(L, B, B)
    away = [f.points[:, 0] > 15 for f in (run(mesh, d, 2000), run(mesh, d, 16_000))]
    coarse = rate(run(mesh, d, 2000), limits, np.eye(3), points=away[0]).reserve
    fine = rate(run(mesh, d, 16_000), limits, np.eye(3), points=away[1]).reserve
    assert fine == pytest.approx(coarse, rel=0.10)


def test_layer_resultants_are_those_of_a_cantilever() -> None:
    mesh = box(L, B, B)
    field = run(mesh, design_case(case((100, 0, -10))))
    allow = allowables(material("PETG"), Surroundings(), LoadCase(name="x", loads=()))
    res = resultants(mesh, field, np.array([1.0, 0, 0]), 40)
    assert res.force[0, :, 2] == pytest.approx(100, rel=1e-3)
    assert np.hypot(*res.moment[0, :, :2].T) == pytest.approx(10 * (L - res.heights), rel=1e-3, abs=1e-3)
    stress = 100 / B**2 + 10 * (L - res.heights) * 6 / B**3
    shear = 1.5 * 10 / B**2
    expected = 1 / np.hypot(stress / allow.interlayer, shear / allow.shear)
    assert nominal_reserve(res, (allow,)) == pytest.approx(expected, rel=5e-3)
    part = answer.read_part(mesh)
    s = answer.Strength(field, (allow,), material("PETG"), Recipe(), 2.0, None)
    assert answer.layer_log(part, s, (1, 0, 0)).balance < 0.02


@pytest.mark.parametrize(
    ("what", "words"),
    [
        (DesignCase(cases=(case((0, 0, -1)),)), "Nothing holds"),
        (DesignCase(fixtures=(FixedFixture(at=(0, 5, 5)),)), "Nothing pushes"),
        (design_case(case((0, 0, 0))), "zero or has no direction"),
        (design_case(case((0, 0, -1), (500, 0, 0))), "nothing is there"),
        (DesignCase(fixtures=(SlidingFixture(at=(0, 5, 5)),), cases=(case((0, 0, -1)),)), "can still"),
        (DesignCase(fixtures=(FixedFixture(feature="hole-9"),), cases=(case((0, 0, -1)),)), "no feature 'hole-9'"),
    ],
)
def test_it_refuses_with_the_reason(what: DesignCase, words: str) -> None:
    with pytest.raises(Refused, match=words):
        run(box(L, B, B), what)


def test_loose_bodies_open_meshes_and_thin_walls_are_refused() -> None:
    two = mesh_of(
        m3.Manifold.compose([m3.Manifold.cube((20, 10, 10)), m3.Manifold.cube((20, 10, 10)).translate((30, 0, 0))])
    )
    with pytest.raises(Refused, match="held nowhere"):
        run(two, design_case(case((0, 0, -1), (50, 5, 5))))
    m = box(L, B, B)
    with pytest.raises(Refused, match="Mend it in Part"):
        run(Mesh(m.vertices, m.faces[1:]), design_case(case((0, 0, -1))))
    with pytest.raises(Refused, match="inside out"):
        run(Mesh(m.vertices, m.faces[:, ::-1]), design_case(case((0, 0, -1))))
    wire = mesh_of(m3.Manifold.cube((40, 10, 10)) - m3.Manifold.cube((30, 9.7, 9.7)).translate((5, 0.15, 0.15)))
    with pytest.raises(Refused):
        run(wire, DesignCase(fixtures=(FixedFixture(at=(0, 5, 5)),), cases=(case((0, 0, -1), (40, 5, 5)),)), 60)


def test_the_grid_holds_the_volume_of_the_part(arm: Mesh) -> None:
    grid = make_grid(arm, 2.0)
    assert grid.fill.sum() * grid.size.prod() == pytest.approx(arm.volume, rel=0.01)


def test_strengths_multiply_down_the_stair_and_end_at_softening() -> None:
    place = Surroundings(temperature_c=45, sun=True, wet=True)
    a = allowables(material("PETG"), place, LoadCase(name="x", loads=(), permanent=True, knocked=True))
    product = a.table.value
    for step in a.knock_downs:
        assert step.factor.low <= step.factor.value <= step.factor.high <= 1
        product *= step.factor.value
    assert a.tension == pytest.approx(product)
    assert a.interlayer == pytest.approx(product * a.bond.value)
    for card in MATERIALS.values():
        with pytest.raises(Refused, match="softens"):
            temperature_factor(card, card.softens)
        assert temperature_factor(card, 20).value == 1
    assert temperature_factor(material("PLA"), 56.9).value < 0.01


def test_the_need_follows_the_duty_and_a_person_gets_no_verdict() -> None:
    quiet, rough = case((0, 0, -1)), case((0, 0, -1), repeated=True)
    assert [target_reserve(DesignCase(cases=c)) for c in ((quiet,), (rough,))] == [2.0, 3.0]
    assert target_reserve(DesignCase(cases=(quiet,), danger=Danger.BELOW)) == 4.0
    assert withheld(DesignCase(danger=Danger.PERSON)) and withheld(DesignCase(danger=Danger.NOBODY)) is None
