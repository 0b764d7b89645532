"""Run's page of plates: which parts, how many, packed on as few beds as they go; moved by hand, marked, written."""

from __future__ import annotations

from datetime import datetime
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QWidget

from knollside.core.job.questions.plates import Laid, Plate
from knollside.core.model.running import Held, PlateDone, PlateNote, Run, RunPiece
from knollside.gui.fileasks import WritePlates
from knollside.gui.instruments.platesview import Moved, PlatesView
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, column, heading, label, row, rule
from knollside.gui.rundesk import RunDesk
from knollside.gui.session import Session
from knollside.gui.spoolfacts import filament_of
from knollside.gui.stepbase import Act, Mark, Standing, Verdict
from knollside.gui.steps.page import Page, Same, line
from knollside.gui.worker import Outcome

_TURNS = (("by quarters", "quarter"), ("any way", "free"), ("not at all", "none"))
_DUE = "%d %b %Y %H:%M"


class PlatesPage(Page):
    """``view`` is its drawing on the stage."""

    def __init__(self, session: Session, desk: RunDesk) -> None:
        super().__init__()
        self.session, self.desk, self.workspace = session, desk, session.workspace
        self.view = PlatesView()
        self.view.taken.connect(self._take)
        self.view.moved.connect(self._moved)
        self.front, self.opened = 0, 0
        self.written: tuple[Path, ...] = ()
        self._written_of = ""
        self.runs = Dropdown("Run", letters=14)
        self.runs.chose.connect(self._choose_run)
        self.top(heading("Run", self.runs))
        self.margins(16, 12)

    # What is stored

    def _change(self, change: dict[str, object], words: str) -> None:
        self.desk.put(Run.model_validate(self.desk.run.model_dump() | change), words)

    def _piece(self, part: int, change: dict[str, object], words: str) -> None:
        pieces = tuple(
            RunPiece.model_validate(p.model_dump() | change) if p.part == part else p for p in self.desk.run.pieces
        )
        # What lay by hand lies anew once its part is turned or counted otherwise.
        held = tuple(h for h in self.desk.run.held if h.part != part or "due" in change)
        self._change({"pieces": pieces, "held": held}, words)

    def _add(self, part: int) -> None:
        if part < 0:
            known = {p.part for p in self.desk.run.pieces}
            new = tuple(RunPiece(part=n.id) for n in self._mine() if n.id not in known)
            self._change({"pieces": (*self.desk.run.pieces, *new)}, "all parts of the job")
        else:
            self._change({"pieces": (*self.desk.run.pieces, RunPiece(part=part))}, "a part in the run")

    def _drop(self, part: int) -> None:
        run = self.desk.run
        kept = tuple(p for p in run.pieces if p.part != part)
        held = tuple(h for h in run.held if h.part != part)
        self._change({"pieces": kept, "held": held}, "a part taken out of the run")

    def _due(self, part: int, field: QLineEdit) -> None:
        text = field.text().strip()
        if not text:
            self._piece(part, {"due": None}, "due whenever")
            return
        when = read_when(text)
        if when is None:
            self.workspace.said.emit(f"“{text}” is no time: write it like 5 Dec 2026 20:00.")
            self.session.touch()
            return
        self._piece(part, {"due": when}, f"due {when:{_DUE}}")

    def _choose_run(self, number: object) -> None:
        if number == 0:
            self.desk.choose(self.workspace.runs.put_run(None, Run(name=f"Run {len(self.workspace.shelf.runs) + 1}")))
        elif number == -2:
            return
        elif number == -1:
            # Again with all its settings: every copy anew.
            again = self.desk.run.model_copy(update={"done": (), "name": f"{self.desk.run.name} again"[:80]})
            self.desk.choose(self.workspace.runs.put_run(None, again))
        else:
            self.desk.choose(int(str(number)))
        self.session.touch()

    def _moved(self, moved: Moved) -> None:
        laid = self.desk.laid.fresh
        if laid is None or moved.plate >= len(laid.plates):
            return
        origin, plate = laid.plates[moved.origin], laid.plates[moved.plate]
        if _group(origin) != _group(plate):
            self.workspace.said.emit(
                f"It cannot go on plate {moved.plate + 1}: that prints {plate.filament} on {plate.printer.name} in "
                f"layers of {plate.recipe.layer_height:g} mm. It stays where it was."
            )
            self.session.touch()
            return
        held = {(h.part, h.copy_number): h for h in self.desk.run.held}
        # What lies on plates that pieces may go between stays where it is seen; only this piece goes elsewhere.
        alike = [k for k, q in enumerate(laid.plates) if _group(q) == _group(plate)]
        for p, on in ((p, k) for k in alike for p in laid.plates[k].placed):
            part, copy = int(p.item.part), p.item.copy
            x, y, angle = (moved.x, moved.y, moved.angle) if p.item.key == moved.key else (p.x, p.y, p.angle)
            number = _in_group(laid, moved.plate if p.item.key == moved.key else on)
            held[part, copy] = Held(part=part, copy_number=copy, plate=number, x=x, y=y, angle=angle)
        words = "a piece moved on its plate" if moved.origin == moved.plate else "a piece put on another plate"
        self._change({"held": tuple(held.values())}, words)

    # Showing

    def _mine(self) -> list:  # type: ignore[type-arg]
        """Parts of the open part's job, or of all jobs."""
        names = self.workspace.shelf.parts
        part = self.workspace.part
        job = next((n.job_id for n in names if part is not None and n.id == part.id), None)
        return [n for n in names if job is None or n.job_id == job]

    def _take(self, plate: int) -> None:
        self.front = plate
        self.session.touch()

    def refresh(self) -> None:
        desk, run = self.desk, self.desk.run
        question = desk.question()
        answer = desk.laid
        laid = answer.shown
        plates = laid.plates if laid is not None and question is not None else ()
        self.front = min(self.front, max(len(plates) - 1, 0))
        empty = answer.refusal or (
            "Add parts to the run; they are packed by their true outlines."
            if not run.pieces
            else "Every plate of this run is printed."
            if question is None
            else "Every part is laid on its bed …"
        )
        self.view.put(plates, self.front, empty, answer.old)
        self._runs()
        key = (run, Same(laid), answer.old, answer.refusal, self.front, self.opened, self.written)
        if self.fresh(key):
            self._fill(run, laid if plates else None, answer.old)

    def _runs(self) -> None:
        shown = [(r.name, n) for n, r in self.workspace.shelf.runs.items()] or [("Run 1", -2)]
        if [(self.runs.itemText(i), self.runs.itemData(i)) for i in range(self.runs.count() - 2)] != shown:
            self.runs.clear()
            for words, number in (*shown, ("Same again", -1), ("A new run", 0)):
                self.runs.addItem(words, number)
        self.runs.put(self.desk.number if self.desk.number in self.workspace.shelf.runs else shown[0][1])

    def _fill(self, run: Run, laid: Laid | None, old: bool) -> None:
        names = {n.id: n.name for n in self.workspace.shelf.parts}
        for d in run.done:
            self.add(self._done_row(d))
        if laid is not None:
            self.add(heading("Plates in order", f"{len(laid.plates)} to print"))
            for k, p in enumerate(laid.plates):
                self.add(self._plate_row(k, p, run, old))
            if run.held:
                anew = button("Lay all out anew", lambda: self._change({"held": ()}, "laid out anew"))
                anew.setToolTip("What was put by hand lies free again")
                self.add(row(anew, stretch=-2))
            for words in (*laid.left, *laid.as_drawn, *self.desk.run_in().troubles):
                self.add(label(words, 13, 600, wrap=True))
            self.add(rule())
        self.add(heading("Parts", "copies"))
        for piece in run.pieces:
            self.add(self._piece_row(piece, names.get(piece.part, "A part that is gone")))
        offered = [(n.name, n.id) for n in self._mine() if n.id not in {p.part for p in run.pieces}]
        if offered:
            more = Dropdown("Add a part", [("Add a part …", None), ("All of this job", -1), *offered], 12)
            more.chose.connect(lambda v: self._add(int(str(v))) if v is not None else None)
            self.add(more)
        self.add(*self._spacing(run))

    def _spacing(self, run: Run) -> tuple[QWidget, QWidget]:
        gap = NumberField("Between pieces", "length", "mm", 0.5, 0, 60, 1, 70)
        gap.put(run.clearance)
        gap.entered.connect(lambda v: self._change({"clearance": v}, f"{v:g} mm between pieces"))
        edge = NumberField("To the rim", "length", "mm", 1.0, 0, 60, 1, 70)
        edge.put(run.edge)
        edge.entered.connect(lambda v: self._change({"edge": v}, f"{v:g} mm to the rim"))
        single = QCheckBox("One after another")
        single.setToolTip("Laid out so that the head passes what stands; low pieces first")
        single.setChecked(run.one_after_another)
        single.clicked.connect(
            lambda v: self._change({"one_after_another": v}, "one after another" if v else "all at once")
        )
        return row(label("apart", dim=True), gap, label("rim", dim=True), edge, stretch=-2), single

    def _piece_row(self, piece: RunPiece, name: str) -> QWidget:
        copies = NumberField(f"Copies of {name}", "share", "", 1, 1, 200, 0, 46)
        copies.plain = True
        copies.put(piece.copies)
        copies.entered.connect(lambda v: self._piece(piece.part, {"copies": round(v)}, f"{v:.0f} × {name}"))
        turns = Dropdown(f"Turning {name}", _TURNS, 8)
        turns.put(piece.turns)
        turns.chose.connect(lambda v: self._piece(piece.part, {"turns": v}, f"{name} turned {v}"))
        due = QLineEdit("" if piece.due is None else f"{piece.due:{_DUE}}")
        due.setAccessibleName(f"{name} due")
        due.setPlaceholderText("due whenever")
        due.setFixedWidth(146)
        due.editingFinished.connect(partial(self._due_if_changed, piece, due))
        drop = button("×", lambda: self._drop(piece.part), plain=True, tip="Out of this run")
        drop.setAccessibleName(f"Take {name} out")
        more = button("…", lambda: self._open(piece.part), plain=True, tip="How it may be turned, by when it is due")
        more.setAccessibleName(f"Details of {name}")
        said = "" if piece.due is None else f"due {piece.due:%d %b %H:%M}"
        first = row(label(name, 14, 600), label(said, dim=True), copies, more, drop, spacing=4, stretch=0)
        if self.opened != piece.part:
            return first
        return column(first, row(turns, due, spacing=4, stretch=-2), spacing=2)

    def _open(self, part: int) -> None:
        self.opened = 0 if self.opened == part else part
        self.session.touch()

    def _due_if_changed(self, piece: RunPiece, field: QLineEdit) -> None:
        if field.text().strip() != ("" if piece.due is None else f"{piece.due:{_DUE}}"):
            self._due(piece.part, field)

    def _plate_row(self, k: int, p: Plate, run: Run, old: bool) -> QWidget:
        cost = p.single if run.one_after_another else p.together
        other = p.together if run.one_after_another else p.single
        under = f"{p.printer.name}, {p.filament}, {p.grams:.0f} g"
        out: list[QWidget] = [line(f"{k + 1}  {p.title}", f"{p.hours.words(1)} h", under)]
        if k == self.front:
            if run.one_after_another and p.order is None:
                out.append(label(p.why, 13, 600, wrap=True))
            if len(p.placed) > 1:
                which = "All at once" if run.one_after_another else "One after another"
                gain = other.hours - cost.hours
                words = (
                    f"{cost.crossings:,} crossings from piece to piece may string; about {cost.lost:.0f} g lost to be "
                    f"expected if one comes loose. {which}: {gain:+.1f} h, {other.crossings:,} crossings, "
                    f"{other.lost:.0f} g (typical)."
                )
                out.append(label(words, dim=True, wrap=True))
            if cost.melt:
                words = (
                    f"Layers of {', '.join(cost.melt)} are laid too quick to set: give them company, or more copies."
                )
                out.append(label(words, 13, 600, wrap=True))
            if not old:
                out += [*self._said_of(p), self._acts(p)]
        return column(*out, spacing=2)

    def _said_of(self, p: Plate) -> list[QWidget]:
        """A plate's name, and the spool and printer it is tied to."""
        shelf = self.workspace.shelf
        note = self.desk.note_of(p)
        name = QLineEdit(note.name if note is not None else "")
        name.setPlaceholderText("by what is on it")
        name.setAccessibleName("Plate's name")
        name.setMaxLength(60)
        name.editingFinished.connect(lambda: self._name(p, note, name.text().strip()))
        spools = [(s.name, s.id) for s in shelf.spools if filament_of(s, s.material, shelf) == p.filament]
        spool = Dropdown("Spool of this plate", [("any spool", 0), *spools], 9)
        spool.put(int(p.spool or 0))
        spool.chose.connect(lambda v: self.desk.note(p, {"spool": int(str(v))}, f"spool of {p.title}"))
        printers = [(f.name, f.name) for f in shelf.printers.values()]
        printer = Dropdown("Printer of this plate", [("any printer", ""), *printers], 9)
        printer.put(p.only)
        printer.chose.connect(lambda v: self.desk.note(p, {"printer": str(v)}, f"printer of {p.title}"))
        return [row(label("called", dim=True), name, stretch=1), row(spool, printer, spacing=4, stretch=-2)]

    def _name(self, p: Plate, note: PlateNote | None, name: str) -> None:
        if name != ("" if note is None else note.name):
            self.desk.note(p, {"name": name}, f"plate called {name}" if name else "plate called by its parts")

    def _acts(self, p: Plate) -> QWidget:
        begin = button("It is printing", partial(self.desk.mark, p, "printing", p.printer.name))
        done = button("Printed", partial(self.desk.mark, p, "printed", p.printer.name))
        return row(begin, done, spacing=4, stretch=-2)

    def _done_row(self, d: PlateDone) -> QWidget:
        state = {"printing": "printing", "printed": "printed", "failed": "failed, laid out again"}[d.state]
        when = d.begun if d.state == "printing" else d.ended
        out: list[QWidget] = [line(d.title, state, f"{d.printer}, {when:%a %d %b %H:%M}" if when else d.printer, False)]
        if d.state == "printing":
            end = partial(self.desk.ended, self.desk.number, d)
            ok, bad = button("It came out", partial(end, "printed")), button("It failed", partial(end, "failed"))
            out.append(row(ok, bad, spacing=4, stretch=-2))
        return column(*out, spacing=2)

    # Writing

    def _ask_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Write the plates to")
        if folder:
            self.write_to(Path(folder))

    def write_to(self, folder: Path) -> None:
        """A 3MF and a page for each plate."""
        question = self.desk.question()
        if question is not None:
            asked = WritePlates(folder, question, tuple(sorted(self.desk.run_in().titles.items())))
            self.session.once("write plates", asked, partial(self._wrote, question.key))

    def _wrote(self, of: str, outcome: Outcome) -> None:
        if outcome.refused:
            self.workspace.said.emit(outcome.refused)
        elif outcome.result is not None:
            self.written, self._written_of = outcome.result.files, of
            done = f"{len(self.written)} files written to {self.written[0].parent}." if self.written else ""
            self.workspace.said.emit(" ".join([done, *outcome.result.left]).strip())

    # The verdict

    def verdict(self) -> Verdict:
        answer, run = self.desk.laid, self.desk.run
        if not run.pieces:
            return Verdict(
                "Add the parts of this run.",
                "They are packed on as few beds as they go, by filament.",
                acts=(Act("All of this job", lambda: self._add(-1)),) if self._mine() else (),
            )
        laid = answer.fresh
        if laid is None:
            return Verdict("Laying the plates out." if not answer.refusal else "It cannot be laid out.", answer.refusal)
        if not laid.plates:
            return Verdict("Nothing of it fits.", " ".join(laid.left), number="!", tone="clay")
        hours = sum(p.hours.value for p in laid.plates)
        low, high = (sum(getattr(p.hours, e) for p in laid.plates) for e in ("low", "high"))
        grams = sum(p.grams for p in laid.plates)
        filaments = {p.filament for p in laid.plates}
        many = f"{len(filaments)} filaments" if len(filaments) > 1 else next(iter(filaments))
        question = self.desk.question()
        written = bool(self.written) and question is not None and self._written_of == question.key
        n = len(laid.plates)
        return Verdict(
            "The plates are written."
            if written
            else "Not all of it fits."
            if laid.left
            else "Ready to write the plates.",
            f"{many}, {grams:.0f} g with supports, {low:.0f} to {high:.0f} h together. "
            + (" ".join(laid.left) if laid.left else "Drag a piece to put it elsewhere; R turns it."),
            number=str(n),
            unit="plate" if n == 1 else "plates",
            under=(f"{hours:.0f} h",),
            tone="clay" if laid.left else "moss" if written else "peat",
            source=f"Hours: {laid.plates[0].hours.source}.",
            acts=(Act("Write them again …" if written else "Write the plates …", self._ask_folder),),
        )

    def standing(self, looked_at: bool) -> Standing | None:
        """How the run stands; None where there is none. Its parts are read only while its pages are ``looked_at``: the
        rail tells of it after every edit of any part."""
        run = self.desk.run
        if not run.pieces:
            return None
        printing = sum(d.state == "printing" for d in run.done)
        printed = sum(d.state == "printed" for d in run.done)
        away = {p for d in run.done if d.state in ("printing", "printed") for p in d.pieces}
        waiting = sum((p.part, k) not in away for p in run.pieces for k in range(1, p.copies + 1))
        if not waiting and not printing:
            return Standing(Mark.FULL, f"{run.name}: every plate printed.")
        laid = self.desk.laid.fresh if looked_at else None
        many, what = (len(laid.plates), "plate") if laid is not None else (waiting, "piece")
        words = [f"{many} {what}{'' if many == 1 else 's'} to print"]
        words += [f"{printing} printing"] if printing else []
        words += [f"{printed} printed"] if printed else []
        return Standing(Mark.HALF, f"{run.name}: {', '.join(words)}.")


def _group(plate: Plate) -> str:
    """What plates have alike between which pieces may go."""
    return plate.key.rpartition("-")[0]


def _in_group(laid: Laid, number: int) -> int:
    """The number of a plate among those of its own group."""
    return int(laid.plates[number].key.rpartition("-")[2]) - 1


def read_when(text: str) -> datetime | None:
    """A time as people write it: 5 Dec 2026 20:00, 2026-12-05 20:00, with or without the hour."""
    for form in (_DUE, "%d %b %Y", "%d %B %Y %H:%M", "%d %B %Y", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%d"):
        try:
            when = datetime.strptime(text, form)
        except ValueError:
            continue
        return when if "%H" in form else when.replace(hour=23, minute=55)
    return None
