"""Undo in the real window, by keys: what belongs to the workshop is named so, and a refusal crashes nothing."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import Desk
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMenu

from knollside.core.model import Measurement, Recipe
from knollside.gui.choosecopy import ChooseCopy
from knollside.store.opening import NoneThere
from knollside.store.records import Kind
from knollside.store.workshop import Workshop


def test_ctrl_z_names_the_workshops_line_and_survives_a_file_that_is_away(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    header, path = desk.window.header, Path(desk.shop.path)
    n, walls = len(desk.part.readings), desk.part.recipe.walls
    desk.workspace.edit({Kind.RECIPE: Recipe(walls=11)}, "eleven walls")
    desk.workspace.kept.add_reading(Measurement(kind="hole", axis="upright", drawn=5, printed=4.8))
    desk.settle()
    assert header.undo.text().startswith("Undo in the workshop: reading")
    # The line of this part by the menu, though the workshop's act came later.
    header.choose_line(header.undo, False)
    (menu,) = [m for m in header.undo.findChildren(QMenu) if m.isVisible()]
    assert [a.text() for a in menu.actions()] == ["Workshop: reading of hole 5", "Hose arm: eleven walls"]
    QTest.mouseClick(menu, Qt.MouseButton.LeftButton, pos=menu.actionGeometry(menu.actions()[1]).center())
    desk.settle()
    assert desk.stored.recipe.walls == walls and len(desk.part.readings) == n + 1
    away = path.with_name("away")
    path.rename(away)
    for _ in range(3):
        QTest.keyClick(desk.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        desk.app.processEvents()
    assert "was not taken back" in desk.window.note.text() and "is gone" in desk.window.note.text()
    assert len(desk.part.readings) == n + 1 and header.undo.isEnabled()
    away.rename(path)
    QTest.keyClick(desk.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    desk.settle()
    assert len(desk.part.readings) == n and not desk.workspace.history.can_undo


def test_a_workshop_that_is_gone_asks_which_copy(qapp: QApplication, filled: Path, tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    path.write_bytes(filled.read_bytes())
    shop = Workshop(path)
    shop.parts.rename(1, "Kept")
    shop.close()
    path.unlink()
    with pytest.raises(NoneThere) as told:
        Workshop(path)
    asked = ChooseCopy(told.value)
    asked.show()
    assert asked.list.count() == len(told.value.copies)
    QTest.keyClick(asked, Qt.Key.Key_Return)
    assert asked.result() and asked.chosen == told.value.copies[0]
    shop = Workshop.from_copy(path, asked.chosen)
    assert shop.parts.get(1).name == "Kept"
    shop.close()
