"""Where a part would go first: the weakest places, told apart, and each thin portion by itself."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree

from knollside.core.material.allowables import Allowables
from knollside.core.model import Array, Mesh
from knollside.core.strength.field import StressField
from knollside.core.strength.grid import choose_size, make_grid
from knollside.core.strength.rating import PointRatings, mode_words, rate, rate_points

PLACES = 5


@dataclass(frozen=True)
class HotSpot:
    """One place that would let go: its ``reserve``, ``mode``, load ``case`` and number, and whether it lies at
    an idealised support or load edge (``at_support``), where the stress is not to be trusted alone; ``doubt`` is the
    grid's just there, a share, not a number where no other grid was looked at or none has a say (``by_hand``)."""

    at: tuple[float, float, float]
    reserve: float
    mode: str
    case: str
    case_number: int
    at_support: bool
    by_hand: bool = False
    doubt: float = math.nan


def hot_spots(
    field: StressField, limits: tuple[Allowables, ...], direction: Array, count: int = PLACES
) -> tuple[HotSpot, ...]:
    """The ``count`` weakest places of one way, none nearer to another than a tenth of the part; one of
    them at most at a support, and it is marked so."""
    found = rate_points(field, limits, direction)
    span = float(np.ptp(field.points, axis=0).max())
    apart = max(0.1 * span, 3 * field.cell)
    out: list[HotSpot] = []
    taken = np.zeros((0, 3))
    support = int(np.argmin(np.where(field.excluded, found.reserve, np.inf)))
    clear = np.flatnonzero(~field.excluded)
    for p in (*clear[np.argsort(found.reserve[clear])], support):
        if p != support:
            # One place is kept for the support, if a support is weaker than what is left.
            left = count - len(out)
            full = left == 0 or (left == 1 and found.reserve[support] < found.reserve[p])
            if full or not np.isfinite(found.reserve[p]):
                continue
        elif len(out) == count or not field.excluded[p]:
            break
        at = field.points[p]
        if p != support and len(taken) and float(np.linalg.norm(taken - at, axis=1).min()) < apart:
            continue
        taken = np.vstack([taken, at])
        out.append(_spot(field, found, int(p)))
    return tuple(sorted(out, key=lambda w: w.reserve))


def spot_at(
    field: StressField, limits: tuple[Allowables, ...], direction: Array, at: tuple[float, float, float], reach: float
) -> HotSpot:
    """The weakest judged point within ``reach`` mm of a place, or of the judged point nearest to it."""
    found = rate_points(field, limits, direction)
    away = np.linalg.norm(field.points[: field.solved] - np.asarray(at), axis=1)
    near = np.flatnonzero(away <= max(reach, 1.001 * float(away.min())))
    clear = near[~field.excluded[near]]
    mine = clear if len(clear) else near
    return _spot(field, found, int(mine[np.argmin(found.reserve[mine])]))


def _spot(field: StressField, found: PointRatings, p: int) -> HotSpot:
    x, y, z = (float(v) for v in field.points[p])
    case, rule = int(found.case[p]), field.rule(p)
    return HotSpot(
        (x, y, z),
        float(found.reserve[p]),
        mode_words(field, p, int(found.mode[p])),
        field.cases[case].name,
        case,
        bool(field.excluded[p]),
        rule is not None and rule.by_hand,
    )


@dataclass(frozen=True)
class Portion:
    """A thin portion of the part (tab, neck, arm, plate): its reserve in this way, and in its own best way."""

    name: str
    middle: tuple[float, float, float]
    thickness: float
    volume: float
    reserve: float
    best: float
    best_direction: tuple[float, float, float]


def portions(
    mesh: Mesh,
    field: StressField,
    limits: tuple[Allowables, ...],
    direction: Array,
    net: Array,
    most: int = 8,
) -> tuple[Portion, ...]:
    """What is left when the part is opened with a ball half as wide as its stoutest place, weakest first.

    Morphological opening on the grid (Serra 1982); each remnant over two cells wide is rated on the judged
    points within it and a cell around it, so that its root counts. ``net`` (d, 3) are the directions tried.
    """
    grid = make_grid(mesh, max(choose_size(mesh, 60_000), 0.5 * field.cell))
    solid = np.pad(grid.fill > 0.5, 2)
    inner = ndimage.distance_transform_edt(solid, sampling=grid.size)
    radius = 0.5 * float(inner.max())
    core = inner > radius
    opened = ndimage.distance_transform_edt(~core, sampling=grid.size) <= radius
    rest = solid & ~opened
    label, count = ndimage.label(rest)
    if count == 0:
        return ()
    cell = float(grid.size.prod())
    out: list[Portion] = []
    sizes = ndimage.sum_labels(rest, label, np.arange(1, count + 1)) * cell
    clear = np.flatnonzero(~field.excluded)
    tree = cKDTree(field.points[clear])
    total = float(solid.sum()) * cell
    for k in np.argsort(-sizes):
        if sizes[k] < max(0.002 * total, 12 * cell) or len(out) == most:
            break
        mine = label == k + 1
        deep = 2 * float(inner[mine].max())
        where = np.argwhere(mine)
        middle = grid.origin + (where.mean(axis=0) - 1.5) * grid.size
        centres = grid.origin + (where - 1.5) * grid.size
        near = np.unique(np.concatenate(tree.query_ball_point(centres, 1.5 * float(grid.size.max()))).astype(int))
        if len(near) < 5:
            continue
        mask = np.zeros(len(field.points), np.bool_)
        mask[clear[near]] = True
        here = float(rate(field, limits, np.asarray(direction, float)[None], points=mask).reserve[0])
        tried = rate(field, limits, net, points=mask)
        best = int(np.argmax(tried.reserve))
        touching = _roots(ndimage.binary_dilation(mine, iterations=2) & opened)
        x, y, z = (float(v) for v in middle)
        a, b, c = (float(v) for v in net[best])
        name = _shape_name(centres, deep, touching)
        out.append(
            Portion(name, (x, y, z), deep, float(sizes[k]), here, max(float(tried.reserve[best]), here), (a, b, c))
        )
    return tuple(sorted(out, key=lambda p: p.reserve))


def _roots(contact: Array) -> int:
    """How many places a portion grows from: patches of contact at least a third as large as the largest."""
    label, count = ndimage.label(contact, structure=np.ones((3, 3, 3)))
    if count < 2:
        return int(count)
    sizes = ndimage.sum_labels(contact, label, np.arange(1, count + 1))
    return int((sizes > sizes.max() / 3).sum())


def _shape_name(centres: Array, deep: float, roots: int) -> str:
    """A plain word for a portion by its extents and how many roots it has."""
    spread = np.linalg.svd(centres - centres.mean(axis=0), compute_uv=False) / np.sqrt(len(centres)) * np.sqrt(12)
    long, wide = float(spread[0]), float(spread[1])
    if roots >= 2:
        return "neck" if long < 4 * deep else "strut"
    if wide > 2.5 * deep:
        return "plate" if long < 2.5 * wide else "strip"
    return "arm" if long > 3 * deep else "tab"
