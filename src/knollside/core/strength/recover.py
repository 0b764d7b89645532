"""Stress at points, from the cells' Gauss values by a local least-squares plane.

Values are those of the solid material at the local strain: in a cell blended of
skin and core, or cut by the surface, the strain is shared and the solid part
carries modulus times strain.
"""

from __future__ import annotations

import numba
import numpy as np

from knollside.core.model import Array, Mesh
from knollside.core.strength.conditions import sample_faces
from knollside.core.strength.element import GAUSS, Brick
from knollside.core.strength.grid import Grid

REACH = 2.0  # cells; less is noisy in cut cells, more blunts a hole
_GOOD = 0.55  # share of solid from which a cell's values count fully


@numba.njit(cache=True, parallel=True, nogil=True)
def _gauss(nodes, u, matrices, out):  # type: ignore[no-untyped-def]
    for c in numba.prange(nodes.shape[0]):
        for g in range(8):
            for i in range(6):
                s = 0.0
                for a in range(8):
                    m = 3 * nodes[c, a]
                    for d in range(3):
                        s += matrices[g, i, 3 * a + d] * u[m + d]
                out[c, g, i] = s


@numba.njit(cache=True, parallel=True, nogil=True)
def _fit(points, origin, size, cell_of, cells, filled, offset, values, reach, good, out):  # type: ignore[no-untyped-def]
    for p in numba.prange(points.shape[0]):
        m = np.zeros((4, 10))  # normal equations and right sides together
        x = (points[p] - origin) / size
        r = int(np.ceil(reach)) + 1
        i0, j0, k0 = int(np.floor(x[0])), int(np.floor(x[1])), int(np.floor(x[2]))
        total = 0.0
        row = np.empty(10)
        for attempt in range(2):
            least = good if attempt == 0 else 0.05
            for i in range(max(i0 - r, 0), min(i0 + r + 1, cell_of.shape[0])):
                for j in range(max(j0 - r, 0), min(j0 + r + 1, cell_of.shape[1])):
                    for k in range(max(k0 - r, 0), min(k0 + r + 1, cell_of.shape[2])):
                        c = cell_of[i, j, k]
                        if c < 0 or filled[c] < least:
                            continue
                        for g in range(8):
                            d0 = i + offset[g, 0] - x[0]
                            d1 = j + offset[g, 1] - x[1]
                            d2 = k + offset[g, 2] - x[2]
                            away = (d0 * d0 + d1 * d1 + d2 * d2) / (reach * reach)
                            if away >= 1:
                                continue
                            w = (1 - away) * (1 - away) * filled[c]
                            total += w
                            row[0] = 1
                            row[1] = d0
                            row[2] = d1
                            row[3] = d2
                            for q in range(6):
                                row[4 + q] = values[c, g, q]
                            for a in range(4):
                                for b in range(10):
                                    m[a, b] += w * row[a] * row[b]
            if total > 3.0:
                break
            m[:] = 0
            total = 0.0
        if m[0, 0] <= 0:
            out[p] = 0
            continue
        for a in range(1, 4):
            m[a, a] += 1e-3 * m[0, 0]  # a wall one cell thick has no slope across the others
        for a in range(4):
            for b in range(a + 1, 4):
                f = m[b, a] / m[a, a]
                for q in range(a, 10):
                    m[b, q] -= f * m[a, q]
        for q in range(6):
            s3 = m[3, 4 + q] / m[3, 3]
            s2 = (m[2, 4 + q] - m[2, 3] * s3) / m[2, 2]
            s1 = (m[1, 4 + q] - m[1, 2] * s2 - m[1, 3] * s3) / m[1, 1]
            out[p, q] = (m[0, 4 + q] - m[0, 1] * s1 - m[0, 2] * s2 - m[0, 3] * s3) / m[0, 0]


def gauss_stress(grid: Grid, brick: Brick, u: Array) -> Array:
    """Solid stress at the Gauss points of every cell, (c, 8, 6) MPa, order xx yy zz yz zx xy."""
    out = np.empty((len(grid.cells), 8, 6))
    _gauss(grid.nodes, np.ascontiguousarray(u), np.ascontiguousarray(brick.stress), out)
    return out


def judge_points(mesh: Mesh, grid: Grid, depth: float, solid: Array) -> tuple[Array, Array]:
    """Where stress is judged: points half ``depth`` under the surface, then middles of solid cells.

    ``solid`` (c,) is each cell's share of solid stiffness; a soft core is not judged as solid.

    Averaging a linear stress over ``depth`` (the critical distance, D. Taylor 2007)
    equals its value at half of it. Returns (points, outward normals; zero inside).
    """
    spots = sample_faces(mesh, np.arange(len(mesh.faces)), float(grid.size.max()))
    surface = spots.points - 0.5 * depth * spots.normals
    # One point per cell-sized bucket is enough where triangles are finer than cells.
    bucket = np.floor((surface - grid.origin) / (0.7 * grid.size)).astype(np.int64)
    facing = np.round(spots.normals * 1.5).astype(np.int64) + 2
    bucket = bucket - bucket.min(axis=0)
    key = np.ravel_multi_index(tuple(np.c_[bucket, facing].T), (*(bucket.max(axis=0) + 1), 5, 5, 5))
    _, first = np.unique(key, return_index=True)
    first = np.sort(first)
    full = (grid.filled > 0.9) & (solid > 0.5)
    points = np.vstack([surface[first], grid.centres[full]])
    return points, np.vstack([spots.normals[first], np.zeros((int(full.sum()), 3))])


def stress_at(grid: Grid, gauss: Array, points: Array, solid: Array) -> Array:
    """Recovered stress (n, 6) MPa at ``points``.

    Cells count by their share of ``solid`` (c,): a soft core strains in its own way, and its
    strain times the solid's modulus is no stress of the shell.
    """
    out = np.empty((len(points), 6))
    _fit(
        np.ascontiguousarray(points),
        grid.origin,
        grid.size,
        grid.cell_of,
        grid.cells,
        np.ascontiguousarray(solid),
        (GAUSS + 1) / 2,
        gauss,
        REACH,
        _GOOD,
        out,
    )
    return out
