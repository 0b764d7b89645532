"""The part's layers as polygons, with what walls, tops and infill take of each."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.mesh.outline import alike
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.model import Array, Mesh, Recipe, rotation_to_up

SAMPLES = 60


@dataclass(frozen=True)
class LayerAreas:
    """Sampled layers of one way: ``heights`` (k,), each standing for ``thickness`` mm.

    ``outline[k]`` is the exact polygon; ``above`` and ``below`` give the polygons a
    number of layers up or down, which decide where roofs and floors are needed.
    """

    heights: Array
    thickness: float
    outline: tuple[BaseGeometry, ...]
    above: dict[int, tuple[BaseGeometry, ...]]
    below: dict[int, tuple[BaseGeometry, ...]]


def layer_areas(
    mesh: Mesh,
    direction: tuple[float, float, float],
    layer_height: float,
    shells: tuple[int, ...],
    samples: int = SAMPLES,
) -> LayerAreas:
    """Cut ``samples`` levels (fewer for a low part) and their neighbours ``shells`` layers away."""
    turned = mesh.turned(rotation_to_up(direction))
    low, high = turned.bounds[:, 2]
    count = int(min(samples, max(4, round((high - low) / layer_height))))
    heights = (np.arange(count) + 0.5) * (high - low) / count
    level = low + heights
    kept: dict[int, tuple[BaseGeometry, ...]] = {}

    def at(layers: int) -> tuple[BaseGeometry, ...]:
        """Polygons so many layers up (or down); each set is cut once."""
        if layers not in kept:
            kept[layers] = _polygons(turned, level + layers * layer_height)
        return kept[layers]

    def covered(sense: int) -> dict[int, tuple[BaseGeometry, ...]]:
        return {s: tuple(map(_both, at(sense), at(sense * s))) for s in shells if s > 0}

    return LayerAreas(heights, float(high - low) / count, at(0), covered(1), covered(-1))


def use_of_layers(outline: tuple[BaseGeometry, ...], h: float, recipe: Recipe) -> tuple[LayerUse, float]:
    """What ``recipe`` takes of layers that are cut already, and the thickness each sample stands for."""
    areas = areas_of(outline, h, tuple({recipe.tops, recipe.bottoms}))
    return use_of(areas, recipe), areas.thickness


def _both(near: BaseGeometry, far: BaseGeometry) -> BaseGeometry:
    """Where material lies in both: the first and the last layer of a skin decide it, without ledges in between."""
    return near if near is far or alike(near, far) else shapely.intersection(near, far)


def areas_of(
    outline: tuple[BaseGeometry, ...], h: float, shells: tuple[int, ...], samples: int = SAMPLES
) -> LayerAreas:
    """A stack from layers that are cut already, ``h`` mm each: about ``samples`` of them, with their neighbours."""
    count = len(outline)
    picked = np.unique(np.round(np.linspace(0, count - 1, min(samples, count))).astype(int))
    nothing = shapely.Polygon()

    def near(k: int) -> BaseGeometry:
        return outline[k] if 0 <= k < count else nothing

    def covered(s: int, sense: int) -> tuple[BaseGeometry, ...]:
        return tuple(_both(near(k + sense), near(k + sense * s)) for k in picked)

    return LayerAreas(
        (picked + 0.5) * h,
        count * h / len(picked),
        tuple(outline[k] for k in picked),
        {s: covered(s, 1) for s in shells if s > 0},
        {s: covered(s, -1) for s in shells if s > 0},
    )


def _polygons(mesh: Mesh, levels: Array) -> tuple[BaseGeometry, ...]:
    order = np.argsort(levels)
    cuts = cut(mesh, levels[order])
    made = [polygon_of(cuts.at(k)) for k in range(len(levels))]
    out: list[BaseGeometry] = [shapely.Polygon()] * len(levels)
    for place, polygon in zip(order, made, strict=True):
        out[int(place)] = polygon
    return tuple(out)


@dataclass(frozen=True)
class LayerUse:
    """Areas (k,) mm2 of wall, solid skin and infill, path lengths (k,) mm of walls, closed ``loops``, and the length
    of the ``edge`` (k,) of what lies inside the walls."""

    wall: Array
    solid: Array
    infill: Array
    wall_length: Array
    loops: Array
    edge: Array


def use_of(areas: LayerAreas, recipe: Recipe) -> LayerUse:
    """What ``recipe`` lays down in each sampled layer, by exact polygon offsets."""
    w = recipe.line_width
    walls, solids, infills, lengths, loops, edges = [], [], [], [], [], []
    empty = shapely.Polygon()
    for k, outline in enumerate(areas.outline):
        inner = inset(outline, recipe.walls * w)
        mid = [inset(outline, (i + 0.5) * w) for i in range(recipe.walls)]
        up = areas.above[recipe.tops][k] if recipe.tops else outline
        down = areas.below[recipe.bottoms][k] if recipe.bottoms else outline
        core = shapely.intersection(shapely.intersection(inner, up), down) if not inner.is_empty else empty
        walls.append(outline.area - inner.area)
        solids.append(inner.area - core.area)
        infills.append(core.area)
        edges.append(inner.length)
        lengths.append(sum(m.length for m in mid))
        loops.append(sum(len(shapely.get_rings(shapely.get_parts(m))) for m in mid))
    made = (np.array(v) for v in (walls, solids, infills, lengths, loops, edges))
    return LayerUse(*made)


def inset(outline: BaseGeometry, by: float) -> BaseGeometry:
    """Outline shrunk by ``by`` mm, mitred as wall lines are."""
    return outline if by <= 0 else shapely.buffer(outline, -by, join_style="mitre", mitre_limit=2.0)


def segments_of(shape: BaseGeometry) -> Array:
    """Directed boundary segments (n, 2, 2), solid on the left, of a (multi)polygon."""
    out = []
    for p in shapely.get_parts(shape):
        if p.geom_type != "Polygon" or p.is_empty:
            continue
        p = shapely.orient_polygons(p)
        for ring in (p.exterior, *p.interiors):
            c = np.asarray(ring.coords)[:, :2]
            out.append(np.stack([c[:-1], c[1:]], axis=1))
    return np.concatenate(out) if out else np.zeros((0, 2, 2))
