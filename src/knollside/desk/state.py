"""The open part: what is stored of it, what was derived, and the edits between."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PyQt6.QtCore import pyqtSignal

from knollside.core.job.file import Job, PrinterFacts
from knollside.core.model import Duty, FaceMark, Held, Load, LoadCase, Mate, Mesh, Way
from knollside.desk import fittasks
from knollside.desk.records import Records
from knollside.desk.work import Work
from knollside.store.workshop import Spool, Workshop


class State(Records):
    """The part on the stage."""

    opened = pyqtSignal()

    def __init__(self, shop: Workshop, work: Work) -> None:
        super().__init__(shop, work)
        self.picked: str = ""
        self.answers.changed.connect(self._on_answer)

    # Opening

    def open(self, part_id: int) -> None:
        self.work.cancel()
        self.undo.clear()
        self.answers.clear()
        self.picked = ""
        self.doc = self.shop.part(part_id)
        self._reload_records()
        self.request_part()
        self.opened.emit()
        self.changed.emit()

    def _on_answer(self, name: str) -> None:
        if name == "opened":
            self.request_fits()
        if name == "check board" and self.doc is not None:
            checked = self.answers.fresh("check board", self.build_key)
            if checked is not None:
                self.answers.put("build", self.build_key, checked)
        if name == "trust":
            found = self.answers.fresh("trust", self.lay_key) if self.doc is not None else None
            if found is not None and found[1] is not self.answers.get("lay"):
                self.answers.put("lay", self.lay_key, found[1])  # the grid was refined: its ways take over
        self.changed.emit()

    # Records that go with the part

    @property
    def spool(self) -> Spool | None:
        return next((s for s in self._spools if self.doc is not None and s.id == self.doc.spool_id), None)

    @property
    def spools(self) -> tuple[Spool, ...]:
        return tuple(self._spools)

    @property
    def printers(self) -> dict[int, PrinterFacts]:
        return self._printers

    # Edits: each is one undo step and one transaction

    def edit(self, kind: str, value: Any, text: str) -> None:
        """Replace one stored record (duty, recipe, way, mates, material) under a name for undo."""
        assert self.doc is not None
        before, part = getattr(self.doc, kind), self.doc.id
        if before == value:
            return
        self._push(text, lambda: self._put(part, kind, value), lambda: self._put(part, kind, before))

    def _put(self, part: int, kind: str, value: Any) -> None:
        self.shop.put_document(part, kind, value)
        if self.doc is not None and self.doc.id == part:
            self.doc = replace(self.doc, **{kind: value})
            if kind in ("mates", "way"):
                self.request_fits()
            if kind == "material":
                self._reload_records()
                self.request_fits()
            self.changed.emit()

    def put_machine(self, printer_id: int | None, spool_id: int | None, text: str) -> None:
        assert self.doc is not None
        part, before = self.doc.id, (self.doc.printer_id, self.doc.spool_id)

        def put(printer: int | None, spool: int | None) -> None:
            self.shop.put_machine(part, printer, spool)
            self._machines_changed()

        self._push(text, lambda: put(printer_id, spool_id), lambda: put(*before))

    def put_printer(self, printer_id: int | None, facts: PrinterFacts) -> None:
        """Add a printer (None) or change one. The open part takes a first printer at once."""
        part = self.doc.id if self.doc is not None and self.doc.printer_id is None else None
        spool = self.doc.spool_id if self.doc is not None else None
        before, made = self._printers.get(printer_id or 0), [0]

        def do() -> None:
            if printer_id is not None:
                self.shop.put_printer(printer_id, facts)
            else:
                made[0] = self.shop.add_printer(facts)
                if part is not None:
                    self.shop.put_machine(part, made[0], spool)
            self._machines_changed()

        def undo() -> None:
            if printer_id is not None and before is not None:
                self.shop.put_printer(printer_id, before)
            else:
                self.shop.remove_printer(made[0])
            self._machines_changed()

        self._push(f"printer {facts.name}", do, undo)

    def put_spool(self, spool: Spool) -> None:
        """Add a spool (id 0) or change one."""
        before, made = next((s for s in self._spools if s.id == spool.id), None), [0]

        def do() -> None:
            if before is not None:
                self.shop.put_spool(spool)
            else:
                made[0] = self.shop.add_spool(spool.name, spool.material, spool.grams_left, spool.dry)
            self._machines_changed()

        def undo() -> None:
            if before is not None:
                self.shop.put_spool(before)
            else:
                self.shop.remove_spool(made[0])
            self._machines_changed()

        self._push(f"spool {spool.name}", do, undo)

    def _machines_changed(self) -> None:
        if self.doc is not None:
            self.doc = self.shop.part(self.doc.id)
        self._reload_records()
        self.request_fits()
        self.changed.emit()

    def new_mesh(self, mesh: Mesh, note: str) -> None:
        """A new revision of the part; undo takes it away again."""
        assert self.doc is not None
        part = self.doc.id
        number = [0]

        def do() -> None:
            number[0] = self.shop.add_revision(part, mesh, note)
            self._reopen(part)

        def undo() -> None:
            self.shop.drop_revision(part, number[0])
            self._reopen(part)

        self._push(note, do, undo)

    def request_set(self, factor: float) -> None:
        """Scale every part of the open part's job alike; nothing is stored yet."""
        if self.doc is None:
            return
        job = next(p.job_id for p in self.shop.parts() if p.id == self.doc.id)
        parts = tuple((p.id, p.name, self.shop.part(p.id).mesh) for p in self.shop.parts() if p.job_id == job)
        at = parts, factor, self.doc.recipe.line_width, self.printer
        self.work.ask("set", self.doc.mesh_hash, fittasks.scale_set, *at)

    def new_meshes(self, made: tuple[tuple[int, Mesh], ...], note: str) -> None:
        """New revisions of several parts at once; one undo takes them all away again."""
        assert self.doc is not None
        here, numbers = self.doc.id, [0] * len(made)

        def do() -> None:
            for k, (part, mesh) in enumerate(made):
                numbers[k] = self.shop.add_revision(part, mesh, note)
            self._reopen(here)

        def undo() -> None:
            for number, (part, _) in zip(numbers, made, strict=True):
                self.shop.drop_revision(part, number)
            self._reopen(here)

        self._push(note, do, undo)

    def _reopen(self, part: int) -> None:
        self.doc = self.shop.part(part)
        self.request_part()
        self.changed.emit()

    def mark(self, feature: str, mark: FaceMark | None) -> None:
        """Say something of a feature; held, pushed and mates also edit the duty or the mates."""
        assert self.doc is not None
        duty = self.doc.duty
        marks = {k: v for k, v in duty.marks.items() if k != feature}
        held = tuple(h for h in duty.held if h.feature != feature)
        cases = duty.cases
        if mark is not None:
            marks[feature] = mark
        if mark is FaceMark.HELD:
            held = (*held, Held(feature=feature))
        if mark is FaceMark.PUSHED:
            first = cases[0] if cases else LoadCase(name="the load", loads=())
            if all(ld.feature != feature for ld in first.loads):
                first = first.model_copy(update={"loads": (*first.loads, Load(feature=feature, force_N=(0, 0, -50)))})
                cases = (first, *cases[1:])
        elif duty.marks.get(feature) is FaceMark.PUSHED:
            cases = tuple(
                c.model_copy(update={"loads": tuple(ld for ld in c.loads if ld.feature != feature)}) for c in cases
            )
            cases = tuple(c for c in cases if c.loads)
        words = f"{feature.replace('-', ' ')} {mark.value if mark else 'plain again'}"
        self.edit("duty", duty.model_copy(update={"marks": marks, "held": held, "cases": cases}), words)
        if mark is FaceMark.MATES and all(m.feature != feature for m in self.doc.mates):
            from knollside.core.fit.hardware import suggestion

            f = self.facts.feature(feature)
            if f is not None and f.kind in ("hole", "pin") and f.diameter:
                name, fit = suggestion(f.diameter) if f.kind == "hole" else ("as drawn", "as drawn")
                self.edit("mates", (*self.doc.mates, Mate(feature=feature, hardware=name, fit=fit)), f"mate of {words}")

    # The open file

    def as_job(self, mesh_name: str) -> Job:
        assert self.doc is not None
        d = self.doc
        return Job(
            name=d.name,
            mesh=mesh_name,
            material=d.material,
            recipe=d.recipe,
            purpose=d.duty.purpose,
            held=d.duty.held,
            cases=d.duty.cases,
            surroundings=d.duty.surroundings,
            danger=d.duty.danger,
            marks=d.duty.marks,
            treads=d.duty.treads,
            weights=d.duty.weights,
            critical_mm=d.duty.critical_mm,
            way=d.way.direction if d.way else None,
            mates=d.mates,
            measurements=self.readings,
            gap_trials=self.trials,
            breaks=tuple(p.broke for p in self._prints if p.broke),
            printer=self.printer,
        )

    def take_job(self, job: Job, mesh: Mesh, name: str) -> int:
        """A job file becomes a part of the workshop; returns its id."""
        found = list(self.shop.parts())
        job_id = found[-1].job_id if found else self.shop.add_job("My job")
        printer = self.doc.printer_id if self.doc else next(iter(self._printers), None)
        part = self.shop.add_part(job_id, job.name or name, mesh, f"from {name}", printer, None)
        duty: Duty = job.duty()
        for kind, value in (
            ("duty", duty),
            ("recipe", job.recipe),
            ("mates", job.mates),
            ("material", job.material),
            ("way", Way(direction=job.way) if job.way else None),
        ):
            self.shop.put_document(part, kind, value)
        return part
