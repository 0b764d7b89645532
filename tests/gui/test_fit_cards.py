"""Fits of the vent hinge: what lies between its bodies, its flare, and growing it while its gap stays."""

from __future__ import annotations

import pytest
from conftest import Desk, mesh_of, seen, turn_to, type_in
from conftest import press_in_panel as press
from manifold3d import Manifold as Solid
from PyQt6.QtWidgets import QPushButton

from knollside.core.mesh.write import stl_bytes


@pytest.fixture
def hinge(desk: Desk) -> Desk:
    state = desk
    desk.settle(lambda: state.facts is not None)
    state.workspace.open(next(p.id for p in state.shop.parts.names() if p.name == "Vent hinge"))
    desk.settle(lambda: state.facts is not None)
    desk.window.take("Fits")
    turn_to(desk, "Gaps")
    desk.settle(lambda: state.fresh("gaps") is not None)
    return desk


def test_the_gap_says_what_welds_it_and_taking_the_flare_off_helps(hinge: Desk) -> None:
    state = hinge
    (before,) = state.fresh("gaps")
    assert "Hinge on cones, 1 and 2, 0.40 mm" in seen(hinge) and "they flare" in seen(hinge)
    press(hinge, "Take it off")
    hinge.settle(lambda: state.fresh("flare") is not None)
    assert "corners exactly as they were" in seen(hinge) and state.part.revision == 1
    press(hinge, "Keep it without flare")
    hinge.settle(lambda: state.facts is not None and state.fresh("gaps") is not None)
    assert state.part.revision == 2 and state.stored.revision_note == "0.15 mm of flare taken off"
    (after,) = state.fresh("gaps")
    assert after.welds < before.welds and after.turns > before.turns
    state.workspace.take_back()
    hinge.settle(lambda: state.facts is not None)
    assert state.part.revision == 1


def test_the_hinge_grows_and_keeps_its_gap_and_holes(hinge: Desk) -> None:
    state = hinge
    turn_to(hinge, "Shape")
    size = state.facts.mesh.size
    type_in(hinge, "Scale", "160 %")
    press(hinge, "Work it out")
    hinge.settle(lambda: state.fresh("scale") is not None)
    assert "plain scaling would make it 0.64" in seen(hinge) and "plain scaling would make it 7.20" in seen(hinge)
    press(hinge, "Keep as a new revision")
    hinge.settle(lambda: state.facts is not None and state.fresh("gaps") is not None)
    assert state.facts.mesh.size[0] == pytest.approx(1.6 * size[0], rel=0.01)
    assert state.fresh("gaps")[0].gap.smallest == pytest.approx(0.40, abs=0.005)
    assert sorted(f.diameter for f in state.facts.features if f.kind == "hole") == pytest.approx([4.5] * 4, abs=1e-3)
    assert state.part.revision_note == "scaled to 160 %, 4 holes and pockets and gaps kept"


def test_too_large_for_the_bed_and_too_small_are_said_and_change_nothing(hinge: Desk) -> None:
    state = hinge
    turn_to(hinge, "Shape")
    type_in(hinge, "Scale", "900 %")
    press(hinge, "Work it out")
    assert "does not fit Old Tom" in seen(hinge) and state.part.revision == 1
    type_in(hinge, "Scale", "30 %")
    press(hinge, "Work it out")
    hinge.settle(lambda: "30 %" not in state.answer("scale").refusal)
    assert "leave" in seen(hinge) or "cut into a neighbour" in seen(hinge)
    type_in(hinge, "Scale", "0 %")
    assert hinge.window.current.scale.factor.value == 0.3  # refused beside the field


def test_the_first_layer_that_frees_a_gap_goes_into_the_recipe_the_way_and_the_sheet(desk: Desk, tmp_path) -> None:  # type: ignore[no-untyped-def]
    """0.35 mm across the layers from 4.12 mm up: one empty layer of 0.2 with the advised first layer of 0.2."""
    lower, foot = Solid.cube((20, 20, 4.12)), Solid.cube((6, 20, 7.47)).translate((24, 0, 0))
    upper = Solid.cube((25, 20, 3)).translate((0, 0, 4.47)) + foot
    path = tmp_path / "stack.stl"
    path.write_bytes(stl_bytes(mesh_of(Solid.compose([lower, upper]))))
    desk.window.part_step.open_file(str(path))
    desk.settle(lambda: desk.part.name == "Stack" and desk.facts is not None)
    desk.window.take("Fits")
    turn_to(desk, "Gaps")
    desk.settle(lambda: desk.fresh("gaps") is not None)
    (before,) = desk.fresh("gaps")
    name = next(b.text() for b in desk.window.findChildren(QPushButton) if b.text().startswith("First layer 0."))
    press(desk, name)
    desk.settle(lambda: desk.fresh("gaps") is not None and desk.fresh("gaps")[0].welds < before.welds)
    first = desk.stored.recipe.first_layer
    assert first == pytest.approx(before.first_layer) and name == f"First layer {first:.2f} mm"
    assert desk.fresh("gaps")[0].gap.anywhere.across.layers == 2
    desk.window.take("Build")
    type_in(desk, "First layer, mm", "0.2")  # what is advised needs no word of its own
    desk.settle()
    assert desk.stored.recipe.first_layer is None
    type_in(desk, "First layer, mm", "0.26")
    desk.settle()

    assert desk.stored.recipe.first_layer == 0.26 and desk.stored.recipe.first_mm(0.4) == 0.26
    desk.workspace.take_back()
    assert desk.stored.recipe.first_layer is None
