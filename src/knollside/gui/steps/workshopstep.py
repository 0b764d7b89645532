"""Workshop: printers, spools and the record, the bedrock under every job."""

from __future__ import annotations

from PyQt6.QtWidgets import QTableWidget, QTableWidgetItem

from knollside.gui.instruments.widgets import column, heading, rule, scrolled
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.gui.steps.cardform import CardForm
from knollside.gui.steps.keeping import KeepingForm
from knollside.gui.steps.machines import PrinterForm, SpoolForm


class WorkshopStep(Step):
    name = "Workshop"
    stage = "own"
    needs_part = False

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.table = QTableWidget(0, 7)
        self.table.setAccessibleName("Record of prints")
        self.table.setHorizontalHeaderLabels(
            ["when", "printer", "material", "planned h", "took h", "how it came out", "break"]
        )
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        vertical = self.table.verticalHeader()
        if vertical is not None:
            vertical.hide()
        self.own = column(heading("Record of prints"), self.table, margins=(18, 10, 18, 10))
        self.printers, self.spools = PrinterForm(session), SpoolForm(session)
        self.cards = CardForm(session)
        self.keeping = KeepingForm(session)
        body = column(
            self.printers,
            rule(),
            self.spools,
            rule(),
            self.cards,
            rule(),
            self.keeping,
            margins=(16, 4, 12, 10),
        )
        body.layout().addStretch(1)  # type: ignore[union-attr]
        self.panel = scrolled(body)

    def refresh(self) -> None:
        printers = self.workspace.shelf.printers
        self.printers.refresh()
        self.spools.refresh()
        self.cards.refresh()
        self.keeping.refresh()
        rows = self.workspace.kept.every_print()
        self.table.setRowCount(len(rows))
        for i, r in enumerate(reversed(rows)):
            broke = "" if r.broke is None else (f"ratio {r.broke.ratio:.2f}" if r.broke.ratio else r.broke.mode)
            for k, text in enumerate(
                (
                    r.made.strftime("%d %b %Y"),
                    printers[r.printer_id].name if r.printer_id in printers else "",
                    r.material,
                    f"{r.estimate_hours:g}" if r.estimate_hours else "",
                    f"{r.actual_hours:g}" if r.actual_hours else "",
                    r.outcome,
                    broke,
                )
            ):
                self.table.setItem(i, k, QTableWidgetItem(text))
        self.table.resizeColumnsToContents()

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
