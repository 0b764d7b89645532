"""The fit ladder: each mate's printed size with its spread between the rails of what fits."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPainterPath, QPen
from PyQt6.QtWidgets import QWidget

from knollside.core.fit.correction import Correction
from knollside.gui.theme.look import font, look

ROW = 78


class FitLadder(QWidget):
    """Rows of corrections. Left of the rails binds, right rattles; before dashed, after filled."""

    taken = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Fit ladder")
        self.rows: tuple[Correction, ...] = ()
        self.chosen = ""
        self.applied: set[str] = set()
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(340, 24 + ROW * len(self.rows))

    def put(self, rows: tuple[Correction, ...], chosen: str, applied: set[str]) -> None:
        self.rows, self.chosen, self.applied = rows, chosen, applied
        self.setFixedHeight(24 + ROW * len(rows))
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, right = 112.0, float(self.width() - 4)
        a, b = left + (right - left) * 0.30, left + (right - left) * 0.70
        p.setFont(font(13, 700))
        for x0, x1, words, tone in (
            (left, a, "binds", "clay"),
            (a, b, "fits", "moss"),
            (b, right, "rattles", "straw ink"),
        ):
            p.setPen(look.colour(tone))
            p.drawText(QRectF(x0, 0, x1 - x0, 20), Qt.AlignmentFlag.AlignCenter, words)
        for i, c in enumerate(self.rows):
            self._row(p, c, 24.0 + i * ROW, left, a, b, right)

    def _row(self, p: QPainter, c: Correction, top: float, left: float, a: float, b: float, right: float) -> None:
        if c.feature == self.chosen:
            p.fillRect(QRectF(0, top, left - 6, ROW), look.colour("chosen"))
            p.fillRect(QRectF(0, top, 3, ROW), look.colour("heather"))
        base = top + ROW - 30
        hole = c.shift.kind == "hole"
        low, high = (c.target.low, c.target.high) if hole else (c.target.high, c.target.low)

        def x(size: float) -> float:
            return a + (b - a) * (size - low) / (high - low) if high != low else a

        p.fillRect(QRectF(left, top + 4, a - left, base - top - 4), look.colour("clay", 26))
        p.fillRect(QRectF(a, top + 4, b - a, base - top - 4), look.colour("moss", 34))
        p.fillRect(QRectF(b, top + 4, right - b, base - top - 4), look.colour("straw", 26))
        p.setPen(look.colour("peat"))
        p.setFont(font(14, 600))
        p.drawText(QPointF(10, top + 20), c.feature.replace("-", " ").capitalize())
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        words = c.target.words.split(", ")
        for k, w in enumerate(words[:2]):
            p.drawText(QPointF(10, top + 36 + 15 * k), w)
        sigma = c.sigma
        p.save()
        p.setClipRect(QRectF(left, top, right - left, ROW))
        self._bell(p, x, c.printed_now, sigma, base, False)
        if c.feature in self.applied:
            self._bell(p, x, c.printed_then, sigma, base, True)
            p.setPen(QPen(look.colour("heather"), 1.6))
            x0, x1 = min(max(x(c.printed_now), left), right), x(c.printed_then)
            p.drawLine(QPointF(x0, top + 9), QPointF(x1, top + 9))
            d = 5 if x1 > x0 else -5
            p.drawLine(QPointF(x1, top + 9), QPointF(x1 - d, top + 5))
            p.drawLine(QPointF(x1, top + 9), QPointF(x1 - d, top + 13))
        p.restore()
        p.setPen(QPen(look.colour("peat"), 1))
        p.drawLine(QPointF(left, base), QPointF(right, base))
        p.setPen(QPen(look.colour("peat"), 2))
        p.setFont(font(12, 400, mono=True))
        for at, v in ((a, low), (b, high)):
            p.setPen(QPen(look.colour("peat"), 2))
            p.drawLine(QPointF(at, top + 4), QPointF(at, base + 2))
            box = QRectF(at - 19, base - 3, 38, 16)
            p.setPen(QPen(look.colour("peat"), 1))
            p.setBrush(look.colour("paper"))
            p.drawRoundedRect(box, 3, 3)
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, f"{v:.2f}")
        then = c.chance_then if c.feature in self.applied else c.chance_now
        p.setFont(font(12, 700))
        for x0, x1, k, tone in ((left, a - 20, 0, "clay"), (a, b, 1, "moss"), (b + 20, right, 2, "straw ink")):
            p.setPen(look.colour(tone if then[k] > 0.02 else "slate"))
            before = "" if c.feature not in self.applied else f"{c.chance_now[k] * 100:.0f} › "
            p.drawText(
                QRectF(x0 - 8, base + 12, x1 - x0 + 16, 16),
                Qt.AlignmentFlag.AlignCenter,
                f"{before}{then[k] * 100:.0f} %",
            )

    def _bell(self, p: QPainter, x, at: float, sigma: float, base: float, filled: bool) -> None:  # type: ignore[no-untyped-def]
        t = np.linspace(-3, 3, 41)
        pts = [QPointF(x(at + k * sigma), base - 30 * float(np.exp(-k * k / 2))) for k in t]
        path = QPainterPath(pts[0])
        for q in pts[1:]:
            path.lineTo(q)
        if filled:
            p.fillPath(path, look.colour("heather", 90))
            p.setPen(QPen(look.colour("heather"), 1.5))
        else:
            p.setPen(QPen(look.colour("slate"), 1.2, Qt.PenStyle.DashLine))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawPath(path)

    def mousePressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        i = int((e.position().y() - 24) // ROW)
        if 0 <= i < len(self.rows):
            self.taken.emit(self.rows[i].feature)
