"""Readings as rows of a linear model: what each is off by, the terms it speaks of, the print and place it is of.

Terms, all stated at 5 mm (docs/methods.md 7.1): shrink, shift of holes and of outsides, a loss of small holes by the
inverse of their size, X apart from Y, a drift of each a week, the calliper's zero inside and outside and the chord of
its jaws; and one unknown for every print, every older lot or sheet, and every place that was read twice.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable
from dataclasses import dataclass
from datetime import date, timedelta
from enum import IntEnum

import numpy as np

from knollside.core.model import Array, Ints, Measurement

REFERENCE = 5.0  # mm; the size typical shifts are stated at
# Typical printed minus drawn diameter at that size, mm, and how far printers differ (one sigma). "plumb" is a lying
# hole measured from top to bottom: its roof sags.
TYPICAL: dict[tuple[str, str], tuple[float, float]] = {
    ("hole", "upright"): (-0.18, 0.10),
    ("hole", "lying"): (-0.28, 0.12),
    ("hole", "plumb"): (-0.42, 0.16),
    ("pin", "upright"): (0.04, 0.08),
    ("pin", "lying"): (0.06, 0.10),
    ("pin", "plumb"): (0.02, 0.12),
}


class Term(IntEnum):
    """Columns of the model, in order."""

    SHRINK = 0  # per mm of drawn size
    HOLE = 1
    PIN = 2
    SMALL = 3  # mm2: what holes lose by the inverse of their size
    X_OVER_Y = 4  # of the drawn size, from Y to X
    HOLE_DRIFT = 5  # mm a week
    PIN_DRIFT = 6
    ZERO_INSIDE = 7  # what the calliper's inside jaws read too much
    ZERO_OUTSIDE = 8
    JAWS = 9  # mm2: half the square of the width of the inside jaws' lands


TERMS = len(Term)


@dataclass(frozen=True)
class Rows:
    """``x`` (n, terms) and ``y`` (n,), mm; ``drawn`` (n,). ``extra`` (n, m) has a column for every print, older lot and
    place read twice, ``is_print``, ``is_lot`` and ``place_of`` (m,; drawn size, 0 for others) tell which. ``share``
    (n,) is how much of a place's own variance is left in a row; ``fixed`` (n,) variance of the tool alone, mm2;
    ``alone`` (n,) is 1 where a reading names no print. ``spans`` tells whether dates lie apart enough that a drift
    matters, ``both`` whether X and Y were told, ``checked`` whether a gauge tells of the calliper; ``newest`` the
    columns of ``extra`` of the last print's holes and outsides."""

    x: Array
    y: Array
    drawn: Array
    extra: Array
    is_print: Ints
    is_lot: Ints
    place_of: Array
    share: Array
    fixed: Array
    alone: Array
    spans: bool
    both: bool
    checked: bool
    newest: tuple[int | None, int | None]


def row_of(kind: str, drawn: float, across: str = "") -> Array:
    """The terms a hole or an outside of the next print takes part in."""
    x = np.zeros(TERMS)
    x[Term.SHRINK] = drawn - REFERENCE
    if kind == "hole":
        x[Term.HOLE], x[Term.SMALL] = 1, 1 / REFERENCE - 1 / drawn
    else:
        x[Term.PIN] = 1
    x[Term.X_OVER_Y] = {"x": 0.5, "y": -0.5}.get(across, 0.0) * drawn
    return x


READING = 0.1  # share of a lone reading's variance that is the calliper's: repeats lessen only that
_STEPS = (0.1, 0.05, 0.02)  # of callipers; finer ones count as a hundredth
_AGES = 14  # days
_A_DRIFT = 3  # days between prints from which a drift is asked for


def rows_of(used: list[Measurement], next_on: date | None, changed: tuple[date, ...] = ()) -> Rows:
    """Rows of readings of holes, outsides and known things; ``next_on`` the day of the print that is foretold,
    ``changed`` the days on which something was done to the printer that can change sizes."""
    days = [m.on for m in used if m.on is not None and not _known(m)]
    end = max(days) if days else None
    if end is not None and next_on is not None:
        # A printer does not move one way for ever: what is not read for long is as doubtful as after two weeks.
        end = min(max(next_on, end), end + timedelta(days=_AGES))
    checked = any(_known(m) or m.between is not None for m in used)
    x = np.array([_row(m, end, checked) for m in used]).reshape(-1, TERMS)
    extra, is_print, is_lot, place_of = _groups(used, changed)
    newest = tuple(_newest(used, extra, is_print, kind) for kind in ("hole", "pin"))
    repeats = np.array([m.repeats for m in used], float)
    shared = extra[:, place_of > 0].any(axis=1) if len(used) else np.zeros(0, bool)
    share = np.where(shared, 0.0, 1 - READING) + READING / repeats
    gauged = np.array([m.between is not None for m in used], bool)
    known = np.array([_known(m) for m in used], bool)
    share = np.where(gauged, np.where(shared, 0.0, 1 - READING), np.where(known, 0.0, share))
    fixed = np.full(len(used), _step([m.printed for m in used if m.between is None]) ** 2 / 12)
    for k, m in enumerate(used):
        if m.between is not None:
            fixed[k] = (m.between[1] - m.between[0]) ** 2 / 12
        elif known[k]:
            fixed[k] += 0.01**2 / m.repeats
    return Rows(
        x,
        np.array([m.printed - m.drawn for m in used]),
        np.array([m.drawn for m in used]),
        extra,
        is_print,
        is_lot,
        place_of,
        share,
        fixed,
        np.array([not (_known(m) or m.bar) for m in used], float),
        bool(days and end is not None and (end - min(days)).days >= _A_DRIFT),
        {"x", "y"} <= {m.across for m in used},
        checked,
        (newest[0], newest[1]),
    )


def _known(m: Measurement) -> bool:
    return m.kind in ("known hole", "known outside")


def _row(m: Measurement, end: date | None, checked: bool) -> Array:
    inside = m.kind in ("hole", "known hole")
    x = np.zeros(TERMS) if _known(m) else row_of(m.kind, m.drawn, m.across)
    if not _known(m) and m.on is not None and end is not None:
        x[Term.HOLE_DRIFT if inside else Term.PIN_DRIFT] = (m.on - end).days / 7
    # What gauges settle only; without a gauge the calliper is taken at its word.
    if checked and m.between is None:
        x[Term.ZERO_INSIDE if inside else Term.ZERO_OUTSIDE] = 1
        x[Term.JAWS] = -1 / m.printed if inside else 0
    return x


def _step(printed: list[float]) -> float:
    """The calliper's step: the coarsest that every reading is a multiple of, of four readings or more."""
    v = np.array(printed)
    if len(v) >= 4:
        for step in _STEPS:
            if np.abs(v / step - np.round(v / step)).max() < 1e-6:
                return step
    return 0.01


def _groups(used: list[Measurement], changed: tuple[date, ...]) -> tuple[Array, Ints, Ints, Array]:
    """A column for each print's holes and outsides, each older lot or sheet or time before a change of the printer,
    and each place read more than once."""
    columns: list[Array] = []
    what: list[tuple[bool, bool, float]] = []
    number = {m: k for k, m in enumerate(dict.fromkeys(_lot(m) for m in used))}
    dated = [m for m in used if _lot(m) != ("", "") and not _known(m)]
    newest = _lot(max(dated, key=lambda m: (m.on or date.min, number[_lot(m)]))) if dated else ("", "")

    def put(keys: list[Hashable], kind: tuple[bool, bool], least: int) -> None:
        for key in dict.fromkeys(k for k in keys if k is not None):
            hit = np.array([k == key for k in keys], float)
            if hit.sum() >= least:
                columns.append(hit)
                what.append((*kind, used[int(np.argmax(hit))].drawn if not any(kind) else 0.0))

    inside = [m.kind == "hole" for m in used]
    put(
        [None if _known(m) or not m.bar else (h, m.bar, m.on) for m, h in zip(used, inside, strict=True)],
        (True, False),
        1,
    )
    before = [_before(m, changed) for m in used]
    older = [not _known(m) and (b > 0 or _lot(m) not in (("", ""), newest)) for m, b in zip(used, before, strict=True)]
    keys: list[Hashable] = [
        (h, _lot(m), b) if o else None for m, h, o, b in zip(used, inside, older, before, strict=True)
    ]
    put(keys, (False, True), 1)
    put(_places(used), (False, False), 2)
    extra = np.array(columns).T.reshape(len(used), len(columns))
    told = np.array(what, float).reshape(-1, 3)
    return extra, told[:, 0].astype(np.int64), told[:, 1].astype(np.int64), told[:, 2]


def _newest(used: list[Measurement], extra: Array, is_print: Ints, kind: str) -> int | None:
    """The column of the last print's holes, or outsides: the latest day, then the last row."""
    mine = [k for k, m in enumerate(used) if m.kind == kind and m.bar]
    if not mine:
        return None
    last = max(mine, key=lambda k: (used[k].on or date.min, k))
    return int(np.flatnonzero((extra[last] > 0) & (is_print == 1))[0])


def _before(m: Measurement, changed: tuple[date, ...]) -> int:
    """Before how many changes of the printer a reading's print was made; one without a day is taken for new."""
    return 0 if m.on is None else sum(m.on < day for day in changed)


def _lot(m: Measurement) -> tuple[str, str]:
    return m.lot, m.sheet


def _places(used: list[Measurement]) -> list[Hashable]:
    """What tells one spot of one print: its name; without one, its size, where a gauge and a calliper both read it."""
    keys: list[Hashable] = []
    tools: dict[Hashable, set[bool]] = {}
    for m in used:
        told = not _known(m) and bool(m.bar or m.place)
        keys.append((m.kind, m.axis, m.bar, m.on, m.place or m.drawn, m.across) if told else None)
        tools.setdefault(keys[-1], set()).add(m.between is not None)
    return [k if m.place or len(tools[k]) == 2 else None for k, m in zip(keys, used, strict=True)]


def alike(readings: Iterable[Measurement], axis: str) -> list[Measurement]:
    """Those of one axis, and all of known things."""
    return [m for m in readings if _known(m) or (m.axis == axis and m.kind in ("hole", "pin"))]
