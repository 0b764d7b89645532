"""The run in front: what is stored of it as questions, their last answers, and what each is worth now."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from knollside.core.job.ask import Question
from knollside.core.job.asked import ask_taken
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.plates import Laid, Plate, Plates, Tie, Wanted
from knollside.core.job.questions.week import WeekOf
from knollside.core.job.runfile import goal_of, school_of, zone_of
from knollside.core.job.running import Planned
from knollside.core.mesh.identity import Names
from knollside.core.model import PrinterFacts, Refused
from knollside.core.model.running import PlateDone, PlateNote, PlateState, Presence, Run
from knollside.core.run.packing import Spacing, Turns
from knollside.core.run.sequence import Head
from knollside.core.run.weeknumbers import Machine, eightieth
from knollside.gui.answers import Answer, Declined, Fresh, Missing, Stale
from knollside.gui.openpart import OpenPart
from knollside.gui.runprogress import done_of, put_down
from knollside.gui.session import Session
from knollside.gui.spoolfacts import filament_of, loaded_on, on_shelf, stored
from knollside.gui.watch import Watch, Watched
from knollside.gui.worker import Outcome

_LAST = 4  # answers kept
_LOOKS = 60_000  # ms between looks at what prints
_MOVED = timedelta(minutes=15)
_ANY_HOUR = datetime(2000, 1, 1, tzinfo=UTC)


class _Kept:
    """A question's last answers by the key of what each was asked of: one step back is still an answer."""

    def __init__(self) -> None:
        self.answers: dict[str, Any] = {}
        self.refused, self.refused_key, self.asked = "", "", ""

    @property
    def last(self) -> Any:
        return next(reversed(self.answers.values()), None)

    def keep(self, key: str, value: Any) -> None:
        self.answers.pop(key, None)
        self.answers[key] = value
        while len(self.answers) > _LAST:
            self.answers.pop(next(iter(self.answers)))
        self.refused = ""

    def worth(self, key: str) -> Answer[Any]:
        if self.refused and self.refused_key == key:
            return Declined(self.refused, self.last)
        if key in self.answers:
            return Fresh(self.answers[key])
        return Missing() if self.last is None else Stale(self.last)


class RunDesk(QObject):
    """``changed`` fires when an answer came. Nothing is asked here but by :meth:`lay_out` and :meth:`plan`."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.workspace = session, session.workspace
        self.number = 0
        self.titles: dict[str, str] = {}
        self.troubles: tuple[str, ...] = ()
        self._plates, self._week = _Kept(), _Kept()
        self.watch = Watch(self.workspace)
        self._ends: dict[object, datetime] = {}
        self._asked: Plates | None = None
        self.workspace.changed.connect(self._stored)
        self.timer = QTimer(self)
        self.timer.setInterval(_LOOKS)
        self.timer.timeout.connect(self.look)
        self.timer.start()
        session.closing.connect(self.timer.stop)

    # What is stored

    @property
    def run(self) -> Run:
        """The run in front; an empty one where there is none yet."""
        runs = self.workspace.shelf.runs
        if self.number not in runs:
            self.number = max(runs, default=0)
        return runs.get(self.number, Run(name="Run 1"))

    def choose(self, number: int) -> None:
        """Bring another run to the front."""
        self.number, self._asked = number, None

    def put(self, run: Run, words: str) -> None:
        known = self.number in self.workspace.shelf.runs
        self.number = self.workspace.runs.put_run(self.number if known else None, run, words if known else "")

    def _stored(self) -> None:
        self._asked = None

    @property
    def presence(self) -> Presence:
        """The stated hours; the usual ones, on this machine's own clock, where none are."""
        return self.workspace.shelf.presence or Presence(zone=_own_zone())

    # Questions

    def question(self) -> Plates | None:
        """All copies that are neither printed nor being printed; None for none."""
        if self._asked is None:
            self._asked = self._made()
        return self._asked if self._asked.wanted else None

    def _made(self) -> Plates:
        run, shelf = self.run, self.workspace.shelf
        away = {p for d in run.done if d.state in ("printing", "printed") for p in d.pieces}
        wanted, troubles = [], []
        self.titles = {}
        for piece in run.pieces:
            copies = tuple(k for k in range(1, piece.copies + 1) if (piece.part, k) not in away)
            try:
                part = self.workspace.part_at_hand(piece.part)
            except Refused as refusal:
                troubles.append(str(refusal))
                continue
            self.titles[str(piece.part)] = part.name
            if copies:
                wanted.append(_wanted(part, copies, Turns(piece.turns), filament_of(part.spool, part.material, shelf)))
        self.troubles = tuple(troubles)
        held = tuple((str(h.part), h.copy_number, h.plate, h.x, h.y, h.angle) for h in run.held)
        held = tuple(h for h in held if (int(h[0]), h[1]) not in away)
        logs = [(f.name, shelf.printer_log(n).head) for n, f in shelf.printers.items()]
        heads = tuple((name, Head(*size)) for name, size in logs if size is not None)
        spacing = Spacing(run.clearance, run.edge)
        ties = _ties(run, {s.id for s in shelf.spools})
        return Plates(tuple(wanted), spacing, heads, run.one_after_another, held, ties)

    def lay_out(self) -> None:
        """Pack the plates."""
        question = self.question()
        if question is not None and self._plates.asked != question.key:
            self._plates.asked = question.key
            self.session.once("plates", question, lambda outcome: self._came(self._plates, question, outcome))

    def week_question(self, begin: datetime) -> WeekOf | None:
        plates, shelf, run = self.question(), self.workspace.shelf, self.run
        if plates is None:
            return None
        machines = []
        held = loaded_on(shelf)
        printing = [d for _, d in shelf.printing if d.ended is not None]
        for number, facts in shelf.printers.items():
            log = shelf.printer_log(number)
            ends = [self._ends.get((d.pieces, d.begun), d.ended) for d in printing if d.printer == facts.name]
            free = max((e for e in ends if e is not None), default=None)
            machines.append(
                (facts, Machine(facts.name, held[number], _aware(free), log.change_minutes, log.clear_minutes))
            )
        due = tuple((str(p.part), _aware(p.due)) for p in run.pieces if p.due is not None)
        return WeekOf(
            plates,
            tuple(machines),
            on_shelf(shelf),
            (),
            tuple((k, d) for k, d in due if d is not None),
            self.presence,
            begin,
            run.days,
            school_of(run.school),
            goal_of(run.goal),
            stored(shelf),
        )

    def plan(self) -> None:
        """Plan the week from now on."""
        now = self.workspace.now().astimezone(zone_of(self.presence))
        question = self.week_question(now)
        if question is not None:
            self._week.asked = question.key
            self.session.once("week", question, lambda outcome: self._came(self._week, question, outcome))

    def _came(self, kept: _Kept, question: Question[Any], outcome: Outcome) -> None:
        kept.asked = ""
        if outcome.refused:
            kept.refused, kept.refused_key = outcome.refused, self._key_of(question)
        elif outcome.result is not None:
            kept.keep(self._key_of(question), outcome.result)
        self.changed.emit()

    def _key_of(self, question: Question[Any]) -> str:
        """What an answer rests on; a plan is old when anything but the hour (and what dries by then) is another."""
        return replace(question, stored=(), begin=_ANY_HOUR).key if isinstance(question, WeekOf) else question.key

    # Answers

    @property
    def laid(self) -> Answer[Laid]:
        question = self.question()
        return Missing() if question is None else self._plates.worth(question.key)

    @property
    def planned(self) -> Answer[Planned]:
        question = self.week_question(_ANY_HOUR)
        return Missing() if question is None else self._week.worth(self._key_of(question))

    # Progress

    def mark(self, plate: Plate, state: PlateState, printer: str, ends: datetime | None = None) -> None:
        """A plate is begun, printed or failed. What failed is laid out again; what is printed is not."""
        busy = next((d.title for _, d in self.workspace.shelf.printing if d.printer == printer), "")
        if busy and state == "printing":
            self.workspace.said.emit(f"{printer} still prints {busy}: say first how that came out.")
            return
        planned = self.planned.fresh
        spool = planned.given.spool_of.get(plate.key, "") if planned is not None else ""
        question = self.question()
        keys = {p.item.part for p in plate.placed}
        factors = [w.taken.price.factor.value for w in question.wanted if w.key in keys] if question else []
        if ends is None and state == "printing":
            ends = self.workspace.now() + timedelta(hours=eightieth(plate.hours))
        factor, single = factors[0] if factors else 1.0, self.run.one_after_another
        done = done_of(plate, state, printer, spool, factor, self.workspace.now(), ends, single)
        if self.number in self.workspace.shelf.runs:
            put_down(self.workspace, self.number, self.run, done)
            self._again()

    def ended(self, number: int, done: PlateDone, state: PlateState, why: str = "") -> None:
        """A plate of a run that was begun came out, or did not."""
        seen = self.watch.of(number, done) if done.begun is not None else None
        took = None
        if seen is not None and seen.simulated:
            took = seen.whole.value if seen.over else seen.elapsed
        told = done.model_copy(update={"state": state, "why": why[:400]})
        put_down(self.workspace, number, self.workspace.shelf.runs[number], told, took)
        self._again()

    def note_of(self, plate: Plate) -> PlateNote | None:
        """What was said of a plate, if anything."""
        return next((n for n in self.run.notes if Tie(_keys(n.pieces)).holds(plate.placed)), None)

    def note(self, plate: Plate, change: dict[str, object], words: str) -> None:
        """Something is said of a plate: its name, its spool, its printer."""
        before = self.note_of(plate)
        pieces = tuple((int(p.item.part), p.item.copy) for p in plate.placed)
        told = {} if before is None else before.model_dump()
        note = PlateNote.model_validate({**told, "pieces": pieces, **change})
        kept = tuple(n for n in self.run.notes if n is not before)
        empty = not (note.name or note.spool or note.printer)
        self.put(self.run.model_copy(update={"notes": kept if empty else (*kept, note)}), words)

    def seen(self, number: int, done: PlateDone, change: dict[str, object], words: str) -> None:
        """Something was seen of a plate that prints."""
        run = self.workspace.shelf.runs[number]
        told = PlateDone.model_validate(done.model_dump() | change)
        kept = tuple(told if d.pieces == done.pieces and d.state == "printing" else d for d in run.done)
        self.workspace.runs.put_run(number, run.model_copy(update={"done": kept}), words)

    def look(self) -> tuple[Watched, ...]:
        """What prints now. Where an end has moved from what the plan rests on, the rest is planned again."""
        watched = self.watch.all()
        moved = False
        for w in watched:
            key = w.done.pieces, w.done.begun
            before = self._ends.get(key, w.done.ended)
            if before is None or abs(w.planned_end - before) > _MOVED:
                self._ends[key] = w.planned_end
                moved = True
        if moved:
            self._again()
        return watched

    def _again(self) -> None:
        """The rest of a week that was planned follows what happened."""
        if self._week.last is not None:
            self.plan()


def _wanted(part: OpenPart, copies: tuple[int, ...], turns: Turns, filament: str) -> Wanted:
    # A part that was never opened has no names yet: its features are as they are found.
    question = part.question or Part(part.mesh_key, Names(of=part.mesh_hash))
    facts: PrinterFacts = part.printer
    return Wanted(
        str(part.id), part.name, ask_taken(question, part, part.frame), part.recipe, facts, filament, copies, turns
    )


def _keys(pieces: tuple[tuple[int, int], ...]) -> tuple[tuple[str, int], ...]:
    return tuple((str(part), copy) for part, copy in pieces)


def _ties(run: Run, spools: set[int]) -> tuple[Tie, ...]:
    """What was said of plates; a spool that is gone ties nothing."""
    return tuple(
        Tie(
            _keys(n.pieces),
            n.name,
            str(n.spool) if n.spool in spools else "",
            n.printer,
        )
        for n in run.notes
    )


def _aware(when: datetime | None) -> datetime | None:
    return when.astimezone() if when is not None and when.tzinfo is None else when


def _own_zone() -> str:
    """The name of this machine's time zone, where it tells one."""
    from pathlib import Path

    try:
        named = str(Path("/etc/localtime").resolve())
    except OSError:
        return "UTC"
    return named.split("zoneinfo/")[-1] if "zoneinfo/" in named else "UTC"
