"""Pages of a panel behind a strip of buttons, one in front at a time."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QGridLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from knollside.gui.instruments.widgets import scrolled


class Tabs(QWidget):
    """The strip of buttons; ``pages`` stands under it. ``turned`` carries the number of the page in front."""

    turned = pyqtSignal(int)

    def __init__(
        self,
        pages: tuple[tuple[str, QWidget], ...],
        across: int,
        margins: tuple[int, int, int, int],
        small: bool = False,
    ) -> None:
        super().__init__()
        self.pages = QStackedWidget()
        self._group = QButtonGroup(self)
        self.strip = QGridLayout(self)
        self.strip.setContentsMargins(*margins)
        self.strip.setSpacing(4 if small else 6)
        for i, (words, page) in enumerate(pages):
            self.pages.addWidget(scrolled(page))
            b = QPushButton(words)
            b.setCheckable(True)
            b.setChecked(i == 0)
            b.setProperty("small", "true" if small else "false")
            b.clicked.connect(lambda _, i=i: self.turn_to(i))
            self._group.addButton(b, i)
            self.strip.addWidget(b, i // across, i % across)

    def panel(self) -> QWidget:
        """The strip with its pages under it, as a step's whole panel."""
        out = QWidget()
        lay = QVBoxLayout(out)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(0)
        lay.addWidget(self)
        lay.addWidget(self.pages, 1)
        return out

    @property
    def front(self) -> int:
        return self.pages.currentIndex()

    def turn_to(self, page: int) -> None:
        """Bring a page to the front."""
        self.pages.setCurrentIndex(page)
        tab = self._group.button(page)
        if tab is not None:
            tab.setChecked(True)
        self.turned.emit(page)
