"""What to look at before a print because of what was changed since the last good one on this printer."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from knollside.core.model.running import EventKind, PrinterEvent
from knollside.core.run.preflight import Check
from knollside.core.run.upkeep import RESTED

_AFTER: dict[EventKind, str] = {
    "nozzle": "Set the first-layer height for the new nozzle, and tighten it hot",
    "sheet": "Set the first-layer height for this sheet; clean it",
    "moved": "Level it, look that the frame is square and leads are free; the selector matches this wall",
    "belt": "Print a bar before a part that must fit: the belts were tightened",
    "firmware": "Check steps, flow and end stops after the new firmware",
    "square": "Print a bar before a part that must fit: the frame was squared",
}
_SAID: dict[EventKind, str] = {
    "nozzle": "nozzle changed",
    "sheet": "sheet changed",
    "moved": "moved",
    "belt": "belts tightened",
    "firmware": "new firmware",
    "square": "squared",
}


@dataclass(frozen=True)
class Print:
    """A print on this printer: when, of what, and whether it came out."""

    at: datetime
    material: str
    good: bool


def changed_since(
    events: Iterable[PrinterEvent], prints: Sequence[Print], material: str, now: datetime
) -> tuple[Check, ...]:
    """Lines for the list, each with its why, the gravest first."""
    events, good = list(events), [p for p in prints if p.good]
    if not good:
        return (
            Check("Selector of the mains set to this wall's voltage", "no good print is on record here"),
            Check("Frame square, bolts tight, bed level, room behind the moving bed", "first use"),
        )
    last = max(good, key=lambda p: p.at)
    out: dict[str, Check] = {}
    for e in sorted(events, key=lambda e: e.at):
        if e.at > last.at and e.kind in _AFTER:
            out[e.kind] = Check(_AFTER[e.kind], f"{_SAID[e.kind]} {e.at:%d %b}, after the last good print")
    glue = max((e for e in events if e.kind == "adhesive"), key=lambda e: e.at, default=None)
    order = list(_AFTER)
    made = sorted(out.items(), key=lambda i: order.index(i[0]))  # type: ignore[arg-type]
    checks = [c for _, c in made]
    if glue is not None and glue.held is False:
        what = f"{glue.note}: " if glue.note else ""
        checks.append(Check("Clean the sheet and renew what makes it hold", f"{what}let go {glue.at:%d %b}"))
    newest = max(prints, key=lambda p: p.at)
    if newest.material != material:
        checks.append(
            Check(f"Purge {newest.material} until {material} runs pure", f"{newest.material} was printed last")
        )
    days = (now - newest.at).days
    if days >= RESTED:
        checks.append(Check("Home it, purge what stood in the nozzle", f"it rested for {days} days"))
    if not newest.good:
        checks.append(Check("Find why the last print failed first", f"failed {newest.at:%d %b}"))
    return tuple(checks)
