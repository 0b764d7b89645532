"""Drawings that stand under the stage: a true cut, error against drawn size, and their common ground."""

from __future__ import annotations

import numpy as np
import shapely
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget
from shapely.geometry.base import BaseGeometry

from knollside.core.build.stack import inset
from knollside.core.fit.correction import Correction
from knollside.core.fit.process import Shift
from knollside.core.model import Measurement, Recipe
from knollside.desk.theme.look import font, look


class Strip(QWidget):
    """A drawing on paper under the stage."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        look.changed.connect(self.update)

    def ground(self) -> QPainter:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), look.colour("paper"))
        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawLine(0, 0, self.width(), 0)
        return p

    def title(self, p: QPainter, words: str, under: str = "", x: float = 18) -> None:
        p.setPen(look.colour("peat"))
        p.setFont(font(15, 700))
        p.drawText(QPointF(x, 24), words)
        p.setPen(look.colour("slate"))
        p.setFont(font(13))
        p.drawText(QPointF(x, 42), under)


class WeakCut(Strip):
    """A true cut of the part where it is weakest, with this recipe's walls and infill drawn in."""

    def __init__(self) -> None:
        super().__init__("Cut at the weakest place")
        self.outline: BaseGeometry | None = None
        self.recipe = Recipe()
        self.words = ""

    def put(self, outline: BaseGeometry | None, recipe: Recipe, words: str) -> None:
        self.outline, self.recipe, self.words = outline, recipe, words
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = self.ground()
        if self.outline is None or self.outline.is_empty:
            self.title(p, "Cut at the weakest place", "Nothing to cut yet.")
            return
        r = self.recipe
        fill = "solid" if r.infill >= 1 else "empty" if r.infill == 0 else f"{r.infill * 100:.0f} % infill"
        self.title(
            p, "Cut at the weakest place", f"{r.walls} walls are {r.walls * r.line_width:.3g} mm; {fill}. {self.words}"
        )
        x0, y0, x1, y1 = self.outline.bounds
        room = QRectF(18, 54, self.width() - 36, self.height() - 66)
        turn = (y1 - y0) > (x1 - x0)
        wide, high = (y1 - y0, x1 - x0) if turn else (x1 - x0, y1 - y0)
        scale = min(room.width() / wide, room.height() / high)

        def at(c: np.ndarray) -> QPointF:
            x, y = (c[1] - y0, c[0] - x0) if turn else (c[0] - x0, c[1] - y0)
            return QPointF(
                room.left() + (room.width() - wide * scale) / 2 + x * scale,
                room.top() + (room.height() + high * scale) / 2 - y * scale,
            )

        def path(shape: BaseGeometry) -> QPainterPath:
            out = QPainterPath()
            for g in shapely.get_parts(shape):
                if g.geom_type != "Polygon":
                    continue
                for ring in (g.exterior, *g.interiors):
                    out.addPolygon(QPolygonF([at(np.asarray(c)) for c in ring.coords]))
            out.setFillRule(Qt.FillRule.OddEvenFill)
            return out

        p.fillPath(path(self.outline), look.colour("full"))
        core = inset(self.outline, r.walls * r.line_width)
        if r.infill < 1 and not core.is_empty:
            p.fillPath(path(core), look.colour("paper"))
            if r.infill > 0:
                p.save()
                p.setClipPath(path(core))
                p.setPen(QPen(look.colour("straw", 150), max(r.line_width * scale, 1)))
                step = max(2 * r.line_width / r.infill * scale, 3)
                for x in np.arange(room.left(), room.right(), step):
                    p.drawLine(QPointF(x, room.top()), QPointF(x, room.bottom()))
                p.restore()
        p.setPen(QPen(look.colour("peat", 120), 0.8))
        for k in range(1, r.walls):
            p.drawPath(path(inset(self.outline, k * r.line_width)))
        p.setPen(QPen(look.colour("peat"), 1.6))
        p.drawPath(path(self.outline))
        step = next(s for s in (1, 2, 5, 10, 20, 50) if s * scale > 30)
        end = room.right()
        p.drawLine(QPointF(end - step * scale, 30), QPointF(end, 30))
        p.setFont(font(12))
        p.setPen(look.colour("slate"))
        p.drawText(QRectF(end - step * scale - 64, 22, 58, 16), Qt.AlignmentFlag.AlignRight, f"{step} mm")


class FitCut(Strip):
    """The chosen hole or pin in section: as drawn, as it prints, as corrected."""

    def __init__(self) -> None:
        super().__init__("The chosen mate, across its axis")
        self.row: Correction | None = None

    def put(self, row: Correction | None) -> None:
        self.row = row
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = self.ground()
        c = self.row
        if c is None:
            self.title(p, "Across its axis", "Take a mate in the ladder to see what moves.")
            return
        self.title(
            p,
            f"{c.feature.replace('-', ' ').capitalize()}, across its axis",
            f"diameters; changes drawn 6 times as large; printed {c.axis}",
        )
        mid, radius = self.height() / 2 + 22, (self.height() - 78) / 2
        for i, (words, drawn, printed) in enumerate(
            (("as drawn", c.from_mm, c.printed_now), ("corrected", c.to_mm, c.printed_then))
        ):
            x = 40 + radius + i * (2 * radius + 190)
            scale = radius / (c.target.size * 0.5 + 0.6)
            full = 2 * (c.target.size / 2)

            def size(d: float, scale: float = scale, full: float = full) -> float:
                return (full + (d - full) * 6) / 2 * scale * 0.72

            p.setPen(QPen(look.colour("slate"), 1.4, Qt.PenStyle.DashLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawEllipse(QPointF(x, mid), size(drawn), size(drawn))
            p.setPen(QPen(look.colour("heather"), 2.4))
            p.setBrush(look.colour("heather", 40))
            p.drawEllipse(QPointF(x, mid), size(printed), size(printed))
            p.setPen(QPen(look.colour("spring"), 1.6))
            p.setBrush(look.colour("spring", 60))
            p.drawEllipse(QPointF(x, mid), size(c.target.partner), size(c.target.partner))
            tx = x + radius + 14
            p.setPen(look.colour("peat"))
            p.setFont(font(14, 700))
            p.drawText(QPointF(tx, mid - 28), words)
            for k, (name, v, tone) in enumerate(
                (("drawn", drawn, "slate"), ("prints at", printed, "heather"), ("goes in", c.target.partner, "spring"))
            ):
                p.setPen(look.colour(tone))
                p.setFont(font(13))
                p.drawText(QPointF(tx, mid - 6 + 19 * k), name)
                p.setFont(font(13, 600, mono=True))
                p.drawText(QPointF(tx + 66, mid - 6 + 19 * k), f"{v:.2f}")


class ErrorChart(Strip):
    """Printed minus drawn size of each reading, with the shift and its nine-in-ten band."""

    def __init__(self) -> None:
        super().__init__("Error against drawn size")
        self.shift: Shift | None = None
        self.readings: list[Measurement] = []
        self.kind = "hole"

    def put(self, shift: Shift | None, readings: tuple[Measurement, ...], kind: str) -> None:
        self.shift, self.kind = shift, kind
        self.readings = [m for m in readings if m.kind == kind and m.axis == "upright"]
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = self.ground()
        s = self.shift
        if s is None:
            self.title(p, "Error against drawn size")
            return
        self.title(
            p, "Error against drawn size", f"{self.kind}s standing upright, diameter, mm; the band holds nine in ten"
        )
        box = QRectF(64, 58, self.width() - 190, self.height() - 88)
        sizes = [m.drawn for m in self.readings] or [3.0, 8.0]
        x0, x1 = min(sizes) - 1, max(sizes) + 1
        errors = [m.printed - m.drawn for m in self.readings]
        low, high = min([s.low, -0.05, *errors]) - 0.04, max([s.high, 0.05, *errors]) + 0.04

        def at(x: float, y: float) -> QPointF:
            return QPointF(
                box.left() + box.width() * (x - x0) / (x1 - x0), box.bottom() - box.height() * (y - low) / (high - low)
            )

        p.setFont(font(12))
        step = 0.1 if high - low < 0.8 else 0.2
        for v in np.arange(np.ceil(low / step) * step, high, step):
            p.setPen(QPen(look.colour("rule"), 1))
            p.drawLine(at(x0, float(v)), at(x1, float(v)))
            p.setPen(look.colour("slate"))
            p.drawText(QRectF(8, at(x0, float(v)).y() - 8, 48, 16), Qt.AlignmentFlag.AlignRight, f"{v:+.1f}")
        yours = s.count > 0
        p.fillRect(
            QRectF(at(x0, s.high), at(x1, s.low)), look.colour("heather", 60) if yours else look.colour("slate", 40)
        )
        p.setPen(
            QPen(
                look.colour("heather") if yours else look.colour("slate"),
                2,
                Qt.PenStyle.SolidLine if yours else Qt.PenStyle.DotLine,
            )
        )
        p.drawLine(at(x0, s.value), at(x1, s.value))
        for i, m in enumerate(self.readings):
            odd = i in s.outliers
            p.setPen(QPen(look.colour("straw" if odd else "peat"), 2))
            p.setBrush(Qt.BrushStyle.NoBrush if odd or m.left_out else look.colour("paper"))
            p.drawEllipse(at(m.drawn, m.printed - m.drawn), 4.5, 4.5)
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        for d in sorted({round(v, 2) for v in sizes}):
            q = at(d, low)
            p.drawText(QRectF(q.x() - 20, box.bottom() + 4, 40, 16), Qt.AlignmentFlag.AlignHCenter, f"{d:g}")
        p.drawText(QRectF(box.right() + 10, box.bottom() + 4, 100, 16), Qt.AlignmentFlag.AlignLeft, "drawn, mm")
        p.setPen(look.colour("heather" if yours else "slate"))
        p.setFont(font(20, 700))
        p.drawText(QPointF(box.right() + 10, at(x0, s.value).y() + 2), f"{s.value:+.2f}")
        p.setFont(font(12))
        p.drawText(QPointF(box.right() + 10, at(x0, s.value).y() + 18), f"± {s.half:.2f} {s.source}")


class BedPlan(QWidget):
    """The bed from above with the part's true outline."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("The bed from above")
        self.outline: BaseGeometry | None = None
        self.foot: BaseGeometry | None = None
        self.bed = (220.0, 220.0)
        self.words, self.under = "", ""
        look.changed.connect(self.update)

    def put(self, outline: BaseGeometry | None, bed: tuple[float, float], words: str, under: str) -> None:
        self.outline, self.bed, self.words, self.under = outline, bed, words, under
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), look.colour("chalk"))
        p.setPen(look.colour("peat"))
        p.setFont(font(16, 700))
        p.drawText(QPointF(18, 28), self.words)
        p.setPen(look.colour("slate"))
        p.setFont(font(13))
        p.drawText(QPointF(18, 47), self.under)
        room = QRectF(24, 64, self.width() - 48, self.height() - 100)
        scale = min(room.width() / self.bed[0], room.height() / self.bed[1])
        box = QRectF(room.center().x() - self.bed[0] * scale / 2, room.top(), self.bed[0] * scale, self.bed[1] * scale)
        p.fillRect(box, look.colour("bed"))
        p.setPen(QPen(look.colour("bed lines"), 1))
        for v in np.arange(10, max(self.bed), 10) * scale:
            if v < box.width():
                p.drawLine(QPointF(box.left() + v, box.top()), QPointF(box.left() + v, box.bottom()))
            if v < box.height():
                p.drawLine(QPointF(box.left(), box.bottom() - v), QPointF(box.right(), box.bottom() - v))
        p.setPen(QPen(look.colour("peat"), 1.4))
        p.drawRect(box)
        p.setPen(look.colour("slate"))
        p.drawText(QPointF(box.left(), box.bottom() + 18), f"{self.bed[0]:.0f} × {self.bed[1]:.0f} mm, from above")
        p.drawText(QRectF(box.right() - 80, box.bottom() + 4, 80, 18), Qt.AlignmentFlag.AlignRight, "front")
        if self.outline is None:
            return
        path = QPainterPath()
        for g in shapely.get_parts(self.outline):
            for ring in (g.exterior, *g.interiors):
                path.addPolygon(
                    QPolygonF(
                        [
                            QPointF(box.center().x() + x * scale, box.center().y() - y * scale)
                            for x, y in np.asarray(ring.coords)[:, :2]
                        ]
                    )
                )
        path.setFillRule(Qt.FillRule.OddEvenFill)
        p.fillPath(path, look.colour("full"))
        p.setPen(QPen(look.colour("peat"), 1.5))
        p.drawPath(path)
