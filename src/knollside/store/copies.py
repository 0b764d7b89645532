"""Copies of a workshop, kept beside it: one a day, ten of them, the last two closings, and one before every change of
version."""

from __future__ import annotations

import contextlib
import os
import sqlite3
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

KEPT = 10
_STAMP = "%Y-%m-%d %H.%M.%S"


@dataclass(frozen=True)
class Copy:
    """A copy by its file, when it was made, and why."""

    path: Path
    made: datetime
    why: str


def folder_of(path: Path) -> Path:
    return path.with_name(path.name + ".copies")


def copies_of(path: Path) -> list[Copy]:
    """Copies of a workshop, the newest first."""
    out = []
    folder = folder_of(path)
    for found in folder.glob("*.sqlite") if folder.is_dir() else ():
        stamp, _, why = found.stem.partition(", ")
        with contextlib.suppress(ValueError, OSError):
            # Two of one second, as at opening and closing, are told apart by the file's own time.
            out.append((datetime.strptime(stamp, _STAMP), found.stat().st_mtime_ns, found, why))
    return [Copy(found, made, why) for made, _, found, why in sorted(out, reverse=True)]


def keep_copy(path: Path, why: str) -> Path:
    """Copy a workshop as it is now, also one that is open; the copy appears whole or not at all.

    Raises :class:`OSError` or :class:`sqlite3.Error` where it cannot be made.
    """
    folder = folder_of(path)
    folder.mkdir(mode=0o700, exist_ok=True)
    target = folder / f"{datetime.now().strftime(_STAMP)}, {why}.sqlite"  # the newest of a second stays
    making = folder / f".making-{os.getpid()}"
    try:
        handle = os.open(making, os.O_CREAT | os.O_TRUNC | os.O_WRONLY, 0o600)
        os.close(handle)
        backup(path, making)
        os.replace(making, target)
    finally:
        making.unlink(missing_ok=True)
    return target


def backup(source: Path, target: Path) -> None:
    """All of one database into another file, by the database's own means."""
    with contextlib.closing(sqlite3.connect(source)) as a, contextlib.closing(sqlite3.connect(target)) as b:
        a.backup(b)
        b.execute("PRAGMA journal_mode=DELETE")


def keep_daily(path: Path) -> None:
    """A copy a day, at the first opening; the oldest daily ones make room. No copy is no reason not to open."""
    with contextlib.suppress(OSError, sqlite3.Error):
        today = datetime.now().date()
        if path.stat().st_size and all(c.made.date() != today or c.why != "daily" for c in copies_of(path)):
            keep_copy(path, "daily")
        _rotate(path, "daily", KEPT)


def keep_closing(path: Path) -> None:
    """A copy of what was edited, as the window closes; the last two stay."""
    with contextlib.suppress(OSError, sqlite3.Error):
        keep_copy(path, "at closing")
        _rotate(path, "at closing", 2)


def _rotate(path: Path, why: str, kept: int) -> None:
    for c in [c for c in copies_of(path) if c.why == why][kept:]:
        c.path.unlink(missing_ok=True)
