"""Will the roofs close over sparse or empty insides: patch by patch, by the free span under each.

The lowest skin layer of a roof rests on walls, on the skin of the layer below, and on infill lines. What lies
between is its free span; bridges of about 10 mm close, a strip that only hangs on one side by about three lines.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.material.infill import density_for, line_spacing
from knollside.core.mesh.outline import alike, farthest
from knollside.core.model import Array, Recipe

CLOSES_MM = 10.0  # typical span that closes
HANGS_LINES = 3.0
_LEAST_MM2 = 4.0


@dataclass(frozen=True)
class Roof:
    """A patch of roof: where (part's frame), ``area`` mm2, ``height`` over the bed, free ``span`` mm (how far it
    hangs out where it is held on one side), whether it ``closes``, and the least ``infill`` (a share) under it that
    would close it."""

    at: tuple[float, float, float]
    area: float
    height: float
    span: float
    one_sided: bool
    closes: bool
    infill: float


def roofs(outline: tuple[BaseGeometry, ...], h: float, turn: Array, base: float, recipe: Recipe) -> tuple[Roof, ...]:
    """Roof patches of layers ``outline`` (``h`` mm each, in the bed's frame from ``base`` up), worst first.

    Solid parts and parts without tops have none.
    """
    if recipe.infill >= 1 or recipe.tops == 0:
        return ()
    w = recipe.line_width
    spacing = line_spacing(recipe.pattern, recipe.infill, w)
    least = density_for(recipe.pattern, CLOSES_MM, w)
    nothing = shapely.Polygon()
    count = len(outline)

    def at(k: int) -> BaseGeometry:
        return outline[k] if 0 <= k < count else nothing

    found: list[tuple[int, BaseGeometry, float, bool]] = []
    for k in range(1, count):
        # The lowest skin layer starts where the last covered layer ends, ``tops`` layers up.
        if alike(at(k + recipe.tops - 1), at(k + recipe.tops)) and alike(at(k), at(k - 1)):
            continue
        below = shapely.buffer(at(k - 1), -recipe.walls * w, join_style="mitre", mitre_limit=2.0)
        room = shapely.intersection(below, at(k - 1 + recipe.tops)) if not below.is_empty else nothing
        if room.area < _LEAST_MM2:
            continue
        skin = shapely.difference(room, at(k + recipe.tops))
        solid = shapely.difference(at(k - 1), room)
        for patch in shapely.get_parts(skin):
            if patch.geom_type == "Polygon" and patch.area >= _LEAST_MM2:
                far, facing = farthest(patch, solid)
                found.append((k, patch, far, not facing))
    return tuple(
        sorted((_roof(g, h, turn, base, w, spacing, least) for g in _grouped(found)), key=lambda r: (r.closes, -r.span))
    )


def _grouped(found: list[tuple[int, BaseGeometry, float, bool]]) -> list[list[tuple[int, BaseGeometry, float, bool]]]:
    """Patches of neighbouring layers that touch, seen from above, are one roof."""
    groups: list[list[tuple[int, BaseGeometry, float, bool]]] = []
    for f in found:
        near = shapely.buffer(f[1], 0.5)
        home = next((g for g in groups if f[0] - g[-1][0] <= 3 and g[-1][1].intersects(near)), None)
        if home is None:
            groups.append([f])
        else:
            home.append(f)
    return groups


def _roof(
    group: list[tuple[int, BaseGeometry, float, bool]],
    h: float,
    turn: Array,
    base: float,
    w: float,
    spacing: float,
    least: float,
) -> Roof:
    k, patch, far, one_sided = max(group, key=lambda f: f[2])
    # Infill lines that are near enough cross a strip along the wall and carry it.
    hangs = one_sided and spacing > CLOSES_MM
    free = far if hangs else min(2 * far, spacing)
    limit = HANGS_LINES * w if hangs else CLOSES_MM
    spot = shapely.point_on_surface(patch)
    x, y, z = (float(v) for v in turn.T @ np.array([spot.x, spot.y, base + (k + 0.5) * h]))
    area = float(shapely.union_all([f[1] for f in group]).area)
    return Roof((x, y, z), area, (k + 0.5) * h, free, hangs, bool(free <= limit), least)
