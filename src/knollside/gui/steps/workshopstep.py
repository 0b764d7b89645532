"""Workshop: printers, spools and the record, the bedrock under every job."""

from __future__ import annotations

from PyQt6.QtWidgets import QStackedWidget, QWidget

from knollside.core.model import PrinterFacts
from knollside.gui.instruments.recordtable import RecordTable
from knollside.gui.instruments.shelfview import OnShow, ShelfView
from knollside.gui.instruments.widgets import column, heading, rule
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
from knollside.store.records import PrintRecord

SPOOLS = 1


class WorkshopStep(Step):
    name = "Workshop"
    stage = "own"
    needs_part = False

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.table = RecordTable()
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
        printers = self.workspace.shelf.printers
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
        self.table.put([_told(r, printers) for r in reversed(self.workspace.kept.every_print())])

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


def _told(r: PrintRecord, printers: dict[int, PrinterFacts]) -> tuple[str, ...]:
    """A print in words, column by column."""
    broke = "" if r.broke is None else (f"ratio {r.broke.ratio:.2f}" if r.broke.ratio else r.broke.mode)
    return (
        r.made.strftime("%d %b %Y"),
        printers[r.printer_id].name if r.printer_id in printers else "",
        r.material,
        f"{r.estimate_hours:g}" if r.estimate_hours else "",
        f"{r.actual_hours:g}" if r.actual_hours else "",
        r.outcome,
        broke,
    )


def _body(*widgets: QWidget) -> QWidget:
    out = column(*widgets, margins=(16, 4, 12, 10))
    out.layout().addStretch(1)  # type: ignore[union-attr]
    return out
