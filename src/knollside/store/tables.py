"""The workshop's tables. Documents (duty, recipe, mates ...) are JSON checked on reading; their ``seal`` is a digest of
the text, so that a changed byte is noticed even where it still reads."""

from __future__ import annotations

import math
from datetime import datetime
from typing import Any, ClassVar

from sqlalchemy import Float, ForeignKey, LargeBinary, String, Text, TypeDecorator
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class When(TypeDecorator[datetime]):
    """A point in time as text; one that cannot be read is of the beginning of time, not the end of the list."""

    impl = String(32)
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: object) -> str | None:
        return None if value is None else value.replace(tzinfo=None).isoformat(" ", "microseconds")

    def process_result_value(self, value: object, dialect: object) -> datetime | None:
        try:
            return None if value is None else datetime.fromisoformat(str(value))
        except ValueError:
            return datetime(1970, 1, 1)


class Words(TypeDecorator[str]):
    """Text, whatever damage made of it."""

    impl = Text
    cache_ok = True

    def process_result_value(self, value: object, dialect: object) -> str | None:
        return value.decode("utf-8", "replace") if isinstance(value, bytes) else None if value is None else str(value)


class Number(TypeDecorator[float]):
    """A finite number; nothing where damage left none."""

    impl = Float
    cache_ok = True

    def process_result_value(self, value: object, dialect: object) -> float | None:
        return float(value) if isinstance(value, int | float) and math.isfinite(value) else None


class Base(DeclarativeBase):
    """Root of the tables."""

    type_annotation_map: ClassVar[dict[type, Any]] = {datetime: When, str: Words, float: Number}


class MeshRow(Base):
    """A mesh by its fingerprint: little-endian float64 corners and int64 triangles, deflated."""

    __tablename__ = "meshes"
    hash: Mapped[str] = mapped_column(Words, primary_key=True)
    corners: Mapped[int]
    triangles: Mapped[int]
    data: Mapped[bytes] = mapped_column(LargeBinary)


class JobRow(Base):
    __tablename__ = "jobs"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(Words)


class PrinterRow(Base):
    __tablename__ = "printers"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(Words, unique=True)
    facts: Mapped[str] = mapped_column(Words)
    seal: Mapped[str | None] = mapped_column(Words)


class SpoolRow(Base):
    __tablename__ = "spools"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(Words)
    material: Mapped[str] = mapped_column(Words)
    grams_left: Mapped[float]
    dry: Mapped[bool]


class PartRow(Base):
    __tablename__ = "parts"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(Words)
    printer_id: Mapped[int | None] = mapped_column(ForeignKey("printers.id"))
    spool_id: Mapped[int | None] = mapped_column(ForeignKey("spools.id"))


class RevisionRow(Base):
    """One state of a part's mesh. The newest number is the current one. ``names`` are its features' lasting ids,
    ``motion`` how the edit that made it can have moved things, both JSON."""

    __tablename__ = "revisions"
    id: Mapped[int] = mapped_column(primary_key=True)
    part_id: Mapped[int] = mapped_column(ForeignKey("parts.id", ondelete="CASCADE"), index=True)
    number: Mapped[int]
    mesh_hash: Mapped[str] = mapped_column(ForeignKey("meshes.hash"))
    note: Mapped[str] = mapped_column(Words)
    names: Mapped[str | None] = mapped_column(Words)
    motion: Mapped[str | None] = mapped_column(Words)


class DocumentRow(Base):
    """One edited record of a part: duty, recipe, way, mates ..., as JSON."""

    __tablename__ = "documents"
    part_id: Mapped[int] = mapped_column(ForeignKey("parts.id", ondelete="CASCADE"), primary_key=True)
    kind: Mapped[str] = mapped_column(Words, primary_key=True)
    body: Mapped[str] = mapped_column(Words)
    seal: Mapped[str | None] = mapped_column(Words)


class MeasurementRow(Base):
    """One reading on one printer and material."""

    __tablename__ = "measurements"
    id: Mapped[int] = mapped_column(primary_key=True)
    printer_id: Mapped[int] = mapped_column(ForeignKey("printers.id", ondelete="CASCADE"), index=True)
    material: Mapped[str] = mapped_column(Words, index=True)
    taken: Mapped[datetime]
    body: Mapped[str] = mapped_column(Words)
    seal: Mapped[str | None] = mapped_column(Words)


class GapTrialRow(Base):
    """One rung of a gap ladder: came free or did not."""

    __tablename__ = "gap_trials"
    id: Mapped[int] = mapped_column(primary_key=True)
    printer_id: Mapped[int] = mapped_column(ForeignKey("printers.id", ondelete="CASCADE"), index=True)
    material: Mapped[str] = mapped_column(Words, index=True)
    taken: Mapped[datetime]
    body: Mapped[str] = mapped_column(Words)
    seal: Mapped[str | None] = mapped_column(Words)


class PrintRow(Base):
    """One print made: estimate and actual hours, how it came out, a break if there was one, and its details."""

    __tablename__ = "prints"
    id: Mapped[int] = mapped_column(primary_key=True)
    part_id: Mapped[int | None] = mapped_column(ForeignKey("parts.id", ondelete="SET NULL"), index=True)
    printer_id: Mapped[int] = mapped_column(ForeignKey("printers.id", ondelete="CASCADE"), index=True)
    material: Mapped[str] = mapped_column(Words)
    made: Mapped[datetime]
    estimate_hours: Mapped[float | None]
    actual_hours: Mapped[float | None]
    outcome: Mapped[str] = mapped_column(Words)
    broke: Mapped[str | None] = mapped_column(Words)
    seal: Mapped[str | None] = mapped_column(Words)
    details: Mapped[str | None] = mapped_column(Words)
    details_seal: Mapped[str | None] = mapped_column(Words)


class PhotoRow(Base):
    """A picture of a print and its thumbnail, JPEG."""

    __tablename__ = "photos"
    id: Mapped[int] = mapped_column(primary_key=True)
    print_id: Mapped[int] = mapped_column(ForeignKey("prints.id", ondelete="CASCADE"), index=True)
    picture: Mapped[bytes] = mapped_column(LargeBinary)
    thumb: Mapped[bytes] = mapped_column(LargeBinary)


class OwnCardRow(Base):
    """A person's own values of one material, as JSON."""

    __tablename__ = "own_cards"
    name: Mapped[str] = mapped_column(Words, primary_key=True)
    body: Mapped[str] = mapped_column(Words)
    seal: Mapped[str | None] = mapped_column(Words)


class RunningRow(Base):
    """A run, a spool's or printer's log, or the hours somebody is in, as JSON; one of a kind for each owner."""

    __tablename__ = "running"
    kind: Mapped[str] = mapped_column(Words, primary_key=True)
    owner: Mapped[int] = mapped_column(primary_key=True)
    body: Mapped[str] = mapped_column(Words)
    seal: Mapped[str | None] = mapped_column(Words)


class NumberRow(Base):
    """The last number given of a kind of record: one that was taken back is never given to another."""

    __tablename__ = "numbers"
    kind: Mapped[str] = mapped_column(Words, primary_key=True)
    last: Mapped[int]


class SetAsideRow(Base):
    """Something that could not be read, kept as it was, so that the rest opens."""

    __tablename__ = "set_aside"
    id: Mapped[int] = mapped_column(primary_key=True)
    what: Mapped[str] = mapped_column(Words)
    why: Mapped[str] = mapped_column(Words)
    body: Mapped[str] = mapped_column(Words)
    noticed: Mapped[datetime]
