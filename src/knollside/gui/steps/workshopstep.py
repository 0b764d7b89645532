"""Workshop: printers, spools and the record, the bedrock under every job."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QFileDialog, QStackedWidget, QWidget

from knollside.core.job.record import Kept, prints_csv, prints_json, words_of
from knollside.core.model import Refused
from knollside.gui.instruments.recordtable import Line, RecordTable
from knollside.gui.instruments.shelfview import OnShow, ShelfView
from knollside.gui.instruments.widgets import column, heading, rule
from knollside.gui.recordfacts import kept_of
from knollside.gui.session import Session
from knollside.gui.spoolfacts import grams_of, log_of, water_now
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.gui.steps.cardform import CardForm
from knollside.gui.steps.keeping import KeepingForm
from knollside.gui.steps.machines import PrinterForm, SpoolForm
from knollside.gui.steps.printerpage import PrinterPage
from knollside.gui.steps.setuppage import SetUpPage
from knollside.gui.steps.spoolpage import SpoolPage
from knollside.gui.steps.tabs import Tabs
from knollside.report.export import write_whole
from knollside.store.records import PrintRecord
from knollside.store.search import PrintSearch, match_of

SPOOLS = 1
_AT_ONCE = 200  # prints indexed at once, some milliseconds


class WorkshopStep(Step):
    name = "Workshop"
    stage = "own"
    needs_part = False

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.found, self.table = PrintSearch(), RecordTable(self._find, self.ask_out)
        self._indexing = QTimer()
        self._indexing.setSingleShot(True)
        self._indexing.setInterval(0)
        self._indexing.timeout.connect(self._index)
        self._key: object = None
        self._lines: list[Line] = []
        self._kept: list[Kept] = []
        self._records: list[PrintRecord] = []
        self.shelf = ShelfView()
        self.shelf.taken.connect(self._take_spool)
        self.own = self.views = QStackedWidget()
        self.views.addWidget(column(heading("Record of prints"), self.table, margins=(18, 10, 18, 10)))
        self.views.addWidget(self.shelf)
        self.printers, self.spools = PrinterForm(session), SpoolForm(session)
        self.cards = CardForm(session)
        self.keeping = KeepingForm(session)
        self.printer = PrinterPage(session, lambda: self.printers.at)
        self.setup = SetUpPage(session, lambda: self.printers.at)
        self.spool = SpoolPage(session, lambda: self.spools.at)
        pages = (
            ("Printers", _body(self.printers, rule(), self.setup, self.printer)),
            ("Spools", _body(self.spools, rule(), self.spool)),
            ("Materials", _body(self.cards)),
            ("Keeping", _body(self.keeping)),
        )
        self.tabs = Tabs(pages, 2, (16, 10, 12, 2))
        self.tabs.turned.connect(self._turned)
        self.panel = self.tabs.panel()

    def _turned(self, page: int) -> None:
        self.views.setCurrentIndex(1 if page == SPOOLS else 0)
        self.session.touch()

    def _take_spool(self, number: int) -> None:
        self.spools.at = number
        self.session.touch()

    def refresh(self) -> None:
        self.printers.refresh()
        self.spools.refresh()
        self.setup.refresh()
        self.printer.refresh()
        self.spool.refresh()
        self.cards.refresh()
        self.keeping.refresh()
        if self.tabs.front == SPOOLS:
            self.shelf.put(self._shelf(), self.spools.at or 0)
            return
        self.table.put(self._told())

    def _told(self) -> list[Line]:
        """Every print as a line, the newest first; made anew when a print, a name or a fault is another."""
        shelf, names = self.workspace.shelf, {p.id: p.name for p in self.workspace.shelf.parts}
        records = self.workspace.kept.every_print()
        key = tuple(map(id, records)), tuple(names.items()), shelf.printers, shelf.faults
        if self._key != key:
            # The records are kept with it, so that none is another at the same place.
            self._key, self._records = key, records
            self._kept = kept_of(records, names, shelf)
            self._lines = [_line(k) for k in reversed(self._kept)]
            self.found.begin(key, map(_worded, self._kept))
            self._indexing.start()
        return self._lines

    def ask_out(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self.panel, "The record", "prints.csv", "Table (*.csv);;JSON (*.json)")
        if path:
            self.write_to(Path(path))

    def write_to(self, path: Path) -> None:
        """The prints that are shown, as a table or as JSON."""
        shown = set(self.table.shown)
        kept = [k for k in self._kept if k.number in shown]
        text = prints_json(kept) if path.suffix.lower() == ".json" else prints_csv(kept)
        try:
            write_whole(path, text.encode())
            self.workspace.said.emit(f"{len(kept)} prints written to {path.name}.")
        except Refused as refusal:
            self.workspace.said.emit(str(refusal))

    def _find(self, typed: str) -> list[int] | None:
        """Prints with these words; what the index still lacks is put in now."""
        if not match_of(typed):
            return None
        self.found.go_on()
        return self.found.find(typed)

    def _index(self) -> None:
        """A few more prints into the index, while nothing else is to be done."""
        if self.found.go_on(_AT_ONCE):
            self._indexing.start()

    def _shelf(self) -> tuple[OnShow, ...]:
        shelf, now = self.workspace.shelf, self.workspace.now()
        out = []
        for s in shelf.spools:
            log = log_of(s, shelf)
            under = ", ".join(w for w in (s.material, log.colour, f"lot {log.lot}" if log.lot else "") if w)
            out.append(OnShow(s.id, s.name, under, grams_of(s, log), water_now(s, log, now)))
        return tuple(out)

    def standing(self) -> Standing:
        printers = self.workspace.shelf.printers
        if not printers:
            return Standing(Mark.OPEN, "No printer yet.")
        if not self.session.has_part:
            return Standing(Mark.FULL, f"{len(printers)} printer{'s' if len(printers) != 1 else ''}.")
        n = len(self.part.records)
        return Standing(Mark.FULL, f"{self.part.printer.name}. {n} print{'s' if n != 1 else ''} kept.")

    def verdict(self) -> Verdict:
        if not self.workspace.shelf.printers:
            return Verdict(
                "Add your printer first.",
                "Bed, nozzle and heat decide what fits and which materials it can print; readings are kept for it.",
                acts=(Act("Add a printer", self.printers.add), Act("Back to Part", lambda: self.go("Part"))),
            )
        if self.tabs.front == SPOOLS:
            return self.spool.verdict()
        back = Act("Back to Part", lambda: self.go("Part"))
        if not self.session.has_part:
            return Verdict("Open a part to see what its printer has learned.", acts=(back,))
        f = self.part.factor
        return Verdict(
            f"{self.part.printer.name} takes {f.value:.2f} times the estimate.",
            f"{f.low:.2f} to {f.high:.2f} for the next print.",
            number=f"{f.value:.2f}",
            unit="×",
            under=("actual over", "estimate"),
            source=f"{f.source}.",
            acts=(back,),
        )


def _worded(k: Kept) -> tuple[int, str]:
    return k.number, words_of(k)


def _line(k: Kept) -> Line:
    """A print in words, column by column, and what is told of it besides."""
    p, d = k.printed, k.details
    broke = "" if p.broke is None else (f"ratio {p.broke.ratio:.2f}" if p.broke.ratio else p.broke.mode)
    cells = (
        f"{p.made:%d %b %Y}" if p.made is not None else "",
        k.part,
        k.printer,
        p.material,
        f"{p.estimate_hours:g}" if p.estimate_hours else "",
        f"{p.actual_hours:g}" if p.actual_hours else "",
        p.outcome,
        broke,
    )
    judged = ", ".join(f"{a} {v}" for a, v in d.judged)
    wrong = f"Went wrong: {'; '.join(k.faults)}." if k.faults else ""
    about = (f"Why so: {d.why}" if d.why else "", f"Next: {d.next}" if d.next else "", judged, wrong)
    return Line(k.number, cells, " ".join(w for w in about if w))


def _body(*widgets: QWidget) -> QWidget:
    out = column(*widgets, margins=(16, 4, 12, 10))
    out.layout().addStretch(1)  # type: ignore[union-attr]
    return out
