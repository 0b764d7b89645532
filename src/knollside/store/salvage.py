"""Opening a damaged workshop: the file is set aside by name, and all that can still be read of it starts a new one.

Rows are taken one by one; what the damaged file no longer gives is filled in from the newest copy, and said.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import URL, create_engine

from knollside.store.copies import copies_of
from knollside.store.opening import HEAD
from knollside.store.tables import Base

# A row's parent must be there before it, or it is nobody's.
_ORDER = (
    "meshes",
    "jobs",
    "printers",
    "spools",
    "parts",
    "revisions",
    "documents",
    "measurements",
    "gap_trials",
    "prints",
    "photos",
    "own_cards",
    "running",
    "numbers",
    "set_aside",
)
_MOST_ROWS = 2_000_000


@dataclass(frozen=True)
class Salvaged:
    """How many rows could be read of the damaged file itself, and how many came from a copy."""

    saved: int
    from_copy: int

    def words(self, aside: Path) -> str:
        copied = f", {self.from_copy} more came from the last copy" if self.from_copy else ""
        return (
            f"The workshop file was damaged. It was set aside as {aside.name}; {self.saved} entries were saved "
            f"from it{copied}. Look through your parts before you go on; Workshop can restore an older copy."
        )


def salvage(damaged: Path, fresh: Path) -> Salvaged:
    """Fill ``fresh``, which is empty, with what can be read of ``damaged`` and, for the rest, of its newest copy. The
    damaged file itself is only read."""
    engine = create_engine(URL.create("sqlite", database=str(fresh)))
    Base.metadata.create_all(engine)
    engine.dispose()
    with contextlib.closing(sqlite3.connect(fresh, isolation_level=None)) as out:
        out.execute("CREATE TABLE alembic_version (version_num VARCHAR(32) NOT NULL PRIMARY KEY)")
        out.execute("INSERT INTO alembic_version VALUES (?)", (HEAD,))
        out.execute("BEGIN")
        working = _working_copy(damaged, fresh)
        try:
            saved = _pour(working, out)
        finally:
            for ending in ("", "-wal", "-shm"):
                Path(str(working) + ending).unlink(missing_ok=True)
        copied = 0
        newest = next((c.path for c in copies_of(damaged)), None)
        if newest is not None:
            copied = _pour(newest, out)
        _drop_orphans(out)
        out.execute("COMMIT")
    os.chmod(fresh, 0o600)
    return Salvaged(saved, copied)


def _pour(source: Path, out: sqlite3.Connection) -> int:
    """Add rows that are not there yet; how many were added."""
    added = 0
    for table in _ORDER:
        have = [r[1] for r in out.execute(f"PRAGMA table_info({table})")]
        for row in _rows(source, table):
            columns = [c for c in row if c in have]
            marks = ", ".join("?" for _ in columns)
            told = f"INSERT OR IGNORE INTO {table} ({', '.join(columns)}) VALUES ({marks})"
            with contextlib.suppress(sqlite3.Error):
                added += out.execute(told, [row[c] for c in columns]).rowcount
    return added


def _rows(source: Path, table: str) -> Iterator[dict[str, Any]]:
    """Every row of a table that can be read, from both ends where the middle cannot; none where the table is gone."""
    given: set[Any] = set()
    for order in ("ASC", "DESC"):
        try:
            with contextlib.closing(sqlite3.connect(source)) as raw:
                raw.text_factory = lambda b: b.decode("utf-8", "replace")
                raw.execute("PRAGMA trusted_schema=OFF")
                cursor = raw.execute(f"SELECT rowid, * FROM {table} ORDER BY rowid {order}")
                names = [d[0] for d in cursor.description][1:]
                for k, found in enumerate(cursor):
                    if k > _MOST_ROWS:
                        break
                    if found[0] not in given:
                        given.add(found[0])
                        yield dict(zip(names, found[1:], strict=True))
                return
        except (sqlite3.Error, OverflowError, MemoryError, ValueError):
            continue


def _working_copy(damaged: Path, beside: Path) -> Path:
    """A copy to read from, with its log of last edits, so that the damaged file stays as it is."""
    copy = beside.with_name(f".salvaging-{os.getpid()}-{beside.name}")
    for ending in ("", "-wal"):
        with contextlib.suppress(OSError):
            shutil.copyfile(str(damaged) + ending, str(copy) + ending)
    _mend_head(copy)
    return copy


# What the first bytes of any such file say (the format's own description, section 1.3).
_MAGIC = b"SQLite format 3\0"
_FIXED = bytes((64, 32, 32))


def _mend_head(copy: Path) -> None:
    """Put right the few bytes at the front that are the same in every workshop, so that the rest can be read."""
    with open(copy, "r+b") as f:
        head = bytearray(f.read(100))
        if len(head) < 100:
            return
        head[:16] = _MAGIC
        if int.from_bytes(head[16:18], "big") not in {512, 1024, 2048, 4096, 8192, 16384, 32768, 1}:
            head[16:18] = (4096).to_bytes(2, "big")
        head[18] = head[19] = 2 if 2 in head[18:20] else 1
        head[20], head[21:24] = 0, _FIXED
        if int.from_bytes(head[44:48], "big") not in (1, 2, 3, 4):
            head[44:48] = (4).to_bytes(4, "big")
        head[56:60] = (1).to_bytes(4, "big")
        f.seek(0)
        f.write(head)


def _drop_orphans(out: sqlite3.Connection) -> None:
    """Rows whose parent could not be saved, and parts without a mesh, would only be found to be broken later."""
    for told in (
        "UPDATE parts SET printer_id = NULL WHERE printer_id NOT IN (SELECT id FROM printers)",
        "UPDATE parts SET spool_id = NULL WHERE spool_id NOT IN (SELECT id FROM spools)",
        "INSERT INTO jobs (id, name) SELECT DISTINCT job_id, 'Saved parts' FROM parts "
        "WHERE job_id NOT IN (SELECT id FROM jobs)",
        "DELETE FROM revisions WHERE part_id NOT IN (SELECT id FROM parts)",
        "DELETE FROM revisions WHERE mesh_hash NOT IN (SELECT hash FROM meshes)",
        "DELETE FROM parts WHERE id NOT IN (SELECT part_id FROM revisions)",
        "DELETE FROM documents WHERE part_id NOT IN (SELECT id FROM parts)",
        "DELETE FROM measurements WHERE printer_id NOT IN (SELECT id FROM printers)",
        "DELETE FROM gap_trials WHERE printer_id NOT IN (SELECT id FROM printers)",
        "DELETE FROM prints WHERE printer_id NOT IN (SELECT id FROM printers)",
        "UPDATE prints SET part_id = NULL WHERE part_id NOT IN (SELECT id FROM parts)",
        "DELETE FROM photos WHERE print_id NOT IN (SELECT id FROM prints)",
    ):
        out.execute(told)
