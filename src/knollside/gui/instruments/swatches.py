"""What a print looks like, as a board of small drawings to take from."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from knollside.core.model.faults import Symptom
from knollside.gui.instruments.symptomdraw import draw_symptom
from knollside.gui.theme.look import font, look

_ACROSS, _HIGH, _GAP = 4, 74, 4
_PICTURE = 38


class Swatches(QWidget):
    """``taken`` carries the symptom that was clicked; a chosen one has a ring and a tick, one looked for and not found
    is crossed."""

    taken = pyqtSignal(object)

    def __init__(self, of: Iterable[Symptom], seen: Iterable[Symptom], lacking: Iterable[Symptom] = ()) -> None:
        super().__init__()
        self.of, self.seen, self.lacking = tuple(of), frozenset(seen), frozenset(lacking)
        self._at = 0
        self.setAccessibleName("What it looks like")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        rows = -(-len(self.of) // _ACROSS)
        self.setFixedHeight(rows * _HIGH)

    def box(self, k: int) -> QRectF:
        """Where the k-th is drawn."""
        wide = self.width() / _ACROSS
        return QRectF((k % _ACROSS) * wide, (k // _ACROSS) * _HIGH, wide - _GAP, _HIGH - _GAP)

    def _under(self, e: QMouseEvent) -> int | None:
        return next((k for k in range(len(self.of)) if self.box(k).contains(e.position())), None)

    def mousePressEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        k = self._under(e)
        if k is not None:
            self._at = k
            self.taken.emit(self.of[k])

    def mouseMoveEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        k = self._under(e)
        if k is not None:
            QToolTip.showText(e.globalPosition().toPoint(), self.of[k].value, self)

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        by = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -_ACROSS,
            Qt.Key.Key_Down: _ACROSS,
        }.get(Qt.Key(e.key()))
        if by is not None:
            self._at = min(max(self._at + by, 0), len(self.of) - 1)
            self.update()
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.taken.emit(self.of[self._at])
        else:
            super().keyPressEvent(e)

    def paintEvent(self, e: QPaintEvent | None) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for k, symptom in enumerate(self.of):
            self._paint(p, k, symptom)

    def _paint(self, p: QPainter, k: int, symptom: Symptom) -> None:
        box = self.box(k)
        chosen, focus = symptom in self.seen, self.hasFocus() and k == self._at
        p.setPen(QPen(look.colour("heather" if chosen or focus else "rule"), 2 if chosen else 1.2))
        p.setBrush(look.colour("chosen" if chosen else "paper"))
        p.drawRoundedRect(box.adjusted(1, 1, -1, -1), 6, 6)
        draw_symptom(p, QRectF(box.left() + 4, box.top() + 4, box.width() - 8, _PICTURE - 4), symptom)
        if symptom in self.lacking:
            p.setPen(QPen(look.colour("slate"), 1.4))
            p.drawLine(box.topLeft(), box.bottomRight())
        p.setPen(look.colour("peat"))
        p.setFont(font(12, 600 if chosen else 400))
        words = QRectF(box.left() + 2, box.top() + _PICTURE + 1, box.width() - 4, box.height() - _PICTURE - 2)
        flags = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
        p.drawText(words, int(flags), ("✓ " if chosen else "") + symptom.value)
