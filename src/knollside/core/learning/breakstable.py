"""Breaks as CSV: one row each, what it broke at beside what was foretold."""

from __future__ import annotations

from pathlib import Path

from pydantic import ValidationError

from knollside.core.learning.table import Table
from knollside.core.model import BreakTest, Refused, fault_of
from knollside.core.textfile import text_of

COLUMNS = ("mode", "load_N", "foretold_N", "foretold_mode", "place", "at", "foretold_at")
_NUMBERS = ("load_N", "foretold_N")
_MOST_BYTES, _MOST_ROWS = 2**20, 5000


def read_breaks_file(path: Path) -> tuple[BreakTest, ...]:
    """As :func:`read_breaks`, from a file."""
    return read_breaks(text_of(path, _MOST_BYTES, "table of breaks"), path.name)


def read_breaks(text: str, name: str = "the table") -> tuple[BreakTest, ...]:
    """Breaks from CSV text with a heading; places as "x y z" in mm. Raises :class:`Refused` naming the row."""
    table = Table(text, name)
    table.need(("mode", *_NUMBERS))
    out = []
    for number, row in table.rows(COLUMNS, _NUMBERS, _MOST_ROWS):
        given: dict[str, object] = {"predicted_N" if k == "foretold_N" else k: v for k, v in row.items()}
        for c in ("at", "foretold_at"):
            if c in given:
                given[c] = str(given[c]).split()
        try:
            out.append(BreakTest.model_validate(given))
        except ValidationError as error:
            raise Refused(f"{name}, row {number}, {fault_of(error, 'the row')}.") from None
    if not out:
        raise Refused(f"{name} has a heading and no breaks.")
    return tuple(out)
