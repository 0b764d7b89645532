"""Bench's page of breaking on purpose: where to push and up to what, where and how it broke, what breaks teach."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from knollside.core.learning.breaks import NEAR, disagreement
from knollside.core.material.cards import Material
from knollside.core.model import BreakTest, bounds_of
from knollside.core.strength.breaking import BreakNow
from knollside.core.strength.discretisation import widened
from knollside.core.units import two_digits
from knollside.gui import nodes
from knollside.gui.faultfacts import height_of
from knollside.gui.instruments.breakchart import BreakChart
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, heading, label, row, rule, tell
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Verdict
from knollside.gui.steps.photorow import PhotoRow
from knollside.store.records import PrintRecord

Vec = tuple[float, float, float]
_CARE = "From the side with glasses on; a rope and a bucket rather than your hands; stop at the high end."


class BreakPage(Seeing, QWidget):
    """Breaks teach how far the model is off; ``chart`` is its strip under the stage."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chart = BreakChart()
        self.at: Vec | None = None  # clicked on the part
        self._of: object = None  # the part and revision it was clicked on
        self.mode = Dropdown("How it broke", [(m, m) for m in ("along a layer", "across the layers", "did not break")])
        self.load = NumberField("Load when it broke", "force", "N", 5, *bounds_of(BreakTest, "load_N"), 0, 96)
        self.load.line.setPlaceholderText("at, N")
        self.where = QLineEdit()
        self.where.setAccessibleName("Where it broke")
        self.where.setPlaceholderText("where: click the part, or a name")
        self.where.setMaxLength(200)
        self.case = Dropdown("Pushed as", letters=14)
        self.case.chose.connect(lambda _: self._foretell())
        self.foretold, self.placed, self.told, self.model = (label("", dim=True, wrap=True) for _ in range(4))
        self.against = label("", 13, 600, wrap=True)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(16, 6, 14, 8)
        lay.addWidget(heading("Break one on purpose"))
        for w in (self.case, self.foretold, label(_CARE, 13, wrap=True), rule(), heading("It broke")):
            lay.addWidget(w)
        lay.addWidget(row(self.mode, self.load, stretch=0))
        lay.addWidget(row(self.where, button("Record it", self.record), stretch=0))
        self.photos = PhotoRow(session)
        self.photos.told.connect(lambda words, well: tell(self.told, words, "good" if well else "bad"))
        self.last = label("", dim=True, wrap=True)
        for w in (self.placed, self.told, self.last, self.photos, rule(), self.model, self.against):
            lay.addWidget(w)
        lay.addStretch(1)

    # What is known

    @property
    def tests(self) -> tuple[BreakTest, ...]:
        """Breaks of this printer and material that something was foretold of."""
        told = (p.broke for p in self.part.prints if p.material == self.part.material)
        return tuple(t for t in told if t is not None and t.load_N and t.predicted_N and t.mode != "did not break")

    def pushed(self) -> BreakNow | None:
        """The load case that it is pushed as, of exactly what is stored."""
        detail = self.view.get(nodes.DETAIL).fresh
        breaking = detail.breaking if detail is not None else ()
        now = next((b for b in breaking if b.case == self.case.currentData()), next(iter(breaking), None))
        # What another grid moved reserves by is in doubt here, too.
        return now and replace(now, load=widened(now.load, nodes.doubt(self.view.inputs, self.part.direction)))

    def point(self, place: Vec) -> None:
        """It broke there."""
        self.at, self._of = place, self.part.mesh_hash
        self.session.touch()

    @property
    def clicked(self) -> Vec | None:
        return self.at if self._of == self.part.mesh_hash else None

    # Showing

    def refresh(self) -> None:
        part = self.part
        self._foretell()
        now = self.pushed()
        foretold = now.load if now is not None else None
        self.chart.put(self.tests, part.card.model_along, part.card.model_across, foretold)
        bond = part.card.bond
        self.model.setText(
            f"Bond between layers of {part.material}: {bond.value:.2f} of the strength along them "
            f"({bond.low:.2f} to {bond.high:.2f}, {bond.source}). {_of_breaks(part.card)}"
        )
        mine = [r for r in part.records if r.part_id == part.id and r.broke is not None]
        last = mine[-1] if mine else None
        self.last.setText("" if last is None else f"The last one, {last.made:%d %b}: {last.outcome}. Its pictures:")
        self.last.setVisible(last is not None)
        self.photos.put(None if last is None else last.id)
        self.against.setText(" ".join(disagreement(self.tests, part.plain_card)))

    def _foretell(self) -> None:
        """Where to push, up to which load, and how."""
        detail = self.view.get(nodes.DETAIL).fresh
        names = [b.case for b in detail.breaking] if detail is not None else []
        if [self.case.itemData(i) for i in range(self.case.count())] != names:
            self.case.clear()
            for name in names:
                self.case.addItem(name, name)
        self.case.setVisible(len(names) > 1)
        now = self.pushed()
        if now is None:
            self.foretold.setText("Rate a way at Lay with a load, and what would break it is foretold here.")
            self.placed.setText("")
            return
        load = now.load
        goes, between = two_digits(load.value), f"{two_digits(load.low)} to {two_digits(load.high)}"
        self.foretold.setText(
            f"Pushed as “{now.case}” it goes at {goes} N ({between}), {now.mode}, "
            f"{self._height(now.place):.0f} mm above the bed: new, dry, cool, pushed once."
        )
        self.placed.setText(self._place_words(now))

    def _place_words(self, now: BreakNow) -> str:
        at = self.clicked
        if at is None:
            return "Click the place on the part where it broke."
        far = BreakTest(mode="along a layer", at=at, foretold_at=now.place).astray or 0.0
        near = "where it was foretold" if far <= NEAR else f"{far:.0f} mm from the foretold place"
        return f"Clicked {self._height(at):.0f} mm above the bed, {near}."

    def _height(self, place: Vec) -> float:
        facts = self.view.facts
        assert facts is not None
        return height_of(self.part, place, facts.mesh.vertices)

    def record(self) -> None:
        """A break as it is typed and clicked, held against what was foretold for exactly this."""
        doc = self.part
        if doc.printer_id is None:
            tell(self.told, "Add your printer at Workshop (Alt+9) first; the record belongs to one.", "bad")
            return
        now = self.pushed()
        mode = self.mode.currentData()
        # One that held is held against how it was to break.
        parting = now is not None and _mode_of(now) == "along a layer"
        along = parting if mode == "did not break" else mode == "along a layer"
        # A load that hardly reaches the part foretells nothing.
        told = None if now is None else now.parting_N if along else now.across_N
        predicted = told if told is not None and told <= bounds_of(BreakTest, "predicted_N")[1] else None
        load = self.load.value or None
        test = BreakTest(
            mode=mode,
            load_N=load,
            predicted_N=predicted if load else None,
            foretold_mode=_mode_of(now) if now is not None else None,
            basis=doc.plain_card.basis[0 if along else 1] if predicted and load else None,
            place=self.where.text().strip(),
            at=self.clicked,
            foretold_at=now.place if now is not None else None,
        )
        at = (doc.id, doc.printer_id, doc.material, self.workspace.now())
        self.workspace.kept.add_print(PrintRecord(0, *at, None, None, f"broke {test.mode}", test), "break recorded")
        said = (
            "Recorded."
            if predicted or not load
            else "Recorded. With no way rated at Lay there is no prediction to compare."
        )
        tell(self.told, said if load else "Recorded. Without a load it says where, not how strong.", "good")
        self.load.line.clear()
        self.at = None
        self.session.touch()

    def verdict(self) -> Verdict:
        now = self.pushed()
        if now is None:
            return Verdict("Nothing is foretold yet.", "Rate a way at Lay with a load; then break one here.")
        return Verdict(
            f"Push as “{now.case}”, up to {two_digits(now.load.high)} N.",
            _CARE,
            number=two_digits(now.load.value),
            unit="N",
            under=(f"{two_digits(now.load.low)} to {two_digits(now.load.high)} N", now.mode),
            tone="clay",
            source=f"Bond {now.load.source}; {len(self.tests)} breaks on record.",
        )


def _mode_of(now: BreakNow) -> str:
    """How it is to break first, by the words that breaks are told in."""
    return "along a layer" if now.parting_N <= now.across_N else "across the layers"


def _of_breaks(card: Material) -> str:
    """What parts broke at over what was foretold, in words."""
    told = [
        f"{words} at {m.value:.2f} of what was foretold ({m.low:.2f} to {m.high:.2f}, {m.source})"
        for words, m in (("along a layer", card.model_along), ("across the layers", card.model_across))
        if m is not None
    ]
    return f"Parts broke {' and '.join(told)}; every reserve counts that." if told else ""
