"""Where the part is held and pushed, put on the grid at the true surface."""

from __future__ import annotations

import math
from dataclasses import astuple, dataclass

import numba
import numpy as np

from knollside.core.model import (
    Array,
    EdgeFixture,
    Feature,
    Fixture,
    Ints,
    Mesh,
    PinFixture,
    Refused,
    ScrewFixture,
    SlidingFixture,
    ThreadFixture,
    WallFixture,
)
from knollside.core.strength.graded import Graded
from knollside.core.strength.grid import Grid
from knollside.core.strength.rims import circle, rim_of
from knollside.core.strength.spots import SHARE, Spots, around, locate, sample_on

# Held places are springs this many times stiffer than a cell is long: the clamp then
# gives by 1/40 of a cell's own stretch, and the smoother still copes.
_SPRING = 40.0
# Faces that press give as so many mm of the plastic: printed ones are rough by a tenth of a millimetre. Were they much
# stiffer than a cell, they would touch at a handful of its spots, and at others on every grid.
_ROUGH, _GIVES = 0.1, 0.2
_SEATED = 0.5  # of a screw head's ring must find a face


@dataclass(frozen=True)
class Constraint:
    """One held place on the grid: springs at ``spots`` along every axis, or along ``along`` (n, 3) only.

    ``active`` (n,) tells which spots hold (one that is ``one_way`` lets go where it would pull); ``gap`` (n,) is
    how far along each spot lies what holds it, mm: the play of a screw.
    """

    spots: Spots
    cell: Ints
    weights: Array
    along: Array | None
    active: np.ndarray
    one_way: bool = False
    gap: Array | None = None

    @property
    def is_screw(self) -> bool:
        """Whether it is a loose screw, which alone has a play: its ring and its shank."""
        return self.gap is not None

    @property
    def beyond(self) -> Array | float:
        """The gap, nothing where there is none."""
        return 0.0 if self.gap is None else self.gap


def constrain(grid: Grid | Graded, mesh: Mesh, faces: Ints, fixture: Fixture, feature: Feature) -> Constraint:
    """A held place of any kind, sampled on the true surface."""
    gap: Array | None = None
    if isinstance(fixture, ScrewFixture):
        spots = _under_head(grid, mesh, feature, fixture)
        if not fixture.tight:
            ring, shank = len(spots.points), sample_on(grid, mesh, faces)
            spots = Spots(*(np.concatenate(pair) for pair in zip(astuple(spots), astuple(shank), strict=True)))
            gap = np.repeat([0.0, fixture.play(feature.diameter or 0.0)], [ring, len(spots.points) - ring])
    elif isinstance(fixture, EdgeFixture):
        spots = _along_edge(mesh, feature, fixture, faces, float(grid.size.min()))
    else:
        spots = sample_on(grid, mesh, faces)
    if isinstance(fixture, PinFixture) and feature.kind not in ("hole", "slot"):
        raise Refused(f"A pin carries a hole; {feature.title.lower()} is none.")
    if isinstance(fixture, ThreadFixture) and feature.kind != "hole":
        raise Refused(f"A screw is turned into a hole; {feature.title.lower()} is none.")
    cell, weights = locate(grid, spots)
    sticks = isinstance(fixture, WallFixture) and fixture.sticks
    only_normal = isinstance(fixture, SlidingFixture) or (fixture.one_way and not sticks)
    active = np.ones(len(spots.points), np.bool_)
    return Constraint(spots, cell, weights, spots.normals if only_normal else None, active, fixture.one_way, gap)


def rim(mesh: Mesh, faces: Ints, fixture: Fixture, feature: Feature, spacing: float) -> Array:
    """Points (n, 3) along the line where a held place ends and its idealised hold has no bound on the stress."""
    if isinstance(fixture, EdgeFixture):
        return _along_edge(mesh, feature, fixture, faces, 2 * spacing).points
    if not isinstance(fixture, ScrewFixture) or feature.diameter is None or feature.length is None:
        return rim_of(mesh, faces, spacing)
    axis, centre = np.asarray(feature.axis), np.asarray(feature.centre)
    radii = fixture.head(feature.diameter) / 2, feature.diameter / 2
    ends = centre + 0.5 * feature.length * axis, centre - 0.5 * feature.length * axis
    return np.vstack([circle(at, axis, r, spacing) for at in ends for r in radii])


def _under_head(grid: Grid | Graded, mesh: Mesh, hole: Feature, fixture: ScrewFixture) -> Spots:
    """The ring of flat around a hole's mouths that a screw's head and the wall behind squeeze."""
    if hole.kind != "hole" or hole.diameter is None or hole.length is None:
        raise Refused(f"A screw's head clamps a hole; {hole.title.lower()} is none.")
    axis, centre = np.asarray(hole.axis), np.asarray(hole.centre)
    radius = fixture.head(hole.diameter) / 2
    middle = mesh.triangles.mean(axis=1) - centre
    height = (mesh.triangles - centre) @ axis
    at_end = (np.abs(np.abs(height) - hole.length / 2) < 0.05).all(axis=1)
    flat = at_end & (np.abs(mesh.normals @ axis) > 0.99) & (np.sign(mesh.normals @ axis) == np.sign(middle @ axis))
    if not flat.any():
        raise Refused(f"{hole.title} has no flat around it for a screw's head; hold it in another way.")
    near = around(mesh, np.flatnonzero(flat), centre, axis, radius)
    spots = sample_on(grid, near, np.arange(len(near.faces)), min(SHARE, 0.25 * radius / float(grid.size.min())))
    off = spots.points - centre
    away = np.linalg.norm(off - np.outer(off @ axis, axis), axis=1)
    keep = away <= radius
    if not keep.any():
        raise Refused(f"The head over {hole.title.lower()} is no wider than the hole.")
    ends = len({bool(v) for v in (off[keep] @ axis) > 0})
    share = float(spots.area[keep].sum()) / (ends * math.pi * (radius**2 - hole.diameter**2 / 4))
    if share < _SEATED:
        raise Refused(
            f"A head of {2 * radius:.1f} mm over {hole.title.lower()} would rest on {100 * share:.0f} % of its ring: "
            "the face there is too small for it. Say the head's true size, or hold it in another way."
        )
    return Spots(spots.points[keep], spots.normals[keep], spots.area[keep])


def _along_edge(mesh: Mesh, feature: Feature, fixture: EdgeFixture, faces: Ints, width: float) -> Spots:
    """Points along the sharp edge nearest to the place, each standing for a strip one cell wide."""
    mine = np.zeros(len(mesh.faces), np.bool_)
    mine[faces] = True
    edges = mesh.faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2)
    owner = np.repeat(np.arange(len(mesh.faces)), 3)
    key = np.sort(edges, axis=1)
    _, number = np.unique(key, axis=0, return_inverse=True)
    inside = np.bincount(number.ravel(), mine[owner], minlength=int(number.max()) + 1)
    rim = np.flatnonzero((inside[number.ravel()] == 1) & mine[owner])
    if len(rim) == 0:
        raise Refused(f"{feature.title} has no edge to clamp.")
    a, b = mesh.vertices[edges[rim, 0]], mesh.vertices[edges[rim, 1]]
    at = np.asarray(fixture.at if fixture.at is not None else feature.centre, float)
    t = np.clip(((at - a) * (b - a)).sum(axis=1) / np.maximum(((b - a) ** 2).sum(axis=1), 1e-18), 0, 1)
    start = int(np.argmin(np.linalg.norm(a + t[:, None] * (b - a) - at, axis=1)))
    way = (b - a) / np.maximum(np.linalg.norm(b - a, axis=1, keepdims=True), 1e-12)
    line = np.linalg.norm(np.cross(a - a[start], way[start]), axis=1) < 0.05
    line &= np.abs(way @ way[start]) > 0.999
    points, area = [], []
    for p, q in zip(a[line], b[line]):
        n = max(int(np.ceil(np.linalg.norm(q - p) / (0.5 * width))), 1)
        points.append(p + (np.arange(n) + 0.5)[:, None] / n * (q - p))
        area.append(np.full(n, np.linalg.norm(q - p) / n * width))
    spots = np.vstack(points)
    normal = mesh.normals[owner[rim[start]]]
    return Spots(spots, np.tile(normal, (len(spots), 1)), np.concatenate(area))


def stiffness(grid: Grid | Graded, h: Constraint, modulus: float) -> float:
    """Of a held place's springs, N/mm per mm2: next to nothing gives, or where it only presses as rough faces do."""
    cell = float(grid.size.min())
    return modulus / (max(_GIVES * cell, _ROUGH) if h.one_way else cell / _SPRING)


def springs(grid: Grid | Graded, constraints: list[Constraint], modulus: float) -> dict[int, Array]:
    """Extra (24, 24) cell matrices of all held places."""
    touched = np.unique(np.concatenate([h.cell[h.active] for h in constraints]))
    out = np.zeros((len(touched), 24, 24))
    for h in constraints:
        on = h.active
        along = h.along[on] if h.along is not None else np.zeros((0, 3))
        place = np.searchsorted(touched, h.cell[on])
        _add_springs(place, h.weights[on], stiffness(grid, h, modulus) * h.spots.area[on], along, out)
    return {int(c): out[i] for i, c in enumerate(touched)}


@numba.njit(cache=True, nogil=True)
def _add_springs(place, weights, stiff, along, out):  # type: ignore[no-untyped-def]
    for s in range(len(place)):
        m = place[s]
        for a in range(8):
            for b in range(8):
                f = stiff[s] * weights[s, a] * weights[s, b]
                if len(along):
                    for i in range(3):
                        for j in range(3):
                            out[m, 3 * a + i, 3 * b + j] += f * along[s, i] * along[s, j]
                else:
                    for i in range(3):
                        out[m, 3 * a + i, 3 * b + i] += f


def drawing_force(grid: Grid | Graded, h: Constraint, modulus: float) -> Array:
    """Nodal forces (3n,) that draw a held place to where what holds it lies, over its ``gap``."""
    assert h.gap is not None and h.along is not None
    each = h.along * (stiffness(grid, h, modulus) * h.spots.area * h.gap * h.active)[:, None]
    f = np.zeros((len(grid.points), 3))
    for a in range(8):
        np.add.at(f, grid.nodes[h.cell, a], h.weights[:, a, None] * each)
    return f.reshape(-1)


def drawn_together(grid: Grid | Graded, holds: list[Constraint], modulus: float) -> Array | None:
    """Nodal forces (3n,) of all holds that are drawn over a gap where they act; None where none is."""
    drawing = [h for h in holds if h.gap is not None and np.any(h.gap[h.active])]
    return sum((drawing_force(grid, h, modulus) for h in drawing), np.zeros(3 * len(grid.points))) if drawing else None


def moved(grid: Grid | Graded, h: Constraint, u: Array) -> Array:
    """Displacement (n, 3) at a held place's spots."""
    return np.asarray(np.einsum("sa,sad->sd", h.weights, u.reshape(-1, 3)[grid.nodes[h.cell]]))


def point_forces(h: Constraint, grid: Grid | Graded, u: Array, modulus: float) -> Array:
    """The force a held place exerts on the part at each sample point (n, 3), N."""
    at = moved(grid, h, u)
    if h.along is not None:
        at = h.along * (np.einsum("sd,sd->s", at, h.along) - h.beyond)[:, None]
    return np.asarray(-stiffness(grid, h, modulus) * at * (h.spots.area * h.active)[:, None])


def refuse_if_loose(constraints: list[Constraint], size: float, start: str = "The part is held, but") -> None:
    """Raise :class:`Refused`, naming the motion left free, unless the holds, where they act, stop all six."""
    rows = []
    middle = np.vstack([h.spots.points for h in constraints]).mean(axis=0)
    for h in constraints:
        p = (h.spots.points[h.active] - middle) / size
        weight = np.sqrt(h.spots.area[h.active])[:, None]
        directions = [h.along[h.active]] if h.along is not None else [np.tile(e, (len(p), 1)) for e in np.eye(3)]
        for d in directions:
            rows.append(np.hstack([d, np.cross(p, d)]) * weight)
    a = np.vstack(rows)
    _, s, vt = np.linalg.svd(a.T @ a)
    # A small face beside a large wall holds little by comparison, and still holds.
    free = np.flatnonzero(s < 1e-7 * s[0])
    if len(free) == 0:
        return
    motion = _plainest(vt[free])
    shift, turn = motion[:3], motion[3:]
    if np.linalg.norm(turn) > 0.3:
        axis = turn / np.linalg.norm(turn)
        raise Refused(
            f"{start} can still turn about the direction {_axis(axis)}. Hold one more place away from that line."
        )
    axis = shift / np.linalg.norm(shift)
    raise Refused(f"{start} can still slide along {_axis(axis)}. Hold a face square to that.")


def _plainest(free: Array) -> Array:
    """Of the motions left free, the one nearest to a plain slide or turn along one axis."""
    share = np.linalg.norm(free, axis=0)  # how much of each of the six plain motions is free
    best = int(np.argmax(np.round(share, 3)))
    return np.asarray(free.T @ free[:, best])


def _axis(v: Array) -> str:
    v = v * (1 if v[np.argmax(np.abs(v))] > 0 else -1)
    return f"({v[0]:.2f}, {v[1]:.2f}, {v[2]:.2f})"
