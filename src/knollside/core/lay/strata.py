"""The exact layers of one way: what each one rests on, and where it rests on nothing.

A layer of height h and line width w may stick out ``reach`` = f w past the one below (docs/methods.md 4.2). What sticks
out farther is *free*: an island where nothing below touches it, a bridge where it is held on facing sides, a
ledge where it is held on one.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.lay.stability import REACH_SHARE
from knollside.core.mesh.outline import alike, farthest
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.model import Array, Mesh, Recipe, Refused, rotation_to_up

MOST_LAYERS = 4000
_CRUMB = 0.05  # mm2; smaller free scraps come from facets, not from the shape


FreeKind = Literal["island", "bridge", "ledge"]


@dataclass(frozen=True)
class Free:
    """A patch of layer ``k`` that rests on nothing: its polygon, how far its farthest point is from what holds
    it (``far`` mm; half the span of a bridge), and ``kind``: island, bridge or ledge."""

    k: int
    patch: BaseGeometry
    far: float
    kind: FreeKind


@dataclass(frozen=True)
class Strata:
    """Layers of one way in the bed's frame: ``outline[k]`` at the middle of layer k, ``h`` mm each, all free
    patches, and the ``turn`` (3, 3) that lays the part so; the part stands from ``base`` up."""

    outline: tuple[BaseGeometry, ...]
    free: tuple[Free, ...]
    h: float
    reach: float
    turn: Array
    base: float

    @property
    def areas(self) -> Array:
        """Area of each layer, mm2 (k,)."""
        return np.array([o.area for o in self.outline])

    def level(self, k: int) -> float:
        """Height of the underside of layer k over the bed, mm."""
        return k * self.h


def lay_strata(
    mesh: Mesh,
    direction: tuple[float, float, float],
    recipe: Recipe,
    reach_share: float = REACH_SHARE,
    tick: Callable[[float], None] | None = None,
) -> Strata:
    """Cut every layer and see what it rests on. Refuses a part of more than 4,000 layers."""
    turn = rotation_to_up(direction)
    turned = mesh.turned(turn)
    low, high = (float(v) for v in turned.bounds[:, 2])
    h = recipe.layer_height
    count = max(1, round((high - low) / h))
    if count > MOST_LAYERS:
        raise Refused(f"{count:,} layers of {h:g} mm are more than can be looked at one by one ({MOST_LAYERS:,}).")
    cuts = cut(turned, np.minimum(low + (np.arange(count) + 0.5) * h, high - 1e-6 * max(high - low, 1.0)))
    outline: list[BaseGeometry] = []
    for k in range(count):
        # Straight walls cut the same segments again: one polygon serves them all.
        same = k > 0 and np.array_equal(cuts.at(k).shape, cuts.at(k - 1).shape)
        same = same and bool(np.abs(cuts.at(k) - cuts.at(k - 1)).max(initial=0.0) < 1e-9)
        outline.append(outline[-1] if same else polygon_of(cuts.at(k)))
    reach = reach_share * recipe.line_width
    free: list[Free] = []
    for k in range(1, count):
        if tick is not None and k % 40 == 0:
            tick(k / count)
        free.extend(_free(k, outline[k], outline[k - 1], reach))
    return Strata(tuple(outline), tuple(free), h, reach, turn, low)


def _free(k: int, here: BaseGeometry, below: BaseGeometry, reach: float) -> list[Free]:
    if here.is_empty or alike(here, below):
        return []
    # Offset first: near-equal outlines taken from each other cost more than the offset itself.
    held = shapely.buffer(below, reach, join_style="mitre", mitre_limit=2.0)
    if shapely.covers(held, here):
        return []
    out = []
    for patch in shapely.get_parts(shapely.difference(here, held)):
        if patch.geom_type == "Polygon" and patch.area >= _CRUMB:
            out.append(_told(k, patch, here, below, reach))
    return out


def _told(k: int, patch: BaseGeometry, here: BaseGeometry, below: BaseGeometry, reach: float) -> Free:
    whole = next((p for p in shapely.get_parts(here) if p.intersects(patch)), here)
    if not whole.intersects(below):
        return Free(k, patch, float("inf"), "island")
    far, facing = farthest(patch, below)
    return Free(k, patch, far, "bridge" if facing else "ledge")
