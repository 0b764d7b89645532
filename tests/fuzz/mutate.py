"""Whole files made broken: bytes, words, numbers and pieces of them changed."""

from __future__ import annotations

import re
from collections.abc import Callable

import numpy as np

Rng = np.random.Generator

# Numbers and words that readers have stumbled over, or might.
HOSTILE = (
    *(b"0", b"-0", b"-1", b"1e308", b"1e999", b"-1e-320", b"nan", b"inf", b"-inf", b"NaN", b"1_000", b"0x10", b"1,5"),
    *(b"9" * 300, b"." * 40, b"2147483648", b"-9223372036854775809", b"4294967295", b"null", b"true", b"[]", b"{}"),
    *(b'""', b"\x00", b"\xff\xfe", "ﬁ".encode(), b"../../etc/passwd", b"%s%n", b"G002", b"G+2", b"G1.6", b"G2G2G2"),
    *(b"&#x41;", b"<!--", b"]]>", b";", b"\r", b"\n\n", b"\t" * 50, b"(" * 200, b"[" * 200),
)
_NUMBER = re.compile(rb"[-+]?\d+\.?\d*(?:[eE][-+]?\d+)?")


def _bytes(data: bytes, rng: Rng) -> bytes:
    torn = bytearray(data)
    for at in rng.integers(0, len(torn), rng.integers(1, 12)):
        torn[at] = rng.integers(0, 256)
    return bytes(torn)


def _bits(data: bytes, rng: Rng) -> bytes:
    torn = bytearray(data)
    for at in rng.integers(0, len(torn), rng.integers(1, 6)):
        torn[at] ^= 1 << int(rng.integers(0, 8))
    return bytes(torn)


def _cut(data: bytes, rng: Rng) -> bytes:
    return data[: int(rng.integers(0, len(data)))]


def _without(data: bytes, rng: Rng) -> bytes:
    a, b = sorted(rng.integers(0, len(data), 2))
    return data[:a] + data[min(b, a + 400) :]


def _twice(data: bytes, rng: Rng) -> bytes:
    a, b = sorted(rng.integers(0, len(data), 2))
    piece = data[a : min(b, a + 400)]
    return data[:b] + piece * int(rng.integers(1, 8)) + data[b:]


def _number(data: bytes, rng: Rng) -> bytes:
    found = list(_NUMBER.finditer(data))
    for _ in range(int(rng.integers(1, 4))):
        if found:
            m = found[int(rng.integers(len(found)))]
            data = data[: m.start()] + HOSTILE[int(rng.integers(len(HOSTILE)))] + data[m.end() :]
            found = list(_NUMBER.finditer(data))
    return data


def _word(data: bytes, rng: Rng) -> bytes:
    at = int(rng.integers(0, len(data) + 1))
    return data[:at] + HOSTILE[int(rng.integers(len(HOSTILE)))] + data[at:]


def _lines(data: bytes, rng: Rng) -> bytes:
    lines = data.split(b"\n")
    i, j = rng.integers(0, len(lines), 2)
    lines[i], lines[j] = lines[j], lines[i]
    return b"\n".join(lines)


ORIENTATIONS: tuple[Callable[[bytes, Rng], bytes], ...] = (
    _bytes,
    _bits,
    _cut,
    _without,
    _twice,
    _number,
    _word,
    _lines,
)


def broken(data: bytes, rng: Rng) -> bytes:
    """``data`` broken in one to three ways; never the same for two states of ``rng``."""
    for _ in range(int(rng.integers(1, 4))):
        if data:
            data = ORIENTATIONS[int(rng.integers(len(ORIENTATIONS)))](data, rng)
    return data
