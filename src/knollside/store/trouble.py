"""Why the workshop's file could not be read or written, in a true sentence: no engine's words, no guess."""

from __future__ import annotations

import errno
import os
import shutil
import sqlite3
from pathlib import Path

from sqlalchemy.exc import DBAPIError

_LITTLE = 1 << 20  # bytes free under which a disk is called full


def found_damage(error: BaseException) -> bool:
    """Whether an error says that the file's own content is broken, not that it could not be got at."""
    error = _own(error)
    if isinstance(error, sqlite3.OperationalError):
        return _name(error) in ("", "SQLITE_ERROR", "SQLITE_SCHEMA")
    return isinstance(error, sqlite3.DatabaseError | ValueError | KeyError | TypeError)


def words_of(error: BaseException, path: Path) -> str:
    """What hinders, with what is named by its path; nothing is claimed of the file that is not known."""
    error, folder = _own(error), path.parent
    name, number = _name(error), error.errno if isinstance(error, OSError) else None
    if name in ("SQLITE_BUSY", "SQLITE_LOCKED") or number in (errno.EAGAIN, errno.EBUSY):
        return f"another program is using {path.name} just now; close that one and try again"
    if name.startswith("SQLITE_FULL") or number in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG) or _full(folder):
        return f"the disk that holds {folder} is full; make room and try again"
    if not folder.exists():
        return f"the folder {folder} is gone"
    if _read_only(folder):
        return f"the folder {folder} is read-only, and a workshop keeps files of its own there"
    denied = name.startswith(("SQLITE_READONLY", "SQLITE_PERM", "SQLITE_AUTH"))
    if denied or number in (errno.EACCES, errno.EPERM, errno.EROFS):
        return f"{path.name} is read-only"
    if name.startswith("SQLITE_IOERR") or number == errno.EIO:
        return f"the disk that holds {folder} does not write or read what it is asked to"
    if number is not None:
        return (os.strerror(number)[:1].lower() + os.strerror(number)[1:]) + f" ({path.name})"
    return f"{path.name} could not be got at"


def _own(error: BaseException) -> BaseException:
    return error.orig if isinstance(error, DBAPIError) and error.orig is not None else error


def _name(error: BaseException) -> str:
    return str(getattr(error, "sqlite_errorname", ""))


def _read_only(folder: Path) -> bool:
    return not os.access(folder, os.W_OK) or bool(os.statvfs(folder).f_flag & os.ST_RDONLY)


def _full(folder: Path) -> bool:
    try:
        return shutil.disk_usage(folder).free < _LITTLE
    except OSError:
        return False
