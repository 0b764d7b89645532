"""The open part as it is stored: a frozen snapshot of all that its answers rest on."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime
from functools import cached_property

from knollside.core.job.ask import MeshKey
from knollside.core.job.questions.part import Part
from knollside.core.job.stated import Stated
from knollside.core.material.own import OwnCard
from knollside.core.model import GapTrial, Measurement, PrinterFacts
from knollside.core.model.faults import FaultCase
from knollside.core.model.fitchecks import FitCheck, FitChecks
from knollside.core.model.running import PlateDone, Presence, PrinterLog, Run, SpoolLog
from knollside.core.model.trials import PullStudy, SupportStudy, support_trials_of
from knollside.core.run.beforeprint import Print, changed_since
from knollside.core.run.preflight import Check
from knollside.core.run.upkeep import changed_bond, changed_sizes, doubt_words
from knollside.store.records import PartDoc, PartName, PrintRecord, Spool

Vec = tuple[float, float, float]
DatedReadings = tuple[tuple[int, datetime, Measurement], ...]
DatedTrials = tuple[tuple[int, datetime, GapTrial], ...]


@dataclass(frozen=True)
class Shelf:
    """What the whole workshop has: printers and spools with their logs, a person's own values of materials, runs, the
    hours somebody is in (None: never said), and its parts by name."""

    printers: dict[int, PrinterFacts]
    spools: tuple[Spool, ...]
    own: dict[str, OwnCard]
    runs: dict[int, Run] = field(default_factory=dict)
    spool_logs: dict[int, SpoolLog] = field(default_factory=dict)
    printer_logs: dict[int, PrinterLog] = field(default_factory=dict)
    presence: Presence | None = None
    studies: dict[int, PullStudy] = field(default_factory=dict)
    gaps: dict[int, SupportStudy] = field(default_factory=dict)
    faults: dict[int, FaultCase] = field(default_factory=dict)
    fit_checks: dict[int, FitChecks] = field(default_factory=dict)
    parts: tuple[PartName, ...] = ()

    def printer_named(self, name: str) -> int | None:
        """The number of a printer by its name; None where there is none of it."""
        return next((n for n, f in self.printers.items() if f.name == name), None)

    @property
    def printing(self) -> tuple[tuple[int, PlateDone], ...]:
        """Every plate that prints, with its run's number."""
        return tuple((n, d) for n, run in self.runs.items() for d in run.done if d.state == "printing")

    def printer_log(self, printer: int | None) -> PrinterLog:
        """A printer's log; an empty one where nothing was logged."""
        return self.printer_logs.get(printer or 0, PrinterLog())


@dataclass(frozen=True, kw_only=True)
class OpenPart(Stated):
    """What is stated of the open part, with where it is stored. Nothing here is asked of the worker."""

    doc: PartDoc
    shelf: Shelf
    dated_readings: DatedReadings = ()
    dated_trials: DatedTrials = ()
    records: tuple[PrintRecord, ...] = ()

    @classmethod
    def of(
        cls,
        doc: PartDoc,
        shelf: Shelf,
        readings: DatedReadings = (),
        trials: DatedTrials = (),
        records: tuple[PrintRecord, ...] = (),
    ) -> OpenPart:
        """A part with its printer's records; a reading that does not say its day was printed the day it was kept."""
        dated = tuple((n, w, m if m.on else m.model_copy(update={"on": w.date()})) for n, w, m in readings)
        log = shelf.printer_log(doc.printer_id)
        return cls(
            design_case=doc.design_case,
            recipe=doc.recipe,
            orientation=doc.orientation,
            mates=doc.mates,
            material=doc.material,
            printer=shelf.printers.get(doc.printer_id or 0, PrinterFacts()),
            own=shelf.own,
            readings=tuple(m for _, _, m in dated),
            trials=tuple(t for _, _, t in trials),
            prints=tuple(r.printed for r in records),
            dry_fits=tuple(c for f in shelf.fit_checks.values() for c in f.checks if c.told),
            support_trials=support_trials_of(shelf.gaps, doc.printer_id or 0, doc.material),
            doc=doc,
            shelf=shelf,
            dated_readings=dated,
            today=date.today(),
            changed=changed_sizes(log.events),
            bond_changed=changed_bond(log.events),
            square=log.squared.square if log.true_up and log.squared is not None else None,
            dated_trials=trials,
            records=records,
        )

    @property
    def id(self) -> int:
        return self.doc.id

    @property
    def name(self) -> str:
        return self.doc.name

    @property
    def job(self) -> str:
        return self.doc.job

    @property
    def mesh_hash(self) -> str:
        return self.doc.mesh_hash

    @property
    def mesh_key(self) -> MeshKey:
        return MeshKey(self.doc.mesh_hash)

    @property
    def revision(self) -> int:
        return self.doc.revision

    @property
    def revision_note(self) -> str:
        return self.doc.revision_note

    @property
    def printer_id(self) -> int | None:
        return self.doc.printer_id

    @property
    def spool_id(self) -> int | None:
        return self.doc.spool_id

    @cached_property
    def question(self) -> Part | None:
        """The part under its lasting names; None until they are known."""
        names = self.doc.newest.names
        return None if names is None else Part(self.mesh_key, names)

    @property
    def doubtful(self) -> str:
        """In words, which readings are from before a change of the printer; nothing where none are."""
        events = self.shelf.printer_log(self.printer_id).events
        return doubt_words(events, [m.on for m in self.readings if not m.left_out])

    def changed_checks(self, now: datetime) -> tuple[Check, ...]:
        """What to look at before this print because of what was changed at the printer."""
        if self.printer_id is None:
            return ()
        events = self.shelf.printer_log(self.printer_id).events
        made = [Print(r.made, r.material, not r.outcome.startswith("failed")) for r in self.records]
        return changed_since(events, made, self.material, now)

    @property
    def fit_checks(self) -> tuple[FitCheck, ...]:
        """What its mates did when they were tried dry."""
        kept = self.shelf.fit_checks.get(self.id)
        return kept.checks if kept is not None else ()

    @property
    def spool(self) -> Spool | None:
        return next((s for s in self.shelf.spools if s.id == self.spool_id), None)
