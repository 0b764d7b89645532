"""Around the solve: shells by direction, grids refined by themselves, logs, bending, cures, supports told apart."""

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import box, mesh_of

from knollside.core.job import answer
from knollside.core.job.remedies import remedies
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Mesh,
    Range,
    Recipe,
    Refused,
    Surroundings,
)
from knollside.core.recipe.price import PrinterMotion
from knollside.core.strength.field import EDGE, Medium, StressField, probe_spots, solve
from knollside.core.strength.grid import make_grid
from knollside.core.strength.multigrid import NotSettled
from knollside.core.strength.rating import rate, rate_points
from knollside.core.strength.skin import Skin, cell_scale

PETG = material("PETG")
SOLID = Recipe(infill=1.0)
BED = (220.0, 220.0, 250.0)
E = PETG.modulus.value


def pushed(at: tuple, force: tuple, held: tuple = (0, 5, 5), **more: object) -> DesignCase:
    load = ForceLoad(at=at, force_N=force)
    return DesignCase(fixtures=(FixedFixture(at=held),), cases=(LoadCase(name="it", loads=(load,)),), **more)


def field_of(mesh: Mesh, design_case: DesignCase, cells: int = 6000, **more) -> StressField:  # type: ignore[no-untyped-def]
    return solve(mesh, find_features(mesh), design_case, Medium(E), cells, **more)


def test_roofs_and_floors_of_the_shell_follow_the_build_direction() -> None:
    """Four millimetres of top, one of bottom, two of wall: each found where it belongs, and the other way up."""
    mesh = box(24, 24, 24)
    grid = make_grid(mesh, 0.75)
    middle = np.hypot(grid.centres[:, 0] - 12, grid.centres[:, 1] - 12) < 1
    for sign in (1.0, -1.0):
        scale = cell_scale(mesh, grid, Skin(2.0, 4.0, 0.05, (0.0, 0.0, sign), 1.0))
        z = grid.centres[middle, 2]
        up = z if sign > 0 else 24 - z
        solid = scale[middle] > 0.5
        columns = middle.sum() / len(np.unique(z))
        assert solid[up > 12].sum() / columns * 0.75 == pytest.approx(4.0, abs=0.5)
        assert solid[up < 12].sum() / columns * 0.75 == pytest.approx(1.0, abs=0.5)
    even = cell_scale(mesh, grid, Skin(2.0, 4.0, 0.05))
    beside = (np.abs(grid.centres[:, 1] - 12) < 0.5) & (np.abs(grid.centres[:, 2] - 12) < 0.5)
    wall = (even[beside] > 0.5).sum() / 2 * 0.75 / (beside.sum() / len(np.unique(grid.centres[beside, 0])))
    assert wall == pytest.approx(2.0, abs=0.5)


def test_the_log_has_no_gaps_and_its_least_is_the_reserve() -> None:
    design_case = pushed((100, 5, 5), (0, 0, -10))
    part = answer.read_part(box(100, 10, 10))
    s = solving.strength(part, design_case, SOLID, PETG, 4000)
    log = answer.layer_log(part, s, (1.0, 0.0, 0.0))
    inner = (log.heights > 5) & (log.heights < 97)  # a plain grid tells the places next to hold and load apart
    assert np.isfinite(log.peak[inner]).all() and np.isfinite(log.nominal[inner]).all()
    interlayer_reserve = rate(s.field, s.limits, np.array([[1.0, 0, 0]])).interlayer_reserve[0]
    assert log.peak.min() == pytest.approx(interlayer_reserve)
    # A cantilever's layers are the weaker the nearer to the wall, as the plain sections say.
    assert (np.diff(log.nominal[inner]) > 0).mean() > 0.95
    assert log.area == pytest.approx(np.full(len(log.area), 100.0), rel=1e-6)
    assert log.layers == 500 and log.balance < 0.02


def test_the_bent_part_follows_the_beam() -> None:
    design_case = pushed((100, 5, 5), (0, 0, -10))
    part = answer.read_part(box(100, 10, 10))
    s = solving.strength(part, design_case, SOLID, PETG, 4000)
    bend, most, case = answer.bend_of(part, s.field, "it"), s.field.greatest_movement, s.field.cases[0].name
    tip = 10 * 100**3 / (3 * E * 10**4 / 12) * (1 + 0.6 * 1.35 / 100)
    end = part.mesh.vertices[:, 0] > 99
    assert case == "it" and most == pytest.approx(tip, rel=0.03)
    assert -bend[end, 2] == pytest.approx(np.full(end.sum(), tip), rel=0.03)
    assert np.abs(bend[part.mesh.vertices[:, 0] < 1]).max() < 0.02 * tip


def test_a_longer_averaging_distance_sees_less_of_a_peak() -> None:
    mesh = box(60, 10, 10)
    limits = answer.limits_of(pushed((60, 5, 5), (0, 0, -10)), PETG)
    got = []
    for critical in (0.2, 1.0):
        f = field_of(mesh, pushed((60, 5, 5), (0, 0, -10), critical_mm=critical))
        clear = (f.points[:, 0] > 20) & (np.linalg.norm(f.normals, axis=1) > 0)
        got.append(float(rate(f, limits, np.array([[0.0, 0, 1]]), points=clear).reserve[0]))
    # Stress at half the distance under the surface of a 10 mm deep beam.
    assert got[1] / got[0] == pytest.approx((5 - 0.1) / (5 - 0.5), rel=0.02)


def test_places_at_supports_stay_apart_however_fine_the_grid() -> None:
    mesh, design_case = box(100, 10, 10), pushed((100, 5, 5), (0, 0, -10))
    for cells in (3000, 40_000):
        f = field_of(mesh, design_case, cells)
        reach = max(1.6 * f.cell, min(EDGE, 3.0))
        x, y, z = f.points[: len(f.points) - len(f.rules)].T
        # Away from the outline of the held end, a square of 10 mm at x = 0.
        aside = np.maximum(np.abs(y - 5), np.abs(z - 5)) - 5
        outside = np.hypot(x, aside)
        assert (
            np.array_equal(f.excluded[: len(x)], outside < reach)
            or np.abs(outside[f.excluded[: len(x)] != (outside < reach)] - reach).max() < 0.1
        )
        assert (~f.excluded[: len(x)] & (x < 1)).any(), "the held face itself is judged"


def test_bodies_nearer_than_a_cell_are_not_taken_for_one() -> None:
    two = mesh_of(
        m3.Manifold.compose([m3.Manifold.cube((20, 10, 10)), m3.Manifold.cube((20, 10, 10)).translate((20.2, 0, 0))])
    )
    held = (FixedFixture(at=(0, 5, 5)), FixedFixture(at=(40.2, 5, 5)))
    load = LoadCase(name="it", loads=(ForceLoad(at=(10, 5, 10), force_N=(0, 0, -5)),))
    with pytest.raises(Refused, match="gap between held bodies is lost"):
        field_of(two, DesignCase(fixtures=held, cases=(load,)), 1500)
    one = field_of(two, DesignCase(fixtures=held[:1], cases=(load,)), 1500)
    assert "1 of 2 bodies" in one.notes[0] and one.points[:, 0].max() < 20.1


def test_probes_inside_stay_and_probes_outside_come_to_the_surface() -> None:
    got = probe_spots(box(10, 10, 10), np.array([[5, 5, 5], [5, 5, 14], [-3, 5, 5], [12, 12, 12.0]]))
    assert got == pytest.approx(np.array([[5, 5, 5], [5, 5, 10], [0, 5, 5], [10, 10, 10]]))


def test_point_ratings_name_mode_and_case_of_the_least() -> None:
    loads = [ForceLoad(at=(60, 5, 5), force_N=f) for f in ((0, 0, -10), (200, 0, 0))]
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 5, 5)),), cases=tuple(LoadCase(name=n, loads=(ld,)) for n, ld in zip("ab", loads))
    )
    f = field_of(box(60, 10, 10), design_case)
    limits = answer.limits_of(design_case, PETG)
    n = np.array([1.0, 0, 0])
    both = rate_points(f, limits, n)
    assert both.reserve == pytest.approx(np.minimum(both.interlayer_reserve, both.inside))
    clear = ~f.excluded
    worst = int(np.argmin(np.where(clear, both.reserve, np.inf)))
    whole = rate(f, limits, n[None])
    assert whole.point[0] == worst and whole.case[0] == both.case[worst] and whole.mode[0] == both.mode[worst]
    assert whole.across[0] == pytest.approx(both.inside[clear].min()) and whole.interlayer_reserve[0] == pytest.approx(
        both.interlayer_reserve[clear].min()
    )


def test_cures_take_in_recipe_place_and_corner() -> None:
    """An angle bracket with a sharp inner corner, warm and too weak: every kind of remedy is there."""
    angle = m3.Manifold.cube((40, 12, 5)) + m3.Manifold.cube((5, 12, 40))
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(20, 6, 0)),),
        cases=(LoadCase(name="it", loads=(ForceLoad(at=(2.5, 6, 40), force_N=(60, 0, 0)),)),),
        surroundings=Surroundings(temperature_c=50),
    )
    part = answer.read_part(mesh_of(angle))
    s = solving.strength(part, design_case, Recipe(walls=2, infill=0.2), PETG, 12_000)
    ranking = answer.orientations(part, design_case, s, BED, 200)
    orientation = next(w for w in ranking.orientations if abs(w.direction[2]) > 0.99)
    assert orientation.reserve.value < s.target
    log = answer.layer_log(part, s, orientation.direction)
    board = solving.boards(part, s, orientation.direction, PrinterMotion(), Range(1, 0.9, 1.1))
    found = remedies(part, design_case, s, ranking, orientation, log, board)
    kinds = {c.kind: c for c in found}
    assert {"way", "recipe"} <= set(kinds) and {"thicken", "load"} & set(kinds)
    assert kinds["recipe"].reserve > 1.05 * orientation.reserve.value and " g, " in kinds["recipe"].price
    assert kinds["way"].reserve > 1.1 * orientation.reserve.value
    if "place" in kinds:
        assert kinds["place"].reserve > orientation.reserve.value and "°C" in kinds["place"].title
    assert all(c.title and c.price for c in found)


def test_a_solve_that_does_not_settle_is_tried_on_another_lattice(monkeypatch: pytest.MonkeyPatch) -> None:
    part, sizes, real = answer.read_part(box(30, 10, 10)), [], answer.solve

    def first_fails(mesh, features, design_case, medium, cells, *rest):  # type: ignore[no-untyped-def]
        sizes.append(cells.mm)
        if len(sizes) == 1:
            raise NotSettled("it went on and on")
        return real(mesh, features, design_case, medium, cells, *rest)

    monkeypatch.setattr(answer, "solve", first_fails)
    found = answer.solve_part(part, pushed((30, 5, 5), (0, 0, -10)), Medium(2000.0), 3000)
    assert len(sizes) == 2 and sizes[1] == pytest.approx(0.96 * sizes[0]) and found.field.asked == sizes[1]
