"""Filament of an empty shell against walls with infill, over the size of the part."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from knollside.core.recipe.breakeven import WORTH, BreakEven
from knollside.gui.theme.look import font, look

_L, _R, _T, _B = 40, 12, 10, 36


class EvenPlot(QWidget):
    """The saving in per cent over the size, with the line from which it is worth it."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(140)
        self.setAccessibleName("Saving of an empty shell against size")
        self.even: BreakEven | None = None

    def put(self, even: BreakEven | None) -> None:
        self.even = even
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        e = self.even
        if e is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(_L, _T, self.width() - _L - _R, self.height() - _T - _B)
        saving = e.saving * 100
        low, high = min(float(saving.min()), 0.0) - 4, max(float(saving.max()), 20.0) + 4
        x = np.log(e.scales)

        def at(log_scale: float, percent: float) -> QPointF:
            return QPointF(
                box.left() + box.width() * (log_scale - x[0]) / (x[-1] - x[0]),
                box.bottom() - box.height() * (percent - low) / (high - low),
            )

        p.setFont(font(12))
        step = next(s for s in (10, 20, 25, 50, 100) if (high - low) / s <= 4.5)
        for v in np.arange(np.ceil(low / step), high / step) * step:
            y = at(x[0], float(v)).y()
            p.setPen(QPen(look.colour("rule"), 1))
            p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            p.setPen(look.colour("slate"))
            p.drawText(QRectF(0, y - 8, _L - 6, 16), Qt.AlignmentFlag.AlignRight, f"{v + 0.0:.0f} %")
        worth = at(x[0], 100 * WORTH).y()
        p.setPen(QPen(look.colour("peat"), 1.4, Qt.PenStyle.DashLine))
        p.drawLine(QPointF(box.left(), worth), QPointF(box.right(), worth))
        p.setPen(QPen(look.colour("moss"), 2))
        p.drawPolyline(QPolygonF([at(float(a), float(b)) for a, b in zip(x, saving, strict=True)]))
        here = at(0.0, float(np.interp(0.0, x, saving)))
        p.setBrush(look.colour("heather"))
        p.setPen(QPen(look.colour("heather"), 1))
        p.drawEllipse(here, 4, 4)
        p.setPen(look.colour("slate"))
        for s in (0.35, 0.5, 1, 2, 4):
            q = at(float(np.log(s)), low)
            p.drawText(QRectF(q.x() - 24, box.bottom() + 3, 48, 16), Qt.AlignmentFlag.AlignHCenter, f"{s:g}×")
        p.drawText(QRectF(box.left(), box.bottom() + 18, box.width(), 16), Qt.AlignmentFlag.AlignHCenter, "size")
