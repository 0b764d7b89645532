"""The five faults for which the ground was rebuilt, each shown gone in the real window."""

from __future__ import annotations

from pathlib import Path

import manifold3d as m3
import numpy as np
import pytest
from conftest import Desk, mesh_of, press, seen, turn_to, type_in
from PyQt6.QtWidgets import QComboBox

from knollside.core.job.ask import Answerer
from knollside.core.job.asked import ask_proof, ask_strength
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase
from knollside.gui import nodes

BROKEN = Path(__file__).parents[1] / "fuzz/found/step/self-offset.step"


def worked_out(desk: Desk):  # type: ignore[no-untyped-def]
    """The reserve of what is stored now, by an answerer that was never asked anything."""
    ask = Answerer()
    ask.meshes.put(desk.facts.mesh)
    return ask(ask_proof(ask_strength(desk.part.question, desk.part, nodes.strength.cells), desk.part)).solved


def test_a_sheet_never_tells_the_reserve_of_another_recipe(shelf: Desk) -> None:
    """A sheet said 45.5 and "it holds" for a recipe whose own solve gave 4.2."""
    shelf.window.take("Build")
    shelf.settle(lambda: shelf.fresh("build") is not None)
    run = shelf.window.steps["Run"]
    press(shelf, "Use this recipe")
    shelf.settle(lambda: shelf.fresh("prove") is not None)
    solid = run.hand._sheet().reserve
    assert solid == worked_out(shelf)
    type_in(shelf, "Walls", "1")
    type_in(shelf, "Infill", "0 %")

    def judged() -> bool:
        words = shelf.window.verdict_line.title.text()
        return shelf.fresh("build") is not None and ("hold" in words or "close to call" in words)

    shelf.settle(judged)
    press(shelf, "Use this recipe")
    shelf.settle(lambda: shelf.fresh("prove") is not None)
    hollow = run.hand._sheet().reserve
    assert hollow == worked_out(shelf) and hollow.value < 0.6 * solid.value
    # While nothing new is worked out, nothing is told.
    shelf.put("recipe", shelf.part.recipe.model_copy(update={"walls": 6}), "six walls")
    told = run.hand._sheet()
    assert told.reserve is None and "not worked out" in told.said
    shelf.workspace.take_back()
    assert run.hand._sheet().reserve == hollow


def test_a_force_of_90_after_88_answers_as_if_it_had_been_the_first(shelf: Desk) -> None:
    """A force changed from 88 to 90 N answered 4.75 where a fresh worker answered 1.33."""
    design_case = shelf.part.design_case
    for newtons in (-88.0, -90.0):
        load = design_case.cases[0].loads[0].model_copy(update={"force_N": (0.0, 0.0, newtons)})
        case = design_case.cases[0].model_copy(update={"loads": (load,)})
        shelf.put("duty", design_case.model_copy(update={"cases": (case,)}), "another force")
        shelf.window.take("Build")
        shelf.session.ask(nodes.PROVE)
        shelf.settle(lambda: shelf.fresh("prove") is not None)
        assert shelf.fresh("prove").solved == worked_out(shelf), newtons


def test_a_held_face_is_itself_after_the_flare_was_taken_off(desk: Desk, tmp_path: Path) -> None:
    """A held face silently became the opposite one after "take the flare off"."""
    body = m3.Manifold.cube((30, 20, 12))
    (tmp_path / "blocks.stl").write_bytes(stl_bytes(mesh_of(body + body.translate((30.4, 0, 0))), "blocks"))
    desk.settle(lambda: desk.facts is not None)
    desk.window.part_step.open_file(str(tmp_path / "blocks.stl"))
    desk.settle(lambda: desk.part.name == "Blocks" and desk.facts is not None)
    flats = {tuple(np.round(f.axis, 3)): f for f in desk.facts.features if f.kind == "flat" and f.body == 0}
    held, pushed = flats[-1.0, 0.0, 0.0], flats[0.0, 0.0, 1.0]
    case = LoadCase(name="it", loads=(ForceLoad(feature=pushed.id, force_N=(0, 0, -9)),))
    desk.put("duty", DesignCase(fixtures=(FixedFixture(feature=held.id),), cases=(case,)), "held")
    desk.window.take("Fits")
    turn_to(desk, "Gaps")
    desk.settle(lambda: desk.fresh("gaps") is not None)
    press(desk, "Take it off")
    desk.settle(lambda: desk.fresh("flare") is not None)
    press(desk, "Keep it without flare")
    desk.settle(lambda: desk.facts is not None and desk.part.revision == 2)
    for before, name in (
        (held, desk.part.design_case.fixtures[0].feature),
        (pushed, desk.part.design_case.cases[0].loads[0].feature),
    ):
        now = desk.facts.feature(name)
        assert now is not None and name == before.id
        assert np.dot(now.axis, before.axis) > 0.99
        assert abs(np.dot(np.subtract(now.centre, before.centre), before.axis)) < 0.01


def test_any_layer_height_the_window_takes_leaves_it_running(desk: Desk) -> None:
    """A layer height the window itself offered ended the process, and the workshop never opened again."""
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Build")
    desk.settle()
    for text in ("1.2 mm", "0.02 mm", "9 mm", "0 mm", "-1 mm", "1e9 mm"):
        type_in(desk, "Layer, mm", text)
        assert 0.04 <= desk.window.steps["Build"].recipe.layer_height <= 1.2
        for step in ("Lay", "Run", "Build"):
            desk.window.take(step)
            desk.app.processEvents()
    stored = desk.shop.parts.get(desk.part.id)
    assert stored.recipe == desk.part.recipe
    desk.window.take("Build")


@pytest.mark.parametrize("size", ["as it is", "655 bytes"])
def test_a_file_that_ends_its_reader_ends_nothing_else(desk: Desk, tmp_path: Path, size: str) -> None:
    """A file of 655 bytes took the window down. This one, a surface offset from itself, ends the native reader."""
    desk.settle(lambda: desk.facts is not None)
    name, parts = desk.part.name, len(desk.shop.parts.names())
    data = BROKEN.read_bytes()
    if size != "as it is":
        data = data.replace(b"ENDSEC;\nEND-", b"/*" + b" " * (655 - len(data) - 4) + b"*/ENDSEC;\nEND-")
        assert len(data) == 655
    (tmp_path / "offset.step").write_bytes(data)
    desk.window.take("Part")
    desk.window.part_step.open_file(str(tmp_path / "offset.step"))
    desk.settle(lambda: "offset.step could not be read" in seen(desk) + desk.window.note.text())
    assert desk.part.name == name and len(desk.shop.parts.names()) == parts
    combo = desk.window.header.findChild(QComboBox)
    assert combo is not None and desk.facts is not None
    desk.window.take("Duty")
    desk.settle()
