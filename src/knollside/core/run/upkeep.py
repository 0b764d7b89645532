"""What a printer went through: hours since each thing was done, what is due and why, and what older readings are worth.

An event that can change sizes or bond does not void what was read before it: it puts a jump of its own between then and
now (docs/methods.md 7.1), until enough new readings say where it went.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime

from knollside.core.model.running import EventKind, PrinterEvent

# What an event can change. Typical of what people report; a firmware's flow and steps move both.
SIZES: frozenset[EventKind] = frozenset(("nozzle", "belt", "firmware", "moved", "square", "first use"))
BONDS: frozenset[EventKind] = frozenset(("nozzle", "firmware"))
RESTED = 30  # days without a print after which a machine is looked over


@dataclass(frozen=True)
class Due:
    """Something to do at the printer, and why; ``over``: how far past its usual hours, a share."""

    words: str
    why: str
    over: float


@dataclass(frozen=True)
class _Usual:
    kind: EventKind
    hours: float
    words: str
    why: str


_USUAL = (
    _Usual("nozzle", 400.0, "Look at the nozzle", "brass wears wide, sooner with fibres, and lines grow"),
    _Usual("belt", 500.0, "Feel the belts", "slack ones make holes oval and steps ring"),
    _Usual("cleaned", 100.0, "Clean the rails and the fans", "dust drags, and a slow fan leaves soft overhangs"),
    _Usual("levelled", 150.0, "Check the first-layer height", "it drifts with springs and heat"),
)
_FIBRES = 8.0  # times as fast as plain filament wears brass: typical


@dataclass(frozen=True)
class Ran:
    """A print that ran: when, how long, and whether with fibres."""

    at: datetime
    hours: float
    fibres: bool = False


def hours_since(events: Iterable[PrinterEvent], prints: Iterable[Ran], kind: EventKind, brass: bool = True) -> float:
    """Hours of printing since something was last done, or since the first print; fibres count for more on brass."""
    last = max((e.at for e in events if e.kind == kind), default=datetime.min)
    wear = _FIBRES if kind == "nozzle" and brass else 1.0
    return sum(p.hours * (wear if p.fibres else 1.0) for p in prints if p.at > last)


def due(
    events: Sequence[PrinterEvent], prints: Sequence[Ran], now: datetime, hard_nozzle: bool = False
) -> tuple[Due, ...]:
    """What is due, the most overdue first. A hardened nozzle lasts five times as long."""
    out = []
    for u in _USUAL:
        ran = hours_since(events, prints, u.kind, not hard_nozzle)
        usual = u.hours * (5 if u.kind == "nozzle" and hard_nozzle else 1)
        if ran >= usual:
            why = f"{u.why} (typical: every {usual:.0f} h)"
            out.append(Due(f"{u.words}: {ran:.0f} h of printing since", why, ran / usual))
    last = max((p.at for p in prints), default=None)
    if last is not None and (now - last).days >= RESTED:
        days = (now - last).days
        why = "filament left in it takes up water and grease settles: purge it, and home it"
        out.append(Due(f"It rested for {days} days", why, 1.0))
    return tuple(sorted(out, key=lambda d: -d.over))


def changed_sizes(events: Iterable[PrinterEvent]) -> tuple[date, ...]:
    """The days on which something was done that can change sizes, oldest first."""
    return tuple(sorted({e.at.date() for e in events if e.kind in SIZES}))


def changed_bond(events: Iterable[PrinterEvent]) -> tuple[datetime, ...]:
    """When something was done that can change the bond between layers, oldest first."""
    return tuple(sorted({e.at for e in events if e.kind in BONDS}))


_SAID: dict[EventKind, str] = {
    "nozzle": "the new nozzle",
    "belt": "the belts were tightened",
    "firmware": "the new firmware",
    "moved": "it was moved",
    "square": "its frame was squared",
    "first use": "its first use",
    "sheet": "the other sheet",
}


def doubt_words(events: Iterable[PrinterEvent], days: Sequence[date | None]) -> str:
    """In words, which readings (by their ``days``) are from before the last change that can matter to sizes; nothing
    where none are."""
    last = max((e for e in events if e.kind in SIZES), key=lambda e: e.at, default=None)
    if last is None or not days:
        return ""
    older = sum(d is not None and d < last.at.date() for d in days)
    if not older:
        return ""
    since = len(days) - older
    new = f"{since} since" if since else "none since"
    return (
        f"{older} readings are from before {_SAID.get(last.kind, last.kind)} on {last.at:%d %b}, {new}: measure a bar."
    )
