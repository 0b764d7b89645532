"""The ordinary charts: bond against heat, saving against size, hours against hours, wear, and a shift over time."""

from __future__ import annotations

from datetime import datetime

import numpy as np
from PyQt6.QtCore import Qt

from knollside.core.fit.play import RunningIn
from knollside.core.fit.process import Moved
from knollside.core.material.bond import BondSetting, usual_nozzle, with_setting
from knollside.core.material.cards import Material
from knollside.core.model import Array, Range
from knollside.core.recipe.breakeven import WORTH, BreakEven
from knollside.gui.instruments.chart import Chart, Row, nearest

_DOTTED, _DASHED, _SOLID = Qt.PenStyle.DotLine, Qt.PenStyle.DashLine, Qt.PenStyle.SolidLine


class BondChart(Chart):
    """Bond across the layers over a card's nozzle range; dotted while typical, dashed with a hardened nozzle."""

    header = ("nozzle_c", "bond", "low", "high", "hardened_nozzle")

    def __init__(self) -> None:
        self.card: Material | None = None
        self.at: float | None = None
        super().__init__("Bond against nozzle heat", "nozzle, °C", "", 140)

    def put(self, card: Material, at: float | None = None) -> None:
        if (card, at) != (self.card, self.at):
            self.card, self.at = card, at
            self.redraw()

    def _values(self) -> tuple[Array, Array]:
        """Heats (k,) and bond, low, high, hardened (4, k)."""
        assert self.card is not None
        heat = np.linspace(self.card.nozzle[0] - 15, self.card.nozzle[1] + 10, 40)
        soft = [with_setting(self.card, BondSetting(nozzle_c=float(t))).bond for t in heat]
        hard = [with_setting(self.card, BondSetting(nozzle_c=float(t), hard_nozzle=True)).bond.value for t in heat]
        return heat, np.array([[b.value for b in soft], [b.low for b in soft], [b.high for b in soft], hard])

    def draw(self) -> None:
        card = self.card
        if card is None:
            return
        heat, (bond, low, high, hard) = self._values()
        self.band(heat, low, high, "straw", 70)
        own = card.bond.source.startswith("yours")
        self.curve(heat, bond, "peat", 1.8, _SOLID if own else _DOTTED)
        if not card.hard_nozzle:
            self.curve(heat, hard, "slate", 1.2, _DASHED)
        self.mark(usual_nozzle(card) if self.at is None else self.at, 90, "heather")
        self.setXRange(float(heat[0]), float(heat[-1]), padding=0)
        self.setYRange(0, max(1.1 * float(high.max()), 0.5), padding=0)

    def words(self, x: float, y: float) -> str:
        if self.card is None:
            return ""
        heat, (bond, low, high, _) = self._values()
        k = nearest(heat, x)
        return f"{heat[k]:.0f} °C: {bond[k]:.2f} of the strength along the layers ({low[k]:.2f} to {high[k]:.2f})"

    def rows(self) -> list[Row]:
        if self.card is None:
            return []
        heat, values = self._values()
        return [[float(t), *map(float, v)] for t, v in zip(heat, values.T, strict=True)]


class EvenChart(Chart):
    """What an empty shell saves against walls with infill, over the size of the part; dashed from where it pays."""

    header = ("size", "saving_percent")

    def __init__(self) -> None:
        self.even: BreakEven | None = None
        super().__init__("Saving of an empty shell against size", "size", "saved, %", 150)
        ticks = [(float(np.log(s)), f"{s:g}×") for s in (0.35, 0.5, 1, 2, 4)]
        self.getAxis("bottom").setTicks([ticks])

    def put(self, even: BreakEven | None) -> None:
        self.even = even
        self.redraw()

    def draw(self) -> None:
        e = self.even
        if e is None:
            return
        x, saving = np.log(e.scales), e.saving * 100
        self.mark(100 * WORTH, 0, "peat", _DASHED)
        self.curve(x, saving, "moss")
        self.dots(np.zeros(1), np.array([np.interp(0.0, x, saving)]), "heather")
        self.setXRange(float(x[0]), float(x[-1]), padding=0)
        self.setYRange(min(float(saving.min()), 0.0) - 4, max(float(saving.max()), 20.0) + 4, padding=0)

    def words(self, x: float, y: float) -> str:
        e = self.even
        if e is None:
            return ""
        k = nearest(np.log(e.scales), x)
        saved = float(e.saving[k]) * 100
        does = "saves" if saved >= 0 else "costs"
        return f"At {e.scales[k]:.2g} times the size the empty shell {does} {abs(saved):.0f} %"

    def rows(self) -> list[Row]:
        e = self.even
        return [] if e is None else [[float(s), float(v) * 100] for s, v in zip(e.scales, e.saving, strict=True)]


class HistoryChart(Chart):
    """How a shift moved from bar to bar, its nine-in-ten band narrowing; the last eight."""

    header = ("when", "piece", "readings", "shift_mm", "low_mm", "high_mm")

    def __init__(self) -> None:
        self.moved: tuple[Moved, ...] = ()
        super().__init__("How the correction moved over time", "", "shift, mm", 140)
        self.getAxis("bottom").setHeight(40)  # two lines

    def put(self, moved: tuple[Moved, ...]) -> None:
        self.moved = moved
        self.setFixedHeight(140 if moved else 0)
        self.redraw()

    def draw(self) -> None:
        shown = self.moved[-8:]
        if not shown:
            return
        at = np.arange(len(shown), dtype=float)
        for k, m in enumerate(shown):
            self.curve(np.full(2, float(k)), np.array([m.low, m.high]), "heather")
        value = np.array([m.value for m in shown])
        self.curve(at, value, "heather", 1.2, _DASHED)
        self.dots(at, value, "heather")
        ticks = [(float(k), f"{m.when:%d %b}\n{m.count} in all") for k, m in enumerate(shown)]
        self.getAxis("bottom").setTicks([ticks])
        self.setXRange(-0.5, len(shown) - 0.5, padding=0)

    def words(self, x: float, y: float) -> str:
        shown = self.moved[-8:]
        if not shown:
            return ""
        m = shown[min(max(round(x), 0), len(shown) - 1)]
        told = f"{m.value:+.2f} mm ({m.low:+.2f} to {m.high:+.2f})"
        return f"{m.when:%d %b}, {m.bar}: {told} from {m.count} readings in all"

    def rows(self) -> list[Row]:
        return [[f"{m.when:%Y-%m-%d}", m.bar, str(m.count), m.value, m.low, m.high] for m in self.moved]


class WearChart(Chart):
    """How a running fit opens with use: the fitted curve, what was logged, and the window it should end in."""

    header = ("cycles", "clearance_mm", "what")

    def __init__(self) -> None:
        self.running: RunningIn | None = None
        self.logged: tuple[tuple[float, float], ...] = ()
        self.window_mm = (0.0, 1.0)
        super().__init__("How the gap opens with use", "cycles", "gap, mm", 120)

    def put(self, running: RunningIn, logged: tuple[tuple[float, float], ...], window: tuple[float, float]) -> None:
        self.running, self.logged, self.window_mm = running, logged, window
        self.redraw()

    def _cycles(self) -> Array:
        assert self.running is not None
        return np.linspace(0, max([6 * self.running.cycles, *(n for n, _ in self.logged)]), 41)

    def draw(self) -> None:
        c = self.running
        if c is None:
            return
        n = self._cycles()
        low, high = (np.full(2, v) for v in self.window_mm)
        self.band(n[[0, -1]], low, high, "moss", 40)
        yours = c.source.startswith("yours")
        self.curve(n, np.array([c.after(float(v)) for v in n]), "heather", 2, _SOLID if yours else _DOTTED)
        if self.logged:
            at = np.array(self.logged)
            self.dots(at[:, 0], at[:, 1], "peat", hollow=True)
        self.setXRange(0, float(n[-1]), padding=0.02)

    def words(self, x: float, y: float) -> str:
        c = self.running
        return "" if c is None or x < 0 else f"After {x:.0f} cycles about {c.after(x):.2f} mm, {c.source}"

    def rows(self) -> list[Row]:
        c = self.running
        if c is None:
            return []
        curve: list[Row] = [[float(n), c.after(float(n)), "curve"] for n in self._cycles()]
        return curve + [[float(n), float(v), "logged"] for n, v in self.logged]


class HoursChart(Chart):
    """Hours each print took against the hours that were foretold; the printer's own factor with its range."""

    header = ("when", "foretold_h", "took_h")

    def __init__(self) -> None:
        self.prints: tuple[tuple[datetime | None, float, float], ...] = ()
        self.factor = Range(1.0, 1.0, 1.0)
        super().__init__("Hours taken against hours foretold", "foretold, h", "took, h", 150)

    def put(self, prints: tuple[tuple[datetime | None, float, float], ...], factor: Range) -> None:
        if (prints, factor) == (self.prints, self.factor):
            return
        self.prints, self.factor = prints, factor
        self.redraw()

    def draw(self) -> None:
        if not self.prints:
            return
        told, took = (np.array([p[k] for p in self.prints]) for k in (1, 2))
        ends = np.array([0.0, 1.1 * float(told.max())])
        f = self.factor
        self.band(ends, ends * f.low, ends * f.high, "straw", 70)
        self.curve(ends, ends * f.value, "peat", 1.8, _SOLID if f.source.startswith("yours") else _DOTTED)
        self.curve(ends, ends, "slate", 1.0, _DASHED)
        self.dots(told, took, "heather")
        self.setXRange(0, float(ends[1]), padding=0)
        self.setYRange(0, 1.1 * max(float(took.max()), float(ends[1] * f.value)), padding=0)

    def words(self, x: float, y: float) -> str:
        if not self.prints:
            return ""
        f = self.factor
        return f"Foretold {x:.1f} h: expect {x * f.low:.1f} to {x * f.high:.1f} h, {f.source}"

    def rows(self) -> list[Row]:
        return [[f"{w:%Y-%m-%d}" if w else "", told, took] for w, told, took in self.prints]
