"""A hole, pin, slot or flat where a person says there is one: fitted to the surface round the places pointed at.

The seed grows from small to large and the tolerance comes from how well the nearest surface fits there, so that it
works on scans, on thinned and on smoothed meshes; what fits badly is refused with how badly.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from knollside.core.mesh.nearest import nearest_face
from knollside.core.mesh.noise import scatter_of
from knollside.core.mesh.recognition import quadrics
from knollside.core.mesh.recognition.growth import Grower
from knollside.core.mesh.recognition.joining import joined
from knollside.core.mesh.recognition.roundslots import slot_of
from knollside.core.mesh.recognition.scanned import flat_from, grown, round_about, scanned_skin
from knollside.core.mesh.recognition.seek import Piece, hollow_of
from knollside.core.mesh.recognition.skin import Skin, skin_of
from knollside.core.mesh.recognition.sorting import of_round, open_or_shut, triple
from knollside.core.mesh.rounding import rounding_of
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Feature, Ints, Mesh, Refused

MOST_POINTS = 12
_REACHES = (1.0, 2.0, 4.0, 8.0, 16.0)  # mm
_FEWEST = 10  # corners
_OFF = 0.06  # of a round's radius that a seed's corners may stand off, in the mean of squares
_STANDS = 0.02  # the same of all that has grown
_TURN = 0.9  # rad that a seed must go round at least, or twice its scatter is all it shows
_FLOOR = 2e-3  # mm
_FARTHEST = 1e6  # mm
_FLAT_FROM = 150.0  # mm of radius

Points = tuple[tuple[float, float, float], ...]


def feature_pointed_at(mesh: Mesh, kind: str, points: Points) -> Feature:
    """The feature of a ``kind`` at places on the surface (mm, part's frame), without an id.

    One place does, more help; of a slot one at either end. Raises :class:`Refused` with the reason where the surface
    there is none. A round that goes less than 190 degrees is told as a part round.
    """
    return Pointing(mesh).feature(kind, points)


class Pointing:
    """A mesh got ready to be pointed at, any number of times."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self.middle = mesh.bounds.mean(axis=0)
        local = Mesh(mesh.vertices - self.middle, mesh.faces)
        self.plain = skin_of(local, rounding_of(mesh))
        self.scatter = scatter_of(local, self.plain.normals, self.plain.edges)
        self.skin = scanned_skin(self.plain, self.scatter) if self.scatter > 0 else self.plain
        self.body = bodies_of(local, self.plain.edges)[1]

    def feature(self, kind: str, points: Points) -> Feature:
        """As :func:`feature_pointed_at`."""
        if not 1 <= len(points) <= MOST_POINTS:
            raise Refused(f"Point at one to {MOST_POINTS} places; these are {len(points)}.")
        seeds = np.array([_face_at(self.mesh, p) for p in points])
        if len(set(self.body[seeds].tolist())) > 1:
            raise Refused("These places are on different bodies; point at one of them.")
        found = {"flat": _flat, "slot": _slot}.get(kind, _round)(self.skin, seeds, self.scatter, kind)
        x, y, z = (float(c) for c in np.asarray(found.centre) + self.middle)
        area = float(self.plain.areas[found.faces].sum())
        return replace(found, centre=(x, y, z), area=area, body=int(self.body[seeds[0]]), pointed=points)


def _face_at(mesh: Mesh, point: tuple[float, float, float]) -> int:
    if not (np.abs(point) < _FARTHEST).all():  # no number is not, either
        raise Refused("A place that was pointed at is none: a coordinate of it is out of all bounds, or no number.")
    face, off = nearest_face(mesh, np.asarray(point, float))
    if off > max(1.0, 0.02 * float(mesh.size.max())):
        raise Refused(f"The place ({point[0]:.1f}, {point[1]:.1f}, {point[2]:.1f}) is {off:.1f} mm from the part.")
    return face


def _round(skin: Skin, seeds: Ints, scatter: float, kind: str) -> Feature:
    grower, piece = _cylinder(skin, seeds, scatter)
    if kind in ("hole", "pin") and piece.hollow is not (kind == "hole"):
        words = "looks inward: it is the wall of a hole" if piece.hollow else "bulges outward: it is a pin"
        raise Refused(f"The surface there {words}, {2 * piece.surface.radius:.2f} mm across, and no {kind}.")
    return open_or_shut(skin.mesh, _told(grower, piece), scatter)


def _told(grower: Grower, piece: Piece) -> Feature:
    """As a feature; what runs on smoothly is no fillet here, where a person says what it is."""
    (made,) = joined(grower, [piece], np.zeros(len(grower.skin.mesh.faces), np.int64))
    f = of_round(grower.skin, made)
    return replace(f, kind="round") if f.kind == "fillet" else f


def _cylinder(skin: Skin, seeds: Ints, scatter: float) -> tuple[Grower, Piece]:
    """The largest piece of one cylinder round the seeds."""
    best: tuple[Grower, Piece] | None = None
    nearest = (np.inf, 0.0)
    stands: tuple[float, float] | None = None
    level = True
    free = np.zeros(len(skin.mesh.faces), bool)
    args = np.ascontiguousarray(skin.middles), skin.beyond, skin.bend, free
    for reach in _REACHES:
        near = np.unique(np.concatenate([round_about(int(t), reach, *args) for t in seeds]))
        corners = skin.mesh.vertices[np.unique(skin.mesh.faces[near])]
        if len(corners) < _FEWEST:
            continue
        axis = quadrics.least_axis(skin.normals[near], np.maximum(skin.areas[near], 1e-12))
        s = quadrics.cylinder(corners, quadrics.cylinder_along(axis, corners))
        if not np.isfinite(s.numbers()).all() or s.radius > 40 * reach:
            continue
        off = float(np.sqrt(np.mean(s.off(corners) ** 2)))
        if off / s.radius < nearest[0] / max(nearest[1], 1e-9):
            nearest = off, s.radius
            level = quadrics.plane(corners)[2] < 1.3 * off
        hollow = hollow_of(skin, s, near)
        if off > max(_OFF * s.radius, 2 * scatter) or hollow is None:
            continue
        slack = scatter or max(off, _FLOOR)
        grower, piece = _settled(skin, s, hollow, near, slack)
        if piece is not None and not scatter:
            # The seed reached over an edge perhaps: what has grown tells better how far corners stand off.
            own = np.abs(piece.surface.off(skin.mesh.vertices[grower.corners(piece.faces)]))
            slack = max(1.5 * float(np.median(own)), _FLOOR)
            grower, piece = _settled(skin, piece.surface, hollow, piece.faces, slack)
        if piece is not None and np.isin(seeds, piece.faces).all():
            off = _off(grower, piece)
            if off > max(_STANDS * piece.surface.radius, 1.5 * scatter):
                stands = off, piece.surface.radius
                continue
            if piece.arcs.sweep >= _TURN and (best is None or len(piece.faces) > len(best[1].faces)):
                best = grower, piece
    if best is None:
        off, radius = stands or nearest
        if not np.isfinite(off) or radius > _FLAT_FROM or (stands is None and level):
            raise Refused("The surface there is as good as flat: no round goes through it.")
        raise Refused(
            f"The surface there lies on no round: it stands off by {off:.2f} mm from the nearest, "
            f"{2 * radius:.1f} mm across."
        )
    return best


def _off(grower: Grower, piece: Piece) -> float:
    """How far its corners stand off it, in the mean of squares, mm."""
    off = piece.surface.off(grower.skin.mesh.vertices[grower.corners(piece.faces)])
    return float(np.sqrt(np.mean(off**2)))


def _settled(skin: Skin, s: quadrics.Surface, hollow: bool, near: Ints, slack: float) -> tuple[Grower, Piece | None]:
    """What grows where corners may stand off by some ``slack``, and what it grew with."""
    grower = Grower(replace(skin, tolerance=3.5 * slack, strict=2.0 * slack))
    return grower, grown(grower, s, hollow, near, slack, 6)


def _flat(skin: Skin, seeds: Ints, scatter: float, kind: str) -> Feature:
    slack = max(scatter, _FLOOR)
    faces, normal = flat_from(Grower(replace(skin, tolerance=3.5 * slack)), int(seeds[0]))
    if not np.isin(seeds, faces).all():
        raise Refused("These places are not on one flat.")
    if len(faces) < 2 and len(skin.mesh.faces) > 100:
        raise Refused("There is no flat there: the surface bends away at once.")
    centre = np.average(skin.middles[faces], axis=0, weights=np.maximum(skin.areas[faces], 1e-12))
    return Feature("", "flat", triple(centre), triple(normal), faces)


def _slot(skin: Skin, seeds: Ints, scatter: float, kind: str) -> Feature:
    """Two half rounds alike, and the flats between them."""
    if len(seeds) < 2:
        raise Refused("Of a slot point at both its round ends, one after the other.")
    (grower, a), (_, b) = [_cylinder(skin, seeds[[k]], scatter) for k in (0, 1)]
    return open_or_shut(skin.mesh, slot_of(grower, a, b), scatter)
