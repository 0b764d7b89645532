"""The list before a print: what was changed since the last good one, then what every print asks; ticked, or skipped
with a reason, and kept with the printer."""

from __future__ import annotations

from datetime import datetime
from functools import partial

from PyQt6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout, QWidget

from knollside.core.model.running import PrinterLog, Tick
from knollside.core.run.preflight import Check
from knollside.gui.instruments.widgets import button, clear, column, label, row
from knollside.gui.session import Seeing, Session

_SHORT = 44  # letters of a line that a box says itself


class BeforeList(Seeing, QWidget):
    """``put`` fills it; what is ticked is true until the next print of that printer is kept."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._skipping = ""
        self._told: tuple[tuple[Check, ...], tuple[Check, ...]] = ((), ())
        self.lines = QVBoxLayout(self)
        self.lines.setContentsMargins(0, 0, 0, 0)
        self.lines.setSpacing(0)

    @property
    def log(self) -> PrinterLog:
        return self.workspace.shelf.printer_log(self.part.printer_id)

    def _ticked(self) -> dict[str, Tick]:
        last = max((r.made for r in self.part.records), default=datetime.min)
        return {t.line: t for t in self.log.ticks if t.at > last}

    def put(self, changed: tuple[Check, ...], usual: tuple[Check, ...]) -> None:
        self._told = changed, usual
        clear(self.lines)
        ticked = self._ticked()
        for c in changed:
            self.lines.addWidget(self._changed(c, ticked.get(c.text)))
        for c in usual:
            side = c.detail if c.detail != "typical" else ""
            self.lines.addWidget(row(self._box(c, ticked.get(c.text)), label(side, dim=True), stretch=0))

    def _box(self, c: Check, tick: Tick | None, words: str | None = None) -> QCheckBox:
        box = QCheckBox(c.text if words is None else words)
        box.setAccessibleName(c.text)
        box.setToolTip(c.detail)
        box.setChecked(tick is not None)
        box.clicked.connect(lambda on: self._keep(c.text, "") if on else self._untick(c.text))
        return box

    def _changed(self, c: Check, tick: Tick | None) -> QWidget:
        """A line with its why, that may be skipped for a reason."""
        why = (
            f"Skipped: {tick.skipped}."
            if tick is not None and tick.skipped
            else f"{c.detail[0].upper()}{c.detail[1:]}."
        )
        out: list[QWidget] = [] if len(c.text) <= _SHORT else [label(c.text, 14, wrap=True)]
        out.append(label(why, dim=True, wrap=True))
        if self._skipping == c.text:
            field = QLineEdit()
            field.setAccessibleName("Why it is skipped")
            field.setPlaceholderText("why it is skipped")
            field.setMaxLength(400)
            field.returnPressed.connect(lambda: self._skip(c.text, field.text().strip()))
            out.append(field)
        skip = button("skip", partial(self._ask, c.text), plain=True, tip="With a reason, which is kept")
        skip.setVisible(tick is None)
        box = self._box(c, tick, c.text if len(c.text) <= _SHORT else "")
        if box.text():
            return column(row(box, skip, stretch=0), *out, spacing=0)
        return row(box, column(*out, spacing=0), skip, spacing=4, stretch=1)

    # Acts

    def _ask(self, line: str) -> None:
        self._skipping = line
        self.put(*self._told)

    def _skip(self, line: str, reason: str) -> None:
        if reason:
            self._skipping = ""
            self._keep(line, reason)

    def _keep(self, line: str, skipped: str) -> None:
        tick = Tick(line=line[:200], at=self.workspace.now(), skipped=skipped)
        self._put((*self.log.ticks, tick), f"{'skipped' if skipped else 'ticked'}: {line}")

    def _untick(self, line: str) -> None:
        now = self._ticked().get(line)
        self._put(tuple(t for t in self.log.ticks if t is not now), f"not ticked: {line}")

    def _put(self, ticks: tuple[Tick, ...], words: str) -> None:
        number = self.part.printer_id
        if number is not None:
            self.workspace.runs.put_printer_log(number, self.log.model_copy(update={"ticks": ticks}), words[:80])
