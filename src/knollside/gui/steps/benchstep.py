"""Bench: what was measured, tried, broken and printed comes in; what is learned goes back to every verdict."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PyQt6.QtWidgets import QStackedWidget, QWidget

from knollside.gui import nodes
from knollside.gui.derived import Node
from knollside.gui.instruments.layertimes import LayerTimes
from knollside.gui.pieces import Pieces
from knollside.gui.session import Session
from knollside.gui.stepbase import Standing, Step, Verdict
from knollside.gui.steps.benchscenes import clean_scene, fault_scene, record_scene, trial_scene
from knollside.gui.steps.cleanpage import CleanPage
from knollside.gui.steps.faultspage import FaultsPage
from knollside.gui.steps.measuring import Measuring
from knollside.gui.steps.recordpage import RecordPage
from knollside.gui.steps.tabs import Tabs
from knollside.gui.steps.trialspage import TrialsPage
from knollside.gui.viewport.scene import Scene

MEASURE, PRINTER, TRIALS, FAULTS, CLEAN, RECORD = range(6)
Vec = tuple[float, float, float]


class BenchStep(Step):
    name = "Bench"
    strip_height = 196

    def __init__(self, session: Session, pieces: Pieces) -> None:
        super().__init__(session)
        self.measuring, self.trials = Measuring(session, pieces), TrialsPage(session)
        self.faults, self.clean, self.record = FaultsPage(session), CleanPage(session), RecordPage(session)
        self.strip = self.charts = QStackedWidget()
        self.layers = LayerTimes()
        m = self.measuring
        own: tuple[QWidget, ...] = (m.errors, m.gap_chart, self.record.chart, self.layers)
        for chart in (*own, *self.trials.charts):
            self.charts.addWidget(chart)
        pages = (
            ("Measure", self.measuring.measure),
            ("This printer", self.measuring.printer_page),
            ("Trials", self.trials.panel),
            ("What went wrong", self.faults),
            ("Clean up", self.clean),
            ("Record", self.record),
        )
        self.tabs = Tabs(pages, 3, (16, 10, 14, 2))
        self.tabs.turned.connect(lambda _: session.touch())
        self.panel = self.tabs.panel()
        self.measuring.go = lambda name: self.go(name)
        self.trials.pulls.wanted.connect(self._at_proof)
        self.trials.gaps.wanted.connect(lambda: self._at_proof("face"))
        self.faults.wanted.connect(self._at_proof)

    def _at_proof(self, piece: str, sizes: Mapping[str, float] | None = None) -> None:
        """Show a test piece where it is made."""
        self.measuring.pieces.choose(piece, sizes)
        self.go("Proof")

    @property
    def page(self) -> Measuring | TrialsPage | FaultsPage | CleanPage | RecordPage:
        """What is in front."""
        m = self.measuring
        return (m, m, self.trials, self.faults, self.clean, self.record)[self.tabs.front]

    def needs(self) -> tuple[Node[Any], ...]:
        front = self.tabs.front
        if front in (MEASURE, PRINTER):
            return self.measuring.needs()
        layers = (nodes.SUPPORTS,)
        # The hours of a recorded print are held against its estimate.
        return {
            TRIALS: self.trials.needs,
            FAULTS: layers,
            CLEAN: (*layers, nodes.FITS, nodes.FINISH),
            RECORD: (nodes.PRICE,),
        }[front]

    def enter(self) -> None:
        self.measuring.enter()

    def pointed_at(self, place: Vec) -> bool:
        """A place on the part: where it broke, or where it went wrong."""
        front = self.tabs.front
        if front == TRIALS:
            self.trials.breaks.point(place)
        elif front == FAULTS:
            self.faults.point(place)
        return True

    @property
    def takes_places(self) -> bool:
        """Whether a click on the part means something now."""
        front = self.tabs.front
        return front == FAULTS or (front == TRIALS and self.trials.front is self.trials.breaks)

    def refresh(self) -> None:
        self.measuring.refresh()
        if self.page is not self.measuring:
            self.page.refresh()
        self.charts.setCurrentWidget(self._chart())

    def _chart(self) -> QWidget:
        front = self.tabs.front
        if front == TRIALS:
            return self.trials.front.chart
        if front in (FAULTS, CLEAN):
            self._put_layers(front)
            return self.layers
        return self.record.chart if front == RECORD else self.measuring.chart

    def _put_layers(self, front: int) -> None:
        """How long layers take, with the height in hand."""
        told = self.view.get(nodes.SUPPORTS).shown
        if told is None:
            return
        case, chore = self.faults.case, self.clean.chore
        if front == FAULTS:
            marks, at = [], case.height if case is not None else None
        else:
            marks, at = self.clean.heights, chore.low if chore is not None else None
        self.layers.put(told.heights, told.seconds, told.free, marks, at)

    def standing(self) -> Standing:
        return self.measuring.standing()

    def verdict(self) -> Verdict:
        return self.page.verdict()

    def scene(self) -> Scene:
        front = self.tabs.front
        if front == TRIALS:
            return trial_scene(self.session, self.trials)
        if front == FAULTS:
            return fault_scene(self.session, self.faults)
        if front == CLEAN:
            return clean_scene(self.session, self.clean)
        if front == RECORD:
            return record_scene(self.session)
        return self.measuring.scene()
