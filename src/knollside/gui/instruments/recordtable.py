"""The record of prints as a table that asks for what is in sight only, and can be searched."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PyQt6.QtWidgets import QHeaderView, QLineEdit, QTableView, QVBoxLayout, QWidget

_HEADS = ("when", "printer", "material", "planned h", "took h", "how it came out", "break")
_WIDE = (94, 88, 78, 78, 62, 160, 84)


class _Rows(QAbstractTableModel):
    """Rows of texts, newest first; those with all the words of ``wanted``."""

    def __init__(self) -> None:
        super().__init__()
        self.all: Sequence[tuple[str, ...]] = ()
        self.shown: Sequence[tuple[str, ...]] = ()

    def put(self, rows: Sequence[tuple[str, ...]], wanted: str) -> None:
        self.beginResetModel()
        self.all = rows
        words = wanted.lower().split()
        self.shown = [r for r in rows if all(w in " ".join(r).lower() for w in words)] if words else rows
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self.shown)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return len(_HEADS)

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        return self.shown[index.row()][index.column()] if role == Qt.ItemDataRole.DisplayRole else None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return _HEADS[section]
        return None


class RecordTable(QWidget):
    """Rows of seven texts each (when, printer, material, planned, took, how it came out, break)."""

    def __init__(self) -> None:
        super().__init__()
        self.search = QLineEdit()
        self.search.setAccessibleName("Search the record")
        self.search.setPlaceholderText("search: a printer, a material, how it came out")
        self.search.textChanged.connect(lambda _: self.model.put(self.model.all, self.search.text()))
        self.model = _Rows()
        self.table = QTableView()
        self.table.setAccessibleName("Record of prints")
        self.table.setModel(self.model)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        vertical, across = self.table.verticalHeader(), self.table.horizontalHeader()
        assert vertical is not None and across is not None
        vertical.hide()
        vertical.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        across.setStretchLastSection(True)
        for k, wide in enumerate(_WIDE):
            self.table.setColumnWidth(k, wide)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.addWidget(self.search)
        lay.addWidget(self.table, 1)

    def put(self, rows: Sequence[tuple[str, ...]]) -> None:
        if rows != self.model.all:
            self.model.put(rows, self.search.text())
