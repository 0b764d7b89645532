"""A part of the workshop as a job file, and back."""

from __future__ import annotations

from datetime import datetime
from typing import Protocol

from knollside.core.job.asked import names_from
from knollside.core.job.file import Job, OlderMesh, Printed, Spooled, write_job
from knollside.core.job.stated import Stated
from knollside.core.mesh.identity import Names, Signature
from knollside.core.model import PrinterFacts, most_kept
from knollside.core.model.fitchecks import FitChecks
from knollside.core.model.trials import SupportStudy, support_trials_of
from knollside.store.meshes import PackedMesh
from knollside.store.records import Kind, PartDoc, PrintRecord, Revision, Spool
from knollside.store.running import Log
from knollside.store.workshop import Workshop

__all__ = ["job_of", "put_job", "write_job"]


class Storable(Protocol):
    """What a job is made of: an open part, or the same without a window."""

    @property
    def doc(self) -> PartDoc: ...

    @property
    def spool(self) -> Spool | None: ...


def job_of(stated: Stated, kept: Storable, mesh: str, older: tuple[tuple[Revision, str], ...] = ()) -> Job:
    """All that the part has; ``mesh`` is the name of its mesh file, ``older`` earlier revisions with theirs."""
    doc, spool = kept.doc, kept.spool
    names = doc.newest.names
    return Job(
        name=doc.name,
        mesh=mesh,
        fingerprint=doc.mesh_hash,
        revision_note=doc.revision_note[:2000],
        features=_signatures(names, False),
        lost=_signatures(names, True),
        design_case=stated.design_case,
        recipe=stated.recipe,
        orientation=stated.orientation,
        mates=stated.mates,
        material=stated.material,
        own_cards=dict(stated.own),
        readings=stated.readings,
        gap_trials=stated.trials,
        support_trials=stated.support_trials[-most_kept(Job, "support_trials") :],
        dry_fits=tuple(c for c in stated.dry_fits if c.material == stated.material)[-most_kept(Job, "dry_fits") :],
        prints=stated.prints,
        printer=stated.printer,
        printer_changed=stated.changed,
        bond_changed=stated.bond_changed,
        square_mm=stated.square,
        spool=None
        if spool is None
        else Spooled(name=spool.name, material=spool.material, grams_left=max(spool.grams_left, 0.0), dry=spool.dry),
        revisions=tuple(
            OlderMesh(
                number=r.number,
                note=r.note[:2000],
                mesh=file,
                fingerprint=r.mesh_hash,
                features=_signatures(r.names, False),
                motion=r.motion,
            )
            for r, file in older
        ),
    )


def _signatures(names: Names | None, lost: bool) -> dict[str, Signature]:
    return {} if names is None else {e.id: e.signature for e in names.entries if e.lost is lost}


def put_job(shop: Workshop, job_id: int, job: Job, name: str, mesh: PackedMesh) -> tuple[int, list[str]]:
    """A job as a new part, in one transaction with all it brings; the part's number, and sentences of what the
    workshop kept as it was. A printer that is there with the same records is used again."""
    told: list[str] = []
    with shop.together():
        printer = _printer(shop, job)
        spool = _spool(shop, job)
        names = names_from(job.features, job.lost, mesh.fingerprint) if job.features else None
        part = shop.parts.add(job_id, job.name or name, mesh, f"from {name}", printer, spool, names=names)
        stored: dict[Kind, object] = {
            Kind.DESIGN_CASE: job.design_case,
            Kind.RECIPE: job.recipe,
            Kind.MATES: job.mates,
            Kind.MATERIAL: job.material,
        }
        if job.orientation is not None:
            stored[Kind.ORIENTATION] = job.orientation
        for kind, value in stored.items():
            shop.parts.put(part, kind, value)
        known = {c for f in shop.running.fit_checks().values() for c in f.checks}
        fresh = tuple(c for c in job.dry_fits if c not in known)
        if fresh:
            shop.running.put(Log.FIT_CHECKS, part, FitChecks(checks=fresh))
        own = shop.machines.own_cards()
        for material, card in job.own_cards.items():
            if material not in own:
                shop.machines.put_own_card(material, card)
            elif own[material] != card:
                told.append(f"The job has values of its own for {material}; yours were kept, so numbers may differ.")
    return part, told


def _printer(shop: Workshop, job: Job) -> int | None:
    """The printer of the job: one that is there and has the same records, else a new one with them."""
    if job.printer == PrinterFacts() and not (job.readings or job.gap_trials or job.support_trials or job.prints):
        return next(iter(shop.machines.printers()), None)
    known = shop.machines.printers()
    for number, facts in known.items():
        mine = job.readings, job.gap_trials, job.support_trials, _undated(job.prints)
        if facts == job.printer and _records(shop, number, job.material) == mine:
            return number
    taken = {facts.name for facts in known.values()}
    name = next(
        n for n in (job.printer.name, *(f"{job.printer.name[:54]} {k}" for k in range(2, 10_000))) if n not in taken
    )
    number = shop.machines.add_printer(job.printer.model_copy(update={"name": name}))
    now = datetime.now()
    shop.learned.add_measurements(number, job.material, now, job.readings)
    shop.learned.add_gap_trials(number, job.material, now, job.gap_trials)
    if job.support_trials:
        study = SupportStudy(printer=number, material=job.material, trials=job.support_trials)
        shop.running.put(Log.GAPS, max(shop.running.gaps(), default=0) + 1, study)
    for p in job.prints:
        made = p.made.replace(tzinfo=None) if p.made is not None else now
        hours = p.estimate_hours, p.actual_hours
        shop.learned.add_print(PrintRecord(0, None, number, p.material, made, *hours, p.outcome, p.broke))
    return number


def _records(shop: Workshop, printer: int, material: str) -> tuple[object, ...]:
    learned = shop.learned
    return (
        tuple(m for _, _, m in learned.measurements(printer, material)),
        tuple(t for _, _, t in learned.gap_trials(printer, material)),
        support_trials_of(shop.running.gaps(), printer, material),
        _undated(tuple(p.printed for p in learned.prints(printer))),
    )


def _undated(prints: tuple[Printed, ...]) -> tuple[Printed, ...]:
    return tuple(p.model_copy(update={"made": None}) for p in prints)


def _spool(shop: Workshop, job: Job) -> int | None:
    if job.spool is None:
        return None
    s = job.spool
    for known in shop.machines.spools():
        if (known.name, known.material, known.grams_left, known.dry) == (s.name, s.material, s.grams_left, s.dry):
            return known.id
    return shop.machines.add_spool(s.name, s.material, s.grams_left, s.dry)
