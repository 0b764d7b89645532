"""Pulled bars: every one a mark at its strength over its level, with each level's mean and what is as strong."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt

from knollside.core.learning.bondcurve import fitted
from knollside.core.learning.pulls import Studied
from knollside.core.model.trials import PullStudy
from knollside.gui.instruments.chart import Chart, Row, nearest

_DASHED = Qt.PenStyle.DashLine


class PullChart(Chart):
    """Full marks broke along a layer, hollow ones across; lying bars stand at the side in blue; the band is a curve
    through the levels, where there are four or more."""

    header = ("level", "MPa", "run", "standing", "broke", "slipped")

    def __init__(self) -> None:
        self.study: PullStudy | None = None
        self.found: Studied | None = None
        super().__init__("Pulled bars", "", "MPa", 176)

    def put(self, study: PullStudy | None, found: Studied | None) -> None:
        if (study, found) != (self.study, self.found):
            self.study, self.found = study, found
            self.redraw()

    def draw(self) -> None:
        if self.study is None or not self.study.pulls:
            return
        rng = np.random.default_rng(1)
        values = sorted({p.level for p in self.study.pulls})
        step = min(np.diff(values), default=10.0) if len(values) > 1 else 10.0
        for standing, mode, token, hollow in (
            (True, "along a layer", "peat", False),
            (True, "across the layers", "peat", True),
            (False, "", "spring", True),
        ):
            some = [p for p in self.study.pulls if p.standing == standing and (p.mode == mode or not standing)]
            if some:
                aside = rng.uniform(-0.12, 0.12, len(some)) * step + (0.0 if standing else 0.28 * step)
                at = np.array([p.level for p in some]) + aside
                self.dots(at, np.array([p.strength for p in some]), token, hollow)
        found = self.found
        curve = fitted(found) if found is not None else None
        if curve is not None:
            self.band(curve.levels, curve.low, curve.high, "straw", 70)
            self.curve(curve.levels, curve.value, "straw", 1.8)
        if found is not None:
            for level in found.levels:
                x = np.array([level.value - 0.3 * step, level.value + 0.3 * step])
                self.curve(x, np.full(2, level.mean.value), "heather", 2.4)
                self.band(x, np.full(2, level.mean.low), np.full(2, level.mean.high), "heather", 60)
            best = next(v for v in found.levels if v.value == found.reference)
            self.mark(best.mean.value * (1 - found.margin), 0, "moss", _DASHED)
        self.setXRange(values[0] - 0.7 * step, values[-1] + 0.7 * step, padding=0)
        self.setYRange(0, 1.1 * max(p.strength for p in self.study.pulls), padding=0)

    def words(self, x: float, y: float) -> str:
        if self.found is None:
            return ""
        level = self.found.levels[nearest(np.array([v.value for v in self.found.levels]), x)]
        m = level.mean
        return f"{level.value:g}: {m.value:.1f} MPa ({m.low:.1f} to {m.high:.1f}), {len(level.strengths)} bars"

    def rows(self) -> list[Row]:
        if self.study is None:
            return []
        told = self.study.pulls
        return [[p.level, p.strength, p.run, str(p.standing), p.mode, str(p.slipped)] for p in told]
