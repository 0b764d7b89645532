"""The workshop: jobs, parts, printers, spools, measurements and prints, kept as they are edited.

Every method that changes something is one transaction. Records go in and come
out; no row leaves this room.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TypeVar

import numpy as np
from pydantic import TypeAdapter
from sqlalchemy import func, select, update
from sqlalchemy.exc import DBAPIError, IntegrityError
from sqlalchemy.orm import Session

from knollside.core.job.file import PrinterFacts
from knollside.core.material.own import OwnCard
from knollside.core.mesh.load import MAX_TRIANGLES
from knollside.core.model import BreakTest, Duty, GapTrial, Mate, Measurement, Mesh, Recipe, Refused, Way
from knollside.store.opening import Lock, open_engine
from knollside.store.tables import (
    DocumentRow,
    GapTrialRow,
    JobRow,
    MeasurementRow,
    MeshRow,
    OwnCardRow,
    PartRow,
    PrinterRow,
    PrintRow,
    RevisionRow,
    SpoolRow,
)

_Taken = TypeVar("_Taken", Measurement, GapTrial)
_MATES: TypeAdapter[tuple[Mate, ...]] = TypeAdapter(tuple[Mate, ...])


@dataclass(frozen=True)
class PartName:
    id: int
    job_id: int
    job: str
    name: str


@dataclass(frozen=True)
class Spool:
    id: int
    name: str
    material: str
    grams_left: float
    dry: bool


@dataclass(frozen=True)
class PartDoc:
    """A part as stored: its current mesh and every edited record."""

    id: int
    job: str
    name: str
    revision: int
    revision_note: str
    mesh: Mesh
    mesh_hash: str
    duty: Duty
    recipe: Recipe
    way: Way | None
    mates: tuple[Mate, ...]
    material: str
    printer_id: int | None
    spool_id: int | None


@dataclass(frozen=True)
class PrintRecord:
    id: int
    part_id: int | None
    printer_id: int
    material: str
    made: datetime
    estimate_hours: float | None
    actual_hours: float | None
    outcome: str
    broke: BreakTest | None


class Workshop:
    """One workshop file, held open by one window."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock = Lock(path)
        try:
            self._engine = open_engine(path)
        except Refused:
            self._lock.release()
            raise

    def close(self) -> None:
        self._engine.dispose()
        self._lock.release()

    @contextmanager
    def _edit(self) -> Iterator[Session]:
        try:
            with Session(self._engine) as session, session.begin():
                yield session
        except IntegrityError as error:
            raise Refused(f"That name is taken already ({error.orig}).") from None
        except DBAPIError as error:
            reason = str(error.orig)
            raise Refused(
                f"The workshop could not keep this edit ({reason}). What was kept before is safe; is the "
                f"disk full or {self.path.name} read-only?"
            ) from None

    # Parts

    def parts(self) -> list[PartName]:
        with Session(self._engine) as s:
            rows = s.execute(
                select(PartRow, JobRow.name).join(JobRow, JobRow.id == PartRow.job_id).order_by(PartRow.id)
            ).all()
            return [PartName(p.id, p.job_id, job, p.name) for p, job in rows]

    def add_job(self, name: str) -> int:
        with self._edit() as s:
            row = JobRow(name=name)
            s.add(row)
            s.flush()
            return row.id

    def add_part(
        self, job_id: int, name: str, mesh: Mesh, note: str, printer_id: int | None = None, spool_id: int | None = None
    ) -> int:
        with self._edit() as s:
            part = PartRow(job_id=job_id, name=name, printer_id=printer_id, spool_id=spool_id)
            s.add(part)
            s.flush()
            s.add(RevisionRow(part_id=part.id, number=1, mesh_hash=_keep_mesh(s, mesh), note=note))
            return part.id

    def remove_part(self, part_id: int) -> None:
        with self._edit() as s:
            row = s.get(PartRow, part_id)
            if row is not None:
                s.delete(row)

    def part(self, part_id: int) -> PartDoc:
        with Session(self._engine) as s:
            row = s.get(PartRow, part_id)
            if row is None:
                raise Refused("That part is no longer in the workshop.")
            job = s.get(JobRow, row.job_id)
            newest = s.scalars(
                select(RevisionRow).where(RevisionRow.part_id == part_id).order_by(RevisionRow.number.desc()).limit(1)
            ).one()
            body = {d.kind: d.body for d in s.scalars(select(DocumentRow).where(DocumentRow.part_id == part_id))}
            spool = s.get(SpoolRow, row.spool_id) if row.spool_id else None
            return PartDoc(
                row.id,
                job.name if job else "",
                row.name,
                newest.number,
                newest.note,
                _read_mesh(s, newest.mesh_hash),
                newest.mesh_hash,
                Duty.model_validate_json(body["duty"]) if "duty" in body else Duty(),
                Recipe.model_validate_json(body["recipe"]) if "recipe" in body else Recipe(),
                Way.model_validate_json(body["way"]) if body.get("way", "null") != "null" else None,
                _MATES.validate_json(body["mates"]) if "mates" in body else (),
                body.get("material", spool.material if spool else "PETG"),
                row.printer_id,
                row.spool_id,
            )

    def put_document(self, part_id: int, kind: str, value: object) -> None:
        """Keep one edited record: kind is duty, recipe, way, mates or material."""
        if kind == "mates":
            body = _MATES.dump_json(value).decode()  # type: ignore[arg-type]
        elif kind == "material":
            body = str(value)
        else:
            body = "null" if value is None else value.model_dump_json()  # type: ignore[attr-defined]
        with self._edit() as s:
            s.merge(DocumentRow(part_id=part_id, kind=kind, body=body))

    def put_machine(self, part_id: int, printer_id: int | None, spool_id: int | None) -> None:
        with self._edit() as s:
            row = s.get(PartRow, part_id)
            if row is not None:
                row.printer_id, row.spool_id = printer_id, spool_id

    def add_revision(self, part_id: int, mesh: Mesh, note: str) -> int:
        with self._edit() as s:
            last = s.scalar(select(func.max(RevisionRow.number)).where(RevisionRow.part_id == part_id)) or 0
            s.add(RevisionRow(part_id=part_id, number=last + 1, mesh_hash=_keep_mesh(s, mesh), note=note))
            return last + 1

    def drop_revision(self, part_id: int, number: int) -> None:
        """Undo of :meth:`add_revision`."""
        with self._edit() as s:
            for row in s.scalars(
                select(RevisionRow).where(RevisionRow.part_id == part_id, RevisionRow.number == number)
            ):
                s.delete(row)

    # Machines

    def add_printer(self, facts: PrinterFacts) -> int:
        with self._edit() as s:
            row = PrinterRow(name=facts.name, facts=facts.model_dump_json())
            s.add(row)
            s.flush()
            return row.id

    def put_printer(self, printer_id: int, facts: PrinterFacts) -> None:
        with self._edit() as s:
            row = s.get(PrinterRow, printer_id)
            if row is not None:
                row.name, row.facts = facts.name, facts.model_dump_json()

    def remove_printer(self, printer_id: int) -> None:
        """Take a printer away; parts that named it name none. Its readings and prints go with it."""
        with self._edit() as s:
            s.execute(update(PartRow).where(PartRow.printer_id == printer_id).values(printer_id=None))
            row = s.get(PrinterRow, printer_id)
            if row is not None:
                s.delete(row)

    def printers(self) -> dict[int, PrinterFacts]:
        with Session(self._engine) as s:
            return {r.id: PrinterFacts.model_validate_json(r.facts) for r in s.scalars(select(PrinterRow))}

    def add_spool(self, name: str, material: str, grams: float, dry: bool) -> int:
        with self._edit() as s:
            row = SpoolRow(name=name, material=material, grams_left=grams, dry=dry)
            s.add(row)
            s.flush()
            return row.id

    def put_spool(self, spool: Spool) -> None:
        with self._edit() as s:
            row = s.get(SpoolRow, spool.id)
            if row is not None:
                row.name, row.material, row.grams_left, row.dry = (
                    spool.name,
                    spool.material,
                    spool.grams_left,
                    spool.dry,
                )

    def remove_spool(self, spool_id: int) -> None:
        with self._edit() as s:
            s.execute(update(PartRow).where(PartRow.spool_id == spool_id).values(spool_id=None))
            row = s.get(SpoolRow, spool_id)
            if row is not None:
                s.delete(row)

    def spools(self) -> list[Spool]:
        with Session(self._engine) as s:
            return [Spool(r.id, r.name, r.material, r.grams_left, r.dry) for r in s.scalars(select(SpoolRow))]

    # Materials

    def own_cards(self) -> dict[str, OwnCard]:
        """A person's own values, by material."""
        with Session(self._engine) as s:
            return {r.name: OwnCard.model_validate_json(r.body) for r in s.scalars(select(OwnCardRow))}

    def put_own_card(self, name: str, own: OwnCard) -> None:
        with self._edit() as s:
            s.merge(OwnCardRow(name=name, body=own.model_dump_json()))

    # What was learned

    def add_measurement(self, printer_id: int, material: str, taken: datetime, reading: Measurement) -> int:
        with self._edit() as s:
            row = MeasurementRow(printer_id=printer_id, material=material, taken=taken, body=reading.model_dump_json())
            s.add(row)
            s.flush()
            return row.id

    def remove_measurement(self, measurement_id: int) -> None:
        with self._edit() as s:
            row = s.get(MeasurementRow, measurement_id)
            if row is not None:
                s.delete(row)

    def put_measurement(self, measurement_id: int, reading: Measurement) -> None:
        """Change a reading that is kept, as when it is left out."""
        with self._edit() as s:
            row = s.get(MeasurementRow, measurement_id)
            if row is not None:
                row.body = reading.model_dump_json()

    def measurements(self, printer_id: int, material: str) -> list[tuple[int, datetime, Measurement]]:
        return self._taken(MeasurementRow, Measurement, printer_id, material)

    def add_gap_trial(self, printer_id: int, material: str, taken: datetime, trial: GapTrial) -> int:
        with self._edit() as s:
            row = GapTrialRow(printer_id=printer_id, material=material, taken=taken, body=trial.model_dump_json())
            s.add(row)
            s.flush()
            return row.id

    def remove_gap_trial(self, trial_id: int) -> None:
        with self._edit() as s:
            row = s.get(GapTrialRow, trial_id)
            if row is not None:
                s.delete(row)

    def gap_trials(self, printer_id: int, material: str) -> list[tuple[int, datetime, GapTrial]]:
        return self._taken(GapTrialRow, GapTrial, printer_id, material)

    def _taken(
        self, table: type[MeasurementRow] | type[GapTrialRow], record: type[_Taken], printer_id: int, material: str
    ) -> list[tuple[int, datetime, _Taken]]:
        """What was taken of one printer and material, in order."""
        with Session(self._engine) as s:
            rows = s.scalars(
                select(table).where(table.printer_id == printer_id, table.material == material).order_by(table.id)
            )
            return [(r.id, r.taken, record.model_validate_json(r.body)) for r in rows]

    def add_print(self, record: PrintRecord) -> int:
        with self._edit() as s:
            row = PrintRow(
                part_id=record.part_id,
                printer_id=record.printer_id,
                material=record.material,
                made=record.made,
                estimate_hours=record.estimate_hours,
                actual_hours=record.actual_hours,
                outcome=record.outcome,
                broke=record.broke.model_dump_json() if record.broke else None,
            )
            s.add(row)
            s.flush()
            return row.id

    def remove_print(self, print_id: int) -> None:
        with self._edit() as s:
            row = s.get(PrintRow, print_id)
            if row is not None:
                s.delete(row)

    def prints(self, printer_id: int | None = None, material: str | None = None) -> list[PrintRecord]:
        with Session(self._engine) as s:
            query = select(PrintRow).order_by(PrintRow.made)
            if printer_id is not None:
                query = query.where(PrintRow.printer_id == printer_id)
            if material is not None:
                query = query.where(PrintRow.material == material)
            return [
                PrintRecord(
                    r.id,
                    r.part_id,
                    r.printer_id,
                    r.material,
                    r.made,
                    r.estimate_hours,
                    r.actual_hours,
                    r.outcome,
                    BreakTest.model_validate_json(r.broke) if r.broke else None,
                )
                for r in s.scalars(query)
            ]


def _keep_mesh(s: Session, mesh: Mesh) -> str:
    key = mesh.fingerprint()
    if s.get(MeshRow, key) is None:
        raw = np.ascontiguousarray(mesh.vertices, "<f8").tobytes() + np.ascontiguousarray(mesh.faces, "<i8").tobytes()
        s.add(MeshRow(hash=key, corners=len(mesh.vertices), triangles=len(mesh.faces), data=zlib.compress(raw, 3)))
        s.flush()
    return key


def _read_mesh(s: Session, key: str) -> Mesh:
    row = s.get(MeshRow, key)
    if row is None or not 0 < row.triangles <= MAX_TRIANGLES or not 0 < row.corners <= 3 * MAX_TRIANGLES:
        raise Refused("The workshop's copy of this mesh is missing or damaged.")
    size = 24 * (row.corners + row.triangles)
    raw = zlib.decompressobj().decompress(row.data, size + 1)
    if len(raw) != size:
        raise Refused("The workshop's copy of this mesh is damaged.")
    corners = np.frombuffer(raw, "<f8", 3 * row.corners).reshape(-1, 3)
    faces = np.frombuffer(raw, "<i8", 3 * row.triangles, offset=24 * row.corners).reshape(-1, 3)
    mesh = Mesh(corners.astype(np.float64), faces.astype(np.int64))
    if mesh.fingerprint() != key:
        raise Refused("The workshop's copy of this mesh does not match its fingerprint.")
    return mesh
