"""Edits of what a workshop keeps beside its parts: printers, spools, own values, readings, trials, prints."""

from __future__ import annotations

from typing import TYPE_CHECKING

from knollside.core.material.own import FIELDS, BondCurve, FieldName, OwnCard, OwnValue
from knollside.core.model import GapTrial, Measurement, PrinterFacts, Refused
from knollside.core.model.prints import PrintDetails
from knollside.store.records import PrintRecord, Spool

if TYPE_CHECKING:
    from knollside.gui.workspace import Workspace


class KeptEdits:
    """The commands; each is one named act, in one transaction."""

    def __init__(self, workspace: Workspace) -> None:
        self._w = workspace

    # Machines and materials

    def put_printer(self, printer_id: int | None, facts: PrinterFacts) -> int | None:
        """Add a printer (None) or change one; its number. The open part takes a first printer at once."""
        machines = self._w.shop.machines
        part = self._w.part.id if self._w.part is not None and self._w.part.doc.printer_id is None else None
        spool = self._w.part.doc.spool_id if self._w.part is not None else None

        def do() -> int:
            if printer_id is not None:
                machines.put_printer(printer_id, facts)
                return printer_id
            number = machines.add_printer(facts)
            if part is not None:
                self._w.shop.parts.put_machine(part, number, spool)
            return number

        return self._w.push(f"printer {facts.name}", do)

    def put_spool(self, spool: Spool) -> int | None:
        """Add a spool (id 0) or change one; its number."""
        machines = self._w.shop.machines

        def do() -> int:
            if spool.id:
                machines.put_spool(spool)
                return spool.id
            return machines.add_spool(spool.name, spool.material, spool.grams_left, spool.dry)

        return self._w.push(f"spool {spool.name}", do)

    def put_own_value(self, name: str, field: FieldName, value: OwnValue | None) -> None:
        """One value of a material as the person's own, or typical again (None)."""
        before = self._w.shelf.own.get(name, OwnCard())
        kept = {k: v for k, v in before.values.items() if k != field}
        after = before.model_copy(update={"values": kept if value is None else kept | {field: value}})
        words = f"{name}: {FIELDS[field].words.lower()}" + (" typical again" if value is None else "")
        self._put_own_card(name, after, words)

    def put_window(self, fit: str, window: tuple[float, float] | None) -> None:
        """A class window of the part's material as the person's own, or typical again (None)."""
        name = self._w.open_part().material
        before = self._w.shelf.own.get(name, OwnCard())
        kept = {k: v for k, v in before.windows.items() if k != fit}
        after = before.model_copy(update={"windows": kept if window is None else kept | {fit: window}})
        self._put_own_card(name, after, f"{name}: window of {fit}" + (" typical again" if window is None else ""))

    def put_bond_curve(self, name: str, curve: BondCurve) -> None:
        """A material's bond by pull tests, over one setting with one kind of nozzle."""
        after = self._w.shelf.own.get(name, OwnCard()).with_curve(curve)
        self._put_own_card(name, after, f"{name}: bond by pull tests over {curve.over}")

    def _put_own_card(self, name: str, after: OwnCard, words: str) -> None:
        if after != self._w.shelf.own.get(name, OwnCard()):
            self._w.push(words, lambda: self._w.shop.machines.put_own_card(name, after))

    # Records of the bench

    def add_readings(self, taken: tuple[Measurement, ...], words: str) -> None:
        """Readings of this printer and material at once, as one act."""
        learned, place, now = self._w.shop.learned, self.place(), self._w.now()
        self._w.push(words, lambda: learned.add_measurements(*place, now, taken))

    def add_reading(self, reading: Measurement) -> None:
        self.add_readings((reading,), f"reading of {reading.kind} {reading.drawn:g}")

    def leave_out(self, number: int, left_out: bool) -> None:
        """Count a kept reading no more, or again; it stays in the list."""
        before = next((m for i, _, m in self._w.open_part().dated_readings if i == number), None)
        if before is None or before.left_out == left_out:
            return
        words = f"reading of {before.kind} {before.drawn:g} {'left out' if left_out else 'counted again'}"
        after = before.model_copy(update={"left_out": left_out})
        self._w.push(words, lambda: self._w.shop.learned.put_measurement(number, after))

    def correct_readings(self, printed: dict[int, float], words: str) -> None:
        """Other sizes of kept readings, by their numbers, as one act."""
        before = {i: m for i, _, m in self._w.open_part().dated_readings if i in printed}

        def do() -> None:
            for i, m in before.items():
                self._w.shop.learned.put_measurement(i, m.model_copy(update={"printed": printed[i]}))

        self._w.push(words, do)

    def add_trials(self, taken: tuple[GapTrial, ...], words: str) -> None:
        """Rungs of a gap ladder, as one act."""
        learned, place, now = self._w.shop.learned, self.place(), self._w.now()
        self._w.push(words, lambda: learned.add_gap_trials(*place, now, taken))

    def place(self) -> tuple[int, str]:
        """Printer and material that records belong to."""
        part = self._w.open_part()
        if part.doc.printer_id is None:
            raise Refused("Add your printer at Workshop (Alt+9) first; the record belongs to one.")
        return part.doc.printer_id, part.material

    def add_print(self, record: PrintRecord, text: str) -> None:
        self._w.push(text, lambda: self._w.shop.learned.add_print(record))

    def put_details(self, record: PrintRecord, details: PrintDetails, text: str) -> None:
        """What is known of a kept print besides its hours."""
        if details != record.details:
            self._w.push(text, lambda: self._w.shop.learned.put_details(record.id, details))

    def add_photo(self, print_id: int, picture: bytes, thumb: bytes, text: str) -> None:
        self._w.push(text, lambda: self._w.shop.learned.add_photo(print_id, picture, thumb))

    def every_print(self) -> list[PrintRecord]:
        """Prints of every printer, oldest first."""
        return self._w.shop.learned.prints()
