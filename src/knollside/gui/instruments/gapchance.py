"""Chances over the support gap: lifted, clean, welded; every trial a mark at its gap and outcome."""

from __future__ import annotations

import numpy as np

from knollside.core.learning.supportgap import GAPS, Settled
from knollside.core.model.trials import SupportTrial
from knollside.gui.instruments.chart import Chart, Row, nearest

_DRAWN = (("welded", "clay", 0.06), ("lifted", "spring", 0.06), ("clean", "moss", 0.94))  # colour, where trials stand


class GapChance(Chart):
    """Clean in moss, welded in clay, lifted in blue; a trial stands at the height of its outcome."""

    header = ("gap_mm", "lifted", "clean", "welded")

    def __init__(self) -> None:
        self.found: Settled | None = None
        self.trials: tuple[SupportTrial, ...] = ()
        super().__init__("Chances over the support gap", "", "chance", 176)

    def put(self, found: Settled | None, trials: tuple[SupportTrial, ...]) -> None:
        if found is not self.found or trials != self.trials:
            self.found, self.trials = found, trials
            self.redraw()

    def draw(self) -> None:
        found = self.found
        if found is None:
            return
        for outcome, token, high in _DRAWN:
            self.curve(GAPS, getattr(found.chances, outcome), token, 2.2)
            some = [t.gap_mm for t in self.trials if t.outcome == outcome]
            if some:
                self.dots(np.array(some), np.full(len(some), high), token)
        self.mark(found.best, 90, "heather")
        self.setXRange(0, 0.5, padding=0)
        self.setYRange(0, 1.02, padding=0)

    def words(self, x: float, y: float) -> str:
        if self.found is None:
            return ""
        k, c = nearest(GAPS, x), self.found.chances
        return (
            f"{GAPS[k]:.2f} mm: of 100, {100 * c.clean[k]:.0f} come off clean, {100 * c.welded[k]:.0f} weld, "
            f"{100 * c.lifted[k]:.0f} lift"
        )

    def rows(self) -> list[Row]:
        if self.found is None:
            return []
        c = self.found.chances
        columns = np.column_stack([GAPS, c.lifted, c.clean, c.welded])
        return [[float(v) for v in row] for row in columns]
