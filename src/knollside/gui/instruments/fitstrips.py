"""Strips of Fits and Bench: the chosen mate in section, before and after, and error against drawn size."""

from __future__ import annotations

import numpy as np
import shapely
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPen, QPolygonF
from shapely.geometry.base import BaseGeometry

from knollside.core.fit.correction import Correction
from knollside.core.fit.process import Process, Shift
from knollside.core.job.questions.fits import TrueCuts
from knollside.core.model import GapTrial, Measurement, Range
from knollside.gui.instruments.strips import Strip
from knollside.gui.theme.look import font, look


class FitCut(Strip):
    """The chosen hole or pin: what it is drawn, prints at and takes, changes enlarged; and the part itself cut across
    it, before and after, at one true scale."""

    def __init__(self) -> None:
        super().__init__("The chosen mate, across its axis")
        self.row: Correction | None = None
        self.cuts: TrueCuts | None = None

    def put(self, row: Correction | None, cuts: TrueCuts | None = None) -> None:
        self.row, self.cuts = row, cuts
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = self.ground()
        c = self.row
        if c is None:
            self.title(p, "Across its axis", "Take a mate in the ladder to see what moves.")
            return
        self.title(
            p, f"{c.feature.replace('-', ' ').capitalize()}, across its axis", "diameters; changes six times as large"
        )
        mid, radius = self.height() / 2 + 22, (self.height() - 78) / 2
        for i, (words, drawn, printed) in enumerate(
            (("as drawn", c.from_mm, c.printed_now), ("corrected", c.to_mm, c.printed_then))
        ):
            self._rings(p, c, QPointF(30 + radius + i * (2 * radius + 134), mid), radius, words, drawn, printed)
        left = 30 + 2 * (2 * radius + 134) + 8
        if self.width() - left > 150:
            self._true(p, QRectF(left, 8, self.width() - left - 12, self.height() - 14))

    def _rings(
        self, p: QPainter, c: Correction, at: QPointF, radius: float, words: str, drawn: float, printed: float
    ) -> None:
        scale, full = radius / (c.target.size * 0.5 + 0.6), c.target.size

        def size(d: float) -> float:
            return (full + (d - full) * 6) / 2 * scale * 0.72

        p.setPen(QPen(look.colour("slate"), 1.4, Qt.PenStyle.DashLine))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(at, size(drawn), size(drawn))
        p.setPen(QPen(look.colour("heather"), 2.4))
        p.setBrush(look.colour("heather", 40))
        p.drawEllipse(at, size(printed), size(printed))
        p.setPen(QPen(look.colour("spring"), 1.6))
        p.setBrush(look.colour("spring", 60))
        p.drawEllipse(at, size(c.target.partner), size(c.target.partner))
        tx = at.x() + radius + 10
        p.setPen(look.colour("peat"))
        p.setFont(font(14, 700))
        p.drawText(QPointF(tx, at.y() - 28), words)
        for k, (name, v, tone) in enumerate(
            (("drawn", drawn, "slate"), ("prints at", printed, "heather"), ("goes in", c.target.partner, "spring"))
        ):
            p.setPen(look.colour(tone))
            p.setFont(font(13))
            p.drawText(QPointF(tx, at.y() - 6 + 19 * k), name)
            p.setFont(font(13, 600, mono=True))
            p.drawText(QPointF(tx + 62, at.y() - 6 + 19 * k), f"{v:.2f}")

    def _true(self, p: QPainter, box: QRectF) -> None:
        """The part's own section, before filled, after as a line, with a scale bar."""
        cuts = self.cuts
        p.setPen(look.colour("peat"))
        p.setFont(font(14, 700))
        p.drawText(QRectF(box.left(), box.top(), box.width(), 20), Qt.AlignmentFlag.AlignLeft, "The part, cut")
        if cuts is None:
            p.setPen(look.colour("slate"))
            p.setFont(font(13))
            p.drawText(QPointF(box.left(), box.top() + 36), "correct the mesh to see it")
            return
        side = min(box.width() - 44, box.height() - 24)
        scale, mid = side / (2 * cuts.reach), QPointF(box.left() + side / 2, box.bottom() - side / 2)

        def path(shape: BaseGeometry) -> QPainterPath:
            out = QPainterPath()
            for g in shapely.get_parts(shape):
                if g.geom_type == "Polygon":
                    for ring in (g.exterior, *g.interiors):
                        xy = np.asarray(ring.coords)[:, :2] * scale
                        out.addPolygon(QPolygonF([QPointF(mid.x() + x, mid.y() - y) for x, y in xy]))
            out.setFillRule(Qt.FillRule.OddEvenFill)
            return out

        p.setBrush(Qt.BrushStyle.NoBrush)
        p.fillPath(path(cuts.before), look.colour("full"))
        if cuts.after is not None:
            p.fillPath(path(shapely.difference(cuts.before, cuts.after)), look.colour("heather", 170))
            p.fillPath(path(shapely.difference(cuts.after, cuts.before)), look.colour("spring", 150))
            p.setPen(QPen(look.colour("peat"), 1.3))
            p.drawPath(path(cuts.after))
        p.setPen(QPen(look.colour("slate"), 1, Qt.PenStyle.DashLine))
        p.drawPath(path(cuts.before))
        step = next(s for s in (1, 2, 5, 10, 20, 50, 100) if s * scale > 16)
        x = box.left() + side + 8
        p.setPen(QPen(look.colour("peat"), 1.4))
        p.drawLine(QPointF(x, box.bottom() - 6), QPointF(x, box.bottom() - 6 - step * scale))
        p.setFont(font(12))
        p.drawText(QPointF(x + 6, box.bottom() - 6), f"{step} mm")


class ErrorChart(Strip):
    """Printed minus drawn size of each reading, with the fitted shift and its nine-in-ten band over the sizes."""

    def __init__(self) -> None:
        super().__init__("Error against drawn size")
        self.process: Process | None = None
        self.readings: list[Measurement] = []
        self.kind, self.at = "hole", 5.0

    def put(self, process: Process | None, readings: tuple[Measurement, ...], kind: str, at: float = 5.0) -> None:
        self.process, self.kind, self.at = process, kind, at
        axis = process.axis if process is not None else ""
        self.readings = [m for m in readings if m.kind == kind and m.axis == axis]
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = self.ground()
        if self.process is None:
            self.title(p, "Error against drawn size")
            return
        how = {"upright": "standing upright", "lying": "lying, across", "plumb": "lying, top to bottom"}
        what = "holes" if self.kind == "hole" else "outsides"
        words = f"{what} {how[self.process.axis]}: printed less drawn, against drawn, mm; the band holds nine in ten"
        self.title(p, "Error against drawn size", words)
        plot = _Plot(
            self.process, self.readings, self.kind, self.at, QRectF(64, 58, self.width() - 190, self.height() - 88)
        )
        plot.draw_rules(p)
        plot.draw_band(p)
        plot.draw_readings(p, self.readings)
        plot.draw_value(p, self.process.shift(self.kind, self.at), self.at)


class _Plot:
    """The chart within ``box``: its scales, and the pieces drawn on it."""

    def __init__(self, process: Process, readings: list[Measurement], kind: str, here: float, box: QRectF) -> None:
        self.box = box
        self.sizes = [m.drawn for m in readings] or [3.0, 8.0]
        self.left, self.right = min([*self.sizes, here]) - 1, max([*self.sizes, here]) + 1
        self.xs = np.linspace(max(self.left, 0.1), self.right, 25)
        self.shifts = [process.shift(kind, float(x)) for x in self.xs]
        errors = [m.printed - m.drawn for m in readings]
        self.low = min([s.low for s in self.shifts] + [-0.05, *errors]) - 0.04
        self.high = max([s.high for s in self.shifts] + [0.05, *errors]) + 0.04
        self.yours = self.shifts[0].count > 0
        self.tone = "heather" if self.yours else "slate"

    def at(self, x: float, y: float) -> QPointF:
        box = self.box
        return QPointF(
            box.left() + box.width() * (x - self.left) / (self.right - self.left),
            box.bottom() - box.height() * (y - self.low) / (self.high - self.low),
        )

    def draw_rules(self, p: QPainter) -> None:
        p.setFont(font(12))
        span = self.high - self.low
        step = 0.05 if span < 0.25 else 0.1 if span < 0.8 else 0.2
        for v in np.arange(np.ceil(self.low / step) * step, self.high, step):
            a, b = self.at(self.left, float(v)), self.at(self.right, float(v))
            p.setPen(QPen(look.colour("rule"), 1))
            p.drawLine(a, b)
            p.setPen(look.colour("slate"))
            words = f"{v:+.2f}" if abs(v) > 1e-6 else "0"
            p.drawText(QRectF(8, a.y() - 8, 48, 16), Qt.AlignmentFlag.AlignRight, words)
        last = -1e9
        for d in sorted({round(v, 2) for v in self.sizes}):
            q = self.at(d, self.low)
            if q.x() - last > 30:
                p.drawText(QRectF(q.x() - 20, self.box.bottom() + 4, 40, 16), Qt.AlignmentFlag.AlignHCenter, f"{d:g}")
                last = q.x()

    def draw_band(self, p: QPainter) -> None:
        upper = [self.at(float(x), s.high) for x, s in zip(self.xs, self.shifts, strict=True)]
        lower = [self.at(float(x), s.low) for x, s in zip(self.xs, self.shifts, strict=True)]
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.colour(self.tone, 60 if self.yours else 40))
        p.drawPolygon(QPolygonF(upper + lower[::-1]))
        p.setPen(QPen(look.colour(self.tone), 2, Qt.PenStyle.SolidLine if self.yours else Qt.PenStyle.DotLine))
        p.drawPolyline(QPolygonF([self.at(float(x), s.value) for x, s in zip(self.xs, self.shifts, strict=True)]))

    def draw_readings(self, p: QPainter, readings: list[Measurement]) -> None:
        for i, m in enumerate(readings):
            odd = i in self.shifts[0].outliers
            p.setPen(QPen(look.colour("straw" if odd else "peat"), 2))
            p.setBrush(Qt.BrushStyle.NoBrush if odd or m.left_out else look.colour("paper"))
            p.drawEllipse(self.at(m.drawn, m.printed - m.drawn), 4.5, 4.5)

    def draw_value(self, p: QPainter, here: Shift, size: float) -> None:
        x, y = self.box.right() + 10, self.at(self.right, self.shifts[-1].value).y()
        p.setPen(look.colour(self.tone))
        p.setFont(font(20, 700))
        p.drawText(QPointF(x, y + 2), f"{here.value:+.2f}")
        p.setFont(font(12))
        p.drawText(QPointF(x, y + 18), f"± {here.half:.2f} at {round(size, 2):g} mm")


class GapChart(Strip):
    """Rungs of gap ladders that came free or stuck, and the gap that comes free with its nine-in-ten band."""

    def __init__(self) -> None:
        super().__init__("Gaps that came free")
        self.trials: tuple[GapTrial, ...] = ()
        self.frees: dict[str, Range] = {}

    def put(self, trials: tuple[GapTrial, ...], frees: dict[str, Range]) -> None:
        self.trials, self.frees = trials, frees
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = self.ground()
        self.title(
            p, "Gaps that came free", "drawn, mm; open rings stuck, full ones came free; the band holds nine in ten"
        )
        top = max([0.6, *(t.drawn for t in self.trials)]) + 0.05
        left, right = 130.0, float(self.width() - 150)

        def x(v: float) -> float:
            return left + (right - left) * v / top

        for k, (direction, r) in enumerate(self.frees.items()):
            y = 84.0 + 54 * k
            yours = r.source.startswith("yours")
            tone = "heather" if yours else "slate"
            p.fillRect(QRectF(x(r.low), y - 14, x(r.high) - x(r.low), 28), look.colour(tone, 60))
            p.setPen(QPen(look.colour(tone), 2, Qt.PenStyle.SolidLine if yours else Qt.PenStyle.DotLine))
            p.drawLine(QPointF(x(r.value), y - 14), QPointF(x(r.value), y + 14))
            p.setPen(QPen(look.colour("rule 2"), 1))
            p.drawLine(QPointF(left, y), QPointF(right, y))
            p.setPen(look.colour("peat"))
            p.setFont(font(13, 600))
            p.drawText(QPointF(18, y + 5), direction)
            for t in self.trials:
                if t.direction == direction:
                    p.setPen(QPen(look.colour("moss" if t.freed else "clay"), 2))
                    p.setBrush(look.colour("moss") if t.freed else look.colour("paper"))
                    p.drawEllipse(QPointF(x(t.drawn), y), 5, 5)
            p.setPen(look.colour(tone))
            p.setFont(font(16, 700))
            p.drawText(QPointF(right + 12, y + 2), f"{r.value:.2f}")
            p.setFont(font(12))
            p.drawText(QPointF(right + 56, y + 2), r.source)
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        for v in np.arange(0, top, 0.1):
            p.drawText(QRectF(x(v) - 20, 158, 40, 16), Qt.AlignmentFlag.AlignHCenter, f"{v:.1f}")
