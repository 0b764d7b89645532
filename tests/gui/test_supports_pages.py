"""Supports by region and the ways side by side, in the real window."""

from __future__ import annotations

import pytest
from conftest import Desk, seen, turn_to, type_in
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLabel, QPushButton

from knollside.core.lay.supports import bill
from knollside.core.model.trials import SupportStudy
from knollside.gui import nodes
from knollside.gui.viewport.raster import MARKS


def boxes(desk: Desk) -> list[QCheckBox]:
    found = [b for b in desk.window.current.panel.findChildren(QCheckBox) if b.isVisible()]
    return [b for b in found if b.accessibleName().startswith("Support place")]


def test_supports_follow_the_school_and_then_the_hand(shelf: Desk) -> None:
    state = shelf
    turn_to(shelf, "Supports")
    shelf.settle(lambda: state.fresh("supports") is not None)
    found = state.fresh("supports").regions
    assert len(found) == 2 and "1 place supported" in seen(shelf)
    first = bill(found, state.part.support_settings)
    assert f"{first.grams:.1f} g and {first.minutes:.0f} min" in seen(shelf)
    # The stage looks up from below, hatched where nothing holds it.
    assert (shelf.window.stage.scene.marks == MARKS["unheld"]).any()
    assert shelf.window.stage.camera.pitch < 0 and [w for _, w in shelf.window.stage.scene.places] == ["1", "seam here"]
    on = [b.isChecked() for b in boxes(shelf)]
    assert on == [True, False]
    QTest.mouseClick(boxes(shelf)[0], Qt.MouseButton.LeftButton, pos=QPoint(10, boxes(shelf)[0].height() // 2))
    shelf.settle()
    assert state.part.orientation.support_settings.by_hand == {found[0].key: False}
    assert "No supports" in seen(shelf) and "1 place that should be held is left without." in seen(shelf)
    preset = next(c for c in shelf.window.findChildren(QComboBox) if c.accessibleName() == "Which places are supported")
    preset.setCurrentIndex(preset.findData("all"))
    preset.activated.emit(preset.currentIndex())
    shelf.settle()
    assert (
        state.part.orientation.support_settings.preset == "all" and not state.part.orientation.support_settings.by_hand
    )
    assert "2 places supported" in seen(shelf)
    for _ in range(2):
        state.workspace.take_back()
    shelf.settle()
    assert (
        state.part.orientation.support_settings.preset == "pays" and not state.part.orientation.support_settings.by_hand
    )


def test_the_choice_is_kept_with_the_way_in_the_workshop(shelf: Desk) -> None:
    state = shelf
    state.put(
        "way",
        state.part.orientation.model_copy(
            update={"support_settings": state.part.support_settings.model_copy(update={"style": "tree"})}
        ),
        "tree",
    )
    shelf.settle()
    assert state.shop.parts.get(state.part.id).orientation.support_settings.style == "tree"


def test_ways_side_by_side_tell_what_each_costs(shelf: Desk) -> None:
    state = shelf
    turn_to(shelf, "Side by side")
    shelf.settle(lambda: state.fresh("compare") is not None)
    columns = state.fresh("compare")
    assert 2 <= len(columns) <= 4
    cells = {
        w.accessibleName(): w.text() for w in shelf.window.current.panel.findChildren(QLabel) if w.accessibleName()
    }
    for c in columns:
        letter = c.orientation.letter
        assert cells[f"grams of {letter}"] == f"{c.grams:.0f}"
        assert cells[f"supports of {letter}"] == (f"{c.bill.grams:.1f} g" if c.bill.count else "none")
    # On its side the profile rests whole: that way takes no support at all.
    sides = [c for c in columns if abs(c.orientation.direction[1]) > 0.99]
    assert sides and all(c.bill.count == 0 for c in sides) and any(not c.beaten for c in columns)
    assert "Nothing beats it in all." in seen(shelf)


def test_side_by_side_tells_the_list_s_own_reserves_also_before_the_grid_was_checked(shelf: Desk) -> None:
    shelf.settle(lambda: shelf.fresh("settled") is not None)
    shelf.derived.forget(nodes.SETTLED)
    view = shelf.view
    assert view.grid is None and view.ranked.fresh is not None
    compared = view.inputs.question(nodes.COMPARE).orientations
    assert [(w.letter, w.reserve) for w in compared] == [(w.letter, w.reserve) for w in view.orientations[:4]]
    # Nothing is known of the grid: a quarter of doubt stands in the range.
    assert all(w.reserve.low <= w.reserve.value / 1.25 for w in compared)


def test_support_numbers_and_a_second_material_are_priced(shelf: Desk) -> None:
    state = shelf
    turn_to(shelf, "Supports")
    shelf.settle(lambda: state.fresh("supports") is not None)
    # The shelf hangs 24 mm up: 120 layers of both materials, two of them touching.
    assert "240 changes" in seen(shelf) and "4 changes" in seen(shelf)
    before = state.fresh("supports").regions[0].force.value
    type_in(shelf, "Support gap", "0.3")
    shelf.settle(lambda: state.fresh("supports") is not None)
    assert state.part.orientation.support_settings.gap_mm == 0.3
    assert state.fresh("supports").regions[0].force.value == pytest.approx(before / 2)
    assert "First layer" in seen(shelf)
    # What was felt of supports on this printer is what the places say, and the sheet's clean-up with them.
    assert "N (typical)." in seen(shelf)
    told = {"gap_mm": 0.3, "outcome": "clean", "force_N": 90.0, "roof_mm": (12, 12)}
    study = SupportStudy(printer=state.part.printer_id, material=state.part.material, trials=(told, told, told))
    stiff = state.fresh("supports").regions[0].force
    shelf.workspace.runs.put_gaps(1, study, "three supports felt")
    shelf.settle(lambda: state.fresh("supports") is not None)
    assert "N (yours, 3 trials)." in seen(shelf) and "lift (yours, 3 trials)." in seen(shelf)
    felt = state.fresh("supports").regions[0].force
    assert felt.value > 1.5 * stiff.value and felt.high / felt.low < stiff.high / stiff.low


def test_the_log_notes_what_the_layers_hold(shelf: Desk) -> None:
    state, log = shelf, shelf.window.log
    shelf.window.take("Lay")
    turn_to(shelf, "Supports")
    # The check on another grid, which runs behind, gives the log and the supports their last question.
    shelf.settle(lambda: all(state.fresh(n) is not None for n in ("settled", "detail", "supports")))
    shelf.window.refresh()
    assert any(n.grave and n.low == pytest.approx(24.0, abs=0.3) for n in log.notes)
    log._to(24.1)
    assert log.words_at_cursor().startswith("◆ 24 mm")


def test_own_weights_reorder_the_list_at_once_and_can_be_undone(shelf: Desk) -> None:
    state = shelf
    solved = state.fresh("lay")
    turn_to(shelf, "Weights")
    order = [w.direction for w in state.view.ranked.fresh.ranking.orientations]
    for name in ("Weight of strength", "Weight of little to support", "Weight of broad on the bed"):
        type_in(shelf, name, "0")
    type_in(shelf, "Weight of low", "100")
    assert state.part.design_case.weights["height"] == 1.0 and state.fresh("lay") is solved
    lowest = min((w for w in solved.ranking.every if w.footing.stands and w.holds), key=lambda w: w.footing.height)
    assert state.view.ranked.fresh.ranking.orientations[0].footing.height == pytest.approx(lowest.footing.height)
    assert "Your weights" in seen(shelf)
    back = next(b for b in shelf.window.findChildren(QPushButton) if b.text() == "As the purpose has it")
    QTest.mouseClick(back, Qt.MouseButton.LeftButton)
    shelf.settle()
    assert (
        not state.part.design_case.weights
        and [w.direction for w in state.view.ranked.fresh.ranking.orientations] == order
    )
    state.workspace.take_back()
    assert state.part.design_case.weights


def test_a_cut_in_two_is_told_with_its_joint(shelf: Desk) -> None:
    state = shelf
    turn_to(shelf, "Cut in two")
    shelf.settle(lambda: state.fresh("split") is not None)
    plans = state.fresh("split")
    if not plans:
        assert "No cut pays" in seen(shelf)
        return
    assert "Joint, glued" in seen(shelf) and "typical" in seen(shelf)
    assert [words for _, words in shelf.window.stage.scene.places] == [f"cut {i + 1}" for i in range(len(plans))]
