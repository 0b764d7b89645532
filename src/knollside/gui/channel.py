"""Handing large records between the window and its worker without copying them through a pipe.

Arrays travel in a memory file of their own that the far side maps; the pipe carries only what is left. Both ends are
this program, so pickle is safe here; what comes from foreign files never travels this way.
"""

from __future__ import annotations

import contextlib
import mmap
import os
import pickle
import tempfile
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

_LARGE = 256 * 1024  # bytes of one array from which it is worth a file
_FOLDER = next((f for f in ("/dev/shm", tempfile.gettempdir()) if os.access(f, os.W_OK)), tempfile.gettempdir())
_ALIGN = 64


def send(pipe: Connection, message: Any) -> None:
    """Send a message; raises :class:`OSError` where the far side is gone."""
    aside: list[pickle.PickleBuffer] = []

    def large(buffer: pickle.PickleBuffer) -> bool:
        # Told to keep it in the stream (true), or taken aside (false).
        if buffer.raw().nbytes < _LARGE:
            return True
        aside.append(buffer)
        return False

    head = pickle.dumps(message, protocol=5, buffer_callback=large)
    name, sizes = _put_aside(aside) if aside else ("", [])
    try:
        pipe.send_bytes(pickle.dumps((name, sizes)))
        pipe.send_bytes(head)
    except (OSError, ValueError):
        if name:
            Path(name).unlink(missing_ok=True)
        raise


def _put_aside(buffers: list[pickle.PickleBuffer]) -> tuple[str, list[int]]:
    handle, name = tempfile.mkstemp(prefix="knollside-", dir=_FOLDER)
    sizes = []
    try:
        with os.fdopen(handle, "wb") as out:
            for b in buffers:
                raw = b.raw()
                sizes.append(raw.nbytes)
                out.write(raw)
                out.write(b"\0" * (-raw.nbytes % _ALIGN))
    except OSError:
        with contextlib.suppress(OSError):
            os.unlink(name)
        raise
    return name, sizes


def receive(pipe: Connection) -> Any:
    """The next message; raises :class:`EOFError` or :class:`OSError` where the far side is gone."""
    name, sizes = pickle.loads(pipe.recv_bytes())
    head = pipe.recv_bytes()
    if not name:
        return pickle.loads(head)
    with open(name, "rb") as source:
        # A private map: arrays in it can be written to like any other, and stay when the name is gone.
        whole = mmap.mmap(source.fileno(), 0, flags=mmap.MAP_PRIVATE, prot=mmap.PROT_READ | mmap.PROT_WRITE)
    os.unlink(name)
    view, at, parts = memoryview(whole), 0, []
    for size in sizes:
        parts.append(view[at : at + size])
        at += size + (-size % _ALIGN)
    return pickle.loads(head, buffers=parts)
