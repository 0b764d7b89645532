"""The window: header, core, stage with its log and strip, verdict line, step panel."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QByteArray, QPointF, QSettings, QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from knollside.core.mesh.features import feature_of_face
from knollside.core.model import FaceMark
from knollside.desk.header import Header
from knollside.desk.instruments.core import CoreColumn
from knollside.desk.instruments.log import LogStrip
from knollside.desk.instruments.verdictline import VerdictLine
from knollside.desk.instruments.widgets import label, tell
from knollside.desk.stage.card import FeatureCard
from knollside.desk.stage.view import StageView
from knollside.desk.state import State
from knollside.desk.stepbase import Step
from knollside.desk.steps.benchstep import BenchStep
from knollside.desk.steps.build import BuildStep
from knollside.desk.steps.duty import DutyStep
from knollside.desk.steps.fits import FitsStep
from knollside.desk.steps.lay import LayStep
from knollside.desk.steps.part import PartStep
from knollside.desk.steps.proof import ProofStep
from knollside.desk.steps.runstep import RunStep
from knollside.desk.steps.workshopstep import WorkshopStep
from knollside.desk.theme.look import look

_DOING = {
    "opened": "Reading the part",
    "lay": "Working out the strength",
    "detail": "Cutting layers",
    "plain log": "Cutting layers",
    "build": "Pricing recipes",
    "prove": "Solving this recipe",
    "fits": "Fits",
    "correct": "Moving the walls",
    "piece": "Making the piece",
    "section": "Cutting it out",
    "set": "Scaling the set",
    "export": "Writing files",
    "load": "Reading the file",
    "mend": "Mending",
    "stair": "Strength",
    "supports": "Supports",
    "compare": "Side by side",
    "roofs": "Roofs",
    "even": "Other sizes",
    "gaps": "Between bodies",
    "scale": "Scaling",
    "flare": "Taking the flare off",
    "check board": "Checking the board",
    "buys": "Pricing this recipe",
    "split": "Cutting in two",
    "sliced": "Reading the sliced file",
    "why": "Rating it",
    "trust": "Checking",
    "units": "Getting ready",
}
# Work whose own page says that it is under way, or that nobody waits for.
_QUIET = {
    "fits",
    "stair",
    "warm",
    "why",
    "trust",
    "units",
    "supports",
    "roofs",
    "even",
    "buys",
    "gaps",
    "scale",
    "flare",
    "open gap",
    "wall",
    "thread",
    "fit cut",
    "report",
    "piece",
    "section",
}


class Window(QMainWindow):
    """One open workshop."""

    def __init__(self, state: State, settings: QSettings) -> None:
        super().__init__()
        self.state, self.settings = state, settings
        self.setWindowTitle("Knollside")
        self.setAcceptDrops(True)
        self.setMinimumSize(QSize(1040, 640))
        self.header = Header(state)
        lay, proof = LayStep(state), ProofStep(state)
        build, fits = BuildStep(state), FitsStep(state)
        fits.show_piece = proof.choose
        self.part_step, self.duty_step = PartStep(state), DutyStep(state)
        steps: list[Step] = [
            self.part_step,
            self.duty_step,
            lay,
            build,
            fits,
            proof,
            RunStep(state, lay, build, fits),
            BenchStep(state, proof),
            WorkshopStep(state),
        ]
        self.steps = {s.name: s for s in steps}
        self.current: Step = self.part_step
        self.core = CoreColumn(list(self.steps))
        self.stage, self.log = StageView(), LogStrip()
        self.card = FeatureCard(self.stage)
        self.verdict_line = VerdictLine(state.work.cancel)
        self.note = label("", 13, wrap=True)
        self.note.setObjectName("note")
        self.note.setParent(self.stage)
        self.note.hide()
        self._build_layout(steps)
        self._connect()
        self._dress()
        self._restore()
        self.take("Part")

    def _build_layout(self, steps: list[Step]) -> None:
        self.centre = QStackedWidget()
        self.centre.addWidget(self.stage)
        self.strips, self.panels = QStackedWidget(), QStackedWidget()
        self.panels.setFixedWidth(372)
        self.panels.setObjectName("paper")
        self.panels.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        for s in steps:
            s.go = self.take
            s.panel.setObjectName("paper")
            self.panels.addWidget(s.panel)
            if s.own is not None:
                self.centre.addWidget(s.own)
            if s.strip is not None:
                self.strips.addWidget(s.strip)
        top = QHBoxLayout()
        top.setSpacing(0)
        top.addWidget(self.centre, 1)
        top.addWidget(self.log)
        middle = QVBoxLayout()
        middle.setSpacing(0)
        middle.setContentsMargins(0, 0, 0, 0)
        middle.addLayout(top, 1)
        middle.addWidget(self.strips)
        middle.addWidget(self.verdict_line)
        row = QHBoxLayout()
        row.setSpacing(0)
        row.addWidget(self.core)
        row.addLayout(middle, 1)
        row.addWidget(self.panels)
        whole = QVBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self.header)
        whole.addLayout(row, 1)
        ground = QWidget()
        ground.setObjectName("ground")
        ground.setLayout(whole)
        self.setCentralWidget(ground)

    def _connect(self) -> None:
        self.core.taken.connect(self.take)
        self.stage.picked.connect(self._picked)
        self.stage.aimed.connect(self.duty_step.aim)
        self.card.said.connect(lambda f, m: self.state.mark(f, m))
        self.log.moved.connect(lambda mm: self._show_stage())
        self.header.part_chosen.connect(self._open_part)
        self.header.open_wanted.connect(self.part_step.ask_file)
        self.header.machine_wanted.connect(lambda: self.take("Workshop"))
        self.state.changed.connect(self._soon)
        self.state.opened.connect(self._on_opened)
        self.state.said.connect(self.say)
        self.state.work.progress.connect(self._progress)
        self.state.work.idle.connect(lambda: self.verdict_line.show_progress("", 0))
        self.state.answers.changed.connect(self._answered)
        look.changed.connect(self._dress)
        self._refresh_timer = QTimer(self)
        self._refresh_timer.setSingleShot(True)
        self._refresh_timer.setInterval(0)
        self._refresh_timer.timeout.connect(self.refresh)
        for i, name in enumerate(self.steps):
            QShortcut(QKeySequence(f"Alt+{i + 1}"), self, lambda n=name: self.take(n))
        for keys, do in (
            (QKeySequence.StandardKey.Undo, self.state.undo.undo),
            (QKeySequence.StandardKey.Redo, self.state.undo.redo),
            (QKeySequence.StandardKey.Open, self.part_step.ask_file),
        ):
            QShortcut(QKeySequence(keys), self, do)
        QShortcut(QKeySequence("Ctrl+T"), self, lambda: look.switch(not look.lamp))
        QShortcut(QKeySequence("Ctrl+Return"), self, self._main_act)
        QShortcut(QKeySequence("Escape"), self, self._escape)
        for key, by in (("PgDown", 1), ("PgUp", -1)):
            QShortcut(QKeySequence(key), self.stage, lambda by=by: self._next_feature(by))
        QShortcut(QKeySequence("Return"), self.stage, self._card_for_picked, context=Qt.ShortcutContext.WidgetShortcut)

    # What the person does

    def take(self, name: str) -> None:
        """Bring a step to the front."""
        self.current = self.steps[name]
        self.card.hide()
        self.centre.setCurrentWidget(self.current.own if self.current.own is not None else self.stage)
        self.panels.setCurrentWidget(self.current.panel)
        self.strips.setVisible(self.current.strip is not None)
        if self.current.strip is not None:
            self.strips.setCurrentWidget(self.current.strip)
            self.strips.setFixedHeight(self.current.strip_height)
        self.log.setVisible(self.current.has_log)
        self.current.enter()
        self.refresh()

    def _main_act(self) -> None:
        acts = self.current.verdict().acts
        if acts and acts[0].enabled and not self.state.work.busy_with:
            acts[0].do()

    def _escape(self) -> None:
        if self.card.isVisible():
            self.card.hide()
            self.stage.setFocus()
        elif self.state.work.busy_with:
            self.state.work.cancel()

    def _open_part(self, part_id: int) -> None:
        if self.state.doc is None or self.state.doc.id != part_id:
            self.state.open(part_id)

    def _on_opened(self) -> None:
        if self.state.doc is not None:
            self.settings.setValue("part", self.state.doc.id)
        self.take("Part")

    def _picked(self, face: int, at: QPointF) -> None:
        facts = self.state.facts
        if face < 0 or facts is None or self.current.name in ("Proof", "Bench"):
            self.card.hide()
            return
        f = feature_of_face(facts.mesh, facts.features, face)
        self.state.picked = f.id
        self._show_card(f, at)
        self.state.changed.emit()

    def _show_card(self, f, at: QPointF) -> None:  # type: ignore[no-untyped-def]
        doc = self.state.doc
        mark = doc.duty.marks.get(f.id) if doc else None
        if mark is None and doc is not None and any(m.feature == f.id for m in doc.mates):
            mark = FaceMark.MATES
        self.card.show_for(f, mark, at)

    def _next_feature(self, by: int) -> None:
        facts = self.state.facts
        if facts is None or not facts.features:
            return
        ids = [f.id for f in facts.features]
        here = ids.index(self.state.picked) if self.state.picked in ids else -1 if by > 0 else 0
        self.state.picked = ids[(here + by) % len(ids)]
        self.state.changed.emit()

    def _card_for_picked(self) -> None:
        facts = self.state.facts
        f = facts.feature(self.state.picked) if facts is not None else None
        if f is not None:
            self._show_card(f, self.stage.to_screen(facts.mesh.triangles[f.faces[0]].mean(axis=0)))

    # What is shown

    def _soon(self) -> None:
        """Many changes in one turn of the loop make one refresh."""
        self._refresh_timer.start()

    def refresh(self) -> None:
        self.header.refresh()
        for s in self.steps.values():
            if s is self.current:
                s.refresh()
        self.core.put({n: s.standing() for n, s in self.steps.items()}, self.current.name)
        self.verdict_line.put(self.current.verdict())
        if self.state.work.busy_with and self.state.work.busy_with not in _QUIET:
            self.verdict_line.show_progress(_DOING.get(self.state.work.busy_with, "Working"), self._share)
        else:
            self.verdict_line.show_progress("", 0)
        self._show_log()
        self._show_stage()

    _share = 0.0

    def _show_log(self) -> None:
        if not self.current.has_log or self.state.doc is None:
            return
        told, nothing = self.state.answers.fresh("supports", self.state.supports_key), np.zeros(0)
        if told is not None:
            self.log.tell(told.notes, told.heights, told.free, told.seconds)
        else:
            self.log.tell((), nothing, nothing, nothing)
        if self.current.name == "Lay":
            detail = self.state.answers.get("detail")
            if detail is not None:
                laying = self.state.laying
                target = laying.ranking.target if laying is not None else 2.0
                self.log.put(
                    detail.log, target, self.state.answers.key("detail") != (self.state.lay_key, self.state.way)
                )
                return
        plain = self.state.answers.fresh("plain log", (self.state.doc.mesh_hash, self.state.way, self.state.doc.recipe))
        detail = self.state.answers.fresh("detail", (self.state.lay_key, self.state.way))
        self.log.put(detail.log if detail is not None else plain, 2.0, False)

    def _show_stage(self) -> None:
        scene = self.current.scene()
        if (
            self.current.has_log
            and self.current.name == "Lay"
            and self.log.log is not None
            and self.state.doc is not None
        ):
            scene = replace(scene, cursor=self.log.cursor_mm, opened=self.log.open_here.isChecked())
        self.stage.show_scene(scene)

    def _progress(self, name: str, share: float, words: str) -> None:
        self._share = share
        if name not in _QUIET:
            self.verdict_line.show_progress(f"{_DOING.get(name, name)}: {words} …", share)

    def _answered(self, name: str) -> None:
        # The next step of the chain, when the step in front waits for it.
        if name == "opened" and self.current.name in ("Part", "Lay"):
            self.current.enter()
        # A refused or cancelled solve must not start itself again.
        if (
            name == "lay"
            and self.current.name in ("Lay", "Build")
            and self.state.doc is not None
            and self.state.answers.fresh("lay", self.state.lay_key) is not None
        ):
            self.current.enter()
        if name == "opened" and self.current.name == "Proof":
            self.current.enter()

    def say(self, words: str) -> None:
        """A sentence for the person, on the stage, gone after a while."""
        tell(self.note, words)
        self.note.setParent(self.centre.currentWidget())
        self.note.setFixedWidth(min(520, max(self.centre.width() - 60, 200)))
        self.note.adjustSize()
        self.note.move(20, 58)
        self.note.show()
        self.note.raise_()
        QTimer.singleShot(9000, self.note.hide)

    def _dress(self) -> None:
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setPalette(look.palette())
            app.setStyleSheet(look.sheet())
        self.note.setStyleSheet(
            f"QLabel#note {{ background: {look.colour('warn').name()}; color: "
            f"{look.colour('peat').name()}; border: 1px solid {look.colour('rule 2').name()}; "
            "border-radius: 6px; padding: 10px; }"
        )
        self.refresh()

    # Files dropped, window kept

    def dragEnterEvent(self, e: QDragEnterEvent | None) -> None:
        assert e is not None
        data = e.mimeData()
        if data is not None and data.hasUrls():
            e.acceptProposedAction()

    def dropEvent(self, e: QDropEvent | None) -> None:
        assert e is not None
        data = e.mimeData()
        for url in data.urls() if data is not None else ():
            if url.isLocalFile():
                self.part_step.open_file(url.toLocalFile())

    def _restore(self) -> None:
        shape = self.settings.value("window")
        if isinstance(shape, QByteArray):
            self.restoreGeometry(shape)
        else:
            self.resize(1280, 800)
        if str(self.settings.value("lamp", "")) == "true":
            look.switch(True)

    def closeEvent(self, e: QCloseEvent | None) -> None:
        self.state.undo.blockSignals(True)  # it tells of its own end, when its listeners are gone
        self.settings.setValue("window", self.saveGeometry())
        self.settings.setValue("lamp", "true" if look.lamp else "false")
        self.state.work.close()
        self.state.shop.close()
        super().closeEvent(e)
