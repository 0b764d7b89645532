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
        self._known: dict[int | None, tuple[PrintRecord, ...]] = {}
        self._as_of = -1  # the generation that is of

    def add_measurements(
        self, printer_id: int, material: str, taken: datetime, readings: Iterable[Measurement]
    ) -> list[int]:
        """Readings of one printer and material, all or none; their numbers."""
        return self._add(MeasurementRow, printer_id, material, taken, readings)

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
            bodies = [one.model_dump_json() for one in records]
            first = self._ledger.number(table.id, many=len(bodies))
            for k, body in enumerate(bodies):
                at = {"id": first + k, "printer_id": printer_id, "material": material, "taken": taken}
                s.add(table(**at, body=body, seal=seal_of(body)))
            s.flush()
            return list(range(first, first + len(bodies)))

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

    def add_print(self, record: PrintRecord) -> int:
        """A print; its number."""
        broke = record.broke.model_dump_json() if record.broke else None
        details = record.details.model_dump_json() if record.details else None
        with self._ledger.edit() as s:
            number = self._ledger.number(PrintRow.id)
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
            return number

    def put_details(self, number: int, details: PrintDetails | None) -> None:
        """What is known of a kept print besides its hours."""
        with self._ledger.edit() as s:
            row = s.get(PrintRow, number)
            if row is None:
                raise Refused("That print is not in the workshop any more.")
            row.details = None if details is None else details.model_dump_json()
            row.details_seal = None if row.details is None else seal_of(row.details)

    # Photos

    def add_photo(self, print_id: int, picture: bytes, thumb: bytes) -> int:
        """A picture of a print; its number."""
        with self._ledger.edit() as s:
            number = self._ledger.number(PhotoRow.id)
            s.add(PhotoRow(id=number, print_id=print_id, picture=picture, thumb=thumb))
            s.flush()
            return number

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
        if self._ledger.editing:
            return list(self._read_prints(printer_id))
        if self._as_of != self._ledger.generation:
            self._known, self._as_of = {}, self._ledger.generation
        if printer_id not in self._known:
            self._known[printer_id] = tuple(self._read_prints(printer_id))
        return list(self._known[printer_id])

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
