"""Shared pieces: small exact parts, and a window on a workshop of its own."""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

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
        """Run the event loop until nothing runs (and ``done`` holds)."""
        end = time.monotonic() + seconds
        quiet = 0
        while time.monotonic() < end:
            self.app.processEvents()
            time.sleep(0.005)
            busy = self.state.work.busy_with or self.state.work._waiting
            quiet = 0 if busy or (done is not None and not done()) else quiet + 1
            if quiet > 8:
                self.window.refresh()
                self.app.processEvents()
                return
        raise AssertionError(f"still busy with '{self.state.work.busy_with}' after {seconds} s")


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


@pytest.fixture
def desk(qapp, tmp_path: Path, monkeypatch) -> Iterator[Desk]:  # type: ignore[no-untyped-def]
    # A coarser grid than a person gets: what is tested here is the window, not the stress.
    monkeypatch.setattr("knollside.desk.asks.CELLS", 7_000)  # a thin shell may double it
    made = open_desk(qapp, tmp_path / "w.sqlite")
    yield made
    made.window.close()


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
