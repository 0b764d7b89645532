"""Opening a workshop file: locked to one window, brought up to date, set to survive a pulled plug."""

from __future__ import annotations

import fcntl
import os
import sqlite3
from pathlib import Path

from sqlalchemy import Engine, create_engine, event, text

from knollside.core.model import Refused

HEAD = "0003"


class Lock:
    """A lock file beside the workshop; the system lets go of it if the program dies."""

    def __init__(self, path: Path) -> None:
        self._path = path.with_name(path.name + ".lock")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._handle = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o600)
        except OSError as error:
            raise Refused(f"The workshop folder {path.parent} cannot be written: {error.strerror or error}.") from None
        try:
            fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(self._handle)
            raise Refused(
                f"The workshop {path.name} is already open in another window. Use that one, or close it first."
            ) from None

    def release(self) -> None:
        os.close(self._handle)


def open_engine(path: Path) -> Engine:
    """Engine on the file, migrated to the newest version. Raises :class:`Refused`."""
    if path.exists() and not os.access(path, os.W_OK):
        raise Refused(f"The workshop {path} is read-only. Nothing was changed; make it writable or choose another.")
    engine = create_engine(f"sqlite:///{path}")

    @event.listens_for(engine, "connect")
    def _set_up(connection: sqlite3.Connection, _: object) -> None:
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA foreign_keys=ON")
        connection.execute("PRAGMA synchronous=FULL")

    try:
        _migrate(engine)
    except Exception as error:
        engine.dispose()
        raise Refused(f"The workshop {path} could not be opened: {error}.".replace("\n", " ")) from None
    return engine


def _migrate(engine: Engine) -> None:
    with engine.connect() as connection:
        known = connection.execute(text("SELECT name FROM sqlite_master WHERE name = 'alembic_version'")).first()
        if known is not None:
            version = connection.execute(text("SELECT version_num FROM alembic_version")).scalar()
            if version == HEAD:
                return
            if version is not None and version > HEAD:
                raise Refused("it was made by a newer Knollside")
    # Imported late: needed only when something changes, and start-up should not pay for it.
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
