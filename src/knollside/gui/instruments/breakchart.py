"""Every break at the load it was foretold and the load it broke at; the line is where both are the same."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt

from knollside.core.model import BreakTest, Range
from knollside.gui.instruments.chart import Chart, Row


class BreakChart(Chart):
    """Full marks broke along a layer, hollow ones across; bands are nine in ten of the next break."""

    header = ("foretold N", "broke at N", "how", "mm from the foretold place")

    def __init__(self) -> None:
        self.tests: tuple[BreakTest, ...] = ()
        self.along: Range | None = None
        self.across: Range | None = None
        self.foretold: Range | None = None
        super().__init__("Breaks against what was foretold", "foretold, N", "broke at, N", 176)

    def put(
        self, tests: tuple[BreakTest, ...], along: Range | None, across: Range | None, foretold: Range | None
    ) -> None:
        """``foretold``: the next one's load."""
        told = tests, along, across, foretold
        if told != (self.tests, self.along, self.across, self.foretold):
            self.tests, self.along, self.across, self.foretold = told
            self.redraw()

    def draw(self) -> None:
        loads = [v for t in self.tests for v in (t.load_N or 0.0, t.predicted_N or 0.0)]
        if self.foretold is not None:
            loads.append(self.foretold.high)
        self.blank("Breaks that something was foretold of come here." if not loads else "")
        if not loads:
            return
        most = 1.15 * max(loads)
        line = np.array([0.0, most])
        for model, token in ((self.along, "heather"), (self.across, "spring")):
            if model is not None:
                self.band(line, model.low * line, model.high * line, token, 40)
                self.curve(line, model.value * line, token, 1.6, Qt.PenStyle.DashLine)
        self.curve(line, line, "slate", 1.4)
        for mode, hollow in (("along a layer", False), ("across the layers", True)):
            some = [t for t in self.tests if t.mode == mode]
            if some:
                x, y = np.array([t.predicted_N for t in some]), np.array([t.load_N for t in some])
                self.dots(x, y, "peat", hollow)
        if self.foretold is not None:
            f = self.foretold
            self.curve(np.array([f.value, f.value]), np.array([f.low, f.high]), "clay", 4.0)
        self.setXRange(0, most, padding=0)
        self.setYRange(0, most, padding=0)

    def words(self, x: float, y: float) -> str:
        if not self.tests:
            return ""
        t = min(self.tests, key=lambda t: abs((t.predicted_N or 0) - x) + abs((t.load_N or 0) - y))
        return f"foretold {t.predicted_N:.0f} N, broke at {t.load_N:.0f} N, {t.mode}"

    def rows(self) -> list[Row]:
        return [[t.predicted_N or 0.0, t.load_N or 0.0, t.mode, _far(t)] for t in self.tests]


def _far(t: BreakTest) -> float | str:
    return "" if t.astray is None else round(t.astray, 1)
