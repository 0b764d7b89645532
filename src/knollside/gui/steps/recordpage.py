"""Bench's page of prints: how one came out with its hours, and where and how it broke."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from knollside.core import units
from knollside.core.job.file import Printed
from knollside.core.material.cards import Material
from knollside.core.model import BreakTest, bounds_of
from knollside.core.strength.breaking import BreakNow
from knollside.gui import nodes
from knollside.gui.instruments.charts import HoursChart
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, heading, label, row, rule, tell
from knollside.gui.session import Seeing, Session
from knollside.store.records import PrintRecord

OUTCOMES = ("came out well", "usable, with faults", "does not fit", "lifted off the bed", "failed part-way")


class RecordPage(Seeing, QWidget):
    """Records one print or one break; hours teach the printer's factor, breaks the bond."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.mode = Dropdown("How it broke", [(m, m) for m in ("along a layer", "across the layers", "did not break")])
        self.load = NumberField("Load when it broke", "force", "N", 5, *bounds_of(BreakTest, "load_N"), 0, 96)
        self.where = QLineEdit()
        self.where.setAccessibleName("Where it broke")
        self.where.setPlaceholderText("where: a name, or mm above the bed")
        self.where.setMaxLength(200)
        self.load.line.setPlaceholderText("at, N")
        self.outcome = Dropdown("How the print came out", [(w, w) for w in OUTCOMES], 12)
        self.took = NumberField("Hours it took", "time", "", 1, *bounds_of(Printed, "actual_hours"), 1, 72)
        self.took.line.setPlaceholderText("took, h")
        self.told = label("", dim=True, wrap=True)
        self.bond = label("", dim=True, wrap=True)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(16, 6, 14, 8)
        lay.addWidget(heading("How it came out"))
        lay.addWidget(row(self.outcome, self.took, button("Record the print", self._record_print), stretch=0))
        self.hours = HoursChart()
        lay.addWidget(self.hours)
        lay.addWidget(rule())
        self.case = Dropdown("Pushed as", letters=14)
        self.case.chose.connect(lambda _: self._foretell())
        self.foretold = label("", dim=True, wrap=True)
        lay.addWidget(heading("It broke, or was pulled"))
        lay.addWidget(self.case)
        lay.addWidget(self.foretold)
        lay.addWidget(row(self.mode, self.load, stretch=0))
        lay.addWidget(row(self.where, button("Record it", self._record_break), stretch=0))
        lay.addWidget(self.told)
        lay.addWidget(self.bond)
        lay.addStretch(1)

    def refresh(self) -> None:
        doc = self.part
        bond = self.part.card.bond
        both = ((p.made, p.estimate_hours, p.actual_hours) for p in doc.prints)
        told = tuple((when, before, took) for when, before, took in both if before and took)
        self.hours.put(told, doc.factor)
        self.hours.setVisible(bool(told))
        self._foretell()
        self.bond.setText(
            f"Bond between layers of {doc.material}: {bond.value:.2f} of the strength along them "
            f"({bond.low:.2f} to {bond.high:.2f}, {bond.source}). {_of_breaks(doc.card)}"
        )

    def _pushed(self, breaking: tuple[BreakNow, ...]) -> BreakNow | None:
        """The load case that it is pushed as."""
        return next((b for b in breaking if b.case == self.case.currentData()), next(iter(breaking), None))

    def _foretell(self) -> None:
        """Where to push, up to which load, and how."""
        detail = self.view.get(nodes.DETAIL).fresh
        breaking = detail.breaking if detail is not None else ()
        names = [b.case for b in breaking]
        if [self.case.itemData(i) for i in range(self.case.count())] != names:
            self.case.clear()
            for name in names:
                self.case.addItem(name, name)
        self.case.setVisible(len(names) > 1)
        now = self._pushed(breaking)
        if now is None:
            self.foretold.setText("Rate a way at Lay with a load, and what would break it is foretold here.")
            return
        load, height = now.load, self._height(now.place)
        self.foretold.setText(
            f"Pushed as “{now.case}” it goes at {load.value:.0f} N ({load.low:.0f} to {load.high:.0f}), {now.mode}, "
            f"{height:.0f} mm above the bed: new, dry, cool, pushed once. From the side with glasses on; a rope and a "
            "bucket rather than your hands; stop at the high end."
        )

    def _height(self, place: tuple[float, float, float]) -> float:
        """Of a place over the bed, mm, the way it lies."""
        facts = self.view.facts
        assert facts is not None
        up = np.asarray(self.part.direction)
        return float(np.dot(place, up) - (facts.mesh.vertices @ up).min())

    def _record_print(self) -> None:
        """One print of this part with its outcome, estimate and hours taken; hours teach the printer's factor."""
        doc = self.part
        if doc.printer_id is None:
            tell(self.told, "Add your printer at Workshop (Alt+9) first; the record belongs to one.", "bad")
            return
        try:
            text = self.took.line.text().strip()
            took = units.parse(text if any(c.isalpha() for c in text) else f"{text} h", "time") / 3600 if text else None
        except units.QuantityError as error:
            tell(self.told, f"Hours: {error}.", "bad")
            return
        if took is not None and not 0.01 <= took <= 1000:
            tell(self.told, "A print takes between a minute and 1,000 hours; not recorded.", "bad")
            return
        factor = self.part.factor.value
        hours = self.planned_hours()
        estimate = round(hours / factor, 2) if hours else None
        self.workspace.kept.add_print(
            PrintRecord(
                0,
                doc.id,
                doc.printer_id,
                doc.material,
                self.workspace.now(),
                estimate,
                took,
                self.outcome.currentData(),
                None,
            ),
            f"print recorded: {self.outcome.currentData()}",
        )
        self.took.line.clear()
        tell(
            self.told,
            "Recorded." if took is None or estimate else "Recorded. No estimate was made, so no factor.",
            "good",
        )

    def planned_hours(self) -> float | None:
        """The stored recipe's hours as this printer takes them, once they are worked out."""
        price = self.view.get(nodes.PRICE).fresh
        return None if price is None else price.hours.value

    def _record_break(self) -> None:
        doc = self.part
        if doc.printer_id is None:
            tell(self.told, "Add your printer at Workshop (Alt+9) first; the record belongs to one.", "bad")
            return
        # Only a rating of exactly what is stored may be held against the break.
        detail = self.view.get(nodes.DETAIL).fresh
        predicted = None
        now = self._pushed(detail.breaking) if detail is not None else None
        along = self.mode.currentData() == "along a layer"
        if now is not None:
            told = now.parting_N if along else now.across_N
            # A load that hardly reaches the part foretells nothing.
            predicted = told if told <= bounds_of(BreakTest, "predicted_N")[1] else None
        load = self.load.value or None
        test = BreakTest(
            mode=self.mode.currentData(),
            load_N=load,
            predicted_N=predicted if load else None,
            basis=doc.plain_card.basis[0 if along else 1] if predicted and load else None,
            place=self.where.text().strip(),
        )
        self.workspace.kept.add_print(
            PrintRecord(
                0, doc.id, doc.printer_id, doc.material, self.workspace.now(), None, None, f"broke {test.mode}", test
            ),
            "break recorded",
        )
        said = (
            "Recorded."
            if predicted or not load
            else "Recorded. With no way rated at Lay there is no prediction to compare."
        )
        tell(self.told, said if load else "Recorded. Without a load it says where, not how strong.", "good")
        self.load.line.clear()


def _of_breaks(card: Material) -> str:
    """What parts broke at over what was foretold, in words."""
    told = [
        f"{words} at {m.value:.2f} of what was foretold ({m.low:.2f} to {m.high:.2f}, {m.source})"
        for words, m in (("along a layer", card.model_along), ("across the layers", card.model_across))
        if m is not None
    ]
    return f"Parts broke {' and '.join(told)}; every reserve counts that." if told else ""
