"""The run in front, and what is done about it: plates begun, printed, failed, named; what prints is looked after."""

from __future__ import annotations

from datetime import datetime, timedelta

from PyQt6.QtCore import QObject, QTimer

from knollside.core.job.questions.plates import Laid, Plate, Plates, Tie
from knollside.core.job.runfile import zone_of
from knollside.core.job.running import Planned
from knollside.core.model import Refused
from knollside.core.model.running import PlateDone, PlateNote, PlateState, Presence, Run
from knollside.core.run.weeknumbers import eightieth
from knollside.gui import nodes
from knollside.gui.answers import Answer, Missing
from knollside.gui.nodes.runs import keys_of
from knollside.gui.runin import RunIn
from knollside.gui.runprogress import done_of, put_down
from knollside.gui.session import Session
from knollside.gui.watch import Watch

_LOOKS = 60_000  # ms between looks at what prints
_MOVED = timedelta(minutes=15)


class RunDesk(QObject):
    """Which run is in front, and what is done about it. Its answers are the graph's (``knollside.gui.nodes.runs``)."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.workspace = session, session.workspace
        self.number = 0
        self.watch = Watch(self.workspace)
        self._ends: dict[object, datetime] = {}
        self._run_in: RunIn | None = None
        session.derived.run_in = self.run_in
        self.workspace.changed.connect(self._stored)
        self.timer = QTimer(self)
        self.timer.setInterval(_LOOKS)
        self.timer.timeout.connect(self.look)
        self.timer.start()
        # After an edit, too, and once the present turn of the loop is over: what was seen may move an end.
        self.soon = QTimer(self)
        self.soon.setSingleShot(True)
        self.soon.timeout.connect(self.look)
        for timer in (self.timer, self.soon):
            session.closing.connect(timer.stop)

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
        self.number = number
        self._stored()
        self.session.touch()

    def put(self, run: Run, words: str) -> None:
        known = self.number in self.workspace.shelf.runs
        self.number = self.workspace.runs.put_run(self.number if known else None, run, words if known else "")

    def _stored(self) -> None:
        self._run_in = None
        if self.workspace.shelf.printing:
            self.soon.start(0)

    @property
    def presence(self) -> Presence:
        """The stated hours; the usual ones, on this machine's own clock, where none are."""
        return self.workspace.shelf.presence or Presence(zone=_own_zone())

    def run_in(self) -> RunIn:
        """The run in front with all that its plates and its week rest on."""
        if self._run_in is None:
            self._run_in = self._gathered()
        return self._run_in

    def _gathered(self) -> RunIn:
        run, shelf = self.run, self.workspace.shelf
        members, troubles = {}, []
        for piece in run.pieces:
            try:
                members[piece.part] = self.workspace.part_at_hand(piece.part)
            except Refused as refusal:
                troubles.append(str(refusal))
        printing = [d for _, d in shelf.printing if d.ended is not None]
        free = {}
        for number, facts in shelf.printers.items():
            ends = [self._ends.get((d.pieces, d.begun), d.ended) for d in printing if d.printer == facts.name]
            if ends:
                free[number] = max(e for e in ends if e is not None)
        return RunIn(run, members, tuple(troubles), shelf, self.presence, free)

    # Answers

    def question(self) -> Plates | None:
        """All copies that are neither printed nor being printed; None for none."""
        found = self.session.derived.inputs.question(nodes.PLATES) if self.session.has_part else None
        return found if isinstance(found, Plates) else None

    @property
    def laid(self) -> Answer[Laid]:
        return self.session.derived.answer(nodes.PLATES) if self.question() is not None else Missing()

    @property
    def planned(self) -> Answer[Planned]:
        return self.session.derived.answer(nodes.WEEK) if self.question() is not None else Missing()

    def plan(self) -> None:
        """Plan the week from now on."""
        self.session.ask(nodes.WEEK, self.workspace.now().astimezone(zone_of(self.presence)))

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
        return next((n for n in self.run.notes if Tie(keys_of(n.pieces)).holds(plate.placed)), None)

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

    def look(self) -> None:
        """See what prints now. Where an end has moved from what the plan rests on, the rest is planned again."""
        moved = False
        for w in self.watch.all():
            key = w.done.pieces, w.done.begun
            before = self._ends.get(key, w.done.ended)
            if before is None or abs(w.planned_end - before) > _MOVED:
                self._ends[key] = w.planned_end
                moved = True
        if moved:
            self._stored()
        if moved or self._missed():
            self._again()

    def _missed(self) -> bool:
        """Whether the hour of the plan's first act is over and it was not done: the plan is of the past."""
        planned = self.planned.fresh
        if planned is None:
            return False
        plan = planned.plan
        first = min([s.start for s in plan.slots] + [d.start for d in plan.drying if not d.there])
        return self.workspace.now().astimezone() > plan.span.when(first) + _MOVED

    def _again(self) -> None:
        """The rest of a week that was planned follows what happened."""
        if self.planned.shown is not None and self.question() is not None:
            self.plan()


def _own_zone() -> str:
    """The name of this machine's time zone, where it tells one."""
    from pathlib import Path

    try:
        named = str(Path("/etc/localtime").resolve())
    except OSError:
        return "UTC"
    return named.split("zoneinfo/")[-1] if "zoneinfo/" in named else "UTC"
