"""Run's page of the week: hours somebody is in, what is wanted, what to do next and after that."""

from __future__ import annotations

from datetime import timedelta
from functools import partial

from PyQt6.QtWidgets import QLineEdit, QWidget

from knollside.core.job.runfile import week_of
from knollside.core.job.running import Planned, act_of, next_act, to_dry_first
from knollside.core.model import Refused
from knollside.core.model.running import Presence, Run, Stretches
from knollside.core.run.hours import DAYS, USUAL
from knollside.core.run.week import Plan, Slot
from knollside.core.run.weeknumbers import Goal
from knollside.gui.drier import came_out_dry, into_drier
from knollside.gui.instruments.weekview import WeekView
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, column, heading, label, row, rule
from knollside.gui.rundesk import RunDesk
from knollside.gui.session import Session
from knollside.gui.spoolfacts import loaded_words
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.page import Page, Same, line
from knollside.store.records import Spool

_SCHOOLS = (
    ("first layer and end watched", "ends watched"),
    ("never alone", "never alone"),
    ("only the first layer watched", "overnight"),
)
_CARE = {
    "ends watched": "Between first layer and end it runs on alone: a working smoke alarm, nothing that burns near it.",
    "never alone": "Somebody is in and awake from the first layer to the end.",
    "overnight": "It ends with nobody by: a fault then burns on. Landlords and insurers may forbid it; ask first.",
}
_GOALS = (("soonest done", "soonest"), ("fewest changes", "fewest changes"), ("due first", "due first"))


class WeekPage(Page):
    """``view`` is its drawing on the stage."""

    def __init__(self, session: Session, desk: RunDesk) -> None:
        super().__init__()
        self.session, self.desk, self.workspace = session, desk, session.workspace
        self.view = WeekView()
        self.view.taken.connect(self._take)
        self.front = -1
        self.margins(16, 12)

    # What is stored

    def _change(self, change: dict[str, object], words: str) -> None:
        self.desk.put(Run.model_validate(self.desk.run.model_dump() | change), words)

    def _hours(self, day: str, field: QLineEdit) -> None:
        told = read_hours(field.text())
        if told is None:
            words = f"“{field.text()}” are no hours: write them like 6:30-8, 17-23, or nothing for nobody."
            self.workspace.said.emit(words)
            self._shown = None
            self.session.touch()
            return
        presence = self.desk.presence
        days = presence.days or _usual()
        if days.get(day, ()) != told:
            changed = Presence.model_validate(presence.model_dump() | {"days": dict(days) | {day: told}})
            try:
                week_of(changed)
            except Refused as refusal:
                self.workspace.said.emit(str(refusal))
                return
            self.workspace.runs.put_presence(changed, f"hours of {day}")

    def plan(self) -> None:
        """Plan from now on."""
        self.desk.plan()

    def _take(self, slot: int) -> None:
        self.front = slot
        self.session.touch()

    # Showing

    def _spools(self) -> dict[str, str]:
        return {str(s.id): s.name for s in self.workspace.shelf.spools}

    def refresh(self) -> None:
        answer, run = self.desk.planned, self.desk.run
        planned: Planned | None = answer.shown
        shelf = self.workspace.shelf
        held = loaded_words(shelf)
        printers = tuple((facts.name, held[n] or "nothing loaded") for n, facts in shelf.printers.items())
        empty = answer.refusal or (
            "Add parts at Plates first." if not run.pieces else "Press “Plan it” for the days from now on."
        )
        title = "The days from now on"
        self.view.put(planned.plan if planned is not None else None, printers, self._spools(), title, empty, answer.old)
        key = (run, Same(planned), answer.old, answer.refusal, self.front, self.desk.presence, printers, shelf.spools)
        if self.fresh(key):
            self._fill(run, planned, answer.old)

    def _fill(self, run: Run, planned: Planned | None, old: bool) -> None:
        school = Dropdown("Who must be by", _SCHOOLS, 14)
        school.put(run.school)
        school.chose.connect(lambda v: self._change({"school": v}, f"prints with {v}"))
        goal = Dropdown("What is wanted", _GOALS, 10)
        goal.put(run.goal)
        goal.chose.connect(lambda v: self._change({"goal": v}, f"wanted: {v}"))
        days = NumberField("Days planned", "share", "", 1, 1, 60, 0, 46)
        days.plain = True
        days.put(run.days)
        days.entered.connect(lambda v: self._change({"days": round(v)}, f"{v:.0f} days"))
        self.add(heading("Wanted", goal), row(label("over", dim=True), days, label("days", dim=True), stretch=-2))
        self.add(school, label(_CARE[run.school], dim=True, wrap=True), rule())
        if planned is not None and not old:
            self.add(heading("In order", f"{len(planned.plan.slots)} plates"))
            when = planned.plan.span.when
            for d in planned.plan.drying:
                name, there = self._spools().get(d.spool, d.spool), d.there
                words = f"until {when(d.end):%a %H:%M}, before its first plate"
                self.add(line(f"Dry {name}", "in it" if there else f"{when(d.start):%a %H:%M}", words, False))
                if there:
                    self.add(row(button(f"{name} is dried", partial(self._dry, d.spool, False)), stretch=-2))
                else:
                    self.add(row(button(f"{name} is in the drier", partial(self._dry, d.spool, True)), stretch=-2))
            for k, s in enumerate(planned.plan.slots):
                self.add(self._slot(planned, k, s))
            for words in planned.short:
                self.add(label(words, 13, 600, wrap=True))
            self.add(rule())
        self._presence()

    def _slot(self, planned: Planned, k: int, s: Slot) -> QWidget:
        plan = planned.plan
        low, high = plan.span.when(s.soonest), plan.span.when(s.latest)
        ends = f"{low:%H:%M} to {high:%H:%M}" if low.date() == high.date() else f"{low:%a %H:%M} to {high:%a %H:%M}"
        begins, under = f"{plan.span.when(s.start):%a %H:%M}", f"{s.printer}, ends {ends}"
        out: list[QWidget] = [line(f"{k + 1}  {s.task.title}", begins, under, k == self.front)]
        if k == self.front:
            out.append(label(act_of(plan, s, self._spools()), 13, wrap=True))
            out.append(row(button("It is printing", lambda: self._begin(s, planned)), stretch=-2))
        return column(*out, spacing=2)

    def _begin(self, s: Slot, planned: Planned) -> None:
        now = self.workspace.now().astimezone()
        self.desk.mark(planned.plate(s), "printing", s.printer, now + timedelta(minutes=5 * (s.end - s.start)))

    # The drier

    def _spool(self, key: str) -> Spool:
        return next(s for s in self.workspace.shelf.spools if str(s.id) == key)

    def _dry(self, key: str, there: bool) -> None:
        """It is in the drier now; or it is dry."""
        if there:
            into_drier(self.workspace, self._spool(key))
        else:
            came_out_dry(self.workspace, self._spool(key), 0.0)
        self.plan()

    def _presence(self) -> None:
        presence = self.desk.presence
        days = presence.days or _usual()
        self.add(heading("In and awake", "yours" if presence.days else "usual hours"))
        for name in DAYS:
            field = QLineEdit(hours_text(days.get(name, ())))
            field.setAccessibleName(f"In on {name}")
            field.setPlaceholderText("nobody in")
            field.editingFinished.connect(lambda n=name, f=field: self._hours(n, f))
            words = label(name)
            words.setFixedWidth(96)
            self.add(row(words, field, stretch=1))
        self.add(label(f"By the clock of {presence.zone}.", dim=True, wrap=True))

    # The verdict

    def verdict(self) -> Verdict:
        answer, run = self.desk.planned, self.desk.run
        go = Act("Plan it", self.plan)
        if not run.pieces:
            return Verdict("Add parts at Plates first.")
        if answer.refusal:
            again = (Act("Plan again", self.plan),)
            return Verdict("It cannot be planned so.", answer.refusal, number="!", tone="clay", acts=again)
        if answer.fresh is None:
            title = "The plan is from before a change." if answer.old else "Nothing is planned yet."
            return Verdict(title, "Plates are put on printers and hours; drying is in it.", acts=(go,), old=answer.old)
        planned: Planned = answer.fresh
        plan = planned.plan
        first = plan.slots[0]
        done = plan.span.when(plan.done)
        late = max(s.latest for s in plan.slots)
        acts = (Act("It is printing", lambda: self._begin(first, planned)), Act("Plan again", self.plan))
        dry = to_dry_first(plan)
        if dry is not None:
            acts = (Act("It is in the drier", partial(self._dry, dry.spool, True)), acts[0])
        by = f"{done:%a %d %b} {done:%H:%M}"
        return Verdict(
            f"All done by {by}." if not planned.short else "Not all of it can be done so.",
            " ".join((next_act(plan, self._spools()), _best(plan), *planned.short)),
            number=f"{done:%H:%M}",
            under=(f"{done:%a %d %b}", f"latest {plan.span.when(late):%a %H:%M}"),
            tone="clay" if planned.short else "moss",
            source=f"{plan.changes} change{'s' if plan.changes != 1 else ''} of spool.",
            acts=acts,
        )


def _best(plan: Plan) -> str:
    """How far the plan may be from the best there is."""
    if plan.proved:
        return "No plan does better."
    if plan.goal is Goal.SOONEST:
        return f"At best {(plan.done - plan.bound) / 12:.1f} h sooner."
    if plan.goal is Goal.FEWEST_CHANGES:
        return f"At best {plan.bound} change{'s' if plan.bound != 1 else ''}."
    return f"At best {plan.bound / 12:.1f} h late in all, {plan.late / 12:.1f} planned."


def _usual() -> dict[str, Stretches]:
    return {
        name: tuple((f"{a:%H:%M}", f"{b:%H:%M}") for a, b in stretches)
        for name, stretches in zip(DAYS, USUAL.days, strict=True)
    }


def hours_text(stretches: Stretches) -> str:
    """Hours as people write them: 6:30-8, 17-23.

    >>> hours_text((("06:30", "08:00"), ("17:00", "24:00")))
    '6:30-8, 17-24'
    """
    return ", ".join("-".join(_short(t) for t in pair) for pair in stretches)


def _short(clock: str) -> str:
    hour, minute = clock.split(":")
    return f"{int(hour)}" if minute == "00" else f"{int(hour)}:{minute}"


def read_hours(text: str) -> Stretches | None:
    """Stretches of a day from what was typed; none for nobody; None where it is no hours.

    >>> read_hours("6:30-8, 17-24"), read_hours(""), read_hours("late")
    ((('06:30', '08:00'), ('17:00', '24:00')), (), None)
    """
    out = []
    for part in text.replace("–", "-").replace(" to ", "-").split(","):
        if not part.strip():
            continue
        ends = [_clock(t) for t in part.split("-")]
        if len(ends) != 2 or ends[0] is None or ends[1] is None or ends[0] >= ends[1]:
            return None
        out.append((ends[0], ends[1]))
    return tuple(out)


def _clock(text: str) -> str | None:
    hour, _, minute = text.strip().partition(":")
    if not hour.isdigit() or (minute and not minute.isdigit()):
        return None
    h, m = int(hour), int(minute or 0)
    return f"{h:02d}:{m:02d}" if (h < 24 and m < 60) or (h, m) == (24, 0) else None
