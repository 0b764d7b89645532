"""``plan`` and ``week``: a run file's parts on plates, and its plates on printers and hours."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from knollside.commands.opened import opened
from knollside.commands.told import Said, range_told
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import ask_taken
from knollside.core.job.questions.plates import Laid, Plate, Plates, Taken, TakenBy, Wanted
from knollside.core.job.questions.week import WeekOf
from knollside.core.job.runfile import RunFile, RunPart, goal_of, read_run, school_of, zone_of
from knollside.core.job.running import act_of, loaded_as, next_act
from knollside.core.model import PrinterFacts, Refused
from knollside.core.run.packing import Spacing, Turns
from knollside.core.run.sequence import Cost, Head
from knollside.core.run.spools import Known, OnShelf, left_on
from knollside.core.run.week import Plan
from knollside.core.run.weeknumbers import Drying, Goal, Machine
from knollside.report.plates import write_plates


@dataclass(frozen=True)
class OpenRun:
    """A run with its parts' questions, the answerer that holds their meshes, and its plates."""

    run: RunFile
    wanted: tuple[Wanted, ...]
    due: Mapping[str, datetime]
    ask: Answerer
    plates: Plates
    laid: Laid

    def taken(self) -> dict[str, Taken]:
        return {w.key: self.ask(w.taken) for w in self.wanted}


def _opened(path: Path) -> OpenRun:
    run, ask = read_run(path), Answerer()
    zone = zone_of(run.week)
    wanted, due = [], {}
    for k, part in enumerate(run.parts):
        w = _wanted(path.parent, part, f"part-{k + 1}", run, ask)
        wanted.append(w)
        if part.due is not None:
            due[w.key] = part.due if part.due.tzinfo is not None else part.due.replace(tzinfo=zone)
    spacing = Spacing(run.clearance_mm, run.edge_mm)
    heads = tuple((p.facts.name, Head(*p.head_mm)) for p in run.printers if p.head_mm is not None)
    plates = Plates(tuple(wanted), spacing, heads, run.one_after_another)
    return OpenRun(run, tuple(wanted), due, ask, plates, ask(plates))


def _wanted(folder: Path, part: RunPart, key: str, run: RunFile, ask: Answerer) -> Wanted:
    job_path = Path(part.job)
    o = opened(job_path if job_path.is_absolute() else folder / job_path, ask)
    o.facts.changeable()
    printer = _own_printer(o.stated.printer, run)
    square = next((p.square_mm for p in run.printers if p.facts is printer), None)
    stated = o.stated if square is None else replace(o.stated, square=square)
    taken: TakenBy = ask_taken(o.part, stated, stated.frame)
    if taken.made is not None:
        refused = [*ask(taken.made.fits).refused, *(why for _, why in ask(taken.made).refused)]
        if refused:
            raise Refused(f"{part.job}: {' '.join(refused)} Nothing was laid out.")
    filament = f"{o.stated.card.name} {part.colour}".strip()
    title = o.job.name or Path(o.job.mesh).stem
    return Wanted(
        key, title, taken, o.stated.recipe, printer, filament, tuple(range(1, part.copies + 1)), Turns(part.turns)
    )


def _own_printer(own: PrinterFacts, run: RunFile) -> PrinterFacts:
    """The run's printer of that name, else the first of the run, else the job's own."""
    named = [p.facts for p in run.printers if p.facts.name == own.name]
    return named[0] if named else run.printers[0].facts if run.printers else own


def plan(args: argparse.Namespace) -> Said:
    """The plates of a run; with ``--out`` one 3MF and one page each are written."""
    o = _opened(args.path)
    plates = [_plate_told(p, k + 1) for k, p in enumerate(o.laid.plates)]
    files: list[str] = []
    left = list(o.laid.left)
    if args.out is not None:
        taken, titles = o.taken(), {w.key: w.title for w in o.wanted}
        written = write_plates(args.out, o.plates, o.laid, taken, titles)
        files, left = [str(f) for f in written.files], [*left, *written.left]
    return {"plates": plates, "left_out": left, "files": files}


def _plate_told(p: Plate, number: int) -> Said:
    return {
        "plate": number,
        "title": p.title,
        "printer": p.printer.name,
        "filament": p.filament,
        "grams": p.grams,
        "hours": range_told(p.hours),
        "pieces": [
            {"part": q.item.name, "copy": q.item.key, "x_mm": q.x, "y_mm": q.y, "turned_deg": q.angle} for q in p.placed
        ],
        "order": None if p.order is None else [p.placed[k].item.key for k in p.order],
        "why_not_one_after_another": p.why,
        "all_at_once": _cost_told(p.together),
        "one_after_another": _cost_told(p.single),
    }


def _cost_told(c: Cost) -> Said:
    return {"hours": c.hours, "crossings": c.crossings, "grams_lost": c.lost, "too_quick": list(c.melt)}


def week(args: argparse.Namespace) -> Said:
    """The plates of a run on printers and hours."""
    o = _opened(args.path)
    run, zone = o.run, zone_of(o.run.week)

    def aware(when: datetime) -> datetime:
        return when if when.tzinfo is not None else when.replace(tzinfo=zone)

    begin = aware(run.begin) if run.begin is not None else datetime.now(UTC).astimezone(zone)
    own = {p.printer.name: (p.printer, Machine(p.printer.name)) for p in o.laid.plates}
    shelf = tuple(
        OnShelf(
            s.name,
            s.name,
            f"{s.material} {s.colour}".strip(),
            left_on(Known(s.net_g, s.tare_g, s.gross_g, s.took_g, s.since_g)).grams,
        )
        for s in run.spools
    )
    machines: list[tuple[PrinterFacts, Machine]] = []
    for p in run.printers:
        spool = loaded_as(p.loaded, shelf, [m.loaded for _, m in machines])
        free = aware(p.free) if p.free is not None else None
        machines.append((p.facts, Machine(p.facts.name, spool, free, p.change_minutes, p.clear_minutes)))
    dry = [(s.name, s.drying(begin)) for s in run.spools]
    drying = tuple(Drying(name, hours) for name, hours in dry if hours > 0)
    asked = WeekOf(
        o.plates,
        tuple(machines) or tuple(own.values()),
        shelf,
        drying,
        tuple(o.due.items()),
        run.week,
        begin,
        run.days,
        school_of(run.school),
        goal_of(run.goal),
    )
    made = o.ask(asked)
    return _week_told(made.plan, list(made.short), list(o.laid.left))


def _week_told(plan_: Plan, short: list[str], left: list[str]) -> Said:
    when = plan_.span.when
    return {
        "next": next_act(plan_, {}),
        "slots": [
            {
                "plate": s.task.title,
                "printer": s.printer,
                "spool": s.task.spool,
                "start": when(s.start).isoformat(),
                "end": when(s.end).isoformat(),
                "soonest": when(s.soonest).isoformat(),
                "latest": when(s.latest).isoformat(),
                "change": s.changes,
                "taken_from": s.taken_from or None,
                "late_h": s.late / 12,
                "act": act_of(plan_, s, {}),
            }
            for s in plan_.slots
        ],
        "drying": [
            {"spool": d.spool, "start": when(d.start).isoformat(), "end": when(d.end).isoformat()} for d in plan_.drying
        ],
        "changes": plan_.changes,
        "done": when(plan_.done).isoformat(),
        "late_h": plan_.late / 12,
        "proved_best": plan_.proved,
        "at_best": {
            Goal.SOONEST: {"done": when(plan_.bound).isoformat()},
            Goal.FEWEST_CHANGES: {"changes": plan_.bound},
            Goal.DUE_FIRST: {"late_h": plan_.bound / 12},
        }[plan_.goal],
        "short": short,
        "left_out": left,
    }
