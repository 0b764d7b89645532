"""The shelf of spools: grams with their doubt, water against what harms."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from knollside.core.model import Range
from knollside.core.run.moisture import Water
from knollside.gui.instruments.stagepaint import begun, empty
from knollside.gui.instruments.widgets import chance
from knollside.gui.theme.look import font, look

_HIGH = 74


@dataclass(frozen=True)
class OnShow:
    """A spool as it is drawn; ``water`` None where its uptake is not known."""

    key: int
    name: str
    under: str
    left: Range
    water: Water | None


class ShelfView(QWidget):
    """``taken`` carries a spool's number."""

    taken = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Spools on the shelf")
        self.spools: tuple[OnShow, ...] = ()
        self.front = 0
        look.changed.connect(self.update)

    def put(self, spools: tuple[OnShow, ...], front: int) -> None:
        self.spools, self.front = spools, front
        self.update()

    def _row(self, k: int) -> QRectF:
        high = min(_HIGH, (self.height() - 80) / max(len(self.spools), 1))
        return QRectF(14, 58 + k * high, self.width() - 28, high)

    def mousePressEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        for k, s in enumerate(self.spools):
            if self._row(k).contains(event.position()):
                self.taken.emit(s.key)

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = begun(self, "Spools")
        if not self.spools:
            empty(p, self, "No spool yet.")
            return
        p.setFont(font(12))
        p.setPen(look.colour("slate"))
        p.drawText(QRectF(220, 34, 280, 18), Qt.AlignmentFlag.AlignLeft, "grams left, nine in ten between the ends")
        p.drawText(QRectF(self.width() - 200, 34, 180, 18), Qt.AlignmentFlag.AlignLeft, "water; a line where it harms")
        most = max(max(s.left.high for s in self.spools), 100.0)
        for k, s in enumerate(self.spools):
            self._draw(p, self._row(k), s, most)

    def _draw(self, p: QPainter, r: QRectF, s: OnShow, most: float) -> None:
        if s.key == self.front:
            p.fillRect(r, look.colour("paper"))
            p.fillRect(QRectF(r.left(), r.top(), 3, r.height()), look.colour("heather"))
        mid = r.center().y()
        p.setPen(QPen(look.colour("peat"), 1.4))
        full = 6 + 14 * min(s.left.value / 1000, 1.0)
        p.setBrush(look.colour("full"))
        p.drawEllipse(QPointF(r.left() + 34, mid), full, full)
        p.setBrush(look.colour("chalk"))
        p.drawEllipse(QPointF(r.left() + 34, mid), 6, 6)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(QPointF(r.left() + 34, mid), 21, 21)
        p.setFont(font(14, 700))
        p.drawText(QRectF(r.left() + 66, mid - 20, 136, 20), Qt.AlignmentFlag.AlignVCenter, s.name)
        p.setFont(font(12))
        p.setPen(look.colour("slate"))
        short = p.fontMetrics().elidedText(s.under, Qt.TextElideMode.ElideRight, 134)
        p.drawText(QRectF(r.left() + 66, mid, 136, 18), Qt.AlignmentFlag.AlignVCenter, short)
        self._grams(p, QRectF(r.left() + 206, mid - 9, r.width() - 430, 18), s, most)
        self._water(p, QRectF(r.right() - 200, mid - 8, 110, 16), s)
        p.setPen(QPen(look.colour("bed lines"), 1))
        p.drawLine(r.bottomLeft(), r.bottomRight())

    def _grams(self, p: QPainter, box: QRectF, s: OnShow, most: float) -> None:
        scale = box.width() / most
        p.setPen(QPen(look.colour("peat"), 1))
        bar = QRectF(box.left(), box.top(), s.left.value * scale, box.height())
        p.fillRect(bar, look.colour("full"))
        p.drawRect(bar)
        low, high = box.left() + s.left.low * scale, box.left() + s.left.high * scale
        y = box.bottom() + 5
        p.drawLine(QPointF(low, y), QPointF(high, y))
        for x in (low, high):
            p.drawLine(QPointF(x, y - 3), QPointF(x, y + 3))
        p.setFont(font(12, 700))
        words = f"{s.left.low:.0f} to {s.left.high:.0f} g"
        p.drawText(QRectF(box.left(), box.top() - 17, 220, 16), Qt.AlignmentFlag.AlignVCenter, words)

    def _water(self, p: QPainter, box: QRectF, s: OnShow) -> None:
        p.setFont(font(12))
        if s.water is None:
            p.setPen(look.colour("slate"))
            p.drawText(box.adjusted(0, -4, 60, 4), Qt.AlignmentFlag.AlignVCenter, "not known")
            return
        w = s.water
        most = max(2.5 * w.harm.value, w.now.high)
        p.setPen(QPen(look.colour("peat"), 1))
        p.drawRect(box)
        p.fillRect(
            QRectF(box.left(), box.top(), box.width() * w.now.value / most, box.height()), look.colour("spring", 150)
        )
        span = [box.left() + box.width() * v / most for v in (w.now.low, w.now.high)]
        p.drawLine(QPointF(span[0], box.center().y()), QPointF(span[1], box.center().y()))
        harm = box.left() + box.width() * w.harm.value / most
        p.setPen(QPen(look.colour("clay"), 2))
        p.drawLine(QPointF(harm, box.top() - 4), QPointF(harm, box.bottom() + 4))
        p.setPen(look.colour("clay") if w.wet >= 0.5 else look.colour("peat"))
        p.setFont(font(13, 700))
        p.drawText(
            QRectF(box.right() + 8, box.top() - 2, 90, 20), Qt.AlignmentFlag.AlignVCenter, f"{chance(w.wet)} % wet"
        )
