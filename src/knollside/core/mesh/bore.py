"""Holes changed by adding or taking away exact solids, where moving their walls' corners cannot work.

The hole's own polygon, scaled, is the cutter, so that nothing but its wall changes; it is lengthened at open ends only,
and an end is open where there is nothing beyond it near the wall (a counterbore's floor is shut, though its middle is
not). Each cut foretells its volume from slices of the mesh as it was.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import manifold3d as m3
import numpy as np
import shapely
from scipy.spatial import ConvexHull
from shapely.geometry.base import BaseGeometry

from knollside.core.mesh.crossing import crosses_in, crossing_pairs
from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.solid import mesh_of, solid_of
from knollside.core.mesh.topology import bodies_of, edges_of, stands_in
from knollside.core.mesh.wallmoves import Sizes, between, moves_of, swept
from knollside.core.model import Array, Feature, Mesh, Refused, square_to

HAIR = 0.05  # mm past an open end
GRIP = 0.2  # mm a sleeve or skin reaches into the wall
_CROSSES = 0.98  # cosine between the axes of holes that may cross
# mm that what is added stands out of another bore's wall: level with it, edges would meet edges. One after the other,
# where the first leaves two triangles through each other.
_PROUD = (3e-4, 1.5e-4, 5e-4)
_THROUGH = 0.5  # mm that a hole's room goes on past its open ends
_LOOKED_OVER = 200_000  # triangles
_CRUMB = 1e-3  # mm3
_SIX_DIGITS = 7e-6  # of the farthest coordinate: how far a text file may move a corner
_AROUND = np.linspace(0, np.pi, 33)
_STEEPEST = 4.0  # how far past it, as a multiple of the growth of the radius: cones down to 28 degrees a side


@dataclass(frozen=True)
class Bore:
    """A hole in its own frame: rows of ``turn`` are across, up and along; ``ring`` (n, 2) its wall's corners, ``low``
    and ``high`` its ends along the axis from ``centre``, and whether each end is open near the wall."""

    turn: Array
    centre: Array
    ring: Array
    low: float
    high: float
    open_low: bool
    open_high: bool
    radius: float
    mouths: tuple[float, float] = (0.0, 0.0)

    @property
    def closed_from_to(self) -> tuple[float, float]:
        """Heights between which its wall goes all round: past what mouths that lean leave open at either end, and as
        much again, where the wall beside it runs out to an edge."""
        low, high = self.low + 2 * self.mouths[0], self.high - 2 * self.mouths[1]
        middle = (self.low + self.mouths[0] + self.high - self.mouths[1]) / 2
        return (low, high) if low < high else (middle - 1e-3, middle + 1e-3)

    def local(self, mesh: Mesh) -> Mesh:
        """The mesh in the frame of the bore, its axis along Z."""
        return Mesh((mesh.vertices - self.centre) @ self.turn.T, mesh.faces)

    def placed(self, profile: BaseGeometry | Array, z0: float, z1: float) -> m3.Manifold:
        """A prism of ``profile`` from z0 to z1 along the axis, in the part's frame."""
        rings = [profile] if isinstance(profile, np.ndarray) else _rings(profile)
        solid = m3.Manifold.extrude(m3.CrossSection(rings, m3.FillRule.EvenOdd), z1 - z0).translate((0, 0, z0))
        return solid.transform(np.c_[self.turn.T, self.centre])


@dataclass(frozen=True)
class Cut:
    """A solid to take away (or to add) at ``bore``, seen along its axis as ``profile``; the volume change foretold, and
    the handles through the part it makes. ``near``: foretold to first order only, what meets it curves."""

    solid: m3.Manifold
    adds: bool
    predicted: float
    bore: Bore
    profile: BaseGeometry
    handles: int = 0
    near: bool = False


def bore_of(mesh: Mesh, f: Feature, up: Array | None = None) -> Bore:
    """The hole ``f`` of this mesh; ``up`` gives the frame's second direction, square to the axis."""
    if f.diameter is None or f.kind not in ("hole", "hexagon"):
        raise Refused(f"{f.title} is no hole.")
    axis, centre = np.asarray(f.axis), np.asarray(f.centre)
    v = square_to(axis)[0] if up is None else up - axis * (up @ axis)
    if np.linalg.norm(v) < 0.05:
        raise Refused(f"{f.title} stands upright in this way to lie; a roof is for holes that lie.")
    v = v / np.linalg.norm(v)
    turn = np.stack([np.cross(v, axis), v, axis])
    points = (mesh.vertices[np.unique(mesh.faces[f.faces])] - centre) @ turn.T
    ring = points[ConvexHull(points[:, :2]).vertices][:, :2]
    across = np.linalg.norm(ring, axis=1)
    # Corners cut into a strip by another shape lie on its flat, inside the true polygon; both ends' coincide, to what
    # six digits leave.
    slack = max(_SIX_DIGITS * float(np.abs(mesh.bounds).max()), 1e-5)
    ring = ring[across > across.max() - 2 * slack]
    ring = ring[np.linalg.norm(ring - np.roll(ring, 1, axis=0), axis=1) > 3 * slack]
    low, high = float(points[:, 2].min()), float(points[:, 2].max())
    turns = np.linspace(0, 2 * np.pi, 12, endpoint=False)
    spots = 0.97 * across.max() * np.cos(np.pi / len(ring)) * np.stack([np.cos(turns), np.sin(turns)], axis=1)
    open_ = []
    for z in (low - HAIR, high + HAIR):
        there = centre + np.c_[spots, np.full(12, z)] @ turn
        open_.append(points_inside(mesh, there).mean() < 0.5)
    return Bore(turn, centre, ring, low, high, open_[0], open_[1], float(across.max()), _mouths(points))


def _mouths(points: Array) -> tuple[float, float]:
    """How far each end of a wall's corners (n, 3) in its frame is drawn out, as by a mouth that leans: by twelfths."""
    sector = ((np.arctan2(points[:, 1], points[:, 0]) / (2 * np.pi) % 1) * 12).astype(int)
    there = np.unique(sector)
    low = np.array([points[sector == k, 2].min() for k in there])
    high = np.array([points[sector == k, 2].max() for k in there])
    return float(np.ptp(low)), float(np.ptp(high))


def grown(mesh: Mesh, f: Feature, to: float, up: Array | None = None, shape: str = "round", sag: float = 0.0) -> Cut:
    """Take away what lies between the hole and the same polygon scaled to ``to`` mm (across, as drawn), with a roof of
    the given ``shape`` towards ``up``; ``sag`` in mm."""
    b = bore_of(mesh, f, up)
    scale = to / float(f.diameter or 1.0)
    profile: BaseGeometry = shapely.Polygon(b.ring * scale)
    if shape != "round":
        top = shapely.Polygon(roof_profile(b.radius * scale, shape, sag))
        profile = shapely.union(profile, top) if scale > 1 else top
    past = HAIR + _STEEPEST * b.radius * max(scale - 1, 0.0)
    z0, z1 = b.low - past * b.open_low, b.high + past * b.open_high
    cutter = b.placed(profile, z0, z1)
    return Cut(cutter, False, -float((solid_of(mesh) ^ cutter).volume()), b, profile)


def roof_profile(radius: float, shape: str, sag: float) -> Array:
    """The roof's outline (n, 2), up along the second axis; it begins at the hole's middle, in the void."""
    half = radius / np.sqrt(2)
    tip = radius * np.sqrt(2)
    if shape == "teardrop":
        return np.array([(0, 0), (half, half), (0, tip), (-half, half)])
    if shape == "flat top":
        top = min(radius + max(sag, 0.05), 0.98 * tip)
        wide = tip - top
        return np.array([(0, 0), (half, half), (wide, top), (-wide, top), (-half, half)])
    if shape == "sag":
        if sag <= 0:
            raise Refused("There is no sag to allow for.")
        return np.stack([radius * np.cos(_AROUND), (radius + sag) * np.sin(_AROUND)], axis=1)
    raise Refused(f"There is no roof '{shape}'. There are: teardrop, flat top, sag.")


def moved_walls(mesh: Mesh, f: Feature, to: Sizes, features: tuple[Feature, ...] = ()) -> list[Cut]:
    """The solid between a feature's wall and where it goes, as a cut; foretold by the volume the wall sweeps. What
    is added leaves other holes among ``features`` open: then there are several to try, the first first."""
    moves = moves_of(mesh, f, to)
    solid, adds = between(mesh, f, moves)
    crossed = [bore_of(mesh, g) for g in features if _may_cross(f, g)] if adds else []
    axis, centre = np.asarray(f.axis), np.asarray(f.centre)
    v = square_to(axis)[0]
    turn = np.stack([np.cross(v, axis), v, axis])
    own = (mesh.vertices[moves.own] + moves.by - centre) @ turn.T
    ring = np.asarray(shapely.MultiPoint(own[:, :2]).convex_hull.exterior.coords)[:-1]
    low, high = float(own[:, 2].min()), float(own[:, 2].max())
    radius = float(np.linalg.norm(ring, axis=1).max())
    b = Bore(turn, centre, ring, low, high, False, False, radius, _mouths(own))
    volume, profile = swept(mesh, f.faces, moves), shapely.Polygon(ring)
    made = [solid - _rooms(crossed, proud) for proud in _PROUD] if crossed else [solid]
    return [Cut(s, adds, volume, b, profile, near=True) for s in made]


def _may_cross(f: Feature, g: Feature) -> bool:
    """Whether another hole comes near a feature, across its axis."""
    if g.kind != "hole" or g.id == f.id or g.rough or abs(float(np.dot(g.axis, f.axis))) >= _CROSSES:
        return False
    reach = sum(float(np.hypot(h.length or 0.0, h.diameter or 0.0)) / 2 for h in (f, g))
    return float(np.linalg.norm(np.subtract(f.centre, g.centre))) < reach + 2 * _THROUGH


def _rooms(bores: list[Bore], proud: float) -> m3.Manifold:
    """The room of some holes and on through their open ends, less ``proud`` mm at their walls."""
    return m3.Manifold.batch_boolean(
        [
            b.placed(b.ring * (1 - proud / b.radius), b.low - _THROUGH * b.open_low, b.high + _THROUGH * b.open_high)
            for b in bores
        ],
        m3.OpType.Add,
    )


@dataclass(frozen=True)
class Piece:
    """Cuts that belong together, what they are for in words, and the least wall (mm) they must leave."""

    what: str
    cuts: list[Cut]
    least_wall: float = 0.0


def carve(mesh: Mesh, cuts: list[Cut], what: str, least_wall: float = 0.0) -> Mesh:
    """One :func:`carve_all`."""
    return carve_all(mesh, [Piece(what, cuts, least_wall)])[0]


def carve_all(mesh: Mesh, pieces: list[Piece]) -> tuple[Mesh, list[float]]:
    """Make the cuts one after another; the mesh, and the volume each piece was found to change, mm3.

    Raises :class:`Refused`, with nothing half-done, where a body would be lost, a volume not be as foretold, corners
    outside the cuts be moved, or less than its least wall be left.
    """
    solid, volumes = solid_of(mesh), []
    for piece in pieces:
        before, predicted = solid.volume(), sum(c.predicted for c in piece.cuts)
        for c in piece.cuts:
            solid = solid + c.solid if c.adds else solid - c.solid
        found = solid.volume() - before
        volumes.append(found)
        slack = 0.1 if any(c.near for c in piece.cuts) else 0.01
        if abs(found - predicted) > slack * abs(predicted) + 0.02:
            raise Refused(
                f"{piece.what}: the volume would change by {found:.2f} mm³ where {predicted:.2f} was foretold; it "
                "meets something else there. Change it in the model."
            )
    cuts = [c for piece in pieces for c in piece.cuts]
    what = ", ".join(piece.what for piece in pieces)
    made = mesh_of(_without_crumbs(solid))
    edges = edges_of(made)
    if not len(made.faces) or not (edges.count == 2).all():
        raise Refused(f"{what}: the mesh would not be closed; nothing was changed.")
    bodies, had = bodies_of(made, edges)[0], bodies_of(mesh)[0]
    if bodies != had:
        raise Refused(f"{what}: a body would be lost or torn; nothing was changed.")
    if _handles(made, bodies) - _handles(mesh, had) != sum(c.handles for c in cuts):
        raise Refused(f"{what}: it would break through into another opening; nothing was changed.")
    for piece in pieces:
        for c in piece.cuts if piece.least_wall > 0 else []:
            wall = _wall_left(made, c)
            if wall < piece.least_wall:
                least = piece.least_wall
                raise Refused(f"{piece.what}: {wall:.2f} mm of wall would be left; two lines are {least:.2f} mm.")
    boxes = [np.array(c.solid.bounding_box()).reshape(2, 3) for c in cuts]
    # What is added ends within a hair of what is there; looked over as a whole, as a file is on reading.
    whole = any(c.adds for c in cuts) and len(made.faces) < _LOOKED_OVER
    beside = crosses_in(made, boxes) and not crosses_in(mesh, boxes)
    if beside or (whole and len(crossing_pairs(made))):
        raise Refused(f"{what}: faces would cut into each other there; nothing was changed.")
    lost = _moved(mesh, made, cuts)
    if lost:
        raise Refused(f"{what}: {lost} corners away from it would be lost; nothing was changed.")
    return made, volumes


def _without_crumbs(solid: m3.Manifold) -> m3.Manifold:
    """Without pieces under a thousandth of a cubic millimetre, which rounding leaves where a cut meets a curve."""
    pieces = solid.decompose()
    kept = [p for p in pieces if abs(p.volume()) > _CRUMB]
    return m3.Manifold.compose(kept) if 0 < len(kept) < len(pieces) else solid


def _rings(profile: BaseGeometry) -> list[Array]:
    rings = []
    for p in shapely.get_parts(profile):
        if p.geom_type == "Polygon" and not p.is_empty:
            rings += [np.asarray(r.coords)[:-1, :2] for r in (p.exterior, *p.interiors)]
    return rings


def within(local: Mesh, profile: BaseGeometry | Array, b: Bore, z0: float, z1: float) -> float:
    """Volume of the part within a prism, by slices (Gauss-Legendre between the hole's ends)."""
    shape = shapely.Polygon(profile) if isinstance(profile, np.ndarray) else profile
    stops = sorted({z0, z1, *(z for z in (b.low, b.high) if z0 < z < z1)})
    x, w = np.polynomial.legendre.leggauss(12)
    levels = np.concatenate([(p + q) / 2 + x * (q - p) / 2 for p, q in pairwise(stops)])
    weight = np.concatenate([w * (q - p) / 2 for p, q in pairwise(stops)])
    cuts = cut(local, levels)
    areas = [shapely.intersection(polygon_of(cuts.at(k)), shape).area for k in range(len(levels))]
    return float(weight @ np.array(areas))


def _wall_left(made: Mesh, c: Cut) -> float:
    """Least distance across the axis from the cut's void to another void, mm, at five heights."""
    b, least = c.bore, np.inf
    low, high = b.closed_from_to
    cuts = cut(b.local(made), low + np.array([0.03, 0.25, 0.5, 0.75, 0.97]) * (high - low))
    for k in range(5):
        section = polygon_of(cuts.at(k))
        near = shapely.box(*shapely.buffer(c.profile, 6.0).bounds)
        voids = shapely.get_parts(shapely.difference(near, section))
        own = shapely.distance(voids, c.profile) < 1e-6  # what another body leaves free of it, too
        others = voids[~own]
        if len(others):
            least = min(least, float(shapely.distance(others, c.profile).min()))
    return least


def _handles(mesh: Mesh, bodies: int) -> int:
    """Handles of all bodies together (genus), by Euler's formula."""
    e = len(mesh.faces) * 3 // 2
    return int(bodies - (len(mesh.used) - e + len(mesh.faces)) // 2)


def _moved(before: Mesh, after: Mesh, cuts: list[Cut]) -> int:
    """Corners of ``before`` outside every cut's box that are not in ``after`` to the bit."""
    far = np.ones(len(before.vertices), bool)
    for c in cuts:
        box = np.array(c.solid.bounding_box()).reshape(2, 3)
        far &= ((before.vertices < box[0] - 1e-4) | (before.vertices > box[1] + 1e-4)).any(axis=1)
    used = np.zeros(len(before.vertices), bool)
    used[before.faces.ravel()] = True
    return int((~stands_in(before.vertices[far & used], after.vertices)).sum())
