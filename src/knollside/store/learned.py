"""What was measured, tried, printed and broken."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import TypeVar

from sqlalchemy import select

from knollside.core.model import BreakTest, GapTrial, Measurement, Refused
from knollside.core.model.prints import PrintDetails
from knollside.store.ledger import Ledger, seal_of
from knollside.store.records import Photo, PrintRecord
from knollside.store.tables import GapTrialRow, MeasurementRow, PhotoRow, PrintRow

_Taken = TypeVar("_Taken", Measurement, GapTrial)
Dated = list[tuple[int, datetime, _Taken]]


class Learned:
    """Every method that changes something is one transaction, or part of the one it is called in."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger
        self._known: dict[tuple[int | None, int], tuple[PrintRecord, ...]] = {}

    def add_measurements(
        self, printer_id: int, material: str, taken: datetime, readings: Iterable[Measurement]
    ) -> list[int]:
        """Readings of one printer and material, all or none; their numbers."""
        return self._add(MeasurementRow, printer_id, material, taken, readings)

    def remove_measurements(self, numbers: Iterable[int]) -> None:
        self._remove(MeasurementRow, numbers)

    def places(self) -> list[tuple[int, str]]:
        """Every printer and material that something was measured or tried on."""
        with self._ledger.read() as s:
            found = {
                (printer, material)
                for table in (MeasurementRow, GapTrialRow)
                for printer, material in s.execute(select(table.printer_id, table.material).distinct())
            }
        return sorted(found)

    def put_measurement(self, number: int, reading: Measurement) -> None:
        """Change a reading that is kept, as when it is left out."""
        with self._ledger.edit() as s:
            row = s.get(MeasurementRow, number)
            if row is not None:
                row.body = reading.model_dump_json()
                row.seal = seal_of(row.body)

    def measurements(self, printer_id: int, material: str) -> Dated[Measurement]:
        return self._taken(MeasurementRow, Measurement, "A reading", printer_id, material)

    def add_gap_trials(self, printer_id: int, material: str, taken: datetime, trials: Iterable[GapTrial]) -> list[int]:
        """Rungs of a ladder, all or none; their numbers."""
        return self._add(GapTrialRow, printer_id, material, taken, trials)

    def remove_gap_trials(self, numbers: Iterable[int]) -> None:
        self._remove(GapTrialRow, numbers)

    def gap_trials(self, printer_id: int, material: str) -> Dated[GapTrial]:
        return self._taken(GapTrialRow, GapTrial, "A rung of a gap ladder", printer_id, material)

    def _add(
        self,
        table: type[MeasurementRow] | type[GapTrialRow],
        printer_id: int,
        material: str,
        taken: datetime,
        records: Iterable[Measurement] | Iterable[GapTrial],
    ) -> list[int]:
        with self._ledger.edit() as s:
            rows = [
                table(printer_id=printer_id, material=material, taken=taken, body=body, seal=seal_of(body))
                for body in (one.model_dump_json() for one in records)
            ]
            s.add_all(rows)
            s.flush()
            return [r.id for r in rows]

    def _remove(self, table: type[MeasurementRow | GapTrialRow | PrintRow | PhotoRow], numbers: Iterable[int]) -> None:
        with self._ledger.edit() as s:
            for number in numbers:
                row = s.get(table, number)
                if row is not None:
                    s.delete(row)

    def _taken(
        self,
        table: type[MeasurementRow] | type[GapTrialRow],
        record: type[_Taken],
        words: str,
        printer_id: int,
        material: str,
    ) -> Dated[_Taken]:
        """What was taken of one printer and material, in order; what cannot be read is set aside."""
        with self._ledger.read() as s:
            found = s.scalars(
                select(table).where(table.printer_id == printer_id, table.material == material).order_by(table.id)
            )
            rows = [(r.id, r.taken, r.body, r.seal) for r in found]  # type: ignore[attr-defined]
        out = []
        for number, taken, body, seal in rows:
            made = self._ledger.tried(f"{words} ({number})", body, seal, record.model_validate_json)
            if made is not None:
                out.append((number, taken, made))
        return out

    def add_print(self, record: PrintRecord, number: int | None = None) -> int:
        """A print, under a number it had or a new one; returns it."""
        self._known.clear()
        broke = record.broke.model_dump_json() if record.broke else None
        details = record.details.model_dump_json() if record.details else None
        with self._ledger.edit() as s:
            row = PrintRow(
                id=number,
                part_id=record.part_id,
                printer_id=record.printer_id,
                material=record.material,
                made=record.made,
                estimate_hours=record.estimate_hours,
                actual_hours=record.actual_hours,
                outcome=record.outcome,
                broke=broke,
                seal=None if broke is None else seal_of(broke),
                details=details,
                details_seal=None if details is None else seal_of(details),
            )
            s.add(row)
            s.flush()
            return row.id

    def put_details(self, number: int, details: PrintDetails | None) -> None:
        """What is known of a kept print besides its hours."""
        self._known.clear()
        with self._ledger.edit() as s:
            row = s.get(PrintRow, number)
            if row is None:
                raise Refused("That print is not in the workshop any more.")
            row.details = None if details is None else details.model_dump_json()
            row.details_seal = None if row.details is None else seal_of(row.details)

    def remove_print(self, number: int) -> None:
        self._known.clear()
        self._remove(PrintRow, [number])

    # Photos

    def add_photo(self, print_id: int, picture: bytes, thumb: bytes, number: int | None = None) -> int:
        """A picture of a print; its number."""
        with self._ledger.edit() as s:
            row = PhotoRow(id=number, print_id=print_id, picture=picture, thumb=thumb)
            s.add(row)
            s.flush()
            return row.id

    def remove_photo(self, number: int) -> None:
        self._remove(PhotoRow, [number])

    def photo(self, number: int) -> Photo | None:
        with self._ledger.read() as s:
            row = s.get(PhotoRow, number)
            return None if row is None else Photo(row.id, row.print_id, row.picture, row.thumb)

    def thumbs(self, print_id: int) -> list[tuple[int, bytes]]:
        """Numbers of a print's photos with their thumbnails."""
        with self._ledger.read() as s:
            told = s.execute(
                select(PhotoRow.id, PhotoRow.thumb).where(PhotoRow.print_id == print_id).order_by(PhotoRow.id)
            )
            return [(int(n), bytes(t)) for n, t in told]

    def prints(self, printer_id: int | None = None) -> list[PrintRecord]:
        """Prints in order of time, of one printer or all; a break that cannot be read is set aside. What was read is
        kept until a print comes or goes: thousands are looked through at every refresh."""
        key = printer_id, self._ledger.generation
        if key not in self._known or self._ledger.editing:
            found = tuple(self._read_prints(printer_id))
            if self._ledger.editing:
                return list(found)
            self._known[key] = found
        return list(self._known[key])

    def _read_prints(self, printer_id: int | None) -> Iterator[PrintRecord]:
        r = PrintRow
        columns = r.id, r.part_id, r.printer_id, r.material, r.made, r.estimate_hours, r.actual_hours, r.outcome
        query = select(*columns, r.broke, r.seal, r.details, r.details_seal).order_by(r.made, r.id)
        if printer_id is not None:
            query = query.where(r.printer_id == printer_id)
        with self._ledger.read() as s:
            rows = s.execute(query).all()
        for number, part, printer, material, made, planned, took, outcome, body, seal, more, more_seal in rows:
            words = f"The break of print {number}"
            broke = None if not body else self._ledger.tried(words, body, seal, BreakTest.model_validate_json)
            words = f"The details of print {number}"
            details = None if not more else self._ledger.tried(words, more, more_seal, PrintDetails.model_validate_json)
            yield PrintRecord(number, part, printer, material, made, planned, took, outcome, broke, details)
