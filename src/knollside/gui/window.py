"""The window: header, core, stage with its log and strip, verdict line, step panel."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PyQt6.QtCore import QByteArray, QPointF, QSettings, QSize, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from knollside.core.mesh.features import feature_of_face
from knollside.core.model import Feature
from knollside.gui import nodes
from knollside.gui.derived import READ, Node
from knollside.gui.header import Header
from knollside.gui.instruments.layer_profile import LogStrip
from knollside.gui.instruments.note import Note
from knollside.gui.instruments.step_rail import CoreColumn
from knollside.gui.instruments.verdictline import VerdictLine
from knollside.gui.instruments.widgets import column, label
from knollside.gui.pieces import Pieces
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.gui.steps.benchstep import BenchStep
from knollside.gui.steps.build import BuildStep
from knollside.gui.steps.duty import DutyStep
from knollside.gui.steps.fits import FitsStep
from knollside.gui.steps.lay import LayStep
from knollside.gui.steps.part import PartStep
from knollside.gui.steps.proof import ProofStep
from knollside.gui.steps.runstep import RunStep
from knollside.gui.steps.workshopstep import WorkshopStep
from knollside.gui.theme.look import look
from knollside.gui.viewport.card import FeatureCard
from knollside.gui.viewport.scene import Scene
from knollside.gui.viewport.view import StageView

_ONCE = {
    "load": "Reading the file",
    "export": "Writing files",
    "table": "Reading the table",
    "whole": "The workshop",
    "photo": "Reading the photo",
    "story": "Writing the story",
}


class Window(QMainWindow):
    """One open workshop."""

    def __init__(self, session: Session, settings: QSettings) -> None:
        super().__init__()
        self.session, self.settings = session, settings
        self.setWindowTitle("Knollside")
        self.setAcceptDrops(True)
        self.setMinimumSize(QSize(1040, 640))
        self.header = Header(session)
        self.part_step, self.duty_step, pieces = PartStep(session), DutyStep(session), Pieces(session)
        steps: list[Step] = [
            self.part_step,
            self.duty_step,
            LayStep(session),
            BuildStep(session),
            FitsStep(session, pieces),
            ProofStep(session, pieces),
            RunStep(session),
            BenchStep(session, pieces),
            WorkshopStep(session),
        ]
        self.steps = {s.name: s for s in steps}
        self.current: Step = self.part_step
        self.core = CoreColumn(list(self.steps))
        self.stage, self.log = StageView(), LogStrip()
        self.card = FeatureCard(self.stage)
        self.verdict_line = VerdictLine(session.worker.cancel)
        self.blank = column(label("Open a part first.", dim=True, wrap=True), margins=(16, 12, 16, 12))
        self.note = Note(self.stage)
        self._share = 0.0
        self._build_layout(steps)
        self._connect()
        self._dress()
        self._restore()
        session.derived.front = self._needs
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
        self.panels.addWidget(self.blank)
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
        session, workspace = self.session, self.session.workspace
        self.core.taken.connect(self.take)
        self.stage.picked.connect(self._picked)
        self.stage.aimed.connect(self.duty_step.aim)
        self.card.said.connect(session.mark)
        self.log.moved.connect(lambda mm: self._show_stage())
        self.header.part_chosen.connect(self._open_part)
        self.header.open_wanted.connect(self.part_step.ask_file)
        self.header.machine_wanted.connect(lambda: self.take("Workshop"))
        session.changed.connect(self._soon)
        workspace.opened.connect(self._on_opened)
        workspace.said.connect(self.say)
        session.worker.progress.connect(self._progress)
        session.worker.stumbled.connect(self.say)
        session.worker.idle.connect(lambda: self.verdict_line.show_progress("", 0))
        look.changed.connect(self._dress)
        self._refresh_timer = QTimer(self)
        self._refresh_timer.setSingleShot(True)
        self._refresh_timer.setInterval(0)
        self._refresh_timer.timeout.connect(self.refresh)
        for i, name in enumerate(self.steps):
            QShortcut(QKeySequence(f"Alt+{i + 1}"), self, lambda n=name: self.take(n))
        for keys, do in (
            (QKeySequence.StandardKey.Undo, workspace.take_back),
            (QKeySequence.StandardKey.Redo, workspace.make_again),
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

    @property
    def _usable(self) -> bool:
        """Whether the step in front has what it speaks of."""
        return self.session.has_part or not self.current.needs_part

    def _needs(self) -> tuple[Node[Any], ...]:
        """What is wanted now: the mesh and its names, then the page in front, then what the rail tells of fits."""
        if not self.session.has_part:
            return ()
        return (READ, nodes.NAMES, *self.current.needs(), nodes.FITS)

    def take(self, name: str) -> None:
        """Bring a step to the front."""
        self.current = step = self.steps[name]
        self.card.hide()
        usable = self._usable
        self.centre.setCurrentWidget(step.own if step.own is not None and usable else self.stage)
        self.panels.setCurrentWidget(step.panel if usable else self.blank)
        self.strips.setVisible(step.strip is not None and usable)
        if step.strip is not None:
            self.strips.setCurrentWidget(step.strip)
            self.strips.setFixedHeight(step.strip_height)
        self.log.setVisible(step.has_log and self.session.has_part)
        if usable:
            step.enter()
        self.session.derived.touch()
        self.refresh()

    def _main_act(self) -> None:
        acts = self._verdict().acts
        if acts and acts[0].enabled and not self.session.worker.busy_with:
            acts[0].do()

    def _escape(self) -> None:
        if self.card.isVisible():
            self.card.hide()
            self.stage.setFocus()
        elif self.session.worker.waiting_names:
            self.session.worker.cancel()

    def _open_part(self, part_id: int) -> None:
        workspace = self.session.workspace
        if workspace.part is None or workspace.part.id != part_id:
            workspace.open(part_id)

    def _on_opened(self) -> None:
        part = self.session.workspace.part
        if part is not None:
            self.settings.setValue("part", part.id)
        self.take("Part")

    def _picked(self, face: int, at: QPointF) -> None:
        facts = self.session.view.facts if self.session.has_part else None
        if face < 0 or facts is None or not self.current.takes_places:
            self.card.hide()
            return
        f = feature_of_face(facts.mesh, facts.features, face)
        self.session.pick(f.id)
        if self.current.pointed_at(self.stage.point_on(facts.mesh.triangles[face], at)):
            self.card.hide()
        else:
            self._show_card(f, at)

    def _show_card(self, f: Feature, at: QPointF) -> None:
        self.card.show_for(f, self.session.view.part.marks.get(f.id), at)

    def _next_feature(self, by: int) -> None:
        facts = self.session.view.facts if self.session.has_part else None
        if facts is None or not facts.features:
            return
        ids, picked = [f.id for f in facts.features], self.session.picked
        here = ids.index(picked) if picked in ids else -1 if by > 0 else 0
        self.session.pick(ids[(here + by) % len(ids)])

    def _card_for_picked(self) -> None:
        facts, f = self.session.view.facts if self.session.has_part else None, self.session.feature(self.session.picked)
        if f is not None and facts is not None:
            self._show_card(f, self.stage.to_screen(facts.mesh.triangles[f.faces[0]].mean(axis=0)))

    # What is shown

    def _soon(self) -> None:
        """Many changes in one turn of the loop make one refresh."""
        self._refresh_timer.start()

    def _verdict(self) -> Verdict:
        if self._usable:
            return self.current.verdict()
        return Verdict("Open a part first.", acts=(Act("Open a part …", self.part_step.ask_file),))

    def _standing(self, step: Step) -> Standing:
        if self.session.has_part or not step.needs_part:
            return step.standing()
        return Standing(Mark.OPEN, "No part yet.")

    def refresh(self) -> None:
        """Show everything again; nothing is asked for here."""
        self.header.refresh()
        if self._usable:
            self.current.refresh()
        self.core.put({n: self._standing(s) for n, s in self.steps.items()}, self.current.name)
        self.verdict_line.put(self._verdict())
        self._show_progress("", self._share)
        self._show_log()
        self._show_stage()

    def _show_log(self) -> None:
        if not self.current.has_log or not self.session.has_part:
            return
        view, nothing = self.session.view, np.zeros(0)
        told = view.get(nodes.SUPPORTS).fresh
        if told is not None:
            self.log.tell(told.notes, told.heights, told.free, told.seconds)
        else:
            self.log.tell((), nothing, nothing, nothing)
        detail, plain = view.get(nodes.DETAIL), view.get(nodes.PLAIN_LOG).fresh
        ranked = view.ranked.shown
        target = ranked.ranking.target if ranked is not None else 2.0
        if detail.fresh is not None and view.part.loaded:
            self.log.put(detail.fresh.log, target, False)
        elif self.current.name == "Lay" and view.part.loaded and detail.shown is not None:
            self.log.put(detail.shown.log, target, True)
        else:
            self.log.put(plain, 2.0, False)

    def _show_stage(self) -> None:
        scene = self.current.scene() if self._usable else Scene()
        if self.current.has_log and self.current.name == "Lay" and self.log.log is not None and self.session.has_part:
            scene = replace(scene, cursor=self.log.cursor_mm, opened=self.log.open_here.isChecked())
        self.stage.show_scene(scene)

    def _progress(self, name: str, share: float, words: str) -> None:
        self._share = share
        self._show_progress(words, share)

    def _show_progress(self, words: str, share: float) -> None:
        """What runs that a person waits for; a page tells of its own small work itself."""
        name = self.session.worker.busy_with
        node = nodes.BY_NAME.get(name)
        doing = _ONCE.get(name, "") if node is None else node.doing
        if doing:
            self.verdict_line.show_progress(f"{doing}: {words} …" if words else doing, share)
        else:
            self.verdict_line.show_progress("", 0)

    def say(self, words: str, details: str = "") -> None:
        """A sentence for the person, on the stage, gone after a while; ``details`` are there to be copied."""
        self.note.setParent(self.centre.currentWidget())
        self.note.move(20, 58)
        self.note.say(words, details, min(520, max(self.centre.width() - 60, 200)))

    def _dress(self) -> None:
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setPalette(look.palette())
            app.setStyleSheet(look.sheet())
        self.note.dress()
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
        self.settings.setValue("window", self.saveGeometry())
        self.settings.setValue("lamp", "true" if look.lamp else "false")
        self.session.close()
        super().closeEvent(e)
