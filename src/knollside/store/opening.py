"""Opening a workshop file: locked to one window, brought up to date, set to survive a pulled plug.

The lock is on the file itself, so that links, another spelling of the path or a deleted lock file cannot get round it;
the path is only ever used as a path.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import sqlite3
import stat
from pathlib import Path

from sqlalchemy import URL, Engine, create_engine, event, text

from knollside.core.model import Refused
from knollside.store.copies import Copy, copies_of, folder_of, keep_copy, keep_daily
from knollside.store.replacing import ready_of
from knollside.store.trouble import words_of

HEAD = "0007"


def _refuse_no_file(path: Path, mode: int) -> None:
    """Raise :class:`Refused` where the name is of something that is no file."""
    if stat.S_ISREG(mode):
        return
    kinds = {stat.S_ISDIR: "a folder", stat.S_ISFIFO: "a pipe", stat.S_ISSOCK: "a socket"}
    what = next((words for test, words in kinds.items() if test(mode)), "a device")
    raise Refused(f"{path} is {what}, not a file; a workshop is one file. Nothing was changed.")


class NoneThere(Refused):
    """There is no workshop of that name, or an empty file, but there are ``copies`` of one, the newest first."""

    def __init__(self, path: Path, copies: list[Copy]) -> None:
        super().__init__(
            f"The workshop {path} is {'empty' if path.exists() else 'missing'}, and {len(copies)} copies of it are "
            f"beside it in {folder_of(path).name}, the newest of {copies[0].made:%d %B %Y, %H:%M}. Say which to take, "
            "or begin an empty one."
        )
        self.path, self.copies = path, copies


class Held:
    """The workshop file held open and locked; the system lets go of it if the program dies. ``empty``: one that is
    missing is begun even where copies of another are beside it."""

    def __init__(self, path: Path, empty: bool = False) -> None:
        try:
            self.path = path.expanduser().resolve()
            if not self.path.parent.exists():
                self.path.parent.mkdir(parents=True, mode=0o700)
            known = self.path.stat() if self.path.exists() else None
        except (OSError, ValueError, RuntimeError) as error:
            reason = words_of(error, path) if isinstance(error, OSError) else str(error)
            raise Refused(f"The workshop {path} cannot be opened: {reason}.") from None
        if known is not None:
            _refuse_no_file(path, known.st_mode)
        copies = copies_of(self.path)
        if copies and not empty and not ready_of(self.path).exists() and (known is None or not known.st_size):
            raise NoneThere(self.path, copies)
        try:
            self._handle = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NONBLOCK, 0o600)
        except OSError as error:
            raise Refused(
                f"The workshop {path} cannot be opened for writing: {words_of(error, self.path)}. Nothing was changed."
            ) from None
        try:
            _refuse_no_file(path, os.fstat(self._handle).st_mode)
            if not os.access(self.path, os.W_OK):
                raise Refused(
                    f"The workshop {path} is read-only. Nothing was changed; make it writable or take another."
                )
            fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(self._handle)
            raise Refused(
                f"The workshop {path.name} is already open in another window. Use that one, or close it first."
            ) from None
        except BaseException:
            os.close(self._handle)
            raise

    def only_mine(self) -> None:
        """Only the person reads their own workshop, once it is known to be one."""
        state = os.fstat(self._handle)
        if state.st_mode & 0o077 and state.st_uid == os.getuid():
            with contextlib.suppress(OSError):
                os.fchmod(self._handle, 0o600)

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
        Held.__init__(self, path, empty=True)

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


# A table that each version brought, the newest first; one that forgot which it is tells by these.
_BROUGHT = {
    "0007": "numbers",
    "0006": "photos",
    "0005": "running",
    "0004": "set_aside",
    "0003": "gap_trials",
    "0002": "own_cards",
    "0001": "revisions",
}


def version_of(path: Path) -> tuple[str | None, bool]:
    """The version a file says it is of, or by its tables must be of (None for an empty one), and whether it says so.
    Raises :class:`Refused` for a database that is no workshop."""
    with contextlib.closing(sqlite3.connect(path)) as raw:
        tables = {r[0] for r in raw.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
        known = "alembic_version" in tables
        told = raw.execute("SELECT version_num FROM alembic_version").fetchone() if known else None
    if told is not None:
        return str(told[0]), True
    if not tables - {"alembic_version"}:
        return None, False
    if not {"parts", "jobs", "revisions", "meshes"} <= tables:
        raise Refused(f"{path} is a database of another program, not a workshop. Nothing was changed.")
    return next(v for v, table in _BROUGHT.items() if table in tables), False


def _migrate(engine: Engine, path: Path) -> None:
    version, said = version_of(path) if path.stat().st_size else (None, False)
    if version == HEAD and said:
        return
    if version is not None and version > HEAD:
        raise Refused(f"The workshop {path} was made by a newer Knollside; open it with that one.")
    if version is not None and version not in _BROUGHT:
        raise Refused(
            f"{path} says that it is of version {version[:20]!r}, which there never was. Nothing was changed."
        )
    if version is not None:
        keep_copy(path, f"before version {HEAD}")
    # Imported late: needed only when something changes, and start-up should not pay for it.
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations").replace("%", "%%"))
    with engine.begin() as connection:
        if version is not None and not said:
            connection.exec_driver_sql("CREATE TABLE IF NOT EXISTS alembic_version (version_num VARCHAR(32) NOT NULL)")
            connection.execute(text("INSERT INTO alembic_version VALUES (:v)"), {"v": version})
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        made = connection.execute(text("SELECT version_num FROM alembic_version")).scalar()
        if made != HEAD:
            raise Refused(f"The workshop {path} could not be brought to version {HEAD}.")
