"""Readings as CSV, out and in: one row each, sizes in mm."""

from __future__ import annotations

import csv
import io
from typing import Any

from pydantic import ValidationError

from knollside.core.learning.table import Table
from knollside.core.model import Measurement, Refused, fault_of

COLUMNS = (
    *("kind", "axis", "drawn", "printed", "nozzle_mm", "layer_height", "bar", "repeats", "left_out"),
    *("went_in", "did_not", "on", "place", "across", "lot", "sheet", "nozzle_hours"),
)
_NUMBERS = ("drawn", "printed", "nozzle_mm", "layer_height", "went_in", "did_not", "nozzle_hours")
_MOST_BYTES, _MOST_ROWS = 2_000_000, 20_000


def write_readings(readings: tuple[Measurement, ...]) -> str:
    """CSV text with a heading line."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(COLUMNS)
    for m in readings:
        row = m.model_dump(include=set(COLUMNS))
        row["went_in"], row["did_not"] = m.between if m.between is not None else (None, None)
        table.writerow(["" if row[c] is None else row[c] for c in COLUMNS])
    return out.getvalue()


def read_readings(text: str, name: str = "the table") -> tuple[Measurement, ...]:
    """Readings from CSV text; commas or semicolons between columns, decimal commas allowed with the latter.

    Raises :class:`Refused` naming the row and column that is wrong; nothing is taken then.
    """
    if len(text) > _MOST_BYTES:
        raise Refused(f"{name} is over {_MOST_BYTES // 10**6} MB; that is no table of readings.")
    table = Table(text, name)
    gauged = {"went_in", "did_not"} <= set(table.columns)
    table.need(("kind", "axis", "drawn", "printed"), ("printed",) if gauged else ())
    out = []
    for number, row in table.rows(COLUMNS, _NUMBERS, _MOST_ROWS):
        given: dict[str, Any] = dict(row)
        try:
            _gauged(given, f"{name}, row {number}")
            out.append(Measurement.model_validate({**given, "source": "imported"}))
        except ValidationError as error:
            raise Refused(f"{name}, row {number}, {fault_of(error, 'the row')}.") from None
    if not out:
        raise Refused(f"{name} has a heading and no readings.")
    return tuple(out)


def _gauged(given: dict[str, Any], where: str) -> None:
    """What gauges told becomes a size between the two; in place."""
    told = [given.pop(c, None) for c in ("went_in", "did_not")]
    if told == [None, None]:
        return
    if None in told:
        raise Refused(f"{where}: a gauge reading needs both, the largest that went in and the smallest that did not.")
    try:
        least, most = (float(str(v)) for v in told)
    except ValueError:
        raise Refused(f"{where}: '{told[0]}' and '{told[1]}' are not both numbers.") from None
    given["between"] = (least, most)
    given.setdefault("printed", (least + most) / 2)
