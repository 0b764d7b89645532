"""Every build direction rated from one stress field (METHODS 1.3).

Layers part when (max(s,0)/Zt)^2 + (q/Zs)^2 >= 1 (Brewer and Lagace 1988), s the
pull across the layer and q the shear along it; in the layer, greatest tension,
greatest compression and von Mises are limited. Points are visited in the order
of a bound that holds for every direction, and a direction stops as soon as no
later point can govern: the answer is that of the full rating, to the bit.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numba
import numpy as np

from knollside.core.material.allowables import Allowables
from knollside.core.model import Array, Ints, Range
from knollside.core.strength.field import StressField

MODES = ("layers pulled apart", "layers sheared", "pulled in the layer", "pressed in the layer", "yields")
_TINY = 1e-12


@numba.njit(cache=True, nogil=True, inline="always")
def _point(s, nx, ny, nz, zt, zs, xt, xc, y):  # type: ignore[no-untyped-def]
    """(parting index, in-layer index, mode) at one stress for one direction; index = 1 / reserve."""
    tx = s[0] * nx + s[5] * ny + s[4] * nz
    ty = s[5] * nx + s[1] * ny + s[3] * nz
    tz = s[4] * nx + s[3] * ny + s[2] * nz
    pull = tx * nx + ty * ny + tz * nz
    qx, qy, qz = tx - pull * nx, ty - pull * ny, tz - pull * nz
    shear = np.sqrt(qx * qx + qy * qy + qz * qz) / zs
    open_ = max(pull, 0.0) / zt
    parting = np.sqrt(open_ * open_ + shear * shear)
    mode = 0 if open_ >= shear else 1
    # In-layer stresses: the 2 x 2 block left when n is taken out.
    if abs(nz) < 0.9:
        ux, uy, uz = -ny, nx, 0.0
    else:
        ux, uy, uz = 0.0, -nz, ny
    m = np.sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = ux / m, uy / m, uz / m
    vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    ax = s[0] * ux + s[5] * uy + s[4] * uz
    ay = s[5] * ux + s[1] * uy + s[3] * uz
    az = s[4] * ux + s[3] * uy + s[2] * uz
    a = ax * ux + ay * uy + az * uz
    c = ax * vx + ay * vy + az * vz
    b = s[0] * vx * vx + s[1] * vy * vy + s[2] * vz * vz + 2 * (s[5] * vx * vy + s[4] * vx * vz + s[3] * vy * vz)
    half = np.sqrt((a - b) * (a - b) / 4 + c * c)
    best, which = ((a + b) / 2 + half) / xt, 2
    other = -((a + b) / 2 - half) / xc
    if other > best:
        best, which = other, 3
    mises = (
        np.sqrt(
            max(
                0.5 * ((s[0] - s[1]) ** 2 + (s[1] - s[2]) ** 2 + (s[2] - s[0]) ** 2)
                + 3 * (s[3] ** 2 + s[4] ** 2 + s[5] ** 2),
                0.0,
            )
        )
        / y
    )
    if mises > best * (1 + 1e-9):
        best, which = mises, 4
    return parting, best, mode, which


@numba.njit(cache=True, parallel=True, nogil=True)
def _bounds(s, zt, zs, xt, xc, y, out):  # type: ignore[no-untyped-def]
    for p in numba.prange(s.shape[0]):
        m = np.empty((3, 3))
        m[0, 0], m[1, 1], m[2, 2] = s[p, 0], s[p, 1], s[p, 2]
        m[1, 2] = m[2, 1] = s[p, 3]
        m[0, 2] = m[2, 0] = s[p, 4]
        m[0, 1] = m[1, 0] = s[p, 5]
        e = np.linalg.eigvalsh(m)
        part = np.sqrt((max(e[2], 0.0) / zt) ** 2 + ((e[2] - e[0]) / (2 * zs)) ** 2)
        mises = np.sqrt(0.5 * ((e[0] - e[1]) ** 2 + (e[1] - e[2]) ** 2 + (e[2] - e[0]) ** 2)) / y
        # A hair above the exact bound, so that rounding cannot hide a governing point.
        out[p] = max(max(part, e[2] / xt), max(-e[0] / xc, mises)) * (1 + 1e-9)


@numba.njit(cache=True, parallel=True, nogil=True)
def _sweep(s, bound, n, zt, zs, xt, xc, y, early, index, where, mode, parting, across, visited):  # type: ignore[no-untyped-def]
    for d in numba.prange(n.shape[0]):
        worst, worst_part, worst_in, at, how, seen = 0.0, 0.0, 0.0, 0, 0, 0
        for p in range(s.shape[0]):
            if early and bound[p] <= worst_part and bound[p] <= worst_in:
                break
            part, inside, part_mode, in_mode = _point(s[p], n[d, 0], n[d, 1], n[d, 2], zt, zs, xt, xc, y)
            seen += 1
            if part > worst_part:
                worst_part = part
            if inside > worst_in:
                worst_in = inside
            if part > worst:
                worst, at, how = part, p, part_mode
            if inside > worst:
                worst, at, how = inside, p, in_mode
        index[d], where[d], mode[d], parting[d], across[d], visited[d] = worst, at, how, worst_part, worst_in, seen


@dataclass(frozen=True)
class Ratings:
    """Per direction: ``reserve`` (all modes), ``parting`` (layers alone), ``across`` (broken across the
    layers or yielding), ``mode`` number, ``point``
    of the field, ``case`` number and the (low, high) ``spread`` factors of its doubt."""

    directions: Array
    reserve: Array
    parting: Array
    across: Array
    mode: Ints
    point: Ints
    case: Ints
    spread: Array
    visited_share: float

    def range_of(self, d: int) -> Range:
        r = float(self.reserve[d])
        return Range(r, r * float(self.spread[d, 0]), r * float(self.spread[d, 1]))


def rate(
    field: StressField,
    limits: tuple[Allowables, ...],
    directions: Array,
    early: bool = True,
    points: np.ndarray | None = None,
) -> Ratings:
    """Reserve of every direction (d, 3), the least over the cases.

    ``limits`` one set per case. ``points`` (bool) restricts which points may set
    the verdict; by default those away from idealised holds and load edges.
    """
    keep = np.flatnonzero(~field.apart if points is None else points)
    directions = np.ascontiguousarray(directions, float)
    count = len(directions)
    out: Ratings | None = None
    visited = 0
    for k, allow in enumerate(limits):
        s = field.stress[k][keep]
        zt, zs, xt, xc, y = allow.limits
        bound = np.empty(len(s))
        _bounds(s, zt, zs, xt, xc, y, bound)
        order = np.argsort(-bound, kind="stable")
        index, parting, across = np.empty(count), np.empty(count), np.empty(count)
        where, mode, seen = np.empty(count, np.int64), np.empty(count, np.int64), np.empty(count, np.int64)
        _sweep(
            np.ascontiguousarray(s[order]),
            bound[order],
            directions,
            zt,
            zs,
            xt,
            xc,
            y,
            early,
            index,
            where,
            mode,
            parting,
            across,
            seen,
        )
        visited += int(seen.sum())
        spread = np.where((mode < 2)[:, None], allow.apart_spread, allow.pull_spread)
        this = Ratings(
            directions,
            1 / np.maximum(index, _TINY),
            1 / np.maximum(parting, _TINY),
            1 / np.maximum(across, _TINY),
            mode,
            keep[order][where],
            np.full(count, k),
            spread,
            0.0,
        )
        out = this if out is None else _least(out, this)
    assert out is not None
    share = visited / (len(keep) * count * len(limits))
    return replace(out, visited_share=share)


def _least(a: Ratings, b: Ratings) -> Ratings:
    take = b.reserve < a.reserve
    return Ratings(
        a.directions,
        np.where(take, b.reserve, a.reserve),
        np.minimum(a.parting, b.parting),
        np.minimum(a.across, b.across),
        np.where(take, b.mode, a.mode),
        np.where(take, b.point, a.point),
        np.where(take, b.case, a.case),
        np.where(take[:, None], b.spread, a.spread),
        0.0,
    )


@numba.njit(cache=True, parallel=True, nogil=True)
def _each(s, n, zt, zs, xt, xc, y, part, inside, mode):  # type: ignore[no-untyped-def]
    for p in numba.prange(s.shape[0]):
        part[p], inside[p], part_mode, in_mode = _point(s[p], n[0], n[1], n[2], zt, zs, xt, xc, y)
        mode[p] = part_mode if part[p] >= inside[p] else in_mode


@dataclass(frozen=True)
class PointRatings:
    """For one way, at every judged point: reserve against ``parting`` and in all modes, with the mode and
    the load case that give it. ``inside`` leaves the parting out: broken across or yielding."""

    parting: Array
    inside: Array
    reserve: Array
    mode: Ints
    case: Ints


def rate_points(field: StressField, limits: tuple[Allowables, ...], direction: Array) -> PointRatings:
    """Reserve at every judged point for one way, least over the cases."""
    n = np.ascontiguousarray(direction, float)
    count = len(field.points)
    parting, within, reserve = (np.full(count, np.inf) for _ in range(3))
    which, case = np.zeros(count, np.int64), np.zeros(count, np.int64)
    part, inside, mode = np.empty(count), np.empty(count), np.empty(count, np.int64)
    for k, allow in enumerate(limits):
        zt, zs, xt, xc, y = allow.limits
        _each(field.stress[k], n, zt, zs, xt, xc, y, part, inside, mode)
        parting = np.minimum(parting, 1 / np.maximum(part, _TINY))
        within = np.minimum(within, 1 / np.maximum(inside, _TINY))
        mine = 1 / np.maximum(np.maximum(part, inside), _TINY)
        less = mine < reserve
        reserve = np.where(less, mine, reserve)
        which[less], case[less] = mode[less], k
    return PointRatings(parting, within, reserve, which, case)


@dataclass(frozen=True)
class Weakest:
    """The one point that governs a way, away from supports."""

    reserve: float
    mode: int
    point: int
    case: int


def weakest(field: StressField, limits: tuple[Allowables, ...], direction: Array) -> Weakest:
    """One direction in one pass over the points: for a pin that is being dragged."""
    found = rate_points(field, limits, direction)
    p = int(np.argmin(np.where(field.apart, np.inf, found.reserve)))
    return Weakest(float(found.reserve[p]), int(found.mode[p]), p, int(found.case[p]))


def point_reserves(field: StressField, limits: tuple[Allowables, ...], direction: Array) -> tuple[Array, Array]:
    """Reserve at every judged point for one way: (against parting, in all modes), least over the cases."""
    found = rate_points(field, limits, direction)
    return found.parting, found.reserve


def sphere(count: int) -> Array:
    """About evenly spread unit vectors (Fibonacci spiral), (count, 3)."""
    i = np.arange(count) + 0.5
    z = 1 - 2 * i / count
    phi = i * np.pi * (3 - np.sqrt(5))
    r = np.sqrt(1 - z * z)
    return np.stack([r * np.cos(phi), r * np.sin(phi), z], axis=1)
