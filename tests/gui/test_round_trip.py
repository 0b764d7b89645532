"""One job said three ways, in the window, on the command line and in a file taken in again, answers to the last digit;
and whatever is edited in whatever order, a sheet tells a reserve of exactly what is stored, or none."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
from conftest import Desk

from knollside.cli import main
from knollside.core.job import answer
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import ask_orientations, ask_proof, ask_strength
from knollside.core.job.questions.settling import Settle
from knollside.core.model import Mate, Range
from knollside.gui import nodes


def told(desk: Desk) -> dict[str, object]:
    """What the window says of the open part: ways, the proof, corrections."""
    desk.window.take("Lay")
    desk.settle(lambda: desk.fresh("settled") is not None, 120)
    desk.window.take("Build")
    desk.session.ask(nodes.PROVE)
    desk.settle(lambda: desk.fresh("prove") is not None and desk.fresh("build") is not None)
    desk.window.take("Fits")
    desk.settle(lambda: desk.fresh("fits") is not None)
    orientations = [
        (list(w.direction), w.reserve.value, w.reserve.low, w.reserve.high, list(w.place))
        for w in desk.view.ranked.fresh.ranking.orientations
    ]
    dots = [(d.recipe.walls, d.recipe.infill, d.reserve.low, d.price.grams) for d in desk.fresh("build").board.dots]
    solved, fits = desk.fresh("prove").solved, desk.fresh("fits")
    return {
        "ways": orientations,
        "dots": dots,
        "solved": (solved.value, solved.low, solved.high),
        "drawn": [(c.feature, c.to_mm, c.low, c.high, c.source) for c in fits.corrections],
    }


def asked(capsys, *words: str) -> dict[str, object]:  # type: ignore[no-untyped-def]
    capsys.readouterr()
    code, out = main([*words, "--json"]), capsys.readouterr().out
    assert code == 0, out
    return json.loads(out)


def test_window_command_line_and_a_file_taken_in_agree_to_the_last_digit(
    shelf: Desk, tmp_path: Path, monkeypatch, capsys
) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.setattr(answer, "CELLS", 3000)
    monkeypatch.setattr(nodes.strength, "cells", 3000)
    shelf.session.touch()
    window = told(shelf)
    job = tmp_path / "shelf.json"
    shelf.window.steps["Run"].save_job(job)

    board = asked(capsys, "board", str(job), "--solve")
    ranked = asked(capsys, "rank", str(job))
    line = {
        "ways": [
            (w["direction"], w["reserve"]["value"], w["reserve"]["low"], w["reserve"]["high"], w["place_mm"])
            for w in ranked["ways"]
        ],
        "dots": [
            (d["recipe"]["walls"], d["recipe"]["infill"], d["reserve"]["low"], d["grams"]) for d in board["recipes"]
        ],
        "solved": tuple(board["solved"]["reserve"][k] for k in ("value", "low", "high")),
    }
    for name, value in line.items():
        assert value == window[name], name

    shelf.window.part_step.open_file(str(job))
    shelf.settle(lambda: len(shelf.shop.parts.names()) > 10 and shelf.facts is not None)
    assert told(shelf) == window


def test_no_order_of_edits_makes_a_sheet_tell_an_old_reserve(shelf: Desk, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    """Random edits, answers arriving or not in between, undo and redo, other steps in front: what the sheet tells is
    what an answerer makes of the stored part that was never asked anything else."""
    monkeypatch.setattr(nodes.strength, "cells", 1500)
    shelf.session.touch()
    run, rng = shelf.window.steps["Run"], np.random.default_rng(11)
    known: dict[str, Range] = {}
    design_case = shelf.part.design_case

    def force(newtons: float) -> None:
        load = design_case.cases[0].loads[0].model_copy(update={"force_N": (0.0, 0.0, newtons)})
        case = design_case.cases[0].model_copy(update={"loads": (load,)})
        shelf.put("duty", design_case.model_copy(update={"cases": (case,)}), "force")

    edits = (
        lambda: force(float(rng.choice([-20.0, -35.0]))),
        lambda: shelf.put("recipe", shelf.part.recipe.model_copy(update={"walls": int(rng.choice([2, 5]))}), "walls"),
        lambda: shelf.put("recipe", shelf.part.recipe.model_copy(update={"infill": float(rng.integers(2))}), "infill"),
        lambda: shelf.workspace.take_back(),
        lambda: shelf.workspace.make_again(),
        lambda: shelf.window.take(str(rng.choice(["Duty", "Lay", "Build", "Run"]))),
        lambda: shelf.session.ask(nodes.PROVE),
        lambda: shelf.settle(seconds=120),
    )

    def true() -> tuple[Range, Range]:
        """The proof and the settled way of what is stored, by a fresh answerer."""
        question = ask_strength(shelf.part.question, shelf.part, nodes.strength.cells)
        proof = ask_proof(question, shelf.part)
        if proof.key not in known:
            ask = Answerer()
            ask.meshes.put(shelf.facts.mesh)
            settled = ask(Settle(ask_orientations(question, shelf.part))).ranked.ranking.orientations
            orientation = next(w for w in settled if np.dot(w.direction, shelf.part.direction) > 0.99999)
            known[proof.key] = ask(proof).solved, orientation.reserve  # type: ignore[assignment]
        return known[proof.key]  # type: ignore[return-value]

    told = 0
    for k in rng.integers(0, len(edits), 60):
        edits[int(k)]()
        shelf.app.processEvents()
        if shelf.facts is None or not shelf.part.loaded or shelf.part.orientation is None:
            continue
        sheet = run.hand._sheet()
        if sheet.reserve is not None:
            told += 1
            proof, orientation = true()
            assert sheet.reserve == (proof if sheet.said.startswith("Solved") else orientation)
    assert told > 10, "the sheet hardly ever told a reserve"


def test_a_hole_is_drawn_alike_by_window_and_line(desk: Desk, tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    desk.settle(lambda: desk.facts is not None)
    hole = next(f for f in desk.facts.features if f.kind == "hole")
    desk.put("mates", (Mate(feature=hole.id, hardware="M5"),), "a screw")
    desk.window.take("Fits")
    desk.settle(lambda: desk.fresh("fits") is not None)
    job = tmp_path / "arm.json"
    desk.window.steps["Run"].save_job(job)
    line = asked(capsys, "fit", str(job))["corrections"]
    for made, said in zip(desk.fresh("fits").corrections, line, strict=True):
        assert (said["feature"], said["from_mm"], said["to_mm"]) == (made.feature, made.from_mm, made.to_mm)
        assert (said["low"], said["high"], said["source"]) == (made.low, made.high, made.source)
