"""The workshop's tables. Documents (duty, recipe, mates ...) are JSON checked on reading."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, LargeBinary, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Root of the tables."""


class MeshRow(Base):
    """A mesh by its fingerprint: little-endian float64 corners and int64 triangles, deflated."""

    __tablename__ = "meshes"
    hash: Mapped[str] = mapped_column(String(64), primary_key=True)
    corners: Mapped[int]
    triangles: Mapped[int]
    data: Mapped[bytes] = mapped_column(LargeBinary)


class JobRow(Base):
    __tablename__ = "jobs"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(120))


class PrinterRow(Base):
    __tablename__ = "printers"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60), unique=True)
    facts: Mapped[str] = mapped_column(Text)


class SpoolRow(Base):
    __tablename__ = "spools"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60))
    material: Mapped[str] = mapped_column(String(40))
    grams_left: Mapped[float]
    dry: Mapped[bool]


class PartRow(Base):
    __tablename__ = "parts"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(String(120))
    printer_id: Mapped[int | None] = mapped_column(ForeignKey("printers.id"))
    spool_id: Mapped[int | None] = mapped_column(ForeignKey("spools.id"))


class RevisionRow(Base):
    """One state of a part's mesh. The newest number is the current one."""

    __tablename__ = "revisions"
    id: Mapped[int] = mapped_column(primary_key=True)
    part_id: Mapped[int] = mapped_column(ForeignKey("parts.id", ondelete="CASCADE"), index=True)
    number: Mapped[int]
    mesh_hash: Mapped[str] = mapped_column(ForeignKey("meshes.hash"))
    note: Mapped[str] = mapped_column(Text)


class DocumentRow(Base):
    """One edited record of a part: duty, recipe, way, mates ..., as JSON."""

    __tablename__ = "documents"
    part_id: Mapped[int] = mapped_column(ForeignKey("parts.id", ondelete="CASCADE"), primary_key=True)
    kind: Mapped[str] = mapped_column(String(20), primary_key=True)
    body: Mapped[str] = mapped_column(Text)


class MeasurementRow(Base):
    """One reading on one printer and material."""

    __tablename__ = "measurements"
    id: Mapped[int] = mapped_column(primary_key=True)
    printer_id: Mapped[int] = mapped_column(ForeignKey("printers.id", ondelete="CASCADE"), index=True)
    material: Mapped[str] = mapped_column(String(40), index=True)
    taken: Mapped[datetime]
    body: Mapped[str] = mapped_column(Text)


class GapTrialRow(Base):
    """One rung of a gap ladder: came free or did not."""

    __tablename__ = "gap_trials"
    id: Mapped[int] = mapped_column(primary_key=True)
    printer_id: Mapped[int] = mapped_column(ForeignKey("printers.id", ondelete="CASCADE"), index=True)
    material: Mapped[str] = mapped_column(String(40), index=True)
    taken: Mapped[datetime]
    body: Mapped[str] = mapped_column(Text)


class PrintRow(Base):
    """One print made: estimate and actual hours, how it came out, and a break if there was one."""

    __tablename__ = "prints"
    id: Mapped[int] = mapped_column(primary_key=True)
    part_id: Mapped[int | None] = mapped_column(ForeignKey("parts.id", ondelete="SET NULL"), index=True)
    printer_id: Mapped[int] = mapped_column(ForeignKey("printers.id", ondelete="CASCADE"), index=True)
    material: Mapped[str] = mapped_column(String(40))
    made: Mapped[datetime]
    estimate_hours: Mapped[float | None]
    actual_hours: Mapped[float | None]
    outcome: Mapped[str] = mapped_column(String(200))
    broke: Mapped[str | None] = mapped_column(Text)


class OwnCardRow(Base):
    """A person's own values of one material, as JSON."""

    __tablename__ = "own_cards"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    body: Mapped[str] = mapped_column(Text)
