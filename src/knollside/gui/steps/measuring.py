"""Bench's measuring: one place after another of a test piece, the part itself or a known thing; what they say."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QFileDialog, QWidget

from knollside.core.fit.doubts import Disorder
from knollside.core.fit.gauges import GaugeSet
from knollside.core.fit.process import REFERENCE
from knollside.core.learning.readingstable import write_readings
from knollside.core.model import Refused
from knollside.core.proof.piece import KNOWN, GapStep, Spot
from knollside.gui import nodes
from knollside.gui.derived import Node
from knollside.gui.fileasks import LoadTable
from knollside.gui.instruments.fitstrips import ErrorChart, GapChart
from knollside.gui.instruments.widgets import tell
from knollside.gui.pieces import Pieces
from knollside.gui.ports import SerialDevice
from knollside.gui.session import Seeing, Session
from knollside.gui.slip import Slip, Source, part_spots
from knollside.gui.stepbase import Act, Mark, Standing, Verdict
from knollside.gui.steps.benchpages import KNOWN_NAME, MeasurePage, PrinterPage
from knollside.gui.steps.proof import piece_scene
from knollside.gui.steps.scenes import base_scene
from knollside.gui.viewport.scene import Scene
from knollside.gui.worker import Outcome
from knollside.report.export import write_whole
from knollside.sim.serialport import SimulatedPort

_PIECES = [
    ("bar", "Hole and pin bar"),
    ("flare", "Flare piece"),
    ("ladder", "Gap ladder"),
    ("hinges", "Hinge of three gaps"),
    ("part", "This part itself"),
    ("known", "Things of known size"),
]
PART, THINGS = "part", "known"
_NO_PIECE = (PART, THINGS)


class Measuring(Seeing):
    """The measuring slip with its page and the page of what this printer does; ``chart`` is the strip under them."""

    def __init__(self, session: Session, pieces: Pieces) -> None:
        self.session, self.pieces = session, pieces
        self.go: Callable[[str], None] = lambda name: None
        self.errors, self.gap_chart = ErrorChart(), GapChart()
        self.slip = Slip(session)
        self.wanted = "bar"
        self._printed: tuple[object, tuple[Spot, ...]] | None = None
        self._said = ""
        self.calliper = SerialDevice("calliper")
        self.calliper.sent.connect(lambda text: self.take(text, "calliper"))
        self.calliper.lost.connect(self._lost)
        self.simulated_port: SimulatedPort | None = None
        self.measure: MeasurePage
        acts: dict[str, Callable[..., None]] = {
            "piece": self.choose,
            "times": self._times,
            "typed": lambda: self.take(self.measure.entry.text(), "typed"),
            "simulate": self.simulate,
            "skip": self._skip,
            "free": lambda: self._gap_step(True),
            "stuck": lambda: self._gap_step(False),
            "rest": self.simulate_rest,
            "listen": self._listen,
            "plug": self._plug,
            "read": self._ask_in,
            "write": self._ask_out,
            "tool": self._tool,
            "across": self._across,
            "with": self._with,
            "again": lambda: self._do(self.slip.another_print),
            "went in": lambda: self._gauge(True),
            "did not": lambda: self._gauge(False),
            "leave_out": session.workspace.kept.leave_out,
        }
        self.measure = MeasurePage(self.slip, acts, _PIECES)
        self.measure.taken.changed.connect(session.changed.emit)
        self.printer_page = PrinterPage(self._reorder)
        self.printer_page.changed.connect(session.changed.emit)

    @property
    def said(self):  # type: ignore[no-untyped-def]
        return self.measure.said

    @property
    def chart(self) -> QWidget:
        """What belongs under the stage at the place that is lit."""
        return self.gap_chart if self.slip.gap_step is not None else self.errors

    # Which piece

    def needs(self) -> tuple[Node[Any], ...]:
        piece = (nodes.PIECE,) if self.wanted not in _NO_PIECE else (nodes.CORRECT,) * self._corrected()
        bodies = self.view.facts is not None and self.view.facts.soundness.bodies > 1
        told = (nodes.TOLD,) if self.printer_page.isVisible() else ()
        return (nodes.FITS, *told, *((nodes.GAPS,) if bodies else ()), *piece)

    def _corrected(self) -> bool:
        return self.view.get(nodes.CORRECT).fresh is not None

    def enter(self) -> None:
        """The step came to the front."""
        if self.session.has_part and self.wanted not in _NO_PIECE:
            self.pieces.choose(self.wanted)
        self.measure.entry.setFocus()

    def choose(self, name: object) -> None:
        """Measure another piece: made at once where it is not there yet."""
        self.wanted = str(name)
        self._printed = None
        self.measure.said.clear()
        self.enter()
        self.session.touch()

    def _fill_slip(self) -> None:
        if self.wanted == PART:
            self.slip.put("this part", self._spots_of_part(), ())
            return
        if self.wanted == THINGS:
            self.slip.put(KNOWN_NAME, KNOWN, ())
            return
        made = self.pieces.piece
        if made is not None and made.piece.name == self.wanted:
            self.slip.put(made.piece.title.lower(), made.piece.spots, made.piece.gap_steps)
        else:
            self.slip.put("", (), ())

    def _spots_of_part(self) -> tuple[Spot, ...]:
        """Places of the part in hand with the sizes it was printed with: what a reading of it changes is drawn into the
        next print, not into this one. Chosen anew, it is the part as it would be printed now."""
        of = self.part.mesh_key, self.part.mates
        if self._printed is None or self._printed[0] != of or not (self._printed[1] and self.slip.found):
            edited = self.view.get(nodes.CORRECT).fresh
            corrected = {c.feature: c.to_mm for c in edited.changes} if edited is not None else {}
            self._printed = of, part_spots(self.session, corrected)
        return self._printed[1]

    def spots(self) -> tuple[Spot, ...]:
        self._fill_slip()
        return self.slip.spots

    def spot(self) -> Spot | None:
        self._fill_slip()
        return self.slip.spot

    def gap_step(self) -> GapStep | None:
        self._fill_slip()
        return self.slip.gap_step

    def _reorder(self, d: Disorder) -> None:
        """A bar's sizes beside the places where they agree."""
        numbers = [n for n, _, _ in self.part.dated_readings]
        printed = {numbers[i]: v for i, v in zip(d.at, d.printed, strict=True)}
        self.workspace.kept.correct_readings(printed, f"{d.bar or 'a bar'} put in order")

    # Taking readings

    def take(self, text: str, source: Source) -> None:
        """One number for the place that is lit; unit slips are caught, nothing is dropped silently."""
        self._fill_slip()
        try:
            said = self.slip.take(text, source)
        except Refused as refusal:
            tell(self.measure.said, str(refusal), "bad")
            return
        self.measure.entry.clear()
        tell(self.measure.said, said, "warn" if self.slip.pending else "good")
        self._said = "" if self.slip.pending else said
        self.session.changed.emit()

    def _verdict_of_last(self) -> str:
        """For the part itself: whether that size fits what goes in; nothing while that is being worked out."""
        fitting = self.view.get(nodes.FITS).fresh
        if self.wanted != PART or fitting is None or self.slip.pending or not self.slip.found:
            return ""
        name, size = list(self.slip.found.items())[-1]
        facts = self.view.facts
        for c in fitting.corrections:
            f = facts.feature(c.feature) if facts is not None else None
            if f is not None and f.title.lower() == name:
                t = c.target
                if t.low <= size <= t.high:
                    return f" It fits: {t.words} wants {t.low:.2f} to {t.high:.2f}."
                tight = size < t.low if f.kind != "pin" else size > t.high
                return f" It {'binds' if tight else 'rattles'}: {t.words} wants {t.low:.2f} to {t.high:.2f}."
        return ""

    def simulate(self) -> None:
        """The stand-in calliper on the simulated printer's piece; through the port where one is open."""
        self._fill_slip()
        try:
            value = self.slip.simulated_reading()
        except Refused as refusal:
            tell(self.measure.said, str(refusal), "bad")
            return
        if self.simulated_port is not None and self.calliper.path == self.simulated_port.path:
            self.simulated_port.send(value)
        else:
            self.take(f"{value:.2f}", "simulated")

    def simulate_rest(self) -> None:
        """Print and measure (or try) all that is left, simulated."""
        self._fill_slip()
        self._do(self.slip.simulate_rest)

    def _gap_step(self, freed: bool) -> None:
        self._fill_slip()
        self._do(lambda: self.slip.try_gap_step(freed))

    def _do(self, act) -> None:  # type: ignore[no-untyped-def]
        try:
            tell(self.measure.said, act(), "good")
        except Refused as refusal:
            tell(self.measure.said, str(refusal), "bad")
        self.session.changed.emit()

    def _skip(self) -> None:
        self.slip.skip()
        self.session.changed.emit()

    def _tool(self, name: object) -> None:
        self.slip.tool, self.slip.tried, self.slip.pending = GaugeSet(str(name)) if name else None, None, []
        self.session.changed.emit()

    def _across(self, name: object) -> None:
        self.slip.across = str(name)
        self.session.changed.emit()

    def _with(self) -> None:
        m = self.measure
        try:
            self.slip.printed_with(m.lot.text(), m.sheet.text(), m.hours.text())
        except Refused as refusal:
            tell(m.said, str(refusal), "bad")

    def _gauge(self, went_in: bool) -> None:
        self._fill_slip()
        self._do(lambda: self.slip.try_gauge(went_in))

    def _times(self, times: object) -> None:
        self.slip.times, self.slip.pending = int(str(times)), []
        self.session.changed.emit()

    # The port

    def _listen(self) -> None:
        if self.calliper.listening:
            self.calliper.close()
            self.session.changed.emit()
            return
        try:
            self.calliper.open(self.measure.port.text().strip())
            tell(self.measure.said, f"Listening at {self.calliper.path}.", "good")
        except Refused as refusal:
            tell(self.measure.said, str(refusal), "bad")
        self.session.changed.emit()

    def _plug(self) -> None:
        """The simulated calliper at a port of its own."""
        if self.simulated_port is not None:
            self.simulated_port.unplug()
        self.simulated_port = SimulatedPort()
        self.measure.port.setText(self.simulated_port.path)
        self.calliper.close()
        self._listen()

    def _lost(self, words: str) -> None:
        tell(self.measure.said, words, "bad")
        self.session.changed.emit()

    # Tables

    def _ask_in(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self.measure, "Readings from a table", "", "Table (*.csv)")
        if path:
            self.read_from(Path(path))

    def read_from(self, path: Path) -> None:
        """Readings of a CSV file become kept readings, all or none; the file is read aside."""
        try:
            self.slip.need_printer()
        except Refused as refusal:
            tell(self.measure.said, str(refusal), "bad")
            return
        self.session.once("table", LoadTable(path), partial(self._table_read, path.name))

    def _table_read(self, name: str, outcome: Outcome) -> None:
        if outcome.result is not None:
            taken = outcome.result
            self.workspace.kept.add_readings(taken, f"{len(taken)} readings from {name}")
            tell(self.measure.said, f"{len(taken)} readings taken from {name}.", "good")
        elif outcome.refused:
            tell(self.measure.said, outcome.refused, "bad")

    def _ask_out(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self.measure, "Readings as a table", "readings.csv", "Table (*.csv)")
        if path:
            self.write_to(Path(path))

    def write_to(self, path: Path) -> None:
        try:
            write_whole(path, write_readings(self.part.readings).encode())
            tell(self.measure.said, f"{len(self.part.readings)} readings written to {path.name}.", "good")
        except Refused as refusal:
            tell(self.measure.said, str(refusal), "bad")

    # Showing

    def refresh(self) -> None:
        self._fill_slip()
        self.measure.piece.put(self.wanted)
        self.measure.refresh(self.session, self.calliper.path if self.calliper.listening else "")
        spot = self.slip.spot
        kind, at = ("hole" if spot is None or spot.kind.endswith("hole") else "pin"), spot.drawn if spot else REFERENCE
        fitting = self.view.get(nodes.FITS).fresh
        axis = spot.axis if spot is not None else "upright"
        process = fitting.process(axis) if fitting is not None else None
        self.errors.put(process, self.part.readings, kind, at)
        self.gap_chart.put(self.part.trials, {d: self.part.frees(d) for d in ("in the layer", "across it")})
        # What a size must be follows from the readings too, so it is said once they are all counted in.
        if self._said and self.measure.said.text() == self._said:
            tell(self.measure.said, self._said + self._verdict_of_last(), "good")
        if self.printer_page.isVisible():
            self.printer_page.put(self.view, at)

    def standing(self) -> Standing:
        n = len(self.part.readings)
        if n == 0:
            return Standing(Mark.OPEN, "Nothing measured.")
        left = self.slip.count - self.slip.at if 0 < self.slip.at < self.slip.count else 0
        words = f"{n} readings on {self.part.printer.name}."
        return Standing(Mark.HALF if left else Mark.FULL, words + (f" {left} places to go." if left else ""))

    def verdict(self) -> Verdict:
        fitting = self.view.get(nodes.FITS).fresh
        if fitting is None:
            refused = self.view.get(nodes.FITS).refusal
            return Verdict("It cannot be told." if refused else "Working out what this printer does.", refused)
        rest = Act("Simulate the rest", self.simulate_rest, self.slip.count > 0)
        if self.slip.gap_steps and not self.slip.spots:
            return self._gap_verdict(rest)
        spot = self.slip.spot
        known = spot is None or spot.kind.endswith("hole")
        kind, axis = "hole" if known else "pin", "upright" if spot is None else spot.axis
        at = spot.drawn if spot is not None else REFERENCE
        s = fitting.shift(kind, axis, at)
        orientation = "close" if s.value < 0 else "grow"
        what = "holes" if kind == "hole" else "outsides"
        odd = f" {len(s.outliers)} reading looks wrong; measure it again." if s.outliers else ""
        process = fitting.process(axis)
        prints = len({(m.bar, m.on) for m in process.used if m.kind == kind and m.bar})
        halve = "Measure another print: how much prints differ is not known yet." if prints == 1 else ""
        body = (
            f"{self.part.printer.name} makes {what} of {round(at, 2):g} mm {abs(s.value):.2f} mm "
            f"{'smaller' if s.value < 0 else 'larger'} across. "
            + (halve if s.count >= 4 else "Four readings or more make the value yours.")
            + odd
        )
        said = f"{what.capitalize()} {orientation} by {abs(s.value):.2f} mm."
        return Verdict(
            said if abs(s.value) >= 0.02 else f"{what.capitalize()} come out as drawn.",
            body,
            number=f"{abs(s.value):.2f}",
            unit="mm",
            under=(f"{s.low:+.2f} to {s.high:+.2f}", f"{what}, {'top to bottom' if axis == 'plumb' else axis}"),
            tone="straw ink" if s.count < 4 else "moss",
            source=f"{s.source}. Range: nine in ten of single places.",
            acts=(
                rest,
                Act("See the fits move", lambda: self.go("Fits")),
            ),
        )

    def _gap_verdict(self, rest: Act) -> Verdict:
        r = self.part.frees("in the layer")
        tried = len(self.part.trials)
        return Verdict(
            f"Gaps of {r.value:.2f} mm a side come free half the time.",
            f"Draw {r.value + 1.645 * max((r.high - r.low) / 3.29, 0.03):.2f} mm or more to be nine in ten sure."
            + ("" if tried else " Typical until you try a ladder: push each peg, lift each plate."),
            number=f"{r.value:.2f}",
            unit="mm",
            under=(f"{r.low:.2f} to {r.high:.2f}", "a side, in the layer"),
            tone="moss" if tried else "straw ink",
            source=f"{r.source}. Range: nine in ten.",
            acts=(rest, Act("See the gaps", lambda: self.go("Fits"))),
        )

    def scene(self) -> Scene:
        self._fill_slip()
        spot, gap_step, bed = self.slip.spot, self.slip.gap_step, self.part.printer.bed_mm
        if self.wanted in _NO_PIECE:
            laid = self.part.orientation is not None
            if self.wanted == THINGS:
                words = "What your calliper reads too much or too little, told by these."
                return base_scene(self.session, laid, "Things of known size", words)
            scene = base_scene(self.session, laid, "This part itself", "Its mates, as corrected, in order.")
        else:
            scene = piece_scene(self.pieces.piece, (bed[0], bed[1]))
        if spot is not None:
            return replace(scene, place=spot.at, place_words=f"{spot.name}, {round(spot.drawn, 2):g} mm")
        if gap_step is not None:
            return replace(scene, place=gap_step.at, place_words=f"{gap_step.number}: {gap_step.drawn:.2f} mm")
        return scene
