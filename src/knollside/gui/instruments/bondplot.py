"""Bond across the layers against nozzle heat, with its range; dotted while typical."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from knollside.core.material.bond import Setting, usual_nozzle, with_setting
from knollside.core.material.cards import Material
from knollside.gui.theme.look import font, look

_L, _R, _T, _B = 40, 12, 8, 34


class BondPlot(QWidget):
    """The card's curve over its nozzle range; ``at`` marks the heat in use, the dashed one a hardened nozzle."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(130)
        self.setAccessibleName("Bond against nozzle heat")
        self.card: Material | None = None
        self.at: float | None = None

    def put(self, card: Material, at: float | None = None) -> None:
        self.card, self.at = card, at
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        card = self.card
        if card is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(_L, _T, self.width() - _L - _R, self.height() - _T - _B)
        heat = np.linspace(card.nozzle[0] - 15, card.nozzle[1] + 10, 40)
        soft = [with_setting(card, Setting(nozzle_c=float(t))).bond for t in heat]
        hard = [with_setting(card, Setting(nozzle_c=float(t), hard_nozzle=True)).bond.value for t in heat]
        top = max(1.1 * max(b.high for b in soft), 0.5)

        def at(t: float, v: float) -> QPointF:
            x = (t - heat[0]) / (heat[-1] - heat[0])
            return QPointF(box.left() + box.width() * x, box.bottom() - box.height() * v / top)

        p.setFont(font(12))
        for v in (0.0, 0.25, 0.5, 0.75, 1.0):
            if v < top:
                y = at(heat[0], v).y()
                p.setPen(QPen(look.colour("rule"), 1))
                p.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
                p.setPen(look.colour("slate"))
                p.drawText(QRectF(0, y - 8, _L - 6, 16), Qt.AlignmentFlag.AlignRight, f"{v:g}")
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.colour("straw", 70))
        band = [at(float(t), b.high) for t, b in zip(heat, soft, strict=True)]
        band += [at(float(t), b.low) for t, b in zip(heat[::-1], soft[::-1], strict=True)]
        p.drawPolygon(QPolygonF(band))
        p.setBrush(Qt.BrushStyle.NoBrush)
        own = card.bond.source.startswith("yours")
        p.setPen(QPen(look.colour("peat"), 1.8, Qt.PenStyle.SolidLine if own else Qt.PenStyle.DotLine))
        p.drawPolyline(QPolygonF([at(float(t), b.value) for t, b in zip(heat, soft, strict=True)]))
        if not card.hard_nozzle:
            p.setPen(QPen(look.colour("slate"), 1.2, Qt.PenStyle.DashLine))
            p.drawPolyline(QPolygonF([at(float(t), v) for t, v in zip(heat, hard, strict=True)]))
        here = usual_nozzle(card) if self.at is None else self.at
        x = at(here, 0).x()
        p.setPen(QPen(look.colour("heather"), 1.6))
        p.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        p.setPen(look.colour("slate"))
        for t in range(int(np.ceil(heat[0] / 20) * 20), int(heat[-1]) + 1, 20):
            q = at(t, 0)
            p.drawText(QRectF(q.x() - 24, box.bottom() + 2, 48, 16), Qt.AlignmentFlag.AlignHCenter, f"{t}")
        p.drawText(QRectF(box.left(), box.bottom() + 17, box.width(), 16), Qt.AlignmentFlag.AlignHCenter, "nozzle, °C")
