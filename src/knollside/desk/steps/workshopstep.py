"""Workshop: printers, spools and the record, the bedrock under every job."""

from __future__ import annotations

from PyQt6.QtWidgets import QTableWidget, QTableWidgetItem

from knollside.core.material.cards import MATERIALS
from knollside.desk.instruments.widgets import column, heading, label, rule
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict


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
        self.machines = label("", wrap=True)
        self.spools = label("", wrap=True)
        self.cards = label("", 13, wrap=True)
        self.panel = column(
            heading("Printers"),
            self.machines,
            rule(),
            heading("Spools"),
            self.spools,
            rule(),
            heading("Materials", "typical unless yours"),
            self.cards,
            margins=(16, 10, 16, 10),
        )
        self.panel.layout().addStretch(1)  # type: ignore[union-attr]

    def refresh(self) -> None:
        shop = self.state.shop
        printers = shop.printers()
        self.machines.setText(
            "\n".join(
                f"{p.name}: bed {p.bed_mm[0]:.0f} × {p.bed_mm[1]:.0f} × {p.bed_mm[2]:.0f} mm, "
                f"nozzle {p.nozzle_mm:g} mm to {p.nozzle_max_c:.0f} °C, {'closed' if p.enclosed else 'open'}"
                for p in printers.values()
            )
            or "None yet."
        )
        self.spools.setText(
            "\n".join(
                f"{s.name}: {s.grams_left:.0f} g of {s.material}, {'dry' if s.dry else 'damp'}" for s in shop.spools()
            )
            or "None yet."
        )
        bonds = self.state.bonds
        self.cards.setText(
            "\n".join(
                f"{n}: pull {m.pull.low:.0f} to {m.pull.high:.0f} MPa, "
                f"bond {bonds.get(n, m.bond).value:.2f} ({bonds.get(n, m.bond).source})"
                for n, m in MATERIALS.items()
            )
        )
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
        return Standing(Mark.FULL, f"{self.state.printer.name}. {len(self.state.prints)} prints kept.")

    def verdict(self) -> Verdict:
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
