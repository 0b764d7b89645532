"""Pages of Bench: the measuring slip, and what this printer does."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout, QWidget

from knollside.core.fit.doubts import Disorder
from knollside.core.fit.freeing import odd_gap_steps
from knollside.core.fit.gauges import GaugeSet
from knollside.core.fit.process import Process, contradictions
from knollside.core.fit.rows import REFERENCE, Term
from knollside.core.model import Measurement, Range, Refused
from knollside.core.proof.piece import Spot
from knollside.gui import nodes
from knollside.gui.instruments.charts import HistoryChart
from knollside.gui.instruments.fitmarks import SectionMark
from knollside.gui.instruments.widgets import Chip, Dropdown, button, column, heading, label, row, rule
from knollside.gui.session import Session, View
from knollside.gui.slip import Slip
from knollside.gui.steps.page import Page, Same
from knollside.gui.theme.look import font

_FEW, _MOST = 8, 60  # readings listed
KNOWN_NAME = "things of known size"
SMALL = 6.0  # mm; under this a calliper's jaws read a hole too small to count on
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
        self.tool = Dropdown("What is measured with", [("calliper", ""), *((g.value, g.value) for g in GaugeSet)], 13)
        self.tool.chose.connect(acts["tool"])
        self.across = Dropdown("Along which axis", [("any way", ""), ("along X", "x"), ("along Y", "y")], 7)
        self.across.chose.connect(acts["across"])
        self.again = button("Another print", acts["again"], tip="The same piece, printed once more")
        self.lot, self.sheet, self.hours = (
            _small_line(name, words, acts["with"])
            for name, words in (
                ("Spool lot it was printed with", "spool lot"),
                ("Sheet it was printed on", "sheet"),
                ("Hours of the nozzle", "nozzle hours"),
            )
        )
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
        self.gauged = row(
            button("Goes in", acts["went in"], main=True),
            button("Does not", acts["did not"]),
            button("Skip it", acts["skip"]),
        )
        self.gaps = row(
            button("Came free", acts["free"], main=True),
            button("Stuck", acts["stuck"]),
            button("Skip it", acts["skip"]),
        )
        self.port = QLineEdit()
        self.port.setAccessibleName("Serial port of the calliper")
        self.port.setPlaceholderText("/dev/ttyUSB0")
        self.port.setToolTip("For a calliper at a serial port; one that acts as a keyboard needs nothing")
        self.listen = button("Listen", acts["listen"], tip="Each line the calliper sends is one reading, in mm")
        self.wired = label("", dim=True)
        self.taken = TakenList(acts["leave_out"])
        self._arrange(acts)

    def _arrange(self, acts: dict[str, Callable[..., None]]) -> None:
        rest = button("Print and measure the rest, simulated", acts["rest"], tip="One step of undo takes it all back")
        plug = button("Plug in the simulated one", acts["plug"])
        lay = QVBoxLayout(self)
        lay.setContentsMargins(16, 6, 14, 8)
        lay.setSpacing(4)
        lay.addWidget(heading("Measuring slip", self.kept))
        lay.addWidget(row(self.piece, self.times, stretch=0))
        lay.addWidget(row(self.tool, self.across, self.again, stretch=0))
        lay.addWidget(row(self.lot, self.sheet, self.hours))
        lay.addWidget(self.place)
        lay.addWidget(self.how)
        lay.addWidget(self.sizes)
        lay.addWidget(self.gauged)
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
        of = f"print {s.print_number}, " if s.print_number > 1 else ""
        self.kept.setText(
            f"{of}{'place' if s.spots else 'gap'} {s.at % s.count + 1} of {s.count}" if s.count else "nothing"
        )
        tries = spot is not None and spot.kind == "hole" and s.tool is not None
        self.sizes.setVisible(gap_step is None and not tries)
        self.gauged.setVisible(tries)
        self.tool.put("" if s.tool is None else s.tool.value)
        self.across.put(s.across)
        self.across.setEnabled(spot is not None and spot.axis == "upright" and spot.kind in ("hole", "pin"))
        self.again.setEnabled(bool(s.spots) and s.name not in ("this part", KNOWN_NAME))
        self.gaps.setVisible(gap_step is not None)
        if spot is not None:
            across = "wide" if spot.kind == "foot" or "side" in spot.name else "across"
            said = "known to be" if spot.kind.startswith("known") else "drawn"
            self.place.setText(f"{spot.name.capitalize()}: {said} {round(spot.drawn, 2):g} mm {across}")
            done = f" {len(s.pending)} taken of this place." if s.pending else ""
            self.how.setText(self._gauge_words() if tries else spot.how + done + _small(spot))
        elif gap_step is not None:
            many = "notch" if gap_step.number == 1 else "notches"
            self.place.setText(f"{gap_step.number} {many}: {gap_step.drawn:.2f} mm {gap_step.direction}")
            self.how.setText("Push or lift it with a finger, no tool. Does it let go whole?")
        else:
            self.place.setText("Nothing to measure yet.")
            self.how.setText("Choose a piece, or say at Fits what goes into the holes.")
        self.wired.setText(f"Listening at {listening}.")
        self.wired.setVisible(bool(listening))
        self.listen.setText("Stop" if listening else "Listen")
        self.taken.put(session.view)

    def _gauge_words(self) -> str:
        """Which gauge to try, and what was found so far."""
        s = self.slip
        try:
            size = s.gauge
        except Refused as refusal:
            return str(refusal)
        told = []
        if s.tried is not None and s.tried.went_in is not None:
            told.append(f"{s.tried.went_in:.2f} went in")
        if s.tried is not None and s.tried.did_not is not None:
            told.append(f"{s.tried.did_not:.2f} did not")
        so_far = f" So far: {', '.join(told)}." if told else ""
        return f"Try {size:.2f} mm, straight, with two fingers and no force.{so_far}"


def _small_line(name: str, words: str, done: Callable[..., None]) -> QLineEdit:
    line = QLineEdit()
    line.setAccessibleName(name)
    line.setPlaceholderText(words)
    line.setToolTip("If you know it: what was learned of another one counts less")
    line.editingFinished.connect(done)
    return line


def _small(spot: Spot) -> str:
    small = spot.kind == "hole" and spot.axis == "upright" and spot.drawn < SMALL
    return " Drills tell so small a hole better than jaws." if small else ""


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
            by = ", by gauges" if m.between is not None else ""
            side = label(f"{m.printed:.2f}  {m.printed - m.drawn:+.2f}", 13, 600)
            self.add(row(box, label(f"{when:%d %b}{by}{other}{far}", dim=True), side, stretch=1))
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

    def __init__(self, reorder: Callable[[Disorder], None]) -> None:
        super().__init__()
        self._reorder = reorder
        self.kind = Dropdown("Whose doubt and history", [("holes", "hole"), ("outsides", "pin")], 8)
        self.kind.chose.connect(lambda _: self.changed.emit())
        self.top(row(label("Doubt and history of", dim=True), self.kind, stretch=-2))

    def put(self, view: View, at: float) -> None:
        fitting, told, part = view.get(nodes.FITS).fresh, view.get(nodes.TOLD).fresh, view.part
        spoken = self.kind.currentData()
        if fitting is None or not self.fresh((Same(fitting), Same(told), part.trials, spoken, at)):
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
        for words in _model_words(p):
            self.add(label(words, 13, wrap=True))
        for d in told.disorders if told is not None else ():
            self.add(label(d.words, 13, 600, wrap=True))
            act = button("Put them in that order", partial(self._reorder, d), tip="Undo takes it back")
            self.add(row(act, stretch=-2))
        if told is not None:
            for words in (*told.strangers, *(d.words for d in told.of(spoken).doubts), told.of(spoken).next.words):
                self.add(label(words, 13, 600, wrap=True))
        self._range("flare", "Flare, a side", part.flares)
        for direction, words in (
            ("in the layer", "Frees, a side"),
            ("across it", "Frees, across"),
        ):
            self._range("side" if direction == "in the layer" else "across", words, part.frees(direction))
            if odd := odd_gap_steps(part.trials, direction):
                self.add(label(odd, 13, 600, wrap=True))
        self.add(rule(), heading("How it moved", f"at {REFERENCE:g} mm"))
        plot = HistoryChart()
        plot.put(told.of(spoken).moved if told is not None else ())
        self.add(plot)
        self.add(label(_rests_on([m for _, _, m in part.dated_readings], p.others), dim=True, wrap=True))
        for words in contradictions(part.readings):
            self.add(label(words, 13, 600, wrap=True))

    def _line(self, mark: str, words: str, value: str, source: str) -> None:
        self.add(row(SectionMark(mark), label(words, 14, 600), label(value), Chip(source), stretch=1))

    def _range(self, mark: str, words: str, r: Range) -> None:
        self._line(mark, words, f"{r.value:.2f} ({r.low:.2f}–{r.high:.2f})", r.source)


def _model_words(p: Process) -> list[str]:
    """What was learned of upright prints, each with its doubt."""
    shrink, doubt = p.term(Term.SHRINK)
    out = [
        f"Lengths come out at {100 * (1 + shrink):.2f} ± {164.5 * doubt:.2f} %; one place scatters by "
        f"{p.scatter:.3f} mm, one print from the next by {p.print_to_print:.3f} mm."
    ]
    if any(m.between is not None or m.kind.startswith("known") for m in p.used):
        zero, of = p.term(Term.ZERO_INSIDE)
        wide = math.sqrt(max(2 * p.term(Term.JAWS)[0], 0.0))
        out.append(
            f"Your calliper reads holes {zero:+.2f} ± {1.645 * of:.2f} mm off, besides the chord of jaws about "
            f"{wide:.1f} mm wide; both are taken off."
        )
    return out


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
