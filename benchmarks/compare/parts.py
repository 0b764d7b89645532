"""Parts for the comparison, drawn in a solid modeller of their own: sharp and round corners, lugs, bosses, thin arms.

Every part is a :class:`Drawn`: what holds it and pushes it, and where its mesh must be fine.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import gmsh
import numpy as np

Vec = tuple[float, float, float]
Solid = tuple[int, int]


@dataclass(frozen=True)
class Line:
    """A straight edge from ``a`` to ``b``."""

    a: Vec
    b: Vec

    def points(self, step: float) -> np.ndarray:
        a, b = np.array(self.a), np.array(self.b)
        n = int(np.linalg.norm(b - a) / step) + 2
        return np.asarray(a + np.linspace(0, 1, n)[:, None] * (b - a))


@dataclass(frozen=True)
class Circle:
    """A round edge about ``axis`` (0, 1 or 2)."""

    centre: Vec
    radius: float
    axis: int = 2

    def points(self, step: float) -> np.ndarray:
        n = int(2 * np.pi * self.radius / step) + 8
        t = np.linspace(0, 2 * np.pi, n, endpoint=False)
        out = np.tile(np.array(self.centre, float), (n, 1))
        out[:, (self.axis + 1) % 3] += self.radius * np.cos(t)
        out[:, (self.axis + 2) % 3] += self.radius * np.sin(t)
        return out


@dataclass(frozen=True)
class Bearing:
    """A pin pressing the wall of a hole along z."""

    hole: Circle


@dataclass(frozen=True)
class Drawn:
    """Flats held fast, by a point of each; the flat pushed, or the hole, with the force, N; edges meshed ``sharp`` (at
    the finest) or ``small`` (rounds, rims)."""

    held: tuple[Vec, ...]
    pushed: Vec | Bearing
    force: Vec
    sharp: tuple[Line | Circle, ...] = ()
    small: tuple[Line | Circle, ...] = field(default=())


PARTS: dict[str, Callable[[], Drawn]] = {}


def _part(draw: Callable[[], Drawn]) -> Callable[[], Drawn]:
    PARTS[draw.__name__] = draw
    return draw


def _box(at: Vec, size: Vec) -> Solid:
    return 3, gmsh.model.occ.addBox(*at, *size)


def _rod(at: Vec, along: Vec, radius: float) -> Solid:
    return 3, gmsh.model.occ.addCylinder(*at, *along, radius)


def _fuse(first: Solid, *more: Solid) -> Solid:
    return gmsh.model.occ.fuse([first], list(more))[0][0]


def _cut(first: Solid, *more: Solid) -> Solid:
    return gmsh.model.occ.cut([first], list(more))[0][0]


def _fillet(solid: Solid, radius: float, edge: Line) -> None:
    gmsh.model.occ.synchronize()
    low, high = np.minimum(edge.a, edge.b) - 1e-3, np.maximum(edge.a, edge.b) + 1e-3
    found = set()
    for face in gmsh.model.getBoundary([solid], oriented=False):
        for _, e in gmsh.model.getBoundary([face], oriented=False):
            bounds = np.array(gmsh.model.getBoundingBox(1, abs(e)))
            if (bounds[:3] > low).all() and (bounds[3:] < high).all():
                found.add(abs(e))
    gmsh.model.occ.fillet([solid[1]], sorted(found), [radius])


def _angle(radius: float) -> Drawn:
    solid = _fuse(_box((0, 0, 0), (40, 20, 5)), _box((0, 0, 0), (5, 20, 30)))
    edge = Line((5, 0, 5), (5, 20, 5))
    if radius:
        _fillet(solid, radius, edge)
    a = 5 + 0.3 * radius
    inner = Line((a, 0, a), (a, 20, a))
    held, force = ((0.0, 10.0, 15.0),), (0.0, 0.0, -30.0)
    if radius:
        return Drawn(held, (40, 10, 2.5), force, small=(inner,))
    return Drawn(held, (40, 10, 2.5), force, sharp=(inner,))


@_part
def angle() -> Drawn:
    return _angle(0)


@_part
def angle_round_1() -> Drawn:
    return _angle(1.0)


@_part
def angle_round_3() -> Drawn:
    return _angle(3.0)


@_part
def arm() -> Drawn:
    """An arm on a plate that is held all over its back, pushed down and aside."""
    _fuse(_box((0, 0, 0), (50, 6, 50)), _box((18, 6, 20), (14, 60, 10)))
    a, b, c, d = (18, 6, 20), (32, 6, 20), (18, 6, 30), (32, 6, 30)
    return Drawn(((25, 0, 25),), (25, 66, 25), (15, 0, -40), (Line(a, b), Line(c, d), Line(a, c), Line(b, d)))


@_part
def boss() -> Drawn:
    """A plate held by two ends, with a drilled boss pulled up and aside."""
    solid = _fuse(_box((0, 0, 0), (60, 30, 4)), _rod((30, 15, 4), (0, 0, 12), 6))
    _cut(solid, _rod((30, 15, -1), (0, 0, 20), 2))
    return Drawn(((0, 15, 2), (60, 15, 2)), (33.9, 15, 16), (0, 30, 80), (Circle((30, 15, 4), 6),))


@_part
def lug() -> Drawn:
    solid = _fuse(_box((0, 0, 0), (40, 20, 8)), _rod((40, 10, 0), (0, 0, 8), 10))
    _cut(solid, _rod((40, 10, -1), (0, 0, 10), 4))
    hole = Circle((40, 10, 4), 4)
    return Drawn(
        ((0, 10, 4),), Bearing(hole), (200, 0, 0), small=(hole, Circle((40, 10, 1), 4), Circle((40, 10, 7), 4))
    )


@_part
def hook() -> Drawn:
    _fuse(_box((0, 0, 0), (8, 12, 60)), _box((8, 0, 0), (25, 12, 8)), _box((25, 0, 8), (8, 12, 12)))
    return Drawn(((0, 6, 30),), (16.5, 6, 8), (0, 0, -60), (Line((8, 0, 8), (8, 12, 8)), Line((25, 0, 8), (25, 12, 8))))


@_part
def notched_bar() -> Drawn:
    _cut(_box((0, 0, 0), (80, 10, 12)), _box((38, -1, 8), (4, 12, 5)))
    return Drawn(((0, 5, 6),), (80, 5, 6), (0, 0, -25), (Line((38, 0, 8), (38, 10, 8)), Line((42, 0, 8), (42, 10, 8))))


@_part
def stepped_rod() -> Drawn:
    _fuse(_rod((0, 0, 0), (40, 0, 0), 8), _rod((40, 0, 0), (40, 0, 0), 5))
    return Drawn(((0, 0, 0),), (80, 0, 0), (0, 0, -40), (Circle((40, 0, 0), 5, 0),))


@_part
def shelf() -> Drawn:
    _fuse(_box((0, 0, 0), (5, 30, 30)), _box((5, 0, 13), (60, 30, 5)))
    return Drawn(
        ((0, 15, 15),), (65, 15, 15.5), (0, 0, -20), (Line((5, 0, 13), (5, 30, 13)), Line((5, 0, 18), (5, 30, 18)))
    )


@_part
def fork() -> Drawn:
    _cut(_box((0, 0, 0), (50, 24, 10)), _box((20, 8, -1), (40, 8, 12)))
    return Drawn(
        ((0, 12, 5),), (50, 4, 5), (0, -25, 10), (Line((20, 8, 0), (20, 8, 10)), Line((20, 16, 0), (20, 16, 10)))
    )


@_part
def tee() -> Drawn:
    _fuse(_box((0, 0, 0), (60, 10, 8)), _box((27, 0, 8), (6, 10, 30)))
    return Drawn(
        ((0, 5, 4), (60, 5, 4)),
        (30, 5, 38),
        (30, 10, 0),
        (Line((27, 0, 8), (27, 10, 8)), Line((33, 0, 8), (33, 10, 8))),
    )


@_part
def trough() -> Drawn:
    _cut(_box((0, 0, 0), (30, 30, 25)), _box((-1, 4, 4), (32, 22, 30)))
    return Drawn(((15, 15, 0),), (15, 2, 25), (0, 40, 0), (Line((0, 4, 4), (30, 4, 4)), Line((0, 26, 4), (30, 26, 4))))


@_part
def clip() -> Drawn:
    """An arm with a hooked end on a block, bent aside."""
    _fuse(_box((0, 0, 0), (12, 10, 12)), _box((12, 0, 4), (26, 10, 2)), _box((34, 0, 6), (4, 10, 2)))
    return Drawn(((0, 5, 6),), (38, 5, 6), (0, 0, 6), (Line((12, 0, 4), (12, 10, 4)), Line((12, 0, 6), (12, 10, 6))))


@_part
def knob() -> Drawn:
    """A round knob on a square stem, turned aside."""
    _fuse(_box((-4, -4, 0), (8, 8, 14)), _rod((0, 0, 14), (0, 0, 10), 12))
    e = [(-4, -4, 14), (4, -4, 14), (4, 4, 14), (-4, 4, 14)]
    return Drawn(((0, 0, 0),), (0, 0, 24), (40, 20, 0), tuple(Line(e[k], e[(k + 1) % 4]) for k in range(4)))


@_part
def leaning_gusset() -> Drawn:
    """An angle turned off every axis, its inner edge rounded by half a millimetre."""
    solid = _fuse(_box((0, 0, 0), (30, 12, 4)), _box((0, 0, 0), (4, 12, 24)))
    edge = Line((4, 0, 4), (4, 12, 4))
    _fillet(solid, 0.5, edge)
    inner = Line((4.15, 0, 4.15), (4.15, 12, 4.15))
    return Drawn(((0, 6, 12),), (30, 6, 2), (0, 8, -20), small=(inner,))
