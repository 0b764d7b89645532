"""Bench: measured sizes in, breaks in; what was learned goes back to every verdict that rests on it."""

from __future__ import annotations

from datetime import datetime

import numpy as np
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from knollside.core import units
from knollside.core.fit.process import Shift
from knollside.core.model import BreakTest, Measurement
from knollside.core.proof.bar import Spot
from knollside.desk import tasks
from knollside.desk.buildtasks import Building
from knollside.desk.instruments.strips import ErrorChart
from knollside.desk.instruments.widgets import (
    Chip,
    Choice,
    NumberField,
    button,
    clear,
    heading,
    label,
    row,
    rule,
    scrolled,
    tell,
)
from knollside.desk.stage.scene import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.proof import ProofStep
from knollside.desk.theme.look import font
from knollside.sim.desk import SimulatedCalliper, printer_named
from knollside.store.workshop import PrintRecord

OUTCOMES = ("came out well", "usable, with faults", "does not fit", "lifted off the bed", "failed part-way")


class BenchStep(Step):
    name = "Bench"
    strip_height = 196

    def __init__(self, state: State, proof: ProofStep) -> None:
        super().__init__(state)
        self.proof = proof
        self.strip = self.chart = ErrorChart()
        self.at = 0
        # The simulated twin keeps one printed bar until the next is asked for.
        self.seed = 7
        self.place = label("", 15, 700)
        self.how = label("", dim=True, wrap=True)
        self.entry = QLineEdit()
        self.entry.setAccessibleName("Reading of the calliper")
        self.entry.setPlaceholderText("type, or press the calliper's button")
        self.entry.returnPressed.connect(self._typed)
        self.entry.setFont(font(18, 600))
        self.entry.setMinimumHeight(40)
        self.said = label("", dim=True, wrap=True)
        self.shifts = QVBoxLayout()
        self.shifts.setSpacing(2)
        self.kept = label("", dim=True)
        self.mode = Choice("How it broke", [(m, m) for m in ("along a layer", "across the layers", "did not break")])
        self.load = NumberField("Load when it broke", "force", "N", 5, 0, 1e6, 0, 96)
        self.where = QLineEdit()
        self.where.setAccessibleName("Where it broke")
        self.where.setPlaceholderText("where: a name, or mm above the bed")
        self.where.setMaxLength(200)
        self.load.line.setPlaceholderText("at, N")
        self.outcome = Choice("How the print came out", [(w, w) for w in OUTCOMES], 12)
        self.took = NumberField("Hours it took", "time", "", 1, 0, 1e6, 1, 72)
        self.took.line.setPlaceholderText("took, h")
        self.told = label("", dim=True, wrap=True)
        body = QWidget()
        body.setObjectName("paper")
        lay = QVBoxLayout(body)
        lay.setContentsMargins(16, 10, 12, 8)
        lay.setSpacing(5)
        lay.addWidget(heading("Measuring slip", self.kept))
        lay.addWidget(self.place)
        lay.addWidget(self.how)
        lay.addWidget(self.entry)
        lay.addWidget(self.said)
        lay.addWidget(
            row(
                button("Take it", self._typed, main=True),
                button("Simulated calliper", self.simulate, tip="A stand-in with its own small error"),
                button("Skip", self._skip),
                stretch=-2,
            )
        )
        lay.addWidget(rule())
        self.machine = label("", dim=True)
        lay.addWidget(heading("What this printer does", self.machine))
        lay.addLayout(self.shifts)
        lay.addWidget(rule())
        lay.addWidget(heading("How it came out"))
        lay.addWidget(row(self.outcome, self.took, button("Record the print", self._record_print), stretch=0))
        lay.addWidget(rule())
        lay.addWidget(heading("It broke, or was pulled"))
        lay.addWidget(row(self.mode, self.load, stretch=0))
        self.bond = label("", dim=True, wrap=True)
        lay.addWidget(row(self.where, button("Record it", self._record_break), stretch=0))
        lay.addWidget(self.told)
        lay.addWidget(self.bond)
        lay.addStretch(1)
        area = scrolled(body)
        self.panel = area

    # Measuring

    def spots(self) -> tuple[Spot, ...]:
        piece = self.proof.piece()
        return piece.bar.spots if piece else ()

    def spot(self) -> Spot | None:
        spots = self.spots()
        return spots[self.at % len(spots)] if spots else None

    def enter(self) -> None:
        self.proof.make()
        self.entry.setFocus()

    def _typed(self) -> None:
        self.take(self.entry.text(), "typed")

    def take(self, text: str, source: str) -> None:
        """Read one number for the place that is lit; unit slips are caught, nothing is dropped silently."""
        spot = self.spot()
        if spot is None:
            tell(self.said, "There is no bar to measure; make one at Proof.", "bad")
            return
        try:
            value = units.parse(text, "length")
        except units.QuantityError as error:
            tell(self.said, f"{str(error).capitalize()}.", "bad")
            return
        note = ""
        if value <= 0:
            tell(self.said, "A size is more than zero.", "bad")
            return
        if abs(value * 25.4 / spot.drawn - 1) < 0.15:
            value, note = value * 25.4, f"Read as inches: {value:.3f} in is {value * 25.4:.2f} mm. "
        if not 0.6 < value / spot.drawn < 1.5:
            tell(
                self.said,
                f"{value:.2f} mm cannot be {spot.name}, drawn {spot.drawn:g} mm. Wrong place, or ten times off? "
                "Not taken.",
                "bad",
            )
            return
        if self.state.doc is None or self.state.doc.printer_id is None:
            tell(self.said, "Add your printer at Workshop (Alt+9) first; readings belong to one.", "bad")
            return
        reading = Measurement(kind=spot.kind, axis="upright", drawn=spot.drawn, printed=round(value, 4), source=source)
        self.at += 1
        self.entry.clear()
        tell(self.said, f"{note}{spot.name.capitalize()}: {value:.2f} mm, {value - spot.drawn:+.2f} off.", "good")
        self.state.add_reading(reading)

    def simulate(self) -> None:
        """The stand-in calliper on the simulated printer's bar."""
        spot = self.spot()
        if spot is None:
            self.take("", "simulated")
            return
        rng = np.random.default_rng([self.seed, self.at])
        size = printer_named(self.state.printer.name).printed(spot.kind, "upright", spot.drawn, rng)
        self.take(f"{SimulatedCalliper().read(size, rng):.2f}", "simulated")

    def _skip(self) -> None:
        self.at += 1
        self.state.changed.emit()

    # How it came out, and breaking

    def _record_print(self) -> None:
        """One print of this part with its outcome, estimate and hours taken; hours teach the printer's factor."""
        doc = self.state.doc
        if doc is None or doc.printer_id is None:
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
        factor = self.state.factor.value
        hours = self.planned_hours()
        estimate = round(hours / factor, 2) if hours else None
        self.state.add_print(
            PrintRecord(
                0,
                doc.id,
                doc.printer_id,
                doc.material,
                datetime.now(),
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
        """The chosen recipe's hours as the board gave them, or None."""
        building: Building | None = self.state.answers.get("build")
        if building is None or self.state.doc is None:
            return None
        dot = building.board.dot(self.state.doc.recipe)
        return dot.price.hours.value if dot else None

    def _record_break(self) -> None:
        doc = self.state.doc
        if doc is None or doc.printer_id is None:
            tell(self.told, "Add your printer at Workshop (Alt+9) first; the record belongs to one.", "bad")
            return
        laying = self.state.answers.get("lay")
        detail: tasks.WayDetail | None = self.state.answers.get("detail")
        predicted = None
        if laying is not None and detail is not None:
            total = max(sum(ld.newtons for ld in c.loads) for c in doc.duty.cases)
            predicted = total * detail.way.parting
        load = self.load.value or None
        test = BreakTest(
            mode=self.mode.currentData(),
            load_N=load,
            predicted_N=predicted if load else None,
            place=self.where.text().strip(),
        )
        self.state.add_print(
            PrintRecord(
                0, doc.id, doc.printer_id, doc.material, datetime.now(), None, None, f"broke {test.mode}", test
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

    # Showing

    def refresh(self) -> None:
        doc = self.state.doc
        if doc is None:
            return
        spot, n = self.spot(), len(self.spots())
        self.kept.setText(f"place {self.at % n + 1} of {n}" if n else "no bar yet")
        if spot is not None:
            self.place.setText(f"{spot.name.capitalize()}: drawn {spot.drawn:g} mm across")
            self.how.setText(
                "Small jaws, rock it, keep the largest reading."
                if spot.kind == "hole"
                else "Large jaws, half-way up, keep the smallest reading."
            )
        self.machine.setText(f"{self.state.printer.name}, {doc.material}")
        clear(self.shifts)
        fitting: tasks.Fitting | None = self.state.answers.get("fits")
        for axis in ("upright", "lying") if fitting else ():
            for kind in ("hole", "pin"):
                self.shifts.addWidget(self._shift(fitting.shift(kind, axis)))
        kind = spot.kind if spot is not None else "hole"
        mine = fitting.shift(kind, "upright") if fitting else None
        self.chart.put(mine, self.state.readings, kind)
        bond = self.state.card.bond
        self.bond.setText(
            f"Bond between layers of {doc.material}: {bond.value:.2f} of the strength along them "
            f"({bond.low:.2f} to {bond.high:.2f}, {bond.source})."
        )

    def _shift(self, s: Shift) -> QWidget:
        name = label(f"{s.kind.capitalize()}s, {s.axis}", 14, 600)
        name.setFixedWidth(118)
        value = label(f"{s.value:+.2f} ± {s.half:.2f}")
        chip = Chip(s.source)
        return row(name, value, chip, stretch=1)

    def standing(self) -> Standing:
        n = len(self.state.readings)
        if n == 0:
            return Standing(Mark.OPEN, "Nothing measured.")
        left = max(0, len(self.spots()) - self.at) if self.spots() and self.at else 0
        words = f"{n} readings on {self.state.printer.name}."
        return Standing(Mark.HALF if left else Mark.FULL, words + (f" {left} places to go." if left else ""))

    def verdict(self) -> Verdict:
        fitting: tasks.Fitting | None = self.state.answers.get("fits")
        if self.state.doc is None or fitting is None:
            return Verdict("Open a part first.")
        spot = self.spot()
        kind = spot.kind if spot is not None else "hole"
        s = fitting.shift(kind, "upright")
        way = "close" if s.value < 0 else "grow"
        odd = f" {len(s.outliers)} reading looks wrong; measure it again." if s.outliers else ""
        body = (
            f"{self.state.printer.name} makes {kind}s {abs(s.value):.2f} mm "
            f"{'smaller' if s.value < 0 else 'larger'} across. "
            + (
                "About four times as many readings would halve the doubt."
                if s.count >= 4
                else "Four readings or more make the value yours."
            )
            + odd
        )
        return Verdict(
            f"{kind.capitalize()}s {way} by {abs(s.value):.2f} mm.",
            body,
            number=f"{abs(s.value):.2f}",
            unit="mm",
            under=(f"give or take {s.half:.2f}", f"{kind}s, upright"),
            tone="straw ink" if s.count < 4 else "moss",
            source=f"{s.source}. Range: nine in ten.",
            acts=(
                Act("Simulated reading", self.simulate, spot is not None),
                Act("See the fits move", lambda: self.go("Fits")),
            ),
        )

    def scene(self) -> Scene:
        scene = self.proof.scene()
        spot, piece = self.spot(), self.proof.piece()
        if spot is None or piece is None:
            return scene
        from dataclasses import replace

        z = float(piece.bar.mesh.bounds[1][2]) if spot.kind == "pin" else 6.0
        return replace(
            scene,
            place=(spot.at[0], spot.at[1], z),
            place_words=f"{spot.name}, {spot.drawn:g} mm",
            subtitle=f"{len(piece.bar.spots)} places, in order. Now: {spot.name}.",
        )
