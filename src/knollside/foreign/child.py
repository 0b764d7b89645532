"""The reading process: limits itself, reads one file from its standard input, answers with a frame, and ends.

Started with an environment of its own and nothing of the window's; whatever a file does to it dies with it.
"""

from __future__ import annotations

import os
import resource
import sys
from collections.abc import Callable
from typing import Any

Answer = tuple[dict[str, Any], dict[str, Any]]


def _limit(memory_mb: int, seconds: int) -> None:
    for what, most in (
        (resource.RLIMIT_AS, memory_mb * 2**20),
        (resource.RLIMIT_CPU, seconds),
        (resource.RLIMIT_FSIZE, 2**30),
        (resource.RLIMIT_CORE, 0),
        (resource.RLIMIT_NOFILE, 64),
    ):
        resource.setrlimit(what, (most, most))


def _mesh(data: bytes, name: str, exactly: str) -> Answer:
    from knollside.core.mesh.load import load_bytes

    found = load_bytes(data, name, exactly)
    head = {"name": found.name, "kind": found.kind, "notes": list(found.notes), "away": list(found.away)}
    return head, {"vertices": found.mesh.vertices, "faces": found.mesh.faces}


def _job(data: bytes, name: str, _: str) -> Answer:
    from knollside.core.job.file import parse_job, write_job

    return {"text": write_job(parse_job(_text(data, name), name))}, {}


def _table(data: bytes, name: str, _: str) -> Answer:
    from knollside.core.learning.readingstable import read_readings

    return {"readings": [m.model_dump(mode="json") for m in read_readings(_text(data, name), name)]}, {}


def _toolpath(data: bytes, name: str, _: str) -> Answer:
    import numpy as np

    from knollside.core.run.gcode import parse_gcode

    t = parse_gcode(np.frombuffer(data, np.uint8), name)
    arrays = {k: getattr(t, k) for k in ("at", "pushed", "speed", "length", "line", "nozzle", "bed", "fan")}
    return {"notes": list(t.notes)}, arrays


def _workshop(data: bytes, name: str, _: str) -> Answer:
    import numpy as np

    from knollside.foreign.photo import made_small
    from knollside.store.whole import PHOTOS, THUMBS, parse_whole

    told, raw = parse_whole(data, name)
    # Pictures are made anew too: a workshop file is as foreign as any other.
    for photo in [k for k in raw if k.startswith(PHOTOS)]:
        raw[photo], raw[f"{THUMBS}{photo}"] = made_small(raw[photo], photo)
    raw[""] = told.model_dump_json(exclude_defaults=True).encode()
    return {}, {k: np.frombuffer(v, np.uint8) for k, v in raw.items()}


def _photo(data: bytes, name: str, _: str) -> Answer:
    import numpy as np

    from knollside.foreign.photo import made_small

    picture, thumb = made_small(data, name)
    return {}, {"picture": np.frombuffer(picture, np.uint8), "thumb": np.frombuffer(thumb, np.uint8)}


def _text(data: bytes, name: str) -> str:
    from knollside.core.model import Refused

    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        raise Refused(f"{name} is not a text file.") from None


READERS: dict[str, Callable[[bytes, str, str], Answer]] = {
    "mesh": _mesh,
    "step": _mesh,
    "job": _job,
    "table": _table,
    "toolpath": _toolpath,
    "workshop": _workshop,
    "photo": _photo,
}


def main(argv: list[str]) -> int:
    """``KIND NAME MOST_BYTES MEMORY_MB SECONDS EXACTLY``; the file is standard input, the frame standard output."""
    kind, name, most, memory, seconds = argv[0], argv[1], int(argv[2]), int(argv[3]), int(argv[4])
    exactly = argv[5]
    _limit(memory, seconds)
    out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what a library prints must not get into the answer
    from knollside.core.model import Refused
    from knollside.foreign.frames import write_frame

    try:
        data = sys.stdin.buffer.read(most + 1)
        if len(data) > most:
            raise Refused(f"{name} is over {most / 2**20:.0f} MB; that much is not read.")
        head, arrays = READERS[kind](data, name, exactly)
        write_frame(out, head, arrays)
    except Refused as refusal:
        write_frame(out, {"refused": str(refusal)}, {})
    except (MemoryError, RecursionError):
        words = f"{name} asks for more memory than the limit of {memory} MB; KNOLLSIDE_READ_MB raises it."
        write_frame(out, {"refused": words}, {})
    except Exception as error:  # a reader that stumbles has met a file that is not what it says
        write_frame(out, {"refused": f"{name} is damaged: it could not be read ({type(error).__name__})."}, {})
    out.flush()
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
