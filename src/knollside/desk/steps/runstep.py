"""Run: the list before the print, the cautions, and the files to hand over."""

from __future__ import annotations

from datetime import date
from pathlib import Path

import shapely
from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QVBoxLayout, QWidget

from knollside.core.job.answer import laid
from knollside.core.job.file import write_job
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Refused, Way
from knollside.core.run.preflight import cautions, preflight
from knollside.demo import TOOLPATHS
from knollside.desk import tasks
from knollside.desk.asks import CELLS, UP
from knollside.desk.instruments.strips import BedPlan
from knollside.desk.instruments.widgets import Choice, button, clear, column, heading, label, row, rule, scrolled
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.build import BuildStep
from knollside.desk.steps.fits import FitsStep
from knollside.desk.steps.lay import LayStep
from knollside.desk.steps.slicedcard import SlicedCard
from knollside.desk.theme.look import look
from knollside.report.export import write_whole


class RunStep(Step):
    name = "Run"
    stage = "own"

    def __init__(self, state: State, lay: LayStep, build: BuildStep, fits: FitsStep) -> None:
        super().__init__(state)
        self.lay, self.build, self.fits = lay, build, fits
        self.own = self.plan = BedPlan()
        self.printer = Choice("Printer")
        self.printer.chose.connect(lambda v: self._machine(v, None))
        self.spool = Choice("Spool")
        self.spool.chose.connect(lambda v: self._machine(None, v))
        self.checks = QVBoxLayout()
        self.checks.setSpacing(0)
        self.care = QVBoxLayout()
        self.files = label("", 13, wrap=True)
        warn = QWidget()
        warn.setLayout(self.care)
        warn.setObjectName("warn")
        self.warn = warn
        body = QWidget()
        body.setObjectName("paper")
        lay_ = QVBoxLayout(body)
        lay_.setContentsMargins(16, 10, 12, 8)
        lay_.addWidget(
            row(
                column(label("Printer", dim=True), self.printer, spacing=1),
                column(label("Spool", dim=True), self.spool, spacing=1),
                stretch=1,
            )
        )
        lay_.addWidget(heading("Before this print", "tick as you go"))
        lay_.addLayout(self.checks)
        lay_.addWidget(rule())
        lay_.addWidget(warn)
        lay_.addWidget(heading("Files"))
        lay_.addWidget(self.files)
        lay_.addWidget(button("Keep the job as an open file …", self._save_job))
        lay_.addWidget(rule())
        self.sliced = SlicedCard(self._ask_sliced)
        lay_.addWidget(self.sliced)
        lay_.addStretch(1)
        area = scrolled(body)
        self.panel = area
        self._shown: object = None
        self._sliced_path: Path | None = None
        self._outline: tuple[object, object] = (None, None)
        state.work.finished.connect(self._done)

    def _machine(self, printer: int | None, spool: int | None) -> None:
        doc = self.state.doc
        if doc is not None:
            self.state.put_machine(
                printer if printer is not None else doc.printer_id,
                spool if spool is not None else doc.spool_id,
                "printer or spool",
            )

    # The sliced file, coming back

    @property
    def _sliced_key(self) -> object:
        return (self.state.prove_key, self._sliced_path)

    def _ask_sliced(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self.panel, "Read a sliced file", str(TOOLPATHS), "G-code (*.gcode *.gco *.g *.nc)"
        )
        if path:
            self.read_sliced(Path(path))

    def read_sliced(self, path: Path) -> None:
        """Hold a sliced file against the plan."""
        doc = self.state.doc
        if doc is None or self.state.facts is None:
            return
        self._sliced_path = path
        way = doc.way or Way(direction=UP)
        at = str(path), self.state.facts, doc.duty, doc.recipe, self.state.card, way, self.state.weak, CELLS
        self.state.work.ask("sliced", self._sliced_key, tasks.check_file, *at)

    # Handing over

    def _ask_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self.panel, "Write the files to")
        if folder:
            self.export_to(Path(folder))

    def export_to(self, folder: Path) -> None:
        """Write 3MF, STL, HTML and PDF aside."""
        doc, facts = self.state.doc, self.state.facts
        if doc is None or facts is None:
            return
        edited = self.fits.edited or Edited(facts.mesh, ())
        fitting = self.fits.fitting
        way = self.lay.chosen()
        proved = self.state.answers.fresh("prove", self.state.prove_key)
        reserve = proved.solved if proved else self.lay.reserve()
        reasons = tuple(r for r in ((way.reason, way.gives_up) if way else ()) if r)
        if not edited.changes and fitting and fitting.corrections:
            reasons += ("The corrections below were not made in the mesh; make them at Fits first if you want them.",)
        arguments = (
            doc.name,
            doc.job,
            date.today().isoformat(),
            facts,
            edited,
            fitting.corrections if fitting else (),
            doc.duty,
            doc.recipe,
            self.state.card,
            self.state.way,
            way.title if way else "as drawn",
            reserve,
            reasons,
            self.state.printer,
            self.state.spool.grams_left if self.state.spool else None,
            self.state.factor,
        )
        self.state.work.ask(
            "export",
            (self.state.fits_key, self.state.prove_key),
            tasks.export,
            str(folder),
            doc.name.lower(),
            arguments,
            edited,
            self.state.way,
        )

    def _done(self, outcome) -> None:  # type: ignore[no-untyped-def]
        if outcome.name == "export" and outcome.refused:
            self.state.said.emit(outcome.refused)

    def _save_job(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self.panel, "Keep the job as", "job.json", "Job (*.json)")
        if path:
            self.save_job(Path(path))

    def save_job(self, path: Path) -> None:
        """The job and its mesh beside it, in open formats."""
        doc, facts = self.state.doc, self.state.facts
        if doc is None or facts is None:
            return
        mesh_name = path.stem + ".stl"
        try:
            write_whole(path.with_name(mesh_name), stl_bytes(facts.mesh, doc.name))
            write_whole(path, write_job(self.state.as_job(mesh_name)).encode())
            self.state.said.emit(f"Kept as {path.name} with {mesh_name} beside it.")
        except Refused as refusal:
            self.state.said.emit(str(refusal))

    # Showing

    def refresh(self) -> None:
        doc, facts = self.state.doc, self.state.facts
        if doc is None or facts is None:
            return
        self.printer.blockSignals(True)
        self.printer.clear()
        for i, p in self.state.printers.items():
            self.printer.addItem(p.name, i)
        self.printer.put(doc.printer_id)
        self.printer.blockSignals(False)
        self.spool.blockSignals(True)
        self.spool.clear()
        for s in self.state.shop.spools():
            self.spool.addItem(f"{s.name}, {s.grams_left:.0f} g", s.id)
        self.spool.put(doc.spool_id)
        self.spool.blockSignals(False)
        bed = self.state.printer.bed_mm
        self.plan.put(
            self._outline_of(),
            (bed[0], bed[1]),
            doc.name,
            f"{self.state.printer.name}, {doc.material}; its true outline the way it lies",
        )
        key = (
            doc.id,
            doc.material,
            doc.recipe,
            doc.printer_id,
            doc.spool_id,
            doc.duty.danger,
            look.lamp,
            self._grams(),
        )
        if key != self._shown:
            self._shown = key
            self._fill()
        check = self.state.answers.get("sliced")
        self.sliced.put(
            check,
            self.state.answers.refusal("sliced", self._sliced_key),
            check is not None and self.state.answers.key("sliced") != self._sliced_key,
        )
        files = self.state.answers.get("export")
        old = self.state.answers.key("export") != (self.state.fits_key, self.state.prove_key)
        self.files.setText(
            (
                "\n".join(Path(f).name for f in files)
                + (f"\nin {Path(files[0]).parent}")
                + ("\nMade before the last change." if old else "")
            )
            if files
            else "3MF, STL and the job sheet (PDF, HTML) are written together."
        )

    def _grams(self) -> float:
        dot = self.build._dot(self.state.doc.recipe) if self.state.doc else None
        return dot.price.grams if dot else abs(self.state.facts.mesh.volume) / 1000 * self.state.card.density

    def _fill(self) -> None:
        doc = self.state.doc
        assert doc is not None
        clear(self.checks)
        clear(self.care)
        spool = self.state.spool
        height = float(laid(self.state.facts.mesh, self.state.way).size[2])
        for c in preflight(
            self.state.card,
            doc.recipe,
            self._grams(),
            spool.grams_left if spool else None,
            height,
            self.state.printer.bed_mm[2],
        ):
            box = QCheckBox(c.text)
            box.setToolTip(c.detail)
            self.checks.addWidget(row(box, label(c.detail if c.detail != "typical" else "", dim=True), stretch=0))
        self.warn.setStyleSheet(f"QWidget#warn {{ background: {look.colour('warn').name()}; }}")
        for w in cautions(self.state.card, doc.duty):
            title = label(w.title, 13, 700)
            title.setStyleSheet(f"color: {look.colour('straw ink').name()};")
            self.care.addWidget(title)
            self.care.addWidget(label(w.text, 13, wrap=True))

    def _outline_of(self):  # type: ignore[no-untyped-def]
        key = (self.state.doc.mesh_hash if self.state.doc else "", self.state.way)
        if self._outline[0] != key:
            mesh = laid(self.state.facts.mesh, self.state.way)
            high = float(mesh.size[2])
            cuts = cut(mesh, (shapely_levels(high)))
            self._outline = (key, shapely.union_all([polygon_of(cuts.at(k)) for k in range(len(cuts.levels))]))
        return self._outline[1]

    def standing(self) -> Standing:
        if self.state.answers.get("export") is None:
            return Standing(Mark.OPEN, "Nothing written yet.")
        old = self.state.answers.key("export") != (self.state.fits_key, self.state.prove_key)
        return Standing(
            Mark.CRACK if old else Mark.FULL, "Files are from before a change." if old else "Files written."
        )

    def verdict(self) -> Verdict:
        doc = self.state.doc
        if doc is None or self.state.facts is None:
            return Verdict("Open a part first.")
        files = self.state.answers.get("export")
        refused = self.state.answers.refusal("export", (self.state.fits_key, self.state.prove_key))
        if refused:
            return Verdict(
                "The files could not be written.",
                refused,
                number="!",
                tone="clay",
                acts=(Act("Another folder …", self._ask_folder),),
            )
        dot = self.build._dot(doc.recipe)
        hours = f"{dot.price.hours.low:.1f} to {dot.price.hours.high:.1f} h" if dot else ""
        spool = self.state.spool
        short = spool is not None and spool.grams_left < self._grams() * 1.05
        if files:
            return Verdict(
                "The files are written.",
                f"{len(files)} files. Open the 3MF in the program that makes your toolpath; it is already turned.",
                number=str(len(files)),
                unit="files",
                tone="moss",
                acts=(
                    Act("Write again …", self._ask_folder),
                    Act(
                        "Show the folder",
                        lambda: QDesktopServices.openUrl(QUrl.fromLocalFile(str(Path(files[0]).parent))),
                    ),
                ),
            )
        fixed = "Corrected and turned." if self.fits.edited else "Turned; holes as drawn."
        return Verdict(
            "Not enough filament on this spool." if short else "Ready to write the files.",
            f"{fixed} {hours + ' and ' if hours else ''}{self._grams():.0f} g without supports. "
            "Stay for the first layer.",
            number=f"{self._grams():.0f}",
            unit="g",
            under=(hours,),
            tone="clay" if short else "peat",
            source=f"Hours: {self.state.factor.source}.",
            acts=(Act("Write the files …", self._ask_folder), Act("Back to Fits", lambda: self.go("Fits"))),
        )


def shapely_levels(height: float):  # type: ignore[no-untyped-def]
    """A few heights whose cuts together give the outline from above."""
    import numpy as np

    return np.linspace(0.02, 0.98, 24) * height
