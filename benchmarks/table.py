"""Prints the benchmark table. Speeds are measured here, and where a peer exists as a ratio in the same run."""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import fits
import learning
import numpy as np
import running

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import solving

DEMO = Path(__file__).parent.parent / "src/knollside/demo/parts"
rows: list[tuple[str, str, str]] = []


def timed(do: Callable[[], Any]) -> tuple[float, Any]:
    began = time.perf_counter()
    out = do()
    return time.perf_counter() - began, out


def row(what: str, got: str, target: str = "") -> None:
    rows.append((what, got, target))
    print(f"{what:<68} {got:>26}   {target}", flush=True)


def arm_case():  # type: ignore[no-untyped-def]
    from knollside.core.job import answer
    from knollside.core.material.cards import material
    from knollside.core.mesh.load import load_file
    from knollside.core.model import Recipe
    from knollside.demo.design_cases import arm as _arm

    design_case, _, _ = _arm()
    mesh = load_file(DEMO / "hose-arm.stl").mesh
    return answer, mesh, design_case, Recipe(infill=1.0), material("PETG")


def main() -> None:
    answer, mesh, design_case, recipe, card = arm_case()
    from knollside import warm
    from knollside.core.lay.stability import standing
    from knollside.core.mesh.features import find_features
    from knollside.core.mesh.slicer import cut
    from knollside.core.strength.rating import rate, sphere

    warm.main()
    one_case = design_case.model_copy(update={"cases": design_case.cases[:1]})

    def whole() -> Any:
        part = answer.read_part(mesh)
        s = solving.strength(part, one_case, recipe, card)
        return s, answer.orientations(part, one_case, s, (220, 220, 250), 600)

    seconds, (s, _) = timed(whole)
    row(
        "hose arm: read, features, solve, 600 directions, short list",
        f"{seconds:.1f} s, {s.field.cells:,} cells",
        "15 s",
    )
    row(
        "  of it the stress solve, set-up and reading included", f"{s.field.seconds:.1f} s, {s.field.iterations} rounds"
    )
    row("  balance of forces", f"{s.field.balance_error:.0e}", "1 %")
    both, _ = timed(lambda: solving.strength(answer.read_part(mesh), design_case, recipe, card))
    row(
        "a further load case, as a share of the first", f"{max(both - s.field.seconds, 0) / s.field.seconds:.2f}", "0.7"
    )
    rate(s.field, s.limits, sphere(20))
    quick, a = timed(lambda: rate(s.field, s.limits, sphere(2000)))
    full, b = timed(lambda: rate(s.field, s.limits, sphere(2000), early=False))
    row("2,000 directions, early exit", f"{quick:.2f} s, 1/{full / quick:.0f} of full", "0.25 s")
    row("  identical to the full rating", str(bool(np.array_equal(a.reserve, b.reserve))), "True")
    from knollside.core.strength.rating import weakest

    weakest(s.field, s.limits, sphere(3)[1])
    quick, _ = timed(lambda: weakest(s.field, s.limits, sphere(3)[1]))
    row("a pin dragged: one direction read anew", f"{1000 * quick:.0f} ms", "50 ms")
    verdicts(mesh, design_case)
    sizes()
    second_program()
    peer(s)
    features_and_slices(find_features, cut, standing, recipe)
    from knollside.core.model import Range
    from knollside.core.recipe.price import PrinterMotion

    part = answer.read_part(mesh)
    seconds, board = timed(lambda: solving.boards(part, s, (0.0, 0.0, -1.0), PrinterMotion(), Range(1, 0.9, 1.1)))
    row(f"trade board of {len(board.dots)} combinations, layers cut and counted", f"{seconds:.2f} s", "0.5 s")
    layers(answer, part, s)
    board_against_solves(answer)
    fits.report(row, timed)
    running.report(row, timed)
    learning.report(row)
    from PyQt6.QtWidgets import QApplication

    app = QApplication([])  # held to the end: both views below need it
    stage()
    window()
    app.quit()
    row("greatest memory of this run", f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6:.2f} GB")


def verdicts(mesh, design_case) -> None:  # type: ignore[no-untyped-def]
    """What a person waits for in Lay: after a held face changed, and after a load was turned."""
    from knollside.core.job.ask import Answerer, Meshes, MeshKey
    from knollside.core.job.asked import ask_orientations, ask_strength
    from knollside.core.job.questions.part import Part, ReadMesh, names_of_new
    from knollside.core.job.questions.settling import Settle
    from knollside.core.job.stated import Stated
    from knollside.core.model import FixedFixture, Recipe

    key = MeshKey(mesh.fingerprint())

    def answerer() -> Any:
        meshes = Meshes()
        meshes.put(mesh, key.fingerprint)
        return Answerer(meshes)

    part = Part(key, names_of_new(key, answerer()(ReadMesh(key)).facts))

    def ask(by: Any, stated: Any) -> Any:
        s = Stated(design_case=stated)
        return by(ask_orientations(ask_strength(part, s), s))

    one = design_case.model_copy(update={"cases": design_case.cases[:1]})
    for cases, words in ((one, "one load case"), (design_case, "two load cases")):
        by = answerer()
        by(part)
        seconds, ranked = timed(lambda by=by, cases=cases: ask(by, cases))
        cells = ranked.strength.field.cells
        row(f"a held face changed: full verdict, {words}, hollow", f"{seconds:.1f} s, {cells:,} cells", "6 s")
    solid = Stated(design_case=design_case, recipe=Recipe(infill=1.0))
    by = answerer()
    quick, _ = timed(lambda: by(ask_orientations(ask_strength(part, solid), solid)))
    more, _ = timed(lambda: by(Settle(ask_orientations(ask_strength(part, solid), solid))))
    row("hose arm on loose screws: quick, and looked at closely, solid", f"{quick:.1f} + {more:.1f} s", "15 s")
    # Screws that let go are solved anew for every load; what is held fast is not.
    held = tuple(FixedFixture(feature=h.feature) for h in design_case.fixtures)
    design_case = design_case.model_copy(update={"fixtures": held})
    ask(by, design_case)
    first = design_case.cases[0].loads[0]

    def turned(force: tuple[float, float, float]) -> Any:
        case = design_case.cases[0].model_copy(update={"loads": (first.model_copy(update={"force_N": force}),)})
        return design_case.model_copy(update={"cases": (case, *design_case.cases[1:])})

    ask(by, turned((0.0, 20.0, -80.0)))
    seconds, _ = timed(lambda: ask(by, turned((0.0, 30.0, -70.0))))
    row("a load turned further: net and list anew, no new solve", f"{seconds:.2f} s", "0.3 s")


def layers(answer, part, s) -> None:  # type: ignore[no-untyped-def]
    """Exact layers and supports of four ways, and a sliced file of 50 MB."""
    from knollside.core.job.compare import column, unbeaten
    from knollside.core.model import Range, Recipe, SupportSettings
    from knollside.core.recipe.price import PrinterMotion
    from knollside.core.run.gcode import parse_gcode
    from knollside.core.run.sliced import describe
    from knollside.sim.toolpath import write_toolpath

    recipe = Recipe()
    orientations = answer.orientations(part, _any_duty(), s, (220.0, 220.0, 250.0), 200).orientations[:4]
    at = recipe, SupportSettings(), s.card, PrinterMotion(), Range(1, 0.9, 1.1)
    seconds, columns = timed(lambda: unbeaten([column(part.mesh, part.features, {}, (), w, *at) for w in orientations]))
    row(
        f"four ways side by side, {len(part.mesh.faces):,} triangles, every layer", f"{seconds:.1f} s", "5 s at 100,000"
    )
    text = write_toolpath(part.mesh, columns[0].orientation.direction, recipe, 240, 80).encode()
    whole = np.frombuffer(text * (50_000_000 // len(text) + 1), np.uint8)
    parse_gcode(whole[:2000])
    seconds, path = timed(lambda: parse_gcode(whole))
    more, _ = timed(lambda: describe(path))
    row(f"sliced file of {len(whole) / 1e6:.0f} MB: read, layers, walls, seams", f"{seconds + more:.1f} s", "6 s")
    own = describe(parse_gcode(np.frombuffer(text, np.uint8)))
    row("  walls and infill as written", f"{own.walls} of {recipe.walls}, {own.infill:.2f} of {recipe.infill:.2f}")


def _any_duty():  # type: ignore[no-untyped-def]
    from knollside.core.model import DesignCase

    return DesignCase()


def second_program() -> None:
    """A cantilever by a general finite-element library from the registries, if it is there."""
    try:
        import skfem
        from skfem.helpers import ddot, sym_grad, trace
    except ImportError:
        row("a second program on the same beam", "not installed (scikit-fem)", "1 %, 3 %")
        return
    from knollside.core.mesh.features import find_features
    from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase
    from knollside.core.strength.field import POISSON, Medium, solve
    from knollside.warm import box

    length, side, e, force = 60.0, 10.0, 2000.0, 20.0
    grid = np.linspace(0, length, 25), np.linspace(0, side, 5), np.linspace(0, side, 5)
    mesh = skfem.MeshHex2.from_mesh(skfem.MeshHex.init_tensor(*grid))
    basis = skfem.Basis(mesh, skfem.ElementVector(skfem.ElementHex2()))
    lam, mu = e * POISSON / ((1 + POISSON) * (1 - 2 * POISSON)), e / (2 * (1 + POISSON))

    @skfem.BilinearForm
    def stiffness(u, v, w):  # type: ignore[no-untyped-def]
        return lam * trace(sym_grad(u)) * trace(sym_grad(v)) + 2 * mu * ddot(sym_grad(u), sym_grad(v))

    @skfem.LinearForm
    def load(v, w):  # type: ignore[no-untyped-def]
        return -force / side**2 * v[2]

    k = stiffness.assemble(basis)
    f = load.assemble(skfem.FacetBasis(mesh, basis.elem, facets=mesh.facets_satisfying(lambda x: x[0] > length - 1e-9)))
    held = basis.get_dofs(lambda x: x[0] < 1e-9)
    u = skfem.solve(*skfem.condense(k, f, D=held))
    probe = np.array([[length, side / 2, side / 2], [length / 2, side / 2, side]])
    vertical = np.isin(np.arange(basis.N), basis.get_dofs(lambda x: x[0] > length - 1e-9).all(["u^3"]))
    tip = float(-u[vertical].mean())
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 5, 5)),),
        cases=(LoadCase(name="x", loads=(ForceLoad(at=(length, 5, 5), force_N=(0, 0, -force)),)),),
    )
    part = box(length, side, side)
    ours = solve(part, find_features(part), design_case, Medium(e), 12_000, probes=probe)
    row("a second program (quadratic bricks) on the same beam: tip", f"{-ours.probed[0, 0, 2] / tip - 1:+.1%}", "1 %")
    exact = force * (length / 2) * (side / 2) / (side**4 / 12)
    row("  surface stress at mid-length, against beam theory", f"{ours.probed[0, 1, 3] / exact - 1:+.1%}", "3 %")


def sizes() -> None:
    """One load on the hose arm at three sizes, each in a process of its own so that memory is its own."""
    seconds: list[tuple[int, float]] = []
    for cells, target in ((100_000, "2 s"), (250_000, "4.5 s, 0.7 GB"), (500_000, "10 s, 1.1 GB")):
        code = f"import sys; sys.path.insert(0, {str(Path(__file__).parent)!r}); import table; table.one_size({cells})"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=600, check=False)
        if done.returncode:
            row(f"stress solve, {cells:,} cells asked", "did not run", target)
            continue
        got, first, again, rounds, memory = done.stdout.split()[-5:]
        seconds.append((int(got), float(first)))
        row(
            f"stress solve with set-up, {int(got):,} cells",
            f"{float(first):.1f} s, {rounds} rounds, {float(memory):.2f} GB",
            target,
        )
        row("  a further load case, as a share of the first", f"{float(again) / float(first):.2f}", "0.7")
    if len(seconds) == 3:
        (a, x), (b, y) = seconds[0], seconds[-1]
        row("  cost grows as cells to the power", f"{np.log(y / x) / np.log(b / a):.2f}", "1.1")


def one_size(cells: int) -> None:
    """Grid, set-up, one solve and a second one; prints cells, seconds, seconds, rounds and gigabytes."""
    from knollside.core.mesh.features import find_features
    from knollside.core.model import FixedFixture, ForceLoad
    from knollside.core.strength import conditions, loads
    from knollside.core.strength.element import Brick, isotropic
    from knollside.core.strength.grid import choose_size, make_grid
    from knollside.core.strength.multigrid import Operator

    _, mesh, _, _, _ = arm_case()
    by_id = {f.id: f for f in find_features(mesh)}
    saddle = by_id["fillet-11"]

    def run(count: int) -> tuple[int, float, float, int]:
        began = time.perf_counter()
        grid = make_grid(mesh, choose_size(mesh, count))
        element = Brick(grid.size, isotropic(1800.0, 0.35))
        holes = [by_id[f"hole-{i}"] for i in (1, 2, 3, 4)]
        held = [conditions.constrain(grid, mesh, h.faces, FixedFixture(feature=h.id), h) for h in holes]
        even, extra = np.ones(len(grid.cells)), conditions.springs(grid, held, 1800.0)
        operator = Operator(element, even, grid.cells, grid.nodes, grid.cut, grid.moments, extra)
        f, _, _ = loads.push(grid, mesh, saddle, saddle.faces, ForceLoad(at=(0, 0, 0), force_N=(0, 0, -88)))
        _, rounds = operator.solve(f, 1e-6)
        first = time.perf_counter() - began
        g, _, _ = loads.push(grid, mesh, saddle, saddle.faces, ForceLoad(at=(0, 0, 0), force_N=(0, 88, 0)))
        again, _ = timed(lambda: operator.solve(g, 1e-6))
        return len(grid.cells), first, again, rounds

    run(3000)  # kernels compiled and warm
    cells, first, again, rounds = run(cells)
    print(cells, first, again, rounds, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6)


def peer(s) -> None:  # type: ignore[no-untyped-def]
    """The same cells assembled and solved by smoothed aggregation of a general library."""
    import pyamg
    from scipy.sparse import coo_matrix

    from knollside.core.strength.element import Brick, isotropic
    from knollside.core.strength.grid import make_grid
    from knollside.core.strength.multigrid import Operator
    from knollside.warm import box

    grid = make_grid(box(100, 40, 30), 1.063)
    element = Brick(grid.size, isotropic(2000, 0.35))
    k, even = element.stiffness, np.ones(len(grid.cells))
    held = {int(c): np.eye(24) * 1e5 for c in np.flatnonzero(grid.cells[:, 0] == 0)}
    f = np.zeros((len(grid.points), 3))
    f[grid.points[:, 0] > 99.9, 2] = -0.1

    def ours() -> Any:
        return Operator(element, even, grid.cells, grid.nodes, grid.cut, grid.moments, held).solve(f.ravel(), 1e-6)

    ours()
    mine, (u, rounds) = timed(ours)

    def theirs() -> Any:
        dof = (3 * grid.nodes[:, :, None] + np.arange(3)).reshape(-1, 24)
        ke = grid.filled[:, None, None] * k
        for c, extra in held.items():
            ke[c] = ke[c] + extra
        a = coo_matrix((ke.ravel(), (np.repeat(dof, 24, axis=1).ravel(), np.tile(dof, (1, 24)).ravel()))).tobsr((3, 3))
        p = grid.points - grid.points.mean(axis=0)
        rigid = np.zeros((3 * len(p), 6))
        for d in range(3):
            rigid[d::3, d] = 1
        rigid[1::3, 3], rigid[2::3, 3] = -p[:, 2], p[:, 1]
        rigid[0::3, 4], rigid[2::3, 4] = p[:, 2], -p[:, 0]
        rigid[0::3, 5], rigid[1::3, 5] = -p[:, 1], p[:, 0]
        solver = pyamg.smoothed_aggregation_solver(a, B=rigid, smooth="energy")
        return solver.solve(f.ravel(), tol=1e-6, accel="cg")

    other, v = timed(theirs)
    off = float(np.abs(u - v).max() / np.abs(v).max())
    row(f"solve of a block, {len(grid.cells):,} cells", f"{mine:.1f} s, {rounds} rounds")
    row("  against a general algebraic multigrid library", f"{other / mine:.1f} times faster", "15 at 100,000")
    row("  the two displacements differ by", f"{off:.1e}", "1 %")


def board_against_solves(answer) -> None:  # type: ignore[no-untyped-def]
    """The trellis clip's board against full solves of recipes it was not checked with."""
    from knollside.core.material.cards import material
    from knollside.core.mesh.load import load_file
    from knollside.core.model import Orientation, Range
    from knollside.core.recipe.board import replace_recipe
    from knollside.core.recipe.calibration import anchors, calibration
    from knollside.core.recipe.price import PrinterMotion
    from knollside.demo.design_cases import PARTS, clip

    part, (design_case, recipe, _), card = (
        answer.read_part(load_file(PARTS / "trellis-clip.stl").mesh),
        clip(),
        material("PETG"),
    )
    cells, orientation = 12_000, Orientation(direction=(0.0, 0.0, 1.0))
    s = solving.strength(part, design_case, recipe, card, cells)
    pricer = answer.pricer(part, s, orientation.direction, PrinterMotion(), Range(1, 1, 1))

    def solved(recipes) -> np.ndarray:  # type: ignore[no-untyped-def]
        every = (answer.verify(part, design_case, r, card, orientation, Range(1, 1, 1), cells) for r in recipes)
        return np.array([v.solved.value for v in every])

    def told(recipes) -> np.ndarray:  # type: ignore[no-untyped-def]
        return np.array([d.reserve.value for d in pricer.dots(recipes)])

    tried = [replace_recipe(recipe, w, i, 5) for w, i in ((3, 0.2), (5, 0.1), (6, 0.3), (1, 0.3))]
    true, first = solved(tried), told(tried)
    seconds, known = timed(lambda: solved(anchors(recipe)))
    pricer.calibration = calibration(anchors(recipe), told(anchors(recipe)), known)

    def off(v: np.ndarray) -> str:
        return f"{100 * float(np.abs(v / true - 1).max()):.0f} %"

    row("board of the trellis clip against full solves of 4 recipes", f"{off(first)} at worst", "10 %")
    row(f"  checked by six solves, {seconds:.0f} s", f"{off(told(tried))} at worst", "10 %")


def features_and_slices(find_features, cut, standing, recipe) -> None:  # type: ignore[no-untyped-def]
    import manifold3d as m3
    import trimesh

    from knollside.core.strength.rating import sphere
    from knollside.demo.make_parts import mesh_of

    solid = m3.Manifold.cube((300, 300, 10))
    rng = np.random.default_rng(5)
    truth = []
    posts = []
    for i in range(200):
        x, y = 10 + 20 * (i % 14), 10 + 20 * (i // 14)
        d, n = float(rng.uniform(3, 14)), int(rng.integers(8, 400))
        truth.append(d)
        posts.append(m3.Manifold.cylinder(30, d / 2, circular_segments=n).translate((x, y, -5)))
    solid = solid - m3.Manifold.batch_boolean(posts, m3.OpType.Add)
    mesh = mesh_of(solid)
    seconds, found = timed(lambda: find_features(mesh))
    got = sorted(f.diameter for f in found if f.kind == "hole")
    hit = sum(any(abs(d - g) < 1e-3 for g in got) for d in truth)
    row(
        f"features of {len(mesh.faces):,} triangles, 200 holes of 8 to 400 facets", f"{seconds:.1f} s", "2 s at 100,000"
    )
    row("  found, and diameter within 0.001 mm", f"{hit} of 200, {len(got)} named", "0.97")
    levels = np.linspace(0.1, 9.9, 300)
    cut(mesh, levels[:2])
    mine, _ = timed(lambda: cut(mesh, levels))
    t = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    other, _ = timed(lambda: t.section_multiplane((0, 0, 0), (0, 0, 1), list(levels[:30])))
    row("300 layers cut", f"{mine:.2f} s, {other * 10 / mine:.0f} times faster", "0.5 s, 10 times")
    standing(mesh, sphere(8), recipe)
    seconds, _ = timed(lambda: standing(mesh, sphere(2000), recipe))
    row(f"overhang of 2,000 directions, {len(mesh.faces):,} faces", f"{seconds:.2f} s", "0.2 s")


def stage() -> None:
    from PyQt6.QtWidgets import QApplication

    app = QApplication.instance()
    from knollside.core.mesh.appearance import appearance_of
    from knollside.core.mesh.load import load_file
    from knollside.gui.viewport.scene import Scene
    from knollside.gui.viewport.view import StageView

    view = StageView()
    view.resize(690, 640)
    view.show()
    view.show_scene(Scene(look=appearance_of(load_file(DEMO / "vent-hinge.stl").mesh), direction=(0, 0, 1)))
    app.processEvents()  # type: ignore[union-attr]
    view.frames.clear()
    for _ in range(20):
        view.camera = view.camera.turned(4, 0)
        view._move()
        app.processEvents()  # type: ignore[union-attr]
    mean = float(np.mean(view.frames))
    row("stage while turning, 690 x 640, no graphics card", f"{1 / mean:.0f} frames a second", "8")
    view.close()


def window() -> None:
    from knollside.cli import main as cli  # noqa: F401

    with tempfile.TemporaryDirectory() as folder:
        environment = os.environ | {"KNOLLSIDE_TIME_START": "1", "XDG_CACHE_HOME": folder}
        for _ in range(2):  # the first fills the demo workshop
            began = time.perf_counter()
            done = subprocess.run(
                [sys.executable, "-m", "knollside.cli", "--demo"],
                env=environment,
                capture_output=True,
                text=True,
                timeout=120,
                check=False,
            )
            whole = time.perf_counter() - began
        row("window usable after the command (warm)", done.stdout.strip().removeprefix("window usable after "), "3 s")
        row("  the same with the interpreter's own start and end", f"{whole:.2f} s")
    gap()


def gap() -> None:
    """The longest pause of the event loop while a solve runs, drawing of the stage counted apart."""
    from conftest import open_desk
    from PyQt6.QtCore import QElapsedTimer, QTimer
    from PyQt6.QtWidgets import QApplication

    app = QApplication.instance()
    with tempfile.TemporaryDirectory() as folder:
        desk = open_desk(app, Path(folder) / "w.sqlite")
        desk.settle(lambda: desk.facts is not None)
        desk.window.take("Lay")
        frames = len(desk.window.stage.frames)
        clock, gaps = QElapsedTimer(), []
        timer = QTimer()
        timer.timeout.connect(lambda: gaps.append(clock.restart()))
        clock.start()
        timer.start(4)
        while desk.worker.busy_with != "lay":
            app.processEvents()  # type: ignore[union-attr]
        while desk.worker.busy_with == "lay":
            app.processEvents()  # type: ignore[union-attr]
        timer.stop()
        drawn = [1000 * f for f in desk.window.stage.frames[frames:]]
        row("longest event-loop gap while a solve runs", f"{max(gaps)} ms", "100 ms")
        row("  of it one frame of the stage at rest takes", f"{max(drawn, default=0):.0f} ms")
        _million(desk, app, Path(folder))
        desk.window.close()


def _million(desk, app, folder: Path) -> None:  # type: ignore[no-untyped-def]
    """The longest pause of the event loop while a ball of a million triangles is opened and known in full."""
    import manifold3d as m3
    from conftest import mesh_of
    from PyQt6.QtCore import QElapsedTimer, QTimer

    from knollside.core.mesh.write import stl_bytes

    ball = mesh_of(m3.Manifold.sphere(40, 1416))
    (folder / "ball.stl").write_bytes(stl_bytes(ball))
    clock, gaps, timer = QElapsedTimer(), [], QTimer()
    timer.timeout.connect(lambda: gaps.append(clock.restart()))
    clock.start()
    timer.start(4)
    began = time.perf_counter()
    desk.window.part_step.open_file(str(folder / "ball.stl"))
    while desk.part.name != "Ball" or desk.facts is None or desk.worker.waiting_names:
        app.processEvents()
        time.sleep(0.001)
    timer.stop()
    seconds = time.perf_counter() - began
    row(f"longest event-loop gap while {len(ball.faces):,} triangles are opened", f"{max(gaps)} ms", "100 ms")
    row("  known in full after", f"{seconds:.0f} s")


if __name__ == "__main__":
    main()
