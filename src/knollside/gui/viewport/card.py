"""The card at the pointer: what a feature is, its size, and what one can say of it."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QKeyEvent, QPainter, QPixmap
from PyQt6.QtWidgets import QFrame, QGridLayout, QPushButton, QVBoxLayout, QWidget

from knollside.core.model import FaceMark, Feature
from knollside.gui.instruments.widgets import label
from knollside.gui.theme.look import look
from knollside.gui.viewport.swatch import swatch


class FeatureCard(QFrame):
    """Floats on the stage. ``said`` carries the feature's id and a mark, or None to take it back."""

    said = pyqtSignal(str, object)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.feature = ""
        self.mark: FaceMark | None = None
        self.title = label("", 15, 700)
        self.what = label("", dim=True, wrap=True)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(14, 10, 14, 12)
        lay.setSpacing(6)
        lay.addWidget(self.title)
        lay.addWidget(self.what)
        grid = QGridLayout()
        grid.setSpacing(6)
        self.buttons: dict[FaceMark, QPushButton] = {}
        for i, mark in enumerate(FaceMark):
            b = QPushButton(mark.value)
            b.setCheckable(True)
            b.setAccessibleName(f"This face is {mark.value}")
            b.clicked.connect(partial(self._press, mark))
            grid.addWidget(b, i // 2, i % 2)
            self.buttons[mark] = b
        lay.addLayout(grid)
        self.setFixedWidth(232)
        self._dress()
        look.changed.connect(self._dress)
        self.hide()

    def _dress(self) -> None:
        self.setStyleSheet(
            f"QFrame#card {{ background: {look.colour('paper').name()}; border: 1px solid "
            f"{look.colour('rule 2').name()}; border-radius: 8px; }}"
        )
        for mark, b in self.buttons.items():
            picture = QPixmap(44, 36)
            picture.setDevicePixelRatio(2)
            picture.fill(Qt.GlobalColor.transparent)
            p = QPainter(picture)
            swatch(p, QRectF(2, 3, 16, 12), mark.value)
            p.end()
            b.setIcon(QIcon(picture))
            b.setIconSize(QSize(22, 18))

    def _press(self, mark: FaceMark) -> None:
        self.said.emit(self.feature, None if self.mark is mark else mark)
        self.hide()

    def show_for(self, f: Feature, mark: FaceMark | None, at: QPointF) -> None:
        self.feature, self.mark = f.id, mark
        self.title.setText(f.title if not f.id.startswith("patch") else "Smooth face")
        self.what.setText(f.size_text.strip())
        for m, b in self.buttons.items():
            b.setChecked(m is mark)
        self.adjustSize()
        parent = self.parentWidget()
        assert parent is not None
        x = min(max(at.x() + 16, 8), parent.width() - self.width() - 8)
        y = min(max(at.y() + 12, 8), parent.height() - self.height() - 8)
        self.move(int(x), int(y))
        self.show()
        self.raise_()
        self.buttons[mark or FaceMark.HELD].setFocus()

    def keyPressEvent(self, e: QKeyEvent | None) -> None:
        assert e is not None
        if e.key() == Qt.Key.Key_Escape:
            self.hide()
            parent = self.parentWidget()
            if parent is not None:
                parent.setFocus()
        else:
            super().keyPressEvent(e)
