"""What a week is planned of, as it is stated and as the kernels need it: plates, printers, drying, in units."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from enum import IntEnum

import numpy as np

from knollside.core.model import Ints, Range
from knollside.core.run.hours import UNIT, Span
from knollside.core.run.weeklists import FIRST_LAYER

NEVER = np.iinfo(np.int64).max // 4


class School(IntEnum):
    """Who must be in: all the time; for the first layer and whenever it may end; for the first layer."""

    NEVER_ALONE = 0
    ENDS_WATCHED = 1
    OVERNIGHT = 2


class Goal(IntEnum):
    SOONEST = 0
    FEWEST_CHANGES = 1
    DUE_FIRST = 2


@dataclass(frozen=True)
class PlateTask:
    """One plate: ``hours`` with their doubt, the ``filament`` and ``spool`` it takes (the spool is on one printer at a
    time), the printers it may go on, when it is due and from when it can be begun."""

    key: str
    title: str
    hours: Range
    filament: str
    spool: str
    printers: tuple[str, ...]
    due: datetime | None = None
    ready: datetime | None = None


@dataclass(frozen=True)
class Machine:
    """A printer: the spool that is ``loaded``, by its key, from when it is free, minutes for a change of spool and to
    cool and clear."""

    name: str
    loaded: str = ""
    free: datetime | None = None
    change_minutes: float = 10.0
    clear_minutes: float = 20.0


@dataclass(frozen=True)
class Drying:
    """A spool that must be dried for so many hours before its first plate; there is one drier. ``until``: it is in the
    drier already, up to then."""

    spool: str
    hours: float
    until: datetime | None = None


@dataclass(frozen=True)
class Numbers:
    """All that the kernels need; plates by number. A plate's end may come ``soon`` to ``latest`` units after its start;
    both are its ``long`` where no start has somebody in over all of that (``alone``)."""

    long: Ints
    soon: Ints
    latest: Ints
    alone: np.ndarray
    spool: Ints
    ready: Ints
    due: Ints
    can: np.ndarray
    free: Ints
    loaded: Ints
    change: Ints
    clear: Ints
    dry: Ints
    present: np.ndarray
    until: Ints
    school: int
    drier: int = 0

    def args(self) -> tuple[object, ...]:
        return (
            self.long,
            self.soon,
            self.latest,
            self.spool,
            self.ready,
            self.due,
            self.free,
            self.loaded,
            self.change,
            self.clear,
            self.dry,
            self.present,
            self.until,
            self.school,
            self.drier,
        )


def numbers(
    tasks: Sequence[PlateTask], machines: Sequence[Machine], span: Span, school: School, drying: Sequence[Drying]
) -> Numbers:
    """In units and numbers. Uncertain hours count by their 80th percentile, taken as a normal within its range."""
    held = [m.loaded for m in machines if m.loaded]
    spools = {s: i for i, s in enumerate(dict.fromkeys([*(t.spool or f"of {t.key}" for t in tasks), *held]))}
    names = [m.name for m in machines]
    dry = np.zeros(len(spools), np.int64)
    busy = {d.spool: max(span.unit(d.until), 0) for d in drying if d.until is not None}
    for d in drying:
        if d.spool in spools and d.until is None:
            dry[spools[d.spool]] = units(d.hours)
    ends = [(max(int(units(t.hours.low)), 1), max(units(t.hours.high), 1)) for t in tasks]
    made = Numbers(
        np.array([max(units(eightieth(t.hours)), 1) for t in tasks], np.int64),
        np.array([a for a, _ in ends], np.int64),
        np.array([b for _, b in ends], np.int64),
        np.zeros(len(tasks), bool),
        np.array([spools[t.spool or f"of {t.key}"] for t in tasks], np.int64),
        np.array([max(0 if t.ready is None else span.unit(t.ready), busy.get(t.spool, 0), 0) for t in tasks], np.int64),
        np.array([NEVER if t.due is None else span.unit(t.due, up=False) for t in tasks], np.int64),
        np.array([[n in t.printers for n in names] for t in tasks], bool),
        np.array([0 if m.free is None else max(span.unit(m.free), 0) for m in machines], np.int64),
        np.array([spools[m.loaded] if m.loaded else -1 for m in machines], np.int64),
        np.array([units(m.change_minutes / 60) for m in machines], np.int64),
        np.array([max(units(m.clear_minutes / 60), 1) for m in machines], np.int64),
        dry,
        span.present,
        span.until,
        int(school),
        max(busy.values(), default=0),
    )
    return _watchable(made)


def starts_of(v: Numbers, long: int, soon: int, latest: int) -> Ints:
    """Units at which a print of so many units, that may end ``soon`` to ``latest`` units on, may begin, somebody being
    in as the school asks."""
    n = len(v.present)
    t = np.arange(0, n - (long if v.school == School.OVERNIGHT else max(long, latest)) + 1)
    good = v.present[t] & (v.until[t] >= t + min(FIRST_LAYER, long))
    if v.school == School.NEVER_ALONE:
        good &= v.until[t] >= t + latest
    elif v.school == School.ENDS_WATCHED:
        good &= v.until[t + soon - 1] >= t + latest
    return np.asarray(t[good])


def _watchable(v: Numbers) -> Numbers:
    """Plates whose end nobody can be sure to be in at are planned by their long hours alone, and told so."""
    soon, latest, alone = v.soon.copy(), v.latest.copy(), v.alone.copy()
    for k, long in enumerate(v.long.tolist()):
        first = max(int(v.ready[k]), int(v.free[v.can[k]].min(initial=NEVER)))
        if not (starts_of(v, long, int(soon[k]), int(latest[k])) >= first).any():
            soon[k] = latest[k] = long
            alone[k] = v.school != School.OVERNIGHT
    return replace(v, soon=soon, latest=latest, alone=alone)


def units(hours: float) -> int:
    return int(np.ceil(hours * 3600 / UNIT.total_seconds() - 1e-9))


def eightieth(hours: Range) -> float:
    """The 80th percentile of hours whose range holds nine in ten."""
    return hours.value + 0.8416 / 1.6449 * (hours.high - hours.value)
