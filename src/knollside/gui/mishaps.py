"""What goes wrong inside: kept in a log on this machine, told in a sentence, its details there to be copied.

Nothing leaves the machine by itself.
"""

from __future__ import annotations

import contextlib
import faulthandler
import hashlib
import logging
import logging.handlers
import sys
import threading
import traceback
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QObject, pyqtSignal

log = logging.getLogger("knollside")
_MOST_BYTES, _OLDER = 500_000, 3
TOLD = "Something went wrong inside. What is stored was not touched; what you just did may not have happened."


def state_folder() -> Path:
    """Where the log is kept."""
    import platformdirs

    return Path(platformdirs.user_state_dir("knollside"))


def keep_log(folder: Path) -> None:
    """Log to a file that never grows past its size, and have the stack of every thread written where native code
    ends the process. A folder that cannot be written to costs the log, nothing else."""
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        kept = logging.handlers.RotatingFileHandler(
            folder / "knollside.log", maxBytes=_MOST_BYTES, backupCount=_OLDER, encoding="utf-8"
        )
        ends = folder / "ended.log"
        long = ends.exists() and ends.stat().st_size > _MOST_BYTES
        ended = ends.open("w" if long else "a", encoding="utf-8")  # held open for as long as the process lives
    except OSError:
        return
    kept.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    log.addHandler(kept)
    log.setLevel(logging.INFO)
    faulthandler.enable(ended)


class Mishaps(QObject):
    """Takes every exception that nothing else took, of any thread. ``happened``: a sentence, and the details."""

    happened = pyqtSignal(str, str)

    def install(self) -> None:
        sys.excepthook = self._take
        threading.excepthook = lambda a: self._take(a.exc_type, a.exc_value, a.exc_traceback)

    def _take(self, kind: type[BaseException], error: BaseException | None, where: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error or kind(), where)
            return
        details = "".join(traceback.format_exception(kind, error, where))
        log.error("%s", details)
        self.happened.emit(TOLD, details)


class Running:
    """A mark that a window is open on a workshop; found at the start, the last one did not end as it should."""

    def __init__(self, folder: Path, workshop: Path) -> None:
        name = hashlib.sha256(str(workshop.resolve()).encode("utf-8", "surrogateescape")).hexdigest()[:16]
        self._mark = folder / f"{name}.open"
        self.crashed = self._mark.exists()
        with contextlib.suppress(OSError):
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._mark.touch()

    def done(self) -> None:
        """The window was closed as it should be."""
        with contextlib.suppress(OSError):
            self._mark.unlink(missing_ok=True)
