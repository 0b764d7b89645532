"""Part: what was opened, whether it is sound, and what is on it."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QListWidget, QListWidgetItem

from knollside.core.job.answer import PartFacts
from knollside.core.job.edits import spoken_of
from knollside.core.job.questions.motion import motion_of
from knollside.core.job.revising import bare_places
from knollside.core.mesh.check import UNIT_TO_MM, in_millimetres, overlapping
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.identity import with_said, without
from knollside.core.model import Feature
from knollside.gui import nodes
from knollside.gui.derived import READ, Node
from knollside.gui.fileasks import LoadFile, LoadJob, LoadRevision
from knollside.gui.instruments.widgets import button, column, heading, label, row, rule, tell
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.gui.steps.pointcard import PointCard, PointWish
from knollside.gui.steps.revisioncard import RevisionCard
from knollside.gui.steps.scenes import base_scene, kind_marks
from knollside.gui.viewport.scene import Scene
from knollside.gui.worker import Outcome


class PartStep(Step):
    name = "Part"
    has_log = True
    needs_part = False

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.sound = label("", wrap=True)
        self.size = label("", dim=True, wrap=True)
        self.unit_note = label("", wrap=True)
        self.unit_fix = button("Read it as millimetres", self._fix_unit, main=True)
        self.mend = button("Mend what can be mended", self._mend)
        self.list = QListWidget()
        self.list.setAccessibleName("Features of the part")
        self.list.setWordWrap(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.list.setStyleSheet(
            "QListWidget { border: none; background: transparent; } QListWidget::item { padding: 4px; }"
        )
        self.list.currentItemChanged.connect(self._take)
        self.count = label("", dim=True)
        self.by_kind = QCheckBox("by kind")
        self.by_kind.setChecked(True)
        self.by_kind.setToolTip("The stage shows what each face is of; else what was said of it")
        self.by_kind.toggled.connect(lambda _: session.changed.emit())
        self.point = PointCard(session.changed.emit, self._fit_pointed, self._take_back)
        self.bodies = label("", wrap=True)
        self.revisions = RevisionCard(session, self.ask_revision)
        open_ = button("Open a part …", self.ask_file, tip="STL, OBJ, PLY, 3MF or STEP (Ctrl+O)")
        self.panel = column(
            heading("The mesh", open_),
            self.sound,
            self.size,
            self.bodies,
            self.unit_note,
            row(self.unit_fix, self.mend, stretch=-2),
            self.revisions,
            rule(),
            heading("What is on it", self.count),
            self.by_kind,
            self.list,
            self.point,
            margins=(16, 10, 16, 10),
        )
        self.panel.layout().setStretch(self.panel.layout().count() - 2, 1)  # type: ignore[union-attr]
        self._listed: PartFacts | None = None
        session.derived.changed.connect(self._answered)

    # Getting a part in

    def ask_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self.panel, "Open a part", "", "Parts and jobs (*.stl *.obj *.ply *.3mf *.step *.stp *.json)"
        )
        if path:
            self.open_file(path)

    def open_file(self, path: str) -> None:
        """Read a dropped or chosen file aside; a job file brings its own mesh."""
        if path.lower().endswith(".json"):
            self.session.once("load", LoadJob(Path(path)), self._job_read)
        else:
            self.session.once("load", LoadFile(Path(path)), self._file_read)

    def _file_read(self, outcome: Outcome) -> None:
        if outcome.refused:
            self.workspace.said.emit(outcome.refused)
        elif outcome.result is not None:
            self.workspace.take_in(outcome.result)

    def _job_read(self, outcome: Outcome) -> None:
        if outcome.refused:
            self.workspace.said.emit(outcome.refused)
        elif outcome.result is not None:
            self.workspace.take_job(outcome.result)

    def ask_revision(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self.panel, "A newer file of this part", "", "Parts (*.stl *.obj *.ply *.3mf *.step *.stp)"
        )
        if path:
            self.open_revision(path)

    def open_revision(self, path: str) -> None:
        """Read a newer mesh of the open part aside; it becomes its next revision."""
        part = self.part
        if part.question is not None:
            asked = LoadRevision(Path(path), part.question, bare_places(part.design_case))
            self.session.once("load", asked, partial(self._revised, part.id))

    def _revised(self, part_id: int, outcome: Outcome) -> None:
        if outcome.refused:
            self.workspace.said.emit(outcome.refused)
        elif outcome.result is not None and self.session.has_part and self.part.id == part_id:
            self.workspace.take_revision(outcome.result)

    # Mending

    def _fix_unit(self) -> None:
        facts = self.view.facts
        if facts is None or facts.soundness.unit_suspicion is None:
            return
        unit = facts.soundness.unit_suspicion
        factor = UNIT_TO_MM[unit]
        made = in_millimetres(facts.mesh, unit)
        self.workspace.new_mesh(made, f"read as {unit}, turned into mm", Motion(by=1e-6 * factor, factor=factor))

    def _mend(self) -> None:
        self.session.ask(nodes.MEND)

    def _unite(self) -> None:
        self.session.ask(nodes.UNITE)

    def _answered(self, name: str) -> None:
        """A mended mesh is kept at once: undo takes it back."""
        if name == nodes.POINTED.name and self.session.has_part:
            self._keep_pointed()
            return
        node = next((n for n in (nodes.MEND, nodes.UNITE) if n.name == name), None)
        if node is None or not self.session.has_part:
            return
        answer = self.view.get(node)
        if answer.refusal:
            self.workspace.said.emit(answer.refusal)
        made, read = answer.fresh, self.view.get(READ).fresh
        if made is not None and read is not None:
            self.session.derived.forget(node)
            words = " ".join(made.account)
            self.workspace.new_mesh(made.mesh, f"mended: {words}", motion_of(made, read.facts.mesh))
            self.workspace.said.emit(words)

    # Pointing

    def pointed_at(self, place: tuple[float, float, float]) -> bool:
        """While something is pointed at, a click is one more place of it."""
        if not self.point.aiming or self.view.facts is None:
            return False
        self.session.choose(nodes.POINTED, None)
        self.point.add(place)
        return True

    def _fit_pointed(self, wish: PointWish) -> None:
        self.session.ask(nodes.POINTED, wish)

    def _take_back(self) -> None:
        part, f = self.part, self.session.feature(self.session.picked)
        names = part.doc.newest.names
        if f is None or names is None:
            return
        if f.id in spoken_of(part.design_case, part.mates):
            self.workspace.said.emit(f"{f.title} is held, loaded or has a mate; take that away first.")
            return
        self.session.pick("")
        self.workspace.put_names(without(names, f.id), f"{f.title.lower()} none after all")

    def _keep_pointed(self) -> None:
        """What was fitted is kept at once: undo takes it back."""
        made, names = self.view.get(nodes.POINTED).fresh, self.part.doc.newest.names
        if made is None or names is None:
            return
        self.session.derived.forget(nodes.POINTED)
        self.session.choose(nodes.POINTED, None)
        self.point.done()
        kept, name = with_said(names, made)
        self.workspace.put_names(kept, f"{name.replace('-', ' ')} pointed at")
        self.session.pick(name)
        off = f" Its surface stands off by up to {made.residual:.2f} mm." if (made.residual or 0.0) > 0.005 else ""
        self.workspace.said.emit(f"{replace(made, id=name).title}: {made.size_text}.{off}")

    # Showing

    def needs(self) -> tuple[Node[Any], ...]:
        return (nodes.PLAIN_LOG,)

    def _take(self, item: QListWidgetItem | None, _: object = None) -> None:
        if item is not None:
            name = item.data(Qt.ItemDataRole.UserRole)
            if name and name != self.session.picked:
                self.session.pick(name)

    def refresh(self) -> None:
        for w in (self.unit_fix, self.mend, self.unit_note, self.bodies):
            w.hide()
        self.by_kind.setVisible(self.session.has_part)
        self.point.setVisible(self.session.has_part)
        self.revisions.refresh()
        facts = self.view.facts if self.session.has_part else None
        if facts is None:
            tell(self.sound, "Reading …" if self.session.has_part else "No part yet.")
            self.size.setText("")
            self.count.setText("")
            self.list.clear()
            self._listed = None
            return
        s = facts.soundness
        if s.sound:
            tell(self.sound, "Sound: closed, wound one way, right side out.", "good")
        else:
            tell(self.sound, "Not sound. " + " ".join(p.message for p in s.problems), "bad")
            self.mend.setVisible(not overlapping(s))
        x, y, z = s.size_mm
        bed = self.part.printer.bed_mm
        fits = sorted((x, y))[0] <= min(bed[:2]) and max(x, y) <= max(bed[:2]) and z <= bed[2]
        self.size.setText(
            f"{x:.1f} × {y:.1f} × {z:.1f} mm, {abs(s.volume_mm3) / 1000:.1f} cm³, {s.triangles:,} triangles. "
            f"{'Fits' if fits else 'As drawn it does not fit'} the bed of {self.part.printer.name} "
            f"({bed[0]:.0f} × {bed[1]:.0f} × {bed[2]:.0f})." + "".join(f" {n}" for n in s.notes)
        )
        if s.bodies > 1:
            self.bodies.setText(f"{s.bodies} bodies, kept apart.")
            self.bodies.show()
        if s.unit_suspicion:
            tell(self.unit_note, f"Only {max(s.size_mm):.2f} mm long: was it drawn in {s.unit_suspicion}?", "warn")
            self.unit_fix.setText(f"It is in {s.unit_suspicion}: make it mm")
            self.unit_note.show()
            self.unit_fix.show()
        self._fill(facts)
        picked = facts.feature(self.session.picked)
        pointed = self.view.get(nodes.POINTED)
        self.point.put(pointed.refusal, self.view.waiting(nodes.POINTED), picked is not None and bool(picked.pointed))

    def _fill(self, facts: PartFacts) -> None:
        if self._listed is not facts:
            self._listed = facts
            self.list.blockSignals(True)
            self.list.clear()
            for f in facts.features:
                words = ", ".join(w for w in (f.size_text.strip(), f.relation) if w)
                item = QListWidgetItem(f"{f.title}\n{words}")
                item.setData(Qt.ItemDataRole.UserRole, f.id)
                item.setToolTip(
                    f"{f.kind} at ({f.centre[0]:.1f}, {f.centre[1]:.1f}, {f.centre[2]:.1f}) mm, axis "
                    f"({f.axis[0]:.2f}, {f.axis[1]:.2f}, {f.axis[2]:.2f})" + _readings(f)
                )
                self.list.addItem(item)
            self.list.blockSignals(False)
        kinds: dict[str, int] = {}
        for f in facts.features:
            kinds[f.kind] = kinds.get(f.kind, 0) + 1
        self.count.setText(", ".join(_many(kinds.get(k, 0), k) for k in ("hole", "pin", "flat")))
        for i in range(self.list.count()):
            at = self.list.item(i)
            if at is not None and at.data(Qt.ItemDataRole.UserRole) == self.session.picked:
                self.list.blockSignals(True)
                self.list.setCurrentRow(i)
                self.list.blockSignals(False)

    def standing(self) -> Standing:
        if not self.session.has_part:
            return Standing(Mark.OPEN, "Nothing opened.")
        facts = self.view.facts
        if facts is None:
            refused = self.view.get(READ).refusal
            return Standing(Mark.CRACK, "It could not be read.") if refused else Standing(Mark.HALF, "Reading it.")
        holes = sum(1 for f in facts.features if f.kind == "hole")
        if not facts.soundness.sound:
            return Standing(Mark.CRACK, f"Not sound: {facts.soundness.problems[0].kind}.")
        if facts.soundness.unit_suspicion:
            return Standing(Mark.HALF, "Unit in doubt.")
        return Standing(
            Mark.FULL,
            f"Sound. {holes} hole{'s' if holes != 1 else ''}, "
            f"{facts.soundness.bodies} bod{'ies' if facts.soundness.bodies > 1 else 'y'}.",
        )

    def verdict(self) -> Verdict:
        if not self.session.has_part:
            return Verdict(
                "Open a part to begin.",
                "A mesh you made or downloaded: STL, OBJ, PLY, 3MF or STEP.",
                acts=(Act("Open a part …", self.ask_file),),
            )
        facts = self.view.facts
        if facts is None:
            refused = self.view.get(READ).refusal or self.view.get(nodes.NAMES).refusal
            again = (Act("Try again", lambda: self.session.ask(READ)),) if refused else ()
            return Verdict("It could not be read." if refused else "Reading the part.", refused, acts=again)
        s = facts.soundness
        if not s.sound:
            return Verdict(
                "Mend the mesh before trusting a number.",
                s.problems[0].message,
                number=str(len(s.problems)),
                unit="faults",
                tone="clay",
                acts=(Act("Unite the bodies", self._unite) if overlapping(s) else Act("Mend it", self._mend),),
            )
        if s.unit_suspicion:
            return Verdict(
                f"Is it really in {s.unit_suspicion}?",
                f"As millimetres it would be {max(s.size_mm):.2f} mm long.",
                number="?",
                tone="straw ink",
                acts=(Act(f"It is in {s.unit_suspicion}", self._fix_unit), Act("It is in mm", lambda: self.go("Duty"))),
            )
        return self._sound(facts)

    def _sound(self, facts: PartFacts) -> Verdict:
        s = facts.soundness
        holes = sum(f.kind == "hole" for f in facts.features)
        body = f"{s.bodies} bodies. " if s.bodies > 1 else ""
        pins = sum(1 for f in facts.features if f.kind == "pin")
        found = f"{_many(holes, 'round hole')} and {_many(pins, 'pin')} found"
        body += f"{found}; click one on the stage to say what it is for."
        return Verdict(
            "The mesh is sound.",
            body,
            number=f"{abs(s.volume_mm3) / 1000:.0f}",
            unit="cm³",
            under=(f"{s.triangles:,} triangles",),
            tone="moss",
            source="Diameters have the polygon effect taken out.",
            acts=(Act("Say what it must do", lambda: self.go("Duty")), Act("Open another …", self.ask_file)),
        )

    def scene(self) -> Scene:
        if not self.session.has_part:
            return Scene()
        part = self.part
        words = f"Revision {part.revision}, {part.revision_note}"[:90]
        places = tuple((at, str(k)) for k, at in enumerate(self.point.points, start=1)) if self.point.aiming else ()
        if not self.by_kind.isChecked():
            legend = ("held", "pushed", "mates")
            return base_scene(self.session, False, part.name, words, legend=legend, places=places)
        marks, there = kind_marks(self.session)
        return base_scene(self.session, False, part.name, words, legend=there, marks=marks, places=places)


def _many(count: int, what: str) -> str:
    return f"{count} {what}{'' if count == 1 else 's'}"


def _readings(f: Feature) -> str:
    """Both readings of a polygon, and which is believed."""
    if f.readings is None or not f.facets or f.diameter is None:
        return ""
    corner, flat = f.readings
    return f", {f.facets} facets: {corner:.3f} mm at the corners, {flat:.3f} at the flats; {f.diameter:.3f} is believed"
