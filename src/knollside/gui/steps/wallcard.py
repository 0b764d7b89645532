"""Fits' card of walls that move: which side gives, and whether the partner follows (B6)."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from knollside.core.fit.opening import MOST_MOVED, Thickened
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, heading, label, named, row, rule
from knollside.gui.steps.page import Page, Same, line

_SIDES = (("this face moves out", "near"), ("the face behind it moves", "far"), ("half each", "both"))


class WallCard(QWidget):
    """A wall by one of its flats, taken on the stage; nothing is stored until it is kept."""

    def __init__(self, work_out: Callable[[str, float, str, bool], None], keep: Callable[[Thickened], None]) -> None:
        super().__init__()
        self._work_out = work_out
        self.picked = ""
        self.face = label("", 14, 600, wrap=True)
        self.by = NumberField("Wall thicker by", "length", "mm", 0.05, -MOST_MOVED, MOST_MOVED, 2, 84)
        self.by.put(0.45)
        self.side = Dropdown("Which face moves", list(_SIDES), 16)
        self.follow = QCheckBox("other bodies follow, so that the gap returns")
        self.follow.setChecked(True)
        self.go = button("Move it", self._go, tip="Nothing is changed yet")
        self.told = _Moved(keep)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(5)
        why = "A thicker wall (a spiral print doubled, say) moves a fit. Say which face gives; a partner can follow."
        for w in (
            rule(),
            heading("A wall that moves"),
            label(why, dim=True, wrap=True),
            self.face,
            row(named("thicker by", self.by), self.side, stretch=-2),
            self.follow,
            row(self.go, stretch=-2),
            self.told,
        ):
            lay.addWidget(w)

    def _go(self) -> None:
        self._work_out(self.picked, self.by.value, str(self.side.currentData()), self.follow.isChecked())

    def put(self, picked: str, bodies: int, found: Thickened | None, refused: str, busy: bool) -> None:
        self.picked = picked if picked.startswith("flat") else ""
        self.face.setText(
            f"{self.picked.replace('-', ' ').capitalize()} is chosen."
            if self.picked
            else "Click a flat face on the stage."
        )
        self.go.setEnabled(bool(self.picked) and not busy)
        self.follow.setVisible(bodies > 1)
        self.told.put(found, refused, busy)


class _Moved(Page):
    def __init__(self, keep: Callable[[Thickened], None]) -> None:
        super().__init__()
        self._keep = keep
        self.margins(0, 0)

    def put(self, found: Thickened | None, refused: str, busy: bool) -> None:
        if not self.fresh((Same(found), refused, busy)):
            return
        if refused or busy or found is None:
            if refused or busy:
                self.add(label(refused or "Moving it …", 13, 600, wrap=True))
            return
        under = f"{found.followed} corners of other bodies followed" if found.followed else "no other body looks at it"
        self.add(line("Volume", f"{found.volume:+.1f} mm³", under, False), label(found.advice, 13, wrap=True))
        self.add(row(button("Keep the moved wall", lambda: self._keep(found), main=True), stretch=-2))
