"""Wall thickness by rays: from a surface place straight in, to the surface on the other side."""

from __future__ import annotations

import numba
import numpy as np

from knollside.core.model import Array, Ints, Mesh


@numba.njit(cache=True, parallel=True, nogil=True)
def _through(origin, unit, corner, one, two, low, high, near, out, which):  # type: ignore[no-untyped-def]
    """Nearest hit of each ray beyond ``near`` (Moeller and Trumbore 1997) and its triangle; inf and -1 for none."""
    for r in numba.prange(origin.shape[0]):
        ox, oy, oz = origin[r, 0], origin[r, 1], origin[r, 2]
        ux, uy, uz = unit[r, 0], unit[r, 1], unit[r, 2]
        best, face = np.inf, -1
        for t in range(corner.shape[0]):
            # The triangle's box against the part of the ray still in question.
            if best < np.inf:
                if low[t, 0] > max(ox, ox + best * ux) or high[t, 0] < min(ox, ox + best * ux):
                    continue
                if low[t, 1] > max(oy, oy + best * uy) or high[t, 1] < min(oy, oy + best * uy):
                    continue
            px, py, pz = (
                uy * two[t, 2] - uz * two[t, 1],
                uz * two[t, 0] - ux * two[t, 2],
                ux * two[t, 1] - uy * two[t, 0],
            )
            det = one[t, 0] * px + one[t, 1] * py + one[t, 2] * pz
            if abs(det) < 1e-14:
                continue
            sx, sy, sz = ox - corner[t, 0], oy - corner[t, 1], oz - corner[t, 2]
            a = (sx * px + sy * py + sz * pz) / det
            if a < -1e-9 or a > 1 + 1e-9:
                continue
            qx, qy, qz = (
                sy * one[t, 2] - sz * one[t, 1],
                sz * one[t, 0] - sx * one[t, 2],
                sx * one[t, 1] - sy * one[t, 0],
            )
            b = (ux * qx + uy * qy + uz * qz) / det
            if b < -1e-9 or a + b > 1 + 1e-9:
                continue
            hit = (two[t, 0] * qx + two[t, 1] * qy + two[t, 2] * qz) / det
            if near < hit < best:
                best, face = hit, t
        out[r], which[r] = best, face


def _cast(mesh: Mesh, points: Array, unit: Array) -> tuple[Array, Ints]:
    tri = mesh.triangles
    out, which = np.empty(len(points)), np.empty(len(points), np.int64)
    _through(
        np.ascontiguousarray(points, float),
        np.ascontiguousarray(unit, float),
        np.ascontiguousarray(tri[:, 0]),
        np.ascontiguousarray(tri[:, 1] - tri[:, 0]),
        np.ascontiguousarray(tri[:, 2] - tri[:, 0]),
        tri.min(axis=1),
        tri.max(axis=1),
        1e-6 * float(mesh.size.max()),
        out,
        which,
    )
    return out, which


def thickness(mesh: Mesh, points: Array, normals: Array) -> Array:
    """Depth of material (n,) mm straight under surface ``points`` with outward ``normals``; inf where a ray finds
    no other side (an open mesh)."""
    return _cast(mesh, points, -np.asarray(normals, float))[0]


def gap(mesh: Mesh, points: Array, normals: Array) -> Array:
    """Free room (n,) mm straight over surface ``points`` up to a surface that faces back; inf where none does."""
    unit = np.asarray(normals, float)
    room, face = _cast(mesh, points, unit)
    facing = np.einsum("ij,ij->i", mesh.normals[face], unit) < -0.9
    return np.where((face >= 0) & facing, room, np.inf)


def way_out(mesh: Mesh, points: Array, unit: Array) -> Array:
    """Length of material (n,) mm from ``points`` along ``unit`` vectors to where it ends; none where a ray starts
    outside it, inf where it never ends (an open mesh)."""
    length, face = _cast(mesh, points, unit)
    leaving = np.einsum("ij,ij->i", mesh.normals[face], np.asarray(unit, float)) > 0
    return np.where((face < 0) | leaving, length, 0.0)
