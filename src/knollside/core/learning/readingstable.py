"""Readings as CSV, out and in: one row each, sizes in mm."""

from __future__ import annotations

import csv
import io

from pydantic import ValidationError

from knollside.core.model import Measurement, Refused, fault_of

COLUMNS = ("kind", "axis", "drawn", "printed", "nozzle_mm", "layer_height", "bar", "repeats", "left_out")
_MOST_BYTES, _MOST_ROWS = 2_000_000, 20_000


def write_readings(readings: tuple[Measurement, ...]) -> str:
    """CSV text with a heading line."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(COLUMNS)
    for m in readings:
        row = m.model_dump(include=set(COLUMNS))
        table.writerow(["" if row[c] is None else row[c] for c in COLUMNS])
    return out.getvalue()


def read_readings(text: str, name: str = "the table") -> tuple[Measurement, ...]:
    """Readings from CSV text; commas or semicolons between columns, decimal commas allowed with the latter.

    Raises :class:`Refused` naming the row and column that is wrong; nothing is taken then.
    """
    if len(text) > _MOST_BYTES:
        raise Refused(f"{name} is over {_MOST_BYTES // 10**6} MB; that is no table of readings.")
    lines = text.lstrip("\ufeff").splitlines()
    if not lines:
        raise Refused(f"{name} is empty.")
    split = ";" if lines[0].count(";") > lines[0].count(",") else ","
    table = csv.DictReader(lines, delimiter=split)
    missing = [c for c in COLUMNS[:4] if c not in (table.fieldnames or ())]
    if missing:
        raise Refused(f"{name} has no column '{missing[0]}'. It needs: {', '.join(COLUMNS[:4])}.")
    out = []
    for number, row in enumerate(table, start=2):
        if number > _MOST_ROWS:
            raise Refused(f"{name} has more than {_MOST_ROWS:,} rows.")
        given = {c: row[c].strip() for c in COLUMNS if row.get(c) not in (None, "")}
        for c in ("drawn", "printed", "nozzle_mm", "layer_height"):
            if split == ";" and c in given:
                given[c] = given[c].replace(",", ".")
        try:
            out.append(Measurement.model_validate({**given, "source": "imported"}))
        except ValidationError as error:
            raise Refused(f"{name}, row {number}, {fault_of(error, 'the row')}.") from None
    if not out:
        raise Refused(f"{name} has a heading and no readings.")
    return tuple(out)
