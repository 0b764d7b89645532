"""Rounds (holes, pins, fillets, hexagons) from chains of flat strips.

A meshed cylinder is a row of flat strips whose shared edges all run along one
axis. A chain grows from any such edge; a least-squares circle through its
corners gives axis and diameter (Coope 1993: linear in centre and radius), and
the residual decides whether it is a round at all.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.mesh.patches import Borders, Patches
from knollside.core.model import Array, Ints, Mesh, square_to

STEEPEST_FACET = np.radians(61.0)  # six sides at least
COARSEST_PARTIAL = np.radians(31.0)  # a fillet or slot end needs finer facets than a whole round
_TRIES = 3
_AXIS_SLACK = 0.0008  # 1 - cos; about two degrees


@dataclass(frozen=True)
class Round:
    """A cylinder-like chain of strips. ``turn`` is the angle it covers (rad), ``hollow`` for a hole."""

    patches: Ints
    faces: Ints
    axis: Array
    centre: Array
    corner_diameter: float
    flat_diameter: float
    length: float
    turn: float
    sides: int
    hollow: bool
    closed_ends: tuple[bool, bool]

    @property
    def whole(self) -> bool:
        """Whether it goes all the way round."""
        return bool(self.turn > np.radians(320))

    @property
    def diameter(self) -> float:
        """The drawn diameter: corners on the circle, unless the mid-flat reading is rounder."""
        if self.sides <= 40 and _plainness(self.flat_diameter) > _plainness(self.corner_diameter):
            return self.flat_diameter
        return self.corner_diameter


def _plainness(d: float) -> int:
    for score, step in ((3, 0.5), (2, 0.1), (1, 0.05)):
        if abs(d / step - round(d / step)) * step < 0.0015:
            return score
    return 0


def circle_fit(points: Array) -> tuple[Array, float, float]:
    """Least-squares circle through (n, 2) points: centre, radius, largest residual."""
    middle = points.mean(axis=0)
    p = points - middle
    scale = float(np.abs(p).max()) or 1.0
    p = p / scale
    design = np.c_[2 * p, np.ones(len(p))]
    answer, *_ = np.linalg.lstsq(design, (p**2).sum(axis=1), rcond=None)
    radius = float(np.sqrt(max(answer[2] + answer[0] ** 2 + answer[1] ** 2, 0.0)))
    off = np.abs(np.linalg.norm(p - answer[:2], axis=1) - radius)
    return answer[:2] * scale + middle, radius * scale, float(off.max()) * scale


def find_rounds(mesh: Mesh, patches: Patches) -> list[Round]:
    """Rounds of at least a short turn: whole cylinders first, then part ones from what is left."""
    bend = np.abs(patches.angle)
    usable = (bend > np.radians(0.15)) & (bend < STEEPEST_FACET)
    usable &= _striplike(patches)[patches.pair].any(axis=1)
    if not usable.any():
        return []
    around = patches.borders()
    seen = np.zeros(patches.count, np.int64)  # which try saw a patch last
    taken = np.zeros(patches.count, bool)
    faces_of = _faces_by_patch(patches)
    seeds, axes = _seeds(patches, usable)
    found: list[Round] = []
    # Whole rounds first: where a countersink meets its hole, edges across both would pass for a coarse fillet.
    for whole in (True, False):
        tried: set[tuple[int, ...]] = set()
        # A free surface has short chains by the hundred thousand: each of its patches is tried a few times. Once is not
        # enough: on a coarse round the first try may go over the rim of a countersink.
        spent = np.zeros(patches.count, np.int32)
        least_turn = np.radians(300 if whole else 20)
        for seed, axis in zip(seeds.tolist(), axes, strict=True):
            p, q = patches.pair[seed]
            if spent[p] >= _TRIES and spent[q] >= _TRIES:
                continue
            if taken[p] or taken[q] or (not whole and bend[seed] > COARSEST_PARTIAL):
                continue
            chain = _grow(
                around.start,
                around.number,
                patches.pair,
                patches.angle,
                patches.along,
                patches.normal,
                usable,
                taken,
                seen,
                seed,
                axis,
            )
            key = tuple(np.sort(chain).tolist())
            if len(chain) < 3 or key in tried or bend[seed] * len(chain) < least_turn:
                spent[chain] += 1
                continue
            tried.add(key)
            hollow = bool(patches.angle[seed] < 0)
            fitted = _fit(mesh, patches, around, faces_of, np.array(key, np.int64), hollow)
            # A ring of single facets round a free surface is no feature: it is far too short.
            if fitted is not None and (fitted.whole or not whole) and fitted.length > 0.01 * fitted.corner_diameter:
                taken[fitted.patches] = True
                found.append(fitted)
    return found


def _seeds(patches: Patches, usable: np.ndarray) -> tuple[Ints, Array]:
    """Borders to start a round from, smallest patches first, each with the axis its two patches turn about."""
    order = np.argsort(patches.area)  # strips are small: start there, not on the big flats
    rank = np.empty(patches.count, np.int64)
    rank[order] = np.arange(patches.count)
    seeds = np.flatnonzero(usable)
    seeds = seeds[np.argsort(rank[patches.pair[seeds]].max(axis=1), kind="stable")]
    one, two = patches.pair[seeds].T
    axes = np.cross(patches.normal[one], patches.normal[two])
    size = np.linalg.norm(axes, axis=1)
    axes /= np.maximum(size, 1e-300)[:, None]
    # The border itself must run along that axis.
    straight = np.abs(np.abs(np.einsum("ij,ij->i", axes, patches.along[seeds])) - 1) <= _AXIS_SLACK
    good = (size >= 1e-9) & straight
    return seeds[good], np.ascontiguousarray(axes[good])


def _striplike(patches: Patches) -> np.ndarray:
    """Patches with two parallel borders: what a strip of a round has, and a triangle of a free surface has not."""
    sign = np.sign(patches.along[np.arange(len(patches.along)), np.abs(patches.along).argmax(axis=1)])
    along = patches.along * sign[:, None]
    found = np.zeros(patches.count, bool)
    for offset in (0.0, 0.5):  # two gratings, so that none falls on both their edges
        place = np.floor(along * 40 + offset).astype(np.int64) + 64
        code = (place[:, 0] * 128 + place[:, 1]) * 128 + place[:, 2]
        key = np.r_[patches.pair[:, 0], patches.pair[:, 1]] * (128**3) + np.r_[code, code]
        twice, times = np.unique(key, return_counts=True)
        found[twice[times > 1] // 128**3] = True
    return found


def _faces_by_patch(patches: Patches) -> list[Ints]:
    order = np.argsort(patches.of_face, kind="stable")
    cuts = np.cumsum(np.bincount(patches.of_face, minlength=patches.count))[:-1]
    return [np.asarray(part, np.int64) for part in np.split(order, cuts)]


@numba.njit(cache=True, nogil=True)
def _grow(start, number, pair, angle, along, normal, usable, taken, seen, seed, axis):  # type: ignore[no-untyped-def]
    """Patches reached over edges along the axis that bend by the seed's angle, the same way."""
    bend = angle[seed]
    slack = max(0.35 * abs(bend), np.radians(0.3))
    mark = seed + 1
    chain = [pair[seed, 0], pair[seed, 1]]
    seen[chain[0]] = mark
    seen[chain[1]] = mark
    done = 0
    while done < len(chain):
        at = chain[done]
        done += 1
        for i in range(start[at], start[at + 1]):
            b = number[i]
            if not usable[b] or abs(angle[b] - bend) > slack:
                continue
            if abs(along[b, 0] * axis[0] + along[b, 1] * axis[1] + along[b, 2] * axis[2]) < 1 - _AXIS_SLACK:
                continue
            other = pair[b, 1] if pair[b, 0] == at else pair[b, 0]
            if seen[other] == mark or taken[other]:
                continue
            if abs(normal[other, 0] * axis[0] + normal[other, 1] * axis[1] + normal[other, 2] * axis[2]) > 0.02:
                continue
            seen[other] = mark
            chain.append(other)
    return np.array(chain)


def _fit(
    mesh: Mesh,
    patches: Patches,
    around: Borders,
    faces_of: list[Ints],
    chain: Ints,
    hollow: bool,
) -> Round | None:
    axis = _common_axis(patches, chain)
    u, v = square_to(axis)
    # A chain that ends in a tangent flat (a fillet's neighbour) must lose that flat: its width differs.
    each = [faces_of[p] for p in chain]
    widths = _widths(mesh, each, np.cross(axis, patches.normal[chain]))
    typical = float(np.median(widths))
    odd = widths > 1.6 * typical
    if odd.any():
        chain = chain[~odd]
        if len(chain) < 3:
            return None
    each = [faces_of[p] for p in chain]
    faces = np.concatenate(each)
    corners = np.unique(mesh.faces[faces])
    shared = _between_strips(mesh, each)
    centre2, radius, residual = circle_fit(mesh.vertices[shared if len(shared) >= 4 else corners] @ np.c_[u, v])
    if residual > max(0.012 * radius, 2e-4) or radius > 500:
        return None
    inner = np.zeros(patches.count, bool)
    inner[chain] = True
    rim = np.unique(around.of(chain))
    borders = rim[inner[patches.pair[rim]].all(axis=1)]
    bends = np.abs(patches.angle[borders])
    if len(bends) == 0:
        return None
    per_side = float(np.median(bends))
    loop = len(borders) >= len(chain)
    turn = 2 * np.pi if loop and per_side * len(chain) > np.radians(320) else per_side * len(chain)
    heights = mesh.vertices[corners] @ axis
    low, high = float(heights.min()), float(heights.max())
    distances = np.einsum("ij,ij->i", patches.normal[chain], patches.centre[chain] - (u * centre2[0] + v * centre2[1]))
    mid_flat = float(np.median(np.abs(distances)))
    centre = u * centre2[0] + v * centre2[1] + axis * (low + high) / 2
    ends = _ends(patches, rim, inner, axis, (low + high) / 2)
    return Round(
        chain,
        faces,
        axis,
        centre,
        2 * radius,
        2 * mid_flat,
        high - low,
        turn,
        max(3, round(2 * np.pi / per_side)),
        hollow,
        ends,
    )


def _common_axis(patches: Patches, chain: Ints) -> Array:
    """The axis of all strips together: the direction least present in their normals."""
    weight = np.sqrt(patches.area[chain])[:, None]
    axis = np.linalg.svd(patches.normal[chain] * weight, full_matrices=False)[2][-1]
    return np.asarray(axis * (1 if axis[np.argmax(np.abs(axis))] > 0 else -1))


def _between_strips(mesh: Mesh, each: list[Ints]) -> Ints:
    """Corners that two strips share. Only these lie on the circle; one cut into a strip by another shape lies on its
    flat, nearer to the axis."""
    faces = np.concatenate(each)
    strip = np.repeat(np.arange(len(each)), [3 * len(f) for f in each])
    once = np.unique(mesh.faces[faces].ravel() * len(each) + strip)
    name, times = np.unique(once // len(each), return_counts=True)
    return name[times >= 2]


def _widths(mesh: Mesh, each: list[Ints], across: Array) -> Array:
    """Extent of each strip's corners along its own direction ``across``."""
    counts = np.array([3 * len(f) for f in each])
    corner = mesh.faces[np.concatenate(each)].ravel()
    place = np.einsum("ij,ij->i", mesh.vertices[corner], np.repeat(across, counts, axis=0))
    starts = np.r_[0, np.cumsum(counts)[:-1]]
    return np.asarray(np.maximum.reduceat(place, starts) - np.minimum.reduceat(place, starts))


def _ends(patches: Patches, rim: Ints, inner: np.ndarray, axis: Array, middle: float) -> tuple[bool, bool]:
    """Whether the low and the high end are shut: a floor meets the wall in a concave edge.

    Judged at the rim, so that a counterbore with a smaller hole in its floor reads as shut.
    """
    within = inner[patches.pair[rim]]
    edge = rim[(within.sum(axis=1) == 1) & (np.abs(patches.along[rim] @ axis) <= 0.9)]
    pair = patches.pair[edge]
    other = np.where(inner[pair[:, 0]], pair[:, 1], pair[:, 0])
    high = patches.centre[other] @ axis > middle
    # Concave lengths speak for shut, convex ones for open.
    say = np.where(patches.angle[edge] < 0, 1.0, -1.0) * patches.length[edge]
    return bool(say[~high].sum() > 0), bool(say[high].sum() > 0)
