"""A print while it runs: when it will end by the layer it is at, and what its readings say is wrong.

The hours of a print are its estimate times a factor; the estimate's range is what is known of the factor before. How
long the layers so far took tells it, the better the further it is: the log of the factor is normal, and what the first
share f of the work took is off from the whole by a normal of ``DRIFT`` (1 - f), as layers are estimated too long or too
short in stretches, not each by itself. The product of the two normals is the factor after.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

import numpy as np

from knollside.core.model import Range
from knollside.core.run.sequence import Standing

DRIFT = 0.14  # 0.10 on toolpaths of ten parts timed move by move; a machine has habits of its own
STEPS = 24  # of the pace
_Z = 1.6449

# Typical limits, from what heaters and sensors of such machines do when they are sound.
COLD, HOT = 12.0, 15.0  # K off what is set
SOAK = 60.0  # s that it must last
QUIET = 300.0  # s without a word
STILL = 45.0  # s in which filament must move
SLOW = 6.0  # times the longest layer expected


@dataclass(frozen=True)
class Reading:
    """What a printer says of itself ``at`` s after the print began: layers laid, nozzle and bed, C, and what they are
    set to; whether filament moves (None where nothing sees it) and whether there is any; ``done`` when it says so."""

    at: float
    layer: int
    nozzle_c: float
    nozzle_set: float
    bed_c: float
    bed_set: float
    moving: bool | None = None
    filament: bool | None = None
    done: bool = False


class Trouble(Enum):
    HOT = "hot"
    COLD = "cold"
    BED = "bed"
    EMPTY = "empty"
    JAM = "jam"
    STUCK = "stuck"
    QUIET = "quiet"


@dataclass(frozen=True)
class Alarm:
    """A trouble seen ``at`` s after the print began; ``words`` say what, ``act`` what to do; ``stop``: the print is not
    to run on."""

    trouble: Trouble
    at: float
    words: str
    act: str
    stop: bool


def pace_of(pieces: Sequence[Standing], order: Sequence[int] | None) -> tuple[int, tuple[float, ...]]:
    """Layers of a plate, one piece after another where an ``order`` is given, and the share of its time that is over
    after each of ``STEPS`` even steps of them, from 0 to 1."""
    hours = np.array([p.hours for p in pieces])
    if order is None:
        layers = max(p.layers for p in pieces)
        at = np.linspace(0, layers, STEPS + 1)
        done = sum(h * _of_piece(p, at) for p, h in zip(pieces, hours, strict=True))
    else:
        layers = sum(pieces[k].layers for k in order)
        at, below, done = np.linspace(0, layers, STEPS + 1), 0, np.zeros(STEPS + 1)
        for k in order:
            done = done + hours[k] * _of_piece(pieces[k], at - below)
            below += pieces[k].layers
    return layers, tuple(float(v) for v in np.asarray(done) / max(hours.sum(), 1e-9))


def _of_piece(p: Standing, layer: np.ndarray) -> np.ndarray:
    """Share of a piece's time after so many layers."""
    share = np.clip(layer / max(p.layers, 1), 0, 1)
    return np.interp(share, np.linspace(0, 1, len(p.pace)), p.pace) if p.pace else share


def share_at(layer: float, layers: int, pace: Sequence[float]) -> float:
    """Share of a plate's time that is over after so many layers."""
    f = float(np.clip(layer / max(layers, 1), 0, 1))
    return float(np.interp(f, np.linspace(0, 1, len(pace)), pace)) if pace else f


def whole_hours(hours: Range, share: float, elapsed: float) -> Range:
    """How long a print takes in all, hours: ``hours`` before it began, a ``share`` of its time's work being done after
    ``elapsed`` hours. Nine in ten; never less than what is over already."""
    if share <= 0 or elapsed <= 0:
        return Range(max(hours.value, elapsed), max(hours.low, elapsed), max(hours.high, elapsed), hours.source)
    if share >= 1:
        return Range(elapsed, elapsed, elapsed, "by its layers")
    before = max(np.log(hours.high / hours.low) / (2 * _Z), 0.01)
    middle = np.log(hours.value)
    seen = np.log(elapsed / share)
    off = DRIFT * (1 - share)
    weight = before**2 / (before**2 + off**2)
    log, doubt = middle + weight * (seen - middle), _Z * before * np.sqrt(1 - weight)
    value, low, high = (float(np.exp(log + k * doubt)) for k in (0, -1, 1))
    return Range(max(value, elapsed), max(low, elapsed), max(high, elapsed), "by its layers")


@dataclass(frozen=True)
class Progress:
    """How far a print is: its ``share`` of the work, its ``layer``, and how long it takes in all, hours."""

    share: float
    layer: int
    whole: Range


def by_eye(expected: Range, layers: int, pace: Sequence[float], seen: tuple[int, float] | None, now: float) -> Progress:
    """By a ``seen`` layer and the hours at which it was read off, if any; ``now`` hours since it was begun."""
    if seen is None:
        return Progress(min(now / max(expected.value, 1e-6), 1.0), 0, whole_hours(expected, 0.0, now))
    layer, at = seen
    share = share_at(max(layer - 0.5, 0.0), layers, pace)
    whole = whole_hours(expected, share, at)
    value, low, high = (max(v, now) for v in (whole.value, whole.low, whole.high))
    return Progress(share, layer, Range(value, low, high, whole.source))


def by_readings(expected: Range, layers: int, pace: Sequence[float], readings: Sequence[Reading]) -> Progress:
    """By what its monitor said; the time to heat up is none of its layers'."""
    last = readings[-1]
    heated = next((r.at for r in readings if r.layer > 0), last.at) / 3600
    share = 1.0 if last.done else share_at(max(last.layer - 0.5, 0.0), layers, pace)
    told = next((r.at for r in readings if r.done), last.at) / 3600
    rest = whole_hours(expected, share, told - heated)
    return Progress(share, last.layer, Range(rest.value + heated, rest.low + heated, rest.high + heated, rest.source))


def longest_layer(layers: int, pace: Sequence[float], hours: float) -> float:
    """Seconds of the longest layer there is to expect of a print of so many hours."""
    if len(pace) < 2:
        return hours * 3600 / max(layers, 1)
    each = max(layers / (len(pace) - 1), 1.0)
    return float(np.max(np.diff(pace))) * hours * 3600 / each


def alarms(readings: Sequence[Reading], now: float, layer_s: float) -> tuple[Alarm, ...]:
    """What is wrong by the readings so far, ``now`` s after the print began, the first seen first. ``layer_s``: the
    longest time one of its layers is expected to take. What comes loose, warps or strings is not in them."""
    if not readings:
        return (_quiet(now),) if now > QUIET else ()
    out = [a for a in (_heat(readings), _bed(readings), _feed(readings), _stuck(readings, now, layer_s)) if a]
    if not readings[-1].done and now - readings[-1].at > QUIET:
        out.append(_quiet(readings[-1].at + QUIET))
    return tuple(sorted(out, key=lambda a: a.at))


def _lasting(bad: np.ndarray, at: np.ndarray, least: float) -> float | None:
    """From when on something that is bad has been so for long enough; None while it has not."""
    since = None
    for b, t in zip(bad, at, strict=True):
        if not b:
            since = None
        elif since is None:
            since = t
        elif t - since >= least:
            return float(t)
    return None


def _columns(readings: Sequence[Reading]) -> tuple[np.ndarray, ...]:
    rows = [(r.at, r.nozzle_c, r.nozzle_set, r.bed_c, r.bed_set) for r in readings if not r.done]
    return tuple(np.array(rows, float).reshape(-1, 5).T)


def _heat(readings: Sequence[Reading]) -> Alarm | None:
    at, nozzle, want, _, _ = _columns(readings)
    warm = np.maximum.accumulate(nozzle >= want - 5) if len(nozzle) else nozzle > 0
    hot = _lasting(warm & (nozzle > want + HOT), at, 0.3 * SOAK)
    if hot is not None:
        k = int(np.searchsorted(at, hot))
        words = f"The nozzle is at {nozzle[k]:.0f} °C, set to {want[k]:.0f}."
        return Alarm(Trouble.HOT, hot, words, "Switch it off at the wall; look at heater and sensor.", True)
    cold = _lasting(warm & (nozzle < want - COLD), at, SOAK)
    if cold is None:
        return None
    k = int(np.searchsorted(at, cold))
    words = f"The nozzle has fallen to {nozzle[k]:.0f} °C, set to {want[k]:.0f}."
    return Alarm(
        Trouble.COLD,
        cold,
        words,
        "Stop it and stay by: a loose heater or sensor can burn. Layers laid since hold badly.",
        True,
    )


def _bed(readings: Sequence[Reading]) -> Alarm | None:
    at, _, _, bed, want = _columns(readings)
    warm = np.maximum.accumulate(bed >= want - 3) if len(bed) else bed > 0
    cold = _lasting(warm & (bed < want - COLD), at, 2 * SOAK)
    if cold is None:
        return None
    k = int(np.searchsorted(at, cold))
    words = f"The bed has fallen to {bed[k]:.0f} °C, set to {want[k]:.0f}."
    return Alarm(Trouble.BED, cold, words, "Parts will let go: stop it, look at the bed's plug and cable.", True)


def _feed(readings: Sequence[Reading]) -> Alarm | None:
    at = np.array([r.at for r in readings])
    empty = _lasting(np.array([r.filament is False and not r.done for r in readings]), at, 0.0)
    if empty is not None:
        return Alarm(Trouble.EMPTY, empty, "The filament has run out.", "Load the next spool, purge, go on.", False)
    still = _lasting(np.array([r.moving is False and not r.done for r in readings]), at, STILL)
    if still is None:
        return None
    words = "It prints, but no filament moves."
    return Alarm(Trouble.JAM, still, words, "Stop it: look for a tangle at the spool, then at the nozzle.", True)


def _stuck(readings: Sequence[Reading], now: float, layer_s: float) -> Alarm | None:
    """One layer for much longer than any is expected to take, from the first one on."""
    last = readings[-1]
    if last.done or last.layer < 1:
        return None
    since = next(r.at for r in readings if r.layer == last.layer)
    limit = max(SLOW * layer_s, 600.0)
    if last.at - since < limit or now - last.at > QUIET:
        return None
    words = f"It has been at layer {last.layer} for {(last.at - since) / 60:.0f} min."
    return Alarm(Trouble.STUCK, since + limit, words, "Go and look: it may wait for you, or it hangs.", False)


def _quiet(at: float) -> Alarm:
    words = "It says nothing any more."
    act = "Go and look: it may print on, or hang with the heat on."
    return Alarm(Trouble.QUIET, at, words, act, False)
