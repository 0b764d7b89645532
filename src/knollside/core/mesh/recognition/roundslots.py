"""Slots of scanned and of pointed-at surfaces: two half rounds alike and the flats between them."""

from __future__ import annotations

import numpy as np

from knollside.core.mesh.recognition import quadrics
from knollside.core.mesh.recognition.growth import Grower
from knollside.core.mesh.recognition.seek import Piece
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Array, Feature, Ints, Refused

_FEWEST = 10  # corners
_ALIKE = 0.12  # of a slot's width that its two ends may differ by
_MOST = np.radians(240.0)  # that an end goes round, with what it takes of the flats
_LEAST = np.radians(120.0)
_WALLED = 0.6  # of the two flats between the ends that must be there


def slot_of(grower: Grower, a: Piece, b: Piece) -> Feature:
    """The slot of two ends; raises :class:`Refused` with why they make none. Whether it is through is not told."""
    skin = grower.skin
    p, q = _end(skin, a, b), _end(skin, b, a)
    if not a.hollow or not b.hollow or abs(float(p.axis @ q.axis)) < 0.99:
        raise Refused("The two ends are not hollow rounds that look the same way: it is no slot.")
    radius = (p.radius + q.radius) / 2
    if abs(p.radius - q.radius) > _ALIKE * 2 * radius:
        raise Refused(f"One end is {2 * p.radius:.2f} mm across and the other {2 * q.radius:.2f}: it is no slot.")
    axis = p.axis + q.axis * np.sign(float(p.axis @ q.axis))
    axis = axis / np.linalg.norm(axis)
    apart = q.point - p.point
    apart = apart - axis * (apart @ axis)
    span = float(np.linalg.norm(apart))
    if span < 0.1 * radius:
        raise Refused("Both places are on one round; of a slot point at its two ends.")
    sides = _between(grower, p.point, axis, apart / span, span, radius)
    faces = np.unique(np.concatenate([a.faces, b.faces, sides]))
    along = skin.mesh.vertices[np.unique(skin.mesh.faces[faces])] @ axis
    low, high = float(along.min()), float(along.max())
    centre = p.point + apart / 2
    centre = centre + axis * ((low + high) / 2 - float(centre @ axis))
    x, y, z = (float(c) for c in centre)
    u, v, w = (float(c) for c in axis)
    at = (x, y, z), (u, v, w)
    rough = max(a.residual, b.residual)
    return Feature("", "slot", *at, faces, 0.0, 2 * radius, high - low, None, inside=True, span=span, residual=rough)


def paired(grower: Grower, ends: list[Piece], scatter: float) -> list[tuple[int, int, Feature]]:
    """Ends (half rounds, hollow) that make slots, by their numbers, each in one."""
    out: list[tuple[int, int, Feature]] = []
    used: set[int] = set()
    some = [k for k, p in enumerate(ends) if p.hollow and _LEAST < p.arcs.sweep < _MOST]
    for n, i in enumerate(some):
        for j in some[n + 1 :]:
            a, b = ends[i], ends[j]
            if used & {i, j} or abs(float(a.surface.axis @ b.surface.axis)) < 0.998:
                continue
            if abs(a.surface.radius - b.surface.radius) > 4 * scatter + 0.02 * a.surface.radius:
                continue
            try:
                f = slot_of(grower, a, b)
            except Refused:
                continue
            if f.span is None or f.length is None or not _apart(grower.skin, a, b):
                continue
            rest = np.setdiff1d(f.faces, np.concatenate([a.faces, b.faces]))
            if grower.skin.areas[rest].sum() > _WALLED * 2 * f.length * max(f.span - a.surface.radius * 0.4, 0.0):
                used |= {i, j}
                out.append((i, j, f))
    return out


def _apart(skin: Skin, a: Piece, b: Piece) -> bool:
    """Whether two ends turn their backs to each other."""
    way = b.surface.point - a.surface.point
    for p, sign in ((a, -1.0), (b, 1.0)):
        middle = np.average(skin.middles[p.faces], axis=0, weights=skin.areas[p.faces]) - p.surface.point
        middle = middle - p.surface.axis * (middle @ p.surface.axis)
        if sign * float(middle @ way) <= 0.2 * np.linalg.norm(middle) * np.linalg.norm(way):
            return False
    return True


def _end(skin: Skin, a: Piece, b: Piece) -> quadrics.Surface:
    """A slot's round end by its outer half alone: about its sides it runs into the flats."""
    s = a.surface
    out = s.point - b.surface.point
    out = out - s.axis * (out @ s.axis)
    corners = skin.mesh.vertices[np.unique(skin.mesh.faces[a.faces])]
    for _ in range(2):
        outer = corners[(corners - s.point) @ out > 0.05 * s.radius * float(np.linalg.norm(out))]
        if len(outer) < _FEWEST:
            return s
        s = quadrics.cylinder(outer, s)
    return s


def _between(grower: Grower, at: Array, axis: Array, along: Array, span: float, radius: float) -> Ints:
    """Triangles of the two flat walls between a slot's ends."""
    skin = grower.skin
    out = []
    for side in (1.0, -1.0):
        normal = np.cross(axis, along) * side
        off = skin.mesh.vertices - at
        on = np.abs(off @ normal - radius) <= max(grower.skin.tolerance, 0.02 * radius)
        x = off @ along
        within = on & (x > -0.2 * radius) & (x < span + 0.2 * radius)
        faces = within[skin.mesh.faces].all(axis=1) & (skin.normals @ normal < -0.7)
        out.append(np.flatnonzero(faces))
    return np.concatenate(out)
