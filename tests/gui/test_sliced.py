"""A sliced file held against the plan, in Run and on the command line."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from conftest import DEMO, Desk
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QLabel, QPushButton

from knollside.cli import main
from knollside.core.job.file import Job, write_job
from knollside.core.model import Orientation
from knollside.demo import TOOLPATHS
from knollside.demo.design_cases import clip_recipe


def clip(desk: Desk) -> None:
    number = next(p.id for p in desk.shop.parts.names() if p.name == "Trellis clip")
    desk.workspace.open(number)
    desk.settle(lambda: desk.part.name == "Trellis clip" and desk.facts is not None)
    desk.window.take("Run")
    desk.settle()


def words(desk: Desk) -> str:
    return "\n".join(w.text() for w in desk.window.steps["Run"].sliced.findChildren(QLabel))


def test_the_wrong_file_of_the_demo_is_wrong_in_five_ways(desk: Desk, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    clip(desk)
    run = desk.window.steps["Run"]
    chosen = str(TOOLPATHS / "clip-wrong.gcode")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", staticmethod(lambda *a, **k: (chosen, "")))
    read = next(b for b in run.panel.findChildren(QPushButton) if b.text().startswith("Read a sliced file"))
    QTest.mouseClick(read, Qt.MouseButton.LeftButton)
    desk.settle(lambda: desk.fresh("sliced") is not None)
    check = desk.fresh("sliced")
    assert len(check.differences) == 5 and check.reserve is not None
    said = words(desk)
    assert "One wall where three were planned" in said and "As sliced it holds" in said
    run.read_sliced(TOOLPATHS / "clip-as-planned.gcode")
    desk.settle(lambda: desk.fresh("sliced").name == "clip-as-planned.gcode")
    good = desk.fresh("sliced")
    assert good.differences == () and "Nothing in it departs from the plan." in words(desk)
    # 205 for a middle of 240 degrees C: 35 times 1.2 % of the bond is gone.
    assert check.bond_left == pytest.approx(0.58) and good.bond_left == 1.0
    assert "58 % of the bond is counted" in said
    recipe = desk.part.recipe
    desk.put("recipe", recipe.model_copy(update={"walls": 5}), "five walls")
    desk.settle()
    assert "read before the last change" in words(desk)


def test_a_file_that_is_no_toolpath_leaves_a_sentence_and_the_last_answer(desk: Desk, tmp_path: Path) -> None:
    clip(desk)
    (tmp_path / "photo.gcode").write_bytes(bytes(range(256)) * 50)
    desk.window.steps["Run"].read_sliced(tmp_path / "photo.gcode")
    desk.settle(lambda: "not plain text" in words(desk))


def test_the_command_line_tells_the_same(tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    job = Job(
        mesh=str(DEMO / "trellis-clip.stl"),
        material="PETG",
        recipe=clip_recipe(),
        orientation=Orientation(direction=(0.0, 0.0, 1.0)),
    )
    (tmp_path / "job.json").write_text(write_job(job))
    assert main(["sliced", str(tmp_path / "job.json"), str(TOOLPATHS / "clip-wrong.gcode"), "--json"]) == 0
    out = json.loads(capsys.readouterr().out)
    assert out["found"]["walls"] == 1 and out["found"]["layer_height_mm"] == pytest.approx(0.3)
    assert len(out["differences"]) == 5 and out["reserve"] is None and "Nothing is asked" in out["why_no_reserve"]
    assert main(["sliced", str(tmp_path / "job.json"), str(tmp_path / "none.gcode")]) == 1
    assert "could not be read" in capsys.readouterr().err
