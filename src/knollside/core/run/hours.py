"""When somebody is in and awake: a weekly pattern, days that differ, and the plan's units of five minutes.

Units are counted in true time from the plan's beginning; what the clock on the wall says of each is asked of its time
zone, so that a night in which clocks change has its 23 or 25 hours.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta, tzinfo

import numpy as np

from knollside.core.model import Ints, Refused

UNIT = timedelta(minutes=5)
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
Stretch = tuple[time, time]  # from, to; to midnight is time(0)


@dataclass(frozen=True)
class Week:
    """``days``: for each weekday from Monday the stretches in which somebody is in and awake; ``other`` days by date
    overrule them (none: nobody all day)."""

    days: tuple[tuple[Stretch, ...], ...]
    other: tuple[tuple[date, tuple[Stretch, ...]], ...] = ()

    def __post_init__(self) -> None:
        if len(self.days) != 7:
            raise Refused("A week has seven days.")
        for stretches in (*self.days, *(s for _, s in self.other)):
            for low, high in stretches:
                if high != time(0) and low >= high:
                    raise Refused(f"From {low:%H:%M} to {high:%H:%M} is no stretch of a day.")

    def on(self, day: date) -> tuple[Stretch, ...]:
        return dict(self.other).get(day, self.days[day.weekday()])

    def at(self, local: datetime) -> bool:
        """Whether somebody is in at a time on the wall's clock."""
        t = local.time()
        return any(low <= t and (t < high or high == time(0)) for low, high in self.on(local.date()))


_WORKDAY = ((time(6, 30), time(8, 0)), (time(17, 0), time(23, 0)))
USUAL = Week((*(_WORKDAY for _ in range(5)), ((time(8, 0), time(23, 0)),), ((time(8, 0), time(22, 30)),)))


@dataclass(frozen=True)
class Span:
    """``units`` of five minutes from ``begin`` (aware of its zone): who is in at each, and until which unit."""

    begin: datetime
    units: int
    present: np.ndarray = field(repr=False)
    until: Ints = field(repr=False)  # of a unit in a stretch its end; 0 where nobody is in

    def unit(self, when: datetime, up: bool = True) -> int:
        """The unit of a time, the next one up where it lies between two."""
        away = (when.astimezone(UTC) - self.begin.astimezone(UTC)) / UNIT
        return int(np.ceil(away - 1e-9) if up else np.floor(away + 1e-9))

    def when(self, unit: int) -> datetime:
        """The wall's clock at a unit."""
        return (self.begin.astimezone(UTC) + unit * UNIT).astimezone(self.begin.tzinfo)


def span_of(week: Week, begin: datetime, days: int) -> Span:
    """The units of so many days from ``begin`` on, which knows its zone; begun at the next full five minutes."""
    zone: tzinfo | None = begin.tzinfo
    if zone is None:
        raise Refused("The plan's beginning must know its time zone.")
    true = begin.astimezone(UTC)
    true += (-timedelta(minutes=true.minute % 5, seconds=true.second, microseconds=true.microsecond)) % UNIT
    n = days * 288
    present = np.array([week.at((true + k * UNIT).astimezone(zone)) for k in range(n)], bool)
    until = np.zeros(n + 1, np.int64)
    for k in range(n - 1, -1, -1):
        if present[k]:
            until[k] = until[k + 1] if k + 1 < n and present[k + 1] else k + 1
    return Span(true.astimezone(zone), n, present, until)
