"""Opening a workshop file: locked to one window, brought up to date, set to survive a pulled plug.

The lock is on the file itself, so that links, another spelling of the path or a deleted lock file cannot get round it;
the path is only ever used as a path.
"""

from __future__ import annotations

import fcntl
import os
import sqlite3
from pathlib import Path

from sqlalchemy import URL, Engine, create_engine, event, text

from knollside.core.model import Refused
from knollside.store.copies import keep_copy, keep_daily

HEAD = "0007"


class Held:
    """The workshop file held open and locked; the system lets go of it if the program dies."""

    def __init__(self, path: Path) -> None:
        try:
            self.path = path.expanduser().resolve()
            if not self.path.parent.exists():
                self.path.parent.mkdir(parents=True, mode=0o700)
            self._handle = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except (OSError, ValueError, RuntimeError) as error:
            if isinstance(error, PermissionError) and path.exists():
                words = f"The workshop {path} is read-only. Nothing was changed; make it writable or choose another."
                raise Refused(words) from None
            reason = getattr(error, "strerror", None) or error
            raise Refused(f"The workshop {path} cannot be opened for writing: {reason}.") from None
        self._seal(path)
        try:
            fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(self._handle)
            raise Refused(
                f"The workshop {path.name} is already open in another window. Use that one, or close it first."
            ) from None

    def _seal(self, path: Path) -> None:
        """Only the person reads their own workshop."""
        state = os.fstat(self._handle)
        if state.st_mode & 0o077 and state.st_uid == os.getuid():
            os.fchmod(self._handle, 0o600)
        if not os.access(self.path, os.W_OK):
            os.close(self._handle)
            raise Refused(f"The workshop {path} is read-only. Nothing was changed; make it writable or choose another.")

    def still_there(self) -> None:
        """Raise :class:`Refused` where the file was removed or replaced under the window."""
        mine = os.fstat(self._handle)
        try:
            there = os.stat(self.path)
        except OSError:
            raise Refused(
                f"The workshop file {self.path} is gone: another program moved or removed it. Nothing more is kept "
                "until it is back; put it back, or close this window and open another workshop."
            ) from None
        if (there.st_dev, there.st_ino) != (mine.st_dev, mine.st_ino):
            raise Refused(
                f"The workshop file {self.path} was replaced by another program. Nothing was written to the new one; "
                "close this window and open it anew."
            )

    def moved_to(self, path: Path) -> None:
        """The file was renamed by this program: it is set aside, and a new one takes its place and its lock."""
        self.release()
        Held.__init__(self, path)

    def release(self) -> None:
        os.close(self._handle)


def open_engine(path: Path) -> Engine:
    """Engine on the file, checked and brought to the newest version, with a copy of before. Raises :class:`Refused`
    where it cannot be used as it is, :class:`sqlite3.DatabaseError` where it is damaged."""
    engine = create_engine(URL.create("sqlite", database=str(path)))

    @event.listens_for(engine, "connect")
    def _set_up(connection: sqlite3.Connection, _: object) -> None:
        # The driver's own commits before statements would tear an edit in two.
        connection.isolation_level = None
        # A damaged letter must not make a whole list unreadable; the row's seal tells of it.
        connection.text_factory = lambda b: b.decode("utf-8", "replace")
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA foreign_keys=ON")
        connection.execute("PRAGMA synchronous=FULL")
        connection.execute("PRAGMA trusted_schema=OFF")
        connection.execute("PRAGMA busy_timeout=2000")

    @event.listens_for(engine, "begin")
    def _begin(connection) -> None:  # type: ignore[no-untyped-def]
        connection.exec_driver_sql("BEGIN IMMEDIATE")

    try:
        _sound(path)
        fresh = path.stat().st_size == 0
        _migrate(engine, path)
        if not fresh:
            keep_daily(path)
    except BaseException:
        engine.dispose()
        raise
    return engine


def _sound(path: Path) -> None:
    """Raise :class:`sqlite3.DatabaseError` where the file's own structure is damaged."""
    if path.stat().st_size == 0:
        return
    with sqlite3.connect(path) as raw:
        told = raw.execute("PRAGMA integrity_check(3)").fetchall()
        lost = raw.execute("PRAGMA foreign_key_check").fetchone()
    raw.close()
    if told != [("ok",)]:
        raise sqlite3.DatabaseError(str(told[0][0]).replace("\n", " ") if told else "no answer")
    if lost is not None:
        raise sqlite3.DatabaseError(f"a row of {lost[0]} belongs to nothing")


def version_of(path: Path) -> str | None:
    """The version a file says it is of; None for an empty one."""
    with sqlite3.connect(path) as raw:
        known = raw.execute("SELECT 1 FROM sqlite_master WHERE name = 'alembic_version'").fetchone()
        found = raw.execute("SELECT version_num FROM alembic_version").fetchone() if known else None
    raw.close()
    return None if found is None else str(found[0])


def _migrate(engine: Engine, path: Path) -> None:
    version = version_of(path) if path.stat().st_size else None
    if version == HEAD:
        return
    if version is not None and version > HEAD:
        raise Refused(f"The workshop {path} was made by a newer Knollside; open it with that one.")
    if version is not None:
        keep_copy(path, f"before version {HEAD}")
    # Imported late: needed only when something changes, and start-up should not pay for it.
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations").replace("%", "%%"))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        made = connection.execute(text("SELECT version_num FROM alembic_version")).scalar()
        if made != HEAD:
            raise Refused(f"The workshop {path} could not be brought to version {HEAD}.")
