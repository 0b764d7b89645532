"""A plate begun, come out or failed: the run, the spool that it took from, what is loaded and the record of prints, in
one step of undo."""

from __future__ import annotations

from datetime import datetime

from knollside.core.job.questions.plates import Plate
from knollside.core.model import Record, Refused
from knollside.core.model.prints import PartPrint, PrintDetails
from knollside.core.model.running import PlateDone, PlateState, Run, Took
from knollside.core.run.watching import pace_of
from knollside.gui.spoolfacts import filament_of, log_of, put_on
from knollside.gui.workspace import Workspace
from knollside.store.records import PrintRecord, Spool
from knollside.store.running import Log

_OUTCOME: dict[PlateState, str] = {"printed": "came out well", "failed": "failed"}


def done_of(
    plate: Plate,
    state: PlateState,
    printer: str,
    spool: str,
    factor: float,
    now: datetime,
    ends: datetime | None,
    single: bool = False,
) -> PlateDone:
    """A plate's entry in its run. ``spool`` by its number as text, nothing where none is given; ``factor``: hours of
    this printer over the plain estimate, which is in the plate's hours; ``single``: one piece after another."""
    pieces = tuple((int(p.item.part), p.item.copy) for p in plate.placed)
    layers, pace = pace_of(plate.standing, plate.order if single else None)
    return PlateDone(
        pieces=pieces,
        state=state,
        printer=printer,
        title=plate.title[:200],
        filament=plate.filament[:80],
        material=plate.filament.split(" ")[0][:40],
        spool=int(spool) if spool.isdigit() else 0,
        grams=plate.grams,
        hours=plate.hours.value / max(factor, 0.1),
        expected=(plate.hours.value, plate.hours.low, plate.hours.high),
        layers=layers,
        pace=tuple(min(v, 1.0) for v in pace),
        begun=now if state == "printing" else None,
        ended=None if ends is None else ends.astimezone().replace(tzinfo=None, microsecond=0),
    )


def put_down(workspace: Workspace, number: int, run: Run, done: PlateDone, hours: float | None = None) -> None:
    """Keep how far a plate is, and all that follows from it; ``hours`` it took where they are known better than by the
    clock."""
    now = workspace.now()
    ended = done.state != "printing"
    kept = done.model_copy(update={"ended": now if ended else done.ended})
    after = run.model_copy(update={"done": (*(d for d in run.done if d.pieces != done.pieces), kept)})
    changes: list[tuple[Log, int, Record]] = [(Log.RUN, number, after)]
    shelf = workspace.shelf
    printer = shelf.printer_named(done.printer)
    spool = next((s for s in shelf.spools if s.id == done.spool), None) or next(
        (s for s in shelf.spools if filament_of(s, s.material, shelf) == done.filament), None
    )
    if not ended and printer is not None:
        changes += [(Log.PRINTER, n, log) for n, log in put_on(shelf, printer, spool, done.filament).items()]
    if ended and spool is not None and done.grams > 0:
        log_now = log_of(spool, shelf)
        took = Took(at=now, grams=done.grams * _share(done, now, hours), title=done.title[:120])
        changes.append((Log.SPOOL, spool.id, log_now.model_copy(update={"took": (*log_now.took, took)})))
    record = _record(workspace, done, printer, spool, now, hours) if ended else None

    def do() -> None:
        for kind, owner, new in changes:
            workspace.shop.running.put(kind, owner, new)
        if record is not None:
            workspace.shop.learned.add_print(record)

    workspace.push(f"plate {done.state}", do)


def ran(done: PlateDone, now: datetime) -> float:
    """Hours since a plate was begun."""
    return 0.0 if done.begun is None else (now - done.begun).total_seconds() / 3600 + done.ahead


def _share(done: PlateDone, now: datetime, hours: float | None) -> float:
    """Of its grams, what it took: a failed one as much as the time that it ran."""
    if done.state == "printed" or done.begun is None or done.hours <= 0:
        return 1.0
    whole = done.expected[0] if done.expected is not None else done.hours
    return float(min(max((ran(done, now) if hours is None else hours) / whole, 0.02), 1.0))


def _record(
    workspace: Workspace, done: PlateDone, printer: int | None, spool: Spool | None, now: datetime, hours: float | None
) -> PrintRecord | None:
    """What is kept of a plate that ended; of one with a single kind of part all that it was printed as, too."""
    if printer is None:
        return None
    material = spool.material if spool is not None else done.material
    took = hours if hours is not None else ran(done, now)
    # What was begun and ended within a minute says nothing of hours.
    actual = round(took, 2) if done.state == "printed" and took > 1 / 60 else None
    parts = _parts(done)
    part = parts[0] if len(parts) == 1 else None
    words = f"{_OUTCOME[done.state]}: {done.title}" + (f"; {done.why}" if done.why else "")
    details = details_of_plate(workspace, done, spool)
    return PrintRecord(0, part, printer, material, now, round(done.hours, 2), actual, words[:200], None, details)


def details_of_plate(workspace: Workspace, done: PlateDone, spool: Spool | None) -> PrintDetails:
    """What is kept of a plate that ended: what its part was printed as, or each of several."""
    told: dict[str, object] = {"plate": done.title[:200], "estimate_g": round(done.grams, 1) if done.grams else None}
    if spool is not None:
        told |= {"spool": spool.name[:60], "lot": log_of(spool, workspace.shelf).lot}
    parts = _parts(done)
    each = tuple(e for p in parts if (e := _as_printed(workspace, p)) is not None)
    if len(parts) > 1:
        told |= {"parts": parts, "each": each}
    elif each:
        told |= {"revision": each[0].revision, "recipe": each[0].recipe, "direction": each[0].direction}
    return PrintDetails.model_validate(told)


def _parts(done: PlateDone) -> tuple[int, ...]:
    """Numbers of the parts on a plate, each once."""
    return tuple(sorted({part for part, _ in done.pieces}))


def _as_printed(workspace: Workspace, part: int) -> PartPrint | None:
    """What a part is printed as now; None where it is gone."""
    try:
        doc = workspace.shop.parts.get(part)
    except Refused:
        return None
    way = doc.orientation.direction if doc.orientation is not None else None
    return PartPrint(part=part, revision=doc.revision, recipe=doc.recipe, direction=way)
