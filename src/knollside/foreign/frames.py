"""What the reading process sends back: one JSON head and plain arrays. Nothing in it can run."""

from __future__ import annotations

import json
import struct
from collections.abc import Mapping
from typing import Any, BinaryIO

import numpy as np

from knollside.core.model import Array

_MAGIC = b"KNLF1\n"
_MOST_HEAD = 64 * 2**20
_KINDS = {"<f8", "<i8", "|u1"}


def write_frame(out: BinaryIO, head: Mapping[str, Any], arrays: Mapping[str, Array]) -> None:
    """Send ``head`` (plain JSON values) and ``arrays`` of float64, int64 or uint8."""
    plain = {name: np.ascontiguousarray(a, _plain(a)) for name, a in arrays.items()}
    shapes = [[name, a.dtype.str, list(a.shape)] for name, a in plain.items()]
    text = json.dumps({"head": dict(head), "arrays": shapes}).encode()
    out.write(_MAGIC + struct.pack("<Q", len(text)) + text)
    for a in plain.values():
        out.write(a.data)


def _plain(a: Array) -> str:
    return "<f8" if a.dtype.kind == "f" else "|u1" if a.dtype == np.uint8 else "<i8"


def read_frame(data: bytes | memoryview) -> tuple[dict[str, Any], dict[str, Array]]:
    """The head and arrays of a frame. Raises :class:`ValueError` for anything that is none."""
    view = memoryview(data)
    if bytes(view[: len(_MAGIC)]) != _MAGIC:
        raise ValueError("not a frame")
    at = len(_MAGIC) + 8
    (size,) = struct.unpack("<Q", view[len(_MAGIC) : at])
    if size > _MOST_HEAD or at + size > len(view):
        raise ValueError("a frame's head is cut short")
    told = json.loads(bytes(view[at : at + size]))
    at += size
    arrays: dict[str, Array] = {}
    for name, kind, shape in told["arrays"]:
        if kind not in _KINDS or not all(isinstance(n, int) and 0 <= n < 2**40 for n in shape):
            raise ValueError("an array of no known kind")
        count = int(np.prod(shape, dtype=object)) if shape else 1
        width = np.dtype(kind).itemsize
        if at + count * width > len(view):
            raise ValueError("an array is cut short")
        arrays[name] = np.frombuffer(view, kind, count, at).reshape(shape).copy()
        at += count * width
    if at != len(view):
        raise ValueError("a frame is too long")
    return told["head"], arrays
