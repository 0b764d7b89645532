"""A page of a step's panel: a column filled anew only when what it shows has changed."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from knollside.gui.instruments.widgets import clear, column, label, row


def line(left: str, right: str, under: str = "", strong: bool = True) -> QWidget:
    """A row with a number at its right and a second line under it."""
    value = label(right, 15 if strong else 14, 700)
    value.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Preferred)
    words = label(left, 14, 600 if strong else 400, wrap=True)
    out = [row(words, value, stretch=0)]
    if under:
        out.append(label(under, dim=True, wrap=True))
    return column(*out, spacing=0)


class Same:
    """An object in a page's key: equal only to itself, and kept alive so that no other can take its place."""

    def __init__(self, it: object) -> None:
        self.it = it

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Same) and self.it is other.it

    def __hash__(self) -> int:
        return id(self.it)


class Page(QWidget):
    """A column that is filled anew only when what it shows has changed. ``changed``: it wants to be put again."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("paper")
        self.lines = QVBoxLayout()
        self.lines.setSpacing(6)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(16, 6, 14, 8)
        lay.setSpacing(6)
        lay.addLayout(self.lines)
        lay.addStretch(1)
        self._shown: object = self

    def fresh(self, key: object) -> bool:
        if key == self._shown:
            return False
        self._shown = key
        clear(self.lines)
        return True

    def margins(self, left: int, right: int) -> None:
        """Room at the sides, where the panel gives its own."""
        lay = self.layout()
        assert isinstance(lay, QVBoxLayout)
        lay.setContentsMargins(left, 6, right, 8)

    def top(self, *widgets: QWidget) -> None:
        """What stays above the lines that are filled anew."""
        lay = self.layout()
        assert isinstance(lay, QVBoxLayout)
        for i, w in enumerate(widgets):
            lay.insertWidget(i, w)

    def add(self, *widgets: QWidget) -> None:
        for w in widgets:
            self.lines.addWidget(w)
