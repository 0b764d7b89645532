"""Stored prints with the names of what they belong to, and what is known of the next one before it is kept."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from knollside.core.job.record import Kept, measured_words, recipe_words
from knollside.core.learning.faultnet import CAUSES
from knollside.core.model.faults import FaultCase
from knollside.core.model.prints import PrintDetails
from knollside.gui.openpart import OpenPart, Shelf
from knollside.gui.spoolfacts import log_of
from knollside.store.records import PrintRecord
from knollside.store.workshop import Workshop


def fault_words(case: FaultCase) -> str:
    """What it looked like, what lay behind it, whether that was cured."""
    seen = ", ".join(s.value for s in case.seen) or "not said"
    if case.helped is not None:
        return f"{seen}: {CAUSES[case.helped].words.lower()}, cured"
    tried = [c.cause for c in case.cures]
    return f"{seen}: {CAUSES[tried[-1]].words.lower()}?" if tried else seen


def prints_of(part: int, records: Iterable[PrintRecord]) -> tuple[PrintRecord, ...]:
    """Prints of a part on any printer, also those of a plate with others, in the order they come."""
    return tuple(r for r in records if r.part_id == part or (r.details is not None and part in r.details.parts))


def as_of(record: PrintRecord, part: int) -> PrintRecord:
    """A print as far as one part goes: on a plate with others, with its own recipe."""
    return record if record.details is None else replace(record, details=record.details.of_part(part))


def measured_on(records: Sequence[PrintRecord], shop: Workshop) -> dict[int, tuple[str, ...]]:
    """What was measured of the printer's prints in a print's material on its day, in words, by the print's number."""
    dated = {
        (r.printer_id, r.material): [
            (m.on or taken.date(), m) for _, taken, m in shop.learned.measurements(r.printer_id, r.material)
        ]
        for r in {(r.printer_id, r.material): r for r in records}.values()
    }
    return {
        r.id: measured_words(m for day, m in dated[r.printer_id, r.material] if day == r.made.date()) for r in records
    }


def kept_of(
    records: Iterable[PrintRecord],
    parts: dict[int, str],
    shelf: Shelf,
    measured: Mapping[int, tuple[str, ...]] | None = None,
) -> list[Kept]:
    """Prints with names, in the order they come; ``measured`` as :func:`measured_on` tells it."""
    out = []
    for r in records:
        faults = r.details.faults if r.details is not None else ()
        told = tuple(fault_words(shelf.faults[n]) for n in faults if n in shelf.faults)
        printer = shelf.printers[r.printer_id].name if r.printer_id in shelf.printers else ""
        several = r.details.parts if r.details is not None else ()
        mine = [parts[n] for n in ((r.part_id,) if r.part_id else several) if n in parts]
        out.append(Kept(r.id, ", ".join(mine), printer, r.printed, told, (measured or {}).get(r.id, ())))
    return out


def details_now(part: OpenPart, before: Iterable[PrintRecord], grams: float | None) -> PrintDetails:
    """What a print of the open part, kept now, was printed as; ``before``: every print made before it."""
    spool = part.spool
    mine = prints_of(part.id, before)
    since = max((r.made for r in mine), default=None)
    faults = [
        n for n, c in part.shelf.faults.items() if c.part == part.id and (since is None or c.opened >= since) and c.seen
    ]
    return PrintDetails(
        revision=part.revision,
        recipe=part.recipe,
        direction=part.direction if part.orientation is not None else None,
        spool=spool.name[:60] if spool is not None else "",
        lot=log_of(spool, part.shelf).lot if spool is not None else "",
        estimate_g=round(grams, 1) if grams is not None else None,
        faults=tuple(sorted(faults)),
        why=" ".join(r.words for r in reasons_now(part, mine))[:2000],
    )


@dataclass(frozen=True)
class Reason:
    """Why a print is as it is, in a sentence. ``open``: a setting that was changed, by nothing that is known;
    ``explains``: it says why settings were changed with it, a revision or a cure."""

    words: str
    open: bool = False
    explains: bool = False


def reasons_now(part: OpenPart, before_it: Iterable[PrintRecord]) -> list[Reason]:
    """Why the next print is as it is: what was changed since the last of those before it, and what that rests on."""
    mine = [as_of(r, part.id) for r in before_it]
    mine = [r for r in mine if r.details is not None and r.details.recipe is not None]
    last = mine[-1].details if mine else None
    out = []
    if last is not None and last.revision is not None and part.revision > last.revision and part.revision_note:
        out.append(Reason(f"Revision {part.revision}: {part.revision_note}.", explains=True))
    before = dict(recipe_words(last.recipe)) if last is not None else {}
    for what, now in recipe_words(part.recipe):
        if before and before.get(what) != now:
            by = _by(part, what)
            words = f"{what[0].upper()}{what[1:]} {now}, before {before.get(what, 'not known')}{by}."
            out.append(Reason(words, open=not by))
    since = mine[-1].made if mine else None
    for case in part.shelf.faults.values():
        if case.printer == part.printer_id and case.helped is not None:
            last_cure = case.cures[-1].at
            if since is None or last_cure >= since:
                words = f"{', '.join(s.value for s in case.seen)}: {case.helped.value}, cured."
                out.append(Reason(words.capitalize(), explains=True))
    return out


def asked_why(part: OpenPart, before_it: Iterable[PrintRecord]) -> str:
    """What a person is to be asked of a print that is kept: why its settings were changed, where nothing that is known
    says so; nothing where that is said, or nothing was changed."""
    reasons = reasons_now(part, before_it)
    left = [r.words for r in reasons if r.open]
    if not left or any(r.explains for r in reasons):
        return ""
    what = left[0].rstrip(".")
    return f"Why {what[0].lower()}{what[1:]}? Say it below."


def _by(part: OpenPart, what: str) -> str:
    """What a changed setting rests on."""
    if what == "nozzle" and any(c.over == "nozzle temperature" for c in part.plain_card.bond_curves):
        bars = sum(len(s.pulls) for s in part.shelf.studies.values() if s.material == part.material)
        return f", by {bars} pulled bars" if bars else ", by pull tests"
    return ""
