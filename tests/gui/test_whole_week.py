"""A week from its first plan to its last plate: a wet spool, a plate that fails, a nozzle changed in the middle."""

from __future__ import annotations

from datetime import date, datetime, timedelta

import pytest
from conftest import Desk, pick, press, press_in_panel, seen, turn_to, type_in
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from knollside.core.model.running import SpoolLog, Stay
from knollside.gui.instruments.firstlayer import KINDS, FirstLayerView

START = datetime(2026, 11, 30, 17, 10)


class Week:
    """The person of this week, with a clock of their own."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.now = desk, START
        desk.workspace.clock = lambda: self.now
        self.step = desk.window.steps["Run"]
        self.run = self.step.plates.desk
        self.failed, self.begun, self.nozzle = False, 0, False

    def settled(self) -> None:
        """Plates are laid out and the rest is planned, or nothing is left."""
        run = self.run

        def done() -> bool:
            return run.question() is None or run.planned.fresh is not None or bool(run.planned.refusal)

        self.desk.settle(done, 300)
        assert not run.planned.refusal, run.planned.refusal

    def to(self, when: datetime) -> None:
        assert when >= self.now - timedelta(minutes=6)
        self.now = max(self.now, when)
        self.desk.session.touch()
        self.desk.settle()

    def dry(self, name: str, there: bool) -> None:
        """It goes in the drier by the week's own act; or its hours are over."""
        turn_to(self.desk, "Week")
        self.settled()
        if there:
            press(self.desk, "It is in the drier")
        else:
            press_in_panel(self.desk, f"{name} is dried")
        self.settled()

    def begin(self) -> None:
        plan = self.run.planned.fresh.plan
        self.to(plan.span.when(plan.slots[0].start).replace(tzinfo=None))
        turn_to(self.desk, "Week")
        self.settled()
        busy = {w.done.printer for w in self.run.watch.all()}
        first = self.run.planned.fresh.plan.slots[0]
        if first.printer in busy:
            return  # planned anew meanwhile: another one is next
        title, printer = first.task.title, first.printer
        before = len(self.run.watch.all())
        press(self.desk, "It is printing")
        self.desk.settle(lambda: len(self.run.watch.all()) == before + 1, 20)
        self.begun += 1
        turn_to(self.desk, "Watch")
        watch = self.step.watch
        watch._take(next(k for k, w in enumerate(watch.watched) if w.done.title == title and w.done.printer == printer))
        self.desk.settle()
        assert "Look at the first layer." in self.desk.window.verdict_line.title.text() or watch.shown.alarms
        cards = next(c for c in watch.findChildren(FirstLayerView) if c.isVisible())
        box = cards._box(KINDS.index("right"))
        QTest.mouseClick(cards, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
        self.desk.settle()
        assert watch.shown.done.first_layer == "right"

    def end(self, number: int, done) -> None:  # type: ignore[no-untyped-def]
        turn_to(self.desk, "Watch")
        watch = self.step.watch
        watch._take(next(k for k, w in enumerate(watch.watched) if w.done.pieces == done.pieces))
        self.desk.settle()
        seen_now = watch.shown
        if not self.failed:
            type_in(self.desk, "What went wrong", "a corner came loose")
            self.failed = True
            press_in_panel(self.desk, "It failed")
        elif seen_now.alarms:
            assert seen_now.alarms[0].words in seen(self.desk)
            press_in_panel(self.desk, "It failed")
        else:
            assert seen_now.over and "is done" in self.desk.window.verdict_line.title.text()
            press_in_panel(self.desk, "It came out")
        self.settled()

    def change_nozzle(self) -> None:
        self.nozzle = True
        self.desk.window.take("Workshop")
        turn_to(self.desk, "Printers")
        pick(self.desk, "Printer to describe", "Old Tom")
        pick(self.desk, "What was done", "new nozzle")
        press_in_panel(self.desk, "Log it")
        self.desk.window.take("Run")
        turn_to(self.desk, "This part")
        self.desk.settle()
        assert "Nozzle changed" in seen(self.desk)  # the list before a print asks for it
        turn_to(self.desk, "Week")
        if self.run.planned.fresh is None and self.run.question() is not None:
            press(self.desk, "Plan it")
        self.settled()

    def events(self) -> list[tuple[datetime, str, object]]:
        """What comes next, by what the plan and the printers say."""
        out: list[tuple[datetime, str, object]] = []
        plan = self.run.planned.fresh.plan if self.run.question() is not None else None
        if plan is not None:
            when = plan.span.when
            for d in plan.drying:
                out.append((when(d.end if d.there else d.start).replace(tzinfo=None), "dry", d))
            # What still prints is ended first.
            if plan.slots[0].printer not in {w.done.printer for w in self.run.watch.all()}:
                out.append((when(plan.slots[0].start).replace(tzinfo=None), "begin", None))
        for w in self.run.watch.all():
            monitor = self.run.watch.monitor(w.number, w.done)
            hours = (monitor.strikes + 1800 if monitor.mishap != "nothing" else monitor.total + 60) / 3600
            out.append((w.done.begun + timedelta(hours=hours), "end", w))
        return sorted(out, key=lambda e: (e[0], e[1] != "dry"))


@pytest.fixture
def week(desk: Desk) -> Week:
    desk.settle(lambda: desk.facts is not None)
    green = next(s for s in desk.workspace.shelf.spools if s.name == "PETG green")
    wet = SpoolLog(net_g=640, opened=date(2026, 3, 1), stays=(Stay(since=datetime(2026, 3, 1), humidity=0.8),))
    desk.workspace.runs.put_spool_log(green.id, wet, "left in the open")
    desk.window.take("Run")
    return Week(desk)


def test_a_week_runs_to_its_end_with_all_that_goes_wrong(week: Week) -> None:
    desk, run = week.desk, week.run
    turn_to(desk, "Plates")
    pick(desk, "Run", "A new run")
    press(desk, "All of this job")
    assert len(run.run.pieces) >= 8
    desk.settle(lambda: run.laid.fresh is not None or bool(run.laid.refusal), 300)
    plates = len(run.laid.fresh.plates)
    assert plates >= 3 and len({p.filament for p in run.laid.fresh.plates}) == 3, run.laid.fresh
    assert {p.printer.name for p in run.laid.fresh.plates} == {"Old Tom", "The Brick"}
    turn_to(desk, "Week")
    press(desk, "Plan it")
    week.settled()
    assert [d.spool for d in run.planned.fresh.plan.drying], "the green spool is wet"
    prints = len(desk.shop.learned.prints())
    for _ in range(80):
        events = week.events()
        if not events:
            break
        when, kind, what = events[0]
        if kind == "begin":
            week.begin()
        else:
            week.to(when)
            if kind == "dry":
                week.dry(next(s.name for s in desk.workspace.shelf.spools if str(s.id) == what.spool), not what.there)
            else:
                week.end(what.number, what.done)
                if week.begun == 3 and not week.nozzle:
                    week.change_nozzle()
    assert run.question() is None and not run.watch.all()
    assert "every plate printed" in week.step.standing().words
    assert week.failed and week.nozzle and week.begun > plates
    made = desk.shop.learned.prints()[prints:]
    assert len(made) == week.begun and sum(r.outcome.startswith("failed") for r in made) == week.begun - plates
    assert any("a corner came loose" in r.outcome for r in made)
    # Hours that the printers really took, not the plan's: each print has its own, near its estimate.
    took = [r.actual_hours / r.estimate_hours for r in made if r.actual_hours]
    assert len(took) == plates and all(0.6 < t < 1.9 for t in took) and len({round(t, 3) for t in took}) == plates
    green = next(s for s in desk.workspace.shelf.spools if s.name == "PETG green")
    log = desk.workspace.shelf.spool_logs[green.id]
    # Left in that damp room it is dried again if the week is long enough.
    assert log.dried[0].hours >= 5 and log.drying_since is None
    assert all(t.at > log.dried[0].at for t in log.took)
