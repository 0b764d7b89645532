"""Plates on printers and hours: the plan that is soonest done, changes filament least, or meets what is due.

A list of plates with a printer each is turned into hours from left to right: each begins as early as its printer, its
spool, its drying and the hours somebody is in allow. The list is annealed (Kirkpatrick and others 1983); constraint
programming gives the bound that tells how far from the best the plan may be, and proves what cannot be done.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from knollside.core.model import Array, Ints, Refused
from knollside.core.run.hours import UNIT, Span
from knollside.core.run.weeklists import NOTHING, annealed, earliest, laid_out
from knollside.core.run.weeknumbers import Drying, Goal, Machine, Numbers, PlateTask, School, eightieth, numbers, units

_ROUNDS = 20_000


@dataclass(frozen=True)
class Slot:
    """A plate's place in the plan, in units: cleared and loaded for from ``setup`` on, printed from ``start`` to
    ``end`` (by the 80th percentile), which may come between ``soonest`` and ``latest``; ``late`` units after it was
    due; ``alone``: no start there is has somebody in at all ends it may have; ``changes``: its spool is put on first,
    ``taken_from`` the printer that held it (nothing: from the shelf)."""

    task: PlateTask
    printer: str
    setup: int
    start: int
    end: int
    soonest: int
    latest: int
    changes: bool
    late: int
    alone: bool = False
    taken_from: str = ""


@dataclass(frozen=True)
class DrySlot:
    """When a spool is in the drier; ``there``: it is in it already."""

    spool: str
    start: int
    end: int
    there: bool = False


@dataclass(frozen=True)
class Plan:
    """``slots`` by start; ``bound``: no plan is done before that unit (or has fewer changes, or less lateness, by the
    goal); ``proved``: the plan is the best there is, as far as it is planned."""

    span: Span
    slots: tuple[Slot, ...]
    drying: tuple[DrySlot, ...]
    goal: Goal
    changes: int
    done: int
    late: int
    bound: int
    proved: bool

    @property
    def value(self) -> int:
        return (self.done, self.changes, self.late)[self.goal]


@dataclass(frozen=True)
class Bound:
    """No plan is better than ``low``; whether nothing goes at all; and the list that an easier problem would have."""

    low: int
    impossible: bool = False
    order: Ints | None = None
    where: Ints | None = None


Bounds = Callable[[Numbers, Goal, int], Bound]


def planned(
    tasks: Sequence[PlateTask],
    machines: Sequence[Machine],
    span: Span,
    school: School,
    goal: Goal,
    drying: Sequence[Drying] = (),
    bounds: Bounds | None = None,
) -> Plan:
    """The plan. Deterministic but for what ``bounds`` finds in its time; without it the closed bound stands. Raises
    :class:`Refused` with the reason where nothing goes."""
    if not tasks:
        raise Refused("There is no plate to plan.")
    if not machines:
        raise Refused("There is no printer to plan for. Add one at Workshop.")
    v = numbers(tasks, machines, span, school, drying)
    for k, t in enumerate(tasks):
        if not v.can[k].any():
            raise Refused(f"{t.title} goes on none of the printers.")
    if not span.present.any():
        raise Refused("Nobody is in during these days: no print can be begun. Say when somebody is.")
    order = np.argsort(np.minimum(v.due, 10**6) * 1000 - v.long, kind="stable").astype(np.int64)
    starts = [np.array([np.flatnonzero(c)[k % c.sum()] for c in v.can]) for k in (0, 1)]
    held = v.can & (v.spool[:, None] == v.loaded[None])
    starts.append(np.where(held.any(axis=1), held.argmax(axis=1), starts[0]))
    whole = [_anneal(v, goal, order, where, k) for k, where in enumerate(starts)]
    best = min(whole, key=lambda w: w[2])
    if best[2] >= NOTHING:
        raise Refused(_why_not(tasks, machines, v, span, school))
    low = (_soonest(v), _least_changes(v), 0)[goal]
    value = _value(v, goal, best)
    if value > low and bounds is not None:
        found = bounds(v, goal, value)
        low = min(max(low, found.low), value)
        if found.order is not None and found.where is not None:
            best = min(best, _anneal(v, goal, found.order, found.where, len(starts)), key=lambda w: w[2])
    return _told(tasks, machines, span, goal, v, best, low, drying)


_Listed = tuple[Ints, Ints, float]  # order, printers, cost


def _anneal(v: Numbers, goal: Goal, order: Ints, where: Ints, seed: int) -> _Listed:
    numbers_of: tuple[Any, ...] = (order.copy(), where.astype(np.int64), v.can, int(goal), _ROUNDS, seed, *v.args())
    made: _Listed = annealed(*numbers_of)
    return made


def _value(v: Numbers, goal: Goal, listed: _Listed) -> int:
    given: tuple[Any, ...] = (listed[0], listed[1], *v.args(), np.zeros((len(v.long), 4), np.int64))
    _, changes, done, late = laid_out(*given)
    return (int(done), int(changes), int(late))[goal]


def _told(
    tasks: Sequence[PlateTask],
    machines: Sequence[Machine],
    span: Span,
    goal: Goal,
    v: Numbers,
    listed: _Listed,
    low: int,
    drying: Sequence[Drying],
) -> Plan:
    order, where, _ = listed
    out = np.zeros((len(tasks), 4), np.int64)
    given: tuple[Any, ...] = (order, where, *v.args(), out)
    _, changes, done, late = laid_out(*given)
    slots, sources = [], _sources(v, where, out, machines)
    for k in np.argsort(out[:, 1], kind="stable"):
        t, (setup, start, end, swap) = tasks[k], out[k]
        soonest, latest = (int(start) + units(h) for h in (t.hours.low, t.hours.high))
        over = max(int(end) - int(v.due[k]), 0)
        slots.append(
            Slot(
                t,
                machines[where[k]].name,
                int(setup),
                int(start),
                int(end),
                soonest,
                latest,
                bool(swap),
                over,
                bool(v.alone[k]),
                sources.get(int(k), ""),
            )
        )
    value = (int(done), int(changes), int(late))[goal]
    return Plan(
        span,
        tuple(slots),
        (*_in_drier(span, drying), *_dry_slots(tasks, v, order, out)),
        goal,
        int(changes),
        int(done),
        int(late),
        low,
        value <= low,
    )


def _sources(v: Numbers, where: Ints, out: Array, machines: Sequence[Machine]) -> dict[int, str]:
    """Of each plate whose spool comes off another printer, the name of that one: spools followed through the hours."""
    on, dried = [int(s) for s in v.loaded], set[int]()
    found = {}
    for k in np.lexsort((out[:, 1], out[:, 0])).tolist():
        spool, m = int(v.spool[k]), int(where[k])
        if on[m] != spool:
            holder = next((q for q, s in enumerate(on) if s == spool), None)
            if holder is not None:
                on[holder] = -1
                if not v.dry[spool] or spool in dried:
                    found[k] = machines[holder].name
            on[m] = spool
        dried.add(spool)
    return found


def _in_drier(span: Span, drying: Sequence[Drying]) -> tuple[DrySlot, ...]:
    """What is in the drier already."""
    ends = [(d.spool, span.unit(d.until)) for d in drying if d.until is not None]
    return tuple(DrySlot(spool, 0, end, True) for spool, end in ends if end > 0)


def _dry_slots(tasks: Sequence[PlateTask], v: Numbers, order: Ints, out: Array) -> tuple[DrySlot, ...]:
    """When the drier runs: by the same rule as in the list."""
    made: list[DrySlot] = []
    used = {int(s): int(free) for s, free in zip(v.loaded, v.free, strict=True) if s >= 0}
    drier = v.drier
    names = {int(s): (tasks[k].spool or f"of {tasks[k].key}") for k, s in enumerate(v.spool)}
    seen: set[int] = set()
    for k in order:
        s = int(v.spool[k])
        if v.dry[s] > 0 and s not in seen:
            t = max(drier, used.get(s, 0))
            while t < len(v.present) and not v.present[t]:
                t += 1
            drier = t + int(v.dry[s])
            made.append(DrySlot(names[s], t, drier))
            seen.add(s)
        used[s] = int(out[k, 2])
    return tuple(made)


def _soonest(v: Numbers) -> int:
    """No plan is done before this: the longest plate by itself, and all plates shared out evenly."""
    alone = [
        min(
            earliest(max(v.free[m], v.ready[k]), v.long[k], v.soon[k], v.latest[k], v.present, v.until, v.school)
            + v.long[k]
            for m in np.flatnonzero(v.can[k])
        )
        for k in range(len(v.long))
    ]
    machines = len(v.free)
    first = np.sort(np.maximum(v.free, 0))
    # All work with the least clearing between, on all printers from the hour they are free.
    work = int(v.long.sum()) + max(len(v.long) - machines, 0) * int(v.clear.min())
    even = int(np.ceil((work + int(first.sum())) / machines))
    return int(max(*alone, even))


def _least_changes(v: Numbers) -> int:
    """Every spool that no printer holds, or that must go in the drier, is loaded once."""
    held = {s for s in v.loaded.tolist() if s >= 0 and v.dry[s] == 0}
    return len(set(v.spool.tolist()) - held)


def _why_not(tasks: Sequence[PlateTask], machines: Sequence[Machine], v: Numbers, span: Span, school: School) -> str:
    """The plate that cannot be begun at all, with what would do; else that the days are too few."""
    for k, t in enumerate(tasks):
        for m in np.flatnonzero(v.can[k]):
            if (
                earliest(max(v.free[m], v.ready[k]), v.long[k], v.soon[k], v.latest[k], v.present, v.until, v.school)
                >= 0
            ):
                break
        else:
            hours = eightieth(t.hours)
            if school is School.OVERNIGHT:
                return f"{t.title} takes {hours:.1f} h and does not end in these days; plan more days."
            longest = float(np.max(span.until - np.arange(len(span.until)), initial=0)) * UNIT.total_seconds() / 3600
            if school is School.NEVER_ALONE:
                return (
                    f"{t.title} takes {hours:.1f} h; nobody is in for longer than {longest:.1f} h at a stretch. Split "
                    "it, be in for longer, or have only its first layer and end watched."
                )
            return (
                f"{t.title} takes {hours:.1f} h: begun while somebody is in it always ends when nobody is. Change your "
                "hours, or accept prints that run on alone."
            )
    return "All plates together do not end in these days; plan more days, or fewer plates."
