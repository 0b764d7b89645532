"""Run's plates and week, clicked: parts gathered, packed, moved, marked, written, planned."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
import shapely
import shapely.affinity
from conftest import Desk, pick, press, press_in_panel, seen, turn_to, type_in
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QPushButton

from knollside.core.model.running import SpoolLog, Stay
from knollside.core.run.packing import Packing, Spacing, check
from knollside.gui.nodes.runs import WEEK
from knollside.gui.spoolfacts import loaded_words
from knollside.gui.steps.platespage import read_when
from knollside.gui.steps.weekpage import hours_text, read_hours

BEGIN = datetime(2026, 11, 30, 17, 10, tzinfo=ZoneInfo("Europe/Berlin"))


@pytest.fixture
def running(desk: Desk) -> Desk:
    """A run of clips and label plates, small parts that are soon looked over."""
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Run")
    turn_to(desk, "Plates")
    assert desk.window.steps["Run"].plates.desk.run.name == "Two plots fitted"
    pick(desk, "Run", "A new run")
    assert "Add the parts of this run." in desk.window.verdict_line.title.text()
    for name in ("Label plate", "Trellis clip"):
        pick(desk, "Add a part", name)
    laid(desk)
    return desk


def run_of(desk: Desk):  # type: ignore[no-untyped-def]
    return desk.window.steps["Run"].plates.desk


def laid(desk: Desk):  # type: ignore[no-untyped-def]
    run = run_of(desk)
    desk.settle(lambda: run.laid.fresh is not None or bool(run.laid.refusal), 240)
    assert run.laid.fresh is not None, run.laid.refusal
    return run.laid.fresh


def drag(view, at: QPoint, to: QPoint) -> None:  # type: ignore[no-untyped-def]
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=at)
    QTest.mouseMove(view, to)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=to)


def on_screen(view, plate: int, x: float, y: float) -> QPoint:  # type: ignore[no-untyped-def]
    box, scale = view._box(plate)
    return QPoint(round(box.left() + x * scale), round(box.bottom() - y * scale))


def sound(found) -> None:  # type: ignore[no-untyped-def]
    for p in found.plates:
        same_bed = tuple(type(q)(q.item, 0, q.x, q.y, q.angle, q.locked) for q in p.placed)
        assert check(Packing(same_bed, 1, p.printer.bed_mm[:2], Spacing(3.0))) == []


def test_copies_are_packed_moved_turned_and_stay(running: Desk) -> None:
    run = run_of(running)
    assert [p.title for p in laid(running).plates] == ["Label plate", "Trellis clip"]  # their layers differ
    type_in(running, "Copies of Label plate", "8")
    sound(laid(running))
    type_in(running, "Copies of Label plate", "3")
    found = laid(running)
    assert found.plates[0].title == "3 × Label plate" and len(found.plates) == 2
    assert [p.copies for p in run.run.pieces] == [3, 1]
    sound(found)
    # One is dragged up and left; the others stay where they were, and it stays there.
    view = running.window.steps["Run"].plates.view
    piece = found.plates[0].placed[0]
    spot = shapely.point_on_surface(piece.shape)
    at = on_screen(view, 0, spot.x, spot.y)
    before = {p.item.key: (p.x, p.y) for p in found.plates[0].placed}
    free = on_screen(view, 0, spot.x - piece.x + 6, 210 - (piece.shape.bounds[3] - spot.y))
    drag(view, at, free)
    running.settle(lambda: len(run.run.held) == 3)
    found = laid(running)
    after = {p.item.key: (p.x, p.y) for p in found.plates[0].placed}
    assert after[piece.item.key] == pytest.approx((6, 210 - 32), abs=2) and all(
        p.locked for p in found.plates[0].placed
    )
    assert {k: v for k, v in after.items() if k != piece.item.key} == {
        k: pytest.approx(v, abs=0.01) for k, v in before.items() if k != piece.item.key
    }
    # R turns the one that is picked about its middle.
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_R)
    found = laid(running)
    now = next(p for p in found.plates[0].placed if p.item.key == piece.item.key)
    assert now.angle == 90
    running.workspace.take_back()
    running.workspace.take_back()
    assert run.run.held == ()
    # Onto another one it cannot go: the reason is said, and the plan is not true.
    other = laid(running).plates[0].placed[1]
    at = on_screen(view, 0, *shapely.point_on_surface(laid(running).plates[0].placed[0].shape).coords[0])
    to = on_screen(view, 0, *shapely.point_on_surface(other.shape).coords[0])
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=at)
    QTest.mouseMove(view, to)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=to)
    running.settle(lambda: bool(run.laid.refusal))
    assert "overlap" in run.laid.refusal and run.laid.fresh is None
    assert "cannot be laid out" in running.window.verdict_line.title.text()


def test_a_piece_goes_on_another_plate_and_plates_are_named_and_tied(running: Desk) -> None:
    run, shelf = run_of(running), running.workspace.shelf
    type_in(running, "Copies of Label plate", "24")
    found = laid(running)
    first = found.plates[0]
    last = max(k for k, p in enumerate(found.plates) if "Label plate" in p.title)
    second = found.plates[last]
    assert last > 0, [(len(p.placed), p.title) for p in found.plates]
    assert first.filament == second.filament and first.printer.name == second.printer.name
    view = running.window.steps["Run"].plates.view
    # A piece of the full plate is dragged to where there is room on the other one.
    counts = [len(p.placed) for p in found.plates]
    piece = first.placed[-1]
    spot = shapely.point_on_surface(piece.shape)
    room = next(
        (x, y) for y in range(6, 200, 2) for x in range(6, 200, 2) if _free(second, piece, x, y, first.printer.bed_mm)
    )
    at = on_screen(view, 0, spot.x, spot.y)
    to = on_screen(view, last, room[0] + spot.x - piece.shape.bounds[0], room[1] + spot.y - piece.shape.bounds[1])
    assert view._box(0)[0].contains(at.toPointF()) and view._box(last)[0].contains(to.toPointF())
    drag(view, at, to)
    found = laid(running)
    assert (len(found.plates[0].placed), len(found.plates[last].placed)) == (counts[0] - 1, counts[last] + 1)
    (moved,) = [p for p in found.plates[last].placed if p.item.key == piece.item.key]
    assert moved.x == pytest.approx(room[0], abs=1.5) and moved.y == pytest.approx(room[1], abs=1.5)
    sound(found)
    # On a plate that prints in other layers it cannot go, and stays.
    clip = next(k for k, p in enumerate(found.plates) if p.title == "Trellis clip")
    spot = shapely.point_on_surface(found.plates[0].placed[0].shape)
    held = run.run.held
    drag(view, on_screen(view, 0, spot.x, spot.y), on_screen(view, clip, 20, 20))
    assert run.run.held == held and laid(running).plates[0].placed[0].plate == 0
    # A name stays with its plate, the spool and the printer it is tied to as well.
    at = on_screen(view, 0, 3, 3)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=at)
    running.settle()
    type_in(running, "Plate's name", "First bed")
    found = laid(running)
    assert found.plates[0].title == "First bed" and found.plates[1].title != "First bed"
    white = next(s for s in shelf.spools if s.name == "PETG white")
    pick(running, "Spool of this plate", "PETG white")
    pick(running, "Printer of this plate", "The Brick")
    found = laid(running)
    assert found.plates[0].spool == str(white.id) and found.plates[0].only == "The Brick"
    running.workspace.clock = lambda: BEGIN.replace(tzinfo=None)
    turn_to(running, "Week")
    press(running, "Plan it")
    running.settle(lambda: run.planned.fresh is not None or bool(run.planned.refusal), 60)
    told = " ".join(run.planned.fresh.short)
    assert run.planned.fresh.given.spool_of[found.plates[0].key] == str(white.id)
    if found.plates[0].bound:
        assert "First bed cannot go on The Brick, to which it is tied: it was corrected for Old Tom." in told
    running.workspace.take_back()
    assert laid(running).plates[0].only == ""
    turn_to(running, "Plates")
    press_in_panel(running, "Lay all out anew")
    assert run.run.held == () and len(laid(running).plates[0].placed) == counts[0]


def _free(plate, piece, x: float, y: float, bed) -> bool:  # type: ignore[no-untyped-def]
    shape = shapely.affinity.translate(piece.shape, x - piece.shape.bounds[0], y - piece.shape.bounds[1])
    inside = shape.bounds[2] < bed[0] - 5 and shape.bounds[3] < bed[1] - 5
    return inside and all(shapely.distance(shape, q.shape) > 4.5 for q in plate.placed)


def test_plates_are_begun_fail_and_are_printed_again_and_only_those(running: Desk) -> None:
    run, shelf = run_of(running), running.workspace.shelf
    type_in(running, "Copies of Label plate", "3")
    laid(running)
    press_in_panel(running, "It is printing")
    found = laid(running)
    assert [p.title for p in found.plates] == ["Trellis clip"] and run.run.done[0].state == "printing"
    tom = next(n for n, p in shelf.printers.items() if p.name == "Old Tom")
    assert loaded_words(running.workspace.shelf)[tom] == "PETG white"
    assert "1 plate to print, 1 printing" in running.window.steps["Run"].standing().words
    prints = len(running.shop.learned.prints())
    press_in_panel(running, "It failed")
    found = laid(running)
    # It took some of the white spool, and is in the record; all in one step.
    white = next(s for s in running.workspace.shelf.spools if s.name == "PETG white")
    took = running.workspace.shelf.spool_logs[white.id].took
    assert len(took) == 1 and 0 < took[0].grams < 16 and took[0].title == "3 × Label plate"
    assert running.shop.learned.prints()[-1].outcome == "failed: 3 × Label plate"
    running.workspace.take_back()
    assert running.workspace.shelf.spool_logs[white.id].took == () and len(running.shop.learned.prints()) == prints
    running.workspace.make_again()
    found = laid(running)
    assert [p.title for p in found.plates] == ["3 × Label plate", "Trellis clip"] and "failed" in seen(running)
    for _ in range(2):
        press_in_panel(running, "Printed")
        running.settle(lambda: run.laid.fresh is not None or run.question() is None, 240)
    assert run.question() is None and "every plate printed" in running.window.steps["Run"].standing().words
    pick(running, "Run", "Same again")
    found = laid(running)
    assert [p.title for p in found.plates] == ["3 × Label plate", "Trellis clip"]
    assert len(running.workspace.shelf.runs) == 3


def test_plates_are_written_and_what_cannot_be_is_said(running: Desk, tmp_path) -> None:  # type: ignore[no-untyped-def]
    page = running.window.steps["Run"].plates
    page.write_to(tmp_path / "out")
    running.settle(lambda: bool(page.written))
    assert sorted(p.suffix for p in page.written) == [".3mf", ".3mf", ".html", ".html"]
    assert all(p.stat().st_size > 500 for p in page.written)
    assert "The plates are written." in running.window.verdict_line.title.text()
    box = next(b for b in running.window.findChildren(QCheckBox) if b.text() == "One after another")
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
    laid(running)
    assert run_of(running).run.one_after_another and "All at once" not in seen(running)
    more = next(b for b in running.window.findChildren(QPushButton) if b.accessibleName() == "Details of Trellis clip")
    QTest.mouseClick(more, Qt.MouseButton.LeftButton)
    running.settle()
    type_in(running, "Trellis clip due", "some day")
    assert run_of(running).run.pieces[1].due is None
    type_in(running, "Trellis clip due", "5 Dec 2026 20:00")
    assert run_of(running).run.pieces[1].due == datetime(2026, 12, 5, 20)
    assert "due 05 Dec 20:00" in seen(running)


def test_the_week_is_planned_by_ones_own_hours_and_a_wet_spool_is_dried_first(running: Desk) -> None:
    run = run_of(running)
    running.workspace.clock = lambda: BEGIN.replace(tzinfo=None)
    turn_to(running, "Week")
    assert "Nothing is planned yet." in running.window.verdict_line.title.text()
    press(running, "Plan it")
    running.settle(lambda: run.planned.fresh is not None or bool(run.planned.refusal), 60)
    whole = run.planned.fresh
    plan = whole.plan
    assert {s.printer for s in plan.slots} <= {"Old Tom", "The Brick"} and len(plan.slots) == 2
    # Their holes are corrected by what was read on Old Tom: no other printer takes them. Each plate is itself.
    assert {s.printer for s in plan.slots} == {"Old Tom"} and len({s.task.key for s in plan.slots}) == 2
    later = plan.slots[1]
    running.window.steps["Run"].week._begin(later, whole)
    running.settle()
    assert run.run.done[0].title == later.task.title and run.run.done[0].printer == "Old Tom"
    # Two plates on one bed at once are none.
    running.window.steps["Run"].week._begin(plan.slots[0], whole)
    assert len(run.run.done) == 1 and "Old Tom still prints" in running.window.note.text()

    # Another run knows that the printer is busy.
    def free() -> dict[str, object]:
        return {facts.name: machine.free for facts, machine in running.view.inputs.question(WEEK).machines}

    pick_run = free()
    assert pick_run["Old Tom"] is not None and pick_run["The Brick"] is None
    mine = run.number
    run.choose(next(n for n in running.workspace.shelf.runs if n != mine))
    running.settle()
    assert free() == pick_run
    # The rest is planned again by itself; after undo the plan from before is the plan.
    run.choose(mine)
    running.settle(lambda: run.planned.fresh is not None or bool(run.planned.refusal), 60)
    assert run.planned.fresh is not None, run.planned.refusal
    (rest,) = run.planned.fresh.plan.slots
    assert rest.task.title != later.task.title and rest.setup >= later.end - later.start
    running.workspace.take_back()
    assert run.planned.fresh is None, "a plan of other plates is no plan of these"
    running.settle(lambda: run.planned.fresh is not None, 60)
    assert len(run.planned.fresh.plan.slots) == 2
    assert "All done by" in running.window.verdict_line.title.text()
    # The white spool gets wet: its drying comes first, and is in the list.
    white = next(s for s in running.workspace.shelf.spools if s.name == "PETG white")
    wet = SpoolLog(net_g=86, opened=date(2024, 1, 1), stays=(Stay(since=datetime(2024, 1, 1), humidity=0.8),))
    running.workspace.runs.put_spool_log(white.id, wet, "left in the open")
    assert run.planned.fresh is None and run.planned.old, "what is stored of a spool is in the key"
    running.settle(lambda: run.planned.fresh is not None or bool(run.planned.refusal), 60)
    (dry,) = run.planned.fresh.plan.drying
    assert dry.spool == str(white.id) and all(s.start >= dry.end for s in run.planned.fresh.plan.slots)
    assert "Dry PETG white" in seen(running)
    type_in(running, "In on Monday", "late")
    assert running.workspace.shelf.presence.days == {}
    before = run.planned.fresh
    type_in(running, "In on Monday", "18-22:30")
    assert running.workspace.shelf.presence.days["Monday"] == (("18:00", "22:30"),)
    # What was planned by other hours is no plan any more; the page in front has it made anew.
    running.settle(lambda: run.planned.fresh is not None, 60)
    assert run.planned.fresh is not before
    pick(running, "Who must be by", "never alone")
    pick(running, "What is wanted", "fewest changes")
    running.settle(lambda: run.planned.fresh is not None or bool(run.planned.refusal), 60)
    plan = run.planned.fresh.plan
    zone = plan.span.begin.tzinfo
    for s in plan.slots:
        assert all(plan.span.present[s.start : s.end])
        assert s.start == 0 or plan.span.when(s.start).astimezone(zone).hour >= 6
    running.workspace.take_back()
    assert run.run.goal == "soonest" and run.planned.fresh is None
    # A plan whose first act was not done in time is of the past: the minute's look has it made anew from now on.
    running.settle(lambda: run.planned.fresh is not None, 60)
    first = run.planned.fresh
    running.workspace.clock = lambda: BEGIN.replace(tzinfo=None) + timedelta(days=1, hours=2)
    run.look()
    running.settle(lambda: run.planned.fresh is not None, 60)
    assert run.planned.fresh is not first and run.planned.fresh.plan.span.begin > first.plan.span.begin
    for day in ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"):
        type_in(running, f"In on {day}", " ")
    running.settle(lambda: bool(run.planned.refusal), 60)
    assert "Nobody is in" in run.planned.refusal


def test_times_and_hours_are_read_as_people_write_them() -> None:
    assert read_when("2026-12-05 20:00") == read_when("5 Dec 2026 20:00") == datetime(2026, 12, 5, 20)
    assert read_when("5 December 2026") == datetime(2026, 12, 5, 23, 55) and read_when("soon") is None
    for text, told in (("6:30-8, 17-24", "6:30-8, 17-24"), ("9 to 12", "9-12"), ("", "")):
        assert hours_text(read_hours(text)) == told
    assert all(read_hours(t) is None for t in ("9", "25-26", "12-9", "9-9", "a-b", "9:70-10"))
