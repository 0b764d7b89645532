"""Stress at points, from samples inside the cells by a local least-squares fit.

Values are those of the solid material at the local strain: in a cell blended of
skin and core the strain is shared and the solid part carries modulus times
strain; in a cell the surface cuts, samples lie in its filled part.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Array, Mesh
from knollside.core.strength.condense import read_stress
from knollside.core.strength.conditions import sample_faces
from knollside.core.strength.element import Brick, filled_spots
from knollside.core.strength.grid import CORNERS, Grid

REACH = 2.5  # cells
BEND = 0.01  # how strongly curvature of the fit is held back
_GOOD = 0.2  # share of solid from which a cell's values count
_BATCH = 4000


@numba.njit(cache=True, nogil=True)
def _solve(m, n, wide, out):  # type: ignore[no-untyped-def]
    """First unknown of n normal equations in ``m`` (n, wide), six right sides behind them."""
    for a in range(n):
        for b in range(a + 1, n):
            f = m[b, a] / m[a, a]
            for q in range(a, wide):
                m[b, q] -= f * m[a, q]
    x = np.empty(n)
    for q in range(6):
        for a in range(n - 1, -1, -1):
            s = m[a, n + q]
            for b in range(a + 1, n):
                s -= m[a, b] * x[b]
            x[a] = s / m[a, a]
        out[q] = x[0]


@numba.njit(cache=True, parallel=True, nogil=True)
def _fit(points, origin, size, cell_of, filled, middle, spread, values, reach, good, bend, out):  # type: ignore[no-untyped-def]
    for p in numba.prange(points.shape[0]):
        terms = 10 if bend > 0 else 4
        m = np.zeros((10, 16))  # normal equations and right sides together
        x = (points[p] - origin) / size
        i0, i1 = max(int(np.floor(x[0] - reach)), 0), min(int(np.floor(x[0] + reach)), cell_of.shape[0] - 1)
        j0, j1 = max(int(np.floor(x[1] - reach)), 0), min(int(np.floor(x[1] + reach)), cell_of.shape[1] - 1)
        k0, k1 = max(int(np.floor(x[2] - reach)), 0), min(int(np.floor(x[2] + reach)), cell_of.shape[2] - 1)
        total = 0.0
        row = np.empty(16)
        for attempt in range(2):
            least = good if attempt == 0 else 0.02
            for i in range(i0, i1 + 1):
                for j in range(j0, j1 + 1):
                    for k in range(k0, k1 + 1):
                        c = cell_of[i, j, k]
                        if c < 0 or filled[c] < least:
                            continue
                        for g in range(6):
                            d0 = i + middle[c, 0] - x[0]
                            d1 = j + middle[c, 1] - x[1]
                            d2 = k + middle[c, 2] - x[2]
                            step = spread[c, g % 3] if g < 3 else -spread[c, g % 3]
                            if g % 3 == 0:
                                d0 += step
                            elif g % 3 == 1:
                                d1 += step
                            else:
                                d2 += step
                            away = (d0 * d0 + d1 * d1 + d2 * d2) / (reach * reach)
                            if away >= 1:
                                continue
                            w = (1 - away) * (1 - away) * filled[c]
                            total += w
                            row[0] = 1
                            row[1], row[2], row[3] = d0, d1, d2
                            if terms == 10:
                                row[4], row[5], row[6] = d0 * d0, d1 * d1, d2 * d2
                                row[7], row[8], row[9] = d0 * d1, d1 * d2, d0 * d2
                            for q in range(6):
                                row[terms + q] = values[c, g, q]
                            for a in range(terms):
                                wa = w * row[a]
                                for b in range(a, terms + 6):
                                    m[a, b] += wa * row[b]
            if total > 2.0:
                break
            m[:] = 0
            total = 0.0
        if m[0, 0] <= 0:
            out[p] = 0
            continue
        for a in range(terms):
            for b in range(a):
                m[a, b] = m[b, a]
        for a in range(1, terms):
            # A wall one cell thick has no slope across the others; curvature is kept small where little tells it.
            m[a, a] += (1e-3 if a < 4 else bend) * m[0, 0]
        _solve(m, terms, terms + 6, out[p])


@dataclass(frozen=True)
class Samples:
    """Solid stress ``values`` (c, 6 points, 6) MPa, order xx yy zz yz zx xy, at ``middle`` +- ``spread``
    (c, 3), both in cell widths from the cell's low corner."""

    middle: Array
    spread: Array
    values: Array


def sample_spots(grid: Grid) -> tuple[Array, Array]:
    """Middle and spread (c, 3) of every cell's filled part, local coordinates."""
    middle = np.zeros((len(grid.cells), 3))
    spread = np.full((len(grid.cells), 3), 1 / np.sqrt(3))
    if len(grid.cut):
        middle[grid.cut], spread[grid.cut] = filled_spots(grid.moments)
    return middle, spread


def sample_stress(grid: Grid, brick: Brick, u: Array) -> Samples:
    """Stress of the solid material inside every cell from corner displacements ``u`` (3n,)."""
    middle, spread = sample_spots(grid)
    values = np.empty((len(grid.cells), 6, 6))
    corners = 2.0 * CORNERS - 1
    which = np.zeros(len(grid.cells), np.int64)
    read_stress(grid.nodes, u, which, brick.release[None], middle, spread, brick.half, brick.c, corners, values)
    for a in range(0, len(grid.cut), _BATCH):
        mine = grid.cut[a : a + _BATCH]
        release = brick.condense(grid.moments[a : a + _BATCH]).release
        out = np.empty((len(mine), 6, 6))
        own = np.arange(len(mine))
        at = grid.nodes[mine], u, own, release, middle[mine], spread[mine]
        read_stress(*at, brick.half, brick.c, corners, out)
        values[mine] = out
    return Samples((middle + 1) / 2, spread / 2, values)


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


def judged_stress(grid: Grid, samples: Samples, points: Array, normals: Array, solid: Array) -> Array:
    """Stress (n, 6) at the judged points: fitted near the surface, the cell's own mean at middles inside."""
    surface = np.linalg.norm(normals, axis=1) > 0
    out = np.empty((len(points), 6))
    out[surface] = stress_at(grid, samples, points[surface], solid)
    place = np.floor((points[~surface] - grid.origin) / grid.size).astype(np.int64)
    out[~surface] = samples.values[grid.cell_of[tuple(place.T)]].mean(axis=1)
    return out


def stress_at(grid: Grid, samples: Samples, points: Array, solid: Array, bend: float = BEND) -> Array:
    """Recovered stress (n, 6) MPa at ``points``, by a quadratic whose curvature is held by ``bend`` (0: a plane).

    Cells count by their share of ``solid`` (c,): a soft core strains in its own way, and its
    strain times the solid's modulus is no stress of the shell.
    """
    out = np.empty((len(points), 6))
    _fit(
        np.ascontiguousarray(points),
        grid.origin,
        grid.size,
        grid.cell_of,
        np.ascontiguousarray(solid),
        samples.middle,
        samples.spread,
        samples.values,
        REACH,
        _GOOD,
        bend,
        out,
    )
    return out
