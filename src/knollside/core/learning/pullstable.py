"""Pulled bars as CSV: one row each."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import ValidationError

from knollside.core.learning.table import Table
from knollside.core.model import Refused, fault_of
from knollside.core.model.trials import Pull
from knollside.core.textfile import text_of

COLUMNS = ("level", "load_N", "area_mm2", "run", "standing", "mode", "slipped")
NEEDED = ("level", "load_N", "area_mm2")
_MOST_BYTES, _MOST_ROWS = 2**20, 5000
_YES = {"yes": True, "no": False, "true": True, "false": False, "1": True, "0": False}


def read_pulls_file(path: Path) -> tuple[Pull, ...]:
    """As :func:`read_pulls`, from a file."""
    return read_pulls(text_of(path, _MOST_BYTES, "table of bars"), path.name)


def read_pulls(text: str, name: str = "the table") -> tuple[Pull, ...]:
    """Bars from CSV text with a heading; raises :class:`Refused` naming the row and column that is wrong."""
    table = Table(text, name)
    table.need(NEEDED)
    out = []
    for number, row in table.rows(COLUMNS, NEEDED, _MOST_ROWS):
        given: dict[str, Any] = dict(row)
        for c in ("standing", "slipped"):
            if c in given:
                given[c] = _YES.get(given[c].lower(), given[c])
        try:
            out.append(Pull.model_validate(given))
        except ValidationError as error:
            raise Refused(f"{name}, row {number}, {fault_of(error, 'the row')}.") from None
    if not out:
        raise Refused(f"{name} has a heading and no bars.")
    return tuple(out)
