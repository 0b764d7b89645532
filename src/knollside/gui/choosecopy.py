"""Asked before the window opens: the workshop is missing or empty, and copies of it are there."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout

from knollside.gui.instruments.widgets import label
from knollside.store.copies import Copy
from knollside.store.opening import NoneThere
from knollside.store.workshop import Workshop


class ChooseCopy(QDialog):
    """One list, three buttons. ``chosen``: the copy to take, or None to begin an empty workshop."""

    def __init__(self, missing: NoneThere) -> None:
        super().__init__()
        self.chosen: Copy | None = None
        self.setWindowTitle("Knollside")
        self.setMinimumWidth(520)
        there = missing.path.exists()
        what = "is empty" if there else "is not there"
        told = label(f"Your workshop {what}", 18, 700)
        where = f"{missing.path} {what}, but copies of it were kept. Which one do you want to go on with?"
        self.list = QListWidget()
        self.list.setAccessibleName("Copies of the workshop, newest first")
        for copy in missing.copies:
            size = copy.path.stat().st_size / 2**20 if copy.path.exists() else 0.0
            item = QListWidgetItem(
                f"{copy.made:%A} {copy.made.day} {copy.made:%B %Y, %H:%M}   {copy.why}, {size:.1f} MB"
            )
            item.setData(Qt.ItemDataRole.UserRole, copy)
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        self.list.itemDoubleClicked.connect(lambda _: self._take())
        take, empty, leave = QPushButton("Take this copy"), QPushButton("Begin an empty one"), QPushButton("Close")
        take.setDefault(True)
        take.clicked.connect(self._take)
        empty.clicked.connect(self.accept)
        leave.clicked.connect(self.reject)
        row = QHBoxLayout()
        for b in (take, empty, leave):
            row.addWidget(b)
        row.addStretch(1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(20, 18, 20, 18)
        whole.setSpacing(12)
        whole.addWidget(told)
        whole.addWidget(label(where, wrap=True))
        whole.addWidget(self.list)
        whole.addWidget(label("The copies stay where they are, whatever you choose.", dim=True))
        whole.addLayout(row)

    def _take(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self.chosen = item.data(Qt.ItemDataRole.UserRole)
            self.accept()


def chosen_workshop(missing: NoneThere) -> Workshop | None:
    """What the person says is to be opened instead; None where they leave. Raises :class:`Refused`."""
    asked = ChooseCopy(missing)
    if not asked.exec():
        return None
    if asked.chosen is None:
        return Workshop(missing.path, empty=True)
    return Workshop.from_copy(missing.path, asked.chosen)
