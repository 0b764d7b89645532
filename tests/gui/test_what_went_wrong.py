"""What went wrong at Bench, clicked: swatches taken, the place pointed at, a test answered, a cure that helps."""

from __future__ import annotations

import pytest
from conftest import Desk, press, press_in_panel, seen, turn_to, type_in
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from knollside.core.learning.faults import odds_of
from knollside.core.learning.faulttests import TESTS
from knollside.core.model.faults import Cause, FaultTest, Symptom
from knollside.gui.instruments.causestrata import CauseStrata
from knollside.gui.instruments.swatches import Swatches


@pytest.fixture
def wrong(desk: Desk) -> Desk:
    desk.at("Bench", "What went wrong")
    desk.settle(lambda: desk.fresh("supports") is not None)
    return desk


def take(desk: Desk, symptom: Symptom) -> None:
    """Click a swatch."""
    board = next(w for w in desk.window.current.panel.findChildren(Swatches) if w.isVisible())
    QTest.mouseClick(board, Qt.MouseButton.LeftButton, pos=board.box(board.of.index(symptom)).center().toPoint())
    desk.settle()


def page(desk: Desk):  # type: ignore[no-untyped-def]
    return desk.window.steps["Bench"].faults


def test_strings_are_seen_told_apart_cured_and_remembered(wrong: Desk) -> None:
    assert "What went wrong?" in wrong.window.verdict_line.title.text()
    take(wrong, Symptom.STRINGS)
    take(wrong, Symptom.MATTE)
    take(wrong, Symptom.BLOBS)
    take(wrong, Symptom.BLOBS)  # and it was none
    case = page(wrong).case
    assert case.seen == (Symptom.STRINGS, Symptom.MATTE)
    assert wrong.shop.running.faults()[2] == case  # the first is of the demo
    press(wrong, "See what lies behind it")
    before = page(wrong).found()
    top = before.causes[0][0]
    strata = next(w for w in wrong.window.current.panel.findChildren(CauseStrata) if w.isVisible())
    assert strata.bands()[0][0] is top and strata.bands()[0][2].height() > strata.bands()[1][2].height()
    ask = next(a for a, _ in before.asks if isinstance(a, FaultTest))
    page(wrong).answer(ask, TESTS[ask].otherwise)
    wrong.settle()
    assert page(wrong).found().causes != before.causes
    # Another band is chosen by a click, and says its own cure.
    strata = next(w for w in wrong.window.current.panel.findChildren(CauseStrata) if w.isVisible())
    second = strata.bands()[1]
    QTest.mouseClick(strata, Qt.MouseButton.LeftButton, pos=second[2].center().toPoint())
    wrong.settle()
    assert page(wrong).chosen is second[0]
    press_in_panel(wrong, "I did this")
    assert "Is it well now?" in seen(wrong)
    press_in_panel(wrong, "It did not")
    press_in_panel(wrong, "I did this")
    done = page(wrong).case.cures[-1].cause
    press_in_panel(wrong, "It helped")
    assert page(wrong).case is None
    kept = wrong.shop.running.faults()[2]
    assert kept.closed and kept.helped is done and kept.cures[0].helped is False
    assert "cured" in seen(wrong)
    wrong.workspace.take_back()
    wrong.settle()
    assert page(wrong).case.cures[-1].helped is None


def test_a_place_on_the_part_tells_its_height_and_layer(wrong: Desk) -> None:
    take(wrong, Symptom.MELTED)
    stage, facts = wrong.window.stage, wrong.facts
    top = facts.mesh.triangles[:, :, 2].mean(axis=1).argmax()
    wrong.window._picked(int(top), stage.to_screen(facts.mesh.triangles[top].mean(axis=0)))
    wrong.settle()
    case = page(wrong).case
    assert case.place is not None and case.height == pytest.approx(facts.mesh.size[2], abs=1.0)
    assert page(wrong).known(case).layer_s is not None
    assert f"At {case.height:.1f} mm" in seen(wrong)
    assert not wrong.window.card.isVisible()
    scene = wrong.window.current.scene()
    assert scene.place == case.place


def test_what_is_asked_for_is_answered_by_a_press_and_a_closer_look(wrong: Desk) -> None:
    for s in (Symptom.GRINDING, Symptom.THIN):
        take(wrong, s)
    press(wrong, "See what lies behind it")
    asked = 0
    while not page(wrong).found().settled and asked < 6:
        ask = page(wrong).found().asks[0][0]
        if isinstance(ask, FaultTest):
            words = TESTS[ask].words
            cause_answer = next((w for w in words if TESTS[ask].answers.get(w, {}).get(Cause.SLIP, 0) > 0.5), words[-1])
            press_in_panel(wrong, cause_answer)
            assert page(wrong).case.answers[-1].answer == cause_answer
        else:
            assert "look at the print again" in seen(wrong)
            press_in_panel(wrong, "not there")
            assert page(wrong).case.lacking
        asked += 1
    assert page(wrong).found().share(Cause.SLIP) > 0.3


def test_without_a_printer_it_says_so_and_keeps_nothing(wrong: Desk) -> None:
    wrong.workspace.put_machine(None, None, "none")
    wrong.settle()
    take(wrong, Symptom.STRINGS)
    assert list(wrong.shop.running.faults()) == [1] and "Add your printer" in wrong.window.note.text()
    assert page(wrong).case is None


def test_a_case_left_is_closed_without_a_cause(wrong: Desk) -> None:
    take(wrong, Symptom.JAM)
    press(wrong, "See what lies behind it")
    press_in_panel(wrong, "Leave it")
    kept = wrong.shop.running.faults()[2]
    assert kept.closed and kept.helped is None and "left as it was" in seen(wrong)
    turn_to(wrong, "Measure")
    turn_to(wrong, "What went wrong")
    assert page(wrong).case is None


def test_a_measured_wall_answers_the_test_and_tells_the_flow(wrong: Desk) -> None:
    for s in (Symptom.ROOF_GAPS, Symptom.THIN):
        take(wrong, s)
    press(wrong, "See what lies behind it")
    faults = page(wrong)
    wrong_ones = ("0.40", "1 readings say too little"), ("a b c", "Readings are numbers"), ("2 2 2", "no single")
    take_by_choosing(wrong, Cause.LITTLE_FLOW)
    for text, words in wrong_ones:
        type_in(wrong, "Readings of the single wall", text)
        assert words in wrong.window.note.text() and not faults.case.answers
    line = wrong.part.recipe.line_width
    type_in(wrong, "Readings of the single wall", " ".join(f"{line * 0.9:.3f}".replace(".", ",") for _ in range(8)))
    assert [(a.test, a.answer) for a in faults.case.answers] == [(FaultTest.WALL, "thinner")]
    take_by_choosing(wrong, Cause.LITTLE_FLOW)
    assert "By the wall, flow 1.11" in seen(wrong) and len(faults.case.walls_mm) == 8
    press_in_panel(wrong, "Print it: at Proof")
    wrong.settle(lambda: wrong.window.current.pieces.piece is not None)
    assert wrong.window.current.name == "Proof" and wrong.window.current.pieces.piece.piece.name == "wall"


def take_by_choosing(wrong: Desk, cause: Cause) -> None:
    """Turn to a cause, as a click on its stratum does."""
    page(wrong).chosen = None
    page(wrong)._choose(cause)
    wrong.settle()


def test_tops_are_tried_until_the_flow_at_which_they_close_is_bracketed(wrong: Desk) -> None:
    take(wrong, Symptom.ROOF_GAPS)
    press(wrong, "See what lies behind it")
    faults = page(wrong)
    take_by_choosing(wrong, Cause.LITTLE_FLOW)
    press_in_panel(wrong, "gaps left")
    assert "No top closed yet" in seen(wrong)
    type_in(wrong, "Flow of a top", "106")
    press_in_panel(wrong, "it closed")
    press_in_panel(wrong, "gaps left")  # at 103 %, half-way
    assert [(t.flow, t.closed) for t in faults.case.tops] == [(1.0, False), (1.06, True), (1.03, False)]
    assert "Tops close from 103 to 106 % on; set 106 %." in seen(wrong)
    type_in(wrong, "Flow of a top", "101")
    press_in_panel(wrong, "it closed")
    assert "1.03 stayed open and 1.01 closed" in seen(wrong)
    press_in_panel(wrong, "The last one was none")
    assert len(faults.case.tops) == 3 and "set 106 %" in seen(wrong)
    press_in_panel(wrong, "Print pads: at Proof")
    wrong.settle(lambda: wrong.window.current.pieces.piece is not None)
    assert wrong.window.current.pieces.piece.piece.name == "pads"


def test_what_comes_back_is_in_hand_again_and_its_cure_tells_nothing(wrong: Desk) -> None:
    take(wrong, Symptom.STRINGS)
    press(wrong, "See what lies behind it")
    fresh = page(wrong).found().causes
    cause = page(wrong).found().best[0]
    press_in_panel(wrong, "I did this")
    press_in_panel(wrong, "It helped")
    number = page(wrong).closed[0][0]
    mine = odds_of(wrong.workspace.shelf.faults.values())
    press_in_panel(wrong, "It came back")
    case = page(wrong).case
    assert page(wrong).number == number and case.helped is None and case.came_back.cause == cause
    assert "It came back on" in seen(wrong)
    # Neither this case nor the printer's odds count that cure any more.
    assert odds_of(wrong.workspace.shelf.faults.values())[cause] < mine[cause]
    now = dict(page(wrong).found().causes)
    assert all(now[c] == pytest.approx(v, abs=1e-9) for c, v in fresh)
    wrong.workspace.take_back()
    wrong.settle()
    assert page(wrong).case is None and page(wrong).closed[0][1].helped == cause


def test_a_simulated_print_is_asked_about_until_its_cause_is_cured(wrong: Desk) -> None:
    """Its faults are hidden: what is pressed is what a person would press."""
    press_in_panel(wrong, "A print goes wrong, simulated")
    number, truth = page(wrong).number, page(wrong).simulated
    for _ in range(14):
        if page(wrong).number != number:
            break
        if page(wrong).found().settled and not (page(wrong).case.cures and page(wrong).case.cures[-1].helped is None):
            press_in_panel(wrong, "I did this")
        else:
            press_in_panel(wrong, "Do it, simulated")
    kept = wrong.shop.running.faults()[number]
    assert kept.closed and kept.helped in truth.causes and kept.seen[: len(truth.seen)] == truth.seen
