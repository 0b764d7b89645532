"""Cutting a mesh by level planes: segments, section properties and exact polygons."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.model import Array, Ints, Mesh


@numba.njit(cache=True, nogil=True)
def _count(z: np.ndarray, levels: np.ndarray, per_level: np.ndarray) -> None:
    for t in range(z.shape[0]):
        low = min(z[t, 0], z[t, 1], z[t, 2])
        high = max(z[t, 0], z[t, 1], z[t, 2])
        for k in range(np.searchsorted(levels, low), np.searchsorted(levels, high)):
            per_level[k + 1] += 1


@numba.njit(cache=True, nogil=True)
def _cut(p: np.ndarray, levels: np.ndarray, at: np.ndarray, out: np.ndarray) -> None:
    for t in range(p.shape[0]):
        low = min(p[t, 0, 2], p[t, 1, 2], p[t, 2, 2])
        high = max(p[t, 0, 2], p[t, 1, 2], p[t, 2, 2])
        for k in range(np.searchsorted(levels, low), np.searchsorted(levels, high)):
            z = levels[k]
            row = at[k]
            at[k] += 1
            for a in range(3):
                b = (a + 1) % 3
                za = p[t, a, 2]
                zb = p[t, b, 2]
                if (za <= z) == (zb <= z):
                    continue
                # Interpolate from the lower end always, so both triangles at an edge agree to the bit.
                if za < zb:
                    f = (z - za) / (zb - za)
                    x = p[t, a, 0] + f * (p[t, b, 0] - p[t, a, 0])
                    y = p[t, a, 1] + f * (p[t, b, 1] - p[t, a, 1])
                    end = 1
                else:
                    f = (z - zb) / (za - zb)
                    x = p[t, b, 0] + f * (p[t, a, 0] - p[t, b, 0])
                    y = p[t, b, 1] + f * (p[t, a, 1] - p[t, b, 1])
                    end = 0
                out[row, end, 0] = x
                out[row, end, 1] = y


@dataclass(frozen=True)
class Cuts:
    """Directed segments (solid on the left) of every level: ``segments[start[k]:start[k+1]]``."""

    levels: Array
    start: Ints
    segments: Array

    def at(self, k: int) -> Array:
        """Segments of cut ``k`` (n, 2, 2) mm, solid on the left."""
        return self.segments[self.start[k] : self.start[k + 1]]


def cut(mesh: Mesh, levels: Array) -> Cuts:
    """Cut at each height in ``levels`` (sorted). Levels on a vertex height are nudged up by a hair.

    Of a plate 40 x 30 x 8 mm with a hole of 5 mm, half way up:

    >>> section = section_of(cut(plate, np.array([4.0])).at(0))
    >>> round(section.area, 1)  # 1200 less the hole's polygon of 48 sides
    1180.4
    """
    levels = np.asarray(levels, float)
    heights = np.unique(mesh.vertices[:, 2])
    near = np.clip(np.searchsorted(heights, levels), 0, len(heights) - 1)
    span = max(float(np.ptp(heights)), 1e-9)
    on = (np.abs(heights[near] - levels) < 1e-9 * span) | (
        np.abs(heights[np.maximum(near - 1, 0)] - levels) < 1e-9 * span
    )
    levels = np.where(on, levels + 1e-7 * span, levels)
    start = np.zeros(len(levels) + 1, np.int64)
    triangles = np.ascontiguousarray(mesh.triangles)
    _count(np.ascontiguousarray(triangles[:, :, 2]), levels, start)
    start = np.cumsum(start)
    out = np.zeros((int(start[-1]), 2, 2))
    _cut(triangles, levels, start[:-1].copy(), out)
    return Cuts(levels, start, out)


@dataclass(frozen=True)
class Section:
    """Plane properties of one cut: area mm2, centroid (x, y), and the central second moments
    ``ixx`` = integral of y2, ``iyy`` of x2, ``ixy`` of xy, mm4; ``box`` its (min, max) corners."""

    area: float
    centroid: tuple[float, float]
    ixx: float
    iyy: float
    ixy: float
    box: Array


def section_of(segments: Array) -> Section:
    """Section properties from directed boundary segments by Green's theorem (no polygons needed)."""
    if len(segments) == 0:
        return Section(0.0, (0.0, 0.0), 0.0, 0.0, 0.0, np.zeros((2, 2)))
    shift = segments.reshape(-1, 2).mean(axis=0)
    a, b = segments[:, 0] - shift, segments[:, 1] - shift
    c = a[:, 0] * b[:, 1] - b[:, 0] * a[:, 1]
    area = c.sum() / 2
    if abs(area) < 1e-12:
        return Section(0.0, (0.0, 0.0), 0.0, 0.0, 0.0, np.zeros((2, 2)))
    mx = (c * (a[:, 0] + b[:, 0])).sum() / 6 / area
    my = (c * (a[:, 1] + b[:, 1])).sum() / 6 / area
    ixx = (c * (a[:, 1] ** 2 + a[:, 1] * b[:, 1] + b[:, 1] ** 2)).sum() / 12 - area * my**2
    iyy = (c * (a[:, 0] ** 2 + a[:, 0] * b[:, 0] + b[:, 0] ** 2)).sum() / 12 - area * mx**2
    ixy = (
        c * (a[:, 0] * b[:, 1] + 2 * a[:, 0] * a[:, 1] + 2 * b[:, 0] * b[:, 1] + b[:, 0] * a[:, 1])
    ).sum() / 24 - area * mx * my
    points = segments.reshape(-1, 2)
    return Section(
        float(area),
        (float(mx + shift[0]), float(my + shift[1])),
        float(ixx),
        float(iyy),
        float(ixy),
        np.array([points.min(axis=0), points.max(axis=0)]),
    )


def polygon_of(segments: Array) -> BaseGeometry:
    """The exact filled outline as a shapely (multi)polygon, by the even-odd rule."""
    if len(segments) == 0:
        return shapely.Polygon()
    keep = np.linalg.norm(segments[:, 0] - segments[:, 1], axis=1) > 1e-9
    snapped = np.round(segments[keep], 7)
    faces = shapely.get_parts(shapely.polygonize(shapely.linestrings(snapped)))
    if len(faces) == 0:
        return shapely.Polygon()
    if len(faces) == 1:
        return faces[0]
    # Polygonise returns every face, holes too: keep those at odd depth.
    outline = shapely.get_parts(shapely.polygons(shapely.get_exterior_ring(faces)))
    points = shapely.point_on_surface(faces)
    depth = np.array([int(shapely.contains_properly(outline, p).sum()) for p in points])
    return shapely.union_all(faces[depth % 2 == 1])
