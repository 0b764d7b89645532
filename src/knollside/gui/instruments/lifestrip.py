"""A part's life as a strip of cores: one for each print, its bands by revision, its end by how it came out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QToolTip, QWidget

from knollside.gui.theme.look import font, look

_WIDE, _CORE, _TOP, _FOOT = 66, 26, 34, 46
_TOKENS = ("full", "half", "open", "crack")


@dataclass(frozen=True)
class OnStrip:
    """A print: number, day, revision, whether it came out (None: with faults), and words for the tip."""

    number: int
    made: datetime | None
    revision: int
    good: bool | None
    words: str


class LifeStrip(QWidget):
    """The newest prints that fit; ``taken`` carries the number of the one that was clicked."""

    taken = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Prints of this part")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.prints: tuple[OnStrip, ...] = ()
        self.chosen: int | None = None
        look.changed.connect(self.update)

    def put(self, prints: Sequence[OnStrip], chosen: int | None) -> None:
        self.prints, self.chosen = tuple(prints), chosen
        self.update()

    @property
    def shown(self) -> tuple[OnStrip, ...]:
        """Those that fit."""
        return self.prints[-max(int((self.width() - 36) // _WIDE), 1) :]

    def box(self, k: int) -> QRectF:
        """Where the k-th shown is."""
        return QRectF(18 + k * _WIDE, _TOP, _WIDE - 6, self.height() - _TOP - 6)

    def _under(self, e: QMouseEvent) -> OnStrip | None:
        return next((p for k, p in enumerate(self.shown) if self.box(k).contains(e.position())), None)

    def mousePressEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        p = self._under(e)
        if p is not None:
            self.taken.emit(p.number)

    def mouseMoveEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        p = self._under(e)
        if p is not None:
            QToolTip.showText(e.globalPosition().toPoint(), p.words, self)

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        numbers = [p.number for p in self.shown]
        if e.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and numbers:
            at = numbers.index(self.chosen) if self.chosen in numbers else len(numbers) - 1
            by = 1 if e.key() == Qt.Key.Key_Right else -1
            self.taken.emit(numbers[min(max(at + by, 0), len(numbers) - 1)])
        else:
            super().keyPressEvent(e)

    def paintEvent(self, e: QPaintEvent | None) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), look.colour("paper"))
        p.setPen(look.colour("peat"))
        p.setFont(font(14, 700))
        p.drawText(QPointF(18, 22), "Prints of this part")
        p.setFont(font(13))
        p.setPen(look.colour("slate"))
        if not self.prints:
            p.drawText(QPointF(18, 56), "None yet. Record one when it is off the bed.")
            return
        left = len(self.prints) - len(self.shown)
        if left:
            p.drawText(QPointF(170, 22), f"{left} older ones are at Workshop")
        for k, one in enumerate(self.shown):
            self._core(p, self.box(k), one)

    def _core(self, p: QPainter, box: QRectF, one: OnStrip) -> None:
        if one.number == self.chosen:
            p.setPen(QPen(look.colour("heather"), 1.6))
            p.setBrush(look.colour("chosen"))
            p.drawRoundedRect(box, 6, 6)
        core = QRectF(box.center().x() - _CORE / 2, box.top() + 6, _CORE, box.height() - _FOOT - 8)
        bands = max(one.revision, 1)
        high = core.height() / bands
        for b in range(bands):
            # The oldest revision lies at the bottom.
            band = QRectF(core.left(), core.bottom() - (b + 1) * high, core.width(), high)
            p.setPen(QPen(look.colour("bedrock"), 0.8))
            p.setBrush(look.colour(_TOKENS[b % len(_TOKENS)]))
            p.drawRect(band)
        if one.good is False:
            p.setPen(QPen(look.colour("clay"), 2.0))
            at = core.center()
            p.drawPolyline(QPolygonF([QPointF(core.left() - 3, at.y() + 4), at, QPointF(core.right() + 3, at.y() - 5)]))
        p.setPen(QPen(look.colour("peat"), 1.4))
        mark = QPointF(box.center().x(), box.bottom() - _FOOT + 8)
        p.setBrush(look.colour("peat") if one.good else Qt.BrushStyle.NoBrush)
        p.drawEllipse(mark, 5, 5)
        if one.good is None:
            p.setBrush(look.colour("peat"))
            p.drawPie(QRectF(mark.x() - 5, mark.y() - 5, 10, 10), 90 * 16, 180 * 16)
        p.setFont(font(12))
        when = f"{one.made:%d %b}" if one.made is not None else "no day"
        words = QRectF(box.left(), box.bottom() - 31, box.width(), 15)
        p.drawText(words, int(Qt.AlignmentFlag.AlignHCenter), when)
        p.setPen(look.colour("slate"))
        p.drawText(words.translated(0, 14), int(Qt.AlignmentFlag.AlignHCenter), f"rev {one.revision}")
