"""Which round surfaces go through a small patch: cylinder, cone and ball tried one after the other, compiled.

The same fits as in :mod:`quadrics`, for the thousands of patches of a free surface that are of nothing: there the
calls themselves would take most of the time.
"""

from __future__ import annotations

import numba
import numpy as np

from knollside.core.mesh.recognition.quadrics import Form, Surface, centred, least_axis, nearest_round, tip
from knollside.core.model import Array

_MOST_OF = 0.75  # of a patch's corners stand on the surface as exactly as the file tells them


@numba.njit(cache=True, nogil=True)
def _square_to(axis):  # type: ignore[no-untyped-def]
    e = np.zeros(3)
    e[0 if abs(axis[0]) < 0.9 else 1] = 1.0
    u = np.cross(axis, e)
    u /= np.sqrt((u * u).sum())
    return u, np.cross(axis, u)


@numba.njit(cache=True, nogil=True)
def _far(form, at, axis, size, points):  # type: ignore[no-untyped-def]
    """How far points stand off the surface, mm."""
    off = np.zeros(len(points))
    for i in range(len(points)):
        q = points[i] - at
        square = (q * q).sum()
        if form == 2:
            off[i] = abs(np.sqrt(square) - size)
            continue
        z = (q * axis).sum()
        r = np.sqrt(max(square - z * z, 0.0))
        off[i] = abs(r - size) if form == 0 else abs(r * np.cos(size) - z * np.sin(size))
    return off


@numba.njit(cache=True, nogil=True)
def _cone_start(normals, middles, areas):  # type: ignore[no-untyped-def]
    """Apex, axis and half angle from the facets' planes; a negative angle where there is none."""
    axis = least_axis(normals, areas, True)
    total = areas.sum()
    lean = 0.0
    centre = np.zeros(3)
    a, b = np.zeros((len(normals), 3)), np.zeros(len(normals))
    for i in range(len(normals)):
        lean += areas[i] * (normals[i] * axis).sum() / total
        centre += areas[i] * middles[i] / total
        w = np.sqrt(areas[i] / total)
        a[i] = normals[i] * w
    if abs(lean) < 1e-4 or abs(lean) > 0.999:
        return centre, axis, -1.0
    # About the patch's own middle: planes far from the origin would lose digits.
    for i in range(len(normals)):
        b[i] = (normals[i] * (middles[i] - centre)).sum() * np.sqrt(areas[i] / total)
    apex = np.linalg.lstsq(a, b)[0] + centre
    if ((centre - apex) * axis).sum() < 0:
        axis = -axis
    return apex, axis, np.arcsin(min(abs(lean), 1.0))


@numba.njit(cache=True, nogil=True)
def _cone_near(at, axis, points):  # type: ignore[no-untyped-def]
    """The steep cone that a cylinder nearly is; a negative angle where it does not taper."""
    n = len(points)
    z, r = np.zeros(n), np.zeros(n)
    for i in range(n):
        q = points[i] - at
        z[i] = (q * axis).sum()
        r[i] = np.sqrt(max((q * q).sum() - z[i] * z[i], 0.0))
    zm, rm = z.mean(), r.mean()
    wide = ((z - zm) ** 2).sum()
    slope = ((z - zm) * (r - rm)).sum() / wide if wide > 1e-18 else 0.0
    if abs(slope) < 1e-4:
        return at, axis, -1.0
    apex = at - axis * ((rm - slope * zm) / slope)
    return apex, axis * (1.0 if slope > 0 else -1.0), np.arctan(abs(slope))


@numba.njit(cache=True, nogil=True)
def _ruled(form, at, axis, size, points, reach):  # type: ignore[no-untyped-def]
    """A cylinder or cone refined from a near one; a size that is no number where it is hopeless."""
    off = _far(form, at, axis, size, points).max()
    if not off <= 3 * reach:
        return at, axis, np.nan
    if form == 1:
        at = tip(at, points)
    at, axis, size = nearest_round(form, points, at, axis, size)
    if form == 1:
        size = min(max(size, 1e-5), np.pi / 2 - 1e-5)
    return at, axis, size


@numba.njit(cache=True, nogil=True)
def _good(form, at, axis, size, points, reach, tolerance, strict):  # type: ignore[no-untyped-def]
    """Whether corners stand on it, all nearly and most exactly, and the patch is a fair part of it."""
    if not np.isfinite(size + at.sum() + axis.sum()):
        return False
    if form == 1:
        for i in range(len(points)):
            if not ((points[i] - at) * axis).sum() > -1e-3 * reach:
                return False
        if not np.radians(0.3) < size < np.radians(85.0):
            return False
    elif not 0.05 < size < 60 * reach:
        return False
    off = np.sort(_far(form, at, axis, size, points))
    return off[-1] <= tolerance and np.quantile(off, _MOST_OF) <= strict


@numba.njit(cache=True, nogil=True)
def _through(points, normals, middles, areas, tolerance, strict):  # type: ignore[no-untyped-def]
    """Rows of form, point, axis, size of what goes through a patch, the simplest first."""
    out = np.zeros((4, 8))
    n = 0
    reach = 0.0
    for k in range(3):
        reach = max(reach, points[:, k].max() - points[:, k].min())
    axis = least_axis(normals, areas, False)
    total = areas.sum()
    lean, mean = 0.0, np.zeros(3)
    for i in range(len(normals)):
        lean += areas[i] * (normals[i] * axis).sum() ** 2 / total
        mean += areas[i] * normals[i] / total
    turn = np.sqrt(1 - min(1.0, (mean * mean).sum()))
    u, v = _square_to(axis)
    flat = np.empty((len(points), 2))
    for i in range(len(points)):
        flat[i, 0], flat[i, 1] = (points[i] * u).sum(), (points[i] * v).sum()
    centre, radius = centred(flat)
    at = u * centre[0] + v * centre[1]
    fine_at, fine_axis, fine_size = _ruled(0, at, axis, radius, points, reach)
    if np.sqrt(lean) < 0.5 * turn + 1e-3 and _good(0, fine_at, fine_axis, fine_size, points, reach, tolerance, strict):
        out[n, 0], out[n, 1:4], out[n, 4:7], out[n, 7] = 0, fine_at, fine_axis, fine_size
        n += 1
    apex, along, angle = _cone_start(normals, middles, areas)
    for turn_of in range(2):
        if turn_of == 1:
            angle = -1.0
            if np.isfinite(fine_size + fine_at.sum() + fine_axis.sum()):
                apex, along, angle = _cone_near(fine_at, fine_axis, points)
        if angle <= 0:
            continue
        a, b, c = _ruled(1, apex, along, angle, points, reach)
        if _good(1, a, b, c, points, reach, tolerance, strict):
            out[n, 0], out[n, 1:4], out[n, 4:7], out[n, 7] = 1, a, b, c
            n += 1
    middle, radius = centred(points)
    if _good(2, middle, axis, radius, points, reach, tolerance, strict):
        out[n, 0], out[n, 1:4], out[n, 6], out[n, 7] = 2, middle, 1.0, radius
        n += 1
    return out[:n]


def through(
    points: Array, normals: Array, middles: Array, areas: Array, tolerance: float, strict: float
) -> list[Surface]:
    """Surfaces that go through corners (n, 3) of triangles with unit ``normals``, ``middles`` and ``areas``, the
    simplest first: what is a cylinder is a cone, too, and two rings of either lie on a ball."""
    p, n, m, a = (np.ascontiguousarray(v, float) for v in (points, normals, middles, areas))
    out = []
    for row in _through(p, n, m, a, tolerance, strict):
        form, size = Form(int(row[0])), float(row[7])
        radius, angle = (0.0, size) if form is Form.CONE else (size, 0.0)
        out.append(Surface(form, row[1:4], row[4:7], radius, angle))
    return out
