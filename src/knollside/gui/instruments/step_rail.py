"""The core: eight strata in working order with the Workshop as bedrock, drawn."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPainterPath, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from knollside.gui.stepbase import Mark, Standing
from knollside.gui.theme.look import font, look

_COLUMN = 40
_LEFT = 16


class CoreColumn(QWidget):
    """Click or Alt+number takes a step. ``taken`` carries its name."""

    taken = pyqtSignal(str)

    def __init__(self, names: list[str]) -> None:
        super().__init__()
        self.names = names
        self.standings: dict[str, Standing] = {n: Standing(Mark.OPEN, "") for n in names}
        self.current = names[0]
        self.setFixedWidth(216)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Steps of the job")
        self.setToolTip("Alt+1 to Alt+8 take a step, Alt+9 the workshop")
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(216, 640)

    def put(self, standings: dict[str, Standing], current: str) -> None:
        self.standings, self.current = standings, current
        words = "; ".join(f"{n}: {s.words}" for n, s in standings.items())
        self.setAccessibleDescription(words)
        self.update()

    def _edges(self) -> list[float]:
        bedrock = 92.0
        each = (self.height() - 8 - bedrock) / (len(self.names) - 1)
        return [8 + each * i for i in range(len(self.names))] + [float(self.height())]

    def _contact(self, y: float, seed: int) -> list[QPointF]:
        """A slightly irregular line across the drawn column."""
        rng = np.random.default_rng(seed)
        a, b = rng.uniform(1.2, 3.2), rng.uniform(0, 6)
        return [QPointF(_LEFT + _COLUMN * t / 12, y + a * np.sin(t * 0.62 + b)) for t in range(13)]

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), look.colour("deep"))
        edges = self._edges()
        for i, name in enumerate(self.names):
            self._stratum(p, i, name, edges[i], edges[i + 1])
        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawLine(self.width() - 1, 0, self.width() - 1, self.height())
        if self.hasFocus():
            i = self.names.index(self.current)
            p.setPen(QPen(look.colour("heather"), 2))
            p.drawRect(QRectF(58, edges[i] + 2, self.width() - 62, edges[i + 1] - edges[i] - 4))

    def _stratum(self, p: QPainter, i: int, name: str, top: float, bottom: float) -> None:
        standing, bedrock = self.standings[name], i == len(self.names) - 1
        here = name == self.current
        if here:
            p.fillRect(QRectF(_LEFT + _COLUMN, top, self.width(), bottom - top), look.colour("chalk"))
            p.fillRect(QRectF(_LEFT + _COLUMN, top, 3, bottom - top), look.colour("heather"))
        path = QPainterPath()
        upper = self._contact(top, i) if i else [QPointF(_LEFT, top), QPointF(_LEFT + _COLUMN, top)]
        lower = (
            self._contact(bottom, i + 1) if not bedrock else [QPointF(_LEFT, bottom), QPointF(_LEFT + _COLUMN, bottom)]
        )
        path.addPolygon(QPolygonF(upper + lower[::-1]))
        token = (
            "bedrock"
            if bedrock
            else {Mark.FULL: "full", Mark.HALF: "half", Mark.OPEN: "open", Mark.CRACK: "crack"}[standing.mark]
        )
        p.fillPath(path, look.colour(token))
        p.save()
        p.setClipPath(path)
        self._texture(p, standing.mark, bedrock, top, bottom, i)
        p.restore()
        p.setPen(QPen(look.colour("peat", 150), 1.2))
        p.drawPolyline(QPolygonF(upper))
        p.setPen(QPen(look.colour("peat", 90), 1))
        p.drawLine(QPointF(_LEFT, top), QPointF(_LEFT, bottom))
        p.drawLine(QPointF(_LEFT + _COLUMN, top), QPointF(_LEFT + _COLUMN, bottom))
        middle = (top + bottom) / 2
        if not bedrock:
            self._mark(p, QPointF(_LEFT + _COLUMN / 2, middle), standing.mark)
        x = 70
        p.setPen(look.colour("peat"))
        p.setFont(font(15, 700))
        lines = self._wrapped(p, standing.words)
        block = 20 + 16 * len(lines)
        y = middle - block / 2 + 15
        p.drawText(QPointF(x, y), name)
        p.setPen(look.colour("slate"))
        p.setFont(font(13))
        for k, line in enumerate(lines):
            p.drawText(QPointF(x, y + 18 + 16 * k), line)
        if not here and not bedrock:
            p.setPen(QPen(look.colour("rule 2"), 1))
            p.drawLine(QPointF(x, bottom), QPointF(self.width() - 14, bottom))

    def _wrapped(self, p: QPainter, words: str) -> list[str]:
        p.save()
        p.setFont(font(13))
        m, out, line = p.fontMetrics(), [], ""
        for word in words.split():
            if m.horizontalAdvance(f"{line} {word}") > self.width() - 84 and line:
                out.append(line)
                line = word
            else:
                line = f"{line} {word}".strip()
        if line:
            out.append(line)
        p.restore()
        if len(out) > 3:
            out = [*out[:2], out[2] + " …"]
        return out

    def _texture(self, p: QPainter, mark: Mark, bedrock: bool, top: float, bottom: float, seed: int) -> None:
        ink = look.colour("peat", 60)
        p.setPen(QPen(ink, 1))
        rng = np.random.default_rng(100 + seed)
        if bedrock:
            for k, y in enumerate(_steps(top, bottom, 13)):
                p.drawLine(QPointF(_LEFT, y), QPointF(_LEFT + _COLUMN, y + 2))
                for x in _steps(_LEFT + (k % 2) * 7, _LEFT + _COLUMN, 14):
                    p.drawLine(QPointF(x, y), QPointF(x + 1, y + 13))
        elif mark is Mark.FULL:
            for y in _steps(top + 5, bottom, 7):
                pts = [QPointF(_LEFT + t, y + 1.6 * np.sin(t * 0.25 + y)) for t in range(0, _COLUMN + 1, 4)]
                p.drawPolyline(QPolygonF(pts))
        elif mark is Mark.HALF:
            for y in _steps(top + 6, bottom, 9):
                for x in _steps(_LEFT + rng.uniform(0, 5), _LEFT + _COLUMN, 12):
                    p.drawLine(QPointF(x, y), QPointF(x + 6, y))
        elif mark is Mark.CRACK:
            for y in _steps(top + 6, bottom, 9):
                p.drawLine(QPointF(_LEFT, y), QPointF(_LEFT + _COLUMN, y + 4))
            p.setPen(QPen(look.colour("clay", 190), 1.4))
            middle = _LEFT + _COLUMN / 2
            pts = [QPointF(middle + rng.uniform(-9, 9), float(y)) for y in np.linspace(top, bottom, 9)]
            p.drawPolyline(QPolygonF(pts))
        else:
            p.setBrush(ink)
            p.setPen(Qt.PenStyle.NoPen)
            for _ in range(int((bottom - top) / 4)):
                p.drawEllipse(QPointF(_LEFT + rng.uniform(2, _COLUMN - 2), rng.uniform(top + 3, bottom - 3)), 0.9, 0.9)

    def _mark(self, p: QPainter, at: QPointF, mark: Mark) -> None:
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.colour("paper"))
        p.drawEllipse(at, 10, 10)
        ink = look.colour("clay") if mark is Mark.CRACK else look.colour("peat")
        p.setPen(QPen(ink, 1.8))
        p.setBrush(ink if mark in (Mark.FULL, Mark.CRACK) else Qt.BrushStyle.NoBrush)
        p.drawEllipse(at, 5.5, 5.5)
        if mark is Mark.HALF:
            p.setBrush(ink)
            p.drawPie(QRectF(at.x() - 5.5, at.y() - 5.5, 11, 11), 90 * 16, 180 * 16)
        elif mark is Mark.CRACK:
            p.setPen(QPen(look.colour("paper"), 1.8))
            p.drawPolyline(
                QPolygonF([at + QPointF(1, -6), at + QPointF(-1.5, -1), at + QPointF(1.5, 1), at + QPointF(-1, 6)])
            )

    def mousePressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        edges = self._edges()
        for i, name in enumerate(self.names):
            if edges[i] <= e.position().y() < edges[i + 1]:
                self.taken.emit(name)

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(e.key()), 0)
        if step:
            i = self.names.index(self.current) + step
            self.taken.emit(self.names[min(max(i, 0), len(self.names) - 1)])
        else:
            super().keyPressEvent(e)


def _steps(low: float, high: float, by: float) -> list[float]:
    """Evenly spaced places from ``low`` to below ``high``."""
    return [float(v) for v in np.arange(low, high, by)]
