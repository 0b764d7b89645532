"""A plate begun, come out or failed: the run, the spool that it took from, what is loaded and the record of prints, in
one step of undo."""

from __future__ import annotations

from datetime import datetime

from knollside.core.job.questions.plates import Plate
from knollside.core.model import Record
from knollside.core.model.running import PlateDone, PlateState, PrinterLog, Run, Took
from knollside.gui.spoolfacts import filament_of, log_of
from knollside.gui.workspace import Workspace
from knollside.store.records import PrintRecord
from knollside.store.running import Log

_OUTCOME: dict[PlateState, str] = {"printed": "came out well", "failed": "failed"}


def done_of(
    plate: Plate, state: PlateState, printer: str, spool: str, factor: float, now: datetime, ends: datetime | None
) -> PlateDone:
    """A plate's entry in its run. ``spool`` by its number as text, nothing where none is given; ``factor``: hours of
    this printer over the plain estimate, which is in the plate's hours."""
    pieces = tuple((int(p.item.part), p.item.copy) for p in plate.placed)
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
        begun=now if state == "printing" else None,
        ended=None if ends is None else ends.astimezone().replace(tzinfo=None, microsecond=0),
    )


def put_down(workspace: Workspace, number: int, run: Run, done: PlateDone) -> None:
    """Keep how far a plate is, and all that follows from it."""
    now = workspace.now()
    ended = done.state != "printing"
    kept = done.model_copy(update={"ended": now if ended else done.ended})
    after = run.model_copy(update={"done": (*(d for d in run.done if d.pieces != done.pieces), kept)})
    changes: list[tuple[Log, int, Record | None, Record]] = [(Log.RUN, number, run, after)]
    shelf = workspace.shelf
    printer = next((n for n, f in shelf.printers.items() if f.name == done.printer), None)
    if not ended and printer is not None:
        log = shelf.printer_logs.get(printer)
        loaded = (log or PrinterLog()).model_copy(update={"loaded": done.filament})
        changes.append((Log.PRINTER, printer, log, loaded))
    spool = next((s for s in shelf.spools if s.id == done.spool), None) or next(
        (s for s in shelf.spools if filament_of(s, s.material, shelf) == done.filament), None
    )
    if ended and spool is not None and done.grams > 0:
        log_now = log_of(spool, shelf)
        took = Took(at=now, grams=done.grams * _share(done, now), title=done.title[:120])
        more = log_now.model_copy(update={"took": (*log_now.took, took)})
        changes.append((Log.SPOOL, spool.id, shelf.spool_logs.get(spool.id), more))
    record = _record(done, printer, spool.material if spool is not None else done.material, now) if ended else None
    put, learned, rows = workspace.shop.running.put, workspace.shop.learned, list[int]()

    def do() -> None:
        for kind, owner, _, new in changes:
            put(kind, owner, new)
        rows[:] = [learned.add_print(record)] if record is not None else []

    def undo() -> None:
        for kind, owner, old, _ in changes:
            put(kind, owner, old)
        for row in rows:
            learned.remove_print(row)

    workspace.push(f"plate {done.state}", do, undo)


def _share(done: PlateDone, now: datetime) -> float:
    """Of its grams, what it took: a failed one as much as the time that it ran."""
    if done.state == "printed" or done.begun is None or done.hours <= 0:
        return 1.0
    ran = (now - done.begun).total_seconds() / 3600
    return float(min(max(ran / done.hours, 0.02), 1.0))


def _record(done: PlateDone, printer: int | None, material: str, now: datetime) -> PrintRecord | None:
    if printer is None:
        return None
    took = (now - done.begun).total_seconds() / 3600 if done.begun is not None and done.state == "printed" else None
    # What was begun and ended within a minute says nothing of hours.
    actual = round(took, 2) if took is not None and took > 1 / 60 else None
    parts = {part for part, _ in done.pieces}
    part = next(iter(parts)) if len(parts) == 1 else None
    words = f"{_OUTCOME[done.state]}: {done.title}"[:200]
    return PrintRecord(0, part, printer, material, now, round(done.hours, 2), actual, words, None)
