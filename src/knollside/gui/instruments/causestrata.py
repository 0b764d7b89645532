"""Causes as strata: each band as thick as its odds, the likeliest on top."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from knollside.core.learning.faultnet import CAUSES
from knollside.core.learning.faults import Believed
from knollside.core.model.faults import Cause
from knollside.gui.theme.look import font, look

_SHOWN, _LEAST = 6, 24.0
_TOKENS = ("full", "half", "open")


class CauseStrata(QWidget):
    """``taken`` carries the cause whose band was clicked."""

    taken = pyqtSignal(object)

    def __init__(self, high: int = 250) -> None:
        super().__init__()
        self.setFixedHeight(high)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Causes with their odds")
        self.found: Believed | None = None
        self.chosen: Cause | None = None

    def put(self, found: Believed, chosen: Cause | None) -> None:
        self.found, self.chosen = found, chosen
        told = ", ".join(f"{CAUSES[c].words} {percent(x)}" for c, x in found.causes[:3])
        self.setAccessibleDescription(told)
        self.update()

    def bands(self) -> list[tuple[Cause | None, float, QRectF]]:
        """Cause (None: all the others), its share, and where it lies."""
        if self.found is None:
            return []
        some: list[tuple[Cause | None, float]] = list(self.found.causes[:_SHOWN])
        rest = max(1 - sum(x for _, x in some), 0.0)
        some.append((None, rest))
        spare = self.height() - _LEAST * len(some)
        total = sum(x for _, x in some)
        out, y = [], 0.0
        for cause, share in some:
            high = _LEAST + spare * share / total
            out.append((cause, share, QRectF(0, y, self.width(), high)))
            y += high
        return out

    def mousePressEvent(self, e: QMouseEvent | None) -> None:
        assert e is not None
        for cause, _, box in self.bands():
            if cause is not None and box.contains(e.position()):
                self.taken.emit(cause)

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        causes = [c for c, _, _ in self.bands() if c is not None]
        if e.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and causes:
            at = causes.index(self.chosen) if self.chosen in causes else -1
            by = 1 if e.key() == Qt.Key.Key_Down else -1
            self.taken.emit(causes[min(max(at + by, 0), len(causes) - 1)])
        else:
            super().keyPressEvent(e)

    def paintEvent(self, e: QPaintEvent | None) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        for k, (cause, share, box) in enumerate(self.bands()):
            self._paint(p, k, cause, share, box)

    def _paint(self, p: QPainter, k: int, cause: Cause | None, share: float, box: QRectF) -> None:
        mine = cause is not None and cause == self.chosen
        token = "chosen" if mine else "paper" if cause is None else _TOKENS[k % 3]
        p.setPen(QPen(look.colour("heather" if mine else "rule 2"), 1.6 if mine else 1.0))
        p.setBrush(look.colour(token))
        p.drawPath(_contact(box, k))
        p.setPen(look.colour("peat" if cause is not None else "slate"))
        p.setFont(font(14 if k == 0 else 13, 700 if k == 0 else 400))
        words = CAUSES[cause].words if cause is not None else "something else"
        inner = box.adjusted(10, 1, -8, -1)
        flags = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
        room = QRectF(inner.left(), inner.top(), inner.width() - 48, inner.height())
        words = p.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(room.width()))
        p.drawText(room, int(flags), words)
        p.setFont(font(15 if k == 0 else 13, 700))
        p.drawText(inner, int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight), percent(share))


def percent(share: float) -> str:
    """Odds in words that promise no more than they know."""
    if share < 0.01:
        return "under 1 %"
    return f"{100 * share:.0f} %" if share < 0.99 else "over 99 %"


def _contact(box: QRectF, k: int) -> QPainterPath:
    """A band with a slightly uneven upper edge."""
    path = QPainterPath(QPointF(box.left() + 1, box.bottom()))
    path.lineTo(box.left() + 1, box.top() + 1)
    steps = 12
    for i in range(steps + 1):
        x = box.left() + 1 + (box.width() - 2) * i / steps
        path.lineTo(x, box.top() + 1 + (1.1 * math.sin(1.7 * i + 2.3 * k) if k else 0.0))
    path.lineTo(box.right() - 1, box.bottom())
    path.closeSubpath()
    return path
