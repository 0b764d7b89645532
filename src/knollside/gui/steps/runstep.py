"""Run: the list before the print, the cautions, and the files to hand over."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QFileDialog, QStackedWidget, QVBoxLayout, QWidget
from shapely.geometry.base import BaseGeometry

from knollside.core.job.answer import laid
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.model import Array
from knollside.core.run.preflight import cautions, preflight
from knollside.demo import TOOLPATHS
from knollside.gui import nodes
from knollside.gui.derived import Node
from knollside.gui.fileasks import stamp_of
from knollside.gui.instruments.strips import BedPlan
from knollside.gui.instruments.widgets import Dropdown, button, clear, heading, label, named, row, rule
from knollside.gui.nodes import SlicedWish
from knollside.gui.rundesk import RunDesk
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.gui.steps.beforelist import BeforeList
from knollside.gui.steps.handover import HandOver
from knollside.gui.steps.platespage import PlatesPage
from knollside.gui.steps.slicedcard import SlicedCard
from knollside.gui.steps.tabs import Tabs
from knollside.gui.steps.watchpage import WatchPage
from knollside.gui.steps.weekpage import WeekPage
from knollside.gui.theme.look import look

_CUTS = 24  # heights whose cuts together give the outline from above


class RunStep(Step):
    name = "Run"
    stage = "own"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.plan = BedPlan()
        self.hand = HandOver(session, self.plan)
        self.desk = desk = RunDesk(session)
        self.plates, self.week = PlatesPage(session, desk), WeekPage(session, desk)
        self.own = self.views = QStackedWidget()
        self.watch = WatchPage(session, desk)
        for view in (self.plan, self.plates.view, self.week.view, self.watch.view):
            self.views.addWidget(view)
        self.printer = Dropdown("Printer")
        self.printer.setPlaceholderText("none yet")
        self.printer.chose.connect(lambda v: self._machine(v, None))
        self.spool = Dropdown("Spool")
        self.spool.setPlaceholderText("none yet")
        self.spool.chose.connect(lambda v: self._machine(None, v))
        self.checks = BeforeList(session)
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
                named("Printer", self.printer),
                named("Spool", self.spool),
                stretch=1,
            )
        )
        lay_.addWidget(heading("Before this print", "tick as you go"))
        lay_.addWidget(self.checks)
        lay_.addWidget(rule())
        lay_.addWidget(warn)
        lay_.addWidget(heading("Files"))
        lay_.addWidget(self.files)
        lay_.addWidget(button("Keep the job as an open file …", self.hand.ask_job))
        lay_.addWidget(rule())
        self.sliced = SlicedCard(self._ask_sliced)
        lay_.addWidget(self.sliced)
        lay_.addStretch(1)
        pages = (("This part", body), ("Plates", self.plates), ("Week", self.week), ("Watch", self.watch))
        self.tabs = Tabs(pages, 4, (16, 10, 12, 2))
        self.tabs.turned.connect(self._turned)
        self.panel = self.tabs.panel()
        self._shown: object = None
        self._outline: tuple[object, BaseGeometry | None] = (None, None)

    @property
    def _page(self) -> PlatesPage | WeekPage | WatchPage:
        """The page of the run in front, where it is not this part's."""
        return (self.plates, self.week, self.watch)[self.tabs.front - 1]

    def _turned(self, page: int) -> None:
        self.views.setCurrentIndex(page)
        self.desk.look()
        self.session.touch()

    def needs(self) -> tuple[Node[Any], ...]:
        return ((nodes.FITS, nodes.PRICE), (nodes.PLATES,), (nodes.PLATES, nodes.WEEK), ())[self.tabs.front]

    def _machine(self, printer: int | None, spool: int | None) -> None:
        part = self.part
        self.workspace.put_machine(
            printer if printer is not None else part.printer_id,
            spool if spool is not None else part.spool_id,
            "printer or spool",
        )

    # The sliced file, coming back

    def _ask_sliced(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self.panel, "Read a sliced file", str(TOOLPATHS), "G-code (*.gcode *.gco *.g *.nc)"
        )
        if path:
            self.read_sliced(Path(path))

    def read_sliced(self, path: Path) -> None:
        """Hold a sliced file against the plan."""
        self.session.ask(nodes.SLICED, SlicedWish(path, stamp_of(path)))

    # Handing over

    def export_to(self, folder: Path) -> None:
        """Write 3MF, STL, HTML and PDF aside."""
        self.hand.export_to(folder)

    def save_job(self, path: Path) -> None:
        """The job and its mesh beside it, in open formats."""
        self.hand.save_job(path)

    @property
    def written(self) -> tuple[Path, ...]:
        return self.hand.written

    # Showing

    def refresh(self) -> None:
        if self.tabs.front:
            self._page.refresh()
            return
        part = self.part
        if self.view.facts is None:
            return
        self.printer.blockSignals(True)
        self.printer.clear()
        for i, p in self.workspace.shelf.printers.items():
            self.printer.addItem(p.name, i)
        self.printer.put(part.printer_id)
        self.printer.blockSignals(False)
        self.spool.blockSignals(True)
        self.spool.clear()
        for s in self.workspace.shelf.spools:
            self.spool.addItem(f"{s.name}, {s.grams_left:.0f} g", s.id)
        self.spool.put(part.spool_id)
        self.spool.blockSignals(False)
        bed = part.printer.bed_mm
        words = f"{part.printer.name}, {part.material}; its true outline the way it lies"
        self.plan.put(self._outline_of(), (bed[0], bed[1]), part.name, words)
        key = (
            part.id,
            part.material,
            part.recipe,
            part.printer,
            part.spool,
            part.design_case.danger,
            look.lamp,
            self._grams(),
            part.shelf.printer_log(part.printer_id),
            len(part.records),
        )
        if key != self._shown:
            self._shown = key
            self._fill()
        check = self.view.get(nodes.SLICED)
        self.sliced.put(check.shown, check.refusal, check.old)
        self.files.setText(self._files_words())

    def _files_words(self) -> str:
        if not self.written:
            return "3MF, STL and the job sheet (PDF, HTML) are written together."
        names = "\n".join(f.name for f in self.written)
        old = "\nOld: made before the last change." if self.hand.old else ""
        return f"{names}\nin {self.written[0].parent}{old}"

    def _grams(self) -> float | None:
        price = self.view.get(nodes.PRICE).fresh
        return None if price is None else price.grams

    def _fill(self) -> None:
        part, facts = self.part, self.view.facts
        assert facts is not None
        clear(self.care)
        height = float(laid(facts.mesh, part.direction).size[2])
        left = part.spool.grams_left if part.spool else None
        usual = preflight(part.card, part.recipe, self._grams(), left, height, part.printer.bed_mm[2])
        self.checks.put(part.changed_checks(self.workspace.now()), usual)
        self.warn.setStyleSheet(f"QWidget#warn {{ background: {look.colour('warn').name()}; }}")
        for w in cautions(part.card, part.design_case):
            title = label(w.title, 13, 700)
            title.setStyleSheet(f"color: {look.colour('straw ink').name()};")
            self.care.addWidget(title)
            self.care.addWidget(label(w.text, 13, wrap=True))

    def _outline_of(self) -> BaseGeometry | None:
        key, facts = (self.part.mesh_hash, self.part.direction), self.view.facts
        if self._outline[0] != key and facts is not None:
            mesh = laid(facts.mesh, self.part.direction)
            cuts = cut(mesh, _levels(float(mesh.size[2])))
            self._outline = (key, shapely.union_all([polygon_of(cuts.at(k)) for k in range(len(cuts.levels))]))
        return self._outline[1]

    def standing(self) -> Standing:
        looked_at = self.tabs.front > 0 and self.views.isVisible()
        run = self.plates.standing(looked_at) if self.tabs.front or not self.written else None
        if run is not None:
            return run
        if not self.written:
            return Standing(Mark.OPEN, "Nothing written yet.")
        old = self.hand.old
        return Standing(
            Mark.CRACK if old else Mark.FULL, "Files are from before a change." if old else "Files written."
        )

    def verdict(self) -> Verdict:
        if self.tabs.front:
            return self._page.verdict()
        if self.view.facts is None:
            return Verdict("Reading the part.")
        if self.hand.last.refused:
            return Verdict(
                "The files could not be written.",
                self.hand.last.refused,
                number="!",
                tone="clay",
                acts=(Act("Another folder …", self.hand.ask_folder),),
            )
        if self.written and not self.hand.old:
            return self._done()
        price, grams = self.view.get(nodes.PRICE).fresh, self._grams()
        hours = f"{price.hours.words(1)} h" if price else ""
        spool = self.part.spool
        short = spool is not None and grams is not None and spool.grams_left < grams * 1.05
        missing = self._missing()
        fixed = "Corrected and turned." if nodes.made(self.view.inputs) is not None else "Turned; holes as drawn."
        if self.part.loaded and self.hand.strength()[0] is None:
            fixed += " Nothing on strength."
        left = self.hand.not_corrected()
        if left:
            fixed = f"{fixed} Left as drawn: {' '.join(left)}"
        weighs = f"{hours} and {grams:.0f} g without supports. " if grams is not None else "Being priced. "
        whole = "Ready to write the files." if missing is None else "Ready, but not all is done."
        title = "The files are from before a change." if self.hand.old else whole
        return Verdict(
            "Not enough filament on this spool." if short else title,
            f"{fixed} {weighs}Stay for the first layer.",
            number=f"{grams:.0f}" if grams is not None else "",
            unit="g" if grams is not None else "",
            under=(hours,),
            tone="clay" if short else "peat",
            source=f"Hours: {self.part.factor.source}.",
            acts=(
                Act("Write it so …" if left else "Write the files …", self.hand.ask_folder),
                missing or Act("Back to Fits", lambda: self.go("Fits")),
            ),
        )

    def _missing(self) -> Act | None:
        """What a hand-over lacks, made from here: answers are forgotten when the window closes."""
        part, view = self.part, self.view
        fitting = view.get(nodes.FITS).fresh
        if fitting and fitting.corrections and nodes.made(view.inputs) is None:
            return Act("Correct the holes", lambda: self.session.ask(nodes.CORRECT))
        if part.loaded and part.orientation is None:
            return Act("Choose how it lies", lambda: self.go("Lay"))
        if part.loaded and view.get(nodes.PROVE).fresh is None:
            return Act("Solve the strength", lambda: self.session.ask(nodes.PROVE))
        return None

    def _done(self) -> Verdict:
        folder = self.written[0].parent
        return Verdict(
            "The files are written.",
            f"{len(self.written)} files. Open the 3MF in the program that makes your toolpath; it is already turned.",
            number=str(len(self.written)),
            unit="files",
            tone="moss",
            acts=(
                Act("Write again …", self.hand.ask_folder),
                Act("Show the folder", partial(_show, folder)),
            ),
        )


def _show(folder: Path) -> None:
    QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder)))


def _levels(height: float) -> Array:
    return np.linspace(0.02, 0.98, _CUTS) * height
