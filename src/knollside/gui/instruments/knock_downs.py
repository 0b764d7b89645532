"""The strength stair: from the table's value to the value used, each tread named, sourced and editable."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QLineEdit

from knollside.core.material.allowables import Allowables
from knollside.gui.instruments.strips import Strip
from knollside.gui.theme.look import font, look


class _Entry(QLineEdit):
    """A field that keeps its Return to itself: the stair under it opens the next tread on Return."""

    def keyPressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        super().keyPressEvent(e)
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            e.accept()


class KnockDownStrip(Strip):
    """From table strength to the value used: each tread a factor, named, with its source.

    A tread's factor is typed on the tread itself; ``changed`` carries its name and the value, or None for the
    typical one again.
    """

    changed = pyqtSignal(str, object)

    def __init__(self) -> None:
        super().__init__("From table strength to the value used")
        self._boxes: list[tuple[QRectF, str, float]] = []
        self._editing = ""
        self.entry = _Entry(self)
        self.entry.setAccessibleName("Factor of this tread")
        self.entry.setPlaceholderText("empty: typical")
        self.entry.hide()
        self.entry.returnPressed.connect(self._typed)
        self.entry.editingFinished.connect(self.entry.hide)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.allow: Allowables | None = None
        self.case = ""
        self.card = ""

    def put(self, allow: Allowables | None, case: str, card: str) -> None:
        self.allow, self.case, self.card = allow, case, card
        self.update()

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = self.ground()
        if self.allow is None:
            self.title(p, "From table strength to the value used", "State a load to see what is left of the strength.")
            return
        self.title(p, "From table strength to the value used", f"{self.case}; click a tread to put your own factor")
        self._boxes = []
        a = self.allow
        first = (f"{self.card}, table", a.table.value, None, a.table.source)
        steps: list[tuple[str, float, float | None, str]] = [first]
        value = a.table.value
        for s in a.knock_downs:
            value *= s.factor.value
            steps.append((s.name, value, s.factor.value, s.factor.source))
        steps.append(("Across layers", a.interlayer, a.bond.value, a.bond.source))
        left, width = 18.0, self.width() - 36.0
        top, bottom = 90.0, self.height() - 26.0
        each = width / len(steps)
        previous = None
        for i, (name, v, factor, source) in enumerate(steps):
            x = left + i * each
            y = bottom - (bottom - top) * v / steps[0][1]
            box = QRectF(x, y, each, bottom - y)
            p.fillRect(box, look.colour("moss", 90) if i == len(steps) - 1 else look.colour("half"))
            p.setPen(QPen(look.colour("peat"), 1.8))
            p.drawLine(QPointF(x, y), QPointF(x + each, y))
            if previous is not None:
                p.drawLine(QPointF(x, previous), QPointF(x, y))
            previous = y
            if 0 < i < len(steps) - 1 and factor is not None:
                self._boxes.append((QRectF(x, y - 38, each, bottom - y + 38), name, factor))
            p.setFont(font(13, 600))
            p.setPen(look.colour("peat"))
            ty = y - 36
            p.drawText(QRectF(x + 4, ty, each - 6, 16), Qt.AlignmentFlag.AlignLeft, _within(p, name, each - 6))
            p.setFont(font(12))
            p.setPen(look.colour("slate"))
            words = f"× {factor:.2f}  {source}" if factor is not None else source
            p.drawText(QRectF(x + 4, ty + 15, each - 6, 15), Qt.AlignmentFlag.AlignLeft, _within(p, words, each - 6))
            p.setFont(font(13, 700 if i == len(steps) - 1 else 400))
            p.setPen(look.colour("moss" if i == len(steps) - 1 else "peat"))
            p.drawText(
                QRectF(x + 4, bottom + 4, each, 18),
                Qt.AlignmentFlag.AlignLeft,
                f"{v:.0f} MPa" if v >= 10 else f"{v:.1f} MPa",
            )

    def mousePressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        for i, (box, _, _) in enumerate(self._boxes):
            if box.contains(e.position()):
                self.edit(i)

    def keyPressEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._boxes:
            names = [b[1] for b in self._boxes]
            self.edit((names.index(self._editing) + 1) % len(names) if self._editing in names else 0)
        else:
            super().keyPressEvent(e)

    def edit(self, i: int) -> None:
        """Open the field on one tread."""
        box, self._editing, factor = self._boxes[i]
        self.entry.setGeometry(int(box.left()) + 2, int(box.top()) + 16, max(int(box.width()) - 6, 64), 26)
        self.entry.setText(f"{factor:.2f}")
        self.entry.show()
        self.entry.setFocus()
        self.entry.selectAll()

    def _typed(self) -> None:
        text = self.entry.text().strip().replace(",", ".")
        try:
            value = float(text.removesuffix("%")) / (100 if text.endswith("%") else 1) if text else None
        except ValueError:
            value = -1.0
        if value is not None and not 0.01 <= value <= 1.5:
            self.entry.selectAll()
            self.entry.setToolTip("A factor from 0.01 to 1.5; empty for the typical one")
            return
        self.entry.hide()
        self.changed.emit(self._editing, value)


def _within(p: QPainter, words: str, width: float) -> str:
    return p.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(width))
