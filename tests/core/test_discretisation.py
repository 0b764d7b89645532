"""What backs a reserve: places, portions, cures, other grids, other tessellations, and layers."""

import json
from pathlib import Path

import manifold3d as m3
import numpy as np
import pytest
import solving
import trimesh
from conftest import DEMO, box, mesh_of

from knollside.cli import main
from knollside.core.job import answer
from knollside.core.job.ask import Answerer
from knollside.core.job.questions.detail import Detail
from knollside.core.job.questions.settling import Grids, Layers, Prove, Settle, unsettled
from knollside.core.job.questions.strength import Rank
from knollside.core.job.remedies import remedies
from knollside.core.job.stated import Stated
from knollside.core.lay.orientations import listed_orientation
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_file
from knollside.core.model import (
    DeflectionLoad,
    DesignCase,
    FixedFixture,
    Fixture,
    ForceLoad,
    Load,
    LoadCase,
    Mesh,
    PinFixture,
    PressureLoad,
    Range,
    Recipe,
    Refused,
    TorqueLoad,
    WeightLoad,
)
from knollside.core.strength.discretisation import solve_layered, widened
from knollside.core.strength.field import Medium, solve
from knollside.core.strength.graded import Sizing
from knollside.core.strength.hot_spots import hot_spots, portions
from knollside.core.strength.moments import cell_moments
from knollside.core.strength.rating import rate, sphere, weakest
from knollside.core.strength.set_out import CellSize
from knollside.core.strength.superpose import mix, plan_of
from knollside.core.strength.zoom import Closeness
from knollside.demo import design_cases

PETG = material("PETG")
SOLID = Recipe(infill=1.0)
BED = (220.0, 220.0, 250.0)


def bend(at: float, length: float = 100.0, force: float = -10.0) -> DesignCase:
    load = ForceLoad(at=(length, 5, 5), force_N=(0, 0, force))
    return DesignCase(fixtures=(FixedFixture(at=(0, at, at)),), cases=(LoadCase(name="it", loads=(load,)),))


def strength(mesh: Mesh, design_case: DesignCase, cells: int = 8000, recipe: Recipe = SOLID):  # type: ignore[no-untyped-def]
    part = answer.read_part(mesh)
    return part, solving.strength(part, design_case, recipe, PETG, cells)


def _ranked(mesh: Mesh, design_case: DesignCase, cells: int) -> tuple[Answerer, Rank]:
    return solving.ranking(mesh, Stated(design_case=design_case, recipe=SOLID), cells, True, 200)


def test_a_finer_tessellation_holds_the_same() -> None:
    """The surface is the same; only its triangles are smaller."""
    rod = mesh_of(m3.Manifold.cylinder(80, 6, circular_segments=96))
    v, f = trimesh.remesh.subdivide_to_size(rod.vertices, rod.faces, 4.0)
    from knollside.core.mesh.weld import weld

    fine = weld(np.asarray(v), np.asarray(f))
    assert len(fine.faces) > 3 * len(rod.faces)
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 0, 0)),),
        cases=(LoadCase(name="it", loads=(ForceLoad(at=(0, 0, 80), force_N=(20, 0, 0)),)),),
    )
    got = [rate(s.field, s.limits, np.eye(3)).reserve for _, s in (strength(m, design_case) for m in (rod, fine))]
    assert got[1] == pytest.approx(got[0], rel=0.03)


def test_a_scaled_part_with_scaled_load_holds_the_same() -> None:
    """Twice the size and four times the load leave the stress alike, the averaging distance scaled too."""
    small, large = box(100, 10, 10), box(200, 20, 20)
    one, two = bend(5.0), bend(10.0, 200.0, -40.0).model_copy(update={"critical_mm": 1.0})
    got = [rate(s.field, s.limits, np.eye(3)).reserve for _, s in (strength(small, one), strength(large, two))]
    assert got[1] == pytest.approx(got[0], rel=0.05)


def test_a_part_turned_off_the_grid_holds_the_same() -> None:
    mesh = mesh_of(m3.Manifold.cube((100, 10, 10)).rotate((17, 23, 31)))
    turn = np.array(mesh_of(m3.Manifold.cube((1, 1, 1)).rotate((17, 23, 31))).vertices)
    origin = turn[np.argmin(np.linalg.norm(turn, axis=1))]
    axes = np.array([a - origin for a in turn if abs(np.linalg.norm(a - origin) - 1) < 1e-6])
    axes = axes[np.argsort([-a[0] for a in axes])]
    x, y, z = axes[0], axes[1] if np.cross(axes[0], axes[1]) @ axes[2] > 0 else axes[2], None
    z = np.cross(x, y)
    at = 100 * x + 5 * y + 5 * z
    design_case = DesignCase(
        fixtures=(FixedFixture(at=tuple(5 * y + 5 * z)),),
        cases=(LoadCase(name="it", loads=(ForceLoad(at=tuple(at), force_N=tuple(-10 * z)),)),),
    )
    _, turned = strength(mesh, design_case, 16_000)
    _, plain = strength(box(100, 10, 10), bend(5.0), 16_000)
    a = rate(turned.field, turned.limits, np.stack([x, y, z])).reserve
    b = rate(plain.field, plain.limits, np.eye(3)).reserve
    assert a == pytest.approx(b, rel=0.05)


@pytest.mark.parametrize("thick", [1.0, 0.7])
def test_a_wall_of_one_cell_and_less_bends_as_a_plate_strip(thick: float) -> None:
    """Cut cells integrate their filled part: a wall anywhere in the lattice keeps its stiffness."""
    from knollside.core.strength.element import Brick, isotropic
    from knollside.core.strength.grid import number_cells
    from knollside.core.strength.loads import push
    from knollside.core.strength.multigrid import Operator

    length, wide = 40.0, 12.0
    mesh = mesh_of(m3.Manifold.cube((length, wide, thick)).translate((0, 0, 0.37)))
    fill_, places, moments = cell_moments(mesh, np.zeros(3), np.ones(3), (40, 12, 2))
    g = number_cells(np.zeros(3), np.ones(3), fill_, fill_ > 0.01, places, moments)
    b = Brick(g.size, isotropic(2000.0, 0.0))
    from knollside.core.mesh.features import feature_at, find_features

    end = feature_at(mesh, find_features(mesh), (length, wide / 2, 0.37 + thick / 2))
    f, _, _ = push(g, mesh, end, end.faces, ForceLoad(at=(0, 0, 0), force_N=(0, 0, -0.01)))
    held = {int(c): np.eye(24) * 1e5 for c in np.flatnonzero(g.cells[:, 0] == 0)}
    u, _ = Operator(b, np.ones(len(g.cells)), g.cells, g.nodes, g.cut, g.moments, held).solve(f)
    tip = -u.reshape(-1, 3)[np.abs(g.points[:, 0] - length) < 1e-9, 2].mean()
    span = length - 1.0  # the first cell is held
    assert tip == pytest.approx(0.01 * span**3 / (3 * 2000.0 * wide * thick**3 / 12), rel=0.05)


def test_layered_stiffness_bends_more_across_the_layers() -> None:
    """A bar pulled along its layers' normal stretches by 1 / 0.85 of one pulled along them."""
    mesh = box(100, 10, 10)
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 5, 5)),),
        cases=(LoadCase(name="it", loads=(ForceLoad(at=(100, 5, 5), force_N=(200, 0, 0)),)),),
    )
    part, s = strength(mesh, design_case, 3000)
    across, _ = solve_layered(
        mesh, part.features, design_case, s.field, s.limits, SOLID, (1.0, 0.0, 0.0), lambda share, text: None
    )
    along, _ = solve_layered(
        mesh, part.features, design_case, s.field, s.limits, SOLID, (0.0, 0.0, 1.0), lambda share, text: None
    )
    assert across.movement / along.movement == pytest.approx(1 / 0.85, rel=0.02)
    assert across.reserve.value == pytest.approx(across.quick, rel=0.03)


def waist() -> tuple[Mesh, DesignCase]:
    """A round bar with a smooth waist of 6 mm, pulled by ends of 16: it goes in the waist, far from its hold."""
    z = np.linspace(0, 60, 61)
    r = 8 - 5 * np.exp(-(((z - 30) / 9) ** 2))
    profile = m3.CrossSection([[(0, 0), *zip(r.tolist(), z.tolist(), strict=True), (0, 60)]])
    bar = mesh_of(m3.Manifold.revolve(profile, 64))
    load = ForceLoad(at=(0, 0, 60), force_N=(0, 0, 100))
    return bar, DesignCase(fixtures=(FixedFixture(at=(0, 0, 0)),), cases=(LoadCase(name="it", loads=(load,)),))


def test_where_nothing_is_notched_another_grid_bears_the_rating_out() -> None:
    ask, rank = _ranked(*waist(), 12_000)
    settled, first = ask(Settle(rank)), ask(rank)
    grid = settled.grid
    assert grid.close is None and grid.change < 0.1 and not grid.assumed
    assert grid.cell_mm is None and grid.other_cells < 0.6 * first.strength.field.cells
    # P / A in the waist, half the critical distance under a skin that hardly curves; the doubt stays a quarter.
    at_best = max(first.ranking.every, key=lambda w: w.reserve.value)
    pulled = first.strength.limits[0].tension / (100 / (np.pi * 9))
    assert at_best.reserve.value == pytest.approx(pulled, rel=0.12) and first.unseen == pytest.approx(0.25)


def test_each_weak_place_is_doubted_by_as_much_as_finer_cells_move_it() -> None:
    """An L with a sharp inner edge: what cells half as wide make of a place lies within its doubt."""
    ell = mesh_of(m3.Manifold.cube((40, 12, 8)) + m3.Manifold.cube((8, 12, 40)))
    load = LoadCase(name="it", loads=(ForceLoad(at=(40, 6, 4), force_N=(0, 0, -40)),))
    case = DesignCase(fixtures=(FixedFixture(at=(4, 6, 40)),), cases=(load,))
    ask, rank = _ranked(ell, case, 6000)
    grid = ask(Settle(rank)).grid
    assert grid.close is not None
    up = (0.0, 0.0, 1.0)
    found = ask(Detail(rank.strength.upon(grid), (200.0, 200.0, 200.0), up)).places
    solved = [p for p in found if not p.by_hand and not p.at_support]
    assert solved and all(0.04 <= p.doubt < 0.3 for p in solved)
    assert np.linalg.norm(np.array(solved[0].at)[[0, 2]] - 8) < 0.6  # at the inner edge
    s = grid.close.sizing
    finer = ask(rank.strength.close(Closeness(grid.close.base, Sizing(s.sources[:20], 0.5 * s.aim, s.radius))))
    again = [p for p in hot_spots(finer.field, finer.limits, np.array(up)) if not p.by_hand and not p.at_support]
    assert abs(again[0].reserve / solved[0].reserve - 1) < solved[0].doubt
    # Before it was looked at closely there is nothing to hold a place against.
    plain = ask(Detail(rank.strength, (200.0, 200.0, 200.0), up)).places
    assert all(np.isnan(p.doubt) for p in plain)


def test_watched_places_are_looked_at_closely_and_read_as_a_beam_bends() -> None:
    at = ((30.0, 5.0, 10.0), (70.0, 5.0, 10.0), (50.0, 5.0, 60.0))  # the last lies far off the part
    case = bend(5.0).model_copy(update={"watched": at})
    ask, rank = _ranked(box(100, 10, 10), case, 6000)
    grid = ask(Settle(rank)).grid
    assert grid.close is not None
    sources = grid.close.sizing.sources
    assert all(np.linalg.norm(sources - np.array(w), axis=1).min() < 1e-3 for w in at[:2])
    assert np.linalg.norm(sources - np.array(at[2]), axis=1).min() > 40
    one, other, off = ask(Detail(rank.strength.upon(grid), (200.0, 200.0, 200.0), (0.0, 0.0, 1.0))).watched
    assert other.reserve / one.reserve == pytest.approx((100 - 30) / (100 - 70), rel=0.04)  # by the moment there
    assert off.at[2] > 9 and 0 < one.doubt < 0.1 and one.case == "it"
    # Another place to watch is another question.
    assert rank.strength.key != _ranked(box(100, 10, 10), bend(5.0), 6000)[1].strength.key


def test_a_rating_is_settled_closely_and_in_layers() -> None:
    ask, rank = _ranked(box(100, 10, 10), bend(5.0), 6000)
    settled, first = ask(Settle(rank)), ask(rank)
    grid, ranking = settled.grid, settled.ranked.ranking
    assert grid.close is not None and grid.cell_mm is None and not grid.assumed
    assert grid.other_cells < 0.6 * settled.ranked.strength.field.cells
    # What may be seen at the rim of the hold is doubted from the start, and it is found within that.
    for w in ranking.orientations:
        before = listed_orientation(unsettled(first).ranking.every, w.direction)
        assert before is None or before.reserve.low < w.reserve.value
    layered = ask(Layers(Settle(rank), 2))
    assert [w.direction for w in layered] == [w.direction for w in settled.ranked.ranking.orientations[:2]]
    assert all(abs(w.off) < 0.2 for w in layered)
    # The doubt is in each range, and what has not been checked yet is doubted more.
    for w in ranking.orientations:
        s = settled.ranked.strength
        plain = rate(s.field, s.limits, np.array([w.direction])).range_of(0)
        assert w.reserve.low == pytest.approx(widened(plain, grid.share(w.direction)).low)
        assert w.reserve.value == pytest.approx(plain.value) and grid.share(w.direction) >= 0.04


def test_a_way_holds_by_the_low_end_with_the_grids_doubt_in_it() -> None:
    """The load is set so that the strongest way is five per cent over its target at the low end, before any check."""
    ask, rank = _ranked(box(100, 10, 10), bend(5.0), 6000)
    first = max((w for w in ask(rank).ranking.every if w.footing.stands), key=lambda w: w.reserve.low)
    more = first.reserve.low / (1.05 * first.target)
    ask, rank = _ranked(box(100, 10, 10), bend(5.0, force=-10.0 * more), 6000)
    ranked = ask(rank)
    best = max((w for w in ranked.ranking.every if w.footing.stands), key=lambda w: w.reserve.low)
    assert best.reserve.low == pytest.approx(1.05 * best.target, rel=1e-3) and best.holds
    # A quarter stands for the check until it is done: the middle still holds, the way does not.
    doubted = listed_orientation(unsettled(ranked).ranking.every, best.direction)
    assert doubted is not None and doubted.reserve.value > 1.05 * doubted.target and not doubted.holds
    assert not any(w.holds for w in unsettled(ranked).ranking.every)


def test_a_sharp_corner_is_looked_at_closely_and_by_the_proof_too() -> None:
    angle = m3.Manifold.cube((40, 20, 5)) + m3.Manifold.cube((5, 20, 30))
    load = LoadCase(name="it", loads=(ForceLoad(at=(40, 10, 3), force_N=(0, 0, -10)),))
    ask, rank = _ranked(mesh_of(angle), DesignCase(fixtures=(FixedFixture(at=(0, 10, 20)),), cases=(load,)), 6000)
    settled, first = ask(Settle(rank)), ask(rank)
    assert settled.grid.close is not None and 0.08 < settled.grid.close.finest < 0.11
    best = settled.ranked.ranking.orientations[0]
    listed = listed_orientation(first.ranking.every, best.direction)
    assert listed is None or listed.reserve.value > 1.1 * best.reserve.value
    up = (0.0, 0.0, 1.0)
    printed = rank.strength.printed(rank.strength.recipe, up)
    own = ask(Grids(printed, (up,)))
    proved, coarse = ask(Prove(printed)), ask(printed)
    assert own.close is not None
    fine = rate(ask(printed.close(own.close)).field, coarse.limits, np.array([up]))
    assert proved.solved.value == pytest.approx(float(fine.reserve[0]))
    assert proved.solved.low < float(fine.range_of(0).low)


def test_where_a_close_look_is_refused_what_it_might_have_found_is_doubted(monkeypatch: pytest.MonkeyPatch) -> None:
    def refused(*asked: object) -> None:
        raise Refused("too many cells")

    monkeypatch.setattr(Grids, "_close", refused)
    ask, rank = _ranked(box(100, 10, 10), bend(5.0), 6000)
    settled, first = ask(Settle(rank)), ask(rank)
    assert settled.grid.close is None and first.unseen > 0.4
    assert min(settled.grid.changes) > 0.4


def test_a_range_takes_in_the_grids_doubt() -> None:
    plain = Range(2.0, 1.4, 2.7)
    wide = widened(plain, 0.3)
    assert wide.value == plain.value and wide.low < plain.low and wide.high > plain.high
    assert np.log(wide.high / wide.value) == pytest.approx(np.hypot(np.log(plain.high / plain.value), np.log(1.3)))
    assert widened(plain, 0.0).low == pytest.approx(plain.low)


def test_weak_places_are_apart_ordered_and_told_from_supports() -> None:
    _, s = strength(box(100, 10, 10), bend(5.0))
    n = np.array([1.0, 0, 0])
    found = hot_spots(s.field, s.limits, n)
    assert 3 <= len(found) <= 5 and sum(p.at_support for p in found) <= 1
    clear = [p for p in found if not p.at_support]
    assert [p.reserve for p in clear] == sorted(p.reserve for p in clear)
    assert clear[0].at[0] < 12 and abs(clear[0].at[2] - 5) > 4
    best = weakest(s.field, s.limits, n)
    assert best.reserve == pytest.approx(float(rate(s.field, s.limits, n[None]).reserve[0]), rel=1e-12)
    assert best.reserve == pytest.approx(clear[0].reserve, rel=1e-12)


def test_thin_portions_are_found_and_rated_by_themselves() -> None:
    """A block with a thin tab: the tab is named, and lies better along its length."""
    solid = m3.Manifold.cube((30, 30, 30)) + m3.Manifold.cube((40, 6, 4)).translate((29, 12, 13))
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 15, 15)),),
        cases=(LoadCase(name="it", loads=(ForceLoad(at=(69, 15, 15), force_N=(0, 0, -8)),)),),
    )
    part, s = strength(mesh_of(solid), design_case, 20_000)
    found = portions(part.mesh, s.field, s.limits, np.array([1.0, 0, 0]), sphere(200))
    tab = found[0]
    assert tab.name in ("arm", "tab", "strip") and tab.middle[0] > 35 and tab.thickness == pytest.approx(4, abs=1.5)
    assert tab.best > 1.3 * tab.reserve, "its layers lie better along it"
    assert abs(tab.best_direction[0]) < 0.5


def test_cures_say_what_it_takes() -> None:
    design_case = bend(5.0, force=-40.0)
    part, s = strength(box(100, 10, 10), design_case)
    ranking = answer.orientations(part, design_case, s, BED, 200)
    worst = min(ranking.orientations, key=lambda w: w.reserve.value)
    assert worst.reserve.value < s.target
    log = answer.layer_log(part, s, worst.direction)
    found = {c.kind: c for c in remedies(part, design_case, s, ranking, worst, log)}
    assert found["way"].reserve == max(w.reserve.value for w in ranking.orientations)
    deeper = np.sqrt(s.target / worst.reserve.value) - 1
    assert f"{deeper * 100:.0f} % deeper" in found["thicken"].title
    share = worst.reserve.value / s.target * 100
    assert f"{share:.0f} %" in found["load"].title


LOADED = [(stem, make) for stem, _, make, _ in design_cases.DEMO if make()[0].cases]


@pytest.mark.parametrize(("stem", "make"), LOADED, ids=[stem for stem, _ in LOADED])
def test_every_loaded_demo_part_is_in_equilibrium(stem, make) -> None:  # type: ignore[no-untyped-def]
    design_case, recipe, _ = make()
    part = answer.read_part(load_file(DEMO / f"{stem}.stl").mesh)
    card = PETG.__class__(**{**PETG.__dict__, "softens": 120.0})
    s = solving.strength(part, design_case, recipe, card, 12_000)
    assert s.field.balance_error < 1e-3
    for case in s.field.cases:
        size = np.abs(case.external.forces).sum()
        assert np.abs(case.external.forces.sum(axis=0)).max() < 1e-3 * size


def test_strength_and_probes_from_the_command_line(tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    from knollside.core.mesh.write import stl_bytes

    (tmp_path / "bar.stl").write_bytes(stl_bytes(box(100, 10, 10), "bar"))
    job = {
        "mesh": "bar.stl",
        "recipe": {"infill": 1.0},
        "held": [{"at": [0, 5, 5]}],
        "cases": [{"name": "bend", "loads": [{"at": [100, 5, 5], "kind": "weight", "weight_g": "1 kg"}]}],
    }
    (tmp_path / "j.json").write_text(json.dumps(job))
    probes = ["--probe", "100,5,5", "--probe", "50,5,10"]
    code = main(["strength", str(tmp_path / "j.json"), "--json", "--cells", "8000", "--way", "1", *probes])
    out = json.loads(capsys.readouterr().out)
    assert code == 0 and {"way", "layered", "places", "reactions", "log", "solve", "probes"} <= set(out)
    force, i = 9.80665, 10**4 / 12
    tip, skin = (p["cases"][0] for p in out["probes"])
    modulus = PETG.modulus.value
    expected = force * 100**3 / (3 * modulus * i) * (1 + 0.6 * 1.35 * 0.01)
    assert -tip["displacement_mm"][2] == pytest.approx(expected, rel=0.02)
    assert skin["stress_MPa"]["xx"] == pytest.approx(force * 50 * 5 / i, rel=0.03)
    assert len(out["log"]["height_mm"]) == len(out["log"]["reserve_peak"]) > 20
    assert main(["strength", str(tmp_path / "j.json"), "--json", "--way", "99", "--cells", "4000"]) == 1
    assert "--way takes" in json.loads(capsys.readouterr().out)["refused"]


def test_a_changed_force_is_the_sum_of_unit_answers() -> None:
    """Direction and size changed at the same places: the sum against a solve of its own."""
    mesh = box(60, 10, 10)
    features = find_features(mesh)

    def design_case(first: tuple[float, float, float], second: tuple[float, float, float]) -> DesignCase:
        loads = (ForceLoad(at=(60, 5, 5), force_N=first), ForceLoad(at=(30, 5, 10), force_N=second))
        cases = (LoadCase(name="a", loads=loads), LoadCase(name="b", loads=loads[:1]))
        return DesignCase(fixtures=(FixedFixture(at=(0, 5, 5)),), cases=cases)

    old, new = design_case((0, 0, -10), (0, 0, -5)), design_case((3, -7, 2), (0, 4, -5))
    for wanted in (old, new):
        plan = plan_of(wanted.fixtures, wanted.cases)
        direct = solve(mesh, features, wanted, Medium(2000.0), 4000)
        rows = wanted.model_copy(update={"cases": plan.rows})
        summed = mix(solve(mesh, features, rows, Medium(2000.0), CellSize(direct.asked)), plan)
        assert summed.stress == pytest.approx(direct.stress, abs=1e-5 * np.abs(direct.stress).max())
        for a, b in zip(summed.cases, direct.cases):
            assert a.name == b.name
            assert a.displacement == pytest.approx(b.displacement, abs=1e-6 * np.abs(b.displacement).max())
            assert np.abs(a.external.forces.sum(axis=0)).max() < 1e-4
            assert a.reactions[0][1] == pytest.approx(b.reactions[0][1], abs=1e-4)
            assert a.pushing == pytest.approx(b.pushing, rel=1e-6)


def test_what_is_solved_does_not_depend_on_how_hard_it_is_pushed() -> None:
    """The same rows for any size of load; other rows as soon as a place, a kind or a hold is another."""
    held = (FixedFixture(at=(0, 5, 5)),)

    def rows(*loads: Load, hold: tuple[Fixture, ...] = held) -> tuple[LoadCase, ...]:
        return plan_of(hold, (LoadCase(name="a", loads=loads),)).rows

    down = ForceLoad(at=(60, 5, 5), force_N=(0, 0, -88))
    assert rows(down) == rows(down.times(90 / 88)) == rows(WeightLoad(at=(60, 5, 5), weight_g=9000))
    assert rows(down) != rows(down.model_copy(update={"at": (50.0, 5.0, 5.0)}))
    assert len(rows(down.model_copy(update={"force_N": (1.0, 2.0, 3.0)}))) == 3
    torque = TorqueLoad(at=(60, 5, 5), torque_Nmm=500.0)
    assert rows(torque) == rows(torque.times(3)) and len(rows(torque, down)) == 2
    pressure = PressureLoad(at=(60, 5, 5), pressure_MPa=0.2)
    assert rows(pressure) == rows(pressure.times(0.1))
    # Where a pin can let go or a face is moved by a stated way, answers do not add up: the case itself is solved.
    pin = (PinFixture(at=(0, 5, 5)),)
    assert rows(down, hold=pin) == (LoadCase(name="", loads=(down,)),)
    moved = DeflectionLoad(at=(60, 5, 5), deflection_mm=(0, 0, 1))
    assert rows(moved) == (LoadCase(name="", loads=(moved,)),)
