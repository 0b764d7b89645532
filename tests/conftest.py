"""Shared pieces: small exact parts, and a window on a workshop of its own."""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
if os.environ.get("PYTEST_XDIST_WORKER"):
    # Several test processes share the cores, each with a worker of its own: more threads would only wait.
    os.environ.setdefault("NUMBA_NUM_THREADS", "1")

import atexit
import contextlib
import multiprocessing
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import manifold3d as m3
import numpy as np
import pytest

from knollside.core.mesh.load import load_file
from knollside.core.mesh.weld import weld
from knollside.core.model import FixedFixture, ForceLoad, Mesh

# What takes longest is begun first: begun last, it is what everybody waits for.
_LONGEST = (
    "test_a_week_runs_to_its_end",
    "test_the_wrong_file_of_the_demo",
    "test_the_board_is_checked_against_full_solves",
    "test_an_afternoon_at_the_bench",
    "test_a_plate_with_two_top_layers",
    "test_a_way_that_another_beats",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: not item.name.startswith(_LONGEST))


def own_screen() -> None:
    """A screen for each of several test processes: one window on top of another would take its keys."""
    if not os.environ.get("PYTEST_XDIST_WORKER") or shutil.which("Xvfb") is None:
        return
    read, write = os.pipe()
    screen = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x1000x24", "-nolisten", "tcp"],
        pass_fds=[write],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    with os.fdopen(read) as told:
        os.environ["DISPLAY"] = f":{told.readline().strip()}"
    atexit.register(screen.kill)


own_screen()
if not os.environ.get("DISPLAY"):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
DEMO = Path(__file__).parent.parent / "src/knollside/demo/parts"


def mesh_of(solid: m3.Manifold) -> Mesh:
    raw = solid.to_mesh64()
    return weld(np.asarray(raw.vert_properties, float)[:, :3], np.asarray(raw.tri_verts, np.int64))


def box(x: float, y: float, z: float) -> Mesh:
    return mesh_of(m3.Manifold.cube((x, y, z)))


def shuffled(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """The same solid with its triangles and corners in another order."""
    corners, order = rng.permutation(len(mesh.vertices)), rng.permutation(len(mesh.faces))
    where = np.empty(len(corners), np.int64)
    where[corners] = np.arange(len(corners))
    return Mesh(mesh.vertices[corners], where[mesh.faces[order]])


def plate_with_hole(sides: int = 48, d: float = 5.0, turn: tuple[float, float, float] = (0, 0, 0)) -> Mesh:
    """40 x 30 x 8 plate, one through hole of diameter d at (12, 15)."""
    solid = m3.Manifold.cube((40, 30, 8)) - m3.Manifold.cylinder(20, d / 2, circular_segments=sides).translate(
        (12, 15, -5)
    )
    return mesh_of(solid.rotate(turn))


def quick_workers() -> None:
    """Workers forked off one process that has imported all they need: a test of the window waits for its own only."""
    from knollside.gui import worker

    worker.START = "forkserver"
    multiprocessing.set_forkserver_preload(
        [
            "knollside.gui.worker",
            "knollside.gui.nodes",
            "knollside.foreign.reading",
            "knollside.core.run.gcode",
            "killing",
        ]
    )


quick_workers()


@pytest.fixture(scope="session", autouse=True)
def application(qapp):  # type: ignore[no-untyped-def]
    """One application for all tests of a process: a sheet's PDF would else make a lesser one first."""
    return qapp


@pytest.fixture(scope="session")
def arm() -> Mesh:
    return load_file(DEMO / "hose-arm.stl").mesh


class Desk:
    """The real window, driven by clicks and keys, with patience for its worker."""

    def __init__(self, window, app) -> None:  # type: ignore[no-untyped-def]
        self.window, self.app = window, app
        self.session = window.session
        self.workspace, self.worker = self.session.workspace, self.session.worker
        self.derived = self.session.derived

    @property
    def shop(self):  # type: ignore[no-untyped-def]
        return self.workspace.shop

    @property
    def view(self):  # type: ignore[no-untyped-def]
        return self.session.view

    @property
    def part(self):  # type: ignore[no-untyped-def]
        return self.session.view.part

    @property
    def facts(self):  # type: ignore[no-untyped-def]
        return self.session.view.facts if self.session.has_part else None

    @property
    def stored(self):  # type: ignore[no-untyped-def]
        """The open part as the workshop has it."""
        return self.shop.parts.get(self.part.id)

    def answer(self, name: str):  # type: ignore[no-untyped-def]
        """A node's answer, by what it is worth."""
        from knollside.gui.nodes import BY_NAME

        return self.view.get(BY_NAME[name])

    def fresh(self, name: str):  # type: ignore[no-untyped-def]
        """A node's answer if it is true of what is stored."""
        return self.answer(name).fresh

    def put(self, kind: str, value: object, words: str) -> None:
        """One stored edit."""
        from knollside.store.records import Kind

        if kind == "duty":
            self.session.put_design_case(value, words)
        elif kind == "mates":
            self.session.put_mates(value, words)
        else:
            self.workspace.edit({Kind(kind): value}, words)

    def at(self, step: str, *tabs: str) -> Desk:
        """With a step in front, its tabs turned to; once the part is read."""
        self.settle(lambda: self.facts is not None)
        self.window.take(step)
        for tab in tabs:
            turn_to(self, tab)
        return self

    def settle(self, done: Callable[[], bool] | None = None, seconds: float = 240) -> None:
        """Run the event loop until nothing runs that a person waits for (and ``done`` holds)."""
        end = time.monotonic() + seconds
        quiet = 0
        while time.monotonic() < end:
            self.app.processEvents()
            time.sleep(0.005)
            quiet = 0 if self.worker.waiting_names or (done is not None and not done()) else quiet + 1
            if quiet > 8:
                self.window.refresh()
                self.app.processEvents()
                return
        said = self.window.note.text()
        raise AssertionError(f"still busy with '{self.worker.busy_with}' after {seconds} s; it says: {said}")


def turn_to(desk: Desk, words: str) -> None:
    """Click the tab of that name in the panel."""
    from PyQt6.QtCore import Qt
    from PyQt6.QtTest import QTest
    from PyQt6.QtWidgets import QPushButton

    tab = next(b for b in desk.window.current.panel.findChildren(QPushButton) if b.text() == words)
    QTest.mouseClick(tab, Qt.MouseButton.LeftButton)
    desk.settle()


def seen(desk: Desk) -> str:
    """All that the panel says."""
    from PyQt6.QtWidgets import QLabel

    return "\n".join(w.text() for w in desk.window.current.panel.findChildren(QLabel) if w.isVisible())


def press(desk: Desk, text: str) -> None:
    """Click the visible button that says ``text``."""
    _pressed(desk, desk.window, text)


def press_in_panel(desk: Desk, text: str) -> None:
    """Click the button of the panel in front that says ``text``."""
    _pressed(desk, desk.window.current.panel, text)


def _pressed(desk: Desk, within, text: str) -> None:  # type: ignore[no-untyped-def]
    from PyQt6.QtCore import Qt
    from PyQt6.QtTest import QTest
    from PyQt6.QtWidgets import QPushButton

    found = next(b for b in within.findChildren(QPushButton) if b.text() == text and b.isVisible())
    assert found.isEnabled(), f"'{text}' cannot be pressed now"
    QTest.mouseClick(found, Qt.MouseButton.LeftButton)
    desk.settle()


def type_in(desk: Desk, name: str, text: str) -> None:
    """Type into the visible field of that name and press Return."""
    from PyQt6.QtCore import Qt
    from PyQt6.QtTest import QTest
    from PyQt6.QtWidgets import QLineEdit

    line = next(w for w in desk.window.findChildren(QLineEdit) if w.accessibleName() == name and w.isVisible())
    line.setFocus()
    line.selectAll()
    QTest.keyClicks(line, text)
    QTest.keyClick(line, Qt.Key.Key_Return)
    desk.settle()


@pytest.fixture(scope="session")
def filled(tmp_path_factory) -> Path:  # type: ignore[no-untyped-def]
    """The demo workshop, filled once; each test works on a copy."""
    from knollside.demo.fill import fill_demo
    from knollside.store.workshop import Workshop

    path = tmp_path_factory.mktemp("demo") / "w.sqlite"
    shop = Workshop(path)
    fill_demo(shop)
    shop.close()
    return path


COARSE = 2_000  # cells; what is tested here is the window, not the stress; a thin shell may double it


@pytest.fixture
def desk(qapp, filled: Path, tmp_path: Path, monkeypatch, request) -> Iterator[Desk]:  # type: ignore[no-untyped-def]
    monkeypatch.setattr("knollside.gui.nodes.strength.cells", COARSE)
    shutil.copy(filled, tmp_path / "w.sqlite")
    own = request.node.get_closest_marker("own_worker") is not None
    made = open_desk(qapp, tmp_path / "w.sqlite", own)
    yield made
    _shut(qapp, made)


_kept: list[Any] = []  # the worker that windows of tests share


def shared_worker(make, meshes):  # type: ignore[no-untyped-def]
    """One worker for one window after another: what it has answered once it need not work out again. Answers are kept
    by their questions' own keys, as in one window that stays open."""
    if _kept:
        worker = _kept[0]
        worker.meshes = meshes
        return worker
    worker = make(meshes)
    worker.close = lambda: _let_go(worker)
    _kept.append(worker)
    return worker


def _let_go(worker) -> None:  # type: ignore[no-untyped-def]
    """Nothing of the window that is closed is left in it."""
    from PyQt6.QtWidgets import QApplication

    for signal in (worker.progress, worker.finished, worker.idle, worker.stumbled):
        with contextlib.suppress(TypeError):  # nobody listened
            signal.disconnect()
    worker._planned, worker._once = [], []
    if worker._now is not None:
        number = worker._stop.value = worker._now.number
        end = time.monotonic() + 1.5
        while worker._now is not None and time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.005)
        worker._end(number)
        while worker._now is not None and time.monotonic() < end + 5:
            QApplication.processEvents()
            time.sleep(0.005)


def open_desk(qapp, path: Path, own_worker: bool = False) -> Desk:  # type: ignore[no-untyped-def]
    """A window on a workshop. ``own_worker``: it works everything out by itself."""
    from PyQt6.QtCore import QSettings
    from PyQt6.QtTest import QTest

    from knollside.demo.fill import fill_demo
    from knollside.gui import worker
    from knollside.gui.main import open_last, window_on
    from knollside.gui.theme.look import font, load_fonts, look
    from knollside.store.workshop import Workshop

    load_fonts()
    qapp.setFont(font(14))
    look.lamp = False
    shop = Workshop(path)
    fill_demo(shop)
    made = worker.Worker
    if not own_worker:
        worker.Worker = partial(shared_worker, made)  # type: ignore[misc]
    try:
        window = window_on(shop, QSettings(str(path.with_suffix(".ini")), QSettings.Format.IniFormat))
    finally:
        worker.Worker = made  # type: ignore[misc]
    open_last(window)
    window.resize(1280, 800)
    window.show()
    # Shortcuts need the active window; no window manager is there to make it so.
    QTest.qWaitForWindowExposed(window)
    window.activateWindow()
    QTest.qWaitForWindowActive(window, 3000)
    return Desk(window, qapp)


@pytest.fixture(scope="session")
def shelved(qapp, filled: Path, tmp_path_factory) -> Path:  # type: ignore[no-untyped-def]
    """The demo workshop with a post with a shelf taken in and open: one place that needs holding, one that does not,
    and four ways to lie. Made once, from its file; each test works on a copy."""
    from knollside.core.mesh.write import stl_bytes
    from knollside.core.model import DesignCase, LoadCase, Orientation

    folder = tmp_path_factory.mktemp("shelved")
    shutil.copy(filled, folder / "w.sqlite")
    solid = m3.Manifold.cube((12, 24, 30)) + m3.Manifold.cube((36, 24, 6)).translate((0, 0, 24))
    solid = solid + m3.Manifold.cube((1.0, 24, 4)).translate((-1.0, 0, 26))
    (folder / "shelf.stl").write_bytes(stl_bytes(mesh_of(solid), "shelf"))
    desk = open_desk(qapp, folder / "w.sqlite")
    desk.settle(lambda: desk.facts is not None)
    desk.window.part_step.open_file(str(folder / "shelf.stl"))
    desk.settle(lambda: desk.part.name == "Shelf" and desk.facts is not None)
    foot = next(f.id for f in desk.facts.features if f.kind == "flat" and f.axis[2] < -0.9 and f.centre[2] < 1)
    load = LoadCase(name="a pot", loads=(ForceLoad(at=(34, 12, 30), force_N=(0, 0, -20)),))
    desk.put("duty", DesignCase(fixtures=(FixedFixture(feature=foot),), cases=(load,), danger="no one"), "a shelf")
    desk.put("recipe", desk.part.recipe.model_copy(update={"infill": 1.0}), "solid")
    desk.put("way", Orientation(direction=(0, 0, 1)), "upright")
    desk.settle()
    _shut(qapp, desk)
    return folder


def _shut(qapp, desk: Desk) -> None:  # type: ignore[no-untyped-def]
    from PyQt6.QtCore import QEvent

    desk.window.close()
    # Really gone: a change of theme dresses every window there is, and a closed one too.
    desk.window.deleteLater()
    qapp.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture
def shelf(qapp, shelved: Path, tmp_path: Path, monkeypatch) -> Iterator[Desk]:  # type: ignore[no-untyped-def]
    """The shelf's part in front, with every way rated."""
    monkeypatch.setattr("knollside.gui.nodes.strength.cells", COARSE)
    for name in ("w.sqlite", "w.ini"):
        shutil.copy(shelved / name, tmp_path / name)
    made = open_desk(qapp, tmp_path / "w.sqlite")
    assert made.part.name == "Shelf"
    made.window.take("Lay")
    made.settle(lambda: made.fresh("lay") is not None)
    yield made
    _shut(qapp, made)


def pick(desk: Desk, name: str, text: str) -> None:
    """Open the combo box of that name with a click and click the entry that says ``text``."""
    from PyQt6.QtWidgets import QComboBox, QScrollArea

    desk.settle()
    combo = next(c for c in desk.window.findChildren(QComboBox) if c.accessibleName() == name and c.isVisible())
    at = combo.findText(text)
    assert at >= 0, f"'{text}' is not among {[combo.itemText(i) for i in range(combo.count())]}"
    around = combo.parentWidget()
    while around is not None:
        if isinstance(around, QScrollArea):
            around.ensureWidgetVisible(combo)
        around = around.parentWidget()
    desk.app.processEvents()
    taken: list[int] = []
    combo.activated.connect(lambda i: taken.append(i))
    for _ in range(3):  # a screen under load may lose one click of several, and a person clicks again
        _click_entry(desk, combo, at)
        if taken:
            break
    assert taken == [at], f"'{text}' of '{name}' could not be clicked"
    desk.settle()


def _click_entry(desk: Desk, combo, at: int) -> None:  # type: ignore[no-untyped-def]
    """Open a combo box and click one entry of its list."""
    from PyQt6.QtCore import Qt
    from PyQt6.QtTest import QTest

    # A list that has just opened takes the click that opened it for a double one.
    before = desk.app.doubleClickInterval()
    desk.app.setDoubleClickInterval(1)
    entries = combo.view()
    if not entries.isVisible():
        QTest.mouseClick(combo, Qt.MouseButton.LeftButton)
    for _ in range(100):
        if entries.isVisible():
            break
        QTest.qWait(20)
    assert entries.isVisible(), f"'{combo.accessibleName()}' did not open"
    QTest.qWait(40)
    index = entries.model().index(at, 0)
    entries.scrollTo(index)
    where = entries.visualRect(index).center()
    QTest.mouseMove(entries.viewport(), where)
    QTest.mouseClick(entries.viewport(), Qt.MouseButton.LeftButton, pos=where)
    QTest.qWait(20)
    desk.app.setDoubleClickInterval(before)
