"""The support gap at Bench, clicked: trials by hand and by the stand-in until one is settled, then used at Lay."""

from __future__ import annotations

import os

import pytest
from conftest import Desk, pick, press, press_in_panel, seen, type_in

from knollside.core.job.file import parse_job, write_job
from knollside.core.model.trials import SupportStudy, SupportTrial
from knollside.sim.supports import supports_named
from knollside.store.jobs import job_of


@pytest.fixture
def bench(desk: Desk) -> Desk:
    return desk.at("Bench", "Trials", "Support gap")


def page(desk: Desk):  # type: ignore[no-untyped-def]
    return desk.window.steps["Bench"].trials.gaps


def test_trials_by_hand_move_what_is_tried_next_and_contradict_each_other(bench: Desk) -> None:
    assert "Try 0.20 mm next." in bench.window.verdict_line.title.text() and "Lay uses 0.20 mm" in seen(bench)
    bench.settle(lambda: bench.fresh("supports") is not None)
    press_in_panel(bench, "welded: it stays on or tears the face")
    first = page(bench).found().next
    assert first > 0.2 and f"Try {first:.2f} mm next." in bench.window.verdict_line.title.text()
    type_in(bench, "Gap to try", "0.16")
    type_in(bench, "Force to take it off", "12")
    type_in(bench, "Short side of its roof", "9")
    press_in_panel(bench, "lifted: the roof sags or hangs loose")
    (study,) = bench.workspace.shelf.gaps.values()
    assert [(t.gap_mm, t.outcome, t.force_N) for t in study.trials] == [(0.2, "welded", None), (0.16, "lifted", 12.0)]
    # Felt on that roof, it speaks for every support at Lay; the welded one was torn, not peeled.
    assert study.trials[0].roof_mm == (20.0, 20.0) and study.trials[1].roof_mm == (9.0, 20.0)
    assert bench.part.peel.trials == 1 and "N (yours, 1 trial)." in seen(bench)
    assert parse_job(write_job(job_of(bench.part, bench.part, "x.stl"))).support_trials == study.trials
    assert "Trials 1 and 2 contradict each other: 0.16 mm lifted, 0.20 mm welded." in seen(bench)
    press_in_panel(bench, "The last one was none")
    assert len(page(bench).trials) == 1 and "contradict" not in seen(bench)
    bench.workspace.take_back()
    bench.workspace.take_back()
    bench.settle()
    assert len(page(bench).trials) == 1
    bench.workspace.take_back()
    bench.settle()
    assert page(bench).trials == () and not bench.workspace.shelf.gaps


def test_the_stand_in_is_settled_and_its_gap_is_used_at_lay(bench: Desk) -> None:
    hidden = supports_named("Old Tom PETG")
    for _ in range(8):
        if page(bench).found().settled:
            break
        press(bench, "Try it, simulated")
    found = page(bench).found()
    assert found.settled and len(page(bench).trials) <= 6
    assert hidden.chance(found.best, page(bench).fan) >= 0.7
    assert "comes off clean." in bench.window.verdict_line.title.text()
    if os.environ.get("KNOLL_SHOTS"):
        bench.window.resize(1280, 800)
        bench.settle()
        bench.window.grab().save(os.environ["KNOLL_SHOTS"] + "/gap.png")
    if found.best != 0.2:
        press(bench, "Use it at Lay")
        assert bench.part.support_settings.gap_mm == pytest.approx(found.best)
        bench.workspace.take_back()
        bench.settle()
        assert bench.part.support_settings.gap_mm == 0.2


def test_another_roof_pattern_is_its_own_and_its_piece_is_made_at_proof(bench: Desk) -> None:
    page(bench).keep("clean")
    bench.settle()
    sure = page(bench).found().chance
    pick(bench, "Pattern of the support's roof", "solid")
    assert page(bench).found().chance < sure
    page(bench).keep("welded")
    bench.settle()
    assert [t.pattern for t in page(bench).trials] == ["lines", "solid"]
    press_in_panel(bench, "Print the piece at Proof")
    bench.settle(lambda: bench.window.current.pieces.piece is not None)
    assert bench.window.current.pieces.piece.piece.name == "face"


def test_a_job_of_more_trials_than_a_file_holds_has_the_last_of_them(bench: Desk) -> None:
    told = tuple(SupportTrial(gap_mm=0.2, outcome="clean", force_N=1.0 + k) for k in range(500))
    at = {"printer": bench.part.printer_id, "material": bench.part.material}
    bench.workspace.runs.put_gaps(1, SupportStudy(**at, trials=told), "many")
    bench.workspace.runs.put_gaps(2, SupportStudy(**at, trials=told[:3]), "three more")
    bench.settle()
    kept = parse_job(write_job(job_of(bench.part, bench.part, "x.stl"))).support_trials
    assert len(bench.part.support_trials) == 503 and kept == bench.part.support_trials[-500:]
