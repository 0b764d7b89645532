"""The joint that two bodies make: a pin in its holes, cones in their seats, a ball in its socket."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal

import manifold3d as m3
import numpy as np

from knollside.core.fit.play import Wobble, wobble
from knollside.core.mesh.solid import mesh_of
from knollside.core.model import Array, Feature, Mesh, rotation_to_up

_OFF = 0.6  # mm off one line
_COMMON = 0.5  # mm of length that two rounds must share to bear on each other
_ROUND_IT = 170.0  # degrees that a part round must go to hold a pin
_SKIN = 0.05  # mm of wall that counts to the place where they bear
_PLAIN = 1.5  # mm a side: past it two rounds on one line do not bear on each other

JointKind = Literal["cone", "pin", "ball"]


@dataclass(frozen=True)
class Bearing:
    """Where ``inner`` of one body stands in ``outer`` of the other: drawn ``gap`` a side, from ``low`` to ``high``
    along the joint's axis, ``radius`` of the outer one; mm."""

    outer: str
    inner: str
    gap: float
    low: float
    high: float
    radius: float


@dataclass(frozen=True)
class Joint:
    """``bearings`` of two bodies about an ``axis`` through ``centre`` (of a ball's only the centre counts); the
    ``span`` between their outermost ends and the ``reach`` of the farthest corner from the axis, mm; ``half_angle`` of
    cones, degrees."""

    kind: JointKind
    bearings: tuple[Bearing, ...]
    axis: tuple[float, float, float]
    centre: tuple[float, float, float]
    span: float
    reach: float
    half_angle: float = 45.0

    @property
    def gap(self) -> float:
        """The least drawn gap a side where it bears, mm."""
        return min(b.gap for b in self.bearings)

    @property
    def title(self) -> str:
        """In words: what turns in what."""
        many = len({b.inner for b in self.bearings}) > 1
        return {"cone": "Hinge on cones", "pin": "Pins in holes" if many else "Pin in a hole", "ball": "Ball joint"}[
            self.kind
        ]

    def wobbles(self, gap: float) -> Wobble:
        """How far it tilts with that printed gap a side, mm."""
        return wobble(max(gap, 0.0), max(self.span, 1e-6), self.reach, self.kind, self.half_angle)

    def holds(self, points: Array) -> np.ndarray:
        """Which points (n, 3), part's frame, lie where it bears, the skin of the walls included (n,)."""
        off = points - np.asarray(self.centre)
        if self.kind == "ball":
            return np.asarray(np.linalg.norm(off, axis=1) < self.bearings[0].radius + _SKIN)
        axis = np.asarray(self.axis)
        along = off @ axis
        aside = np.linalg.norm(off - along[:, None] * axis, axis=1)
        inside = np.zeros(len(points), bool)
        for b in self.bearings:
            inside |= (aside < b.radius + _SKIN) & (along > b.low - _SKIN) & (along < b.high + _SKIN)
        return inside

    def region(self) -> Mesh:
        """The room where they bear on each other, with a skin of the walls round it (part's frame)."""
        turn = rotation_to_up(self.axis)
        rooms = []
        for b in self.bearings:
            r = b.radius + _SKIN
            if self.kind == "ball":
                room = m3.Manifold.sphere(r * 1.002, 64)
            else:
                length = b.high - b.low + 2 * _SKIN
                room = m3.Manifold.cylinder(length, r * 1.002, circular_segments=64).translate((0, 0, b.low - _SKIN))
            rooms.append(room)
        placed = m3.Manifold.batch_boolean(rooms, m3.OpType.Add)
        return mesh_of(placed.transform(np.column_stack([turn.T, np.asarray(self.centre)])))


def joint_of(mesh: Mesh, features: tuple[Feature, ...], bodies: tuple[int, int]) -> Joint | None:
    """The joint of two bodies; None where they share none. Of several the one borne over the longest way."""
    own = [f for f in features if f.body in bodies and f.diameter is not None]
    found = [*_balls(own), *_lines(mesh, own)]
    if not found:
        return None
    best = max(found, key=lambda j: (j.kind == "ball", j.span))
    used = np.unique(mesh.faces[np.concatenate([f.faces for f in features if f.body in bodies])])
    off = mesh.vertices[used] - np.asarray(best.centre)
    if best.kind != "ball":
        axis = np.asarray(best.axis)
        off = off - np.outer(off @ axis, axis)
    reach = float(np.linalg.norm(off, axis=1).max())
    return replace(best, reach=reach)


def _balls(own: list[Feature]) -> list[Joint]:
    out = []
    for s in own:
        for b in own:
            if s.kind != "ball" or b.kind != "ball" or not s.inside or b.inside or s.body == b.body:
                continue
            apart = float(np.linalg.norm(np.subtract(s.centre, b.centre)))
            radius = (s.diameter or 0.0) / 2
            gap = radius - (b.diameter or 0.0) / 2 - apart
            if 0 < gap < _PLAIN and apart < _OFF:
                bearing = Bearing(s.id, b.id, gap, -radius, radius, radius)
                out.append(Joint("ball", (bearing,), (0.0, 0.0, 1.0), b.centre, b.diameter or 0.0, 0.0))
    return out


def _lines(mesh: Mesh, own: list[Feature]) -> list[Joint]:
    """Joints about a line: every group of rounds on one line in which two bodies bear on each other."""
    rest = [f for f in own if f.kind in ("hole", "pin", "cone", "round", "taper")]
    out = []
    while rest:
        first, line = rest[0], [g for g in rest if _on(rest[0], g)]
        rest = [g for g in rest if g not in line]
        axis, centre = np.asarray(first.axis), np.asarray(first.centre)
        cones = [b for s in line for c in line if (b := _seated(mesh, s, c, axis, centre)) is not None]
        pins = [b for h in line for p in line if (b := _borne(h, p, axis, centre)) is not None]
        bearings = cones or pins
        if not bearings:
            continue
        span = max(b.high for b in bearings) - min(b.low for b in bearings)
        angle = next((f.angle for f in line if f.kind == "cone" and f.angle), 45.0)
        kind: JointKind = "cone" if cones else "pin"
        if kind == "cone" and len(cones) > 1:
            # Cones bear at their middles.
            middles = [(b.low + b.high) / 2 for b in cones]
            span = max(middles) - min(middles)
        if span >= 1.0:
            out.append(Joint(kind, tuple(bearings), first.axis, first.centre, span, 0.0, angle))
    return out


def _along(f: Feature, axis: Array, centre: Array) -> tuple[float, float]:
    at, half = float((np.asarray(f.centre) - centre) @ axis), (f.length or 0.0) / 2
    return at - half, at + half


def _borne(hole: Feature, pin: Feature, axis: Array, centre: Array) -> Bearing | None:
    """A pin in a hole of another body."""
    if hole.kind == "cone" or pin.kind == "cone" or not hole.inside or pin.inside or hole.body == pin.body:
        return None
    if hole.sweep is not None and hole.sweep < _ROUND_IT:
        return None
    (a, b), (c, d) = _along(hole, axis, centre), _along(pin, axis, centre)
    apart = np.subtract(hole.centre, pin.centre)
    aside = float(np.linalg.norm(apart - axis * (apart @ axis)))
    radius = (hole.diameter or 0.0) / 2
    gap = radius - (pin.diameter or 0.0) / 2 - aside
    low, high = max(a, c), min(b, d)
    if high - low < _COMMON or not 0 < gap < _PLAIN:
        return None
    return Bearing(hole.id, pin.id, gap, low, high, radius)


def _seated(mesh: Mesh, seat: Feature, cone: Feature, axis: Array, centre: Array) -> Bearing | None:
    """A cone in a seat of another body, of one angle."""
    if seat.kind != "cone" or cone.kind != "cone" or not seat.inside or cone.inside or seat.body == cone.body:
        return None
    one, two = seat.angle or 0.0, cone.angle or 0.0
    (tip_s, out_s), (tip_c, out_c) = (_tip(mesh, f, axis, centre) for f in (seat, cone))
    if abs(one - two) > 3.0 or out_s != out_c:
        return None
    gap = (tip_s - tip_c) * out_c * math.sin(math.radians((one + two) / 2))
    (a, b), (c, d) = _along(seat, axis, centre), _along(cone, axis, centre)
    low, high = max(a, c), min(b, d)
    if high - low < _COMMON or not 0 < gap < _PLAIN:
        return None
    return Bearing(seat.id, cone.id, gap, low, high, (seat.diameter or 0.0) / 2)


def _tip(mesh: Mesh, f: Feature, axis: Array, centre: Array) -> tuple[float, int]:
    """Where a cone's tip lies along the axis, and which way it points (1 or -1)."""
    off = mesh.vertices[np.unique(mesh.faces[f.faces])] - centre
    along = off @ axis
    wide = np.linalg.norm(off - np.outer(along, axis), axis=1)
    way = -1 if np.corrcoef(along, wide)[0, 1] > 0 else 1
    low, high = _along(f, axis, centre)
    base = low if way > 0 else high
    return base + way * (f.diameter or 0.0) / 2 / math.tan(math.radians(f.angle or 45.0)), way


def _on(f: Feature, g: Feature) -> bool:
    if abs(float(np.dot(f.axis, g.axis))) < 0.999:
        return False
    apart = np.asarray(g.centre) - np.asarray(f.centre)
    axis = np.asarray(f.axis)
    return bool(np.linalg.norm(apart - axis * (apart @ axis)) < _OFF)
