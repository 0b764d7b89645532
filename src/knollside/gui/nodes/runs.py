"""The run in front: its plates, and their week from a chosen hour on."""

from __future__ import annotations

from datetime import datetime

from knollside.core.job.asked import ask_taken
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.plates import Laid, Plates, Tie, Wanted
from knollside.core.job.questions.week import WeekOf
from knollside.core.job.runfile import goal_of, school_of
from knollside.core.job.running import Planned
from knollside.core.mesh.identity import Names
from knollside.core.model.running import Run
from knollside.core.run.packing import Spacing, Turns
from knollside.core.run.sequence import Head
from knollside.core.run.weeknumbers import Machine
from knollside.gui.derived import Inputs, Node
from knollside.gui.openpart import OpenPart
from knollside.gui.runin import RunIn
from knollside.gui.spoolfacts import filament_of, loaded_on, on_shelf, stored


def plates_of(v: Inputs) -> Plates | None:
    """All copies that are neither printed nor being printed; None for none."""
    return None if v.run is None else v.made("plates of run", (v.run,), lambda: _plates(v.run))  # type: ignore[arg-type]


def _plates(r: RunIn) -> Plates | None:
    run, shelf = r.run, r.shelf
    away = {p for d in run.done if d.state in ("printing", "printed") for p in d.pieces}
    wanted = []
    for piece in run.pieces:
        copies = tuple(k for k in range(1, piece.copies + 1) if (piece.part, k) not in away)
        part = r.members.get(piece.part)
        if part is not None and copies:
            filament = filament_of(part.spool, part.material, shelf)
            wanted.append(_wanted(part, copies, Turns(piece.turns), filament))
    if not wanted:
        return None
    held = tuple(
        (str(h.part), h.copy_number, h.plate, h.x, h.y, h.angle)
        for h in run.held
        if (h.part, h.copy_number) not in away
    )
    logs = [(f.name, shelf.printer_log(n).head) for n, f in shelf.printers.items()]
    heads = tuple((name, Head(*size)) for name, size in logs if size is not None)
    spacing = Spacing(run.clearance, run.edge)
    return Plates(tuple(wanted), spacing, heads, run.one_after_another, held, _ties(run, {s.id for s in shelf.spools}))


def _wanted(part: OpenPart, copies: tuple[int, ...], turns: Turns, filament: str) -> Wanted:
    # A part that was never opened has no names yet: its features are as they are found.
    question = part.question or Part(part.mesh_key, Names(of=part.mesh_hash))
    taken = ask_taken(question, part, part.frame)
    return Wanted(str(part.id), part.name, taken, part.recipe, part.printer, filament, copies, turns)


def keys_of(pieces: tuple[tuple[int, int], ...]) -> tuple[tuple[str, int], ...]:
    return tuple((str(part), copy) for part, copy in pieces)


def _ties(run: Run, spools: set[int]) -> tuple[Tie, ...]:
    """What was said of plates; a spool that is gone ties nothing."""
    return tuple(
        Tie(keys_of(n.pieces), n.name, str(n.spool) if n.spool in spools else "", n.printer) for n in run.notes
    )


def week_of(v: Inputs) -> WeekOf | None:
    """The week from the hour that was chosen on; None before one is, and where nothing is left to print."""
    begin: datetime | None = v.choice(WEEK)
    plates, r = v.question(PLATES), v.run
    if begin is None or not isinstance(plates, Plates) or r is None:
        return None
    run, shelf, held = r.run, r.shelf, loaded_on(r.shelf)
    machines = []
    for number, facts in shelf.printers.items():
        log = shelf.printer_log(number)
        free = aware(r.free.get(number))
        machines.append((facts, Machine(facts.name, held[number], free, log.change_minutes, log.clear_minutes)))
    due = tuple((str(p.part), d) for p in run.pieces if (d := aware(p.due)) is not None)
    return WeekOf(
        plates,
        tuple(machines),
        on_shelf(shelf),
        (),
        due,
        r.presence,
        begin,
        run.days,
        school_of(run.school),
        goal_of(run.goal),
        stored(shelf),
    )


def aware(when: datetime | None) -> datetime | None:
    """A time by this machine's own clock where it names no zone."""
    return when.astimezone() if when is not None and when.tzinfo is None else when


PLATES: Node[Laid] = Node("plates", plates_of, doing="Laying out the plates", of_run=True)
WEEK: Node[Planned] = Node("week", week_of, doing="Planning the week", of_run=True)
