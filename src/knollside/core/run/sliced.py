"""What a toolpath would print, read from its moves alone, and how that differs from the plan."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import shapely
from scipy.spatial import cKDTree

from knollside.core.material.cards import Material
from knollside.core.model import Array, Recipe, Refused
from knollside.core.run.gcode import Toolpath

FILAMENT_MM = 1.75
ACCELERATION = 1500.0  # mm/s2, typical; the file seldom says
_SAMPLES = 15
_LOOPED = 200  # layers whose loops are looked at
NEAR_MM = 4.0  # a seam this near to a weak place runs through it


@dataclass(frozen=True)
class Layer:
    """One layer: height ``z`` and thickness ``h`` mm, ``width`` of its lines, ``seconds``, ``volume`` mm3, closed
    ``loops`` as polygons, largest first, with their ``starts`` (n, 2)."""

    z: float
    h: float
    width: float
    seconds: float
    volume: float
    loops: tuple[shapely.Polygon, ...]
    starts: Array


@dataclass(frozen=True)
class Sliced:
    """What the file would print. ``walls`` passes, ``infill`` a share, ``seams`` (k, 3) starts of the outermost
    loops in the file's frame, ``size`` mm, ``hours`` by its own moves, ``grams`` without the material's density
    is ``volume`` mm3."""

    layers: tuple[Layer, ...]
    layer_height: float
    first_height: float
    line_width: float
    walls: int | None
    infill: float | None
    seams: Array
    size: tuple[float, float, float]
    hours: float
    volume: float
    filament_m: float
    nozzle_c: float | None
    bed_c: float | None
    fan: float | None
    notes: tuple[str, ...]

    def recipe(self, plan: Recipe) -> Recipe:
        """The plan with what was found in its place: what would really be printed."""
        change: dict[str, object] = {
            "layer_height": min(max(round(self.layer_height, 3), 0.04), 1.2),
            "line_width": min(max(round(self.line_width, 3), 0.1), 2.0),
        }
        if self.walls is not None:
            change["walls"] = min(max(self.walls, 1), 20)
        if self.infill is not None:
            change["infill"] = round(min(max(self.infill, 0.0), 1.0), 2)
        return plan.model_copy(update=change)


def describe(path: Toolpath, filament_mm: float = FILAMENT_MM) -> Sliced:
    """Layers, widths, walls, seams and times. Refuses where no layers can be told apart."""
    area = math.pi * filament_mm**2 / 4
    z = np.round(path.at[:, 2], 3)
    levels, count = np.unique(z[path.drawn], return_counts=True)
    levels = levels[count >= 3]
    if len(levels) < 2:
        raise Refused("No layers can be told apart in this file.")
    if len(levels) > 20_000:
        raise Refused(f"{len(levels):,} different heights: a spiral without layers cannot be compared with a plan.")
    seconds = _seconds(path)
    layers, typical = _as_layers(path, levels, z, seconds, area)
    passes, infill = _inside(layers, typical)
    seams = [(*x.starts[0], x.z) for x in layers if len(x.starts)]
    at = path.at[path.drawn]
    size = np.r_[np.ptp(at[:, :2], axis=0) + typical, levels[-1]]
    said = path.nozzle[path.nozzle[:, 1] > 0]
    bed = path.bed[path.bed[:, 1] > 0]
    x, y, top = (float(v) for v in size)
    return Sliced(
        tuple(layers),
        float(np.median(np.diff(levels))),
        float(levels[0]),
        typical,
        passes,
        infill,
        np.array(seams).reshape(-1, 3),
        (x, y, top),
        float(seconds.sum()) / 3600,
        float(path.pushed[path.drawn].sum()) * area,
        float(path.pushed[path.pushed > 0].sum()) / 1000,
        float(said[-1, 1]) if len(said) else None,
        float(bed[-1, 1]) if len(bed) else None,
        _longest(path.fan, len(path.pushed)),
        path.notes,
    )


def _as_layers(
    path: Toolpath, levels: np.ndarray, z: np.ndarray, seconds: np.ndarray, area: float
) -> tuple[list[Layer], float]:
    """A layer for each level, and the line width typical of all, mm. ``area`` is the filament's, mm2."""
    drawn, heights = path.drawn, np.diff(levels, prepend=0.0)
    before = np.vstack([path.at[:1], path.at[:-1]])
    order = np.searchsorted(levels, z)
    order = np.where((order < len(levels)) & (levels[np.minimum(order, len(levels) - 1)] == z), order, -1)
    spent = np.bincount(order[order >= 0], seconds[order >= 0], minlength=len(levels))
    pushed = np.bincount(order[drawn & (order >= 0)], path.pushed[drawn & (order >= 0)], minlength=len(levels))
    chain = np.cumsum(drawn & ~np.r_[False, drawn[:-1]])
    layers = []
    widths = np.full(len(path.pushed), np.nan)
    long_ = drawn & (path.length > 0.8) & (order >= 0)
    widths[long_] = path.pushed[long_] * area / (path.length[long_] * np.maximum(heights[order[long_]], 1e-6))
    typical = float(np.nanmedian(widths))
    mine = np.argsort(order, kind="stable")
    bounds = np.searchsorted(order[mine], np.arange(len(levels) + 1))
    sampled = set(np.linspace(0, len(levels) - 1, min(len(levels), _LOOPED)).astype(int).tolist())
    for k, level in enumerate(levels):
        idx = mine[bounds[k] : bounds[k + 1]]
        idx = np.sort(idx[drawn[idx]])
        own = widths[idx]
        wide = float(np.nanmedian(own)) if np.isfinite(own).any() else typical
        loops, starts = _loops(path.at, before, chain, idx, typical) if k in sampled else ((), np.zeros((0, 2)))
        layers.append(
            Layer(float(level), float(heights[k]), wide, float(spent[k]), float(pushed[k]) * area, loops, starts)
        )
    return layers, typical


def _inside(layers: list[Layer], typical: float) -> tuple[int | None, float | None]:
    """Walls and share of infill, from some layers of the middle eight tenths; None where they cannot be told."""
    middle = layers[max(len(layers) // 10, 1) : max(len(layers) - len(layers) // 10, 2)]
    pick = [middle[i] for i in np.unique(np.linspace(0, len(middle) - 1, _SAMPLES).astype(int))]
    walls = [w for w in (_walls(x.loops, typical) for x in pick) if w]
    passes = int(np.median(walls)) if walls else None
    fills = [f for f in (_infill(x, typical, passes) for x in pick) if f is not None] if passes else []
    # Layers of solid skin fill more: the sparse ones tell the infill.
    return passes, float(np.quantile(fills, 0.2)) if fills else None


def _longest(said: Array, moves: int) -> float | None:
    """The value in force for the most moves."""
    if not len(said):
        return None
    spans = np.diff(np.r_[said[:, 0], moves])
    values, which = np.unique(said[:, 1], return_inverse=True)
    return float(values[np.argmax(np.bincount(which, spans))])


def _seconds(path: Toolpath) -> Array:
    """Each move at its speed, with starting and stopping where the path turns sharply (trapezoidal motion)."""
    v = np.maximum(path.speed, 0.1)
    step = np.diff(path.at, axis=0, prepend=path.at[:1])
    length = np.linalg.norm(step, axis=1)
    unit = step / np.maximum(length, 1e-9)[:, None]
    turn = np.ones(len(v), np.bool_)
    turn[1:] = np.einsum("ij,ij->i", unit[1:], unit[:-1]) < 0.85
    seconds = length / v
    # A stop and a start take v/a more than running through, never more than the move itself can reach.
    reach = np.minimum(v, np.sqrt(ACCELERATION * np.maximum(length, 1e-9)))
    seconds += np.where(turn & (length > 0), reach / ACCELERATION, 0.0)
    still = length < 1e-9
    seconds[still] = np.abs(path.pushed[still]) / v[still]
    return np.asarray(seconds)


def _loops(
    at: Array, before: Array, chain: Array, idx: Array, width: float
) -> tuple[tuple[shapely.Polygon, ...], Array]:
    """Closed strands of one layer as polygons, largest first, with where each starts."""
    if len(idx) == 0:
        return (), np.zeros((0, 2))
    ids = chain[idx]
    cut = np.flatnonzero(np.diff(ids, prepend=ids[0] - 1))
    ends = np.r_[cut[1:], len(idx)]
    found: list[tuple[float, shapely.Polygon, Array]] = []
    for a, e in zip(cut, ends, strict=True):
        points = np.vstack([before[idx[a], :2], at[idx[a:e], :2]])
        if len(points) < 4 or np.linalg.norm(points[0] - points[-1]) > 1.6 * width:
            continue
        shape = shapely.Polygon(points)
        # Fill that happens to end where it began encloses little for its length.
        if not shape.is_valid or shape.area < 0.6 * width * shape.length:
            continue
        found.append((shape.area, shape, points[0]))
    found.sort(key=lambda f: -f[0])
    return tuple(f[1] for f in found), np.array([f[2] for f in found]).reshape(-1, 2)


def _walls(loops: Sequence[shapely.Polygon], width: float) -> int:
    """Passes one inside the other from the outermost loop in, a line apart."""
    if not loops:
        return 0
    inner, passes = loops[0], 1
    while True:
        inside = [
            p
            for p in loops
            if p.area < inner.area
            and inner.contains(p)
            and 0.5 * width < inner.exterior.distance(p.exterior) < 1.6 * width
            and p.length > 0.4 * inner.length
        ]
        if not inside:
            return passes
        inner, passes = max(inside, key=lambda p: p.area), passes + 1


def _infill(layer: Layer, width: float, walls: int) -> float | None:
    """Share of the room inside the walls that is filled."""
    outer = [p for p in layer.loops if not any(o is not p and o.contains(p) for o in layer.loops)]
    if not outer:
        return None
    whole = shapely.buffer(shapely.union_all(outer), width / 2)
    # Holes: the outermost of what lies inside the innermost wall and is ringed by walls of its own.
    inner = shapely.buffer(whole, -walls * width)
    rings = [p for p in layer.loops if inner.contains(p)]
    holes = [p for p in rings if not any(o is not p and p.contains(o) for o in rings)]
    if holes:
        cut = shapely.union_all(holes)
        whole = shapely.difference(whole, shapely.buffer(cut, -width / 2))
        inner = shapely.difference(inner, shapely.buffer(cut, (walls - 0.5) * width))
    if inner.area < 4 * width**2:
        return None
    share = (layer.volume / max(layer.h, 1e-6) - (whole.area - inner.area)) / inner.area
    return float(min(max(share, 0.0), 1.0))


@dataclass(frozen=True)
class Difference:
    """One way the file departs from the plan: ``harm`` 3 spoils the part, 2 weakens it or costs much, 1 to know."""

    harm: int
    title: str
    detail: str


def differences(
    found: Sliced,
    plan: Recipe,
    card: Material,
    size: tuple[float, float, float],
    weak: Sequence[tuple[float, float, float]] = (),
) -> tuple[Difference, ...]:
    """Where the file departs from the plan, in order of harm.

    ``size`` of the part as it should lie, mm; ``weak`` places where no seam should run, in the frame of the bed with
    the middle of the part at the origin.
    """
    told = (*_of_shape(found, plan, size), *_of_heat(found, card), *_of_layers(found, plan), *_of_seams(found, weak))
    return tuple(sorted(told, key=lambda d: -d.harm))


def _of_shape(found: Sliced, plan: Recipe, size: tuple[float, float, float]) -> Iterator[Difference]:
    turned = sorted(found.size[:2]), sorted(size[:2])
    off = max(abs(a - b) for a, b in zip((*turned[0], found.size[2]), (*turned[1], size[2]), strict=True))
    if off > max(1.5, 0.03 * max(size)):
        yield Difference(
            3,
            "Another size",
            f"The file prints {_size(found.size)} where this way is {_size(size)}: another part or way to lie, "
            "or scaled. A skirt or a brim may make it larger.",
        )
    if found.walls is not None and found.walls != plan.walls:
        less = found.walls < plan.walls
        title = (
            f"{_count(found.walls)} where {_count(plan.walls, False)} {'was' if plan.walls == 1 else 'were'} planned"
        )
        yield Difference(3 if less else 1, title, "Counted at sample heights, outermost loop inwards.")


def _of_heat(found: Sliced, card: Material) -> Iterator[Difference]:
    low, high = card.nozzle
    if found.nozzle_c is not None and not low - 5 <= found.nozzle_c <= high + 5:
        cold = found.nozzle_c < low
        yield Difference(
            3 if cold else 2,
            f"Nozzle {found.nozzle_c:.0f} °C where {card.name} wants {low} to {high}",
            "Colder layers bond worse." if cold else "Hotter than the card allows: strings, and it may burn.",
        )
    if found.bed_c is not None and not card.bed[0] - 10 <= found.bed_c <= card.bed[1] + 10:
        yield Difference(
            1,
            f"Bed {found.bed_c:.0f} °C where {card.name} wants {card.bed[0]} to {card.bed[1]}",
            "It may come loose, or its foot may spread.",
        )


def _of_layers(found: Sliced, plan: Recipe) -> Iterator[Difference]:
    if abs(found.layer_height - plan.layer_height) > 0.012:
        thick = found.layer_height > plan.layer_height
        yield Difference(
            2,
            f"Layers of {found.layer_height:.2f} mm where {plan.layer_height:.2f} were planned",
            "Thicker layers reach less far over nothing and bond over a smaller share."
            if thick
            else "Thinner layers take longer.",
        )
    if found.infill is not None and abs(found.infill - plan.infill) > max(0.06, 0.2 * plan.infill):
        less = found.infill < plan.infill
        yield Difference(
            2 if less else 1,
            f"Infill about {found.infill * 100:.0f} % where {plan.infill * 100:.0f} % was planned",
            "From the plastic laid inside the walls.",
        )
    if abs(found.line_width - plan.line_width) > 0.06:
        yield Difference(
            1,
            f"Lines of {found.line_width:.2f} mm where {plan.line_width:.2f} were planned",
            "From the filament pushed over the length laid.",
        )


def _of_seams(found: Sliced, weak: Sequence[tuple[float, float, float]]) -> Iterator[Difference]:
    through = seams_near(found, weak)
    if through:
        yield Difference(
            2,
            f"The seam runs through {through} weak {'place' if through == 1 else 'places'}",
            "Move it to a stout edge: each layer starts and ends there with a flaw.",
        )


def seams_near(found: Sliced, weak: Sequence[tuple[float, float, float]]) -> int:
    """How many of the weak places at least three seam points pass within 4 mm."""
    if not len(found.seams) or not len(weak):
        return 0
    drawn = np.vstack([np.asarray(x.loops[0].bounds).reshape(2, 2) for x in found.layers if x.loops])
    middle = (drawn.min(axis=0) + drawn.max(axis=0)) / 2
    tree = cKDTree(found.seams - np.r_[middle, 0.0])
    near = tree.query_ball_point(np.asarray(weak), NEAR_MM, return_length=True)
    return int((np.asarray(near) >= 3).sum())


def _size(s: tuple[float, float, float]) -> str:
    return f"{s[0]:.0f} × {s[1]:.0f} × {s[2]:.0f} mm"


_NUMBERS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten")


def _count(n: int, walls: bool = True) -> str:
    word = _NUMBERS[n] if n < len(_NUMBERS) else str(n)
    return f"{word.capitalize()} wall{'' if n == 1 else 's'}" if walls else word
