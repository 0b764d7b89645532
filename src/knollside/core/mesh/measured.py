"""Normals, areas, middles and bends of a mesh in one pass over it."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.mesh.topology import Edges
from knollside.core.model import Array, Mesh


@dataclass(frozen=True)
class Measured:
    """Per triangle: unit ``normals`` (m, 3; nought without area), ``areas`` (mm2), ``middles`` (m, 3), ``longest`` side
    (mm); per paired edge the signed ``angle`` between its triangles (rad, positive where convex)."""

    normals: Array
    areas: Array
    middles: Array
    longest: Array
    angle: Array


def measured(mesh: Mesh, edges: Edges) -> Measured:
    """All of it for a mesh."""
    n = len(mesh.faces)
    normals, middles = np.zeros((n, 3)), np.zeros((n, 3))
    areas, longest = np.zeros(n), np.zeros(n)
    _triangles(np.ascontiguousarray(mesh.vertices), np.ascontiguousarray(mesh.faces), normals, areas, middles, longest)
    angle = np.zeros(len(edges.pair))
    _bends(normals, middles, np.ascontiguousarray(edges.pair), angle)
    return Measured(normals, areas, middles, longest, angle)


def dihedral(mesh: Mesh, edges: Edges) -> Array:
    """Signed angle (rad) between the normals at each paired edge, positive where convex."""
    return measured(mesh, edges).angle


@numba.njit(cache=True, nogil=True, parallel=True)
def _triangles(v, f, normals, areas, middles, longest):  # type: ignore[no-untyped-def]
    for t in numba.prange(len(f)):
        a, b, c = f[t, 0], f[t, 1], f[t, 2]
        u0, u1, u2 = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
        w0, w1, w2 = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        n0, n1, n2 = u1 * w2 - u2 * w1, u2 * w0 - u0 * w2, u0 * w1 - u1 * w0
        size = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
        areas[t] = size / 2
        if size > 0:
            normals[t, 0], normals[t, 1], normals[t, 2] = n0 / size, n1 / size, n2 / size
        for k in range(3):
            middles[t, k] = (v[a, k] + v[b, k] + v[c, k]) / 3
        x0, x1, x2 = w0 - u0, w1 - u1, w2 - u2
        long = max(u0 * u0 + u1 * u1 + u2 * u2, w0 * w0 + w1 * w1 + w2 * w2)
        longest[t] = np.sqrt(max(long, x0 * x0 + x1 * x1 + x2 * x2))


@numba.njit(cache=True, nogil=True, parallel=True)
def _bends(normals, middles, pair, angle):  # type: ignore[no-untyped-def]
    for e in numba.prange(len(pair)):
        a, b = pair[e, 0], pair[e, 1]
        p0, p1, p2 = normals[a, 0], normals[a, 1], normals[a, 2]
        q0, q1, q2 = normals[b, 0], normals[b, 1], normals[b, 2]
        c0, c1, c2 = p1 * q2 - p2 * q1, p2 * q0 - p0 * q2, p0 * q1 - p1 * q0
        bend = np.arctan2(np.sqrt(c0 * c0 + c1 * c1 + c2 * c2), p0 * q0 + p1 * q1 + p2 * q2)
        d0, d1, d2 = middles[b, 0] - middles[a, 0], middles[b, 1] - middles[a, 1], middles[b, 2] - middles[a, 2]
        angle[e] = bend if p0 * d0 + p1 * d1 + p2 * d2 <= 0 else -bend
