"""A row of the short list: one way to lie with its reasons and its reserve."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from knollside.core.lay.orientations import RatedOrientation
from knollside.gui.instruments.widgets import RangeBar, reserve_tone, times
from knollside.gui.theme.look import font, look


class OrientationRow(QWidget):
    """One way of the short list: letter, reasons, reserve with its range."""

    taken = pyqtSignal(str)

    def __init__(
        self,
        orientation: RatedOrientation,
        target: float,
        chosen: bool,
        withheld: bool,
        layered: float | None = None,
        old: bool = False,
    ) -> None:
        super().__init__()
        self.old = old
        self.orientation, self.target, self.chosen, self.withheld, self.layered = (
            orientation,
            target,
            chosen,
            withheld,
            layered,
        )
        self.setFixedHeight(98)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        before = " before the change" if old else ""
        reserve, foot = orientation.reserve, orientation.footing
        which = orientation.letter or "chosen"
        self.setAccessibleName(f"Way {which}: {orientation.title}, reserve {reserve.value:.1f}{before}")
        self.setToolTip(
            f"{orientation.title}\n{orientation.reason}\n{orientation.gives_up}\n"
            f"reserve {reserve.value:.2f} ({reserve.low:.2f} to {reserve.high:.2f}), {orientation.mode}\n"
            f"contact {foot.contact / 100:.1f} cm², leaning {orientation.overhang / 100:.1f} cm²"
        )
        self.bar = RangeBar(None if withheld or old else orientation.reserve, target)
        self.bar.setParent(self)

    def _figures(self) -> str:
        """The last line: height, layers, contact, and the reserve solved again in layers where it is known."""
        f = self.orientation.footing
        contact = f"{f.contact / 100:.1f} cm²"
        if self.layered is None or self.withheld:
            return f"{f.height:.0f} mm high, {f.layers} layers, {contact} on the bed"
        return f"{f.height:.0f} mm, {f.layers} layers, {contact} on bed; layered {times(self.layered)}×"

    def resizeEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        self.bar.move(self.width() - 94, 56)

    def paintEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.chosen:
            p.fillRect(self.rect(), look.colour("chosen"))
            p.fillRect(0, 0, 3, self.height(), look.colour("heather"))
        p.setPen(QPen(look.colour("heather"), 1.8))
        p.setBrush(look.colour("heather") if self.chosen else look.colour("paper"))
        p.drawEllipse(QPointF(28, 20), 11, 11)
        p.setPen(look.colour("paper") if self.chosen else look.colour("heather"))
        p.setFont(font(14, 700))
        p.drawText(QRectF(17, 9, 22, 22), Qt.AlignmentFlag.AlignCenter, self.orientation.letter or "•")
        w = self.orientation
        p.setPen(look.colour("peat"))
        p.setFont(font(14, 700))
        p.drawText(QRectF(48, 8, self.width() - 150, 20), Qt.AlignmentFlag.AlignVCenter, w.title)
        p.setFont(font(13))
        p.drawText(QRectF(48, 29, self.width() - 150, 34), Qt.TextFlag.TextWordWrap, w.reason)
        p.setPen(look.colour("slate"))
        p.drawText(
            QRectF(48, 62, self.width() - 150, 18),
            Qt.AlignmentFlag.AlignVCenter,
            p.fontMetrics().elidedText(w.gives_up, Qt.TextElideMode.ElideRight, self.width() - 150),
        )
        p.setPen(look.colour("peat"))
        p.setFont(font(12, 600))
        p.drawText(
            QRectF(48, 79, self.width() - 60, 16),
            Qt.AlignmentFlag.AlignVCenter,
            self._figures(),
        )
        tone = "slate" if self.withheld or self.old else reserve_tone(w.reserve, self.target)
        p.setPen(look.colour(tone))
        large = font(22, 700)
        # Of before the change: crossed through, so that it is not taken for true.
        large.setStrikeOut(self.old and not self.withheld)
        p.setFont(large)
        p.drawText(
            QRectF(self.width() - 104, 6, 92, 28),
            Qt.AlignmentFlag.AlignRight,
            "–" if self.withheld else f"{times(w.reserve.value)}×",
        )
        p.setPen(look.colour("slate"))
        p.setFont(font(12))
        if not self.withheld:
            p.drawText(
                QRectF(self.width() - 104, 36, 92, 16),
                Qt.AlignmentFlag.AlignRight,
                "old" if self.old else f"{times(w.reserve.low)} to {times(w.reserve.high)}",
            )
        p.setPen(QPen(look.colour("heather"), 2) if self.hasFocus() else QPen(look.colour("rule"), 1))
        if self.hasFocus():
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(self.rect().adjusted(1, 1, -1, -1))
        else:
            p.drawLine(14, self.height() - 1, self.width() - 14, self.height() - 1)

    def mousePressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        self.taken.emit(self.orientation.letter)

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.taken.emit(self.orientation.letter)
        elif e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.focusNextPrevChild(e.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(e)
