"""Forms of the Workshop: what a printer can do, what is on a spool. Every field is one edit."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout, QWidget

from knollside.core.job.file import Spooled
from knollside.core.material.cards import MATERIALS
from knollside.core.model import PrinterFacts, bounds_of
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, column, heading, label, named, row
from knollside.gui.session import Seeing, Session
from knollside.store.parts import USUAL_MATERIAL
from knollside.store.records import Spool


def _line(name: str) -> QLineEdit:
    out = QLineEdit()
    out.setAccessibleName(name)
    out.setMaxLength(60)
    return out


def _fresh(stem: str, taken: list[str]) -> str:
    return next(n for n in (f"{stem} {i}" for i in range(1, 1000)) if n not in taken)


class PrinterForm(Seeing, QWidget):
    """One printer at a time, chosen by name."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.at: int | None = None
        self.pick = Dropdown("Printer to describe", letters=14)
        self.pick.chose.connect(self._pick)
        self.name = _line("Printer's name")
        self.name.editingFinished.connect(lambda: self._put("name", self.name.text().strip()))
        self.bed = [
            NumberField(f"Bed, {axis}", "length", "mm", 10, *bounds_of(PrinterFacts, "bed_mm"), 0, 84)
            for axis in ("wide", "deep", "high")
        ]
        for i, f in enumerate(self.bed):
            f.entered.connect(lambda v, i=i: self._bed(i, v))
        self.nozzle = NumberField("Nozzle bore", "length", "mm", 0.1, *bounds_of(PrinterFacts, "nozzle_mm"), 2, 84)
        self.nozzle.entered.connect(lambda v: self._put("nozzle_mm", v))
        self.hot = NumberField(
            "Hottest nozzle", "temperature", "°C", 5, *bounds_of(PrinterFacts, "nozzle_max_c"), 0, 84
        )
        self.hot.entered.connect(lambda v: self._put("nozzle_max_c", v))
        self.warm = NumberField("Hottest bed", "temperature", "°C", 5, *bounds_of(PrinterFacts, "bed_max_c"), 0, 84)
        self.warm.entered.connect(lambda v: self._put("bed_max_c", v))
        self.closed, self.hard = QCheckBox("Closed chamber"), QCheckBox("Hard nozzle")
        self.closed.clicked.connect(lambda on: self._put("enclosed", on))
        self.hard.clicked.connect(lambda on: self._put("hard_nozzle", on))
        self.form = column(
            row(named("Printer", self.pick), named("Name", self.name), stretch=1),
            row(*(named(t, f) for t, f in zip(("Wide", "Deep", "High"), self.bed)), stretch=-2),
            row(named("Nozzle", self.nozzle), named("to", self.hot), named("Bed to", self.warm), stretch=-2),
            row(self.closed, self.hard, stretch=-2),
            spacing=4,
        )
        self.none = label(
            "No printer yet. Add yours: corrections and hours are learned for each one.", dim=True, wrap=True
        )
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(4)
        for w in (heading("Printers", button("Add a printer", self.add)), self.none, self.form):
            lay.addWidget(w)

    def add(self) -> None:
        """A new printer with common values, to be set right field by field."""
        name = _fresh("Printer", [p.name for p in self.workspace.shelf.printers.values()])
        self.at = self.workspace.kept.put_printer(None, PrinterFacts(name=name)) or self.at
        self.refresh()
        self.name.setFocus()
        self.name.selectAll()

    def _pick(self, printer: object) -> None:
        self.at = printer if isinstance(printer, int) else None
        self.refresh()

    def _put(self, key: str, value: object) -> None:
        facts = self.workspace.shelf.printers.get(self.at or 0)
        if facts is None or self.at is None or value == "" or getattr(facts, key) == value:
            self.refresh()
            return
        self.workspace.kept.put_printer(self.at, facts.model_copy(update={key: value}))

    def _bed(self, i: int, value: float) -> None:
        facts = self.workspace.shelf.printers.get(self.at or 0)
        if facts is not None:
            bed = list(facts.bed_mm)
            bed[i] = value
            self._put("bed_mm", tuple(bed))

    def refresh(self) -> None:
        printers = self.workspace.shelf.printers
        if self.at not in printers:
            mine = self.part.printer_id if self.session.has_part else None
            self.at = mine if mine in printers else next(iter(printers), None)
        if [self.pick.itemData(i) for i in range(self.pick.count())] != list(printers) or any(
            self.pick.itemText(i) != p.name for i, p in enumerate(printers.values())
        ):
            self.pick.clear()
            for key, p in printers.items():
                self.pick.addItem(p.name, key)
        self.form.setVisible(bool(printers))
        self.none.setVisible(not printers)
        if self.at is None:
            return
        p = printers[self.at]
        self.pick.put(self.at)
        if not self.name.hasFocus():
            self.name.setText(p.name)
        for f, v in zip(
            (*self.bed, self.nozzle, self.hot, self.warm), (*p.bed_mm, p.nozzle_mm, p.nozzle_max_c, p.bed_max_c)
        ):
            f.put(v)
        self.closed.setChecked(p.enclosed)
        self.hard.setChecked(p.hard_nozzle)


class SpoolForm(Seeing, QWidget):
    """One spool at a time."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.at: int | None = None
        self.pick = Dropdown("Spool to describe", letters=14)
        self.pick.chose.connect(self._pick)
        self.name = _line("Spool's name")
        self.name.editingFinished.connect(lambda: self._put(name=self.name.text().strip()))
        self.material = Dropdown("Spool's material", [(m, m) for m in MATERIALS], 10)
        self.material.chose.connect(lambda m: self._put(material=str(m)))
        self.left = NumberField("Grams left", "mass", "g", 10, *bounds_of(Spooled, "grams_left"), 0, 84)
        self.left.entered.connect(lambda v: self._put(grams_left=v))
        self.dry = QCheckBox("Dry")
        self.dry.clicked.connect(lambda on: self._put(dry=on))
        self.form = column(
            row(named("Spool", self.pick), named("Name", self.name), stretch=1),
            row(named("Material", self.material), named("Left", self.left), named(" ", self.dry), stretch=-2),
            spacing=4,
        )
        self.none = label("No spool yet. Add one, and Run says whether enough is left.", dim=True, wrap=True)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(4)
        for w in (heading("Spools", button("Add a spool", self.add)), self.none, self.form):
            lay.addWidget(w)

    def add(self) -> None:
        material = self.part.material if self.session.has_part else USUAL_MATERIAL
        name = _fresh(material, [s.name for s in self.workspace.shelf.spools])
        self.at = self.workspace.kept.put_spool(Spool(0, name, material, 1000.0, True)) or self.at
        self.refresh()
        self.name.setFocus()
        self.name.selectAll()

    def _pick(self, spool: object) -> None:
        self.at = spool if isinstance(spool, int) else None
        self.refresh()

    def _spool(self) -> Spool | None:
        return next((s for s in self.workspace.shelf.spools if s.id == self.at), None)

    def _put(self, **change: object) -> None:
        spool = self._spool()
        if spool is None or change.get("name") == "" or replace(spool, **change) == spool:  # type: ignore[arg-type]
            self.refresh()
            return
        self.workspace.kept.put_spool(replace(spool, **change))  # type: ignore[arg-type]

    def refresh(self) -> None:
        spools = self.workspace.shelf.spools
        if self._spool() is None:
            self.at = spools[0].id if spools else None
        if [(self.pick.itemData(i), self.pick.itemText(i)) for i in range(self.pick.count())] != [
            (s.id, s.name) for s in spools
        ]:
            self.pick.clear()
            for s in spools:
                self.pick.addItem(s.name, s.id)
        self.form.setVisible(bool(spools))
        self.none.setVisible(not spools)
        spool = self._spool()
        if spool is None:
            return
        self.pick.put(spool.id)
        if not self.name.hasFocus():
            self.name.setText(spool.name)
        self.material.put(spool.material)
        self.left.put(spool.grams_left)
        self.dry.setChecked(spool.dry)
