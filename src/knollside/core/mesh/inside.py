"""Point-in-solid by ray parity."""

from __future__ import annotations

import numba
import numpy as np

from knollside.core.model import Array, Mesh


@numba.njit(cache=True, parallel=True, nogil=True)
def _winding(tri: np.ndarray, pts: np.ndarray, out: np.ndarray) -> None:
    # Generalised winding number by solid angles (Van Oosterom and Strackee 1983): no lucky rays.
    for i in numba.prange(pts.shape[0]):
        total = 0.0
        for j in range(tri.shape[0]):
            ax = tri[j, 0, 0] - pts[i, 0]
            ay = tri[j, 0, 1] - pts[i, 1]
            az = tri[j, 0, 2] - pts[i, 2]
            bx = tri[j, 1, 0] - pts[i, 0]
            by = tri[j, 1, 1] - pts[i, 1]
            bz = tri[j, 1, 2] - pts[i, 2]
            cx = tri[j, 2, 0] - pts[i, 0]
            cy = tri[j, 2, 1] - pts[i, 1]
            cz = tri[j, 2, 2] - pts[i, 2]
            a = np.sqrt(ax * ax + ay * ay + az * az)
            b = np.sqrt(bx * bx + by * by + bz * bz)
            c = np.sqrt(cx * cx + cy * cy + cz * cz)
            det = ax * (by * cz - bz * cy) - ay * (bx * cz - bz * cx) + az * (bx * cy - by * cx)
            den = (
                a * b * c
                + (ax * bx + ay * by + az * bz) * c
                + (bx * cx + by * cy + bz * cz) * a
                + (cx * ax + cy * ay + cz * az) * b
            )
            total += np.arctan2(det, den)
        out[i] = total / (2 * np.pi)


def points_inside(mesh: Mesh, points: Array) -> np.ndarray:
    """Boolean array: which points (n, 3) lie inside the closed mesh, whichever way it is wound."""
    points = np.atleast_2d(np.asarray(points, float))
    out = np.zeros(len(points))
    _winding(np.ascontiguousarray(mesh.triangles), points, out)
    return np.abs(out) > 0.5
