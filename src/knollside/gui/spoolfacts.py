"""Stored spools as what plates and weeks ask: filament, grams left, water, drying."""

from __future__ import annotations

from datetime import datetime
from functools import lru_cache

from knollside.core.job.running import loaded_as
from knollside.core.model import Range
from knollside.core.model.running import PrinterLog, SpoolLog
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


def loaded_on(shelf: Shelf) -> dict[int, str]:
    """Of each printer the key of the spool on it, or what stands for one that is not on the shelf; nothing for none."""
    known = {s.id for s in shelf.spools}
    out = {n: str(log.spool) for n in shelf.printers if (log := shelf.printer_log(n)).spool in known}
    spools = on_shelf(shelf)
    for n in shelf.printers:
        if n not in out:
            out[n] = loaded_as(shelf.printer_log(n).loaded, spools, out.values())
    return out


def loaded_words(shelf: Shelf) -> dict[int, str]:
    """What is on each printer, in words; nothing for nothing."""
    names = {str(s.id): s.name for s in shelf.spools}
    return {n: names.get(key) or shelf.printer_log(n).loaded for n, key in loaded_on(shelf).items()}


def put_on(shelf: Shelf, printer: int, spool: Spool | None, filament: str) -> dict[int, PrinterLog]:
    """Printers' logs after a spool went on one of them (None: one of a ``filament`` that is not on the shelf, or
    nothing): it comes off any other that held it."""
    held, out = loaded_on(shelf), {}
    for n in shelf.printers:
        if n != printer and spool is not None and held[n] == str(spool.id):
            out[n] = shelf.printer_log(n).model_copy(update={"spool": 0, "loaded": ""})
    change = {"spool": spool.id if spool is not None else 0, "loaded": "" if spool is not None else filament[:80]}
    out[printer] = shelf.printer_log(printer).model_copy(update=change)
    return out


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
