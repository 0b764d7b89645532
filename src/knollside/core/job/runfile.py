"""The open run file: parts of several jobs, printers, spools and hours, and what is asked of a week."""

from __future__ import annotations

import json
from datetime import datetime, time
from pathlib import Path
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from pydantic import Field, ValidationError, model_validator

from knollside.core.material.cards import MATERIALS
from knollside.core.model import Length, PrinterFacts, Record, Refused, fault_of
from knollside.core.model.base import Day, Mass, When
from knollside.core.model.running import (
    Dried,
    GoalName,
    HeadSize,
    Presence,
    SchoolName,
    SpoolLog,
    SquareSize,
    Stay,
    Stretches,
    TurnsName,
)
from knollside.core.run.hours import DAYS, USUAL, Week
from knollside.core.run.spoollog import hours_to_dry
from knollside.core.run.weeknumbers import Goal, School
from knollside.core.textfile import text_of

_MOST = 4 * 2**20  # bytes
Name = Annotated[str, Field(min_length=1, max_length=60)]


class RunPart(Record):
    """A part by its job file, how many copies, in what colour, by when, and how it may be turned."""

    job: str = Field(max_length=1000)
    copies: int = Field(1, ge=1, le=200)
    colour: str = Field("", max_length=40)
    due: When | None = None
    turns: TurnsName = "quarter"


class RunPrinter(Record):
    """A printer: what is loaded, from when it is free, and how long a change of filament and clearing take;
    its head (left, right, front, back, above, bar; a typical one where it is not stated), and a square that was
    measured (drawn X, drawn Y, X, Y, rising, falling), whose frame's error is then taken out of meshes."""

    facts: PrinterFacts
    loaded: str = Field("", max_length=80)
    free: When | None = None
    change_minutes: float = Field(10, ge=0, le=240)
    clear_minutes: float = Field(20, ge=0, le=600)
    head_mm: HeadSize | None = None
    square_mm: SquareSize | None = None


class RunSpool(Record):
    """A spool: filament when new, empty and at its last weighing, and what prints took, grams. How it was kept since it
    was ``opened`` and when it was ``dried`` say whether and how long it must dry, unless ``dry_hours`` says so."""

    name: Name
    material: str = Field(max_length=40)
    colour: str = Field("", max_length=40)
    net_g: Mass = 1000.0
    tare_g: Mass | None = None
    gross_g: Mass | None = None
    took_g: tuple[Mass, ...] = Field((), max_length=2000)
    since_g: tuple[Mass, ...] = Field((), max_length=2000)
    dry_hours: float | None = Field(None, ge=0, le=72)
    opened: Day | None = None
    stays: tuple[Stay, ...] = Field((), max_length=2000)
    dried: tuple[Dried, ...] = Field((), max_length=2000)

    def drying(self, begin: datetime) -> float:
        """Hours it must dry before its first plate."""
        if self.dry_hours is not None or not (self.opened or self.stays or self.dried):
            return self.dry_hours or 0.0
        log = SpoolLog(opened=self.opened, net_g=self.net_g, stays=self.stays, dried=self.dried)
        return hours_to_dry(self.material, log, begin, self.net_g)


class RunFile(Record):
    """A run with all that its plates and its week rest on."""

    format: Literal["knollside-run-1"] = "knollside-run-1"
    name: str = Field("", max_length=120)
    parts: tuple[RunPart, ...] = Field(min_length=1, max_length=200)
    printers: tuple[RunPrinter, ...] = Field((), max_length=40)
    spools: tuple[RunSpool, ...] = Field((), max_length=400)
    week: Presence = Presence()
    begin: When | None = None
    days: int = Field(14, ge=1, le=60)
    school: SchoolName = "ends watched"
    goal: GoalName = "soonest"
    clearance_mm: Length = Field(3.0, ge=0, le=60)
    edge_mm: Length = Field(4.0, ge=0, le=60)
    one_after_another: bool = False

    @model_validator(mode="after")
    def _told_apart(self) -> RunFile:
        """Printers and spools are spoken of by name, and hours are hours."""
        for what, names in (
            ("printers", [p.facts.name for p in self.printers]),
            ("spools", [s.name for s in self.spools]),
        ):
            twice = next((n for n in names if names.count(n) > 1), None)
            if twice is not None:
                raise ValueError(f"two {what} are called {twice}; give one another name")
        for s in self.spools:
            if s.dry_hours is None and (s.opened or s.stays or s.dried) and s.material not in MATERIALS:
                known = ", ".join(MATERIALS)
                raise ValueError(
                    f"the spool {s.name} is of '{s.material}', whose drying is not known here (of {known} it is); say "
                    "dry_hours, or leave out how it was kept"
                )
        try:
            week_of(self.week)
        except Refused as refusal:
            raise ValueError(str(refusal).rstrip(".")) from None
        return self


def read_run(path: Path) -> RunFile:
    """Read and check a run file; raises :class:`Refused` naming the field that is wrong."""
    return parse_run(text_of(path, _MOST, "run file"), path.name)


def parse_run(text: str, name: str = "run") -> RunFile:
    """A run from its text."""
    try:
        return RunFile.model_validate_json(text)
    except (ValidationError, RecursionError) as error:
        said = fault_of(error) if isinstance(error, ValidationError) else "it is nested too deeply"
        raise Refused(f"{name}: {said}.") from None


def write_run(run: RunFile) -> str:
    return json.dumps(run.model_dump(mode="json", exclude_defaults=True) | {"format": run.format}, indent=1) + "\n"


def zone_of(week: Presence) -> ZoneInfo:
    try:
        return ZoneInfo(week.zone)
    except (KeyError, ValueError, OSError):
        raise Refused(f"There is no time zone '{week.zone}'; write one like Europe/Berlin.") from None


def school_of(name: SchoolName) -> School:
    """Who must be by, by the words it is stated in."""
    return School[name.replace(" ", "_").upper()]


def goal_of(name: GoalName) -> Goal:
    """What is wanted of a week, by the words it is stated in."""
    return Goal[name.replace(" ", "_").upper()]


def week_of(week: Presence) -> Week:
    """The stated hours; with none stated, the usual ones. Days that are not named have nobody in."""
    for name in week.days:
        if name not in DAYS:
            raise Refused(f"'{name}' is no weekday; there are {', '.join(DAYS)}.")
    days = tuple(_stretches(week.days.get(n, ()), n) for n in DAYS) if week.days else USUAL.days
    return Week(days, tuple((d, _stretches(s, d.isoformat())) for d, s in sorted(week.other.items())))


def _stretches(told: Stretches, day: str) -> tuple[tuple[time, time], ...]:
    for a, b in told:
        # As text: "24:00" is the end of a day and after every other hour of it.
        if b <= a:
            why = "is no stretch of a day; hours over midnight are two, up to 24:00 and from 00:00"
            raise Refused(f"{day}: from {a} to {b} {why}.")
    return tuple((_clock(a), _clock(b)) for a, b in told)


def _clock(text: str) -> time:
    return time(0) if text == "24:00" else time.fromisoformat(text)
