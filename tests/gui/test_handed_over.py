"""Files that were written belong to their part, and to what was stated when they were asked for."""

from __future__ import annotations

from pathlib import Path

from conftest import Desk, press, seen

from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Orientation
from knollside.gui.stepbase import Mark


def opened(desk: Desk, name: str) -> None:
    desk.workspace.open(next(p.id for p in desk.shop.parts.names() if p.name == name))
    desk.settle(lambda: desk.part.name == name and desk.facts is not None)
    desk.window.take("Run")
    desk.settle()


def test_files_of_one_part_are_not_another_parts(desk: Desk, tmp_path: Path) -> None:
    desk.settle(lambda: desk.facts is not None)
    opened(desk, "Label plate")
    run = desk.window.steps["Run"]
    run.export_to(tmp_path)
    desk.settle(lambda: bool(run.written))
    assert run.standing().mark is Mark.FULL and "label-plate.3mf" in seen(desk)
    opened(desk, "Trellis clip")
    assert run.written == () and "label-plate" not in seen(desk)
    opened(desk, "Label plate")
    assert "label-plate.3mf" in seen(desk) and run.standing().mark is Mark.FULL


def test_what_is_changed_while_files_are_written_is_not_in_them(desk: Desk, tmp_path: Path) -> None:
    """The files were stamped with what was stated when they were done, and an edit meanwhile looked written."""
    desk.settle(lambda: desk.facts is not None)
    opened(desk, "Label plate")
    run = desk.window.steps["Run"]
    run.export_to(tmp_path)
    desk.put("recipe", desk.part.recipe.model_copy(update={"walls": 7}), "seven walls")
    desk.settle(lambda: bool(run.written))
    assert run.standing().mark is Mark.CRACK and "Old: made before the last change." in seen(desk)
    desk.workspace.take_back()
    desk.settle()
    assert run.standing().mark is Mark.FULL


def test_a_folder_in_the_way_is_told_of_this_part_only(desk: Desk, tmp_path: Path) -> None:
    desk.settle(lambda: desk.facts is not None)
    opened(desk, "Label plate")
    run = desk.window.steps["Run"]
    (tmp_path / "file").write_bytes(stl_bytes(desk.facts.mesh, "in the way"))
    run.export_to(tmp_path / "file")
    desk.settle(lambda: run.verdict().title == "The files could not be written.")
    opened(desk, "Trellis clip")
    assert run.verdict().title != "The files could not be written."


def test_what_a_hand_over_lacks_is_made_from_run_and_kept_while_another_part_is_open(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    opened(desk, "Hose arm")
    desk.put("way", Orientation(direction=(0.0, 0.0, 1.0)), "upright")
    run = desk.window.steps["Run"]
    desk.settle(lambda: desk.fresh("fits") is not None)
    assert "Turned; holes as drawn. Nothing on strength." in run.verdict().body
    assert "not made in the mesh" in run.hand._sheet().reasons[-1] and run.hand._sheet().reserve is None
    press(desk, "Correct the holes")
    desk.settle(lambda: desk.fresh("correct") is not None)
    assert run.verdict().body.startswith("Corrected and turned. Nothing on strength.")
    press(desk, "Solve the strength")
    desk.settle(lambda: desk.fresh("prove") is not None)
    told = run.hand._sheet().reserve
    assert told is not None and "Nothing on strength" not in run.verdict().body
    opened(desk, "Label plate")
    assert desk.fresh("prove") is None
    desk.workspace.open(next(p.id for p in desk.shop.parts.names() if p.name == "Hose arm"))
    desk.app.processEvents()
    assert run.hand._sheet().reserve == told and run.verdict().body.startswith("Corrected and turned.")
    # What is stated now decides, whatever was worked out before.
    desk.put("recipe", desk.part.recipe.model_copy(update={"walls": 7}), "seven walls")
    desk.settle(lambda: desk.fresh("fits") is not None)
    assert run.hand._sheet().reserve is None and run.verdict().body.startswith("Turned; holes as drawn.")
