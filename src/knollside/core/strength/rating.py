"""Every build direction rated from one stress field (docs/methods.md 1.13).

Layers part when (max(s,0)/Zt)^2 + (q/Zs)^2 >= 1 (Brewer and Lagace 1988), s the
pull across the layer and q the shear along it; in the layer, greatest tension,
greatest compression and von Mises are limited. Points are visited in the order
of a bound that holds for every direction, and a direction stops as soon as no
later point can govern: the answer is that of the full rating, to the bit.
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

import numba
import numpy as np

from knollside.core.material.allowables import Allowables
from knollside.core.model import Array, Ints, Range
from knollside.core.strength.field import StressField

MODES = ("layers pulled apart", "layers sheared", "pulled in the layer", "pressed in the layer", "yields")
PARTED = (0, 1)  # the modes in which layers let go of each other
_TINY = 1e-12


@numba.njit(cache=True, nogil=True, inline="always")
def point_index(s, nx, ny, nz, zt, zs, xt, xc, y):  # type: ignore[no-untyped-def]
    """(parting index, in-layer index, mode) at one stress for one direction; index = 1 / reserve."""
    tx = s[0] * nx + s[5] * ny + s[4] * nz
    ty = s[5] * nx + s[1] * ny + s[3] * nz
    tz = s[4] * nx + s[3] * ny + s[2] * nz
    pull = tx * nx + ty * ny + tz * nz
    qx, qy, qz = tx - pull * nx, ty - pull * ny, tz - pull * nz
    shear = np.sqrt(qx * qx + qy * qy + qz * qz) / zs
    open_ = max(pull, 0.0) / zt
    interlayer_reserve = np.sqrt(open_ * open_ + shear * shear)
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
    return interlayer_reserve, best, mode, which


@numba.njit(cache=True, parallel=True, nogil=True)
def _bounds(s, zt, zs, xt, xc, y, out):  # type: ignore[no-untyped-def]
    """What no direction can exceed, from the principal stresses in closed form (O. K. Smith 1961)."""
    for p in numba.prange(s.shape[0]):
        mean = (s[p, 0] + s[p, 1] + s[p, 2]) / 3
        a, b, c = s[p, 0] - mean, s[p, 1] - mean, s[p, 2] - mean
        d, e, f = s[p, 3], s[p, 4], s[p, 5]
        size = np.sqrt((a * a + b * b + c * c + 2 * (d * d + e * e + f * f)) / 6)
        high = low = mean
        if size > 1e-30:  # MPa: below it the products would vanish, and nothing is loaded
            a, b, c, d, e, f = a / size, b / size, c / size, d / size, e / size, f / size
            det = a * (b * c - d * d) - f * (f * c - d * e) + e * (f * d - b * e)
            angle = np.arccos(min(max(det / 2, -1.0), 1.0)) / 3
            high = mean + 2 * size * np.cos(angle)
            low = mean + 2 * size * np.cos(angle + 2 * np.pi / 3)
        # A hair above the exact bound, so that rounding cannot hide a governing point.
        hair = 1e-7 * (size + abs(mean)) + 2 * size * (size <= 1e-30)
        high, low = high + hair, low - hair
        part = np.sqrt((max(high, 0.0) / zt) ** 2 + ((high - low) / (2 * zs)) ** 2)
        mises = np.sqrt(3.0) * size * (1 + 1e-7) / y
        out[p] = max(max(part, high / xt), max(-low / xc, mises))


@numba.njit(cache=True, parallel=True, nogil=True)
def _sweep(s, bound, n, zt, zs, xt, xc, y, early, case, worst, interlayer_reserve, across, where, mode, which):  # type: ignore[no-untyped-def]
    """Carry on from the cases before: ``worst``, ``parting`` and ``across`` hold the greatest indices so far."""
    visited = 0
    for d in numba.prange(n.shape[0]):
        top, top_part, top_in, at, how = worst[d], interlayer_reserve[d], across[d], -1, 0
        for p in range(s.shape[0]):
            if early and bound[p] <= top_part and bound[p] <= top_in:
                break
            part, inside, part_mode, in_mode = point_index(s[p], n[d, 0], n[d, 1], n[d, 2], zt, zs, xt, xc, y)
            visited += 1
            if part > top_part:
                top_part = part
            if inside > top_in:
                top_in = inside
            if part > top:
                top, at, how = part, p, part_mode
            if inside > top:
                top, at, how = inside, p, in_mode
        worst[d], interlayer_reserve[d], across[d] = top, top_part, top_in
        if at >= 0:
            where[d], mode[d], which[d] = at, how, case
    return visited


@dataclass(frozen=True)
class Ratings:
    """Per direction: ``reserve`` (all modes), ``parting`` (layers alone), ``across`` (broken across the
    layers or yielding), ``mode`` number, ``point``
    of the field, ``case`` number and the (low, high) ``spread`` factors of its doubt."""

    directions: Array
    reserve: Array
    interlayer_reserve: Array
    across: Array
    mode: Ints
    point: Ints
    case: Ints
    spread: Array
    visited_share: float

    def part(self, which: slice | list[int]) -> Ratings:
        """Some of the directions."""
        return replace(
            self, **{f.name: getattr(self, f.name)[which] for f in fields(self) if f.name != "visited_share"}
        )

    def range_of(self, d: int) -> Range:
        """The reserve of direction number ``d`` with the low and high end of its doubt."""
        r = float(self.reserve[d])
        return Range(r, r * float(self.spread[d, 0]), r * float(self.spread[d, 1]))


def bounds(stress: Array, allow: Allowables) -> Array:
    """The greatest index (1 / reserve) that each stress (n, 6) can have in any direction, (n,)."""
    out = np.empty(len(stress))
    _bounds(np.ascontiguousarray(stress), *allow.limits, out)
    return out


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
    keep = np.flatnonzero(~field.excluded if points is None else points)
    directions = np.ascontiguousarray(directions, float)
    count = len(directions)
    worst, interlayer_reserve, across = np.zeros(count), np.zeros(count), np.zeros(count)
    point, mode, case = (np.zeros(count, np.int64) for _ in range(3))
    visited = 0
    for k, allow in enumerate(limits):
        s = field.stress[k][keep]
        bound = bounds(s, allow)
        order = np.argsort(-bound, kind="stable")
        where = np.full(count, -1)
        found = worst, interlayer_reserve, across, where, mode, case
        visited += _sweep(np.ascontiguousarray(s[order]), bound[order], directions, *allow.limits, early, k, *found)
        new = where >= 0
        point[new] = keep[order[where[new]]]
    apart = np.array([a.interlayer_spread for a in limits])
    pull = np.array([a.in_plane_spread for a in limits])
    return Ratings(
        directions,
        1 / np.maximum(worst, _TINY),
        1 / np.maximum(interlayer_reserve, _TINY),
        1 / np.maximum(across, _TINY),
        mode,
        point,
        case,
        np.where((mode < 2)[:, None], apart[case], pull[case]),
        visited / (len(keep) * count * len(limits)),
    )


@numba.njit(cache=True, parallel=True, nogil=True)
def _each(s, n, zt, zs, xt, xc, y, part, inside, mode):  # type: ignore[no-untyped-def]
    for p in numba.prange(s.shape[0]):
        part[p], inside[p], part_mode, in_mode = point_index(s[p], n[0], n[1], n[2], zt, zs, xt, xc, y)
        mode[p] = part_mode if part[p] >= inside[p] else in_mode


def mode_words(field: StressField, point: int, mode: int) -> str:
    """How a judged point goes, for a person."""
    rule = field.rule(point)
    return MODES[mode] if rule is None else rule.words


@dataclass(frozen=True)
class PointRatings:
    """For one way, at every judged point: reserve against ``parting`` and in all modes, with the mode and
    the load case that give it. ``inside`` leaves the parting out: broken across or yielding."""

    interlayer_reserve: Array
    inside: Array
    reserve: Array
    mode: Ints
    case: Ints


def rate_points(field: StressField, limits: tuple[Allowables, ...], direction: Array) -> PointRatings:
    """Reserve at every judged point for one way, least over the cases."""
    n = np.ascontiguousarray(direction, float)
    count = len(field.points)
    interlayer_reserve, within, reserve = (np.full(count, np.inf) for _ in range(3))
    which, case = np.zeros(count, np.int64), np.zeros(count, np.int64)
    part, inside, mode = np.empty(count), np.empty(count), np.empty(count, np.int64)
    for k, allow in enumerate(limits):
        zt, zs, xt, xc, y = allow.limits
        _each(field.stress[k], n, zt, zs, xt, xc, y, part, inside, mode)
        interlayer_reserve = np.minimum(interlayer_reserve, 1 / np.maximum(part, _TINY))
        within = np.minimum(within, 1 / np.maximum(inside, _TINY))
        mine = 1 / np.maximum(np.maximum(part, inside), _TINY)
        less = mine < reserve
        reserve = np.where(less, mine, reserve)
        which[less], case[less] = mode[less], k
    return PointRatings(interlayer_reserve, within, reserve, which, case)


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
    p = int(np.argmin(np.where(field.excluded, np.inf, found.reserve)))
    return Weakest(float(found.reserve[p]), int(found.mode[p]), p, int(found.case[p]))


def point_reserves(field: StressField, limits: tuple[Allowables, ...], direction: Array) -> tuple[Array, Array]:
    """Reserve at every judged point for one way: (against parting, in all modes), least over the cases."""
    found = rate_points(field, limits, direction)
    return found.interlayer_reserve, found.reserve


def sphere(count: int) -> Array:
    """About evenly spread unit vectors (Fibonacci spiral), (count, 3).

    >>> net = sphere(2000)
    >>> net.shape, bool(np.allclose(np.linalg.norm(net, axis=1), 1))
    ((2000, 3), True)
    """
    i = np.arange(count) + 0.5
    z = 1 - 2 * i / count
    phi = i * np.pi * (3 - np.sqrt(5))
    r = np.sqrt(1 - z * z)
    return np.stack([r * np.cos(phi), r * np.sin(phi), z], axis=1)
