"""A sentence or a few on the stage, gone after a while; with details to copy where something went wrong inside."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QApplication, QFrame, QVBoxLayout, QWidget

from knollside.gui.instruments.widgets import button, label, tell
from knollside.gui.theme.look import look

_SHOWN_MS = 9_000
_WITH_DETAILS_MS = 60_000
_MOST = 3  # sentences at once; the newest stay


class Note(QFrame):
    """What is said while another sentence stands is put under it, so that none is lost."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("note")
        self.words = label("", 13, wrap=True)
        self.copy = button("Copy details", self._copy, tip="The program's own report, for whoever mends it")
        box = QVBoxLayout(self)
        box.setContentsMargins(10, 10, 10, 10)
        box.addWidget(self.words)
        box.addWidget(self.copy, 0, Qt.AlignmentFlag.AlignLeft)
        self._said: list[str] = []
        self._details: list[str] = []
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._gone)
        self.hide()

    def text(self) -> str:
        return self.words.text()

    def say(self, words: str, details: str, width: int) -> None:
        """One more sentence; ``details`` nothing, or a report to copy."""
        self._said = [*(w for w in self._said if w != words), words][-_MOST:]
        if details:
            self._details = [*self._details, details][-_MOST:]
        tell(self.words, "\n".join(self._said))
        self.copy.setVisible(bool(self._details))
        self.setFixedWidth(width)
        self.adjustSize()
        self.show()
        self.raise_()
        self._timer.start(_WITH_DETAILS_MS if self._details else _SHOWN_MS)

    def dress(self) -> None:
        self.setStyleSheet(
            f"QFrame#note {{ background: {look.colour('warn').name()}; border: 1px solid "
            f"{look.colour('rule 2').name()}; border-radius: 6px; }} "
            f"QFrame#note QLabel {{ color: {look.colour('peat').name()}; }}"
        )

    def _copy(self) -> None:
        board = QApplication.clipboard()
        if board is not None:
            board.setText("\n".join(self._details))
        self._gone()

    def _gone(self) -> None:
        self._said, self._details = [], []
        self.hide()
