"""The record of prints as a table that asks for what is in sight only, and can be searched."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PyQt6.QtWidgets import QHeaderView, QLineEdit, QTableView, QVBoxLayout, QWidget

from knollside.gui.instruments.widgets import Dropdown, button, label, row

_HEADS = ("when", "part", "printer", "material", "planned h", "took h", "how it came out", "break")
PRINTER, OUTCOME = 2, 6
_WIDE = (90, 96, 78, 62, 74, 52, 130, 70)


@dataclass(frozen=True)
class Line:
    """A print: its number, its cells, and what is told of it besides."""

    number: int
    cells: tuple[str, ...]
    about: str = ""


class _Rows(QAbstractTableModel):
    """Rows of texts, newest first; those of ``wanted`` numbers, where some are wanted."""

    def __init__(self) -> None:
        super().__init__()
        self.all: Sequence[Line] = ()
        self.shown: Sequence[Line] = ()

    def put(self, rows: Sequence[Line], wanted: Sequence[int] | None) -> None:
        self.beginResetModel()
        self.all = rows
        some = None if wanted is None else frozenset(wanted)
        self.shown = rows if some is None else [r for r in rows if r.number in some]
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self.shown)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return len(_HEADS)

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        return self.shown[index.row()].cells[index.column()] if role == Qt.ItemDataRole.DisplayRole else None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return _HEADS[section]
        return None


class RecordTable(QWidget):
    """Rows of eight texts each. ``find`` turns what is typed into the numbers of prints (None: all of them)."""

    def __init__(self, find: Callable[[str], Sequence[int] | None], ask_out: Callable[[], None]) -> None:
        super().__init__()
        self._find = find
        self.printer = Dropdown("Prints of", letters=8)
        self.outcome = Dropdown("That came out", letters=10)
        for some in (self.printer, self.outcome):
            some.chose.connect(lambda _: self._again())
        self.search = QLineEdit()
        self.search.setAccessibleName("Search the record")
        self.search.setPlaceholderText('search: a part, a spool, 238, strings, "outer wall"')
        self.search.setMaxLength(400)
        self.search.textChanged.connect(lambda _: self._again())
        self.count = label("", dim=True)
        self.model = _Rows()
        self.table = QTableView()
        self.table.setAccessibleName("Record of prints")
        self.table.setModel(self.model)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        self.table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QTableView.SelectionMode.SingleSelection)
        chosen = self.table.selectionModel()
        assert chosen is not None
        chosen.currentRowChanged.connect(lambda now, _: self._chose(now.row()))
        vertical, across = self.table.verticalHeader(), self.table.horizontalHeader()
        assert vertical is not None and across is not None
        vertical.hide()
        vertical.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        across.setStretchLastSection(True)
        for k, wide in enumerate(_WIDE):
            self.table.setColumnWidth(k, wide)
        self.about = label("", 13, wrap=True)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.addWidget(
            row(self.search, self.printer, self.outcome, button("As a file …", ask_out), spacing=6, stretch=0)
        )
        lay.addWidget(self.count)
        lay.addWidget(self.table, 1)
        lay.addWidget(self.about)

    def put(self, rows: Sequence[Line]) -> None:
        if rows != self.model.all:
            self.model.all = rows
            _fill(self.printer, "every printer", {r.cells[PRINTER] for r in rows})
            _fill(self.outcome, "any outcome", {r.cells[OUTCOME] for r in rows})
            self._again()

    def _again(self) -> None:
        wanted = self._find(self.search.text())
        for at, box in ((PRINTER, self.printer), (OUTCOME, self.outcome)):
            if box.currentData():
                some = {r.number for r in self.model.all if r.cells[at] == box.currentData()}
                wanted = [n for n in (some if wanted is None else wanted) if n in some]
        self.model.put(self.model.all, wanted)
        n = len(self.model.shown)
        self.count.setText(f"{n} print{'' if n == 1 else 's'}" if wanted is not None else "")
        self.about.setText("")

    def _chose(self, at: int) -> None:
        if 0 <= at < len(self.model.shown):
            self.about.setText(self.model.shown[at].about)

    @property
    def shown(self) -> tuple[int, ...]:
        """Numbers of the prints that are in the table now."""
        return tuple(r.number for r in self.model.shown)


def _fill(box: Dropdown, whole: str, words: set[str]) -> None:
    """All of them, and each by itself; what was chosen stays where it is still among them."""
    chosen = box.currentData()
    box.clear()
    box.addItem(whole, "")
    for w in sorted(w for w in words if w):
        box.addItem(w, w)
    box.put(chosen if chosen in words else "")
