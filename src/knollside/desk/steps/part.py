"""Part: what was opened, whether it is sound, and what is on it."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QListWidget, QListWidgetItem

from knollside.core.job.answer import PartFacts
from knollside.core.mesh.check import UNIT_TO_MM
from knollside.core.model import Feature, Mesh
from knollside.desk import tasks
from knollside.desk.instruments.widgets import button, column, heading, label, row, rule, tell
from knollside.desk.stage.scene import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.scenes import base_scene


class PartStep(Step):
    name = "Part"
    has_log = True

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.sound = label("", wrap=True)
        self.size = label("", dim=True, wrap=True)
        self.unit_note = label("", wrap=True)
        self.unit_fix = button("Read it as millimetres", self._fix_unit, main=True)
        self.mend = button("Mend what can be mended", self._mend)
        self.list = QListWidget()
        self.list.setAccessibleName("Features of the part")
        self.list.setStyleSheet(
            "QListWidget { border: none; background: transparent; } QListWidget::item { padding: 4px; }"
        )
        self.list.currentItemChanged.connect(self._take)
        self.count = label("", dim=True)
        self.bodies = label("", wrap=True)
        open_ = button("Open a part …", self.ask_file, tip="STL, OBJ, PLY, 3MF or STEP (Ctrl+O)")
        self.panel = column(
            heading("The mesh", open_),
            self.sound,
            self.size,
            self.bodies,
            self.unit_note,
            row(self.unit_fix, self.mend, stretch=-2),
            rule(),
            heading("What is on it", self.count),
            self.list,
            margins=(16, 10, 16, 10),
        )
        self.panel.layout().setStretch(self.panel.layout().count() - 1, 1)  # type: ignore[union-attr]
        state.work.finished.connect(self._done)

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
            self._open_job(path)
            return
        self.state.work.ask("load", path, tasks.load, path)

    def _open_job(self, path: str) -> None:
        from pathlib import Path

        from knollside.core.job.answer import read_part
        from knollside.core.job.file import read_job
        from knollside.core.mesh.load import load_file
        from knollside.core.model import Refused

        try:
            job = read_job(path)
            mesh = load_file(Path(path).parent / job.mesh).mesh
            self.state.open(self.state.take_job(job, read_part(mesh, job.unit).mesh, Path(path).stem))
        except Refused as refusal:
            self.state.said.emit(str(refusal))

    def _done(self, outcome) -> None:  # type: ignore[no-untyped-def]
        if outcome.name == "load":
            if outcome.refused:
                self.state.said.emit(outcome.refused)
            elif outcome.result is not None:
                self._keep(outcome.result)
        elif outcome.name == "mend":
            if outcome.refused:
                self.state.said.emit(outcome.refused)
            elif outcome.result is not None:
                self.state.new_mesh(outcome.result.mesh, "mended: " + " ".join(outcome.result.account))
                self.state.said.emit(" ".join(outcome.result.account))

    def _keep(self, loaded: tasks.Loaded) -> None:
        shop = self.state.shop
        parts = shop.parts()
        job = parts[-1].job_id if parts else shop.add_job("My job")
        doc = self.state.doc
        printer = doc.printer_id if doc else next(iter(self.state.printers), None)
        spool = doc.spool_id if doc else None
        name = loaded.name.replace("-", " ").replace("_", " ").strip().capitalize()[:100] or "Part"
        part = shop.add_part(job, name, loaded.mesh, f"from a {loaded.kind[1:].upper()} file", printer, spool)
        self.state.open(part)
        if loaded.notes:
            self.state.said.emit(" ".join(loaded.notes))

    # Mending

    def _fix_unit(self) -> None:
        facts: PartFacts | None = self.state.facts
        if facts is None or facts.soundness.unit_suspicion is None:
            return
        unit = facts.soundness.unit_suspicion
        self.state.new_mesh(
            Mesh(facts.mesh.vertices * UNIT_TO_MM[unit], facts.mesh.faces), f"read as {unit}, turned into mm"
        )

    def _mend(self) -> None:
        if self.state.doc is not None:
            self.state.work.ask("mend", self.state.doc.mesh_hash, tasks.mend, self.state.doc.mesh)

    # Showing

    def enter(self) -> None:
        self.state.request_detail()

    def _take(self, item: QListWidgetItem | None, _: object = None) -> None:
        if item is not None:
            name = item.data(Qt.ItemDataRole.UserRole)
            if name and name != self.state.picked:
                self.state.picked = name
                self.state.changed.emit()

    def refresh(self) -> None:
        facts: PartFacts | None = self.state.facts
        for w in (self.unit_fix, self.mend, self.unit_note, self.bodies):
            w.hide()
        if facts is None:
            tell(self.sound, "Reading …" if self.state.doc else "No part yet.")
            self.list.clear()
            return
        s = facts.soundness
        if s.sound:
            tell(self.sound, "Sound: closed, wound one way, right side out.", "good")
        else:
            tell(self.sound, "Not sound. " + " ".join(p.message for p in s.problems), "bad")
            self.mend.show()
        x, y, z = s.size_mm
        bed = self.state.printer.bed_mm
        fits = sorted((x, y))[0] <= min(bed[:2]) and max(x, y) <= max(bed[:2]) and z <= bed[2]
        self.size.setText(
            f"{x:.1f} × {y:.1f} × {z:.1f} mm, {abs(s.volume_mm3) / 1000:.1f} cm³, {s.triangles:,} triangles. "
            f"{'Fits' if fits else 'As drawn it does not fit'} the bed of {self.state.printer.name} "
            f"({bed[0]:.0f} × {bed[1]:.0f} × {bed[2]:.0f})."
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

    def _fill(self, facts: PartFacts) -> None:
        key = (self.state.doc.mesh_hash if self.state.doc else "", len(facts.features))
        if self.list.property("key") != key:
            self.list.setProperty("key", key)
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
        self.count.setText(f"{kinds.get('hole', 0)} holes, {kinds.get('pin', 0)} pins, {kinds.get('flat', 0)} flats")
        for i in range(self.list.count()):
            item = self.list.item(i)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == self.state.picked:
                self.list.blockSignals(True)
                self.list.setCurrentRow(i)
                self.list.blockSignals(False)

    def standing(self) -> Standing:
        facts: PartFacts | None = self.state.facts
        if facts is None:
            return Standing(
                Mark.HALF if self.state.doc else Mark.OPEN, "Reading it." if self.state.doc else "Nothing opened."
            )
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
        facts: PartFacts | None = self.state.facts
        if self.state.doc is None:
            return Verdict(
                "Open a part to begin.",
                "A mesh you made or downloaded: STL, OBJ, PLY, 3MF or STEP.",
                acts=(Act("Open a part …", self.ask_file),),
            )
        if facts is None:
            refused = self.state.answers.refusal("opened", self.state.doc.mesh_hash)
            return Verdict("It could not be read." if refused else "Reading the part.", refused)
        s = facts.soundness
        holes = [f for f in facts.features if f.kind == "hole"]
        if not s.sound:
            return Verdict(
                "Mend the mesh before trusting a number.",
                s.problems[0].message,
                number=str(len(s.problems)),
                unit="faults",
                tone="clay",
                acts=(Act("Mend it", self._mend),),
            )
        if s.unit_suspicion:
            return Verdict(
                f"Is it really in {s.unit_suspicion}?",
                f"As millimetres it would be {max(s.size_mm):.2f} mm long.",
                number="?",
                tone="straw ink",
                acts=(Act(f"It is in {s.unit_suspicion}", self._fix_unit), Act("It is in mm", lambda: self.go("Duty"))),
            )
        body = f"{s.bodies} bodies. " if s.bodies > 1 else ""
        body += (
            f"{len(holes)} round holes and {sum(1 for f in facts.features if f.kind == 'pin')} pins were found; "
            "click one on the stage to say what it is for."
        )
        return Verdict(
            "The mesh is sound.",
            body,
            number=f"{abs(s.volume_mm3) / 1000:.0f}",
            unit="cm³",
            under=(f"{s.triangles:,} triangles",),
            tone="moss",
            source="Diameters have the polygon effect taken out." + "".join(f" {n}" for n in s.notes),
            acts=(Act("Say what it must do", lambda: self.go("Duty")), Act("Open another …", self.ask_file)),
        )

    def scene(self) -> Scene:
        doc = self.state.doc
        if doc is None:
            return Scene()
        return base_scene(
            self.state,
            False,
            doc.name,
            f"Revision {doc.revision}, {doc.revision_note}"[:90],
            legend=("held", "pushed", "mates"),
        )


def _readings(f: Feature) -> str:
    """Both readings of a polygon, and which is believed."""
    if f.readings is None or not f.facets or f.diameter is None:
        return ""
    corner, flat = f.readings
    return f", {f.facets} facets: {corner:.3f} mm at the corners, {flat:.3f} at the flats; {f.diameter:.3f} is believed"
