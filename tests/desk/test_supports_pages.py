"""Supports by region and the ways side by side, in the real window."""

from __future__ import annotations

import manifold3d as m3
import pytest
from conftest import Desk, mesh_of
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLabel, QPushButton

from knollside.core.lay.supports import bill
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Duty, Held, Load, LoadCase, Way
from knollside.desk.stage.raster import MARKS


@pytest.fixture
def shelf(desk: Desk, tmp_path) -> Desk:  # type: ignore[no-untyped-def]
    """A post with a shelf: one place that needs holding, one that does not, and four ways to lie."""
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


def turn_to(desk: Desk, words: str) -> None:
    tab = next(b for b in desk.window.current.panel.findChildren(QPushButton) if b.text() == words)
    QTest.mouseClick(tab, Qt.MouseButton.LeftButton)
    desk.settle()


def seen(desk: Desk) -> str:
    return "\n".join(w.text() for w in desk.window.current.panel.findChildren(QLabel) if w.isVisible())


def boxes(desk: Desk) -> list[QCheckBox]:
    found = [b for b in desk.window.current.panel.findChildren(QCheckBox) if b.isVisible()]
    return [b for b in found if b.accessibleName().startswith("Support place")]


def test_supports_follow_the_school_and_then_the_hand(shelf: Desk) -> None:
    state = shelf.state
    turn_to(shelf, "Supports")
    shelf.settle(lambda: state.answers.fresh("supports", state.supports_key) is not None)
    found = state.answers.get("supports").regions
    assert len(found) == 2 and "1 place supported" in seen(shelf)
    first = bill(found, state.holding)
    assert f"{first.grams:.1f} g and {first.minutes:.0f} min" in seen(shelf)
    # The stage looks up from below, hatched where nothing holds it.
    assert (shelf.window.stage.scene.marks == MARKS["unheld"]).any()
    assert shelf.window.stage.camera.pitch < 0 and len(shelf.window.stage.scene.places) == 1
    on = [b.isChecked() for b in boxes(shelf)]
    assert on == [True, False]
    QTest.mouseClick(boxes(shelf)[0], Qt.MouseButton.LeftButton, pos=QPoint(10, boxes(shelf)[0].height() // 2))
    shelf.settle()
    assert state.doc.way.holding.by_hand == {found[0].key: False}
    assert "No supports" in seen(shelf) and "1 place that should be held is left without." in seen(shelf)
    school = next(c for c in shelf.window.findChildren(QComboBox) if c.accessibleName() == "Which places are supported")
    school.setCurrentIndex(school.findData("all"))
    school.activated.emit(school.currentIndex())
    shelf.settle()
    assert state.doc.way.holding.school == "all" and not state.doc.way.holding.by_hand
    assert "2 places supported" in seen(shelf)
    for _ in range(2):
        state.undo.undo()
    shelf.settle()
    assert state.doc.way.holding.school == "pays" and not state.doc.way.holding.by_hand


def test_the_choice_is_kept_with_the_way_in_the_workshop(shelf: Desk) -> None:
    state = shelf.state
    state.edit(
        "way", state.doc.way.model_copy(update={"holding": state.holding.model_copy(update={"style": "tree"})}), "tree"
    )
    shelf.settle()
    assert state.shop.part(state.doc.id).way.holding.style == "tree"


def test_ways_side_by_side_tell_what_each_costs(shelf: Desk) -> None:
    state = shelf.state
    turn_to(shelf, "Side by side")
    shelf.settle(lambda: state.answers.fresh("compare", state.compare_key) is not None)
    columns = state.answers.get("compare")
    assert 2 <= len(columns) <= 4
    cells = {
        w.accessibleName(): w.text() for w in shelf.window.current.panel.findChildren(QLabel) if w.accessibleName()
    }
    for c in columns:
        letter = c.way.letter
        assert cells[f"grams of {letter}"] == f"{c.grams:.0f}"
        assert cells[f"supports of {letter}"] == (f"{c.bill.grams:.1f} g" if c.bill.count else "none")
    # On its side the profile rests whole: that way takes no support at all.
    sides = [c for c in columns if abs(c.way.direction[1]) > 0.99]
    assert sides and all(c.bill.count == 0 for c in sides) and any(not c.beaten for c in columns)
    assert "Nothing beats it in all." in seen(shelf)


def test_build_tells_which_roofs_would_not_close(shelf: Desk) -> None:
    state = shelf.state
    shelf.window.take("Build")
    shelf.settle(lambda: state.answers.fresh("roofs", state.roofs_key(state.doc.recipe)) is not None)
    told = next(w for w in shelf.window.current.panel.findChildren(QLabel) if w.accessibleName() == "Roofs")
    assert told.text() == "Solid: nothing to close."
    empty = state.doc.recipe.model_copy(update={"infill": 0.0, "walls": 2})
    state.edit("recipe", empty, "empty")
    shelf.settle(lambda: state.answers.fresh("roofs", state.roofs_key(empty)) is not None)
    # The top is 36 by 24 mm less two walls each side: 22.2 mm to span.
    assert "would not close" in told.text() and "spans 22 mm" in told.text() and "9 % infill" in told.text()
    state.edit("recipe", empty.model_copy(update={"infill": 0.3}), "some infill")
    shelf.settle(lambda: "roofs close" in told.text())
