"""Questions and how they are answered: one frozen record that names a task, is its only argument, and is its key.

A question's :attr:`~Keyed.key` is the digest of every field that can reach its answer, so two questions are the same
exactly when their inputs are. A question may hold other questions; :class:`Answerer` answers those first and keeps
what it worked out by that key alone, so an answer never depends on what was asked before.
"""

from __future__ import annotations

import hashlib
import struct
from abc import abstractmethod
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, fields, is_dataclass
from datetime import date
from enum import Enum
from functools import cached_property
from pathlib import PurePath
from typing import Any, ClassVar, Generic, TypeVar

import numpy as np
from pydantic import BaseModel
from shapely.geometry.base import BaseGeometry

from knollside.core.model import Mesh, Refused

T = TypeVar("T")
MESH_GONE = "The mesh this rests on is not at hand any more; open the part again."
Tick = Callable[[float, str], None]


def digest(value: object) -> str:
    """SHA-256 of a record and all it holds, by type, field name and value (floats by their bits).

    Takes None, bool, int, float, str, bytes, paths, enums, tuples, frozensets and mappings of these, arrays, plane
    shapes, frozen dataclasses and pydantic records. Raises :class:`TypeError` for anything else, rather than
    leave it out.

    >>> digest((1, 2.0, "a")) == digest((1, 2.0, "a")), digest(1) == digest(1.0)
    (True, False)
    """
    out = hashlib.sha256()
    for piece in _pieces(value):
        out.update(struct.pack("<q", len(piece)))
        out.update(piece)
    return out.hexdigest()


def _pieces(value: object) -> Iterator[bytes]:
    if isinstance(value, Keyed):
        yield b"keyed"
        yield value.key.encode()
    elif value is None or isinstance(value, bool):
        yield repr(value).encode()
    elif isinstance(value, Enum):
        yield f"{type(value).__qualname__}.{value.name}".encode()
    elif isinstance(value, int | np.integer):
        yield b"i" + str(int(value)).encode()
    elif isinstance(value, float | np.floating):
        # Minus nought and nought are one number.
        yield b"f" + struct.pack("<d", float(value) + 0.0)
    elif isinstance(value, str):
        yield b"s" + value.encode("utf-8", "surrogatepass")
    elif isinstance(value, date):  # a moment is one too
        yield b"D" + value.isoformat().encode()
    elif isinstance(value, PurePath):
        yield b"p" + str(value).encode("utf-8", "surrogateescape")
    elif isinstance(value, bytes):
        yield b"b" + value
    elif isinstance(value, BaseGeometry):
        yield b"g" + value.wkb
    elif isinstance(value, np.ndarray):
        yield f"a{value.dtype.str}{value.shape}".encode()
        yield np.ascontiguousarray(value).tobytes()
    else:
        yield from _held(value)


def _held(value: object) -> Iterator[bytes]:
    """What a container or record holds, with its kind and size in front."""
    if isinstance(value, tuple | list):
        yield f"t{len(value)}".encode()
        for v in value:
            yield from _pieces(v)
    elif isinstance(value, frozenset | set):
        yield f"S{len(value)}".encode()
        yield from (d.encode() for d in sorted(digest(v) for v in value))
    elif isinstance(value, Mapping):
        yield f"m{len(value)}".encode()
        for name, v in sorted(((digest(k), v) for k, v in value.items()), key=lambda p: p[0]):
            yield name.encode()
            yield from _pieces(v)
    elif isinstance(value, BaseModel):
        yield f"r{type(value).__qualname__}".encode()
        for name in type(value).model_fields:
            yield name.encode()
            yield from _pieces(getattr(value, name))
    elif is_dataclass(value) and not isinstance(value, type):
        yield f"d{type(value).__qualname__}".encode()
        for f in fields(value):
            yield f.name.encode()
            yield from _pieces(getattr(value, f.name))
    else:
        raise TypeError(f"a {type(value).__name__} has no digest, so nothing may rest on it")


class Keyed:
    """A frozen record known by its digest; equal to another exactly when all their fields are."""

    @cached_property
    def key(self) -> str:
        held = ((f.name, getattr(self, f.name)) for f in fields(self))  # type: ignore[arg-type]
        return digest((type(self).__qualname__, *held))

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and self.key == other.key

    def __hash__(self) -> int:
        return hash(self.key)


@dataclass(frozen=True, eq=False)
class MeshKey(Keyed):
    """A mesh by its fingerprint; the mesh itself is handed over once."""

    fingerprint: str


class Question(Keyed, Generic[T]):
    """Base of the questions. ``kept`` is how many answers of one kind are worth keeping."""

    kept: ClassVar[int] = 4

    @abstractmethod
    def answer(self, ask: Answerer) -> T:
        """The answer, from the fields and from ``ask`` alone. Raises :class:`Refused` or :class:`Cancelled`."""


def meshes_in(value: object) -> frozenset[str]:
    """Fingerprints of all meshes that a record names, at any depth."""
    found: set[str] = set()
    _gather(value, found)
    return frozenset(found)


def _gather(value: object, found: set[str]) -> None:
    if isinstance(value, MeshKey):
        found.add(value.fingerprint)
    elif isinstance(value, tuple | list | frozenset | set):
        for v in value:
            _gather(v, found)
    elif isinstance(value, Mapping):
        for v in value.values():
            _gather(v, found)
    elif is_dataclass(value) and not isinstance(value, type):
        for f in fields(value):
            _gather(getattr(value, f.name), found)


class Meshes:
    """Meshes by fingerprint, the most recently used ones up to a number of triangles."""

    def __init__(self, most_triangles: int = 12_000_000) -> None:
        self._kept: OrderedDict[str, Mesh] = OrderedDict()
        self._most = most_triangles

    def put(self, mesh: Mesh, fingerprint: str | None = None) -> MeshKey:
        name = fingerprint or mesh.fingerprint()
        self._kept[name] = mesh
        self._kept.move_to_end(name)
        total = sum(len(m.faces) for m in self._kept.values())
        while total > self._most and len(self._kept) > 2:
            _, gone = self._kept.popitem(last=False)
            total -= len(gone.faces)
        return MeshKey(name)

    def __contains__(self, fingerprint: str) -> bool:
        return fingerprint in self._kept

    def get(self, key: MeshKey) -> Mesh:
        """Raises :class:`KeyError` where it was never handed over, or had to make room."""
        self._kept.move_to_end(key.fingerprint)
        return self._kept[key.fingerprint]


class Answerer:
    """Answers questions, keeping answers by the question's own key and nothing else.

    One for the window's worker, one for a command: both give the same answers. ``tick`` reports progress and raises
    :class:`Cancelled` when the person has had enough.
    """

    def __init__(self, meshes: Meshes | None = None, tick: Tick | None = None) -> None:
        self.meshes = meshes if meshes is not None else Meshes()
        self._tick = tick or (lambda share, words: None)
        self._kept: dict[type, OrderedDict[str, Any]] = {}
        self._span = (0.0, 1.0)

    def mesh(self, key: MeshKey) -> Mesh:
        try:
            return self.meshes.get(key)
        except KeyError:
            raise Refused(MESH_GONE) from None

    def tick(self, share: float, words: str) -> None:
        low, high = self._span
        self._tick(low + (high - low) * min(max(share, 0.0), 1.0), words)

    def use(self, tick: Tick) -> None:
        """Report to ``tick`` from now on."""
        self._tick, self._span = tick, (0.0, 1.0)

    def __call__(self, question: Question[T], low: float = 0.0, high: float = 1.0, keep: bool = True) -> T:
        """The answer to a question, worked out or kept; its progress fills ``low`` to ``high`` of the asker's. Without
        ``keep`` it is one of many that nobody asks again, and pushes no other answer out."""
        shelf = self._kept.setdefault(type(question), OrderedDict())
        if question.key in shelf:
            shelf.move_to_end(question.key)
            found: T = shelf[question.key]
            return found
        before = self._span
        width = before[1] - before[0]
        self._span = before[0] + low * width, before[0] + high * width
        try:
            made = question.answer(self)
        finally:
            self._span = before
        if question.kept and keep:
            shelf[question.key] = made
            while len(shelf) > question.kept:
                shelf.popitem(last=False)
        return made
