"""Stored spools as what plates and weeks ask: filament, grams left, water, drying."""

from __future__ import annotations

from datetime import datetime
from functools import lru_cache

from knollside.core.model import Range
from knollside.core.model.running import SpoolLog
from knollside.core.run import spoollog
from knollside.core.run.moisture import Drying as DryingOf
from knollside.core.run.moisture import Water
from knollside.core.run.spoollog import Stored
from knollside.core.run.spools import OnShelf
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


def stored(shelf: Shelf) -> tuple[Stored, ...]:
    """Every spool with its log, as a week asks what is too wet."""
    return tuple(Stored(str(s.id), s.material, log_of(s, shelf), s.grams_left, s.dry) for s in shelf.spools)


def water_now(spool: Spool, log: SpoolLog, now: datetime) -> Water | None:
    return _water(spool.material, log, now.replace(minute=0, second=0), spool.dry)


def drying_now(spool: Spool, log: SpoolLog, now: datetime) -> DryingOf | None:
    water = water_now(spool, log, now)
    return None if water is None else _drying(spool.material, log, water, spool.grams_left)


# Page, shelf and verdict ask the same at every refresh, and each answer is an integral: once an hour is enough.
_water = lru_cache(maxsize=64)(spoollog.water_now)
_drying = lru_cache(maxsize=64)(spoollog.drying_now)
