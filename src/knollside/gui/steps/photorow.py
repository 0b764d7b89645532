"""Photos of one print: small ones in a row, one shown large, and one more read aside and kept."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import ClassVar

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLabel, QPushButton, QWidget

from knollside.gui.fileasks import LoadPhoto
from knollside.gui.instruments.widgets import button, label
from knollside.gui.session import Session
from knollside.gui.worker import Outcome

_SMOOTH = (Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
_SHOWN = 3
Thumbs = tuple[tuple[int, bytes], ...]  # photos by number, JPEG


class PhotoRow(QWidget):
    """``told``: in a sentence how keeping a photo went, and whether well."""

    told = pyqtSignal(str, bool)
    large: ClassVar[QLabel | None] = None  # the photo that is shown large, whatever becomes of its row

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._print: int | None = None
        self._of: object = None
        self._lay = QHBoxLayout(self)
        self._lay.setContentsMargins(0, 0, 0, 0)
        self._lay.setSpacing(6)

    def thumbs(self, print_id: int | None) -> Thumbs:
        learned = self.session.workspace.shop.learned
        return () if print_id is None else tuple(learned.thumbs(print_id))

    def put(self, print_id: int | None) -> None:
        """Show the photos of a print; nothing without one."""
        thumbs = self.thumbs(print_id)
        self._print = print_id
        self.setVisible(print_id is not None)
        if self._of == (print_id, thumbs):
            return
        self._of = print_id, thumbs
        while (item := self._lay.takeAt(0)) is not None:
            if (w := item.widget()) is not None:
                w.deleteLater()
        for number, thumb in thumbs[:_SHOWN]:
            self._lay.addWidget(self._small(number, thumb))
        self._lay.addWidget(button("Add a photo …", self.add))
        if len(thumbs) > _SHOWN:
            self._lay.addWidget(label(f"{len(thumbs) - _SHOWN} more in its story", dim=True))
        self._lay.addStretch(1)

    def _small(self, number: int, thumb: bytes) -> QPushButton:
        picture = QPixmap()
        picture.loadFromData(thumb)
        shown = QPushButton()
        shown.setIcon(QIcon(picture))
        shown.setIconSize(picture.scaled(58, 40, _SMOOTH[0]).size())
        shown.setFlat(True)
        shown.setToolTip("Show it large")
        shown.setAccessibleName(f"Photo {number}")
        shown.clicked.connect(partial(self.show_large, number))
        return shown

    def add(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "A photo of the print", "", "Pictures (*.jpg *.jpeg *.png *.webp)")
        if path:
            self.take(Path(path))

    def take(self, path: Path) -> None:
        """A photo is read aside, made small, and kept with the print in hand."""
        if self._print is not None:
            self.session.once("photo", LoadPhoto(path), partial(self._read, self._print, path.name))

    def _read(self, print_id: int, name: str, outcome: Outcome) -> None:
        if outcome.result is not None:
            picture, thumb = outcome.result
            self.session.workspace.kept.add_photo(print_id, picture, thumb, f"photo {name}")
            self.told.emit("Kept, without its place and camera.", True)
        elif outcome.refused:
            self.told.emit(outcome.refused, False)

    def show_large(self, number: int, _: bool = False) -> None:
        """A photo in a window of its own, beside this one."""
        photo = self.session.workspace.shop.learned.photo(number)
        if photo is None:
            return
        picture = QPixmap()
        picture.loadFromData(photo.picture)
        large = PhotoRow.large = QLabel()
        large.setAttribute(Qt.WidgetAttribute.WA_QuitOnClose, False)
        large.setWindowTitle(f"Knollside: photo {number}")
        large.setAccessibleName(f"Photo {number}, large")
        most = QSize(1000, 700)
        fits = picture.width() <= most.width() and picture.height() <= most.height()
        large.setPixmap(picture if fits else picture.scaled(most, *_SMOOTH))
        large.show()
