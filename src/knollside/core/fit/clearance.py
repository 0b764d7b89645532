"""Bodies printed in place: the smallest gap of each pair, in the layer and across it, and whether it comes free.

In the layer a gap prints narrower by what outsides grow and insides shrink (docs/methods.md 7.1); across the layers it
comes in whole layers. The lowest layers flare and narrow the gap once more.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import shapely
from scipy.special import ndtr

from knollside.core.fit.flaring import LAYERS
from knollside.core.fit.freeing import chance_freed
from knollside.core.fit.posterior import Foretold
from knollside.core.mesh.distance import shortest
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Array, Mesh, Range, Recipe, Refused, rotation_to_up

RATTLES = 0.45  # printed gap a side past which a joint rattles
FACES = 1.5  # mm; nothing nearer than this across the layers: nothing faces it
MOST_LAYERS = 3000


@dataclass(frozen=True)
class Gap:
    """Two bodies: their shortest distance as drawn and ``at`` where (part's frame); the least gap in one layer with
    the height it is at (None: they share no layer); the least number of empty layers between them across the layers
    (None: nothing faces it); the least gap in the flaring first layers (None: not both there)."""

    bodies: tuple[int, int]
    smallest: float
    at: tuple[float, float, float]
    in_layer: float | None
    in_layer_at: float
    layers_between: int | None
    layer_height: float
    lowest: float | None


@dataclass(frozen=True)
class Freedom:
    """Whether a gap comes free: printed gap a side with its doubt, the chances to weld, to turn and to rattle, and in
    words what decides it and what would cure it. ``open_to`` is the drawn gap a side that would, mm."""

    gap: Gap
    printed: Range
    welds: float
    turns: float
    rattles: float
    why: str
    cure: str
    open_to: float


def split_bodies(mesh: Mesh) -> list[Mesh]:
    """Each body by itself, in the order of its first triangle."""
    count, label = bodies_of(mesh)
    out = []
    for k in range(count):
        faces = mesh.faces[label == k]
        used, fresh = np.unique(faces, return_inverse=True)
        out.append(Mesh(mesh.vertices[used], fresh.reshape(-1, 3)))
    return out


def gaps(mesh: Mesh, direction: tuple[float, float, float], recipe: Recipe) -> tuple[Gap, ...]:
    """Every pair of bodies that come within 3 mm of each other, the tightest first.

    Refuses more than 12 bodies and more than 3,000 layers.
    """
    parts = split_bodies(mesh)
    if len(parts) > 12:
        raise Refused(f"{len(parts)} bodies are more than are looked at pair by pair (12).")
    turn = rotation_to_up(direction)
    low = float((mesh.vertices @ turn[2]).min())
    boxes = [p.bounds for p in parts]
    layers: dict[int, list[shapely.Geometry]] = {}
    out = []
    for i in range(len(parts)):
        for j in range(i + 1, len(parts)):
            apart = np.maximum(np.maximum(boxes[i][0] - boxes[j][1], boxes[j][0] - boxes[i][1]), 0.0)
            if np.linalg.norm(apart) > 3.0:
                continue
            small, large = (i, j) if len(parts[i].faces) <= len(parts[j].faces) else (j, i)
            near = shortest(parts[small], parts[large])
            if near.distance > 3.0:
                continue
            for k in (i, j):
                if k not in layers:
                    layers[k] = _layers(parts[k], turn, low, recipe.layer_height)
            x, y, z = (float(v) for v in (near.at[0] + near.at[1]) / 2)
            out.append(_gap((i, j), near.distance, (x, y, z), layers[i], layers[j], recipe.layer_height))
    return tuple(sorted(out, key=lambda g: g.smallest))


def _layers(mesh: Mesh, turn: Array, base: float, h: float) -> list[shapely.Geometry]:
    turned = mesh.turned(turn)
    low, high = (float(v) for v in turned.bounds[:, 2])
    first, last = int((low - base) / h), math.ceil((high - base) / h)
    if last > MOST_LAYERS:
        raise Refused(f"{last:,} layers of {h:g} mm are more than can be looked at one by one ({MOST_LAYERS:,}).")
    cuts = cut(turned, base + (np.arange(first, last) + 0.5) * h)
    nothing = shapely.Polygon()
    out: list[shapely.Geometry] = []
    for k in range(last - first):
        # Between upright walls one layer is the next: cut once.
        same = k > 0 and np.array_equal(cuts.at(k), cuts.at(k - 1))
        out.append(out[-1] if same else polygon_of(cuts.at(k)))
    return [nothing] * first + out


def _gap(
    bodies: tuple[int, int],
    smallest: float,
    at: tuple[float, float, float],
    a: list[shapely.Geometry],
    b: list[shapely.Geometry],
    h: float,
) -> Gap:
    both = min(len(a), len(b))
    one, two = np.array(a[:both], object), np.array(b[:both], object)
    shared = ~(shapely.is_empty(one) | shapely.is_empty(two))
    apart = np.full(both, np.inf)
    apart[shared] = shapely.distance(one[shared], two[shared])
    least = int(np.argmin(apart)) if shared.any() else -1
    low = apart[:LAYERS].min() if both else np.inf
    between = _between(a, b, h)
    return Gap(
        bodies,
        smallest,
        at,
        float(apart[least]) if least >= 0 else None,
        (least + 0.5) * h if least >= 0 else 0.0,
        between,
        h,
        float(low) if np.isfinite(low) else None,
    )


def _between(a: list[shapely.Geometry], b: list[shapely.Geometry], h: float) -> int | None:
    """Least number of empty layers between the two where one lies over the other."""
    for empty in range(math.ceil(FACES / h)):
        step = empty + 1
        for lower, upper in ((a, b), (b, a)):
            count = min(len(lower), len(upper) - step)
            if count <= 0:
                continue
            one, two = np.array(lower[:count], object), np.array(upper[step : step + count], object)
            hit = shapely.intersects(one, two)
            if hit.any() and float(shapely.area(shapely.intersection(one[hit], two[hit])).max()) > 0.05:
                return empty
    return None


def freedom(gap: Gap, side: Foretold, source: str, frees: Range, across: Range, flare: Range) -> Freedom:
    """What comes of a gap on this printer. ``side``: printed less drawn gap, mm a side, of one print of both bodies,
    and its ``source``; ``frees`` and ``across`` the drawn gaps that come free, in the layer and across it; ``flare``
    the foot's growth."""
    shrink, scatter = -side.mean, side.sigma
    drawn = gap.in_layer if gap.in_layer is not None else gap.smallest
    printed = Range(drawn - shrink, drawn - shrink - 1.645 * scatter, drawn - shrink + 1.645 * scatter, source)
    # Bodies that share no layer can only weld across them.
    welds = 1 - chance_freed(drawn, frees) if gap.in_layer is not None else 0.0
    sure = frees.value + 1.645 * math.hypot((frees.high - frees.low) / 2 / 1.645, 0.03)
    why = (
        f"{drawn:.2f} mm drawn in the layer prints at about {printed.value:.2f} mm; {frees.value:.2f} drawn comes free"
    )
    cure, open_to = f"open it to {sure:.2f} mm a side", sure
    if gap.lowest is not None:
        # Both bodies flare towards each other.
        left = gap.lowest - shrink - 2 * flare.value
        sigma = math.hypot(scatter, 2 * (flare.high - flare.low) / 2 / 1.645)
        low = float(ndtr((0.05 - left) / sigma))  # a thread of flare snaps when it is turned
        if low > welds:
            ends = f"leave about {left:.2f} mm" if left > 0.02 else "close it"
            welds, why = low, f"{gap.lowest:.2f} mm in the first layers: they flare and {ends}"
            cure = "take the flare off the bottom edges (below), or raise the lower body by a layer or two"
            open_to = drawn
    if gap.layers_between is not None:
        up = gap.layers_between * gap.layer_height
        stuck = 1 - chance_freed(up, across)
        if stuck > welds:
            welds, why = stuck, f"{gap.layers_between} empty layers between them, one above the other"
            need = math.ceil((across.value + 1.645 * (across.high - across.low) / 3.29) / gap.layer_height)
            open_to = drawn
            cure = f"leave {need} layers, {need * gap.layer_height:.2f} mm, across the layers"
    rattles = (1 - welds) * float(ndtr((printed.value - RATTLES) / scatter))
    turns = max(1 - welds - rattles, 0.0)
    if welds < 0.1 and rattles > 0.5:
        open_to = RATTLES + shrink - 1.645 * scatter
        cure = f"close it to {open_to:.2f} mm a side"
    elif welds < 0.1:
        cure, open_to = "", drawn
    return Freedom(gap, printed, welds, turns, rattles, why, cure, open_to)
