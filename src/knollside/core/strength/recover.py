"""Stress at points, from samples inside the cells by a local least-squares fit.

Values are those of the solid material at the local strain: in a cell blended of
skin and core the strain is shared and the solid part carries modulus times
strain; in a cell the surface cuts, samples lie in its filled part.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Array, Ints, Mesh
from knollside.core.strength.condense import read_stress
from knollside.core.strength.element import Brick, filled_spots
from knollside.core.strength.graded import Level
from knollside.core.strength.grid import CORNERS, Grid
from knollside.core.strength.lookup import Lookup, cell_at
from knollside.core.strength.spots import sample_faces

REACH = 2.5  # cells
BEND = 0.01  # how strongly curvature of the fit is held back
_GOOD = 0.2  # share of solid from which a cell's values count
_BATCH = 4000


@numba.njit(cache=True, nogil=True)
def _first(m, n, x):  # type: ignore[no-untyped-def]
    """First row of the inverse of the symmetric ``m`` (n, n), in ``x``; overwrites ``m``."""
    x[0] = 1.0
    for a in range(1, n):
        x[a] = 0.0
    for a in range(n):
        for b in range(a + 1, n):
            f = m[b, a] / m[a, a]
            for q in range(a, n):
                m[b, q] -= f * m[a, q]
            x[b] -= f * x[a]
    for a in range(n - 1, -1, -1):
        for b in range(a + 1, n):
            x[a] -= m[a, b] * x[b]
        x[a] /= m[a, a]


@numba.njit(cache=True, nogil=True, fastmath=True)
def _gram(terms, weight, count, n, m):  # type: ignore[no-untyped-def]
    """Weighted products (n, n) of the rows of ``terms`` (10, ...): sample by sample along each, as vectors."""
    for a in range(n):
        for b in range(a, n):
            s = 0.0
            for q in range(count):
                s += weight[q] * terms[a, q] * terms[b, q]
            m[a, b] = m[b, a] = s


@numba.njit(cache=True, nogil=True, fastmath=True)
def _sum(terms, y, n, weight, cell, count, values, out):  # type: ignore[no-untyped-def]
    """The value at the point: each sample by its weight in the fit."""
    for v in range(out.shape[0]):
        out[v] = 0.0
    for q in range(count):
        s = 0.0
        for a in range(n):
            s += y[a] * terms[a, q]
        s *= weight[q]
        c, g = cell[q] // 6, cell[q] % 6
        for v in range(out.shape[0]):
            out[v] += s * values[c, g, v]


@numba.njit(cache=True, parallel=True, nogil=True)
def _fit(points, origin, size, low, table, pool, filled, middle, spread, values, reach, good, bend, out):  # type: ignore[no-untyped-def]
    """The fit's value at each point is a weighted sum of samples: the weights are found once for all columns."""
    n = 10 if bend > 0 else 4
    for p in numba.prange(points.shape[0]):
        m, y = np.zeros((10, 10)), np.empty(10)
        x = (points[p] - origin) / size
        i0, i1 = int(np.floor(x[0] - reach)), int(np.floor(x[0] + reach))
        j0, j1 = int(np.floor(x[1] - reach)), int(np.floor(x[1] + reach))
        k0, k1 = int(np.floor(x[2] - reach)), int(np.floor(x[2] + reach))
        most = 6 * (i1 - i0 + 1) * (j1 - j0 + 1) * (k1 - k0 + 1)
        cell, weight, terms = np.empty(most, np.int64), np.empty(most), np.empty((10, most))
        count = 0
        for attempt in range(2):
            least = good if attempt == 0 else 0.02
            count, total = 0, 0.0
            for i in range(i0, i1 + 1):
                for j in range(j0, j1 + 1):
                    for k in range(k0, k1 + 1):
                        c = cell_at(low, table, pool, i, j, k)
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
                            cell[count], weight[count] = 6 * c + g, w
                            terms[0, count] = 1.0
                            terms[1, count], terms[2, count], terms[3, count] = d0, d1, d2
                            if n == 10:
                                terms[4, count], terms[5, count], terms[6, count] = d0 * d0, d1 * d1, d2 * d2
                                terms[7, count], terms[8, count], terms[9, count] = d0 * d1, d1 * d2, d0 * d2
                            count += 1
            if total > 2.0:
                break
        if count == 0:
            out[p] = 0
            continue
        _gram(terms, weight, count, n, m)
        for a in range(1, n):
            # A wall one cell thick has no slope across the others; curvature is kept small where little tells it.
            m[a, a] += (1e-3 if a < 4 else bend) * m[0, 0]
        _first(m, n, y)
        _sum(terms, y, n, weight, cell, count, values, out[p])


@dataclass(frozen=True)
class Samples:
    """Solid stress ``values`` (c, 6 points, 6 k) MPa of k cases, order xx yy zz yz zx xy, at ``middle`` +-
    ``spread`` (c, 3), both in cell widths from the cell's low corner."""

    middle: Array
    spread: Array
    values: Array


def sample_spots(grid: Grid | Level) -> tuple[Array, Array]:
    """Middle and spread (c, 3) of every cell's filled part, local coordinates."""
    middle = np.zeros((len(grid.cells), 3))
    spread = np.full((len(grid.cells), 3), 1 / np.sqrt(3))
    if len(grid.cut):
        middle[grid.cut], spread[grid.cut] = filled_spots(grid.moments)
    return middle, spread


def sample_stress(grid: Grid | Level, brick: Brick, u: Array, apart: bool = False) -> Samples:
    """Stress of the solid material inside every cell from corner displacements ``u`` (k, 3n) of k cases, or where each
    cell has its own, ``apart``, (k, 24c)."""
    nodes = np.arange(8 * len(grid.cells)).reshape(-1, 8) if apart else grid.nodes
    middle, spread = sample_spots(grid)
    values = np.empty((len(grid.cells), 6, 6 * len(u)))
    corners = 2.0 * CORNERS - 1
    which = np.zeros(len(grid.cells), np.int64)
    out = np.empty((len(grid.cells), 6, 6))
    for k, each in enumerate(u):
        at = nodes, each, which, brick.release[None], middle, spread
        read_stress(*at, brick.half, brick.c, corners, out)
        values[:, :, 6 * k : 6 * k + 6] = out
    for a in range(0, len(grid.cut), _BATCH):
        mine = grid.cut[a : a + _BATCH]
        release = brick.condense(grid.moments[a : a + _BATCH]).release
        some, own = np.empty((len(mine), 6, 6)), np.arange(len(mine))
        for k, each in enumerate(u):
            at = nodes[mine], each, own, release, middle[mine], spread[mine]
            read_stress(*at, brick.half, brick.c, corners, some)
            values[mine, :, 6 * k : 6 * k + 6] = some
    return Samples((middle + 1) / 2, spread / 2, values)


def judge_points(mesh: Mesh, grid: Grid, depth: float, solid: Array) -> tuple[Array, Array]:
    """Where stress is judged: points half ``depth`` under the surface, then middles of solid cells.

    ``solid`` (c,) is each cell's share of solid stiffness; a soft core is not judged as solid.

    Averaging a linear stress over ``depth`` (the critical distance, D. Taylor 2007)
    equals its value at half of it. Returns (points, outward normals; zero inside).
    """
    spots = sample_faces(mesh, np.arange(len(mesh.faces)), float(grid.size.max()))
    surface = spots.points - 0.5 * depth * spots.normals
    first = one_a_bucket(surface, spots.normals, grid.origin, grid.size)
    full = (grid.filled > 0.9) & (solid > 0.5)
    points = np.vstack([surface[first], grid.centres[full]])
    return points, np.vstack([spots.normals[first], np.zeros((int(full.sum()), 3))])


def one_a_bucket(points: Array, normals: Array, origin: Array, size: Array) -> Ints:
    """Numbers of one point per cell-sized bucket and facing: enough where triangles are finer than cells."""
    bucket = np.floor((points - origin) / (0.7 * size)).astype(np.int64)
    facing = np.round(normals * 1.5).astype(np.int64) + 2
    bucket = bucket - bucket.min(axis=0)
    key = np.ravel_multi_index(tuple(np.c_[bucket, facing].T), (*(bucket.max(axis=0) + 1), 5, 5, 5))
    _, first = np.unique(key, return_index=True)
    return np.asarray(np.sort(first))


def judged_stress(grid: Grid, samples: Samples, points: Array, normals: Array, solid: Array) -> Array:
    """Stress (k, n, 6) at the judged points: fitted near the surface, the cell's own mean at middles inside."""
    surface = np.linalg.norm(normals, axis=1) > 0
    out = np.empty((samples.values.shape[2] // 6, len(points), 6))
    out[:, surface] = stress_at(grid, samples, points[surface], solid)
    place = np.floor((points[~surface] - grid.origin) / grid.size).astype(np.int64)
    mean = samples.values[grid.cell_of[tuple(place.T)]].mean(axis=1)
    out[:, ~surface] = mean.reshape(len(mean), len(out), 6).transpose(1, 0, 2)
    return out


def stress_at(grid: Grid, samples: Samples, points: Array, solid: Array, bend: float = BEND) -> Array:
    """Recovered stress (k, n, 6) MPa at ``points``, by a quadratic whose curvature is held by ``bend`` (0: a plane).

    Cells count by their share of ``solid`` (c,): a soft core strains in its own way, and its
    strain times the solid's modulus is no stress of the shell.
    """
    return fitted(grid.origin, grid.size, grid.lookup, samples, points, solid, bend, REACH)


def fitted(
    origin: Array,
    size: Array,
    lookup: Lookup,
    samples: Samples,
    points: Array,
    solid: Array,
    bend: float,
    reach: float,
) -> Array:
    """The same on any lattice of cells of one ``size``; ``reach`` is how many cells away samples still count."""
    out = np.empty((len(points), samples.values.shape[2]))
    at = lookup.low, lookup.table, lookup.pool
    known = np.ascontiguousarray(solid), samples.middle, samples.spread, samples.values
    _fit(np.ascontiguousarray(points), origin, size, *at, *known, reach, _GOOD, bend, out)
    return np.ascontiguousarray(out.reshape(len(points), samples.values.shape[2] // 6, 6).transpose(1, 0, 2))
