"""The trade board: grams or hours against reserve, one small cut per combination, schools by name."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QToolTip, QWidget

from knollside.core.model import Recipe
from knollside.core.recipe.board import Board, Dot
from knollside.gui.instruments.widgets import times
from knollside.gui.theme.look import font, look

_L, _R, _T, _B = 62, 24, 92, 46


def recipe_words(r: Recipe) -> str:
    fill = "solid" if r.infill >= 1 else "empty" if r.infill == 0 else f"{r.infill * 100:.0f} %"
    return f"{r.walls} wall{'s' if r.walls != 1 else ''}, {fill}, {r.tops} tops"


class TradeBoard(QWidget):
    """Dots of a :class:`Board`. ``picked`` carries the recipe of the dot clicked."""

    picked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Trade board: every recipe against its reserve")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.board: Board | None = None
        self.empty = "Choose a way to lie first; then every recipe is priced."
        self.by = "grams"
        self._scale = (0.0, 1.0, 0.0, 1.0)  # costs left and right, logarithms of the reserve below and above
        self.old = False
        self.current: Recipe | None = None
        self.chosen: Dot | None = None
        look.changed.connect(self.update)

    def put(self, board: Board | None, current: Recipe, chosen: Dot | None, by: str, old: bool) -> None:
        self.board, self.current, self.chosen, self.by, self.old = board, current, chosen, by, old
        self._scale = self._limits() if board is not None else (0.0, 1.0, 0.0, 1.0)
        self.update()

    def _cost(self, d: Dot) -> float:
        return {"grams": d.price.grams, "hours": d.price.hours.value, "cost": d.price.cost}[self.by]

    def _limits(self) -> tuple[float, float, float, float]:
        assert self.board is not None
        cost = [self._cost(d) for d in self.board.dots]
        value = np.clip([d.reserve.value for d in self.board.dots], 0.1, 50)
        pad = (max(cost) - min(cost)) * 0.06 + 1e-6
        low = min(float(value.min()), self.board.target) * 0.8
        high = max(float(value.max()), self.board.target * 1.2) * 1.25
        return min(cost) - pad, max(cost) + pad, float(np.log(low)), float(np.log(high))

    def _at(self, cost: float, reserve: float) -> QPointF:
        x0, x1, y0, y1 = self._scale
        w, h = self.width() - _L - _R, self.height() - _T - _B
        t = (math.log(min(max(reserve, 0.1), 50)) - y0) / (y1 - y0)
        return QPointF(_L + w * (cost - x0) / (x1 - x0), _T + h * (1 - t))

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), look.colour("chalk"))
        p.setPen(look.colour("peat"))
        p.setFont(font(16, 700))
        if self.board is None:
            p.drawText(QPointF(18, 28), "Ways to build it")
            p.setPen(look.colour("slate"))
            p.setFont(font(14))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self.empty)
            return
        p.drawText(QPointF(18, 28), f"{len(self.board.dots)} ways to build it" + ("  (old)" if self.old else ""))
        p.setPen(look.colour("slate"))
        p.setFont(font(13))
        p.drawText(QPointF(18, 47), "Each dot is a small cut: its ring the walls, its middle the infill.")
        self._axes(p)
        line = sorted((self._cost(d), d.reserve.value) for d in self.board.dots if d.frontier)
        best, steps = 0.0, []
        for cost, value in line:
            if value > best:
                best = value
                steps.append(self._at(cost, value))
        p.setPen(QPen(look.colour("moss"), 1.6))
        p.drawPolyline(QPolygonF(steps))
        for d in self.board.dots:
            self._dot(p, d)
        self._labels(p)

    def _axes(self, p: QPainter) -> None:
        assert self.board is not None
        x0, x1, y0, y1 = self._scale
        box = QRectF(_L, _T, self.width() - _L - _R, self.height() - _T - _B)
        need = self._at(x0, self.board.target).y()
        p.fillRect(QRectF(box.left(), need, box.width(), box.bottom() - need), look.colour("warn", 110))
        p.setFont(font(13))
        for v in (0.25, 0.5, 1, 2, 3, 4, 6, 8, 12, 16, 24, 32):
            if y0 < math.log(v) < y1:
                y = self._at(x0, v).y()
                p.setPen(QPen(look.colour("rule"), 1))
                p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
                p.setPen(look.colour("slate"))
                p.drawText(
                    QRectF(0, y - 9, _L - 8, 18), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{v:g}×"
                )
        p.setPen(QPen(look.colour("peat"), 2))
        p.drawLine(QPointF(box.left(), need), QPointF(box.right(), need))
        p.setFont(font(13, 700))
        p.drawText(QPointF(box.left() + 6, need - 5), f"needed {self.board.target:g}")
        p.setPen(QPen(look.colour("slate"), 1))
        p.drawLine(box.bottomLeft(), box.bottomRight())
        p.setFont(font(13))
        p.drawText(QPointF(18, _T - 14), "reserve")
        span = x1 - x0
        step = next(s for s in (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000) if span / s <= 8)
        unit = {"grams": " g", "hours": " h", "cost": ""}[self.by]
        for v in np.arange(np.ceil(x0 / step) * step, x1, step):
            x = self._at(float(v), 1).x()
            p.drawLine(QPointF(x, box.bottom()), QPointF(x, box.bottom() + 4))
            p.drawText(QRectF(x - 40, box.bottom() + 6, 80, 18), Qt.AlignmentFlag.AlignHCenter, f"{v:g}{unit}")

    def _dot(self, p: QPainter, d: Dot) -> None:
        at = self._at(self._cost(d), d.reserve.value)
        mine = self.chosen is not None and d.recipe == self.chosen.recipe
        r = 8.0 if mine else 6.0 if d.preset else 4.6
        ring = 0.8 + d.recipe.walls * 0.42
        ink = look.colour("heather") if mine else look.colour("moss" if d.frontier else "slate")
        if mine:
            p.setPen(QPen(look.colour("heather"), 5, cap=Qt.PenCapStyle.FlatCap))
            c = look.colour("heather", 90)
            p.setPen(QPen(c, 8))
            p.drawLine(self._at(self._cost(d), d.reserve.low), self._at(self._cost(d), d.reserve.high))
        p.setPen(QPen(ink, ring))
        fill = look.colour("slate", int(30 + 200 * d.recipe.infill)) if d.recipe.infill > 0 else look.colour("paper")
        p.setBrush(look.colour("paper"))
        p.drawEllipse(at, r, r)
        p.setBrush(fill)
        p.drawEllipse(at, r, r)

    def _labels(self, p: QPainter) -> None:
        assert self.board is not None
        placed: list[QRectF] = []
        spots = [self._at(self._cost(d), d.reserve.value) for d in self.board.dots]
        order = sorted((d for d in self.board.dots if d.preset), key=lambda d: self._cost(d))
        for d in order:
            at = self._at(self._cost(d), d.reserve.value)
            cost = self._cost(d)
            unit = {"grams": f"{cost:.0f} g", "hours": f"{cost:.1f} h", "cost": f"cost {cost:.2f}"}[self.by]
            under = f"{unit}, {times(d.reserve.low)} to {times(d.reserve.high)}"
            p.setFont(font(13, 700))
            w = max(p.fontMetrics().horizontalAdvance(d.preset), p.fontMetrics().horizontalAdvance(under)) + 8
            best = None
            for dx, dy in (
                (-w - 16, -46),
                (-w - 16, 14),
                (16, 14),
                (16, -46),
                (-w / 2, -62),
                (-w / 2, 26),
                (-w - 30, -84),
                (20, 44),
                (-w - 40, 50),
            ):
                box = QRectF(at.x() + dx, at.y() + dy, w, 34)
                inside = (
                    box.left() > 6
                    and box.right() < self.width() - 6
                    and box.top() > 54
                    and box.bottom() < self.height() - _B
                )
                hits = sum(1 for b in placed if b.adjusted(-4, -2, 4, 2).intersects(box))
                dots = sum(1 for spot in spots if box.contains(spot))
                cost = (0 if inside else 100) + 40 * hits + dots
                if best is None or cost < best[0]:
                    best = (cost, box)
            assert best is not None
            box = best[1]
            placed.append(box)
            p.setPen(QPen(look.colour("peat"), 1))
            edge = QPointF(
                min(max(at.x(), box.left()), box.right()), box.bottom() if box.center().y() < at.y() else box.top()
            )
            p.drawLine(at, edge)
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(look.colour("chalk", 225))
            p.drawRoundedRect(box, 4, 4)
            mine = self.chosen is not None and self.chosen.recipe == d.recipe
            p.setPen(look.colour("heather" if mine else "peat"))
            p.drawText(
                box.adjusted(4, 0, -4, -16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, d.preset
            )
            p.setPen(look.colour("slate"))
            p.setFont(font(12))
            p.drawText(box.adjusted(4, 17, -4, 0), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, under)

    def _near(self, at: QPointF) -> Dot | None:
        if self.board is None:
            return None
        found = min(self.board.dots, key=lambda d: (self._at(self._cost(d), d.reserve.value) - at).manhattanLength())
        return found if (self._at(self._cost(found), found.reserve.value) - at).manhattanLength() < 16 else None

    def mousePressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        d = self._near(e.position())
        if d is not None:
            self.picked.emit(d.recipe)

    def mouseMoveEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        d = self._near(e.position())
        if d is not None:
            h = d.price.hours
            QToolTip.showText(
                e.globalPosition().toPoint(),
                f"{recipe_words(d.recipe)}\nreserve {d.reserve.value:.1f} "
                f"({d.reserve.low:.1f} to {d.reserve.high:.1f})\n{d.price.grams:.0f} g, {h.low:.1f} to "
                f"{h.high:.1f} h ({h.source}), cost {d.price.cost:.2f}",
                self,
            )

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(e.key()), 0)
        if step and self.board is not None:
            order = sorted((d for d in self.board.dots if d.frontier or d.preset), key=self._cost)
            here = next((i for i, d in enumerate(order) if self.chosen and d.recipe == self.chosen.recipe), 0)
            self.picked.emit(order[min(max(here + step, 0), len(order) - 1)].recipe)
        else:
            super().keyPressEvent(e)
