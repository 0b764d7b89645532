"""Pulled bars as CSV: one row each."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from knollside.core.model import Refused, fault_of
from knollside.core.model.trials import Pull

COLUMNS = ("level", "load_N", "area_mm2", "run", "standing", "mode", "slipped")
NEEDED = ("level", "load_N", "area_mm2")
_MOST_BYTES, _MOST_ROWS = 1_000_000, 5000
_YES = {"yes": True, "no": False, "true": True, "false": False, "1": True, "0": False}


def read_pulls_file(path: Path) -> tuple[Pull, ...]:
    """As :func:`read_pulls`, from a file."""
    try:
        if not path.is_file():
            raise Refused(f"{path.name} is no file.")
        if path.stat().st_size > _MOST_BYTES:
            raise Refused(f"{path.name} is over {_MOST_BYTES // 10**6} MB; that is no table of bars.")
        return read_pulls(path.read_text("utf-8"), path.name)
    except (OSError, UnicodeDecodeError) as error:
        raise Refused(f"{path.name} could not be read: {error}.") from None


def read_pulls(text: str, name: str = "the table") -> tuple[Pull, ...]:
    """Bars from CSV text with a heading; raises :class:`Refused` naming the row and column that is wrong."""
    lines = text.lstrip("\ufeff").splitlines()
    if not lines:
        raise Refused(f"{name} is empty.")
    split = ";" if lines[0].count(";") > lines[0].count(",") else ","
    table = csv.DictReader(lines, delimiter=split)
    missing = [c for c in NEEDED if c not in (table.fieldnames or ())]
    if missing:
        raise Refused(f"{name} has no column '{missing[0]}'. It needs: {', '.join(NEEDED)}.")
    out = []
    for number, row in enumerate(table, start=2):
        if number > _MOST_ROWS:
            raise Refused(f"{name} has more than {_MOST_ROWS:,} rows.")
        given: dict[str, Any] = {c: str(row[c]).strip() for c in COLUMNS if row.get(c) not in (None, "")}
        for c in NEEDED:
            if split == ";" and c in given:
                given[c] = given[c].replace(",", ".")
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
