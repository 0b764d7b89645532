"""One printer's life: what is due and why, what was done, what is loaded, and whether its frame is square."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import astuple

import numpy as np
from PyQt6.QtWidgets import QCheckBox, QLineEdit, QWidget

from knollside.core.material.cards import MATERIALS
from knollside.core.model import PrinterFacts, Range, Refused
from knollside.core.model.running import PrinterEvent, PrinterLog
from knollside.core.run.sequence import Head
from knollside.core.run.square import OUTSIDE, Frame, Square, frame_of
from knollside.core.run.upkeep import Ran, due, hours_since
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, heading, label, named, row, rule
from knollside.gui.session import Session
from knollside.gui.spoolfacts import loaded_on, put_on
from knollside.gui.steps.ofprinter import OfPrinter
from knollside.gui.steps.page import line
from knollside.sim.desk import SimulatedCalliper, frame_named

_KINDS = (
    ("new nozzle", "nozzle"),
    ("other sheet", "sheet"),
    ("belts tightened", "belt"),
    ("firmware", "firmware"),
    ("moved", "moved"),
    ("cleaned", "cleaned"),
    ("height set again", "levelled"),
    ("adhesive held, taken off cold", "held cold"),
    ("adhesive held, taken off hot", "held hot"),
    ("adhesive let go", "let go"),
    ("first use", "first use"),
)
_NAMES = {kind: words for words, kind in _KINDS} | {"square": "square measured", "adhesive": "adhesive"}
_SIDES = ("Drawn X", "Drawn Y", "X", "Y", "Rising diagonal", "Falling diagonal")
_HELD = {True: " held, taken off hot", False: " held, taken off cold", None: " held"}
_SHOWN = 6
_HEAD = ("left", "right", "front", "back", "widens at", "bar at")
_USUAL_HEAD = astuple(Head())


class PrinterPage(OfPrinter):
    """What is due, what was done, what is loaded, how far its head reaches, and its square."""

    def __init__(self, session: Session, at: Callable[[], int | None]) -> None:
        super().__init__(session, at)
        self._typed: dict[str, float] = {"Drawn X": 100.0, "Drawn Y": 100.0}

    def _load(self, key: str) -> None:
        """A spool of the shelf goes on, or comes off (nothing)."""
        number, shelf = self._at(), self.workspace.shelf
        if number is None or key == loaded_on(shelf).get(number):
            return
        spool = next((s for s in shelf.spools if str(s.id) == key), None)
        words = f"{spool.name if spool is not None else 'nothing'} loaded"
        self.workspace.runs.put_printer_logs(put_on(shelf, number, spool, ""), words)

    def happened(self, kind: str, note: str = "", square: tuple[float, ...] | None = None) -> None:
        """Log something that was done, now."""
        held = {"held cold": True, "held hot": True, "let go": False}.get(kind)
        told = {
            "kind": "adhesive" if held is not None else kind,
            "at": self.workspace.now(),
            "note": note[:400],
            "held": held,
            "hot": kind == "held hot" if held else None,
            "square": square,
        }
        event = PrinterEvent.model_validate(told)
        self.put({"events": (*self.log.events, event)}, _NAMES.get(kind, kind))

    def ran(self) -> tuple[Ran, ...]:
        """The printer's prints as hours that wear it."""
        number = self._at()
        out = []
        for r in self.workspace.kept.every_print():
            if r.printer_id == number:
                card = MATERIALS.get(r.material)
                hours = r.actual_hours or r.estimate_hours or 0.0
                out.append(Ran(r.made, hours, card is not None and card.hard_nozzle))
        return tuple(out)

    # Showing

    def refresh(self) -> None:
        facts, log = self.facts, self.log
        key = (self._at(), facts, log, len(self.workspace.kept.every_print()), self.workspace.now().date())
        if not self.fresh(key) or facts is None:
            return
        prints = self.ran()
        self._due(facts, log, prints)
        self._loaded(log)
        self._head(log)
        self.add(rule())
        self._log(log)
        self.add(rule())
        self._square(log)

    def _due(self, facts: PrinterFacts, log: PrinterLog, prints: tuple[Ran, ...]) -> None:
        told = due(log.events, prints, self.workspace.now(), facts.hard_nozzle)
        ran = hours_since(log.events, prints, "nozzle", not facts.hard_nozzle)
        self.add(heading("Upkeep", f"{ran:.0f} h on this nozzle"))
        for d in told:
            self.add(label(f"{d.words}.", 13, 600, wrap=True))
            self.add(label(f"{d.why[0].upper()}{d.why[1:]}.", dim=True, wrap=True))
        if not told:
            self.add(label("Nothing is due.", dim=True))

    def _loaded(self, log: PrinterLog) -> None:
        shelf, number = self.workspace.shelf, self._at() or 0
        held = loaded_on(shelf)
        there = {k: facts.name for n, facts in shelf.printers.items() if n != number and (k := held[n])}
        named_as = [(s.name + (f" (on {there[k]})" if (k := str(s.id)) in there else ""), k) for s in shelf.spools]
        known = {k for _, k in named_as}
        other = [] if held.get(number, "") in known | {""} else [(f"{log.loaded}, no spool of the shelf", held[number])]
        loaded = Dropdown("Spool loaded", [("nothing", ""), *other, *named_as], 18)
        loaded.put(held.get(number, ""))
        loaded.chose.connect(lambda key: self._load(str(key)))
        self.add(row(label("loaded", dim=True), loaded, stretch=1))
        fields = []
        for words, key in (("change takes", "change_minutes"), ("clearing", "clear_minutes")):
            f = NumberField(f"Minutes, {words}", "share", "min", 1, 0, 600 if "clear" in key else 240, 0, 66)
            f.plain = True
            f.put(getattr(log, key))
            f.entered.connect(lambda v, key=key, words=words: self.put({key: v}, f"{words} {v:.0f} min"))
            fields += [label(words, dim=True), f]
        self.add(row(*fields, spacing=4, stretch=-2))

    def _head(self, log: PrinterLog) -> None:
        """How far the head reaches, for pieces one after another."""
        size = log.head or _USUAL_HEAD
        fields = []
        for k, name in enumerate(_HEAD):
            low, high = (0.5, 200) if k == 4 else (1, 400)
            f = NumberField(f"Head, {name}", "length", "mm", 1, low, high, 0, 66)
            f.put(size[k])
            f.entered.connect(lambda v, k=k, name=name: self._put_head(k, v, name))
            fields.append(named(name, f))
        words = "From the nozzle's tip; for pieces one after another."
        self.add(heading("Head and bar", "yours" if log.head else "typical"), row(*fields[:4], spacing=4, stretch=-2))
        self.add(row(*fields[4:], spacing=4, stretch=-2), label(words, dim=True, wrap=True))

    def _put_head(self, k: int, value: float, name: str) -> None:
        size = list(self.log.head or _USUAL_HEAD)
        size[k] = value
        self.put({"head": tuple(size)}, f"head {name} {value:g} mm")

    def _log(self, log: PrinterLog) -> None:
        kind = Dropdown("What was done", _KINDS, 12)
        kind.put("nozzle")
        note = QLineEdit()
        note.setAccessibleName("Note of what was done")
        note.setPlaceholderText("note")
        go = button("Log it", lambda: self.happened(str(kind.currentData()), note.text().strip()))
        self.add(heading("What was done"), row(kind, note, go, spacing=4, stretch=1))
        for e in reversed(log.events[-_SHOWN:]):
            held = "" if e.held is None else _HELD[e.hot] if e.held else " let go"
            words = f"{e.at:%d %b %Y}  {_NAMES.get(e.kind, e.kind)}{held}{f': {e.note}' if e.note else ''}"
            self.add(label(words, dim=True, wrap=True))

    def _square(self, log: PrinterLog) -> None:
        self.add(heading("Square and scale", "one printed square"))
        self.add(
            label(
                "Print a flat square, measure it along X, along Y and over both diagonals: rising from front left to "
                "back right. Cure the frame first; what is left over can be taken out of a mesh.",
                dim=True,
                wrap=True,
            )
        )
        fields: list[QWidget] = []
        for name in _SIDES:
            f = NumberField(f"{name}, mm", "length", "mm", 0.1, 0, 1500, 2, 104)
            if name in self._typed:
                f.put(self._typed[name])
            else:
                f.line.setPlaceholderText("mm")
            f.entered.connect(lambda v, name=name: self._typed.update({name: v}))
            fields.append(named(name, f))
        self.add(row(*fields[:3], stretch=-2), row(*fields[3:], stretch=-2))
        simulated = button("Print and measure it, simulated", self._simulate, tip="A stand-in with a frame of its own")
        self.add(row(button("Work it out", self._work_out), simulated, spacing=4, stretch=-2))
        if log.squared is not None:
            for w in self._told(log.squared):
                self.add(w)
            true_up = QCheckBox("Take it out of exported meshes")
            true_up.setChecked(log.true_up)
            true_up.setToolTip(
                "Of parts for this printer only; the sheet says so. Where holes were read here, their corrections hold "
                "its scales already: then the skew alone"
            )
            words = "the frame's error taken out of meshes" if not log.true_up else "meshes written as they are"
            true_up.clicked.connect(lambda on: self.put({"true_up": on}, words))
            self.add(true_up)

    def _simulate(self) -> None:
        """The stand-in prints a square on its own frame and holds its own calliper to it."""
        facts = self.facts
        if facts is None:
            return
        rng = np.random.default_rng(len(self.log.events))
        sizes = frame_named(facts.name).square(self._typed["Drawn X"], self._typed["Drawn Y"])
        read = [SimulatedCalliper().read(v, rng) for v in sizes]
        self._typed.update(zip(_SIDES[2:], read, strict=True))
        self._work_out()

    def _outside(self) -> Range:
        """How much wider an outside comes out on this printer, learned where it was read."""
        part = self.session.view.part if self.session.has_part else None
        return part.outside if part is not None and part.printer_id == self._at() else OUTSIDE

    def _work_out(self) -> None:
        try:
            numbers = tuple(self._typed[n] for n in _SIDES)
        except KeyError as gone:
            self.workspace.said.emit(f"{gone.args[0]} is still to be typed.")
            return
        try:
            frame_of(Square(*numbers), outside=self._outside())
        except Refused as refusal:
            self.workspace.said.emit(str(refusal))
            return
        self.happened("square", "", numbers)

    def _told(self, event: PrinterEvent) -> list[QWidget]:
        assert event.square is not None
        try:
            frame = frame_of(Square(*event.square), outside=self._outside())
        except Refused as refusal:
            return [label(str(refusal), 13, 600, wrap=True)]
        return [
            line(f"Measured {event.at:%d %b}", _angle(frame), _scales(frame)),
            label(_verdict(frame), 13, wrap=True),
        ]


def _angle(frame: Frame) -> str:
    return f"{frame.skew.value:+.2f}°"


def _scales(frame: Frame) -> str:
    x, y, s = frame.scale_x, frame.scale_y, frame.skew
    return (
        f"skew {s.low:+.2f} to {s.high:+.2f}°; X {100 * (x.low - 1):+.2f} to {100 * (x.high - 1):+.2f} %, "
        f"Y {100 * (y.low - 1):+.2f} to {100 * (y.high - 1):+.2f} %"
    )


def _verdict(frame: Frame) -> str:
    if not frame.off:
        return "Square and true, as far as one piece tells."
    return f"{'; '.join(frame.off)}. Loosen the frame and set it square, then print the square again."
