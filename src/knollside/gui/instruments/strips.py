"""Drawings that stand under the stage: a true cut, error against drawn size, and their common ground."""

from __future__ import annotations

import numpy as np
import shapely
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget
from shapely.geometry.base import BaseGeometry

from knollside.core.model import Recipe
from knollside.core.recipe.layer_areas import inset
from knollside.gui.theme.look import font, look


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
