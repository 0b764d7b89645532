"""Solids said once, in terms that every kernel knows: primitives at a place, joined, cut, common; and what is true."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Node:
    """A primitive (``op`` names it, ``at`` holds its numbers) or a joining of others."""

    op: str
    at: dict[str, Any] = field(default_factory=dict)
    of: tuple[Node, ...] = ()

    def __add__(self, other: Node) -> Node:
        return Node("join", {}, (self, other))

    def __sub__(self, other: Node) -> Node:
        return Node("cut", {}, (self, other))

    def __and__(self, other: Node) -> Node:
        return Node("common", {}, (self, other))


@dataclass(frozen=True)
class Truth:
    """What a person would name: ``kind`` with its axis, a point on it, its size across and its length, mm."""

    kind: str
    axis: Vec
    at: Vec
    size: float
    length: float | None = None
    more: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Made:
    """One part: its solids (one a body) and what is on it."""

    name: str
    bodies: tuple[Node, ...]
    truth: tuple[Truth, ...]
    facets: int = 48


def unit(v: Any) -> np.ndarray:
    v = np.asarray(v, float)
    return v / np.linalg.norm(v)


def frame(axis: Any) -> np.ndarray:
    """Rows across, up and along; right-handed."""
    n = unit(axis)
    u = np.cross([0, 0, 1.0], n) if abs(n[2]) < 0.9 else np.cross([0, 1.0, 0], n)
    u = unit(u)
    return np.stack([u, np.cross(n, u), n])


def cylinder(at: Any, axis: Any, d: float, h: float) -> Node:
    """From ``at`` along ``axis`` for ``h``."""
    return Node("cylinder", {"at": np.asarray(at, float), "axis": unit(axis), "d": d, "h": h})


def cone(at: Any, axis: Any, d0: float, d1: float, h: float) -> Node:
    return Node("cone", {"at": np.asarray(at, float), "axis": unit(axis), "d0": d0, "d1": d1, "h": h})


def ball(at: Any, d: float) -> Node:
    return Node("ball", {"at": np.asarray(at, float), "d": d})


def ring(at: Any, axis: Any, big: float, small: float) -> Node:
    """A torus: ``big`` radius of its middle line, ``small`` of its tube."""
    return Node("ring", {"at": np.asarray(at, float), "axis": unit(axis), "R": big, "r": small})


def prism(at: Any, axis: Any, outline: Any, h: float, turn: np.ndarray | None = None) -> Node:
    """A convex ``outline`` (n, 2), anticlockwise, in the frame of ``axis`` at ``at``, drawn out by ``h``."""
    turn = frame(axis) if turn is None else turn
    return Node("prism", {"at": np.asarray(at, float), "turn": turn, "outline": np.asarray(outline, float), "h": h})


def box(low: Any, high: Any) -> Node:
    low, high = np.asarray(low, float), np.asarray(high, float)
    s = high - low
    return prism(low, (0, 0, 1), [(0, 0), (s[0], 0), (s[0], s[1]), (0, s[1])], s[2], np.eye(3))


def ngon(n: int, flats: float, turn: float = 0.0) -> np.ndarray:
    """A regular outline, ``flats`` across."""
    r = flats / 2 / np.cos(np.pi / n)
    a = turn + 2 * np.pi * (np.arange(n) + 0.5) / n
    return np.stack([r * np.cos(a), r * np.sin(a)], axis=1)


def joined(*some: Node) -> Node:
    out = some[0]
    for s in some[1:]:
        out = out + s
    return out
