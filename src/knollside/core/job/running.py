"""From plates and what is stated of printers, spools and hours to the week's plan, for window and command line."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from knollside.core.job.questions.plates import Plate
from knollside.core.model import PrinterFacts, Refused
from knollside.core.run.hours import Span
from knollside.core.run.spools import Given, Need, OnShelf, shared_out
from knollside.core.run.week import DrySlot, Plan, Slot, planned
from knollside.core.run.week_bound import bound_of
from knollside.core.run.weeknumbers import Drying, Goal, Machine, PlateTask, School


@dataclass(frozen=True)
class Planned:
    """A week with what each plate's spool is, in words what is short or late, and the plates themselves."""

    plan: Plan
    given: Given
    short: tuple[str, ...]
    plates: tuple[Plate, ...] = ()

    def plate(self, slot: Slot) -> Plate:
        """The plate of a slot."""
        return next(p for p in self.plates if p.key == slot.task.key)


def loaded_as(told: str, shelf: Sequence[OnShelf], taken: Collection[str] = ()) -> str:
    """The spool that is meant by what a printer is said to have loaded: its key, its name, or a filament of which one
    spool is on the shelf and not among those ``taken``. Where none is known, the same one of that filament that plates
    without a spool print from; nothing for nothing."""
    if not told:
        return ""
    for key in ("key", "title", "filament"):
        found = next((s.key for s in shelf if getattr(s, key) == told and s.key not in taken), None)
        if found is not None:
            return found
    return _missing(told)


def _missing(filament: str) -> str:
    return f"missing {filament}"


def may_print(plate: Plate, facts: PrinterFacts) -> bool:
    """Whether a plate laid out for one printer may go on another: its nozzle, its bed, heights and heat suffice, and
    nothing on it was corrected by what the one was measured at."""
    if plate.bound:
        return False
    own = plate.printer
    high = max((s.height for s in plate.standing), default=0.0)
    return (
        abs(own.nozzle_mm - facts.nozzle_mm) < 0.01
        and all(b <= f + 1e-9 for b, f in zip(own.bed_mm[:2], facts.bed_mm[:2], strict=True))
        and high <= facts.bed_mm[2]
        and own.nozzle_max_c <= facts.nozzle_max_c
        and own.bed_max_c <= facts.bed_max_c
        and (facts.enclosed or not own.enclosed)
        and (facts.hard_nozzle or not own.hard_nozzle)
    )


def plan_week(
    plates: Sequence[Plate],
    machines: Mapping[str, tuple[PrinterFacts, Machine]],
    shelf: Sequence[OnShelf],
    drying: Sequence[Drying],
    due: Mapping[str, datetime],
    span: Span,
    school: School,
    goal: Goal,
) -> Planned:
    """Spools are shared out first, then plates put on printers and hours. ``due`` by the part's key. A plate no spool
    lasts for is planned all the same and told as short. Raises :class:`Refused` with the reason where nothing goes."""
    if not machines:
        raise Refused("There is no printer to plan for. Add one at Workshop.")
    given = shared_out([Need(p.key, p.title, p.filament, p.grams, p.spool) for p in plates], shelf)
    tasks, untied = [], []
    for p in plates:
        on = tuple(name for name, (facts, _) in machines.items() if name == p.printer.name or may_print(p, facts))
        if p.only in on:
            on = (p.only,)
        elif p.only:
            why = f"was corrected for {p.printer.name}" if p.bound else "does not fit its bed, nozzle or heat"
            untied.append(f"{p.title} cannot go on {p.only}, to which it is tied: it {why}.")
        times = [due[k] for k in {q.item.part for q in p.placed} if k in due]
        spool = given.spool_of.get(p.key, _missing(p.filament))
        tasks.append(PlateTask(p.key, p.title, p.hours, p.filament, spool, on, min(times, default=None)))
    used = set(given.spool_of.values())
    plan = planned(
        tasks, [m for _, m in machines.values()], span, school, goal, [d for d in drying if d.spool in used], bound_of
    )
    late = tuple(
        f"{s.task.title} ends {plan.span.when(s.end):%a %H:%M}, {s.late / 12:.1f} h after it is due."
        for s in plan.slots
        if s.late > 0
    )
    return Planned(plan, given, (*given.short, *untied, *late), tuple(plates))


def to_dry_first(plan: Plan) -> DrySlot | None:
    """The spool that goes in the drier before anything else is done, if one does."""
    dry = min((d for d in plan.drying if not d.there), key=lambda d: d.start, default=None)
    return dry if dry is not None and dry.start <= plan.slots[0].setup else None


def next_act(plan: Plan, spool_titles: Mapping[str, str]) -> str:
    """The first thing to do, in one sentence: "Mon 16:40: clear the sheet, load red ASA, start ...; it ends ..."."""
    dry = to_dry_first(plan)
    if dry is not None:
        name = spool_titles.get(dry.spool, dry.spool)
        hours = (dry.end - dry.start) / 12
        return f"{plan.span.when(dry.start):%a %H:%M}: put {name} in the drier for {hours:.0f} h."
    return act_of(plan, plan.slots[0], spool_titles)


def act_of(plan: Plan, slot: Slot, spool_titles: Mapping[str, str]) -> str:
    """What to do for one plate, and when it ends."""
    earlier = any(s.printer == slot.printer and s.start < slot.start for s in plan.slots)
    words = ["clear the sheet"] if earlier else []
    if slot.changes:
        spool = spool_titles.get(slot.task.spool, slot.task.filament)
        moved = f"take {spool} off {slot.taken_from} and put it on" if slot.taken_from else f"load {spool}"
        words.append(moved)
    when = plan.span.when
    begin, until = when(slot.start), ""
    if words and when(slot.setup).date() == begin.date():
        doing = f"{', '.join(words)}, start"
        at = when(slot.setup) if slot.start - slot.setup < 24 else begin
    elif words:
        doing, at = f"{', '.join(words)}; {begin:%a %H:%M} start", when(slot.setup)
    else:
        doing, at = "start", begin
    low, high = when(slot.soonest), when(slot.latest)
    until = f"{low:%H:%M} to {high:%H:%M}" if low.date() == high.date() else f"{low:%a %H:%M} to {high:%a %H:%M}"
    alone = " At the hours it may end nobody is surely in." if slot.alone else ""
    return f"{at:%a %H:%M}: {doing} {slot.task.title} on {slot.printer}; it ends {until}.{alone}"
