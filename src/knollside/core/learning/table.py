"""A table of trials as CSV: commas or semicolons between columns, decimal commas with the latter."""

from __future__ import annotations

import csv
from collections.abc import Iterator, Sequence

from knollside.core.model import Refused


class Table:
    """``columns`` of its heading; rows by :meth:`rows`. Raises :class:`Refused` for an empty one."""

    def __init__(self, text: str, name: str) -> None:
        lines = text.lstrip("\ufeff").splitlines()
        if not lines:
            raise Refused(f"{name} is empty.")
        self.name = name
        self._split = ";" if lines[0].count(";") > lines[0].count(",") else ","
        self._table = csv.DictReader(lines, delimiter=self._split)
        self.columns = tuple(self._table.fieldnames or ())

    def need(self, needed: Sequence[str], instead: Sequence[str] = ()) -> None:
        """Raises :class:`Refused` for the first column that is missing; those of ``instead`` may be."""
        missing = [c for c in needed if c not in self.columns and c not in instead]
        if missing:
            raise Refused(f"{self.name} has no column '{missing[0]}'. It needs: {', '.join(needed)}.")

    def rows(self, columns: Sequence[str], numbers: Sequence[str], most: int) -> Iterator[tuple[int, dict[str, str]]]:
        """Number of the line and what is given of ``columns``, ``numbers`` with a decimal point."""
        for number, row in enumerate(self._table, start=2):
            if number > most:
                raise Refused(f"{self.name} has more than {most:,} rows.")
            given = {c: str(row[c]).strip() for c in columns if row.get(c) not in (None, "")}
            if self._split == ";":
                given |= {c: given[c].replace(",", ".") for c in numbers if c in given}
            yield number, given
