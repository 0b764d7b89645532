"""Pieces that are one round: equal, on one axis, and touching or parted by another bore only."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.recognition.arcs import Arcs, spans, union
from knollside.core.mesh.recognition.growth import Grower
from knollside.core.mesh.recognition.quadrics import Form, Surface
from knollside.core.mesh.recognition.seek import WHOLE, Piece, ends_shut, refined
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Array, Ints

_TOUCH = 0.05  # mm along the axis
_PARALLEL = 0.99995


@dataclass(frozen=True, eq=False)
class Round:
    """One cylinder, its ``piece`` all that belongs to it, connected or not. ``corner`` and ``flat`` are its two
    diameters, corners or middles of facets on the circle; ``shut`` whether its low and high end are closed."""

    piece: Piece
    corner: float
    flat: float
    shut: tuple[bool, bool]

    @property
    def surface(self) -> Surface:
        return self.piece.surface

    @property
    def hollow(self) -> bool:
        return self.piece.hollow

    @property
    def faces(self) -> Ints:
        return self.piece.faces

    @property
    def arcs(self) -> Arcs:
        return self.piece.arcs

    @property
    def axis(self) -> Array:
        return self.surface.axis

    @property
    def centre(self) -> Array:
        """The middle of the axis."""
        return np.asarray(self.surface.point + self.axis * (self.piece.low + self.piece.high) / 2)

    @property
    def whole(self) -> bool:
        """Whether it goes far enough round to hold what is in it, or be held."""
        return bool(self.arcs.sweep >= WHOLE)

    @property
    def diameter(self) -> float:
        """The drawn diameter: corners on the circle, unless the mid-flat reading is rounder."""
        if self.piece.strips and self.arcs.sides <= 40 and plainness(self.flat) > plainness(self.corner):
            return self.flat
        return self.corner


def plainness(d: float) -> int:
    """How round a number a size is: what a person would have drawn."""
    for score, step in ((3, 0.5), (2, 0.1), (1, 0.05)):
        if abs(d / step - round(d / step)) * step < 0.0015:
            return score
    return 0


def joined(grower: Grower, pieces: list[Piece], body: Ints, tolerance: float | None = None) -> list[Round]:
    """All cylinders of a part; ``body`` numbers the shell of each triangle. Equal ones differ by less than some times
    the ``tolerance`` (of none: the skin's)."""
    some = [p for p in pieces if p.surface.form is Form.CYLINDER]
    if not some:
        return []
    pair = [
        (i, j)
        for i, j in _alike(some, body, grower.skin.tolerance if tolerance is None else tolerance)
        if _one(some, i, j)
    ]
    n = len(some)
    at = np.array(pair, np.int64).reshape(-1, 2)
    graph = coo_matrix((np.ones(len(at), np.int8), (at[:, 0], at[:, 1])), shape=(n, n))
    label = connected_components(graph, directed=False)[1]
    out = []
    for k in range(int(label.max()) + 1):
        out.append(_round(grower, [some[i] for i in np.flatnonzero(label == k)]))
    return out


def _alike(some: list[Piece], body: Ints, tol: float) -> list[tuple[int, int]]:
    """Pairs of equal pieces on one axis, of one shell."""
    axis = np.array([p.surface.axis for p in some])
    at = np.array([p.surface.point for p in some])
    radius = np.array([p.surface.radius for p in some])
    kind = np.array([2 * int(body[p.faces[0]]) + p.hollow for p in some])
    order = np.argsort(radius)
    out = []
    for a, i in enumerate(order):
        b = a + 1
        while b < len(order) and radius[order[b]] - radius[i] < 4 * tol + 2e-3 * radius[i]:
            j = order[b]
            b += 1
            if kind[i] != kind[j] or abs(axis[i] @ axis[j]) < _PARALLEL:
                continue
            off = at[j] - at[i]
            if np.linalg.norm(off - axis[i] * (off @ axis[i])) < 4 * tol + 3e-3 * radius[i] + 0.005:
                out.append((int(i), int(j)))
    return out


def _ends(p: Piece, of: Piece) -> tuple[float, float]:
    """Where ``p`` begins and ends along the axis of another."""
    a = of.surface
    ends = [float((p.surface.point + p.surface.axis * z - a.point) @ a.axis) for z in (p.low, p.high)]
    return min(ends), max(ends)


def _one(some: list[Piece], i: int, j: int) -> bool:
    """Whether two equal pieces on one axis touch, or only other bores part them."""
    a, b = some[i], some[j]
    low, high = _ends(b, a)
    gap = max(low - a.high, a.low - high)
    if gap <= _TOUCH:
        return True
    if not a.hollow:
        return False
    begin, end = (a.high, low) if low > a.high else (high, a.low)
    reach = []
    for k, other in enumerate(some):
        if k in (i, j) or not other.hollow or abs(float(other.surface.axis @ a.surface.axis)) > 0.98:
            continue
        where = _crossing(a.surface, other.surface)
        if where is not None:
            lean = np.sqrt(1 - float(other.surface.axis @ a.surface.axis) ** 2)
            half = (other.surface.radius + a.surface.radius * np.sqrt(1 - lean**2)) / lean
            reach.append((where - half, where + half))
    reach += [_ends(k, a) for n, k in enumerate(some) if n not in (i, j) and k.hollow and _coaxial(k, a)]
    covered = begin
    for lo, hi in sorted(reach):
        if lo <= covered + _TOUCH:
            covered = max(covered, hi)
    return covered >= end - _TOUCH


def _coaxial(k: Piece, a: Piece) -> bool:
    off = k.surface.point - a.surface.point
    off = off - a.surface.axis * float(off @ a.surface.axis)
    return (
        abs(float(k.surface.axis @ a.surface.axis)) > _PARALLEL
        and float(np.linalg.norm(off)) < 0.02
        and (abs(k.surface.radius - a.surface.radius) < 1e-3)
    )


def _crossing(a: Surface, b: Surface) -> float | None:
    """Where along ``a`` the axis of ``b`` passes through it, from a's point; None where it passes by."""
    n = np.cross(a.axis, b.axis)
    size = float(np.linalg.norm(n))
    apart = b.point - a.point
    if abs(float(apart @ n)) / size > b.radius - 0.5 * min(a.radius, b.radius):
        return None
    return float(np.linalg.solve(np.stack([a.axis, -b.axis, n], axis=1), apart)[0])


def _round(grower: Grower, pieces: list[Piece]) -> Round:
    skin, first = grower.skin, max(pieces, key=lambda p: len(p.faces))
    if len(pieces) == 1:  # all is known of it already
        return _told(skin, first)
    faces = np.concatenate([p.faces for p in pieces])
    s = refined(grower, first.surface, faces) or first.surface
    strips = all(p.strips for p in pieces)
    corners = skin.mesh.vertices[grower.corners(faces)]
    along = (corners - s.point) @ s.axis
    low, high = float(along.min()), float(along.max())
    group = skin.patches.of_face[faces] if strips else np.arange(len(faces))
    arcs = union(*spans(skin.mesh, faces, group, s.point, s.axis))
    residual = float(np.abs(s.off(corners)).max())
    return _told(skin, Piece(s, first.hollow, faces, arcs, low, high, residual, strips))


def _told(skin: Skin, p: Piece) -> Round:
    s = p.surface
    middles = np.einsum("ij,ij->i", skin.normals[p.faces], skin.middles[p.faces] - s.point)
    at = float(s.point @ s.axis)
    shut = ends_shut(skin, p.faces, s.axis, p.low + at, p.high + at)
    return Round(p, 2 * s.radius, 2 * float(np.median(np.abs(middles))), shut)
