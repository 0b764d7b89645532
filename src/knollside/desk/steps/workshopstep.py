"""Workshop: printers, spools and the record, the bedrock under every job."""

from __future__ import annotations

from PyQt6.QtWidgets import QTableWidget, QTableWidgetItem

from knollside.desk.instruments.widgets import column, heading, rule, scrolled
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.cardform import CardForm
from knollside.desk.steps.machines import PrinterForm, SpoolForm


class WorkshopStep(Step):
    name = "Workshop"
    stage = "own"

    def __init__(self, state: State) -> None:
        super().__init__(state)
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
        self.printers, self.spools = PrinterForm(state), SpoolForm(state)
        self.cards = CardForm(state)
        body = column(
            self.printers,
            rule(),
            self.spools,
            rule(),
            self.cards,
            margins=(16, 4, 12, 10),
        )
        body.layout().addStretch(1)  # type: ignore[union-attr]
        self.panel = scrolled(body)

    def refresh(self) -> None:
        shop = self.state.shop
        printers = self.state.printers
        self.printers.refresh()
        self.spools.refresh()
        self.cards.refresh()
        rows = shop.prints()
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
        if not self.state.printers:
            return Standing(Mark.OPEN, "No printer yet.")
        n = len(self.state.prints)
        return Standing(Mark.FULL, f"{self.state.printer.name}. {n} print{'s' if n != 1 else ''} kept.")

    def verdict(self) -> Verdict:
        if not self.state.printers:
            return Verdict(
                "Add your printer first.",
                "Bed, nozzle and heat decide what fits and which materials it can print; readings are kept for it.",
                acts=(Act("Add a printer", self.printers.add), Act("Back to Part", lambda: self.go("Part"))),
            )
        f = self.state.factor
        return Verdict(
            f"{self.state.printer.name} takes {f.value:.2f} times the estimate.",
            f"{f.low:.2f} to {f.high:.2f} for the next print.",
            number=f"{f.value:.2f}",
            unit="×",
            under=("actual over", "estimate"),
            source=f"{f.source}.",
            acts=(Act("Back to Part", lambda: self.go("Part")),),
        )
