"""Where readings do not behave as the model takes for granted: said, with what to measure next (docs/methods.md 7.1).

Exact tests of least squares (Student's t and Fisher's F), each with a mean of its own for every print; each a false
alarm in one of fifty. They say what is there; the model weighs the same terms by itself.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date

import numpy as np
from scipy.special import fdtrc, stdtr

from knollside.core.fit.process import A_SLIP, Process, process_of
from knollside.core.fit.rows import REFERENCE, Term, row_of
from knollside.core.model import Array, Measurement

_ALARM = 0.02
_FAR, _TIMES = 0.15, 4.0  # a print so far off the others, mm and in scatters, is another printer's
_ORDER = 0.25  # in its right order a bar scatters less than this share of what it does as read


@dataclass(frozen=True)
class Doubt:
    """A sentence of what does not fit, and how likely it would show by chance alone."""

    words: str
    chance: float


def doubts(process: Process, kind: str) -> tuple[Doubt, ...]:
    """What readings of 'hole' or 'pin' say against a straight line that every print shares."""
    good = [
        m
        for m, slip in zip(process.used, process.posterior.slips, strict=True)
        if m.kind == kind and m.between is None and slip <= A_SLIP
    ]
    if len(good) < 5:
        return ()
    y = np.array([m.printed - m.drawn for m in good])
    d = np.array([m.drawn for m in good])
    keys = [(m.bar, m.on) for m in good]
    names = list(dict.fromkeys(keys))
    prints = np.array([[k == n for n in names] for k in keys], float)
    found = [
        _curved(y, d, prints, kind),
        _differing(y, d, prints),
        _moving(y, d, prints, names),
        _apart(good, y, prints),
    ]
    return tuple(f for f in found if f is not None)


def _last(x: Array, y: Array) -> tuple[float, float] | None:
    """The last column's coefficient and the chance of one so far from nought; None where it cannot be told."""
    n, p = x.shape
    rank = int(np.linalg.matrix_rank(x))
    if rank < p or n - p < 2:
        return None
    inner = np.linalg.inv(x.T @ x)
    found = inner @ x.T @ y
    rest = y - x @ found
    sigma2 = float(rest @ rest) / (n - p)
    t = abs(found[-1]) / np.sqrt(max(sigma2 * inner[-1, -1], 1e-18))
    return float(found[-1]), 2 * float(stdtr(n - p, -t))


def _curved(y: Array, d: Array, prints: Array, kind: str) -> Doubt | None:
    if len(set(np.round(d, 2))) < 3:
        return None
    told = _last(np.column_stack([prints, d, 1 / d]), y)
    if told is None or told[1] > _ALARM:
        return None
    what = "holes" if kind == "hole" else "outsides"
    how = {"hole": ("close more", "close less"), "pin": ("come out smaller", "come out larger")}[kind][int(told[0] > 0)]
    sizes = len(set(np.round(d, 2)))
    return Doubt(
        f"The {sizes} sizes do not lie on one line: small {what} {how}. Print the bar with 3, 5, 8 and 12 mm.", told[1]
    )


def _differing(y: Array, d: Array, prints: Array) -> Doubt | None:
    n, k = prints.shape
    if k < 2 or n - k < 3:
        return None
    slope = [d - d.mean()] if np.ptp(d) > 0.5 else []
    one, many = np.column_stack([np.ones(n), *slope]), np.column_stack([prints, *slope])

    def rest(x: Array) -> float:
        return float(((y - x @ np.linalg.lstsq(x, y, rcond=None)[0]) ** 2).sum())

    free = n - many.shape[1]
    if free < 2:
        return None
    left = max(rest(many), 1e-12)
    chance = float(fdtrc(k - 1, free, (rest(one) - left) / (k - 1) / (left / free)))
    if chance > _ALARM:
        return None
    means = np.linalg.lstsq(many, y, rcond=None)[0][:k]
    return Doubt(
        f"Prints differ from each other by about {float(np.std(means, ddof=1)):.2f} mm: one more print tells more than "
        "more places on this one.",
        chance,
    )


def _moving(y: Array, d: Array, prints: Array, names: list[tuple[str, date | None]]) -> Doubt | None:
    days = [on for _, on in names]
    if len(names) < 4 or any(on is None for on in days) or len(set(days)) < 3:
        return None
    slope = [d - d.mean()] if np.ptp(d) > 0.5 else []
    means = np.linalg.lstsq(np.column_stack([prints, *slope]), y, rcond=None)[0][: len(names)]
    weeks = np.array([(on - days[0]).days / 7 for on in days if on is not None and days[0] is not None])
    told = _last(np.column_stack([np.ones(len(names)), weeks]), means)
    if told is None or told[1] > _ALARM:
        return None
    return Doubt(
        f"Sizes move by {told[0]:+.3f} mm a week. What was learned longest ago counts least; look for the cause at the "
        "printer.",
        told[1],
    )


def _apart(good: list[Measurement], y: Array, prints: Array) -> Doubt | None:
    if not {"x", "y"} <= {m.across for m in good}:
        return None
    d = np.array([m.drawn for m in good])
    lean = np.array([row_of(m.kind, m.drawn, m.across)[Term.X_OVER_Y] for m in good])
    told = _last(np.column_stack([prints, d, lean]), y)
    if told is None or told[1] > _ALARM:
        return None
    larger, smaller = ("X", "Y") if told[0] > 0 else ("Y", "X")
    return Doubt(
        f"Sizes come out {abs(told[0]) * 100:.1f} % larger along {larger} than along {smaller}: cure it at the "
        "printer.",
        told[1],
    )


def strangers(readings: Iterable[Measurement], axis: str = "upright") -> tuple[str, ...]:
    """Bars so far off all others that they may be another printer's, or another material's: one sentence each."""
    taken = [m for m in readings if m.axis == axis and m.kind in ("hole", "pin") and not m.left_out and m.bar]
    out = []
    for key in dict.fromkeys((m.bar, m.on) for m in taken):
        mine = [m for m in taken if (m.bar, m.on) == key]
        rest = [m for m in taken if (m.bar, m.on) != key]
        if len(mine) < 3 or len(rest) < 3:
            continue
        others = process_of(rest, axis)
        off = [(m.printed - m.drawn) - others.shift(m.kind, m.drawn).value for m in mine]
        middle = float(np.median(off))
        if abs(middle) > max(_FAR, _TIMES * others.print_to_print) and float(
            np.median(np.abs(off - np.array(middle)))
        ) < (abs(middle) / 2):
            on = f" of {key[1]:%d %b}" if key[1] is not None else ""
            out.append(
                f"The readings of {key[0]}{on} lie {middle:+.2f} mm off all others: were they of another printer or "
                "material, or was something changed in between?"
            )
    return tuple(out)


def put_in_order(readings: list[Measurement]) -> list[Measurement] | None:
    """The same bar with its sizes given to the places in another order, where that alone makes them agree; else None.

    Looked for: read from the other end, and each place off by one or two.
    """
    if len(readings) < 4 or len({m.kind for m in readings}) > 1:
        return None
    drawn = np.array([m.drawn for m in readings])
    sizes = np.array([m.printed for m in readings])
    if np.ptp(drawn) < 1:
        return None

    def spread(told: Array) -> float:
        line = np.column_stack([np.ones(len(drawn)), drawn - REFERENCE])
        off = told - drawn
        # A shrink of a few hundredths is none of a bar's: the line is kept nearly level.
        found = np.linalg.solve(line.T @ line + np.diag([1e-6, 1e4]), line.T @ off)
        return float(np.std(off - line @ found)) + 0.3 * max(abs(float(np.mean(off))) - 0.6, 0.0)

    orders = [np.arange(len(sizes))[::-1], *(np.roll(np.arange(len(sizes)), k) for k in (1, -1, 2, -2))]
    best = min(orders, key=lambda o: spread(sizes[o]))
    now = spread(sizes)
    if spread(sizes[best]) < min(_ORDER * now, 0.12) and now > 0.2:
        return [m.model_copy(update={"printed": float(v)}) for m, v in zip(readings, sizes[best], strict=True)]
    return None


@dataclass(frozen=True)
class Disorder:
    """A bar that looks as if its sizes had been written beside other places: where its readings stand among all, and
    the sizes as they would agree, mm."""

    bar: str
    at: tuple[int, ...]
    printed: tuple[float, ...]

    @property
    def words(self) -> str:
        return (
            f"The readings of {self.bar or 'one bar'} agree with each other only in another order, as if read from the "
            "other end or a place off."
        )


def disorders(readings: tuple[Measurement, ...]) -> tuple[Disorder, ...]:
    """Bars that would agree in another order, each by itself."""
    groups: dict[tuple[object, ...], list[int]] = {}
    for i, m in enumerate(readings):
        if m.kind in ("hole", "pin") and m.between is None and not m.left_out:
            groups.setdefault((m.bar, m.on, m.kind, m.axis, m.across), []).append(i)
    out = []
    for key, at in groups.items():
        better = put_in_order([readings[i] for i in at])
        if better is not None:
            out.append(Disorder(str(key[0]), tuple(at), tuple(m.printed for m in better)))
    return tuple(out)


@dataclass(frozen=True)
class NextReading:
    """The reading that would lessen the doubt most: of a 'hole' or 'pin' of a drawn size, on a new print or on the last
    one, along an axis where that matters; the doubt now and with it, mm, as half an interval of nine in ten."""

    kind: str
    drawn: float
    new_print: bool
    across: str
    now: float
    then: float

    @property
    def words(self) -> str:
        where = "on one more print" if self.new_print else "on the print you have"
        along = f", along {self.across.upper()}" if self.across else ""
        what = "hole" if self.kind == "hole" else "outside"
        if self.then > 0.9 * self.now:
            return "No single reading would lessen the doubt much now."
        return (
            f"Worth most next: one {what} of {self.drawn:g} mm {where}{along}; the doubt falls from {self.now:.2f} to "
            f"{self.then:.2f} mm."
        )


def next_reading(process: Process, kind: str, drawn: float, sizes: tuple[float, ...] = (3, 5, 8, 12)) -> NextReading:
    """The candidate with the least doubt left of what a size of the next print comes to (its own place's scatter left
    out); each candidate's effect is the Gauss-Markov update at every grid point, weights as they are."""
    p, target = process.posterior, row_of(kind, drawn)
    z = 1.645
    latest = p.latest(kind)
    best: NextReading | None = None
    now = p.foretell(target, 1).sigma * z
    full = p.padded(target)
    for size in dict.fromkeys((*sizes, round(drawn, 2))):
        for across in ("", "x", "y") if p.apart else ("",):
            for new in (True, False) if latest is not None else (True,):
                x = p.padded(row_of(kind, size, across))
                noise = (p.scatter + p.grows * size) ** 2 + (p.prints**2 if new else 0.0)
                if not new and latest is not None:
                    x[latest] = 1
                with_it = np.einsum("i,gij,j->g", full, p.covs, x)
                own = np.einsum("i,gij,j->g", x, p.covs, x)
                known = np.einsum("i,gij,j->g", full, p.covs, full) - with_it**2 / (own + noise)
                means = p.means @ full
                spread = p.weights @ (known + p.prints**2 + (means - p.weights @ means) ** 2)
                then = float(np.sqrt(spread)) * z
                # A new print costs an hour: it must be worth it.
                if best is None or then < best.then - (0.002 if new and not best.new_print else 0.0):
                    best = NextReading(kind, size, new, across, now, then)
    assert best is not None
    return best
