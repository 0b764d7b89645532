"""Build's pages: any recipe priced, patterns and nozzles, roofs, one spiral wall, pinned recipes, own materials."""

from __future__ import annotations

import pytest
from conftest import Desk, seen, turn_to, type_in
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton

from knollside.core.material.cards import MATERIALS
from knollside.core.material.infill import PATTERNS
from knollside.gui.instruments.widgets import times


@pytest.fixture
def built(shelf: Desk) -> Desk:
    shelf.window.take("Build")
    shelf.settle(lambda: shelf.fresh("build") is not None)
    return shelf


def press(desk: Desk, name: str) -> None:
    found = [b for b in desk.window.findChildren(QPushButton) if b.accessibleName() == name and b.isVisible()]
    QTest.mouseClick(found[0], Qt.MouseButton.LeftButton)
    desk.settle()


def test_a_recipe_off_the_board_is_priced_by_itself(built: Desk) -> None:
    state, step = built, built.window.steps["Build"]
    type_in(built, "Walls", "9")
    type_in(built, "Infill", "33 %")
    built.settle(lambda: state.fresh("build") is not None)
    dot = step._dot(state.part.recipe)
    assert (dot.recipe.walls, dot.recipe.infill) == (9, 0.33)
    assert built.window.verdict_line.number.text() == times(dot.reserve.value)
    near = [d for d in state.fresh("build").board.dots if d.recipe.walls in (8, 10) and d.recipe.tops == 5]
    low = min(d.price.grams for d in near if d.recipe.infill == 0.3)
    high = max(d.price.grams for d in near if d.recipe.infill == 0.4)
    assert low <= dot.price.grams <= high


def test_what_each_choice_buys_is_listed_and_can_be_tried(built: Desk) -> None:
    state, step = built, built.window.steps["Build"]
    type_in(built, "Infill", "20 %")
    turn_to(built, "What it buys")
    built.settle(lambda: step.around is not None)
    kinds = [v.kind for v in step.around.variants]
    assert kinds.count("pattern") == len(PATTERNS) == 6 and kinds.count("layer") >= 5 and kinds.count("nozzle") >= 4
    by = {v.name: v.dot for v in step.around.variants}
    assert by["0.1 mm"].price.hours.value > by["0.2 mm"].price.hours.value > by["0.3 mm"].price.hours.value
    assert by["0.8 mm"].price.hours.value < by["0.4 mm"].price.hours.value
    press(built, "Try pattern gyroid")
    assert step.tried.pattern == "gyroid" and state.part.recipe.pattern == "grid"
    press(built, "Use this recipe")
    built.settle(lambda: state.fresh("prove") is not None)
    assert state.part.recipe.pattern == "gyroid"


def test_roofs_are_told_patch_by_patch_and_when_empty_pays(built: Desk) -> None:
    state = built
    turn_to(built, "Roofs")
    built.settle(lambda: state.fresh("even") is not None)
    assert "Solid: nothing to close" in seen(built)
    empty = state.part.recipe.model_copy(update={"infill": 0.0, "walls": 2})
    state.put("recipe", empty, "empty")
    built.settle(lambda: state.fresh("even") is not None)
    # The top is 36 by 24 mm less two walls each side: 22.2 mm to span.
    assert "would not close" in seen(built) and "spans 22 mm, stays open" in seen(built)
    assert "9 % infill under it only, 2 ribs across it" in seen(built)
    assert "times this size" in seen(built) or "at any size" in seen(built)
    some = empty.model_copy(update={"infill": 0.3})
    state.put("recipe", some, "some infill")
    built.settle(lambda: state.fresh("roofs") is not None)
    assert "All roofs close" in seen(built) and "Left empty: spans 22 mm, stays open." in seen(built)


def test_one_spiral_wall_says_which_face_moves(built: Desk) -> None:
    step = built.window.steps["Build"]
    turn_to(built, "Spiral")
    built.settle(lambda: step.around is not None)
    assert "The inside comes in 0.45 mm a side: 0.90 mm less room across." in seen(built)
    face = next(c for c in built.window.findChildren(QComboBox) if c.accessibleName() == "Face that stays")
    face.setCurrentIndex(1)
    face.activated.emit(1)
    built.settle()
    assert "The outside goes out 0.45 mm a side: 0.90 mm larger across." in seen(built)
    press(built, "Look at the fits")
    assert built.window.current.name == "Fits"


def test_recipes_are_pinned_side_by_side_and_dropped(built: Desk) -> None:
    step = built.window.steps["Build"]
    press(built, "Pin it")
    step._try(built.fresh("build").board.preset("Thick shell, empty").recipe)
    built.settle()
    press(built, "Pin it")
    cells = {w.accessibleName(): w.text() for w in built.window.current.panel.findChildren(QLabel)}
    assert cells["infill of pinned recipe 1"] == "100 %" and cells["infill of pinned recipe 2"] == "0 %"
    press(built, "Drop pinned recipe 1")
    assert [d.recipe.infill for d in step.pinned] == [0.0]


def test_a_colder_nozzle_weakens_the_bond_and_the_ways_go_stale(built: Desk) -> None:
    state = built
    before = state.part.card.bond.value
    type_in(built, "Nozzle heat", "225")
    assert state.part.recipe.nozzle_c == 225 and state.part.card.bond.value == pytest.approx(before * (1 - 0.012 * 15))
    built.settle(lambda: state.fresh("build") is not None)
    assert "Nozzle heat, 225 °C: 82 % of the bond" in seen(built)
    press(built, "As usual")
    assert state.part.card.bond.value == before


def test_own_values_of_a_material_take_over_visibly(built: Desk) -> None:
    state = built
    built.window.take("Workshop")
    turn_to(built, "Materials")
    form = built.window.current.cards
    assert form.at == state.part.material == "PETG"
    type_in(built, "Pull, in the layer, value", "52")
    assert state.part.card.pull.value == 52 and state.part.card.pull.source == "yours"
    assert state.part.card.pull.low == pytest.approx(52 * 0.9)
    assert form.chips["pull"].source == "yours" and form.chips["modulus"].source == "typical"
    type_in(built, "Pull, in the layer, low", "50")
    assert (state.part.card.pull.low, state.part.card.pull.value) == (50, 52)
    assert state.shop.machines.own_cards()["PETG"].values["pull"].low == 50
    type_in(built, "Price a kilogram, value", "31.5")
    assert state.part.card.price_per_kg == 31.5
    press(built, "Pull, in the layer: typical again")
    assert state.part.card.pull == MATERIALS["PETG"].pull
    state.workspace.take_back()
    assert state.part.card.pull.low == 50
    type_in(built, "Density, value", "0.01")
    assert state.part.card.density == MATERIALS["PETG"].density  # refused beside the field
    built.window.take("Build")
    built.settle(lambda: state.fresh("build") is not None)
    assert "Price a kilogram: yours" in built.window.current.price_note.text()


def test_the_board_is_checked_against_full_solves(built: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    state, step = built, built.window.steps["Build"]
    # A grid that its own check does not refine: what is compared is the board, not two grids.
    monkeypatch.setattr("knollside.gui.nodes.strength.cells", 4_600)
    built.session.touch()
    built.settle(lambda: state.fresh("build") is not None)
    assert step.check.text() == "Being checked"
    built.settle(lambda: state.fresh("checked") is not None, 600)
    board = state.fresh("checked").board
    assert step.check.text() == "Board checked"
    # What is called the lightest that holds was solved, and its low end holds.
    best = board.advice
    assert (best.preset == "Lightest that holds") == (best.solved and best.reserve.low >= board.target)
    assert any(d.solved for d in board.dots) or all(d.reserve.low < board.target for d in board.dots)
    # Exact at a recipe that was solved: solve it again by itself.
    dot = next(d for d in board.dots if (d.recipe.walls, d.recipe.infill, d.recipe.tops) == (4, 0.3, 5))
    step._try(dot.recipe)
    press(built, "Use this recipe")
    built.settle(lambda: state.fresh("prove") is not None)
    assert state.fresh("prove").solved.value == pytest.approx(dot.reserve.value, rel=0.02)


def test_a_part_without_a_load_goes_from_mesh_to_recipe(desk: Desk) -> None:
    """The label plate: no load, so ways by shape, recipes by grams and hours."""
    state = desk
    desk.settle(lambda: state.facts is not None)
    plate = next(p.id for p in state.shop.parts.names() if p.name == "Label plate")
    state.workspace.open(plate)
    desk.settle(lambda: state.facts is not None)
    desk.window.take("Lay")
    desk.settle(lambda: bool(state.view.orientations))
    best = state.view.orientations[0]
    assert best.direction[2] > 0.99 and best.overhang < 5  # on its back the raised digits print unsupported
    assert desk.window.verdict_line.title.text() == "No load, so any way holds."
    press(desk, f"Lay it {best.letter}")
    assert state.part.orientation.direction == best.direction
    turn_to(desk, "Side by side")
    desk.settle(lambda: state.fresh("compare") is not None)
    cells = {w.accessibleName(): w.text() for w in desk.window.current.panel.findChildren(QLabel)}
    assert cells["reserve of A"] == "–" and cells["holes up of A"] == "2 of 2"
    desk.window.take("Build")
    step = desk.window.steps["Build"]
    turn_to(desk, "What it buys")
    desk.settle(lambda: step.around is not None)
    assert " g, " in step.price.text()
    fine = next(v.dot for v in step.around.variants if v.name == "0.1 mm")
    press(desk, "Try layer 0.1 mm")
    desk.settle(lambda: step.around is not None and step.around.dot.recipe == fine.recipe)
    assert step.around.dot.price.hours.value == pytest.approx(fine.price.hours.value, rel=0.05)
    press(desk, "Use this recipe")
    assert state.shop.parts.get(plate).recipe.layer_height == 0.1
