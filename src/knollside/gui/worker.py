"""Long work, run aside in one process of its own, with progress and cancel.

A process, not a thread: the interpreter's lock then never holds up the window, and work that will not stop can be
ended. It is handed questions and nothing else; what it keeps, it keeps by the question's own key.
"""

from __future__ import annotations

import itertools
import logging
import multiprocessing as mp
import os
import queue
import threading
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any, Literal

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from knollside.core.job.ask import MESH_GONE, Answerer, Meshes, MeshKey, Question, meshes_in
from knollside.core.model import Cancelled, Refused
from knollside.gui.channel import receive, send

_GRACE_MS = 1500  # after a cancel, before the process is ended
_RETRIES = 2  # of handing meshes over
# How the worker begins: a clean process, that has nothing of the window.
START: Literal["spawn", "forkserver"] = "spawn"
log = logging.getLogger("knollside.worker")


@dataclass(frozen=True)
class Outcome:
    """What came of a request: a result, a refusal in words, or a cancel (by the person, or to make room)."""

    name: str
    question: Question[Any]
    result: Any = None
    refused: str = ""
    cancelled: bool = False
    by_person: bool = False
    once: bool = False

    @property
    def key(self) -> str:
        return self.question.key


@dataclass(frozen=True)
class Request:
    """A question under the name it is shown by; ``behind`` yields to everything else."""

    name: str
    question: Question[Any]
    behind: bool = False
    once: bool = False

    @property
    def key(self) -> str:
        return self.question.key


@dataclass
class _Running:
    number: int
    request: Request
    retries: int = 0
    by_person: bool = False


def serve(pipe: Connection, stop: Any) -> None:
    """The worker's own loop."""
    os.environ["OPENBLAS_NUM_THREADS"] = "1"
    os.nice(5)
    answerer = Answerer(Meshes())
    while True:
        try:
            what, *rest = receive(pipe)
        except (EOFError, OSError, KeyboardInterrupt):
            return
        if what == "mesh":
            answerer.meshes.put(rest[1], rest[0])
            continue
        number, question = rest
        missing = [f for f in meshes_in(question) if f not in answerer.meshes]
        try:
            send(pipe, (number, "missing", missing) if missing else _answered(pipe, stop, answerer, number, question))
        except (OSError, ValueError):
            return


def _answered(
    pipe: Connection, stop: Any, answerer: Answerer, number: int, question: Question[Any]
) -> tuple[int, str, Any]:
    last = [-1.0]

    def tick(share: float, words: str) -> None:
        if number <= stop.value:
            raise Cancelled
        if share - last[0] > 0.01:
            last[0] = share
            send(pipe, (number, "progress", (share, words)))

    answerer.use(tick)
    try:
        tick(0.0, "starting")
        return number, "done", answerer(question)
    except Cancelled:
        return number, "cancelled", None
    except Refused as refusal:
        return number, "refused", str(refusal)
    except MemoryError:
        return number, "refused", "There is not enough memory for this. Ask for fewer cells, or close something."
    except Exception as error:
        words = f"Something went wrong inside: {type(error).__name__}: {error}"
        return number, "stumbled", (words, traceback.format_exc())


class Worker(QObject):
    """The one worker. Signals: ``progress`` (name, share 0..1, words), ``finished`` (:class:`Outcome`), ``idle``, and
    ``stumbled`` (words, details) for a fault of the program's own."""

    progress = pyqtSignal(str, float, str)
    finished = pyqtSignal(object)
    idle = pyqtSignal()
    stumbled = pyqtSignal(str, str)
    _arrived = pyqtSignal(object)

    def __init__(self, meshes: Meshes | None = None) -> None:
        super().__init__()
        self.meshes = meshes if meshes is not None else Meshes()
        self._context: Any = mp.get_context(START)
        self._numbers = itertools.count(1)
        self._planned: list[Request] = []
        self._once: list[Request] = []
        self._now: _Running | None = None
        self._process: Any = None
        self._closed = False
        self._arrived.connect(self._on_message)
        self._start()

    # The process

    def _start(self) -> None:
        # Every request up to this number is to stop; set before the worker has even begun, it still counts.
        self._stop = self._context.Value("q", 0)
        self._pipe, theirs = self._context.Pipe()
        self._process = self._context.Process(target=serve, args=(theirs, self._stop), daemon=True)
        self._process.start()
        theirs.close()
        self._handed: set[str] = set()
        self._out: queue.SimpleQueue[Callable[[Connection], None] | None] = queue.SimpleQueue()
        threading.Thread(target=self._listen, args=(self._pipe,), daemon=True).start()
        threading.Thread(target=self._send_all, args=(self._pipe, self._out), daemon=True).start()

    def _listen(self, pipe: Connection) -> None:
        while True:
            try:
                message = receive(pipe)
            except (EOFError, OSError, TypeError):
                message = None
            try:
                self._arrived.emit((pipe, message))
            except RuntimeError:  # the window is gone
                return
            if message is None:
                return

    def _send_all(self, pipe: Connection, out: queue.SimpleQueue[Callable[[Connection], None] | None]) -> None:
        """A thread of its own: a large mesh never holds up the window."""
        while True:
            act = out.get()
            if act is None:
                return
            try:
                act(pipe)
            except (OSError, ValueError):
                return  # the listener notices the broken pipe

    def _hand_over(self, number: int, question: Question[Any], again: list[str]) -> None:
        wanted = sorted((meshes_in(question) - self._handed) | set(again))
        self._handed |= set(wanted)
        meshes = self.meshes

        def act(pipe: Connection) -> None:
            for fingerprint in wanted:
                if fingerprint in meshes:
                    send(pipe, ("mesh", fingerprint, meshes.get(MeshKey(fingerprint))))
            send(pipe, ("answer", number, question))

        self._out.put(act)

    # Asking

    @property
    def busy_with(self) -> str:
        return self._now.request.name if self._now else ""

    @property
    def waiting_names(self) -> set[str]:
        """What runs and what waits, background work left out."""
        now = [self._now.request] if self._now else []
        return {r.name for r in (*now, *self._once, *self._planned) if not r.behind}

    def waiting(self, name: str) -> bool:
        return self.busy_with == name or any(r.name == name for r in (*self._once, *self._planned))

    def plan(self, wanted: list[Request]) -> None:
        """What is to be answered, in this order, in place of what was planned before. What runs and is not wanted any
        more is stopped; background work makes room for all else."""
        now = self._now
        if now is not None and not now.request.once:
            mine = next((r for r in wanted if r.key == now.request.key), None)
            others = [r for r in wanted if r is not mine]
            if mine is None or (now.request.behind and mine.behind and any(not r.behind for r in others)):
                self._stop.value = now.number
            else:
                wanted = others
        self._planned = wanted
        self._next()

    def once(self, name: str, question: Question[Any]) -> None:
        """Something to be done once and first, like reading a file; the same name asked again takes its place."""
        self._once = [r for r in self._once if r.name != name] + [Request(name, question, once=True)]
        if self._now is not None and self._now.request.behind:
            self._stop.value = self._now.number
        self._next()

    def cancel(self) -> None:
        """Stop what runs and forget what waits, as the person asked."""
        dropped = [*self._once, *(r for r in self._planned if not r.behind)]
        self._planned, self._once = [], []
        for r in dropped:
            self.finished.emit(Outcome(r.name, r.question, cancelled=True, by_person=True, once=r.once))
        if self._now is not None:
            self._now.by_person = True
            number = self._stop.value = self._now.number
            QTimer.singleShot(_GRACE_MS, lambda: self._end(number))

    def _end(self, number: int) -> None:
        if self._now is not None and self._now.number == number and self._process is not None:
            self._process.terminate()

    def _next(self) -> None:
        if self._closed or self._now is not None:
            return
        shelf = self._once or self._planned
        if not shelf:
            self.idle.emit()
            return
        request = shelf.pop(0)
        self._now = _Running(next(self._numbers), request)
        self.progress.emit(request.name, 0.0, "starting")
        self._hand_over(self._now.number, request.question, [])

    def _restart(self, words: str, cancelled: bool) -> None:
        gone, self._now = self._now, None
        self._out.put(None)
        self._start()
        if gone is not None:
            r = gone.request
            refused = "" if cancelled else words
            self.finished.emit(Outcome(r.name, r.question, None, refused, cancelled, gone.by_person, r.once))
        self._next()

    def _on_message(self, packet: tuple[Connection, Any]) -> None:
        pipe, message = packet
        if pipe is not self._pipe or self._closed:
            return
        if message is None:
            stopped = self._now is not None and self._now.number <= self._stop.value
            self._restart("The work ended unexpectedly (memory may be short). Nothing stored was touched.", stopped)
            return
        number, kind, body = message
        now = self._now
        if now is None or number != now.number:
            return
        if kind == "progress":
            self.progress.emit(now.request.name, *body)
        elif kind == "missing" and now.retries < _RETRIES:
            now.retries += 1
            self._hand_over(number, now.request.question, list(body))
        else:
            self._done(now, kind, body)

    def _done(self, now: _Running, kind: str, body: Any) -> None:
        self._now = None
        refused = ""
        if kind == "refused":
            refused = body
        elif kind == "missing":
            refused = MESH_GONE
        elif kind == "stumbled":
            refused, details = body
            log.error("%s: %s\n%s", now.request.name, refused, details)
            self.stumbled.emit(refused, details)
        r = now.request
        done = body if kind == "done" else None
        self.finished.emit(Outcome(r.name, r.question, done, refused, kind == "cancelled", now.by_person, r.once))
        self._next()

    def close(self) -> None:
        self._closed = True
        process, self._process = self._process, None
        self._out.put(None)
        if process is not None:
            process.terminate()
            process.join(2)
        self._pipe.close()
