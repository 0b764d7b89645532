"""Small parts every panel uses: headings, number fields, chips and range bars."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPen, QResizeEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from knollside.core import units
from knollside.core.model import Range
from knollside.gui.theme.look import font, look


def label(text: str = "", size: int = 14, weight: int = 400, dim: bool = False, wrap: bool = False) -> QLabel:
    out = QLabel(text)
    out.setFont(font(13 if dim and size == 14 else size, weight))
    if dim:
        out.setProperty("dim", "true")
    out.setWordWrap(wrap)
    out.setTextFormat(Qt.TextFormat.PlainText)
    return out


def tell(widget: QLabel, text: str, state: str = "") -> None:
    """Set a label's text and its tone: '', 'warn', 'bad' or 'good'."""
    widget.setText(text)
    for name in ("warn", "bad", "good"):
        widget.setProperty(name, "true" if name == state else "false")
    style = widget.style()
    if style is not None:
        style.unpolish(widget)
        style.polish(widget)


def heading(text: str, side: QWidget | str = "") -> QWidget:
    """A panel's section title with something small at its right."""
    box = QWidget()
    row = QHBoxLayout(box)
    row.setContentsMargins(0, 6, 0, 2)
    row.addWidget(label(text, 16, 700))
    row.addStretch(1)
    row.addWidget(side if isinstance(side, QWidget) else label(side, dim=True))
    return box


class _Rule(QWidget):
    def paintEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        QPainter(self).fillRect(self.rect(), look.colour("rule 2"))


def rule() -> QWidget:
    """A hairline between sections."""
    line = _Rule()
    line.setFixedHeight(1)
    return line


def button(text: str, do: Callable[[], None], main: bool = False, plain: bool = False, tip: str = "") -> QPushButton:
    out = QPushButton(text)
    out.setProperty("main", "true" if main else "false")
    out.setProperty("plain", "true" if plain else "false")
    out.setAccessibleName(text)
    out.setToolTip(tip)
    out.setAutoDefault(True)
    out.clicked.connect(lambda: do())
    return out


def column(*widgets: QWidget, spacing: int = 8, margins: tuple[int, int, int, int] = (0, 0, 0, 0)) -> QWidget:
    box = QWidget()
    lay = QVBoxLayout(box)
    lay.setContentsMargins(*margins)
    lay.setSpacing(spacing)
    for w in widgets:
        lay.addWidget(w)
    return box


def named(words: str, field: QWidget) -> QWidget:
    """A field under what it is called."""
    return column(label(words, dim=True), field, spacing=1)


def row(*widgets: QWidget, spacing: int = 8, stretch: int = -1) -> QWidget:
    box = QWidget()
    lay = QHBoxLayout(box)
    lay.setContentsMargins(0, 0, 0, 0)
    lay.setSpacing(spacing)
    for i, w in enumerate(widgets):
        lay.addWidget(w, 1 if i == stretch else 0)
    if stretch == -2:
        lay.addStretch(1)
    return box


def clear(layout: QVBoxLayout | QHBoxLayout) -> None:
    while layout.count():
        item = layout.takeAt(0)
        w = item.widget() if item is not None else None
        if w is not None:
            w.hide()
            w.deleteLater()


def scrolled(body: QWidget) -> QScrollArea:
    """A panel that scrolls up and down only; what is in it is held to its width."""
    area = _Scrolled()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    body.setObjectName("paper")
    area.setWidget(body)
    return area


class _Scrolled(QScrollArea):
    def resizeEvent(self, e: QResizeEvent | None) -> None:
        body, port = self.widget(), self.viewport()
        if body is not None and port is not None:
            body.setMaximumWidth(port.width())
        super().resizeEvent(e)


class Dropdown(QComboBox):
    """A list to choose one from; ``chose`` carries the data of the choice made by hand."""

    chose = pyqtSignal(object)

    def __init__(self, name: str, options: Iterable[tuple[str, object]] = (), letters: int = 10) -> None:
        super().__init__()
        self.setAccessibleName(name)
        for text, data in options:
            self.addItem(text, data)
        self.activated.connect(lambda i: self.chose.emit(self.itemData(i)))
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(letters)

    def put(self, data: object) -> None:
        """Show the option of that data; none at all, rather than another, where there is no such option."""
        i = next((i for i in range(self.count()) if self.itemData(i) == data), -1)
        if i != self.currentIndex():
            self.blockSignals(True)
            self.setCurrentIndex(i)
            self.blockSignals(False)

    def wheelEvent(self, e) -> None:  # type: ignore[no-untyped-def]
        e.ignore()  # a scrolling panel must not change values it passes over


class NumberField(QWidget):
    """A quantity to type: units and sums, arrows step it, a bad entry says why and the last good one stays."""

    entered = pyqtSignal(float)

    def __init__(
        self,
        name: str,
        kind: str,
        unit: str,
        step: float = 1.0,
        low: float = -1e9,
        high: float = 1e9,
        decimals: int = 2,
        width: int = 84,
    ) -> None:
        super().__init__()
        self.kind, self.unit, self.step, self.low, self.high, self.decimals = kind, unit, step, low, high, decimals
        self.value = 0.0
        self.shown_in = 1.0  # inside units in one shown unit: 1000 for kg where grams are kept
        self.plain = False  # a bare count
        self.line = QLineEdit()
        self.line.setAccessibleName(name)
        self.line.setFixedWidth(width)
        self.line.editingFinished.connect(self._take)
        self.line.installEventFilter(self)
        self.line.textEdited.connect(self._preview)
        self.note = label("", dim=True)
        self.note.setWordWrap(True)
        self.note.hide()
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(2)
        lay.addWidget(self.line)
        lay.addWidget(self.note)

    @property
    def _factor(self) -> float:
        return 100.0 if self.kind == "share" and not self.plain else 1 / self.shown_in

    def put(self, value: float) -> None:
        self.value = value
        if not self.line.hasFocus() or not self.line.isModified():
            self._show()

    def _show(self) -> None:
        shown = self.value * self._factor
        text = f"{shown:.{self.decimals}f}".rstrip("0").rstrip(".") if self.decimals else f"{shown:.0f}"
        self.line.setText(f"{text or '0'} {self.unit}".strip())
        self.line.setModified(False)
        self._say("")

    def _say(self, text: str, bad: bool = False) -> None:
        tell(self.note, text, "bad" if bad else "")
        self.note.setVisible(bool(text))
        self.line.setProperty("bad", "true" if bad else "false")
        style = self.line.style()
        if style is not None:
            style.unpolish(self.line)
            style.polish(self.line)

    def _read(self) -> float:
        text = self.line.text().strip()
        plain = text.removesuffix(self.unit).strip() if self.unit and self.unit not in ("%",) else text
        try:
            value = float(plain.replace(",", ".")) / self._factor
        except ValueError:
            value = units.parse(text, self.kind)
            if self.kind == "share" and not self.plain and "%" not in text:
                value /= self._factor
        else:
            if self.kind == "share" and not self.plain and text.endswith("%"):
                value = float(text.removesuffix("%").replace(",", ".")) / 100
        if not self.low <= value <= self.high:
            raise units.QuantityError(
                f"between {self.low * self._factor:g} and {self.high * self._factor:g} {self.unit}"
            )
        return value

    def _preview(self) -> None:
        text = self.line.text()
        if any(c.isalpha() for c in text.replace(self.unit, "")) or "+" in text or "/" in text:
            try:
                self._say(f"= {self._read() * self._factor:.{self.decimals}f} {self.unit}")
            except (units.QuantityError, KeyError):
                self._say("")

    def _take(self) -> None:
        if not self.line.isModified():
            return
        try:
            value = self._read()
        except (units.QuantityError, KeyError) as error:
            kept = f"{self.value * self._factor:.{self.decimals}f} {self.unit}"
            self._say(f"{str(error).capitalize()}. Kept {kept}.", True)
            return
        changed = abs(value - self.value) > 1e-12
        self.value = value
        self._show()
        if changed:
            self.entered.emit(value)

    def eventFilter(self, watched, event) -> bool:  # type: ignore[no-untyped-def]
        if isinstance(event, QKeyEvent) and event.type() == event.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
                sign = 1 if event.key() == Qt.Key.Key_Up else -1
                value = min(max(self.value + sign * self.step, self.low), self.high)
                self.value = value
                self._show()
                self.entered.emit(value)
                return True
        return bool(super().eventFilter(watched, event))


class Chip(QWidget):
    """'typical' outlined and dotted, 'yours' filled: where a number comes from."""

    def __init__(self, source: str = "typical") -> None:
        super().__init__()
        self.source = source
        self.setToolTip("typical: a shipped table value with its range; yours: measured by you")

    def put(self, source: str) -> None:
        self.source = source
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        from PyQt6.QtGui import QFontMetrics

        return QSize(QFontMetrics(font(12, 600)).horizontalAdvance(self.source) + 18, 20)

    minimumSizeHint = sizeHint

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(1, 1, self.sizeHint().width() - 2, 18)
        yours = self.source.startswith("yours")
        p.setBrush(look.colour("peat") if yours else Qt.BrushStyle.NoBrush)
        p.setPen(
            QPen(
                look.colour("peat" if yours else "slate"), 1.2, Qt.PenStyle.SolidLine if yours else Qt.PenStyle.DotLine
            )
        )
        p.drawRoundedRect(box, 9, 9)
        p.setPen(look.colour("paper" if yours else "peat"))
        p.setFont(font(12, 600))
        p.drawText(box, Qt.AlignmentFlag.AlignCenter, self.source)


class RangeBar(QWidget):
    """A value and its range against the needed line, on a scale of 0 to twice the need."""

    def __init__(self, value: Range | None, target: float, width: int = 84) -> None:
        super().__init__()
        self.value, self.target = value, target
        self.setFixedSize(width, 16)

    def paintEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        if self.value is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        w, top = self.width() - 8, max(self.target * 3, 1e-6)

        def x(v: float) -> float:
            return 4 + w * min(max(v / top, 0.0), 1.0)

        p.setPen(QPen(look.colour("rule 2"), 1))
        p.drawLine(QPointF(4, 8), QPointF(4 + w, 8))
        tone = reserve_tone(self.value, self.target)
        c = QColor(look.colour({"straw ink": "straw"}.get(tone, tone)))
        c.setAlpha(95)
        p.fillRect(QRectF(x(self.value.low), 4, max(x(self.value.high) - x(self.value.low), 2), 8), c)
        c.setAlpha(255)
        p.setBrush(c)
        p.setPen(QPen(look.colour("peat"), 1))
        p.drawEllipse(QPointF(x(self.value.value), 8), 3.5, 3.5)
        p.setPen(QPen(look.colour("peat"), 2))
        p.drawLine(QPointF(x(self.target), 1), QPointF(x(self.target), 15))


def reserve_tone(value: Range, target: float) -> str:
    """moss: surely holds; straw: the range straddles the need; clay: does not; slate: no load was stated."""
    if value.value != value.value:
        return "slate"
    if value.low >= target:
        return "moss"
    return "straw ink" if value.high >= target else "clay"


def times(value: float) -> str:
    """A reserve in words with no more digits than it deserves; a dash where no load was stated."""
    if value != value:
        return "–"
    if value >= 20:
        return "over 20"
    return f"{value:.0f}" if value >= 10 else f"{value:.1f}" if value >= 0.95 else f"{value:.2f}"


def chance(share: float) -> str:
    """A chance in whole per cent, never surer than one in a hundred."""
    return str(min(max(round(share * 100), 1), 99))
