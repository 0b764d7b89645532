"""How a way to lie stands on the bed: height, contact, overhang, tipping, fit."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numba
import numpy as np
import shapely
from scipy.spatial import ConvexHull, QhullError

from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.model import Array, Ints, Mesh, Recipe, rotation_to_up

REACH_SHARE = 0.5  # of a line width a layer may stick out; typical, docs/methods.md 4.2


def overhang_limit(recipe: Recipe, reach: float = REACH_SHARE) -> float:
    """Greatest lean from vertical (rad) that prints unsupported: atan(f w / h), thinner layers reach further."""
    return math.atan(reach * recipe.line_width / recipe.layer_height)


_BLOCK = 256  # triangles looked at together


@numba.njit(cache=True, nogil=True, fastmath=True)
def _steep(x, y, z, area, nx, ny, nz, sine):  # type: ignore[no-untyped-def]
    """Area of a block's triangles that lean too far: plain sums, so that they run as vectors."""
    total = 0.0
    for t in range(x.shape[0]):
        down = -(x[t] * nx + y[t] * ny + z[t] * nz)
        total += area[t] if down > 0 and down >= sine * area[t] else 0.0
    return total / 2


@numba.njit(cache=True, parallel=True, nogil=True)
def _sweep(cross, area, faces, vertices, outer, low, high, n, sine, first, overhang, contact, height):  # type: ignore[no-untyped-def]
    """``cross`` (3, t) and ``area`` twice the triangles' own; ``outer`` (o, 3) the hull's corners; ``low`` and
    ``high`` (blocks, 3) boxes of each block of triangles."""
    for d in numba.prange(n.shape[0]):
        nx, ny, nz = n[d, 0], n[d, 1], n[d, 2]
        bottom, top = 1e300, -1e300
        for v in range(outer.shape[0]):
            z = outer[v, 0] * nx + outer[v, 1] * ny + outer[v, 2] * nz
            bottom = min(bottom, z)
            top = max(top, z)
        over, touch = 0.0, 0.0
        for b in range(low.shape[0]):
            a, e = b * _BLOCK, min((b + 1) * _BLOCK, area.shape[0])
            over += _steep(cross[0, a:e], cross[1, a:e], cross[2, a:e], area[a:e], nx, ny, nz, sine)
            least = min(nx * low[b, 0], nx * high[b, 0]) + min(ny * low[b, 1], ny * high[b, 1])
            least += min(nz * low[b, 2], nz * high[b, 2])
            if least - bottom >= first:
                continue
            for t in range(a, e):  # a block that may rest on the bed: contact is no overhang
                down = -(cross[0, t] * nx + cross[1, t] * ny + cross[2, t] * nz)
                if down <= 0 or down < sine * area[t]:
                    continue
                z = -1e300
                for k in range(3):
                    p = faces[t, k]
                    z = max(z, vertices[p, 0] * nx + vertices[p, 1] * ny + vertices[p, 2] * nz)
                if z - bottom < first:
                    touch += down / 2
                    over -= area[t] / 2
        overhang[d], contact[d], height[d] = max(over, 0.0), touch, top - bottom


@dataclass(frozen=True)
class Standing:
    """Estimates for many directions, from face normals: mm2, mm2, mm."""

    overhang: Array
    contact: Array
    height: Array

    def part(self, which: slice | list[int]) -> Standing:
        """Those of some directions only."""
        return Standing(self.overhang[which], self.contact[which], self.height[which])


def hull_corners(mesh: Mesh) -> Ints:
    """Numbers of the corners that can be lowest or highest in some direction; all where the hull is flat."""
    used = mesh.used
    try:
        return used[ConvexHull(mesh.vertices[used]).vertices]
    except QhullError:
        return used


def standing(mesh: Mesh, directions: Array, recipe: Recipe) -> Standing:
    """Overhang area, bed contact and height of each direction (d, 3)."""
    count = len(directions)
    out = np.empty(count), np.empty(count), np.empty(count)
    corner = mesh.triangles
    starts = np.arange(0, len(mesh.faces), _BLOCK)
    _sweep(
        np.ascontiguousarray(mesh.crosses.T),
        np.linalg.norm(mesh.crosses, axis=1),
        mesh.faces,
        mesh.vertices,
        mesh.vertices[hull_corners(mesh)],
        np.minimum.reduceat(corner.min(axis=1), starts),
        np.maximum.reduceat(corner.max(axis=1), starts),
        np.ascontiguousarray(directions, float),
        math.sin(overhang_limit(recipe)),
        recipe.layer_height,
        *out,
    )
    return Standing(*out)


def fitting(mesh: Mesh, directions: Array, bed: tuple[float, float, float]) -> np.ndarray:
    """Which directions (d, 3) leave the part within the ``bed``'s room, lying along or across it. (d,) bool."""
    corner = mesh.vertices[hull_corners(mesh)]
    span = np.array([np.ptp(corner @ rotation_to_up(n).T, axis=0) for n in directions])
    flat = np.sort(span[:, :2], axis=1)
    room = np.sort(bed[:2])
    return np.asarray((flat <= room).all(axis=1) & (span[:, 2] <= bed[2]))


@dataclass(frozen=True)
class Footing:
    """Exact footing of one way: contact polygon in the bed's frame, its area, the tip margin.

    ``margin`` is how far inside the contact's hull the centre of mass stands, mm
    (negative: it tips over); ``lean`` that margin over the centre's height.
    """

    outline: shapely.Geometry
    contact: float
    margin: float
    lean: float
    height: float
    layers: int
    fits: bool
    turn: Array

    @property
    def stands(self) -> bool:
        """Whether it stays by itself: its middle over its foot, and a foot to speak of (4 mm2)."""
        return self.margin > 0 and self.contact >= 4.0


def footing(
    mesh: Mesh, direction: Array | tuple[float, float, float], recipe: Recipe, bed: tuple[float, float, float]
) -> Footing:
    """Cut the first layer for real and see what stands on it. ``bed`` = (x, y, z) room in mm.

    A plate 40 x 30 x 8 mm on its face, on a bed of 220 mm:

    >>> foot = footing(plate, (0.0, 0.0, 1.0), Recipe(layer_height=0.2), (220.0, 220.0, 250.0))
    >>> round(foot.contact), foot.layers, foot.stands
    (1180, 40, True)
    """
    turn = rotation_to_up(direction)
    turned = mesh.turned(turn)
    low, high = turned.bounds
    section = polygon_of(cut(turned, np.array([low[2] + recipe.layer_height / 2])).at(0))
    hull = section.convex_hull
    centre = centre_of_mass(turned)
    point = shapely.Point(centre[0], centre[1])
    inside = hull.contains(point) if hull.area > 0 else False
    margin = (1 if inside else -1) * float(hull.exterior.distance(point)) if hull.geom_type == "Polygon" else -1.0
    height = float(high[2] - low[2])
    fits = bool(fitting(mesh, np.asarray(direction, float)[None], bed)[0])
    return Footing(
        section,
        float(section.area),
        margin,
        margin / max(float(centre[2] - low[2]), 1e-6),
        height,
        max(1, round(height / recipe.layer_height)),
        fits,
        turn,
    )


def centre_of_mass(mesh: Mesh) -> Array:
    """Centroid of the enclosed volume (divergence theorem)."""
    origin = mesh.bounds.mean(axis=0)
    t = mesh.triangles - origin
    six = np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2]))
    return np.asarray((t.sum(axis=1) * six[:, None]).sum(axis=0) / (4 * six.sum()) + origin)
