"""Long work, run aside in one process of its own, with progress and cancel.

A process, not a thread: the interpreter's lock then never holds up the window,
and work that will not stop can be ended. Tasks run one after another; a newer
request of the same name takes the place of a waiting one, and background work
yields to everything else.
"""

from __future__ import annotations

import itertools
import multiprocessing as mp
import os
import threading
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from knollside.core.model import Cancelled, Refused

BACKGROUND = frozenset({"trust", "units"})  # work nobody waits for: it yields to everything else
_GRACE_MS = 1500  # after a cancel, before the process is ended


@dataclass(frozen=True)
class Outcome:
    """What came of a request: a result, a refusal in words, or a cancel."""

    name: str
    key: object
    result: Any = None
    refused: str = ""
    cancelled: bool = False


@dataclass
class _Request:
    number: int
    name: str
    key: object
    task: Callable[..., Any]
    arguments: tuple[Any, ...]


def _serve(pipe: Connection, stop: Any) -> None:
    os.environ["OPENBLAS_NUM_THREADS"] = "1"
    os.nice(5)
    while True:
        try:
            number, task, arguments = pipe.recv()
        except (EOFError, KeyboardInterrupt):
            return
        last = [-1.0]

        def tick(share: float, text: str, number: int = number, last: list[float] = last) -> None:
            if number <= stop.value:
                raise Cancelled
            if share - last[0] > 0.01:
                last[0] = share
                pipe.send((number, "progress", (share, text)))

        try:
            pipe.send((number, "done", task(*arguments, tick=tick)))
        except Cancelled:
            pipe.send((number, "cancelled", None))
        except Refused as refusal:
            pipe.send((number, "refused", str(refusal)))
        except MemoryError:
            pipe.send(
                (number, "refused", "There is not enough memory for this. Ask for fewer cells, or close something.")
            )
        except Exception as error:
            pipe.send((number, "refused", f"Something went wrong inside: {type(error).__name__}: {error}"))


class Work(QObject):
    """The one worker. Signals: ``progress`` (name, share 0..1, words), ``finished`` (:class:`Outcome`)."""

    progress = pyqtSignal(str, float, str)
    finished = pyqtSignal(object)
    idle = pyqtSignal()
    _arrived = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self._context = mp.get_context("spawn")
        self._numbers = itertools.count(1)
        self._waiting: list[_Request] = []
        self._now: _Request | None = None
        self._process: Any = None
        self._arrived.connect(self._on_message)
        self._start()

    def _start(self) -> None:
        # Every request up to this number is to stop; set before the worker has even begun, it still counts.
        self._stop = self._context.Value("q", 0)
        self._pipe, theirs = self._context.Pipe()
        self._process = self._context.Process(target=_serve, args=(theirs, self._stop), daemon=True)
        self._process.start()
        theirs.close()
        threading.Thread(target=self._listen, args=(self._pipe,), daemon=True).start()

    def _listen(self, pipe: Connection) -> None:
        while True:
            try:
                message = pipe.recv()
            except (EOFError, OSError):
                message = None
            try:
                self._arrived.emit((pipe, message))
            except RuntimeError:  # the window is gone
                return
            if message is None:
                return

    @property
    def busy_with(self) -> str:
        return self._now.name if self._now else ""

    def waiting(self, name: str) -> bool:
        return self.busy_with == name or any(r.name == name for r in self._waiting)

    def ask(self, name: str, key: object, task: Callable[..., Any], *arguments: Any) -> None:
        """Queue ``task(*arguments, tick=...)``; ``key`` comes back with the outcome."""
        self._waiting = [r for r in self._waiting if r.name != name]
        if self._now is not None and self._now.name == name:
            if self._now.key == key:
                return
            self._stop.value = self._now.number
        elif self._now is not None and self._now.name in BACKGROUND and name not in BACKGROUND:
            # Nobody waits for a check made aside: it makes room and is asked for again by who wanted it.
            self._stop.value = self._now.number
        request = _Request(next(self._numbers), name, key, task, arguments)
        first = len(self._waiting) if name in BACKGROUND else sum(r.name not in BACKGROUND for r in self._waiting)
        self._waiting.insert(first, request)
        self._next()

    def cancel(self) -> None:
        """Stop what runs and forget what waits."""
        self._waiting.clear()
        if self._now is None:
            return
        number = self._stop.value = self._now.number
        QTimer.singleShot(_GRACE_MS, lambda: self._end(number))

    def _end(self, number: int) -> None:
        if self._now is not None and self._now.number == number:
            self._process.terminate()

    def _next(self) -> None:
        if self._now is None and self._waiting:
            self._now = self._waiting.pop(0)
            self.progress.emit(self._now.name, 0.0, "starting")
            try:
                self._pipe.send((self._now.number, self._now.task, self._now.arguments))
            except (BrokenPipeError, OSError):
                self._restart("The worker had stopped; it was started again. Please ask once more.")
        elif self._now is None:
            self.idle.emit()

    def _restart(self, words: str, cancelled: bool = False) -> None:
        gone, self._now = self._now, None
        self._start()
        if gone is not None:
            self.finished.emit(Outcome(gone.name, gone.key, refused="" if cancelled else words, cancelled=cancelled))
        self._next()

    def _on_message(self, packet: tuple[Connection, Any]) -> None:
        pipe, message = packet
        if pipe is not self._pipe:
            return
        if message is None:
            if self._process is not None:
                stopped = self._now is not None and self._now.number <= self._stop.value
                self._restart("The work ended unexpectedly (memory may be short). Nothing stored was touched.", stopped)
            return
        number, kind, body = message
        if self._now is None or number != self._now.number:
            return
        if kind == "progress":
            self.progress.emit(self._now.name, *body)
            return
        done, self._now = self._now, None
        self.finished.emit(
            Outcome(
                done.name,
                done.key,
                body if kind == "done" else None,
                body if kind == "refused" else "",
                kind == "cancelled",
            )
        )
        self._next()

    def close(self) -> None:
        process, self._process = self._process, None
        if process is not None:
            process.terminate()
            process.join(2)
        self._pipe.close()
