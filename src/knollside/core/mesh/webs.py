"""Thin strips that bend: living hinges between two thick portions, and snap arms with a catch at their free end.

Both are a web between two flats that face away from each other. Of a web's four sides two opposite ones must be free;
what stands beyond the other two tells which it is, asked of the solid itself at points beyond them.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
import shapely

from knollside.core.mesh.inside import points_inside
from knollside.core.model import Array, Feature, FeatureRole, Mesh, rotation_to_up

_PARALLEL = float(np.cos(np.radians(3.0)))
_HINGE = 0.9  # mm; thicker ones do not bend again and again
_ARM = 6.0  # mm
_SLENDER = 3.0  # times as long as thick
_AS_RECTANGLE, _COVERED = 0.9, 0.9
_MOST = 400  # flats
_STEPS = np.arange(0.05, 1.0, 0.1)  # along a side


@dataclass(frozen=True)
class _Web:
    """A flat with its back: rows of ``turn`` are across its length (from side to side), along it, and its normal;
    ``middle`` in the flat's plane, ``wide`` and ``long`` of its rectangle, ``thick`` to the back, mm."""

    front: Feature
    back: Feature
    turn: Array
    middle: Array
    wide: float
    long: float
    thick: float

    def turned(self) -> _Web:
        """Seen the other way round: its other two sides as ends."""
        turn = np.array([self.turn[1], -self.turn[0], self.turn[2]])
        return replace(self, turn=turn, wide=self.long, long=self.wide)

    def at(self, across: Array | float, along: Array | float, up: Array | float) -> Array:
        """Points (n, 3) by mm from the middle, ``up`` from the flat's plane (the back lies at -thick)."""
        a, b, c = np.broadcast_arrays(across, along, up)
        return np.asarray(self.middle + np.c_[a.ravel(), b.ravel(), c.ravel()] @ self.turn)


def with_webs(mesh: Mesh, features: list[Feature]) -> list[Feature]:
    """The same features; flats that are living hinges or snap arms say so by their role, what they rest against, and
    ``readings``: thickness and width of a hinge (its ``length`` along the bend), thickness and catch of an arm (its
    ``length`` from the root to the catch, ``span`` its breadth), mm."""
    out = {f.id: f for f in features}
    for web in _webs(mesh, [f for f in features if f.kind == "flat"]):
        for w in (web, web.turned()):
            told = _hinge(mesh, w) or _snap(mesh, w)
            if told is not None:
                out[w.front.id] = told
                break
    return [out[f.id] for f in features]


def _webs(mesh: Mesh, flats: list[Feature]) -> Iterator[_Web]:
    flats = sorted(flats, key=lambda f: -f.area)[:_MOST]
    if len(flats) < 2:
        return
    normal, centre = np.array([f.axis for f in flats]), np.array([f.centre for f in flats])
    apart = np.einsum("ijk,ik->ij", centre[:, None] - centre[None], normal)  # how deep j lies behind i
    facing = (normal @ normal.T < -_PARALLEL) & (apart > 0.1) & (apart < _ARM)
    for i in np.flatnonzero(facing.any(axis=1)):
        front = flats[i]
        turn = rotation_to_up(front.axis)
        shape = _outline(mesh, front, turn)
        box = shapely.minimum_rotated_rectangle(shape)
        if box.area < 1e-6 or shape.area < _AS_RECTANGLE * box.area:
            continue
        for j in sorted(np.flatnonzero(facing[i]), key=lambda j: float(apart[i, j])):
            back = flats[j]
            if back.body == front.body and _covers(shape, _outline(mesh, back, turn)):
                yield _made(front, back, box, turn)
                break


def _made(front: Feature, back: Feature, box: shapely.Polygon, turn: Array) -> _Web:
    corner = shapely.get_coordinates(box)
    one, two = corner[1] - corner[0], corner[2] - corner[1]
    sides = float(np.hypot(*one)), float(np.hypot(*two))
    across, along = (one, two) if sides[0] < sides[1] else (two, one)
    rows = [np.r_[v / np.hypot(*v), 0.0] @ turn for v in (across, along)]
    n = np.asarray(front.axis)
    middle = np.r_[corner[:4].mean(axis=0), 0.0] @ turn
    middle = middle + n * float((np.asarray(front.centre) - middle) @ n)
    thick = float((middle - np.asarray(back.centre)) @ np.asarray(back.axis)) * -1.0
    return _Web(front, back, np.array([*rows, n]), middle, min(sides), max(sides), abs(thick))


def _outline(mesh: Mesh, f: Feature, turn: Array) -> shapely.Geometry:
    flat = mesh.triangles[f.faces] @ turn.T
    return shapely.union_all(shapely.polygons(flat[:, :, :2]))


def _covers(shape: shapely.Geometry, back: shapely.Geometry) -> bool:
    # On a grid: of two outlines with all but the same edge the plain intersection has come out empty.
    return bool(shapely.intersection(shape, back, grid_size=1e-6).area > _COVERED * shape.area)


def _free(mesh: Mesh, w: _Web) -> bool:
    """Whether nothing stands beyond the ends of its length, half-way up the web."""
    ends = np.concatenate([w.at((_STEPS - 0.5) * w.wide, s * (w.long / 2 + 0.1), -w.thick / 2) for s in (-1, 1)])
    return not points_inside(mesh, ends).any()


def _beyond(mesh: Mesh, w: _Web, side: int, up: float, far: float) -> float:
    """Share of its long side with material so ``far`` beyond it and so high over the flat's plane."""
    return float(points_inside(mesh, w.at(side * (w.wide / 2 + far), (_STEPS - 0.5) * w.long, up)).mean())


def _hinge(mesh: Mesh, w: _Web) -> Feature | None:
    """Bends along its long sides, each of which ends in something at least twice as thick."""
    if not (0.15 <= w.thick <= _HINGE and w.wide <= 12 * w.thick and w.long >= 2 * w.wide and _free(mesh, w)):
        return None
    for side in (-1, 1):
        # On a slope or a round beside it the thick portion begins some way out.
        far = [0.1 + k * w.thick for k in (0.5, 1.0, 2.0)]
        over = max(_beyond(mesh, w, side, 0.5 * w.thick, d) for d in far)
        under = max(_beyond(mesh, w, side, -1.5 * w.thick, d) for d in far)
        if max(over, under) < 0.9:
            return None
    return _said(w, "living hinge", w.long, (w.thick, w.wide))


def _snap(mesh: Mesh, w: _Web) -> Feature | None:
    """An arm along ``wide``: free on both sides, thick at its root, with a catch at its other end."""
    if not (w.thick >= 0.5 and w.wide >= _SLENDER * w.thick and w.long <= 2 * w.wide and _free(mesh, w)):
        return None
    for root in (-1, 1):
        # The root goes on beyond the back or to the sides of the arm; the catch only over the flat.
        spread = w.at(
            root * (w.wide / 2 + 0.3),
            np.r_[(_STEPS - 0.5) * w.long, w.long / 2 + 0.3, -w.long / 2 - 0.3],
            np.r_[np.full(len(_STEPS), -w.thick - 0.3), -w.thick / 2, -w.thick / 2],
        )
        inside = points_inside(mesh, spread)
        rooted = inside[:-2].mean() > 0.9 or inside[-2:].all()
        if not rooted or _beyond(mesh, w, -root, -w.thick / 2, 0.1) < 0.9:
            continue
        catch = _catch(mesh, w, -root)
        if catch >= 0.15:
            arm = replace(w.front, span=w.long)
            return _said(replace(w, front=arm), "snap arm", w.wide, (w.thick, catch))
    return None


def _catch(mesh: Mesh, w: _Web, side: int) -> float:
    """How far the catch at an end stands over the flat, mm; 0 where it is none: it ends, and has nothing behind."""
    most = max(3 * w.thick, 4.0)
    out = np.arange(0.1, most + 4 * w.thick, 0.1)
    along = points_inside(mesh, w.at(side * (w.wide / 2 + out), 0.0, -w.thick / 2))
    if along.all() or not along[0]:
        return 0.0  # no free end, or nothing there
    behind = points_inside(mesh, w.at(side * (w.wide / 2 + out[: int(np.argmin(along))]), 0.0, -w.thick - 0.1))
    if behind.mean() > 0.2:
        return 0.0
    up = np.arange(0.025, most, 0.05)
    reach = points_inside(mesh, w.at(side * (w.wide / 2 + 0.1), 0.0, up))
    return float(up[int(np.argmin(reach)) - 1]) + 0.025 if reach[0] and not reach.all() else 0.0


def _said(w: _Web, role: FeatureRole, length: float, readings: tuple[float, float]) -> Feature:
    return replace(w.front, role=role, beside=(w.back.id,), length=length, readings=readings)
