"""A spool's log as what plates and weeks ask of it: grams left with their doubt, water, hours of drying."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from knollside.core.material.cards import material
from knollside.core.model import Range, Refused
from knollside.core.model.running import SpoolLog
from knollside.core.run.moisture import Drying, Stay, Water, drying_of, uptake_of, water_of
from knollside.core.run.spools import Known, Left, left_on
from knollside.core.run.weeknumbers import Drying as InDrier

WET = 0.5  # chance of harm from which a spool is dried before its plate
_BOX, _ROOM = 0.2, 0.5  # relative humidity, typical, where none was measured


def left_of(log: SpoolLog) -> Left:
    """Grams on a spool, by its prints and by its last weighing. Raises :class:`Refused` for one lighter than empty."""
    weighed = [w for w in log.weighings if w.drying is None]
    last = weighed[-1] if weighed else None
    took = tuple(t.grams for t in log.took)
    since = tuple(t.grams for t in log.took if last is not None and t.at > last.at)
    return left_on(Known(log.net_g, log.tare_g, None if last is None else last.gross_g, took, since, log.net_doubt_g))


def grams_of(log: SpoolLog, said: float) -> Range:
    """As :func:`left_of`; nothing known up to what was ``said`` where its weighings cannot be right."""
    try:
        return left_of(log).grams
    except Refused:
        return Range(0.0, 0.0, said, "contradicted")


def water_now(name: str, log: SpoolLog, now: datetime, said_dry: bool = False) -> Water | None:
    """Water in a spool of a material since it was last dried or opened; as it was ``said`` to be where neither is
    known. None for a material whose uptake is not known."""
    try:
        uptake = uptake_of(name)
    except Refused:
        return None
    plain = now.replace(tzinfo=None)
    dried = max((d.at for d in log.dried), default=None)
    opened = datetime(log.opened.year, log.opened.month, log.opened.day) if log.opened is not None else None
    begin = dried or opened or min((s.since for s in log.stays), default=None)
    harm = uptake.harm.value
    begun = Range(0.4 * harm, 0.1 * harm, 0.9 * harm) if dried is not None else None
    if begin is None:
        return water_of(uptake, [Stay(24.0 * (2 if said_dry else 30), _BOX if said_dry else _ROOM)])
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


def drying_now(name: str, log: SpoolLog, water: Water, said: float) -> Drying:
    """How long to dry a spool with so much ``water`` at its material's usual heat, with what weighings in the drier
    teach (typical hours, and why, where they cannot be right); ``said`` grams."""
    usual = material(name).dry or (55, 6)
    last = max((d.at for d in log.dried), default=datetime(1970, 1, 1))
    weighings = [(w.drying, w.gross_g) for w in log.weighings if w.drying is not None and w.at > last]
    grams = max(grams_of(log, said).value, 50.0)
    told = uptake_of(name), water.now, float(usual[1]), float(usual[0]), grams
    try:
        return drying_of(*told, weighings)
    except Refused as refusal:
        return replace(drying_of(*told, []), trouble=str(refusal))


def hours_to_dry(name: str, log: SpoolLog, now: datetime, said: float, said_dry: bool = False) -> float:
    """Hours in the drier that a spool needs before it prints, dry then in nine of ten; 0 where it is fit to print or
    drying does not help."""
    water = water_now(name, log, now, said_dry)
    if water is None or water.wet < WET:
        return 0.0
    found = drying_now(name, log, water, said)
    return min(float(round(found.planned)), 24.0) if found.reaches > 0.5 else 0.0


@dataclass(frozen=True)
class Stored:
    """A spool as its log tells of it: ``key``, material, grams and dryness as they were said to be."""

    key: str
    material: str
    log: SpoolLog
    said: float
    said_dry: bool = False


def to_dry(spools: Iterable[Stored], now: datetime) -> tuple[InDrier, ...]:
    """Spools that are likely too wet to print, with the hours that dry them in nine of ten; and what is in the drier,
    until when. ``now`` is aware of its zone."""
    out = []
    for s in spools:
        since = s.log.drying_since
        when = now if since is None else since.replace(tzinfo=now.tzinfo)
        hours = hours_to_dry(s.material, s.log, when, s.said, s.said_dry)
        if since is not None:
            out.append(InDrier(s.key, hours, when + timedelta(hours=hours)))
        elif hours > 0:
            out.append(InDrier(s.key, hours))
    return tuple(out)
