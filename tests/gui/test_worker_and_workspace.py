"""The worker, fresh and stale answers, the edits and their undo, and what each step says in each state."""

import time
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import pytest
from conftest import Desk, plate_with_hole
from PyQt6.QtCore import QPointF

from knollside.core.job.ask import Answerer, Question
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import (
    BreakTest,
    Danger,
    DesignCase,
    FaceMark,
    Mate,
    Measurement,
    Orientation,
    Purpose,
    Recipe,
    Refused,
)
from knollside.gui.answers import Declined, Fresh, Missing, Stale
from knollside.gui.instruments.widgets import Dropdown
from knollside.gui.stepbase import Mark
from knollside.gui.worker import Outcome, Request, Worker
from knollside.store.records import Kind, PrintRecord

# Questions the worker's own process imports from here.


@dataclass(frozen=True, eq=False)
class CountUp(Question[int]):
    to: int

    def answer(self, ask: Answerer) -> int:
        for i in range(self.to):
            ask.tick(i / self.to, f"step {i}")
        return self.to


@dataclass(frozen=True, eq=False)
class Decline(Question[None]):
    words: str

    def answer(self, ask: Answerer) -> None:
        raise Refused(self.words)


@dataclass(frozen=True, eq=False)
class Stumble(Question[None]):
    how: str

    def answer(self, ask: Answerer) -> None:
        if self.how == "memory":
            raise MemoryError
        raise ZeroDivisionError("by nought")


@dataclass(frozen=True, eq=False)
class Dawdle(Question[None]):
    number: int
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> None:
        while True:
            time.sleep(0.02)
            ask.tick(time.monotonic() % 1, "dawdling")


@dataclass(frozen=True, eq=False)
class Deaf(Question[None]):
    seconds: float

    def answer(self, ask: Answerer) -> None:
        time.sleep(self.seconds)


@pytest.fixture
def work(qapp):  # type: ignore[no-untyped-def]
    made = Worker()
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
    stumbles: list[str] = []
    work.progress.connect(lambda name, share, words: shares.append(share))
    work.stumbled.connect(lambda words, details: stumbles.append(details))
    asked = [CountUp(40), Decline("The wall is too thin."), Stumble("nought"), Stumble("memory"), CountUp(3)]
    work.plan([Request(str(i), q) for i, q in enumerate(asked)])
    got = work.wait(5)
    assert [o.question for o in got] == asked
    assert got[0].result == 40 and got[4].result == 3
    assert got[1].refused == "The wall is too thin."
    assert "ZeroDivisionError" in got[2].refused and "memory" in got[3].refused
    # A fault of the program's own is kept with where it happened.
    assert len(stumbles) == 1 and "by nought" in stumbles[0] and "answer" in stumbles[0]
    assert max(shares) > 0.5 and min(shares) == 0


def test_a_new_plan_stops_what_is_wanted_no_more_and_keeps_what_is(work, qapp) -> None:  # type: ignore[no-untyped-def]
    work.plan([Request("busy", Dawdle(1)), Request("x", CountUp(4))])
    while work.busy_with != "busy":
        qapp.processEvents()
    work.plan([Request("busy", Dawdle(1)), Request("x", CountUp(5))])
    assert work.busy_with == "busy" and work.waiting("x")
    work.plan([Request("x", CountUp(6)), Request("y", CountUp(2))])
    got = work.wait(3)
    assert got[0].cancelled and not got[0].by_person
    assert [(o.name, o.result) for o in got[1:]] == [("x", 6), ("y", 2)]


def test_background_work_makes_room_and_stands_behind(work, qapp) -> None:  # type: ignore[no-untyped-def]
    check = Request("trust", Dawdle(2), behind=True)
    work.plan([check])
    assert work.waiting("trust") and not work.waiting_names
    work.plan([Request("x", CountUp(3)), check])
    got = work.wait(2)
    assert [(o.name, o.cancelled) for o in got] == [("trust", True), ("x", False)]
    work.plan([])


def test_cancel_stops_what_listens_and_ends_what_does_not(work) -> None:  # type: ignore[no-untyped-def]
    work.plan([Request("slow", Dawdle(3)), Request("after it", CountUp(9))])
    work.cancel()
    got = work.wait(2)
    assert {o.name for o in got} == {"slow", "after it"} and all(o.cancelled and o.by_person for o in got)
    work.plan([Request("deaf", Deaf(600))])
    work.cancel()
    assert work.wait(3)[2].cancelled
    work.once("after", CountUp(2))
    assert work.wait(4)[3].result == 2 and work.seen[3].once


def test_an_answer_is_worth_what_its_type_says() -> None:
    fresh, stale, declined, missing = Fresh(5), Stale(4), Declined("No.", 3), Missing()
    assert [a.fresh for a in (fresh, stale, declined, missing)] == [5, None, None, None]
    assert [a.shown for a in (fresh, stale, declined, missing)] == [5, 4, 3, None]
    assert [a.old for a in (fresh, stale, declined, missing)] == [False, True, True, False]
    assert declined.refusal == "No." and not stale.refusal
    assert fresh.then(str).fresh == "5" and stale.then(str).fresh is None and stale.then(str).shown == "4"
    assert Declined("No.").then(str).shown is None and not Declined("No.").old


def ready(desk: Desk) -> Desk:
    desk.settle(lambda: desk.facts is not None)
    return desk


def test_every_kind_of_edit_is_stored_named_and_undone(desk: Desk) -> None:
    ready(desk)
    before, history = desk.stored, desk.workspace.history
    bodies = {k: desk.shop.parts.document(desk.part.id, k) for k in Kind}
    edits = [
        ("duty", desk.part.design_case.model_copy(update={"purpose": Purpose.SHOW}), "purpose"),
        ("recipe", Recipe(walls=9), "nine walls"),
        ("way", Orientation(direction=(0, 1, 0)), "on its side"),
        ("mates", (Mate(feature="hole-1", hardware="M4"),), "one mate"),
        ("material", "ASA", "material ASA"),
    ]
    for kind, value, text in edits:
        desk.put(kind, value, text)
        assert getattr(desk.stored, Kind(kind).field) == value and history.undo_text == text
    desk.put("material", "ASA", "the same again")
    assert history.count() == 5
    desk.workspace.new_mesh(plate_with_hole(), "another shape", None)
    assert desk.stored.revision == 2
    while history.can_undo:
        desk.workspace.take_back()
    after = desk.stored
    assert (after.design_case, after.recipe, after.orientation, after.mates, after.material, after.revision) == (
        before.design_case,
        before.recipe,
        before.orientation,
        before.mates,
        before.material,
        1,
    )
    # What was not there before is not there again: the way and the material had never been stored.
    assert bodies[Kind.ORIENTATION] is None and bodies[Kind.MATERIAL] is None
    assert {k: desk.shop.parts.document(desk.part.id, k) for k in Kind} == bodies
    while history.can_redo:
        desk.workspace.make_again()
    assert desk.stored.recipe.walls == 9 and desk.stored.revision == 2
    desk.settle()


def test_undo_survives_opening_another_part(desk: Desk) -> None:
    ready(desk)
    first, other = desk.part.id, next(p.id for p in desk.shop.parts.names() if p.name == "M6 knob")
    walls = desk.part.recipe.walls
    desk.put("recipe", Recipe(walls=11), "eleven walls")
    desk.workspace.open(other)
    assert not desk.workspace.history.can_undo
    desk.put("recipe", Recipe(walls=7), "seven walls")
    desk.workspace.open(first)
    assert desk.workspace.history.undo_text == "eleven walls"
    desk.workspace.take_back()
    assert desk.stored.recipe.walls == walls and desk.shop.parts.get(other).recipe.walls == 7
    desk.settle()


def test_marks_carry_into_duty_and_mates_and_come_off_again(desk: Desk) -> None:
    ready(desk)
    flat = next(f.id for f in desk.facts.features if f.kind == "flat")
    desk.session.mark(flat, FaceMark.PUSHED)
    assert any(ld.feature == flat for c in desk.part.design_case.cases for ld in c.loads)
    desk.session.mark(flat, FaceMark.HELD)
    assert any(h.feature == flat for h in desk.part.design_case.fixtures)
    assert not any(ld.feature == flat for c in desk.part.design_case.cases for ld in c.loads)
    desk.session.mark(flat, None)
    assert flat not in desk.part.marks and not any(h.feature == flat for h in desk.part.design_case.fixtures)
    desk.put("mates", (), "none")
    steps = desk.workspace.history.count()
    desk.session.mark("hole-2", FaceMark.MATES)
    assert [(m.feature, m.hardware, m.fit) for m in desk.part.mates] == [("hole-2", "M5", "close")]
    assert desk.workspace.history.count() == steps + 1, "one click is one step of undo"
    desk.settle()


def test_an_edit_the_store_refuses_is_said_and_leaves_no_undo(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    ready(desk)
    said: list[str] = []
    desk.workspace.said.connect(said.append)

    def full(*_: object) -> None:
        raise Refused("The workshop could not keep this edit (disk full).")

    monkeypatch.setattr(desk.shop.parts, "put_document", full)
    walls = desk.part.recipe.walls
    desk.put("recipe", Recipe(walls=walls + 1), "one more wall")
    assert "disk full" in said[-1] and not desk.workspace.history.can_undo and desk.part.recipe.walls == walls
    desk.app.processEvents()
    assert desk.window.note.isVisible() and "disk full" in desk.window.note.text()


def test_readings_and_breaks_are_records_that_can_be_taken_back(desk: Desk) -> None:
    state = ready(desk)
    state.settle(lambda: state.fresh("fits") is not None)
    n, drawn = len(state.part.readings), [c.to_mm for c in state.fresh("fits").corrections]
    axis = state.fresh("fits").corrections[0].axis
    state.workspace.kept.add_reading(Measurement(kind="hole", axis=axis, drawn=6, printed=5.7))
    assert len(state.part.readings) == n + 1 and state.fresh("fits") is None, "what it was worked out from changed"
    state.settle(lambda: state.fresh("fits") is not None)
    assert [c.to_mm for c in state.fresh("fits").corrections] != drawn
    prints = len(state.part.records)
    record = PrintRecord(
        0, state.part.id, state.part.printer_id, "PETG", _now(), 1.0, 1.5, "well", BreakTest(mode="did not break")
    )
    state.workspace.kept.add_print(record, "a print")
    assert len(state.part.records) == prints + 1
    state.workspace.take_back()
    state.workspace.take_back()
    assert (len(state.part.readings), len(state.part.records)) == (n, prints)
    desk.settle(lambda: state.fresh("fits") is not None)
    assert [c.to_mm for c in state.fresh("fits").corrections] == drawn


def _now():  # type: ignore[no-untyped-def]
    from datetime import datetime

    return datetime(2026, 11, 24, 9, 0)


def test_printer_and_spool_change_what_is_known(desk: Desk) -> None:
    state = ready(desk)
    brick = next(i for i, p in state.workspace.shelf.printers.items() if p.name == "The Brick")
    assert state.part.printer.name == "Old Tom" and state.part.factor.value == pytest.approx(1.125, abs=0.02)
    from knollside.gui.nodes import RANKED

    key = state.view.inputs.question(RANKED).key
    state.workspace.put_machine(brick, None, "to The Brick")
    assert state.part.printer.name == "The Brick" and state.part.spool is None
    assert state.view.inputs.question(RANKED).key != key
    state.workspace.take_back()
    assert state.part.printer.name == "Old Tom" and state.view.inputs.question(RANKED).key == key
    desk.settle()


def test_each_step_speaks_in_every_state(desk: Desk) -> None:
    """Empty duty, person's safety, unasked danger: no step is left without words, none blesses what it must not."""
    state = ready(desk)
    design_case = state.part.design_case
    for value in (
        DesignCase(),
        design_case.model_copy(update={"danger": Danger.PERSON}),
        design_case.model_copy(update={"fixtures": ()}),
        design_case,
    ):
        state.put("duty", value, "a duty")
        for name, step in desk.window.steps.items():
            desk.window.take(name)
            desk.worker.cancel()
            standing, verdict = step.standing(), step.verdict()
            assert standing.words and verdict.title, name
            if value.danger is Danger.PERSON and name in ("Duty", "Lay", "Build"):
                assert verdict.number in ("none", "") and verdict.tone != "moss", name
            if not value.fixtures and name in ("Duty", "Lay"):
                assert standing.mark is not Mark.FULL, f"{name} is content with a part that nothing holds"
    desk.settle()


def test_every_control_has_a_name_for_those_who_cannot_see_it(desk: Desk) -> None:
    from PyQt6.QtWidgets import QAbstractButton, QLineEdit

    ready(desk)
    for name in desk.window.steps:
        desk.window.take(name)
        desk.settle()
        for kind in (QAbstractButton, QLineEdit, Dropdown):
            for w in desk.window.findChildren(kind):
                words = w.accessibleName() or (w.text() if isinstance(w, QAbstractButton) else "")
                if w.isVisible() and not w.objectName().startswith("qt_"):
                    assert words.strip(), (name, w)


def test_nothing_is_clipped_at_the_smallest_promised_size(desk: Desk) -> None:
    """At 1280x720 no label is cut, no panel is wider than its place, and no act of the verdict lies outside."""
    from PyQt6.QtWidgets import QLabel, QPushButton, QScrollArea

    ready(desk)
    desk.window.resize(1280, 720)
    desk.settle()
    assert (desk.window.width(), desk.window.height()) == (1280, 720)
    for name in desk.window.steps:
        desk.window.take(name)
        desk.settle()
        for area in desk.window.current.panel.findChildren(QScrollArea):
            if area.isVisible() and area.widget() is not None:
                assert area.widget().width() <= area.viewport().width(), name
        line = desk.window.verdict_line
        for w in line.findChildren(QLabel):
            if w.isVisible() and not w.wordWrap():
                assert w.fontMetrics().horizontalAdvance(w.text()) <= w.width() + 2, (name, w.text())
        for b in line.findChildren(QPushButton):
            if b.isVisible():
                assert desk.window.rect().contains(b.rect().translated(b.mapTo(desk.window, b.rect().topLeft()))), name
        rail = desk.window.core
        assert rail.mapTo(desk.window, rail.rect().bottomRight()).y() <= 720, name


def test_a_click_on_nothing_closes_the_card_and_dragging_turns_instead(desk: Desk) -> None:
    window = ready(desk).window
    features = desk.facts.features
    window._show_card(features[0], QPointF(60, 80))
    assert window.card.isVisible()
    window._picked(-1, QPointF(3, 3))
    assert not window.card.isVisible()
    window._picked(int(features[-1].faces[0]), QPointF(9999, 9999))
    assert window.card.geometry().right() <= window.stage.width() and desk.session.picked == features[-1].id


def test_a_dropped_million_triangle_mesh_is_drawn_and_counted(desk: Desk, tmp_path) -> None:  # type: ignore[no-untyped-def]
    import manifold3d as m3
    from conftest import mesh_of

    ready(desk)
    big = mesh_of(m3.Manifold.sphere(40, 1000))
    assert len(big.faces) > 450_000
    (tmp_path / "ball.stl").write_bytes(stl_bytes(big))
    desk.window.part_step.open_file(str(tmp_path / "ball.stl"))
    desk.settle(lambda: desk.part.name == "Ball" and desk.facts is not None)
    seen = desk.view.look
    assert len(desk.facts.mesh.faces) == len(big.faces) > len(seen.mesh.faces)
    assert desk.facts.mesh.volume == pytest.approx(4 / 3 * np.pi * 40**3, rel=0.01)
    assert "not tested" in desk.window.part_step.size.text()
