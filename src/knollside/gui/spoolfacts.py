"""Stored spools as what plates and weeks ask: filament, grams left, water, drying."""

from __future__ import annotations

from datetime import datetime, timedelta

from knollside.core.model import Range
from knollside.core.model.running import SpoolLog
from knollside.core.run import spoollog
from knollside.core.run.moisture import Drying as DryingOf
from knollside.core.run.moisture import Water
from knollside.core.run.spools import OnShelf
from knollside.core.run.weeknumbers import Drying
from knollside.gui.openpart import Shelf
from knollside.store.records import Spool


def filament_of(spool: Spool | None, plain: str, shelf: Shelf) -> str:
    """Material and colour: what plates that share a bed must have alike."""
    if spool is None:
        return plain
    colour = shelf.spool_logs.get(spool.id, SpoolLog()).colour
    return f"{spool.material} {colour}" if colour else spool.name


def log_of(spool: Spool, shelf: Shelf) -> SpoolLog:
    """A spool's log; one without begins with the grams it was said to have, give or take."""
    begun = SpoolLog(net_g=spool.grams_left, net_doubt_g=0.06 * spool.grams_left + 6)
    return shelf.spool_logs.get(spool.id, begun)


def grams_of(spool: Spool, log: SpoolLog) -> Range:
    return spoollog.grams_of(log, spool.grams_left)


def on_shelf(shelf: Shelf) -> tuple[OnShelf, ...]:
    return tuple(
        OnShelf(str(s.id), s.name, filament_of(s, s.material, shelf), grams_of(s, log_of(s, shelf)))
        for s in shelf.spools
    )


def water_now(spool: Spool, log: SpoolLog, now: datetime) -> Water | None:
    return spoollog.water_now(spool.material, log, now, spool.dry)


def drying_now(spool: Spool, log: SpoolLog, now: datetime) -> DryingOf | None:
    return spoollog.drying_now(spool.material, log, now, spool.grams_left, spool.dry)


def to_dry(shelf: Shelf, now: datetime) -> tuple[Drying, ...]:
    """Spools that are likely too wet to print, with the hours that dry them in nine of ten; and what is in the drier,
    until when. ``now`` is aware of its zone."""
    out = []
    for s in shelf.spools:
        log = log_of(s, shelf)
        since = log.drying_since
        when = now if since is None else since.replace(tzinfo=now.tzinfo)
        hours = spoollog.hours_to_dry(s.material, log, when, s.grams_left, s.dry)
        if since is not None:
            out.append(Drying(str(s.id), hours, when + timedelta(hours=hours)))
        elif hours > 0:
            out.append(Drying(str(s.id), hours))
    return tuple(out)
