"""The sliced file held against the plan, as a card in Run."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from knollside.core.job.slicedcheck import SlicedCheck
from knollside.gui.instruments.widgets import button, clear, column, heading, label, row, times
from knollside.gui.steps.page import Same
from knollside.gui.theme.look import look

_HARM = {3: ("spoils it", "clay"), 2: ("weakens it or costs", "straw ink"), 1: ("to know", "slate")}


class SlicedCard(QWidget):
    """A button to read a file, and what is different in it, worst first."""

    def __init__(self, ask: Callable[[], None]) -> None:
        super().__init__()
        self.lines = QVBoxLayout()
        self.lines.setSpacing(5)
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.addWidget(heading("The sliced file", "plain G-code"))
        lay.addLayout(self.lines)
        self.read = button("Read a sliced file …", ask)
        lay.addWidget(self.read)
        self._shown: object = self

    def put(self, check: SlicedCheck | None, refused: str, old: bool) -> None:
        key = (Same(check), refused, old, look.lamp)
        if key == self._shown:
            return
        self._shown = key
        clear(self.lines)
        if refused:
            self.lines.addWidget(label(refused, 13, 600, wrap=True))
            return
        if check is None:
            words = "Have it read before printing: it is held against this plan, whatever program made it."
            self.lines.addWidget(label(words, dim=True, wrap=True))
            return
        f = check.found
        self.lines.addWidget(label(check.name + (", read before the last change" if old else ""), 14, 700))
        walls = f"{f.walls} wall{'' if f.walls == 1 else 's'}" if f.walls is not None else "walls not found"
        fill = f", infill {f.infill * 100:.0f} %" if f.infill is not None else ""
        heat = f", {f.nozzle_c:.0f} °C" if f.nozzle_c is not None else ""
        self.lines.addWidget(
            label(
                f"{len(f.layers)} layers of {f.layer_height:.2f} mm, lines {f.line_width:.2f} mm, {walls}{fill}{heat}. "
                f"{_time(f.hours)} by its own moves, {check.grams:.0f} g.",
                dim=True,
                wrap=True,
            )
        )
        for d in check.differences:
            words, tone = _HARM[d.harm]
            mark = label(words, 12, 700)
            mark.setStyleSheet(f"color: {look.colour(tone).name()};")
            self.lines.addWidget(column(label(d.title, 14, 600, wrap=True), row(mark, stretch=0), spacing=0))
            self.lines.addWidget(label(d.detail, dim=True, wrap=True))
        if not check.differences:
            self.lines.addWidget(label("Nothing in it departs from the plan.", 14, 600, wrap=True))
        if check.reserve is not None:
            r = check.reserve
            held = f"As sliced it holds {times(r.value)}× ({times(r.low)} to {times(r.high)})."
            if check.bond_left < 0.99:
                held += f" At that nozzle {check.bond_left * 100:.0f} % of the bond is counted, a typical slope."
            if old:
                held = f"Old, of before the last change: {held}"
            self.lines.addWidget(label(held, 13 if old else 14, 400 if old else 700, dim=old, wrap=True))
        elif check.why:
            self.lines.addWidget(label(check.why, dim=True, wrap=True))
        for note in f.notes:
            self.lines.addWidget(label(note, dim=True, wrap=True))


def _time(hours: float) -> str:
    return f"{60 * hours:.0f} min" if hours < 1 else f"{hours:.1f} h"
