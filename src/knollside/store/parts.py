"""Parts of the workshop: their documents and the revisions of their mesh."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pydantic import TypeAdapter
from sqlalchemy import select

from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.identity import Names
from knollside.core.model import DesignCase, Mate, Mesh, Orientation, Recipe, Refused
from knollside.store import meshes
from knollside.store.ledger import Ledger, seal_of
from knollside.store.meshes import PackedMesh
from knollside.store.records import Kind, PartDoc, PartName, Revision
from knollside.store.tables import DocumentRow, JobRow, PartRow, PrinterRow, RevisionRow, SpoolRow

_MATES: TypeAdapter[tuple[Mate, ...]] = TypeAdapter(tuple[Mate, ...])
_MOTION: TypeAdapter[Motion] = TypeAdapter(Motion)
USUAL_MATERIAL = "PETG"


def _material(body: str) -> str:
    from knollside.core.material.cards import MATERIALS

    if body not in MATERIALS:
        raise ValueError(f"there is no material '{body[:40]}'")
    return body


_READ: dict[Kind, Callable[[str], Any]] = {
    Kind.DESIGN_CASE: DesignCase.model_validate_json,
    Kind.RECIPE: Recipe.model_validate_json,
    Kind.ORIENTATION: lambda body: None if body == "null" else Orientation.model_validate_json(body),
    Kind.MATES: _MATES.validate_json,
    Kind.MATERIAL: _material,
}
_WORDS = {
    Kind.DESIGN_CASE: "what it must do",
    Kind.RECIPE: "its recipe",
    Kind.ORIENTATION: "the way it lies",
    Kind.MATES: "what goes with it",
    Kind.MATERIAL: "its material",
}


def body_of(kind: Kind, value: object) -> str:
    """A document as it is kept."""
    if kind is Kind.MATES:
        return _MATES.dump_json(value).decode()  # type: ignore[arg-type]
    if kind is Kind.MATERIAL:
        return str(value)
    return "null" if value is None else str(value.model_dump_json())  # type: ignore[attr-defined]


class Parts:
    """Every method that changes something is one transaction, or part of the one it is called in."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger

    def names(self) -> list[PartName]:
        with self._ledger.read() as s:
            rows = s.execute(
                select(PartRow, JobRow.name).join(JobRow, JobRow.id == PartRow.job_id).order_by(PartRow.id)
            ).all()
            return [PartName(p.id, p.job_id, job, p.name) for p, job in rows]

    def add_job(self, name: str, job_id: int | None = None) -> int:
        with self._ledger.edit() as s:
            number = job_id or self._ledger.number(JobRow.id)
            s.add(JobRow(id=number, name=name[:120]))
            s.flush()
            return number

    def add(
        self,
        job_id: int,
        name: str,
        mesh: Mesh | PackedMesh,
        note: str,
        printer_id: int | None = None,
        spool_id: int | None = None,
        part_id: int | None = None,
        names: Names | None = None,
    ) -> int:
        """A new part of a job; ``part_id`` where it comes back under its old number."""
        packed = mesh if isinstance(mesh, PackedMesh) else meshes.pack(mesh)
        with self._ledger.edit() as s:
            number = part_id or self._ledger.number(PartRow.id)
            s.add(PartRow(id=number, job_id=job_id, name=name[:120], printer_id=printer_id, spool_id=spool_id))
            s.flush()
            self.add_revision(number, packed, note, names=names, number=1)
            return number

    def rename(self, part_id: int, name: str) -> None:
        with self._ledger.edit() as s:
            row = s.get(PartRow, part_id)
            if row is not None:
                row.name = name[:120]

    def revisions(self, part_id: int) -> list[Revision]:
        """Every state of a part's mesh, oldest first."""
        with self._ledger.read() as s:
            found = s.scalars(select(RevisionRow).where(RevisionRow.part_id == part_id).order_by(RevisionRow.number))
            rows = [(r.number, r.note, r.mesh_hash, r.names, r.motion) for r in found]
        return [self._revision(f"part {part_id}", r) for r in rows]

    def get(self, part_id: int) -> PartDoc:
        """A part with its documents; what cannot be read of it is as if nothing were said, and told."""
        with self._ledger.read() as s:
            row = s.get(PartRow, part_id)
            if row is None:
                raise Refused("That part is no longer in the workshop.")
            job = s.get(JobRow, row.job_id)
            found = list(
                s.scalars(
                    select(RevisionRow)
                    .where(RevisionRow.part_id == part_id)
                    .order_by(RevisionRow.number.desc())
                    .limit(2)
                )
            )
            if not found:
                raise Refused(f"The mesh of {row.name} is missing from the workshop; restore a copy, or open it anew.")
            bodies = {
                d.kind: (d.body, d.seal) for d in s.scalars(select(DocumentRow).where(DocumentRow.part_id == part_id))
            }
            spool = s.get(SpoolRow, row.spool_id) if row.spool_id else None
            printer = s.get(PrinterRow, row.printer_id) if row.printer_id else None
            stored = (row.id, job.name if job else "", row.name, printer and printer.id, spool and spool.id)
            usual = spool.material if spool else USUAL_MATERIAL
            revisions = [(r.number, r.note, r.mesh_hash, r.names, r.motion) for r in found]
        return self._doc(stored, revisions, bodies, usual)

    def _doc(self, stored: Any, revisions: list[Any], bodies: dict[str, tuple[str, str | None]], usual: str) -> PartDoc:
        part_id, job, name, printer_id, spool_id = stored
        before = len(self._ledger.told)
        got: dict[Kind, Any] = {}
        for kind in Kind:
            if kind.value in bodies:
                what = f"Of {name}, {_WORDS[kind]}"
                made = self._ledger.tried(what, *bodies[kind.value], _READ[kind])
                if made is not None:
                    got[kind] = made
        known = [self._revision(name, r) for r in revisions]
        return PartDoc(
            part_id,
            job,
            name,
            known[0],
            known[1] if len(known) > 1 else None,
            got.get(Kind.DESIGN_CASE, DesignCase()),
            got.get(Kind.RECIPE, Recipe()),
            got.get(Kind.ORIENTATION),
            got.get(Kind.MATES, ()),
            got.get(Kind.MATERIAL, _sure(usual)),
            printer_id,
            spool_id,
            tuple(self._ledger.told[before:]),
        )

    def _revision(self, name: str, row: Any) -> Revision:
        number, note, mesh_hash, names, motion = row
        told = f"Of {name}, revision {number}"
        read = None if names is None else self._ledger.tried(told, names, None, Names.model_validate_json)
        moved = None if motion is None else self._ledger.tried(told, motion, None, _MOTION.validate_json)
        return Revision(number, note, mesh_hash, read, moved)

    def mesh(self, fingerprint: str) -> Mesh:
        """Raises :class:`Refused` where it is missing or damaged."""
        return meshes.unpack(self.packed(fingerprint))

    def packed(self, fingerprint: str) -> PackedMesh:
        with self._ledger.read() as s:
            return meshes.kept(s, fingerprint)

    # Documents

    def document(self, part_id: int, kind: Kind) -> str | None:
        """A document just as it is kept; None where nothing is."""
        with self._ledger.read() as s:
            row = s.get(DocumentRow, (part_id, kind.value))
            return None if row is None else row.body

    def put_document(self, part_id: int, kind: Kind, body: str | None) -> None:
        """Keep a document as it is handed over (see :func:`body_of`); None takes it away."""
        with self._ledger.edit() as s:
            row = s.get(DocumentRow, (part_id, kind.value))
            if body is None:
                if row is not None:
                    s.delete(row)
            elif row is None:
                s.add(DocumentRow(part_id=part_id, kind=kind.value, body=body, seal=seal_of(body)))
            else:
                row.body, row.seal = body, seal_of(body)

    def put(self, part_id: int, kind: Kind, value: object) -> None:
        self.put_document(part_id, kind, body_of(kind, value))

    def put_machine(self, part_id: int, printer_id: int | None, spool_id: int | None) -> None:
        with self._ledger.edit() as s:
            row = s.get(PartRow, part_id)
            if row is not None:
                row.printer_id, row.spool_id = printer_id, spool_id

    # Revisions

    def add_revision(
        self,
        part_id: int,
        mesh: Mesh | PackedMesh,
        note: str,
        motion: Motion | None = None,
        names: Names | None = None,
        number: int | None = None,
    ) -> int:
        """A new state of a part's mesh; its number, one that no other state ever had unless one is given."""
        packed = mesh if isinstance(mesh, PackedMesh) else meshes.pack(mesh)
        with self._ledger.edit() as s:
            at = RevisionRow.part_id == part_id
            made = number or self._ledger.number(RevisionRow.number, at, of=f" of {part_id}")
            moved = None if motion is None else _MOTION.dump_json(motion).decode()
            kept = None if names is None else names.model_dump_json()
            key = meshes.keep(s, packed)
            row = self._ledger.number(RevisionRow.id)
            s.add(RevisionRow(id=row, part_id=part_id, number=made, mesh_hash=key, note=note, motion=moved, names=kept))
            s.flush()
            return made

    def put_note(self, part_id: int, number: int, note: str) -> None:
        """What a revision was made for, in other words."""
        with self._ledger.edit() as s:
            row = s.scalar(select(RevisionRow).where(RevisionRow.part_id == part_id, RevisionRow.number == number))
            if row is not None:
                row.note = note

    def put_names(self, part_id: int, number: int, names: Names) -> None:
        """Keep the names of a revision's features, once they are known."""
        with self._ledger.edit() as s:
            for row in s.scalars(
                select(RevisionRow).where(RevisionRow.part_id == part_id, RevisionRow.number == number)
            ):
                row.names = names.model_dump_json()


def _sure(material: str) -> str:
    try:
        return _material(material)
    except ValueError:
        return USUAL_MATERIAL
