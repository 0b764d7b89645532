"""Pages of Bench: the measuring slip, and what this printer does."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout, QWidget

from knollside.core.fit.freeing import odd_gap_steps
from knollside.core.fit.process import contradictions, history, more_to_halve
from knollside.core.model import Measurement, Range
from knollside.gui import nodes
from knollside.gui.instruments.charts import HistoryChart
from knollside.gui.instruments.fitmarks import SectionMark
from knollside.gui.instruments.widgets import Chip, Dropdown, button, column, heading, label, row, rule
from knollside.gui.session import Session, View
from knollside.gui.slip import Slip
from knollside.gui.steps.page import Page, Same
from knollside.gui.theme.look import font

_FEW, _MOST = 8, 60  # readings listed
_TIMES = (("once each", 1), ("twice each", 2), ("three times", 3))


class MeasurePage(QWidget):
    """Which piece, the place that is lit, the entry, where numbers come from, and what was taken."""

    def __init__(self, slip: Slip, acts: dict[str, Callable[..., None]], pieces: list[tuple[str, str]]) -> None:
        super().__init__()
        self.slip = slip
        self.piece = Dropdown("Piece to measure", [(words, name) for name, words in pieces], 13)
        self.piece.chose.connect(acts["piece"])
        self.times = Dropdown("How often each place is measured", [(w, n) for w, n in _TIMES], 8)
        self.times.chose.connect(acts["times"])
        self.kept = label("", dim=True)
        self.place = label("", 15, 700, wrap=True)
        self.how = label("", dim=True, wrap=True)
        self.entry = QLineEdit()
        self.entry.setAccessibleName("Reading of the calliper")
        self.entry.setPlaceholderText("type, or press the calliper's button")
        self.entry.returnPressed.connect(acts["typed"])
        self.entry.setFont(font(18, 600))
        self.entry.setMinimumHeight(40)
        self.said = label("", dim=True, wrap=True)
        tip = "A stand-in with its own small error, at the port if one is open"
        self.sizes = column(
            self.entry,
            row(
                button("Take it", acts["typed"], main=True),
                button("Simulated calliper", acts["simulate"], tip=tip),
                button("Skip", acts["skip"]),
                stretch=-2,
            ),
            spacing=5,
        )
        self.gaps = row(
            button("Came free", acts["free"], main=True),
            button("Stuck", acts["stuck"]),
            button("Skip it", acts["skip"]),
        )
        self.port = QLineEdit()
        self.port.setAccessibleName("Serial port of the calliper")
        self.port.setPlaceholderText("/dev/ttyUSB0")
        self.listen = button("Listen", acts["listen"], tip="Each line the calliper sends is one reading, in mm")
        self.wired = label("A calliper that acts as a keyboard needs nothing; a serial one:", dim=True, wrap=True)
        self.taken = TakenList(acts["leave_out"])
        self._arrange(acts)

    def _arrange(self, acts: dict[str, Callable[..., None]]) -> None:
        rest = button("Print and measure the rest, simulated", acts["rest"], tip="One step of undo takes it all back")
        plug = button("Plug in the simulated one", acts["plug"])
        lay = QVBoxLayout(self)
        lay.setContentsMargins(16, 6, 14, 8)
        lay.setSpacing(5)
        lay.addWidget(heading("Measuring slip", self.kept))
        lay.addWidget(row(self.piece, self.times, stretch=0))
        lay.addWidget(self.place)
        lay.addWidget(self.how)
        lay.addWidget(self.sizes)
        lay.addWidget(self.gaps)
        lay.addWidget(self.said)
        lay.addWidget(row(rest, stretch=-2))
        lay.addWidget(rule())
        lay.addWidget(
            heading("Taken so far", row(button("In …", acts["read"]), button("Out …", acts["write"]), spacing=4))
        )
        lay.addWidget(self.taken)
        lay.addWidget(rule())
        lay.addWidget(self.wired)
        lay.addWidget(row(self.port, self.listen, plug, stretch=0))
        lay.addStretch(1)

    def refresh(self, session: Session, listening: str) -> None:
        s = self.slip
        spot, gap_step = s.spot, s.gap_step
        self.kept.setText(
            f"{'place' if s.spots else 'gap'} {s.at % s.count + 1} of {s.count}" if s.count else "nothing"
        )
        self.sizes.setVisible(gap_step is None)
        self.gaps.setVisible(gap_step is not None)
        if spot is not None:
            across = "wide" if spot.kind == "foot" or "side" in spot.name else "across"
            self.place.setText(f"{spot.name.capitalize()}: drawn {round(spot.drawn, 2):g} mm {across}")
            done = f" {len(s.pending)} taken of this place." if s.pending else ""
            self.how.setText(spot.how + done)
        elif gap_step is not None:
            many = "notch" if gap_step.number == 1 else "notches"
            self.place.setText(f"{gap_step.number} {many}: {gap_step.drawn:.2f} mm {gap_step.direction}")
            self.how.setText("Push or lift it with a finger, no tool. Does it let go whole?")
        else:
            self.place.setText("Nothing to measure yet.")
            self.how.setText("Choose a piece, or say at Fits what goes into the holes.")
        self.wired.setText(
            f"Listening at {listening}."
            if listening
            else "A calliper that acts as a keyboard needs nothing; a serial one:"
        )
        self.listen.setText("Stop" if listening else "Listen")
        self.taken.put(session.view)


class TakenList(Page):
    """The latest readings, newest first; one can be left out, which is said and never done by itself."""

    def __init__(self, leave_out: Callable[..., None]) -> None:
        super().__init__()
        self._leave_out = leave_out
        self._many = _FEW
        self.margins(0, 0)

    def _more(self) -> None:
        self._many = _FEW if self._many > _FEW else _MOST
        self.changed.emit()

    def put(self, view: View) -> None:
        part, fitting = view.part, view.get(nodes.FITS).fresh
        dated = part.dated_readings
        if not self.fresh((dated, part.fit_setting, part.trials, Same(fitting), self._many)):
            return
        odd = _odd_numbers(dated, fitting)
        for number, when, m in reversed(dated[-self._many :]):
            box = QCheckBox(f"{m.kind.capitalize()} {round(m.drawn, 2):g}, {m.axis}")
            box.setChecked(not m.left_out)
            box.setToolTip("Counted; clear it to leave this reading out")
            box.clicked.connect(lambda on, n=number: self._leave_out(n, not on))
            other = "" if part.fit_setting.same(m) else ", other layers or nozzle"
            far = ", looks wrong" if number in odd else ""
            side = label(f"{m.printed:.2f}  {m.printed - m.drawn:+.2f}", 13, 600)
            self.add(row(box, label(f"{when:%d %b}{other}{far}", dim=True), side, stretch=1))
        if not dated:
            self.add(label("No readings on this printer and material yet.", dim=True, wrap=True))
        elif len(dated) > _FEW:
            words = "Show fewer" if self._many > _FEW else f"Show {min(len(dated), _MOST) - _FEW} older ones"
            self.add(row(button(words, self._more, plain=True), stretch=-2))


def _odd_numbers(dated, fitting) -> set[int]:  # type: ignore[no-untyped-def]
    """Row numbers of readings that look wrong: the fit names them among those of one kind, axis and setting."""
    out: set[int] = set()
    for process in fitting.processes if fitting is not None else ():
        for kind, numbers in process.outliers.items():
            mine = [n for n, _, m in dated if m.kind == kind and m.axis == process.axis]
            out |= {mine[k] for k in numbers if k < len(mine)}
    return out


class PrinterPage(Page):
    """Shifts by kind and axis, shrink, flare and what gaps come free; what they rest on and how they moved."""

    def __init__(self) -> None:
        super().__init__()
        self.kind = Dropdown("Whose doubt and history", [("holes", "hole"), ("outsides", "pin")], 8)
        self.kind.chose.connect(lambda _: self.changed.emit())
        self.top(row(label("Doubt and history of", dim=True), self.kind, stretch=-2))

    def put(self, view: View, at: float) -> None:
        fitting, part = view.get(nodes.FITS).fresh, view.part
        if fitting is None or not self.fresh((Same(fitting), part.trials, self.kind.currentData(), at)):
            return
        self.add(heading("What this printer does", f"{part.printer.name}, {part.material}"))
        self.add(
            label(f"Printed less drawn, at {round(at, 2):g} mm; nine in ten lie in the range.", dim=True, wrap=True)
        )
        for axis in ("upright", "lying", "plumb"):
            for kind in ("hole", "pin"):
                s = fitting.shift(kind, axis, at)
                if axis == "plumb" and (kind == "pin" or not s.count):
                    continue
                what = {"hole": "Holes", "pin": "Outsides"}[kind]
                how = "top to bottom" if axis == "plumb" else axis
                self._line(kind, f"{what}, {how}", f"{s.value:+.2f} ± {s.half:.2f}", s.source)
        p = fitting.process("upright")
        more = more_to_halve(p, self.kind.currentData(), at)
        self.add(
            label(
                f"Model, upright: inside {p.shrink:.4f} × drawn {-p.hole_b:+.2f}, outside {p.shrink:.4f} × drawn "
                f"{p.pin_c:+.2f} mm; one print scatters by {p.scatter:.3f}.",
                13,
                wrap=True,
            )
        )
        half = f"{more} more readings of that size would halve the doubt." if more else "More readings help little now."
        self.add(label(half, 13, 600, wrap=True))
        self._range("flare", "Flare, a side", part.flares)
        for direction, words in (
            ("in the layer", "Frees, a side"),
            ("across it", "Frees, across"),
        ):
            self._range("side" if direction == "in the layer" else "across", words, part.frees(direction))
            if odd := odd_gap_steps(part.trials, direction):
                self.add(label(odd, 13, 600, wrap=True))
        self.add(rule(), heading("How it moved"))
        dated = [(w, m) for _, w, m in part.dated_readings]
        plot = HistoryChart()
        plot.put(history(dated, self.kind.currentData(), "upright", at, part.fit_setting))
        self.add(plot)
        self.add(label(_rests_on([m for _, _, m in part.dated_readings], p.others), dim=True, wrap=True))
        for words in contradictions(part.readings):
            self.add(label(words, 13, 600, wrap=True))

    def _line(self, mark: str, words: str, value: str, source: str) -> None:
        self.add(row(SectionMark(mark), label(words, 14, 600), label(value), Chip(source), stretch=1))

    def _range(self, mark: str, words: str, r: Range) -> None:
        self._line(mark, words, f"{r.value:.2f} ({r.low:.2f}–{r.high:.2f})", r.source)


def _rests_on(readings: list[Measurement], others: int) -> str:
    """Which pieces the numbers rest on, in words."""
    if not readings:
        return "Rests on typical values only: measure a bar to make it yours."
    by: dict[str, int] = {}
    for m in readings:
        if not m.left_out:
            name = m.bar or "no piece named"
            by[name] = by.get(name, 0) + 1
    words = "Rests on " + ", ".join(f"{n} readings of {name}" for name, n in by.items()) + "."
    return words + (f" {others} of other layers or another nozzle are not used." if others else "")
