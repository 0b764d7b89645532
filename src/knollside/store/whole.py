"""A whole workshop as one open file: a zip of one JSON document and the meshes it names, and back.

``workshop.json`` holds every record in the job file's own words; ``meshes/FINGERPRINT`` a mesh as little-endian float64
corners followed by int64 triangles, with their counts in the document.
"""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, ValidationError

from knollside.core.job.file import Printed
from knollside.core.material.own import OwnCard
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.identity import Names
from knollside.core.mesh.load import MAX_TRIANGLES
from knollside.core.model import (
    DesignCase,
    GapTrial,
    Mate,
    Measurement,
    Mesh,
    Orientation,
    PrinterFacts,
    Recipe,
    Record,
    Refused,
    fault_of,
)
from knollside.core.model.base import When
from knollside.core.model.faults import FaultCase
from knollside.core.model.fitchecks import FitChecks
from knollside.core.model.running import Presence, PrinterLog, Run, SpoolLog
from knollside.core.model.trials import PullStudy, SupportStudy
from knollside.store.meshes import pack
from knollside.store.records import Kind, PrintRecord
from knollside.store.running import Log
from knollside.store.workshop import Workshop

_MOST_JSON = 192 * 2**20
_MOST_RECORDS, _MOST_VALUES = 400_000, 4_000_000
_MOST_MESHES = 20_000
_MOST_PHOTO = 64 * 2**20
PHOTOS, THUMBS = "photos/", "thumb of "
Number = Annotated[int, Field(ge=1, le=2**31)]
Fingerprint = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class KeptMesh(Record):
    corners: int = Field(ge=1, le=3 * MAX_TRIANGLES)
    triangles: int = Field(ge=1, le=MAX_TRIANGLES)


class KeptRevision(Record):
    number: Number
    note: str = Field("", max_length=4000)
    mesh: Fingerprint
    names: Names | None = None
    motion: Motion | None = None


class KeptPart(Record):
    id: Number
    job: Number
    name: str = Field(max_length=120)
    printer: Number | None = None
    spool: Number | None = None
    revisions: tuple[KeptRevision, ...] = Field(min_length=1, max_length=100_000)
    design_case: DesignCase | None = Field(None, alias="duty")
    recipe: Recipe | None = None
    orientation: Orientation | None = Field(None, alias="way")
    mates: tuple[Mate, ...] | None = None
    material: str | None = Field(None, max_length=40)


class KeptSpool(Record):
    id: Number
    name: str = Field(max_length=60)
    material: str = Field(max_length=40)
    grams_left: float
    dry: bool


class KeptReading(Record):
    printer: Number
    material: str = Field(max_length=40)
    taken: When
    reading: Measurement


class KeptTrial(Record):
    printer: Number
    material: str = Field(max_length=40)
    taken: When
    trial: GapTrial


class KeptPrint(Record):
    printer: Number
    part: Number | None = None
    made: When
    printed: Printed
    photos: tuple[str, ...] = Field((), max_length=200)  # names of entries under photos/


class Whole(Record):
    """Every record of a workshop."""

    format: Literal["knollside-workshop-1"] = "knollside-workshop-1"
    meshes: dict[Fingerprint, KeptMesh] = Field(default_factory=dict, max_length=_MOST_MESHES)
    jobs: dict[Number, str] = Field(default_factory=dict)
    printers: dict[Number, PrinterFacts] = Field(default_factory=dict)
    spools: tuple[KeptSpool, ...] = ()
    own_cards: dict[str, OwnCard] = Field(default_factory=dict)
    parts: tuple[KeptPart, ...] = ()
    readings: tuple[KeptReading, ...] = ()
    trials: tuple[KeptTrial, ...] = ()
    prints: tuple[KeptPrint, ...] = ()
    runs: dict[Number, Run] = Field(default_factory=dict)
    spool_logs: dict[Number, SpoolLog] = Field(default_factory=dict)
    printer_logs: dict[Number, PrinterLog] = Field(default_factory=dict)
    presence: Presence | None = None
    studies: dict[int, PullStudy] = Field(default_factory=dict, max_length=2000)
    gaps: dict[int, SupportStudy] = Field(default_factory=dict, max_length=2000)
    faults: dict[int, FaultCase] = Field(default_factory=dict, max_length=20_000)
    fit_checks: dict[int, FitChecks] = Field(default_factory=dict, max_length=20_000)


def whole_bytes(shop: Workshop) -> bytes:
    """All of a workshop as one file. Raises :class:`Refused` where a mesh cannot be read."""
    told, raw = gathered(shop)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("workshop.json", json.dumps(told.model_dump(mode="json", exclude_defaults=True), indent=1))
        for name, data in raw.items():
            archive.writestr(name if name.startswith(PHOTOS) else f"meshes/{name}", data)
    return out.getvalue()


def gathered(shop: Workshop) -> tuple[Whole, dict[str, bytes]]:
    """Every record of a workshop, and its meshes' bytes by fingerprint."""
    jobs, parts = {}, []
    meshes: dict[str, Mesh] = {}
    for p in shop.parts.names():
        jobs[p.job_id] = p.job
        doc = shop.parts.get(p.id)
        known = {k.field: shop.parts.document(p.id, k) is not None for k in Kind}
        revisions = []
        for r in shop.parts.revisions(p.id):
            if r.mesh_hash not in meshes:
                meshes[r.mesh_hash] = shop.parts.mesh(r.mesh_hash)
            revisions.append(
                KeptRevision(number=r.number, note=r.note[:4000], mesh=r.mesh_hash, names=r.names, motion=r.motion)
            )
        stored: dict[str, Any] = {k: getattr(doc, k) for k, there in known.items() if there}
        parts.append(
            KeptPart(
                id=p.id,
                job=p.job_id,
                name=p.name,
                printer=doc.printer_id,
                spool=doc.spool_id,
                revisions=tuple(revisions),
                **stored,
            )
        )
    printers = shop.machines.printers()
    readings, trials = _taken(shop, list(printers))
    photos, pictures = _photos(shop)
    told = Whole(
        meshes={k: KeptMesh(corners=len(m.vertices), triangles=len(m.faces)) for k, m in meshes.items()},
        jobs=jobs,
        printers=printers,
        spools=tuple(
            KeptSpool(id=s.id, name=s.name, material=s.material, grams_left=s.grams_left, dry=s.dry)
            for s in shop.machines.spools()
        ),
        own_cards=shop.machines.own_cards(),
        parts=tuple(parts),
        readings=readings,
        trials=trials,
        prints=tuple(
            KeptPrint(printer=r.printer_id, part=r.part_id, made=r.made, printed=r.printed, photos=photos.get(r.id, ()))
            for r in shop.learned.prints()
        ),
        runs=shop.running.runs(),
        spool_logs=shop.running.spool_logs(),
        printer_logs=shop.running.printer_logs(),
        presence=shop.running.presence(),
        studies=shop.running.studies(),
        gaps=shop.running.gaps(),
        faults=shop.running.faults(),
        fit_checks=shop.running.fit_checks(),
    )
    return told, {k: _raw(m) for k, m in meshes.items()} | pictures


def _photos(shop: Workshop) -> tuple[dict[int, tuple[str, ...]], dict[str, bytes]]:
    """Names of each print's pictures, and the pictures by their names."""
    names: dict[int, tuple[str, ...]] = {}
    pictures: dict[str, bytes] = {}
    for r in shop.learned.prints():
        mine = [shop.learned.photo(n) for n, _ in shop.learned.thumbs(r.id)]
        told = [(f"{PHOTOS}{r.id}-{k + 1}.jpg", p.picture) for k, p in enumerate(mine) if p is not None]
        if told:
            names[r.id] = tuple(n for n, _ in told)
            pictures |= dict(told)
    return names, pictures


def _taken(shop: Workshop, printers: list[int]) -> tuple[tuple[KeptReading, ...], tuple[KeptTrial, ...]]:
    readings, trials = [], []
    for printer, material in shop.learned.places():
        if printer in printers:
            for _, taken, m in shop.learned.measurements(printer, material):
                readings.append(KeptReading(printer=printer, material=material, taken=taken, reading=m))
            for _, taken, t in shop.learned.gap_trials(printer, material):
                trials.append(KeptTrial(printer=printer, material=material, taken=taken, trial=t))
    return tuple(readings), tuple(trials)


def _raw(mesh: Mesh) -> bytes:
    return np.ascontiguousarray(mesh.vertices, "<f8").tobytes() + np.ascontiguousarray(mesh.faces, "<i8").tobytes()


# All that the library raises at an archive that is not what it says, a torn directory or a bad stream included.
DAMAGED_ZIP = (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, OSError, ValueError, zlib.error)


def parse_whole(data: bytes, name: str) -> tuple[Whole, dict[str, bytes]]:
    """A whole workshop from a file's bytes; to be called in the reading process. Raises :class:`Refused`."""
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        infos = {i.filename: i for i in archive.infolist()}
        if "workshop.json" not in infos or infos["workshop.json"].file_size > _MOST_JSON:
            raise Refused(
                f"{name} is no workshop: it has no workshop.json of at most the limit of {_MOST_JSON // 2**20} MB."
            )
        text = archive.read("workshop.json")
        # Counted before anything is built: a small archive may unpack to millions of records.
        if text.count(b"{") > _MOST_RECORDS or text.count(b",") > _MOST_VALUES:
            raise Refused(f"{name} holds more than the limit of {_MOST_RECORDS:,} records or {_MOST_VALUES:,} values.")
        told = Whole.model_validate_json(text)
        raw = {}
        for key, kept in told.meshes.items():
            size = 24 * (kept.corners + kept.triangles)
            info = infos.get(f"meshes/{key}")
            if info is None or info.file_size != size:
                raise Refused(f"{name}: the mesh {key[:12]} is missing or not of its size.")
            raw[key] = archive.read(info)
            _checked(mesh_of(raw[key], kept), key, name)
        for photo in (p for x in told.prints for p in x.photos):
            info = infos.get(photo)
            if not photo.startswith(PHOTOS) or info is None or info.file_size > _MOST_PHOTO:
                raise Refused(f"{name}: the picture {photo[:60]} is missing or too large.")
            raw[photo] = archive.read(info)
    except ValidationError as error:
        raise Refused(f"{name}: {fault_of(error)}.") from None
    except DAMAGED_ZIP:
        raise Refused(f"{name} is no workshop file, or is damaged.") from None
    return told, raw


def mesh_of(raw: bytes | memoryview, kept: KeptMesh) -> Mesh:
    corners = np.frombuffer(raw, "<f8", 3 * kept.corners).reshape(-1, 3)
    faces = np.frombuffer(raw, "<i8", 3 * kept.triangles, offset=24 * kept.corners).reshape(-1, 3)
    return Mesh(corners.astype(np.float64), faces.astype(np.int64))


def _checked(mesh: Mesh, key: str, name: str) -> None:
    inside = len(mesh.faces) and mesh.faces.min() >= 0 and mesh.faces.max() < len(mesh.vertices)
    if not inside or not np.isfinite(mesh.vertices).all() or mesh.fingerprint() != key:
        raise Refused(f"{name}: the mesh {key[:12]} is damaged.")


def fill(path: Path, told: Whole, raw: dict[str, bytes]) -> None:
    """A new workshop file with all of it, under the same numbers. Raises :class:`Refused`."""
    shop = Workshop(path)
    try:
        with shop.together():
            _put(shop, told, raw)
    finally:
        shop.close()


def _put(shop: Workshop, told: Whole, raw: dict[str, bytes]) -> None:
    packed = {k: pack(mesh_of(raw[k], kept)) for k, kept in told.meshes.items()}
    for number, name in told.jobs.items():
        shop.parts.add_job(name, number)
    for number, facts in told.printers.items():
        shop.machines.add_printer(facts, number)
    for s in told.spools:
        shop.machines.add_spool(s.name, s.material, s.grams_left, s.dry, s.id)
    for name, card in told.own_cards.items():
        shop.machines.put_own_card(name, card)
    for p in told.parts:
        first, *later = sorted(p.revisions, key=lambda r: r.number)
        at = p.job, p.name, packed[first.mesh], first.note
        shop.parts.add(*at, p.printer, p.spool, part_id=p.id, names=first.names)
        for r in later:
            shop.parts.add_revision(p.id, packed[r.mesh], r.note, r.motion, r.names, r.number)
        for kind in Kind:
            value = getattr(p, kind.field)
            if value is not None:
                shop.parts.put(p.id, kind, value)
    for m in told.readings:
        shop.learned.add_measurements(m.printer, m.material, _plain(m.taken), [m.reading])
    for t in told.trials:
        shop.learned.add_gap_trials(t.printer, t.material, _plain(t.taken), [t.trial])
    for x in told.prints:
        hours = x.printed.estimate_hours, x.printed.actual_hours
        made = _plain(x.made)
        place = (0, x.part, x.printer, x.printed.material, made, *hours)
        row = shop.learned.add_print(PrintRecord(*place, x.printed.outcome, x.printed.broke, x.printed.details))
        for photo in x.photos:
            shop.learned.add_photo(row, raw[photo], raw[f"{THUMBS}{photo}"])
    _put_running(shop, told)


def _put_running(shop: Workshop, told: Whole) -> None:
    kept: tuple[tuple[Log, Mapping[int, Record]], ...] = (
        (Log.RUN, told.runs),
        (Log.SPOOL, told.spool_logs),
        (Log.PRINTER, told.printer_logs),
        (Log.PRESENCE, {} if told.presence is None else {0: told.presence}),
        (Log.STUDY, told.studies),
        (Log.GAPS, told.gaps),
        (Log.FAULT, told.faults),
        (Log.FIT_CHECKS, told.fit_checks),
    )
    for kind, records in kept:
        for owner, record in records.items():
            shop.running.put(kind, owner, record)


def _plain(when: datetime) -> datetime:
    return when.replace(tzinfo=None)
