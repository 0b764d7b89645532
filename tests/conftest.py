"""Shared pieces: small exact parts, and a window on a workshop of its own."""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import shutil
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import manifold3d as m3
import numpy as np
import pytest

from knollside.core.mesh.load import load_file, weld
from knollside.core.model import Mesh

DEMO = Path(__file__).parent.parent / "src/knollside/demo/parts"


def mesh_of(solid: m3.Manifold) -> Mesh:
    raw = solid.to_mesh64()
    return weld(np.asarray(raw.vert_properties, float)[:, :3], np.asarray(raw.tri_verts, np.int64))


def box(x: float, y: float, z: float) -> Mesh:
    return mesh_of(m3.Manifold.cube((x, y, z)))


def plate_with_hole(sides: int = 48, d: float = 5.0, turn: tuple[float, float, float] = (0, 0, 0)) -> Mesh:
    """40 x 30 x 8 plate, one through hole of diameter d at (12, 15)."""
    solid = m3.Manifold.cube((40, 30, 8)) - m3.Manifold.cylinder(20, d / 2, circular_segments=sides).translate(
        (12, 15, -5)
    )
    return mesh_of(solid.rotate(turn))


@pytest.fixture(scope="session")
def arm() -> Mesh:
    return load_file(DEMO / "hose-arm.stl").mesh


class Desk:
    """The real window, driven by clicks and keys, with patience for its worker."""

    def __init__(self, window, app) -> None:  # type: ignore[no-untyped-def]
        self.window, self.app = window, app
        self.state = window.state

    def settle(self, done: Callable[[], bool] | None = None, seconds: float = 240) -> None:
        """Run the event loop until nothing runs that a person waits for (and ``done`` holds)."""
        from knollside.desk.work import BACKGROUND

        work = self.state.work
        end = time.monotonic() + seconds
        quiet = 0
        while time.monotonic() < end:
            self.app.processEvents()
            time.sleep(0.005)
            busy = ({work.busy_with} | {r.name for r in work._waiting}) - BACKGROUND - {""}
            quiet = 0 if busy or (done is not None and not done()) else quiet + 1
            if quiet > 8:
                self.window.refresh()
                self.app.processEvents()
                return
        raise AssertionError(f"still busy with '{self.state.work.busy_with}' after {seconds} s")


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


@pytest.fixture
def desk(qapp, filled: Path, tmp_path: Path, monkeypatch) -> Iterator[Desk]:  # type: ignore[no-untyped-def]
    from PyQt6.QtCore import QEvent

    # A coarser grid than a person gets: what is tested here is the window, not the stress.
    monkeypatch.setattr("knollside.desk.asks.CELLS", 7_000)  # a thin shell may double it
    shutil.copy(filled, tmp_path / "w.sqlite")
    made = open_desk(qapp, tmp_path / "w.sqlite")
    yield made
    made.window.close()
    # Really gone: a change of theme dresses every window there is, and a closed one too.
    made.window.deleteLater()
    qapp.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def open_desk(qapp, path: Path) -> Desk:  # type: ignore[no-untyped-def]
    from PyQt6.QtCore import QSettings
    from PyQt6.QtTest import QTest

    from knollside.demo.fill import fill_demo
    from knollside.desk.main import open_last
    from knollside.desk.state import State
    from knollside.desk.theme.look import font, load_fonts, look
    from knollside.desk.window import Window
    from knollside.desk.work import Work
    from knollside.store.workshop import Workshop

    load_fonts()
    qapp.setFont(font(14))
    look.lamp = False
    shop = Workshop(path)
    fill_demo(shop)
    window = Window(State(shop, Work()), QSettings(str(path.with_suffix(".ini")), QSettings.Format.IniFormat))
    open_last(window)
    window.resize(1280, 800)
    window.show()
    # Shortcuts need the active window; no window manager is there to make it so.
    QTest.qWaitForWindowExposed(window)
    window.activateWindow()
    QTest.qWaitForWindowActive(window, 3000)
    return Desk(window, qapp)


@pytest.fixture
def shelf(desk: Desk, tmp_path) -> Desk:  # type: ignore[no-untyped-def]
    """A post with a shelf: one place that needs holding, one that does not, and four ways to lie."""
    from knollside.core.mesh.write import stl_bytes
    from knollside.core.model import Duty, Held, Load, LoadCase, Way

    solid = m3.Manifold.cube((12, 24, 30)) + m3.Manifold.cube((36, 24, 6)).translate((0, 0, 24))
    solid = solid + m3.Manifold.cube((1.0, 24, 4)).translate((-1.0, 0, 26))
    (tmp_path / "shelf.stl").write_bytes(stl_bytes(mesh_of(solid), "shelf"))
    desk.settle(lambda: desk.state.facts is not None)
    desk.window.part_step.open_file(str(tmp_path / "shelf.stl"))
    desk.settle(lambda: desk.state.doc.name == "Shelf" and desk.state.facts is not None)
    foot = next(f.id for f in desk.state.facts.features if f.kind == "flat" and f.axis[2] < -0.9 and f.centre[2] < 1)
    load = LoadCase(name="a pot", loads=(Load(at=(34, 12, 30), force_N=(0, 0, -20)),))
    desk.state.edit("duty", Duty(held=(Held(feature=foot),), cases=(load,), danger="no one"), "a shelf")
    desk.state.edit("recipe", desk.state.doc.recipe.model_copy(update={"infill": 1.0}), "solid")
    desk.state.edit("way", Way(direction=(0, 0, 1)), "upright")
    desk.settle()
    desk.window.take("Lay")
    desk.settle(lambda: desk.state.answers.get("lay") is not None)
    return desk
