"""Seconds of each layer over height, with the heights that are spoken of."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtCore import Qt

from knollside.core.model import Array
from knollside.gui.instruments.chart import Chart, Row, nearest


class LayerTimes(Chart):
    """One curve; bands are where layers rest on nothing, marks the heights in hand."""

    header = ("height_mm", "seconds", "free_mm2")

    def __init__(self) -> None:
        self.heights = self.seconds = self.free = np.zeros(0)
        self.marks: tuple[float, ...] = ()
        self.at: float | None = None
        super().__init__("Seconds a layer over height", "mm over the bed", "s a layer", 176)

    def put(self, heights: Array, seconds: Array, free: Array, marks: Sequence[float], at: float | None) -> None:
        if seconds is not self.seconds or (tuple(marks), at) != (self.marks, self.at):
            self.heights, self.seconds, self.free, self.marks, self.at = heights, seconds, free, tuple(marks), at
            self.redraw()

    def draw(self) -> None:
        if not len(self.heights):
            return
        # Few layers take far longer than the others: the short ones matter, and are seen.
        top = 1.15 * float(np.quantile(self.seconds, 0.97))
        # Each layer's own stretch, not a slope from one to the next.
        half = 0.5 * float(np.diff(self.heights).mean()) if len(self.heights) > 1 else 0.1
        x = np.column_stack([self.heights - half, self.heights + half]).ravel()
        free = np.repeat(np.where(self.free > 1.0, top, 0.0), 2)
        self.band(x, np.zeros(len(x)), free, "straw", 50)
        self.curve(self.heights, np.minimum(self.seconds, top), "peat", 1.8)
        for z in self.marks:
            self.mark(z, 90, "rule 2", Qt.PenStyle.DotLine)
        if self.at is not None:
            self.mark(self.at, 90, "clay")
        self.setXRange(0, float(self.heights[-1]), padding=0.01)
        self.setYRange(0, top, padding=0)

    def words(self, x: float, y: float) -> str:
        if not len(self.heights):
            return ""
        k = nearest(self.heights, x)
        hangs = f", {self.free[k]:.0f} mm² rest on nothing" if self.free[k] > 1.0 else ""
        return f"{self.heights[k]:.1f} mm up: {self.seconds[k]:.0f} s a layer{hangs}"

    def rows(self) -> list[Row]:
        return [[float(v) for v in r] for r in np.column_stack([self.heights, self.seconds, self.free])]
