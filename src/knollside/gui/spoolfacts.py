"""Spools as they are stored, as what plates and weeks ask: filament, grams left with their doubt, water, drying."""

from __future__ import annotations

from datetime import datetime

from knollside.core.material.cards import material
from knollside.core.model import Range, Refused
from knollside.core.model.running import SpoolLog
from knollside.core.run.moisture import Drying as DryingOf
from knollside.core.run.moisture import Stay, Water, drying_of, uptake_of, water_of
from knollside.core.run.spools import Known, Left, OnShelf, left_on
from knollside.core.run.week import Drying
from knollside.gui.openpart import Shelf
from knollside.store.records import Spool

WET = 0.5  # chance of harm from which a spool is dried before its plate
_BOX, _ROOM = 0.2, 0.5  # relative humidity, typical, where none was measured


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


def left_of(spool: Spool, log: SpoolLog) -> Left:
    """Grams on a spool, by its prints and by its last weighing."""
    weighed = [w for w in log.weighings if w.drying is None]
    last = weighed[-1] if weighed else None
    took = tuple(t.grams for t in log.took)
    since = tuple(t.grams for t in log.took if last is not None and t.at > last.at)
    return left_on(Known(log.net_g, log.tare_g, None if last is None else last.gross_g, took, since, log.net_doubt_g))


def grams_of(spool: Spool, log: SpoolLog) -> Range:
    """As :func:`left_of`; nothing known where its weighings cannot be right."""
    try:
        return left_of(spool, log).grams
    except Refused:
        return Range(0.0, 0.0, spool.grams_left, "contradicted")


def on_shelf(shelf: Shelf) -> tuple[OnShelf, ...]:
    return tuple(
        OnShelf(str(s.id), s.name, filament_of(s, s.material, shelf), grams_of(s, log_of(s, shelf)))
        for s in shelf.spools
    )


def water_now(spool: Spool, log: SpoolLog, now: datetime) -> Water | None:
    """Water in a spool since it was last dried; None for a material whose uptake is not known."""
    try:
        uptake = uptake_of(spool.material)
    except Refused:
        return None
    plain = now.replace(tzinfo=None)
    dried = max((d.at for d in log.dried), default=None)
    opened = datetime(log.opened.year, log.opened.month, log.opened.day) if log.opened is not None else None
    begin = dried or opened
    harm = uptake.harm.value
    begun = Range(0.4 * harm, 0.1 * harm, 0.9 * harm) if dried is not None else None
    if begin is None:
        # Nothing is known of when it was opened: as it was said to be.
        return water_of(uptake, [Stay(24.0 * (2 if spool.dry else 30), _BOX if spool.dry else _ROOM)])
    stays = []
    marks = [s for s in sorted(log.stays, key=lambda s: s.since) if s.since < plain]
    ends = [*(max(s.since, begin) for s in marks), plain]
    before = max((ends[0] - begin).total_seconds() / 3600, 0.0)
    if before:
        stays.append(Stay(before, _ROOM))
    for s, a, b in zip(marks, ends, ends[1:], strict=False):
        hours = (b - a).total_seconds() / 3600
        if hours > 0:
            stays.append(Stay(hours, s.humidity if s.humidity is not None else _BOX if s.where == "box" else _ROOM))
    seen = tuple(t.stringy for t in log.took if t.stringy is not None and t.at > begin)
    return water_of(uptake, stays, begun, seen)


def drying_now(spool: Spool, log: SpoolLog, now: datetime) -> DryingOf | None:
    """How long to dry a spool at its material's usual heat, with what weighings in the drier teach."""
    water = water_now(spool, log, now)
    if water is None:
        return None
    usual = material(spool.material).dry or (55, 6)
    last = max((d.at for d in log.dried), default=datetime(1970, 1, 1))
    weighings = [(w.drying, w.gross_g) for w in log.weighings if w.drying is not None and w.at > last]
    grams = max(grams_of(spool, log).value, 50.0)
    return drying_of(uptake_of(spool.material), water.now, float(usual[1]), float(usual[0]), grams, weighings)


def to_dry(shelf: Shelf, now: datetime) -> tuple[Drying, ...]:
    """Spools that are likely too wet to print, with the hours that dry them in nine of ten."""
    out = []
    for s in shelf.spools:
        log = log_of(s, shelf)
        water = water_now(s, log, now)
        if water is None or water.wet < WET:
            continue
        found = drying_now(s, log, now)
        if found is not None and found.reaches > 0.5:
            out.append(Drying(str(s.id), min(float(round(found.planned)), 24.0)))
    return tuple(out)
