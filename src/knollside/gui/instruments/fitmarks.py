"""Small drawings that go with a number of Fits: across or a side, in a section."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from knollside.core.mesh.bore import roof_profile
from knollside.gui.theme.look import look

TIPS = {
    "hole": "a diameter, across the whole hole",
    "pin": "a diameter, across the whole outside",
    "side": "one side of a gap; across the diameter it counts twice",
    "across": "across the layers, in whole layers",
    "flare": "one side of the first layer's foot",
    "sag": "how much the roof of a lying hole comes down",
    "wall": "through the wall",
}


class SectionMark(QWidget):
    """A little section that shows what a number is measured across: 'hole', 'pin', 'side' of a gap, 'across' it in
    layers, 'flare' a side, 'sag' of a roof, 'wall'."""

    def __init__(self, kind: str) -> None:
        super().__init__()
        self.kind = kind
        self.setFixedSize(QSize(40, 30))
        self.setToolTip(TIPS[kind])
        self.setAccessibleName(TIPS[kind])

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        body, line = look.colour("full"), QPen(look.colour("slate"), 1)
        p.setPen(line)
        p.setBrush(body)
        if self.kind in ("hole", "sag"):
            p.drawRect(QRectF(1, 1, 38, 28))
            p.setBrush(look.colour("paper"))
            p.drawEllipse(QPointF(20, 15), 11, 11 if self.kind == "hole" else 10)
            if self.kind == "sag":
                self._arrow(p, QPointF(20, 4), QPointF(20, 12))
            else:
                self._arrow(p, QPointF(9, 15), QPointF(31, 15))
        elif self.kind == "pin":
            p.drawEllipse(QPointF(20, 15), 11, 11)
            self._arrow(p, QPointF(9, 15), QPointF(31, 15))
        elif self.kind == "side":
            p.drawRect(QRectF(1, 3, 11, 24))
            p.drawRect(QRectF(20, 3, 12, 24))
            self._arrow(p, QPointF(12, 15), QPointF(20, 15))
        elif self.kind == "across":
            p.drawRect(QRectF(5, 18, 30, 10))
            p.drawRect(QRectF(9, 2, 22, 9))
            self._arrow(p, QPointF(20, 11), QPointF(20, 18))
        elif self.kind == "flare":
            p.drawPolygon(
                QPolygonF([QPointF(x, y) for x, y in ((10, 2), (30, 2), (30, 23), (36, 28), (4, 28), (10, 23))])
            )
            self._arrow(p, QPointF(30, 26), QPointF(36, 26))
        else:
            p.drawRect(QRectF(13, 2, 14, 26))
            self._arrow(p, QPointF(13, 15), QPointF(27, 15))

    def _arrow(self, p: QPainter, a: QPointF, b: QPointF) -> None:
        p.setPen(QPen(look.colour("heather"), 1.8))
        p.drawLine(a, b)
        flat = abs(a.y() - b.y()) < 0.1
        for at, sign in ((a, 1), (b, -1)):
            for w in (-2.5, 2.5):
                end = QPointF(at.x() + sign * 3, at.y() + w) if flat else QPointF(at.x() + w, at.y() + sign * 3)
                p.drawLine(at, end)


class RoofMark(QWidget):
    """A lying hole with its roof as chosen, seen along its axis, up on the page."""

    def __init__(self, shape: str) -> None:
        super().__init__()
        self.shape = shape
        self.setFixedSize(QSize(46, 46))
        self.setAccessibleName(f"Roof: {shape}")

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(look.colour("slate"), 1))
        p.setBrush(look.colour("full"))
        p.drawRect(QRectF(1, 1, 44, 44))
        r, mid = 13.0, QPointF(23, 26)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(look.colour("paper"))
        p.drawEllipse(mid, r, r)
        if self.shape != "round":
            top = roof_profile(r, self.shape, 3.0)
            p.drawPolygon(QPolygonF([QPointF(mid.x() + x, mid.y() - y) for x, y in top]))
        p.setPen(QPen(look.colour("heather"), 1.2, Qt.PenStyle.DashLine))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(mid, r, r)
