"""How the workshop is kept: its file, copies to go back to, and all of it as one open file."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QVBoxLayout, QWidget

from knollside.gui.fileasks import LoadWhole, WriteWhole
from knollside.gui.instruments.widgets import Dropdown, button, heading, label, row, tell
from knollside.gui.session import Seeing, Session
from knollside.gui.worker import Outcome


class KeepingForm(Seeing, QWidget):
    """Copies, restoring one, writing everything out and taking it in."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.where = label("", dim=True, wrap=True)
        self.copies = Dropdown("Copies of the workshop", letters=22)
        self.restore = button("Restore it", self._restore, tip="What is there now is set aside, not lost")
        self.said = label("", 13, wrap=True)
        self.aside = label("", 13, wrap=True)
        keep = button("Keep a copy now", self._keep)
        out = button("Write it all out …", self._ask_out, tip="Every part, mesh, reading and print in one open file")
        take = button("Take one in …", self._ask_in, tip="In place of this workshop, which is set aside")
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(4)
        for w in (
            heading("This workshop", keep),
            self.where,
            row(self.copies, self.restore, stretch=0),
            row(out, take, stretch=-2),
            self.said,
            self.aside,
        ):
            lay.addWidget(w)

    def refresh(self) -> None:
        shop = self.workspace.shop
        self.where.setText(f"Kept at {shop.path}, copied once a day, ten days back.")
        found = shop.copies()
        told = [f"{c.made:%d %b %Y, %H:%M}, {c.why}" for c in found]
        if [self.copies.itemText(i) for i in range(self.copies.count())] != told:
            self.copies.clear()
            for c, words in zip(found, told, strict=True):
                self.copies.addItem(words, c)
        self.copies.setEnabled(bool(found))
        self.restore.setEnabled(bool(found))
        aside = shop.aside
        many = f"{len(aside)} things" if len(aside) != 1 else "One thing"
        names = "; ".join(a.what for a in aside[:4])
        self.aside.setText(f"{many} could not be read, set aside as it was: {names}." if aside else "")
        self.aside.setVisible(bool(aside))

    def _keep(self) -> None:
        self._told(lambda: f"Copied as {self.workspace.shop.keep_copy().name}.")

    def _restore(self) -> None:
        copy = self.copies.currentData()
        if copy is not None:
            words = f"The copy of {copy.made:%d %b %Y, %H:%M} is back"
            self._told(lambda: f"{words}; what was there is kept as {self.workspace.restore(copy).name}.")

    def _told(self, act) -> None:  # type: ignore[no-untyped-def]
        from knollside.core.model import Refused

        try:
            words = act()
            tell(self.said, words, "good")
            if not self.isVisible():
                self.workspace.said.emit(words)  # another page came to the front
        except Refused as refusal:
            tell(self.said, str(refusal), "bad")
        self.session.changed.emit()

    def _ask_out(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Write the workshop to", "workshop.knoll.zip", "Workshop (*.zip)")
        if path:
            self.write_to(Path(path))

    def write_to(self, path: Path) -> None:
        """All of the workshop in one file, written aside."""
        self.session.once("whole", WriteWhole(self.workspace.shop.path, path), partial(self._written, path.name))

    def _written(self, name: str, outcome: Outcome) -> None:
        if outcome.refused:
            tell(self.said, outcome.refused, "bad")
        elif outcome.result is not None:
            tell(self.said, f"Everything is written to {name}.", "good")

    def _ask_in(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Take a workshop in", "", "Workshop (*.zip)")
        if path:
            self.take_from(Path(path))

    def take_from(self, path: Path) -> None:
        """Another workshop in place of this one, read aside."""
        self.session.once("whole", LoadWhole(path, self.workspace.shop.path), self._taken)

    def _taken(self, outcome: Outcome) -> None:
        if outcome.refused:
            tell(self.said, outcome.refused, "bad")
        elif outcome.result is not None:
            made: Path = outcome.result
            self._told(lambda: f"It is taken in; what was there is kept as {self.workspace.take_in_whole(made).name}.")
