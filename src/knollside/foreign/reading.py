"""Reading a foreign file from the near side: only regular files, a process of its own, and limits on everything."""

from __future__ import annotations

import os
import select
import signal
import stat
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from knollside.core.job.file import MAX_BYTES as MOST_JOB
from knollside.core.job.file import Job, parse_job
from knollside.core.mesh.load import KINDS, MAX_BYTES, Loaded
from knollside.core.model import Array, Measurement, Mesh, Refused
from knollside.core.run.gcode import MOST_BYTES, Toolpath
from knollside.foreign.frames import read_frame

Beat = Callable[[], None]  # called while waiting; raises to give up
_KEPT_ENVIRONMENT = ("PATH", "HOME", "LANG", "LC_ALL", "TMPDIR", "NUMBA_CACHE_DIR", "VIRTUAL_ENV", "SYSTEMROOT")


@dataclass(frozen=True)
class Limits:
    """Most bytes read of a file, most memory and seconds of its reader, and most bytes it may answer."""

    file_bytes: int
    memory_mb: int
    seconds: int
    answer_bytes: int = 2**31


_MORE = {"memory_mb": "KNOLLSIDE_READ_MB", "seconds": "KNOLLSIDE_READ_SECONDS"}  # raised by the person, never lowered
LIMITS = {
    "mesh": Limits(MAX_BYTES, 6000, 120),
    "step": Limits(MAX_BYTES, 2000, 20),
    "job": Limits(MOST_JOB, 2000, 20, 2**26),
    "table": Limits(2_000_000, 2000, 20, 2**26),
    "toolpath": Limits(MOST_BYTES, 8000, 120),
    "photo": Limits(64 * 2**20, 4000, 30, 2**26),
    "workshop": Limits(512 * 2**20, 2000, 20),
}


def limits_of(kind: str) -> Limits:
    """The limits of a kind of file, as the person may have raised them in the environment."""
    raised = {}
    for name, variable in _MORE.items():
        told = os.environ.get(variable, "")
        if told.isdigit():
            raised[name] = min(max(int(told), getattr(LIMITS[kind], name)), 10**6)
    return replace(LIMITS[kind], **raised)


def read_mesh(path: str | Path, beat: Beat | None = None, exactly: str = "") -> Loaded:
    """A mesh file of any kind, in millimetres as the file has it; one of the fingerprint ``exactly`` just as it is.
    Raises :class:`Refused`."""
    path = Path(path)
    if path.suffix.lower() not in KINDS:
        ending = path.suffix or "no ending"
        raise Refused(f"{path.name}: '{ending}' is not a mesh file. It reads {', '.join(KINDS)}.")
    kind = "step" if path.suffix.lower() in (".step", ".stp") else "mesh"
    head, arrays = _read(kind, path, beat, exactly)
    mesh = Mesh(arrays["vertices"].reshape(-1, 3), arrays["faces"].reshape(-1, 3))
    x, y, z = (float(v) for v in head["away"])
    return Loaded(mesh, str(head["name"]), str(head["kind"]), tuple(str(n) for n in head["notes"]), (x, y, z))


def read_job_file(path: str | Path, beat: Beat | None = None) -> Job:
    """A job file. Raises :class:`Refused` naming the field that is wrong."""
    head, _ = _read("job", Path(path), beat)
    return parse_job(str(head["text"]), Path(path).name)


def read_table(path: str | Path, beat: Beat | None = None) -> tuple[Measurement, ...]:
    """Readings of a CSV file, all or none. Raises :class:`Refused` naming the row and column that is wrong."""
    head, _ = _read("table", Path(path), beat)
    return tuple(Measurement.model_validate(m) for m in head["readings"])


def read_toolpath(path: str | Path, beat: Beat | None = None) -> Toolpath:
    """Moves of a plain G-code file. Raises :class:`Refused`."""
    head, a = _read("toolpath", Path(path), beat)
    names = ("at", "pushed", "speed", "length", "line", "nozzle", "bed", "fan")
    notes = tuple(str(n) for n in head["notes"])
    return Toolpath(notes=notes, **{n: a[n] for n in names})


def read_photo(path: str | Path, beat: Beat | None = None) -> tuple[bytes, bytes]:
    """A picture and its thumbnail, as JPEG with nothing else in them. Raises :class:`Refused`."""
    _, arrays = _read("photo", Path(path), beat)
    return arrays["picture"].tobytes(), arrays["thumb"].tobytes()


def read_whole(path: str | Path, beat: Beat | None = None) -> tuple[str, dict[str, bytes]]:
    """A whole workshop's records as JSON text, checked, and its meshes' bytes. Raises :class:`Refused`."""
    _, arrays = _read("workshop", Path(path), beat)
    text = arrays.pop("").tobytes().decode()
    return text, {k: a.tobytes() for k, a in arrays.items()}


def _read(kind: str, path: Path, beat: Beat | None, exactly: str = "") -> tuple[dict[str, Any], dict[str, Array]]:
    limits = limits_of(kind)
    handle = open_regular(path, limits.file_bytes)
    try:
        data, code = _run([kind, path.name[:200]], handle, limits, beat or (lambda: None), exactly)
    finally:
        os.close(handle)
    if code is None:
        raise Refused(
            f"{path.name} took longer to read than the limit of {limits.seconds} s and was given up. "
            f"{_MORE['seconds']} raises it."
        )
    try:
        head, arrays = read_frame(data)
    except ValueError:
        if code == -signal.SIGXCPU:
            why = f"it takes longer than the limit of {limits.seconds} s ({_MORE['seconds']} raises it)"
        elif code in (-signal.SIGKILL, -signal.SIGABRT, 1):
            why = (
                f"it is damaged, or needs more than the limit of {limits.memory_mb} MB ({_MORE['memory_mb']} raises it)"
            )
        else:
            why = "it is damaged"
        raise Refused(f"{path.name} could not be read: {why}. Nothing else was touched.") from None
    if "refused" in head:
        raise Refused(str(head["refused"]))
    return head, arrays


def open_regular(path: Path, most: int) -> int:
    """A descriptor of a regular file of at most so many bytes; raises :class:`Refused` for pipes, devices, folders."""
    try:
        # Not to wait for ever at a pipe without a writer.
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY)
    except (OSError, ValueError) as error:
        reason = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
        raise Refused(f"{path.name} could not be read: {reason}.") from None
    state = os.fstat(handle)
    if not stat.S_ISREG(state.st_mode):
        os.close(handle)
        raise Refused(f"{path.name} is no regular file; only those are read.")
    if state.st_size > most:
        os.close(handle)
        raise Refused(f"{path.name} is {state.st_size / 1e6:.0f} MB; the limit is {most // 2**20} MB.")
    return handle


def _run(what: list[str], handle: int, limits: Limits, beat: Beat, exactly: str) -> tuple[bytes, int | None]:
    """What the reader answered, and how it ended (None: it ran out of time)."""
    environment = {k: os.environ[k] for k in _KEPT_ENVIRONMENT if k in os.environ}
    environment |= {"OPENBLAS_NUM_THREADS": "1", "NUMBA_NUM_THREADS": "1", "PYTHONIOENCODING": "utf-8"}
    told = [*what, str(limits.file_bytes), str(limits.memory_mb), str(limits.seconds), exactly]
    child = subprocess.Popen(
        [sys.executable, "-m", "knollside.foreign.child", *told],
        stdin=handle,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        env=environment,
        cwd="/",
        close_fds=True,
        start_new_session=True,
    )
    assert child.stdout is not None
    got: list[bytes] = []
    end, size = time.monotonic() + limits.seconds, 0
    try:
        while True:
            beat()
            if time.monotonic() > end:
                return b"", None
            if not select.select([child.stdout], [], [], 0.05)[0]:
                continue
            piece = os.read(child.stdout.fileno(), 2**20)
            if not piece:
                return b"".join(got), child.wait(timeout=5)
            got.append(piece)
            size += len(piece)
            if size > limits.answer_bytes:
                return b"", -signal.SIGKILL
    finally:
        if child.poll() is None:
            child.kill()
            child.wait()
        child.stdout.close()
