"""Part's card for what was not found: point at it on the stage, say what it is, and it is one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from knollside.core.mesh.recognition.pointed import MOST_POINTS
from knollside.core.model import POINTED
from knollside.gui.instruments.widgets import Dropdown, button, label, row, tell


@dataclass(frozen=True)
class PointWish:
    """What the person says is where."""

    kind: str
    points: tuple[tuple[float, float, float], ...]


class PointCard(QWidget):
    """Collects places while it is open; ``fit`` gets the wish, ``take_back`` the id of a feature said before."""

    def __init__(
        self, changed: Callable[[], None], fit: Callable[[PointWish], None], take_back: Callable[[], None]
    ) -> None:
        super().__init__()
        self._changed, self._fit = changed, fit
        self.points: list[tuple[float, float, float]] = []
        self.kind = Dropdown("What it is", [(f"a {k}", k) for k in POINTED], 6)
        self.kind.chose.connect(lambda _: changed())
        self.aim = button("Point at one …", self._aim, tip="For what is not on the list", plain=True)
        self.aim.setCheckable(True)
        self.go = button("It is one", self._go, main=True)
        self.words = label("", 13, wrap=True)
        self.back = button("It is none after all", take_back, plain=True)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(4)
        lay.addWidget(row(label("Not on the list?", dim=True), self.aim, stretch=-2))
        self.more = row(self.kind, self.go, stretch=-2)
        lay.addWidget(self.more)
        lay.addWidget(self.words)
        lay.addWidget(row(self.back, stretch=-2))

    @property
    def aiming(self) -> bool:
        """Whether a click on the part is a place for this."""
        return self.aim.isChecked()

    def add(self, place: tuple[float, float, float]) -> None:
        """One more place that was clicked."""
        self.points = [*self.points, place][-MOST_POINTS:]
        self._changed()

    def done(self) -> None:
        """Close it, once it is one."""
        self.points = []
        self.aim.setChecked(False)

    def _aim(self) -> None:
        self.points = []
        self._changed()

    def _go(self) -> None:
        self._fit(PointWish(str(self.kind.currentData()), tuple(self.points)))

    def put(self, refused: str, busy: bool, said: bool) -> None:
        """Show it. ``said``: the feature under discussion is one that was pointed at."""
        self.aim.setText("Never mind" if self.aiming else "Point at one …")
        self.more.setVisible(self.aiming)
        self.words.setVisible(self.aiming)
        self.back.setVisible(said and not self.aiming)
        wanted = 2 if self.kind.currentData() == "slot" else 1  # places without which there is nothing to fit
        self.go.setEnabled(len(self.points) >= wanted and not busy)
        if busy:
            tell(self.words, "Fitting it …")
        elif refused:
            tell(self.words, refused, "bad")
        elif len(self.points) < wanted:
            ends = "both its round ends" if wanted == 2 else "its wall"
            tell(self.words, f"Click {ends} on the stage; more places help where the surface is rough.")
        else:
            places = "place" if len(self.points) == 1 else "places"
            tell(self.words, f"{len(self.points)} {places}. Say what it is.")
