"""How a first layer lies, as cuts across its lines: too high, right, too low, a corner that lifts."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPainterPath, QPen
from PyQt6.QtWidgets import QWidget

from knollside.gui.theme.look import font, look

KINDS = ("too high", "right", "too low", "lifting")
LOOK = {
    "too high": "Round lines with gaps between; they come off under a fingernail.",
    "right": "Flat lines that touch, the surface even and dull.",
    "too low": "Thin and see-through, ridges pushed up between the lines, the nozzle scrapes.",
    "lifting": "A corner or an end stands off the bed and curls up.",
}
DO = {
    "too high": "Stop it. Bring the nozzle 0.05 mm nearer, print the first layer again.",
    "right": "Let it go on.",
    "too low": "Stop it. Set the nozzle 0.05 mm higher, print the first layer again.",
    "lifting": "Stop it. Clean the sheet, warm the bed 5 °C more, add a brim.",
}


class FirstLayerView(QWidget):
    """``taken`` carries one of :data:`KINDS`."""

    taken = pyqtSignal(str)

    def __init__(self, chosen: str = "") -> None:
        super().__init__()
        self.setAccessibleName("How the first layer lies")
        self.setFixedHeight(86)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.chosen = chosen
        self._at = 1

    def _box(self, k: int) -> QRectF:
        wide = (self.width() - 3 * 6) / 4
        return QRectF(k * (wide + 6) + 1, 1, wide - 2, self.height() - 2)

    def mousePressEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        for k, kind in enumerate(KINDS):
            if self._box(k).contains(event.position()):
                self.taken.emit(kind)

    def keyPressEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._at = (self._at + (1 if event.key() == Qt.Key.Key_Right else -1)) % len(KINDS)
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.taken.emit(KINDS[self._at])
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for k, kind in enumerate(KINDS):
            box = self._box(k)
            focus = self.hasFocus() and k == self._at
            p.setPen(QPen(look.colour("heather" if kind == self.chosen or focus else "rule 2"), 2 if focus else 1.2))
            p.setBrush(look.colour("chosen" if kind == self.chosen else "paper"))
            p.drawRoundedRect(box, 6, 6)
            self._cut(p, QRectF(box.left() + 7, box.top() + 10, box.width() - 14, 44), kind)
            p.setPen(look.colour("peat"))
            p.setFont(font(12, 600))
            p.drawText(QRectF(box.left(), box.bottom() - 22, box.width(), 18), Qt.AlignmentFlag.AlignCenter, kind)

    def _cut(self, p: QPainter, r: QRectF, kind: str) -> None:
        """Three lines of a first layer cut across, on the sheet."""
        ground = r.bottom() - 8
        p.setPen(Qt.PenStyle.NoPen)
        p.fillRect(QRectF(r.left(), ground, r.width(), 5), look.colour("bedrock"))
        p.setPen(QPen(look.colour("peat"), 1.1))
        p.setBrush(look.colour("full"))
        each = r.width() / 3
        for i in range(3):
            middle = r.left() + (i + 0.5) * each
            if kind == "too high":
                # Round, and hardly on the sheet.
                p.drawEllipse(QPointF(middle, ground - 9), each * 0.36, 9)
            elif kind == "right":
                p.drawRoundedRect(QRectF(middle - each * 0.5, ground - 12, each, 12), 5, 5)
            elif kind == "too low":
                p.drawPath(_squeezed(middle, ground, each))
            else:
                lift = (0.0, 3.0, 14.0)[i]
                p.save()
                p.translate(middle, ground - lift)
                p.rotate((0, -12, -26)[i])
                p.drawRoundedRect(QRectF(-each * 0.5, -12, each, 12), 5, 5)
                p.restore()


def _squeezed(middle: float, ground: float, each: float) -> QPainterPath:
    """A line that was pressed thin, with what was squeezed out piled up at its sides."""
    path = QPainterPath(QPointF(middle - each * 0.5, ground))
    path.lineTo(middle - each * 0.5, ground - 13)
    path.quadTo(middle - each * 0.3, ground - 5, middle, ground - 4)
    path.quadTo(middle + each * 0.3, ground - 5, middle + each * 0.5, ground - 13)
    path.lineTo(middle + each * 0.5, ground)
    path.closeSubpath()
    return path
