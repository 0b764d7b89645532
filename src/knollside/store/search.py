"""Full-text search of prints: an index in memory, made anew when a print, a part or a printer has another name.

SQLite's own FTS5 does the searching. What a person types is taken as plain words, each as the beginning of one; quoted,
as words next to each other. Nothing of it is ever read as the index's own language.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterable, Iterator
from itertools import islice

MOST_WORDS = 24
_QUOTED = re.compile(r'"([^"]*)"')
_WORD = re.compile(r"[^\W_]+", re.UNICODE)


def match_of(typed: str) -> str:
    """What the index is asked for; nothing for what holds no word.

    >>> match_of('strings "outer wall" 238*')
    '"outer wall" AND "strings"* AND "238"*'
    """
    parts = []
    for phrase in _QUOTED.findall(typed):
        words = _WORD.findall(phrase)[:MOST_WORDS]
        if words:
            parts.append('"' + " ".join(words) + '"')
    rest = _QUOTED.sub(" ", typed)
    parts += [f'"{w}"*' for w in _WORD.findall(rest)]
    return " AND ".join(parts[:MOST_WORDS])


class PrintSearch:
    """Numbers of prints by words. :meth:`begin` whenever ``key`` is another, :meth:`go_on` until it is done, then
    :meth:`find`: an index of thousands is made a few at a time, so that nobody waits for it."""

    def __init__(self) -> None:
        self._raw: sqlite3.Connection | None = None
        self._key: object = None
        self._left: Iterator[tuple[int, str]] = iter(())

    def begin(self, key: object, rows: Iterable[tuple[int, str]]) -> None:
        """Index prints by number and words from now on, unless that is so of this ``key`` already."""
        if self._raw is not None and key == self._key:
            return
        if self._raw is not None:
            self._raw.close()
        self._raw, self._key = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False), key
        self._raw.execute("CREATE VIRTUAL TABLE prints USING fts5(words, tokenize='unicode61 remove_diacritics 2')")
        self._left = iter(rows)

    def go_on(self, many: int | None = None) -> bool:
        """Index so many more (None: all); whether there may be some left."""
        if self._raw is None:
            return False
        some = list(islice(self._left, many))
        self._raw.execute("BEGIN")
        self._raw.executemany("INSERT INTO prints (rowid, words) VALUES (?, ?)", some)
        self._raw.execute("COMMIT")
        return many is not None and len(some) == many

    def find(self, typed: str, most: int = 10_000) -> list[int] | None:
        """Numbers of prints with all that is typed; None where nothing is asked for."""
        match = match_of(typed)
        if not match or self._raw is None:
            return None
        told = self._raw.execute("SELECT rowid FROM prints WHERE prints MATCH ? ORDER BY rank LIMIT ?", (match, most))
        return [int(r[0]) for r in told]
