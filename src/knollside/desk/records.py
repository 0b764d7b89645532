"""What the workshop has learned, as it stands for the open part: readings, gap trials, prints, own cards; and undo."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QUndoCommand, QUndoStack

from knollside.core.bench.bond import learn_bond
from knollside.core.build.price import time_factor
from knollside.core.fit.windows import Windows, windows_for
from knollside.core.job.file import PrinterFacts
from knollside.core.material.bond import Setting, with_setting
from knollside.core.material.cards import MATERIALS, Material, material, with_bond
from knollside.core.material.own import FIELDS, FieldName, OwnCard, OwnValue, with_own
from knollside.core.model import GapTrial, Measurement, Range, Refused
from knollside.desk.askfits import FitAsks
from knollside.desk.work import Work
from knollside.store.workshop import PartDoc, PrintRecord, Spool, Workshop


class _Edit(QUndoCommand):
    """One named edit that can be undone: two functions."""

    def __init__(self, text: str, do: Callable[[], None], undo: Callable[[], None]) -> None:
        super().__init__(text)
        self._do, self._undo = do, undo

    def redo(self) -> None:
        self._do()

    def undo(self) -> None:
        self._undo()


class Records(FitAsks):
    """The learned half of the state. ``changed`` fires after any stored edit, ``said`` carries a sentence for the
    person."""

    changed = pyqtSignal()
    said = pyqtSignal(str)

    def __init__(self, shop: Workshop, work: Work) -> None:
        super().__init__(work)
        self.shop = shop
        self.undo = QUndoStack(self)
        self.undo.setUndoLimit(200)
        self.doc: PartDoc | None = None
        self._printers: dict[int, PrinterFacts] = shop.printers()
        self._spools: list[Spool] = shop.spools()
        self._own = shop.own_cards()
        self._learned: tuple[object, dict[str, Material]] = (None, {})
        self._readings: list[tuple[int, datetime, Measurement]] = []
        self._trials: list[tuple[int, datetime, GapTrial]] = []
        self._prints: list[PrintRecord] = []

    def _reload_records(self) -> None:
        self._printers, self._spools = self.shop.printers(), self.shop.spools()
        doc = self.doc
        if doc is None or doc.printer_id is None:
            self._readings, self._trials, self._prints = [], [], []
        else:
            self._readings = self.shop.measurements(doc.printer_id, doc.material)
            self._trials = self.shop.gap_trials(doc.printer_id, doc.material)
            self._prints = self.shop.prints(doc.printer_id)

    @property
    def printer(self) -> PrinterFacts:
        if self.doc is not None and self.doc.printer_id in self._printers:
            return self._printers[self.doc.printer_id]
        return PrinterFacts()

    @property
    def readings(self) -> tuple[Measurement, ...]:
        return tuple(m for _, _, m in self._readings)

    @property
    def dated_readings(self) -> tuple[tuple[int, datetime, Measurement], ...]:
        """Readings with their numbers and when they were taken."""
        return tuple(self._readings)

    @property
    def trials(self) -> tuple[GapTrial, ...]:
        return tuple(t for _, _, t in self._trials)

    @property
    def windows(self) -> Windows:
        """Windows of the fit classes for the part's material, the person's own first."""
        assert self.doc is not None
        return windows_for(self.doc.material, self._own.get(self.doc.material, OwnCard()).windows)

    def put_window(self, fit: str, window: tuple[float, float] | None) -> None:
        """A class window of the part's material as the person's own, or typical again (None)."""
        assert self.doc is not None
        name, before = self.doc.material, self._own.get(self.doc.material, OwnCard())
        kept = {k: v for k, v in before.windows.items() if k != fit}
        after = before.model_copy(update={"windows": kept if window is None else kept | {fit: window}})
        if after != before:
            words = f"{name}: window of {fit}" + (" typical again" if window is None else "")
            self._put_own_card(name, before, after, words)

    @property
    def prints(self) -> tuple[PrintRecord, ...]:
        return tuple(self._prints)

    @property
    def card(self) -> Material:
        """The part's material: the person's own values and trials first, as this recipe and nozzle print it."""
        assert self.doc is not None
        return with_setting(self.cards[material(self.doc.material).name], self.setting)

    @property
    def setting(self) -> Setting:
        """How this recipe and nozzle print the bond between layers."""
        assert self.doc is not None
        bond, recipe = self.cards[material(self.doc.material).name].bond, self.doc.recipe
        # Own pull tests were printed with this nozzle: what it costs is in them already.
        hard = self.printer.hard_nozzle and not bond.source.startswith("yours")
        return Setting(recipe.nozzle_c, recipe.fan, None, hard, recipe.layer_height / self.printer.nozzle_mm)

    @property
    def cards(self) -> dict[str, Material]:
        """Every material, with the person's own values, and bonds learned from trials, in place of typical ones."""
        key = (tuple(self._prints), tuple(self._own.items()))
        if self._learned[0] != key:
            self._learned = (key, self._learn())
        return self._learned[1]

    def _learn(self) -> dict[str, Material]:
        out: dict[str, Material] = {}
        for name, typical in MATERIALS.items():
            card = with_own(typical, self._own.get(name))
            tests = [p.broke for p in self._prints if p.broke is not None and p.material == name]
            out[name] = with_bond(card, learn_bond(tests, card.bond) if tests else None)
        return out

    @property
    def own_cards(self) -> dict[str, OwnCard]:
        return self._own

    @property
    def own_values(self) -> dict[FieldName, OwnValue]:
        """The person's own values of the part's material."""
        assert self.doc is not None
        return self._own.get(self.doc.material, OwnCard()).values

    def put_own_value(self, name: str, field: FieldName, value: OwnValue | None) -> None:
        """A value of a material as the person's own, or typical again (None)."""
        before = self._own.get(name, OwnCard())
        values = {k: v for k, v in before.values.items() if k != field}
        after = before.model_copy(update={"values": values if value is None else values | {field: value}})
        if after == before:
            return

        words = f"{name}: {FIELDS[field].words.lower()}" + (" typical again" if value is None else "")
        self._put_own_card(name, before, after, words)

    def _put_own_card(self, name: str, before: OwnCard, after: OwnCard, words: str) -> None:
        def put(own: OwnCard) -> None:
            self.shop.put_own_card(name, own)
            self._own = self.shop.own_cards()
            self.request_fits()
            self.changed.emit()

        self._push(words, lambda: put(after), lambda: put(before))

    @property
    def factor(self) -> Range:
        return time_factor([(p.estimate_hours or 0, p.actual_hours or 0) for p in self._prints])

    # Edits: each is one undo step and one transaction

    def _push(self, text: str, do: Callable[[], None], undo: Callable[[], None]) -> bool:
        # The store is asked first: an edit it refuses must not stay on the undo list.
        try:
            do()
        except Refused as refusal:
            self.said.emit(str(refusal))
            return False
        done = [True]

        def again() -> None:
            if done:
                done.clear()
            else:
                self._guarded(do)

        self.undo.push(_Edit(text, again, lambda: self._guarded(undo)))
        return True

    def _guarded(self, act: Callable[[], None]) -> None:
        try:
            act()
        except Refused as refusal:
            self.said.emit(str(refusal))

    # Records of the bench

    def add_reading(self, reading: Measurement) -> None:
        self.add_readings((reading,), f"reading of {reading.kind} {reading.drawn:g}")

    def add_readings(self, taken: tuple[Measurement, ...], words: str) -> None:
        """Several readings at once, one step of undo."""
        self._keep(self.shop.add_measurement, self.shop.remove_measurement, taken, words)

    def leave_out(self, number: int, left_out: bool) -> None:
        """Count a kept reading no more, or again; it stays in the list."""
        before = next((m for i, _, m in self._readings if i == number), None)
        if before is None or before.left_out == left_out:
            return
        after = before.model_copy(update={"left_out": left_out})

        def put(m: Measurement) -> None:
            self.shop.put_measurement(number, m)
            self._after_record()

        words = f"reading of {before.kind} {before.drawn:g} {'left out' if left_out else 'counted again'}"
        self._push(words, lambda: put(after), lambda: put(before))

    def add_trials(self, taken: tuple[GapTrial, ...], words: str) -> None:
        """Rungs of a gap ladder, one step of undo."""
        self._keep(self.shop.add_gap_trial, self.shop.remove_gap_trial, taken, words)

    def _keep(
        self,
        add: Callable[[int, str, datetime, Any], int],
        remove: Callable[[int], None],
        taken: tuple[Measurement, ...] | tuple[GapTrial, ...],
        words: str,
    ) -> None:
        """Store records of this printer and material; one undo takes them all back."""
        printer, name = self._place()
        rows: list[int] = []

        def do() -> None:
            rows[:] = [add(printer, name, datetime.now(), one) for one in taken]
            self._after_record()

        def undo() -> None:
            for row in rows:
                remove(row)
            self._after_record()

        self._push(words, do, undo)

    def _place(self) -> tuple[int, str]:
        """Printer and material that records belong to."""
        assert self.doc is not None and self.doc.printer_id is not None
        return self.doc.printer_id, self.doc.material

    def add_print(self, record: PrintRecord, text: str) -> None:
        row = [0]

        def do() -> None:
            row[0] = self.shop.add_print(record)
            self._after_record()

        def undo() -> None:
            self.shop.remove_print(row[0])
            self._after_record()

        self._push(text, do, undo)

    def _after_record(self) -> None:
        self._reload_records()
        self.request_fits()
        if self.answers.get("gaps") is not None:
            self.request_gaps()
        self.changed.emit()
