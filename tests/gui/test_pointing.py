"""What is not found on a part is pointed at, said, undone and corrected; and the kinds on the stage."""

from __future__ import annotations

import numpy as np
import pytest
import scans
from conftest import Desk, pick, press, press_in_panel, seen
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QPushButton

from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Mate
from knollside.gui.viewport.raster import KIND, KINDS


def opened(desk: Desk, tmp_path, mesh, name: str) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / f"{name}.stl"
    path.write_bytes(stl_bytes(mesh))
    desk.window.part_step.open_file(str(path))
    desk.settle(lambda: desk.part.name == name.capitalize() and desk.facts is not None)


def on_wall(desk: Desk, x: float, y: float, r: float) -> QPoint:
    """A pixel that shows the wall of an upright round at (x, y)."""
    stage, mesh = desk.window.stage, desk.facts.mesh
    middles = mesh.triangles.mean(axis=1)
    near = np.abs(np.hypot(middles[:, 0] - x, middles[:, 1] - y) - r) < 0.15
    wall = np.flatnonzero(near & (np.abs(mesh.normals[:, 2]) < 0.3) & (middles[:, 2] > 2) & (middles[:, 2] < 5.4))
    rows, cols = np.nonzero(np.isin(stage._face_at, np.flatnonzero(np.isin(desk.view.look.original, wall))))
    assert len(rows), "the wall is not seen"
    k = len(rows) // 2
    return QPoint(int(cols[k] / stage._scale), int(rows[k] / stage._scale))


def test_a_hole_is_pointed_at_said_undone_and_used(desk: Desk, tmp_path) -> None:  # type: ignore[no-untyped-def]
    opened(desk, tmp_path, scans.softened(), "soft plate")
    step = desk.window.part_step
    assert not any(f.kind == "hole" for f in desk.facts.features) and "0 holes" in seen(desk)
    assert "of its surface is free" in seen(desk)
    press_in_panel(desk, "Point at one …")
    assert "Click its wall on the stage" in seen(desk)
    go = next(b for b in step.panel.findChildren(QPushButton) if b.text() == "It is one")
    assert not go.isEnabled()
    QTest.mouseClick(desk.window.stage, Qt.MouseButton.LeftButton, pos=on_wall(desk, 7, 10, 4))
    desk.settle()
    assert "1 place" in seen(desk) and desk.window.stage.scene.places
    # Said wrongly, the reason is told and nothing is stored.
    pick(desk, "What it is", "a pin")
    press_in_panel(desk, "It is one")
    desk.settle(lambda: bool(desk.answer("pointed").refusal))
    assert "looks inward" in seen(desk) and not any(f.pointed for f in desk.facts.features)
    pick(desk, "What it is", "a hole")
    press_in_panel(desk, "It is one")
    desk.settle(lambda: any(f.pointed for f in desk.facts.features))
    hole = next(f for f in desk.facts.features if f.pointed)
    assert hole.id == "hole-1" and hole.diameter == pytest.approx(scans.HOLE, abs=0.06)
    assert "Hole 1: " in desk.window.note.text() and desk.session.picked == "hole-1"
    assert desk.stored.newest.names.entry("hole-1").signature.pointed == hole.pointed
    # Undo and redo by the header's button and its key.
    desk.workspace.take_back()
    desk.settle(lambda: desk.facts is not None and not any(f.pointed for f in desk.facts.features))
    desk.workspace.make_again()
    desk.settle(lambda: desk.facts is not None and any(f.pointed for f in desk.facts.features))
    # Used like any other: a mate, and its wall made anew.
    desk.put("mates", (Mate(feature="hole-1", hardware="rod 8 mm", fit="free"),), "a rod")
    desk.window.take("Fits")
    desk.settle(lambda: desk.fresh("fits") is not None)
    press(desk, "Correct the mesh")
    desk.settle(lambda: desk.fresh("correct") is not None)
    made = desk.fresh("correct")
    assert [c.feature for c in made.changes] == ["hole-1"] and not made.refused
    # What is spoken of is not taken back; without its mate it is.
    desk.window.take("Part")
    desk.session.pick("hole-1")
    desk.settle()
    press_in_panel(desk, "It is none after all")
    assert "take that away first" in desk.window.note.text() and any(f.pointed for f in desk.facts.features)
    desk.put("mates", (), "nothing")
    desk.session.pick("hole-1")
    desk.settle()
    press_in_panel(desk, "It is none after all")
    desk.settle(lambda: desk.facts is not None and not any(f.pointed for f in desk.facts.features))


def test_the_stage_shows_every_face_by_its_kind(desk: Desk, tmp_path) -> None:  # type: ignore[no-untyped-def]
    opened(desk, tmp_path, scans.scanned(0.03), "scan")
    assert "Scanned: its surface scatters by 0.0" in seen(desk)
    scene = desk.window.stage.scene
    assert set(scene.legend) == {"hole", "pin", "slot or pocket", "unnamed"}
    shown = scene.marks // KIND
    drawn = desk.view.look.original
    for f in desk.facts.features:
        kind = {"hole": "hole", "pin": "pin", "slot": "slot or pocket"}.get(f.kind)
        assert set(shown[np.isin(drawn, f.faces)]) == {0 if kind is None else KINDS.index(kind) + 1}
    box = next(b for b in desk.window.current.panel.findChildren(QCheckBox) if b.text() == "by kind")
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
    desk.settle()
    assert desk.window.stage.scene.legend == ("held", "pushed", "mates") and desk.window.stage.scene.marks.max() < KIND
