"""The worker, the kept answers, the edits and their undo, and what each step says in each state."""

import time

import numpy as np
import pytest
from conftest import Desk, plate_with_hole
from PyQt6.QtCore import QPointF

from knollside.core.mesh.write import stl_bytes
from knollside.core.model import (
    BreakTest,
    Cancelled,
    Danger,
    Duty,
    FaceMark,
    Mate,
    Measurement,
    Purpose,
    Recipe,
    Refused,
    Way,
)
from knollside.desk.answers import Answers
from knollside.desk.instruments.widgets import Choice
from knollside.desk.stepbase import Mark
from knollside.desk.work import Outcome, Work
from knollside.store.workshop import PrintRecord

# Tasks the worker's own process imports from here.


def count_up(to: int, tick) -> int:  # type: ignore[no-untyped-def]
    for i in range(to):
        tick(i / to, f"step {i}")
    return to


def refuse(words: str, tick) -> None:  # type: ignore[no-untyped-def]
    raise Refused(words)


def stumble(tick) -> None:  # type: ignore[no-untyped-def]
    raise ZeroDivisionError("by nought")


def out_of_memory(tick) -> None:  # type: ignore[no-untyped-def]
    raise MemoryError


def dawdle(tick) -> None:  # type: ignore[no-untyped-def]
    while True:
        time.sleep(0.02)
        tick(time.monotonic() % 1, "dawdling")


def deaf(tick) -> None:  # type: ignore[no-untyped-def]
    time.sleep(600)


@pytest.fixture
def work(qapp):  # type: ignore[no-untyped-def]
    made = Work()
    made.seen = []
    made.finished.connect(made.seen.append)

    def wait(n: int, seconds: float = 60) -> list[Outcome]:
        end = time.monotonic() + seconds
        while len(made.seen) < n and time.monotonic() < end:
            qapp.processEvents()
            time.sleep(0.005)
        assert len(made.seen) >= n, made.seen
        return made.seen

    made.wait = wait
    yield made
    made.close()


def test_results_refusals_and_mishaps_come_back_in_order(work) -> None:  # type: ignore[no-untyped-def]
    shares: list[float] = []
    work.progress.connect(lambda name, share, words: shares.append(share))
    work.ask("a", 1, count_up, 40)
    work.ask("b", 2, refuse, "The wall is too thin.")
    work.ask("c", 3, stumble)
    work.ask("d", 4, out_of_memory)
    work.ask("e", 5, count_up, 3)
    got = work.wait(5)
    assert [(o.name, o.key) for o in got] == [("a", 1), ("b", 2), ("c", 3), ("d", 4), ("e", 5)]
    assert got[0].result == 40 and got[4].result == 3
    assert got[1].refused == "The wall is too thin."
    assert "ZeroDivisionError" in got[2].refused and "memory" in got[3].refused
    assert max(shares) > 0.5 and min(shares) == 0


def test_a_newer_request_takes_the_older_ones_place(work) -> None:  # type: ignore[no-untyped-def]
    work.ask("busy", 0, dawdle)
    for k in range(5):
        work.ask("x", k, count_up, k)
    assert work.waiting("x") and work.busy_with == "busy"
    work.ask("busy", 1, count_up, 7)
    got = work.wait(3)
    assert got[0].cancelled and {(o.name, o.result) for o in got[1:]} == {("x", 4), ("busy", 7)}


def test_background_work_makes_room_and_stands_behind(work) -> None:  # type: ignore[no-untyped-def]
    work.ask("trust", 0, dawdle)
    work.ask("x", 1, count_up, 3)
    got = work.wait(2)
    assert [(o.name, o.cancelled) for o in got] == [("trust", True), ("x", False)]
    work.ask("busy", 2, dawdle)
    work.ask("trust", 3, count_up, 5)
    work.ask("y", 4, count_up, 4)
    work.ask("busy", 5, count_up, 1)
    got = work.wait(6)[2:]
    assert [o.name for o in got] == ["busy", "y", "busy", "trust"] and got[0].cancelled


def test_cancel_stops_what_listens_and_ends_what_does_not(work) -> None:  # type: ignore[no-untyped-def]
    work.ask("slow", 0, dawdle)
    work.cancel()
    assert work.wait(1)[0].cancelled
    work.ask("deaf", 0, deaf)
    work.cancel()
    assert work.wait(2)[1].cancelled
    work.ask("after", 0, count_up, 2)
    assert work.wait(3)[2].result == 2


def test_answers_know_what_they_were_made_from(work) -> None:  # type: ignore[no-untyped-def]
    answers = Answers(work)
    work.ask("x", ("duty", 1), count_up, 5)
    work.wait(1)
    assert answers.fresh("x", ("duty", 1)) == 5 and answers.fresh("x", ("duty", 2)) is None
    assert answers.get("x") == 5 and answers.key("x") == ("duty", 1)
    work.ask("x", ("duty", 2), refuse, "No.")
    work.wait(2)
    # A refusal keeps the last good answer, and is remembered for its own inputs only.
    assert answers.get("x") == 5 and answers.refusal("x", ("duty", 2)) == "No." and not answers.refusal("x", 0)
    answers.clear()
    assert answers.get("x") is None


def ready(desk: Desk) -> Desk:
    desk.settle(lambda: desk.state.facts is not None)
    return desk


def stored(desk: Desk):  # type: ignore[no-untyped-def]
    return desk.state.shop.part(desk.state.doc.id)


def test_every_kind_of_edit_is_stored_named_and_undone(desk: Desk) -> None:
    state = ready(desk).state
    before = stored(desk)
    edits = [
        ("duty", state.doc.duty.model_copy(update={"purpose": Purpose.SHOW}), "purpose"),
        ("recipe", Recipe(walls=9), "nine walls"),
        ("way", Way(direction=(0, 1, 0)), "on its side"),
        ("mates", (Mate(feature="hole-1", hardware="M4"),), "one mate"),
        ("material", "ASA", "material ASA"),
    ]
    for kind, value, text in edits:
        state.edit(kind, value, text)
        assert getattr(stored(desk), kind) == value and state.undo.undoText() == text
    state.edit("material", "ASA", "the same again")
    assert state.undo.count() == 5
    state.new_mesh(plate_with_hole(), "another shape")
    assert stored(desk).revision == 2
    while state.undo.canUndo():
        state.undo.undo()
    after = stored(desk)
    assert (after.duty, after.recipe, after.way, after.mates, after.material, after.revision) == (
        before.duty,
        before.recipe,
        before.way,
        before.mates,
        before.material,
        1,
    )
    while state.undo.canRedo():
        state.undo.redo()
    assert stored(desk).recipe.walls == 9 and stored(desk).revision == 2
    desk.settle()


def test_marks_carry_into_duty_and_mates_and_come_off_again(desk: Desk) -> None:
    state = ready(desk).state
    flat = next(f.id for f in state.facts.features if f.kind == "flat")
    state.mark(flat, FaceMark.PUSHED)
    assert any(ld.feature == flat for c in state.doc.duty.cases for ld in c.loads)
    state.mark(flat, FaceMark.HELD)
    assert any(h.feature == flat for h in state.doc.duty.held)
    assert not any(ld.feature == flat for c in state.doc.duty.cases for ld in c.loads)
    state.mark(flat, None)
    assert flat not in state.doc.duty.marks and not any(h.feature == flat for h in state.doc.duty.held)
    state.edit("mates", (), "none")
    state.mark("hole-2", FaceMark.MATES)
    assert [(m.feature, m.hardware, m.fit) for m in state.doc.mates] == [("hole-2", "M5", "close")]
    desk.settle()


def test_an_edit_the_store_refuses_is_said_and_leaves_no_undo(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    state = ready(desk).state
    said: list[str] = []
    state.said.connect(said.append)

    def full(*_: object) -> None:
        raise Refused("The workshop could not keep this edit (disk full).")

    monkeypatch.setattr(state.shop, "put_document", full)
    walls = state.doc.recipe.walls
    state.edit("recipe", Recipe(walls=walls + 1), "one more wall")
    assert "disk full" in said[-1] and not state.undo.canUndo() and state.doc.recipe.walls == walls
    desk.app.processEvents()
    assert desk.window.note.isVisible() and "disk full" in desk.window.note.text()


def test_readings_and_breaks_are_records_that_can_be_taken_back(desk: Desk) -> None:
    state = ready(desk).state
    n, shift = len(state.readings), state.answers.get("fits")
    state.add_reading(Measurement(kind="hole", axis="upright", drawn=6, printed=5.7))
    assert len(state.readings) == n + 1
    prints = len(state.prints)
    record = PrintRecord(
        0, state.doc.id, state.doc.printer_id, "PETG", _now(), 1.0, 1.5, "well", BreakTest(mode="did not break")
    )
    state.add_print(record, "a print")
    assert len(state.prints) == prints + 1
    state.undo.undo()
    state.undo.undo()
    assert (len(state.readings), len(state.prints)) == (n, prints)
    desk.settle()
    assert shift is None or state.answers.get("fits") is not None


def _now():  # type: ignore[no-untyped-def]
    from datetime import datetime

    return datetime(2026, 11, 24, 9, 0)


def test_printer_and_spool_change_what_is_known(desk: Desk) -> None:
    state = ready(desk).state
    brick = next(i for i, p in state.printers.items() if p.name == "The Brick")
    assert state.printer.name == "Old Tom" and state.factor.value == pytest.approx(1.125, abs=0.02)
    key = state.lay_key
    state.put_machine(brick, None, "to The Brick")
    assert state.printer.name == "The Brick" and state.spool is None and state.lay_key != key
    state.undo.undo()
    assert state.printer.name == "Old Tom" and state.lay_key == key
    desk.settle()


def test_a_cancelled_wait_is_no_error() -> None:
    assert issubclass(Cancelled, Exception) and not issubclass(Cancelled, Refused)


def test_each_step_speaks_in_every_state(desk: Desk) -> None:
    """Empty duty, person's safety, unasked danger: no step is left without words, none blesses what it must not."""
    state = ready(desk).state
    duty = state.doc.duty
    for value in (
        Duty(),
        duty.model_copy(update={"danger": Danger.PERSON}),
        duty.model_copy(update={"held": ()}),
        duty,
    ):
        state.edit("duty", value, "a duty")
        for name, step in desk.window.steps.items():
            desk.window.take(name)
            desk.state.work.cancel()
            standing, verdict = step.standing(), step.verdict()
            assert standing.words and standing.mark in Mark, name
            assert verdict.title, name
            if value.danger is Danger.PERSON and name in ("Duty", "Lay"):
                assert verdict.number in ("none", "") or not any(c.isdigit() for c in verdict.number)
    desk.settle()


def test_every_control_has_a_name_for_those_who_cannot_see_it(desk: Desk) -> None:
    from PyQt6.QtWidgets import QAbstractButton, QLineEdit

    ready(desk)
    for name in desk.window.steps:
        desk.window.take(name)
        desk.settle()
        for kind in (QAbstractButton, QLineEdit, Choice):
            for w in desk.window.findChildren(kind):
                words = w.accessibleName() or (w.text() if isinstance(w, QAbstractButton) else "")
                if w.isVisible() and not w.objectName().startswith("qt_"):
                    assert words.strip(), (name, w)


def test_nothing_is_clipped_at_the_smallest_promised_size(desk: Desk) -> None:
    """At 1280x800 no label is cut, and no panel is wider than its place."""
    from PyQt6.QtWidgets import QLabel, QScrollArea

    ready(desk)
    for name in desk.window.steps:
        desk.window.take(name)
        desk.settle()
        for area in desk.window.current.panel.findChildren(QScrollArea):
            if area.isVisible() and area.widget() is not None:
                assert area.widget().width() <= area.viewport().width(), name
        for w in desk.window.verdict_line.findChildren(QLabel):
            if w.isVisible() and not w.wordWrap():
                assert w.fontMetrics().horizontalAdvance(w.text()) <= w.width() + 2, (name, w.text())


def test_a_click_on_nothing_closes_the_card_and_dragging_turns_instead(desk: Desk) -> None:
    window = ready(desk).window
    features = desk.state.facts.features
    window._show_card(features[0], QPointF(60, 80))
    assert window.card.isVisible()
    window._picked(-1, QPointF(3, 3))
    assert not window.card.isVisible()
    window._picked(int(features[-1].faces[0]), QPointF(9999, 9999))
    assert window.card.geometry().right() <= window.stage.width() and desk.state.picked == features[-1].id


def test_a_dropped_million_triangle_mesh_is_drawn_and_counted(desk: Desk, tmp_path) -> None:  # type: ignore[no-untyped-def]
    import manifold3d as m3
    from conftest import mesh_of

    ready(desk)
    big = mesh_of(m3.Manifold.sphere(40, 1000))
    assert len(big.faces) > 450_000
    (tmp_path / "ball.stl").write_bytes(stl_bytes(big))
    desk.window.part_step.open_file(str(tmp_path / "ball.stl"))
    desk.settle(lambda: desk.state.doc.name == "Ball" and desk.state.facts is not None)
    seen = desk.state.answers.get("opened").look
    assert len(desk.state.facts.mesh.faces) == len(big.faces) > len(seen.mesh.faces)
    assert desk.state.facts.mesh.volume == pytest.approx(4 / 3 * np.pi * 40**3, rel=0.01)
    assert "not tested" in desk.window.verdict_line.source.text()
