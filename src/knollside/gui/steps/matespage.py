"""Fits' page of mates: what goes with each feature, the details of the chosen one, the ladder, and what moves."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QCheckBox, QLineEdit, QWidget

from knollside.core.fit.correction import Correction, axis_of
from knollside.core.fit.finish import FINISHES
from knollside.core.fit.hardware import item, names, suggestions
from knollside.core.fit.play import running_in, tight_window
from knollside.core.fit.process import REFERENCE
from knollside.core.fit.windows import CLASSES, gap_window
from knollside.core.job.correcting import sag_of
from knollside.core.model import Feature, Mate, Refused, bounds_of, ends_of
from knollside.core.model.mates import Cycles, WindowEnd, WornGap
from knollside.gui.instruments.charts import WearChart
from knollside.gui.instruments.fitmarks import RoofMark
from knollside.gui.instruments.ladder import FitLadder
from knollside.gui.instruments.widgets import (
    Chip,
    Dropdown,
    NumberField,
    button,
    column,
    heading,
    label,
    named,
    row,
    rule,
)
from knollside.gui.session import Seeing, Session
from knollside.gui.steps.page import Page, Same

OWN = "a thing of its own size"
Change = Callable[[str, dict[str, object]], None]
_ROOFS = (("left round", "round"), ("sag allowed for", "sag"), ("teardrop", "teardrop"), ("flat top", "flat top"))
_COVERS = (("open", "none"), ("one-layer skin", "skin"), ("stepped bridges", "steps"))


class MatesPage(Seeing, Page):
    """``changed`` by hand goes out through the functions it is given; nothing is decided here."""

    def __init__(
        self, session: Session, change: Change, drop: Callable[[str], None], add_all: Callable[[], None]
    ) -> None:
        super().__init__()
        self.session, self._change, self._drop = session, change, drop
        self.ladder = FitLadder()
        self.moves = label("", 13, wrap=True)
        self.note = label("", dim=True, wrap=True)
        self.printer = label("", dim=True)
        self._rows: tuple[Correction, ...] = ()
        self.top(heading("What goes with it", button("Add every hole", add_all)))
        lay = self.layout()
        assert lay is not None
        # Under the rows, which are filled anew: the ladder and what moves stay.
        at = lay.count() - 1
        for i, w in enumerate(
            (
                rule(),
                heading("Fit ladder", self.printer),
                self.ladder,
                self.note,
                rule(),
                heading("What moves", "outside and lettering: nothing"),
                self.moves,
            )
        ):
            lay.insertWidget(at + i, w)  # type: ignore[attr-defined]

    def put(self, rows: tuple[Correction, ...], chosen: set[str], note: str) -> None:
        doc, facts, picked_now = self.part, self.view.facts, self.session.picked
        if facts is None:
            return
        self.printer.setText(f"{doc.printer.name}, {doc.material}")
        self._rows = rows
        picked = picked_now if any(m.feature == picked_now for m in doc.mates) else ""
        worn = next((round(c.printed_then - c.target.partner, 3) for c in rows if c.feature == picked), None)
        key = (doc.mates, Same(facts), picked, doc.direction, tuple(sorted(doc.windows.items())), doc.dry_fits, worn)
        if self.fresh(key):
            for m in doc.mates:
                f = facts.feature(m.feature)
                self.add(self._mate(m, f))
                if m.feature == picked and f is not None:
                    self.add(self._details(m, f))
            if not doc.mates:
                words = "Nothing yet: add every hole, or click one on the stage and say “mates”."
                self.add(label(words, dim=True, wrap=True))
        self.ladder.put(rows, picked_now, chosen)
        lines = [
            f"{c.feature.replace('-', ' ').capitalize()}: {c.from_mm:.2f} to {c.to_mm:.2f} mm, "
            f"{c.to_mm - c.from_mm:+.2f} across" + (f". {c.caution}" if c.caution else "")
            for c in rows
            if c.feature in chosen
        ]
        self.moves.setText("\n".join(lines) or "Nothing chosen to correct.")
        self.note.setText(note)

    # One mate

    def _mate(self, m: Mate, f: Feature | None) -> QWidget:
        on = QCheckBox(m.feature.replace("-", " ").capitalize() if f is None else f.title)
        on.setChecked(m.apply)
        on.setFixedWidth(108 if len(on.text()) > 10 else 92)
        on.setAccessibleName(f"Correct {m.feature}")
        on.clicked.connect(lambda v: self._change(m.feature, {"apply": v}))
        hardware = Dropdown(f"Hardware in {m.feature}", self._offers(f), 8)
        here = f"printed:{m.partner}" if m.partner else OWN if m.size_mm is not None else m.hardware
        if all(hardware.itemData(i) != here for i in range(hardware.count())):
            hardware.insertItem(0, here, here)
        hardware.put(here)
        hardware.chose.connect(partial(self._took, m, f))
        fit = Dropdown(f"Fit of {m.feature}", [(w, w) for w in _fits_of(m)], 6)
        fit.put(m.fit)
        fit.chose.connect(lambda v: self._change(m.feature, {"fit": v, "window": None}))
        fit.setToolTip("close, medium, coarse: clearance holes of the standard; press to free: fit classes")
        more = button("…", lambda: self._pick(m.feature), plain=True, tip="Its details")
        more.setAccessibleName(f"Details of {m.feature}")
        drop = button("×", lambda: self._drop(m.feature), plain=True, tip="Take this mate away")
        drop.setAccessibleName(f"Remove mate of {m.feature}")
        return row(on, hardware, fit, more, drop, spacing=3, stretch=1)

    def _pick(self, name: str) -> None:
        self.session.pick("" if self.session.picked == name else name)

    def _offers(self, f: Feature | None) -> list[tuple[str, object]]:
        kind, near = (f.kind, f.diameter) if f is not None else ("hole", None)
        likely = [s.name for s in suggestions(near, kind)] if near else []
        rest = [n for n in names(kind, near) if n not in likely]
        out: list[tuple[str, object]] = [("as drawn", "as drawn"), *((n, n) for n in (*likely, *rest))]
        facts = self.view.facts
        other = "hole" if kind == "pin" else "pin"
        for g in facts.features if facts is not None else ():
            if g.kind == other and near and g.diameter and abs(g.diameter - near) < 2:
                out.append((f"{g.title}, printed", f"printed:{g.id}"))
        return [*out, (OWN, OWN)]

    def _took(self, m: Mate, f: Feature | None, what: object) -> None:
        words = str(what)
        plain: dict[str, object] = {"partner": None, "size_mm": None, "window": None, "hardware": "as drawn"}
        classed = m.fit if m.fit in CLASSES else "slide"
        if words.startswith("printed:"):
            self._change(m.feature, plain | {"partner": words.removeprefix("printed:"), "fit": classed})
        elif words == OWN:
            size = round(float(f.diameter or 5.0), 2) if f is not None else 5.0
            self._change(m.feature, plain | {"size_mm": size, "fit": classed})
        elif words == "as drawn":
            self._change(m.feature, plain | {"fit": "as drawn"})
        else:
            fits = item(words).fits
            fit = m.fit if m.fit in fits else "medium" if "medium" in fits else fits[0]
            self._change(m.feature, plain | {"hardware": words, "fit": fit})

    def _written(self, m: Mate, f: Feature, text: str) -> None:
        """Hardware as a person writes it."""
        try:
            self._took(m, f, item(text).name)
        except Refused as refusal:
            self.workspace.said.emit(str(refusal))

    def _details(self, m: Mate, f: Feature) -> QWidget:
        """All that can be said of one mate; each control is one edit."""
        out: list[QWidget] = []
        if f.readings is not None and f.facets is not None and f.facets <= 40:
            corner, flat = f.readings
            words = (
                f"{f.facets} flats: {corner:.2f} at the corners, {flat:.2f} at the flats; {f.diameter:.2f} is believed."
            )
            out.append(label(words, dim=True, wrap=True))
        written = QLineEdit()
        written.setAccessibleName(f"What goes in {m.feature}, as written")
        written.setPlaceholderText("or write it: M5x16, 1/4-20, 608zz")
        written.returnPressed.connect(lambda: self._written(m, f, written.text()))
        out.append(written)
        if m.size_mm is not None:
            fields: tuple[tuple[str, str, float], ...] = (
                ("its size", "size_mm", m.size_mm),
                ("sleeve a side", "sleeve_mm", m.sleeve_mm),
                ("may be larger by", "tolerance_mm", m.tolerance_mm),
            )
            out.append(row(*(self._number(m, w, k, float(v)) for w, k, v in fields), stretch=-2))
        if m.partner is not None:
            side = Dropdown(
                f"Side corrected of {m.feature}", [("the hole", "hole"), ("the pin", "pin"), ("both", "both")], 7
            )
            side.put(m.side)
            side.chose.connect(lambda v: self._change(m.feature, {"side": v}))
            out.append(row(label("what is corrected", dim=True), side, stretch=-2))
        finish = Dropdown(f"Finish of {m.feature}", [(n, n) for n in FINISHES], 12)
        finish.put(m.finish)
        finish.chose.connect(lambda v: self._change(m.feature, {"finish": v}))
        mm, _ = FINISHES[m.finish]
        told = f"{mm:+.2f} a side" if m.finish != "none" else "bare"
        out.append(row(label("finish", dim=True), finish, label(told, dim=True), stretch=-2))
        if f.kind == "hole":
            out.append(self._shape(m, f))
        if m.fit in CLASSES:
            out += self._window(m)
        box = column(*out, spacing=4, margins=(14, 2, 4, 6))
        box.setObjectName("paper")
        return box

    def _number(self, m: Mate, words: str, key: str, value: float) -> QWidget:
        field = NumberField(f"{words.capitalize()} of {m.feature}", "length", "mm", 0.1, *bounds_of(Mate, key), 2, 78)
        field.put(value)
        field.entered.connect(lambda v: self._change(m.feature, {key: v}))
        return named(words, field)

    def _shape(self, m: Mate, f: Feature) -> QWidget:
        if axis_of(f, self.part.direction) == "lying":
            roof = Dropdown(f"Roof of {m.feature}", list(_ROOFS), 12)
            roof.put(m.shape)
            roof.chose.connect(lambda v: self._change(m.feature, {"shape": v}))
            sag = sag_of(self.part.readings, float(f.diameter or REFERENCE), self.part.fit_setting)
            words = f"It lies: left round, it is {sag:.2f} mm tighter from top to bottom; its odds count that."
            told = label(words, dim=True, wrap=True)
            return column(told, row(RoofMark(m.shape), roof, stretch=-2), spacing=2)
        cover = Dropdown(f"Lower end of {m.feature}", list(_COVERS), 14)
        cover.put(m.cover)
        cover.chose.connect(lambda v: self._change(m.feature, {"cover": v}))
        return row(label("where it starts in the air", dim=True), cover, stretch=-2)

    def _window(self, m: Mate) -> list[QWidget]:
        """The class' window for this material, and starting tight where it will wear."""
        try:
            low, high = gap_window(m, self.part.windows)
        except Refused:
            return []
        yours = m.window is not None or self.part.windows.get(m.fit) != CLASSES.get(m.fit)
        fields = []
        for k, v in enumerate((low, high)):
            end = "Least" if k == 0 else "Most"
            field = NumberField(f"{end} gap of {m.fit}", "length", "mm", 0.05, *ends_of(WindowEnd), 2, 84)
            field.put(v)
            field.entered.connect(partial(self._windowed, m, k, (low, high)))
            fields.append(field)
        words = f"Gap that counts as {m.fit} in {self.part.material}, across:"
        learned = self.part.learned_windows.get(m.fit)
        source = "this mate" if m.window is not None else "yours" if yours else "typical"
        if learned is not None and m.window is None:
            source = learned.low.source
        to = label("to", dim=True)
        out: list[QWidget] = [label(words, dim=True), row(fields[0], to, fields[1], Chip(source), stretch=-2)]
        if m.fit in ("slide", "free"):
            out += self._wear(m, (low, high))
        return out

    def _wear(self, m: Mate, window: tuple[float, float]) -> list[QWidget]:
        """How it opens with use, what was logged of it, and printing it tight for that."""
        printed = next((c for c in self._rows if c.feature == m.feature), None)
        start = abs(printed.printed_then - printed.target.partner) if printed is not None else sum(window) / 2
        curve = running_in(m.worn, start)
        plot = WearChart()
        plot.put(curve, m.worn, window)
        cycles = NumberField(f"Cycles of {m.feature}", "share", "", 10, *ends_of(Cycles), 0, 62)
        cycles.plain = True
        cycles.line.setPlaceholderText("many")
        gap = NumberField(f"Gap of {m.feature} then", "length", "mm", 0.05, *ends_of(WornGap), 2, 72)
        gap.line.setPlaceholderText("mm")
        told = [c for c in self.part.fit_checks if c.mate == m.feature][-2:]
        log = button("Log it", lambda: self._log(m, cycles.value, gap.value), tip="Measured after so many cycles")
        out: list[QWidget] = [
            label(f"It opens by {curve.grows:.2f} mm with use, {curve.source}.", dim=True),
            plot,
            *[label(f"{c.at:%d %b}: {c.did}.", dim=True, wrap=True) for c in told],
            row(label("after", dim=True), cycles, label("cycles", dim=True), gap, log, spacing=4, stretch=-2),
        ]
        if m.window is None:
            tight = tight_window(window, curve.grows)
            go = button("Start tight", lambda: self._change(m.feature, {"window": tight}), tip="Runs in to this window")
            out.append(row(go, stretch=-2))
        return out

    def _log(self, m: Mate, cycles: float, gap: float) -> None:
        self._change(m.feature, {"worn": m.with_worn(cycles, gap).worn})

    def _windowed(self, m: Mate, which: int, window: tuple[float, float], value: float) -> None:
        low, high = (value, window[1]) if which == 0 else (window[0], value)
        if low >= high:
            self.workspace.said.emit("A window runs from its least to its most gap; kept as it was.")
            self._shown = None
            self.session.changed.emit()
        elif m.window is not None:
            self._change(m.feature, {"window": (low, high)})
        else:
            self.workspace.kept.put_window(m.fit, (low, high))


def _fits_of(m: Mate) -> list[str]:
    """Fits that suit what goes in."""
    if m.partner is not None or m.size_mm is not None:
        return list(CLASSES)
    if m.hardware in ("as drawn", "", "none"):
        return ["as drawn"]
    try:
        fits = list(item(m.hardware).fits)
    except Refused:
        fits = list(CLASSES)
    return fits if m.fit in fits else [*fits, m.fit]
