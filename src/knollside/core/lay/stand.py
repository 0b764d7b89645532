"""How a way to lie stands on the bed: height, contact, overhang, tipping, fit."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numba
import numpy as np
import shapely

from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.model import Array, Mesh, Recipe, rotation_to_up

REACH_SHARE = 0.5  # of a line width a layer may stick out; typical, METHODS 2


def overhang_limit(recipe: Recipe, reach: float = REACH_SHARE) -> float:
    """Greatest lean from vertical (rad) that prints unsupported: atan(f w / h), thinner layers reach further."""
    return math.atan(reach * recipe.line_width / recipe.layer_height)


@numba.njit(cache=True, parallel=True, nogil=True)
def _sweep(cross, low_z_owner, vertices, n, sine, first, overhang, contact, height):  # type: ignore[no-untyped-def]
    for d in numba.prange(n.shape[0]):
        bottom, top = 1e300, -1e300
        for v in range(vertices.shape[0]):
            z = vertices[v, 0] * n[d, 0] + vertices[v, 1] * n[d, 1] + vertices[v, 2] * n[d, 2]
            bottom = min(bottom, z)
            top = max(top, z)
        over, touch = 0.0, 0.0
        for t in range(cross.shape[0]):
            down = -(cross[t, 0] * n[d, 0] + cross[t, 1] * n[d, 1] + cross[t, 2] * n[d, 2])
            if down <= 0:
                continue
            area = np.sqrt(cross[t, 0] ** 2 + cross[t, 1] ** 2 + cross[t, 2] ** 2)
            if down < sine * area:
                continue
            z = -1e300
            for k in range(3):
                p = low_z_owner[t, k]
                z = max(z, vertices[p, 0] * n[d, 0] + vertices[p, 1] * n[d, 1] + vertices[p, 2] * n[d, 2])
            if z - bottom < first:
                touch += down / 2
            else:
                over += area / 2
        overhang[d], contact[d], height[d] = over, touch, top - bottom


@dataclass(frozen=True)
class Standing:
    """Estimates for many directions, from face normals: mm2, mm2, mm."""

    overhang: Array
    contact: Array
    height: Array


def standing(mesh: Mesh, directions: Array, recipe: Recipe) -> Standing:
    """Overhang area, bed contact and height of each direction (d, 3)."""
    count = len(directions)
    out = np.empty(count), np.empty(count), np.empty(count)
    _sweep(
        mesh.crosses,
        mesh.faces,
        mesh.vertices,
        np.ascontiguousarray(directions, float),
        math.sin(overhang_limit(recipe)),
        recipe.layer_height,
        *out,
    )
    return Standing(*out)


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
        return self.margin > 0 and self.contact >= 4.0


def footing(
    mesh: Mesh, direction: Array | tuple[float, float, float], recipe: Recipe, bed: tuple[float, float, float]
) -> Footing:
    """Cut the first layer for real and see what stands on it. ``bed`` = (x, y, z) room in mm."""
    turn = rotation_to_up(direction)
    turned = mesh.turned(turn)
    low, high = turned.bounds
    section = polygon_of(cut(turned, np.array([low[2] + recipe.layer_height / 2])).at(0))
    hull = section.convex_hull
    centre = centre_of_mass(turned)
    point = shapely.Point(centre[0], centre[1])
    inside = hull.contains(point) if hull.area > 0 else False
    margin = (1 if inside else -1) * float(hull.exterior.distance(point)) if hull.geom_type == "Polygon" else -1.0
    size = high - low
    across, along = sorted(size[:2])
    room_across, room_along = sorted(bed[:2])
    fits = bool(across <= room_across and along <= room_along and size[2] <= bed[2])
    height = float(size[2])
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
