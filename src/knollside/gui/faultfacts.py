"""What the workshop knows of the open part's print, as the odds of causes ask for it."""

from __future__ import annotations

from datetime import datetime

import numpy as np

from knollside.core.job.questions.orientation import Supported
from knollside.core.lay.supports import held
from knollside.core.learning.faults import odds_of
from knollside.core.learning.faultstate import RECENT, Known, shifted, shifts
from knollside.core.learning.supportgap import settle
from knollside.core.material.bond import usual_nozzle
from knollside.core.model.faults import Cause, FaultCase
from knollside.core.run.upkeep import Ran, hours_since
from knollside.gui.openpart import OpenPart
from knollside.gui.spoolfacts import log_of, water_now

_NEAR = 2.0  # mm of height within which something is at the place
_WARPS = {"PLA": 0.1, "PETG": 0.25, "ABS": 0.8, "ASA": 0.7, "PC": 0.9, "Nylon": 0.8, "PP": 0.9, "TPU 95A": 0.1}


def height_of(part: OpenPart, place: tuple[float, float, float], vertices: np.ndarray) -> float:
    """Of a place over the bed, mm, the way the part lies."""
    up = np.asarray(part.direction)
    return float(np.dot(place, up) - (vertices @ up).min())


def known_of(part: OpenPart, case: FaultCase, told: Supported | None, now: datetime) -> Known:
    """All that is known; what is not stays open. ``told``: the layers of the way it lies, where they are cut."""
    log = part.shelf.printer_log(part.printer_id)
    events = sorted(log.events, key=lambda e: e.at)
    recent = next((e for e in reversed(events) if 0 <= (now - e.at).days <= RECENT), None)
    ran = [Ran(r.made, r.actual_hours or r.estimate_hours or 0.0, "carbon" in r.material) for r in part.records]
    before = [r.made for r in part.records if r.made < now]
    recipe, usual = part.recipe, usual_nozzle(part.plain_card)
    last = next((d for _, d in _plates(part) if d.first_layer), None)
    known = Known(
        water=_water(part, now),
        nozzle_hours=hours_since(events, ran, "nozzle", not part.printer.hard_nozzle) if ran else None,
        changed=recent.kind if recent is not None else None,
        rested=(now - max(before)).days if before else None,
        first_layer=last.first_layer if last is not None else "",
        fan=recipe.fan,
        degrees_off=None if recipe.nozzle_c is None else recipe.nozzle_c - usual,
        warps=_WARPS.get(part.material, 0.4),
        chamber=part.printer.enclosed,
        roof_mm=recipe.tops * recipe.layer_height,
        at_start=case.height < 1.0 if case.height is not None else None,
    )
    return known if told is None else _with_layers(known, part, case, told)


def odds(part: OpenPart, known: Known) -> dict[Cause, float]:
    """Odds of causes: typical, this printer's own cases, and what is known now."""
    mine = [c for c in part.shelf.faults.values() if c.printer == part.printer_id]
    return shifted(odds_of(mine), known)


def reasons(known: Known, cause: Cause) -> list[str]:
    """Why its odds are not the typical ones."""
    return [f"{s.why}: {'likelier' if s.factor > 1 else 'less likely'}" for s in shifts(known) if s.cause == cause]


def _plates(part: OpenPart):  # type: ignore[no-untyped-def]
    """Plates with this part, the newest first."""
    done = [(n, d) for n, run in part.shelf.runs.items() for d in run.done if any(p == part.id for p, _ in d.pieces)]
    return sorted(done, key=lambda x: x[1].begun or datetime.min, reverse=True)


def _water(part: OpenPart, now: datetime) -> float | None:
    spool = part.spool
    if spool is None:
        return None
    water = water_now(spool, log_of(spool, part.shelf), now)
    return None if water is None or water.harm.value <= 0 else water.now.value / water.harm.value


def _with_layers(known: Known, part: OpenPart, case: FaultCase, told: Supported) -> Known:
    """What the layers say at the place, and of supports, besides."""
    wishes = part.support_settings
    more: dict[str, object] = {"supported": any(held(r, wishes) for r in told.regions)}
    if part.support_trials:
        found = settle(part.support_trials, part.roof_fan)
        if found.settled:
            more["gap_off"] = wishes.gap_mm - found.best
    if case.height is not None and len(told.heights):
        k = int(np.argmin(np.abs(told.heights - case.height)))
        near = [r for r in told.regions if r.low - _NEAR <= case.height <= r.high + _NEAR]
        hangs = any(r.needed and not held(r, wishes) for r in near)
        more |= {"layer_s": float(told.seconds[k]), "hangs": hangs}
    return known.model_copy(update=more)
