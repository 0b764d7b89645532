"""How a printer makes holes and outsides, learned from measurements (docs/methods.md 7.1).

One model an axis, of holes and outsides together: shrink, a shift of each, a loss of small holes, X apart from Y, what
differs from print to print, a drift, scatter that may grow with size, slips, and what the calliper is off by. Rows are
made in :mod:`rows`, weighed in :mod:`posterior`; here is what is asked of them.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime
from functools import lru_cache

from knollside.core.fit.posterior import Foretold, Posterior, posterior_of
from knollside.core.fit.rows import REFERENCE, TYPICAL, Term, alike, row_of, rows_of
from knollside.core.model import Measurement, Recipe

__all__ = ["REFERENCE", "TYPICAL"]
AXES = ("upright", "lying", "plumb")
A_SLIP = 0.5  # from this chance on a reading is named
_CANNOT = 0.168  # mm; eight scatters of a usual printer


@dataclass(frozen=True)
class PrintSetting:
    """What readings must share with the print they speak for: nozzle and layer height, mm. ``on``: the day of that
    print; without one, the day of the last reading. ``changed``: days on which something was done to the printer that
    can change sizes: what was read before speaks through a jump."""

    nozzle_mm: float
    layer_height: float
    on: date | None = None
    changed: tuple[date, ...] = ()

    def same(self, m: Measurement) -> bool:
        """Whether a reading was taken of a print made alike; one that does not say is taken for it."""
        nozzle = m.nozzle_mm is None or abs(m.nozzle_mm - self.nozzle_mm) < 0.01
        return nozzle and (m.layer_height is None or abs(m.layer_height - self.layer_height) < 0.031)


def setting_of(
    recipe: Recipe, nozzle_mm: float, on: date | None = None, changed: tuple[date, ...] = ()
) -> PrintSetting:
    """What readings must share with prints of ``recipe`` through this nozzle, mm, made ``on`` that day."""
    return PrintSetting(nozzle_mm, recipe.layer_height, on, changed)


@dataclass(frozen=True)
class Shift:
    """Printed minus drawn diameter at the size ``at`` in the next print: middle, and the interval that nine in ten such
    holes (or outsides), each of another print, lie in: scatter of one place, of one print, and all that is in doubt.

    ``count`` readings were used; ``outliers`` look wrong (numbers among those of this kind and axis). ``one`` is the
    whole distribution, ``of_print`` that of the print's mean, without the place's own scatter.
    """

    kind: str
    axis: str
    at: float
    value: float
    low: float
    high: float
    scatter: float
    count: int
    outliers: tuple[int, ...]
    source: str
    one: Foretold
    of_print: Foretold

    @property
    def doubt(self) -> float:
        """What is in doubt besides the place's own scatter: half an interval of nine in ten, mm."""
        return (self.of_print.quantile(0.95) - self.of_print.quantile(0.05)) / 2

    @property
    def half(self) -> float:
        """Half the width of the interval, mm."""
        return (self.high - self.low) / 2

    @property
    def sigma(self) -> float:
        """Of one more place of one more print: its scatter and all that is in doubt, mm."""
        return self.one.sigma


@dataclass(frozen=True, eq=False)
class Process:
    """One axis of a printer, fitted."""

    axis: str
    posterior: Posterior
    used: tuple[Measurement, ...]
    counts: dict[str, int]
    outliers: dict[str, tuple[int, ...]]
    others: int  # readings of other nozzles or layer heights, not used

    def term(self, term: Term) -> tuple[float, float]:
        """A term of the model: its middle and standard deviation."""
        p = self.posterior
        means = p.means[:, term]
        middle = float(p.weights @ means)
        return middle, math.sqrt(float(p.weights @ (p.covs[:, term, term] + (means - middle) ** 2)))

    @property
    def shrink(self) -> float:
        """Printed over drawn length."""
        return 1 + self.term(Term.SHRINK)[0]

    @property
    def scatter(self) -> float:
        """Of one place at the reference size, the calliper's share included, mm."""
        return self.scatter_at(REFERENCE)

    def scatter_at(self, drawn: float) -> float:
        """Of one place of a drawn size, the calliper's share included, mm."""
        p = self.posterior
        return float(p.weights @ (p.scatter + p.grows * drawn))

    @property
    def print_to_print(self) -> float:
        """How much one print differs from the next, mm (one sigma)."""
        return float(self.posterior.weights @ self.posterior.prints)

    def shift(self, kind: str, drawn: float = REFERENCE, across: str = "") -> Shift:
        """The shift of a 'hole' or a 'pin' (any outside) of a drawn size, mm, measured along 'x', 'y' or either."""
        x, oval = row_of(kind, drawn, across), 0.0 if across else drawn
        of_print = self.posterior.foretell(x, 1, (), oval)
        one = self.posterior.foretell(x, 1, (drawn,), oval)
        n = self.counts[kind]
        return Shift(
            kind,
            self.axis,
            drawn,
            one.mean,
            one.quantile(0.05),
            one.quantile(0.95),
            self.scatter_at(drawn),
            n,
            self.outliers[kind],
            f"yours, {n}" if n else "typical",
            one,
            of_print,
        )

    def gap(self, hole: float, pin: float) -> Foretold:
        """The gap of a hole and a pin of one print, drawn at these diameters, printed less drawn gap, mm.

        What both share, shrink and X apart from Y, cancels as far as their sizes are alike; the print's own offset
        does not.
        """
        x = row_of("hole", hole) - row_of("pin", pin)
        return self.posterior.foretell(x, 2, (hole, pin), hole - pin)


def process_of(readings: Iterable[Measurement], axis: str, setting: PrintSetting | None = None) -> Process:
    """Fit one axis ('upright', 'lying', 'plumb'). Left-out readings do not count; those of another nozzle or layer
    height are counted as ``others``. Readings that look like slips are named and weigh less, never dropped."""
    return _process(tuple(readings), axis, setting)


@lru_cache(maxsize=24)
def _process(readings: tuple[Measurement, ...], axis: str, setting: PrintSetting | None) -> Process:
    mine = alike(readings, axis)
    same = [m for m in mine if setting is None or setting.same(m)]
    used = [m for m in same if not m.left_out]
    made = posterior_of(rows_of(used, *((setting.on, setting.changed) if setting is not None else (None, ()))), axis)
    odd = {id(m) for m, slip in zip(used, made.slips, strict=True) if slip > A_SLIP}
    outliers = {
        kind: tuple(k for k, m in enumerate([a for a in same if a.kind == kind]) if id(m) in odd)
        for kind in ("hole", "pin")
    }
    counts = {kind: sum(m.kind == kind for m in used) for kind in ("hole", "pin")}
    return Process(axis, made, tuple(used), counts, outliers, len(mine) - len(same))


def learn(
    readings: Iterable[Measurement],
    kind: str,
    axis: str,
    drawn: float = REFERENCE,
    setting: PrintSetting | None = None,
) -> Shift:
    """Shift of one kind ('hole', 'pin') and axis at a drawn size.

    Without a reading the typical values stand; a hole comes out smaller than drawn:

    >>> shift = learn((), "hole", "upright")
    >>> shift.value < 0, shift.source
    (True, 'typical')
    """
    return process_of(readings, axis, setting).shift(kind, drawn)


@dataclass(frozen=True)
class Moved:
    """The shift as it was known after one session of measuring: when, which bar, how many readings by then."""

    when: datetime
    bar: str
    count: int
    value: float
    low: float
    high: float


def history(
    dated: Iterable[tuple[datetime, Measurement]],
    kind: str,
    axis: str,
    drawn: float = REFERENCE,
    setting: PrintSetting | None = None,
) -> tuple[Moved, ...]:
    """How a shift moved as readings came in, one entry a day and bar that spoke of it."""
    ordered = sorted(dated, key=lambda d: d[0])
    out: list[Moved] = []
    groups: dict[tuple[object, str], list[int]] = {}
    for i, (when, m) in enumerate(ordered):
        if m.axis == axis and m.kind == kind and not m.left_out and (setting is None or setting.same(m)):
            groups.setdefault((when.date(), m.bar), []).append(i)
    for (_, bar), numbers in groups.items():
        last = numbers[-1]
        s = learn((m for _, m in ordered[: last + 1]), kind, axis, drawn, setting)
        out.append(Moved(ordered[last][0], bar, s.count, s.value, s.low, s.high))
    return tuple(out)


def contradictions(readings: Iterable[Measurement]) -> tuple[str, ...]:
    """Readings of one size, kind, axis and bar that cannot both be right: farther apart than eight scatters."""
    groups: dict[tuple[str, str, float, str], list[float]] = {}
    for m in readings:
        if not m.left_out:
            groups.setdefault((m.kind, m.axis, round(m.drawn, 2), m.bar), []).append(m.printed)
    return tuple(
        f"{kind.capitalize()}s of {drawn:g} mm, {axis}: {min(v):.2f} and {max(v):.2f} mm cannot both be right. "
        "Measure them again, or leave one out."
        for (kind, axis, drawn, _), v in groups.items()
        if len(v) > 1 and max(v) - min(v) > _CANNOT
    )
