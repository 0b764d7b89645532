"""What a person should know of single layers: notes by height, for the layer log."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from knollside.core.lay.strata import Strata
from knollside.core.lay.supports import BRIDGE_MM, Region
from knollside.core.model import Array, Feature, Recipe

_SAMPLED = 40
_MIN_THIN_MM2 = 0.5


@dataclass(frozen=True)
class LayerWarning:
    """One note: from ``low`` to ``high`` mm over the bed, its ``kind`` (island, bridge, ceiling, thin, lying hole,
    quick), the words, and whether it needs doing something about."""

    low: float
    high: float
    kind: str
    words: str
    grave: bool


def layer_warnings(
    strata: Strata,
    found: tuple[Region, ...],
    features: tuple[Feature, ...],
    quick: tuple[tuple[float, float, float], ...],
    recipe: Recipe,
) -> tuple[LayerWarning, ...]:
    """All notes of a way, grave ones first, then from below. ``quick`` gives (low, high, seconds) of layers that are
    done too fast to cool."""
    out = [_of_region(r) for r in found if r.kind in ("island", "bridge", "ledge") or r.needed]
    out += _thin(strata, recipe)
    out += _lying(strata, features)
    out += [LayerWarning(a, b, "quick", f"{s:.0f} s a layer: slow down", False) for a, b, s in quick]
    return tuple(sorted(out, key=lambda n: (not n.grave, n.low)))


def _of_region(r: Region) -> LayerWarning:
    if r.kind == "island":
        return LayerWarning(r.low, r.high, "island", "starts in the air", True)
    if r.kind == "bridge":
        span = 2 * r.far
        kind = "ceiling" if r.area > span * BRIDGE_MM * 2 else "bridge"
        return LayerWarning(r.low, r.high, kind, f"{kind}, spans {span:.0f} mm", r.needed)
    words = {"ledge": f"ledge sticks out {r.far:.1f} mm", "arch": "wide arch"}.get(r.kind, "leans too far")
    return LayerWarning(r.low, r.high, r.kind, words, r.needed)


def free_area(strata: Strata, heights: Array) -> Array:
    """Area that rests on nothing in each slice round ``heights``, mm2 (k,): every layer counted."""
    half = (heights[1] - heights[0]) / 2 if len(heights) > 1 else strata.h
    out = np.zeros(len(heights))
    for f in strata.free:
        k = int(np.clip((strata.level(f.k) - (heights[0] - half)) / (2 * half), 0, len(heights) - 1))
        out[k] += f.patch.area
    return out


def _thin(strata: Strata, recipe: Recipe) -> list[LayerWarning]:
    """Walls narrower than one line, which are left out, or than two, which leave a gap: by opening the outline."""
    picked = np.unique(np.linspace(0, len(strata.outline) - 1, _SAMPLED).astype(int))
    lost, slim = [], []
    for k in picked:
        outline = strata.outline[int(k)]
        if _left(outline, recipe.line_width) > _MIN_THIN_MM2:
            lost.append(int(k))
        elif _left(outline, 2 * recipe.line_width) > 2 * _MIN_THIN_MM2:
            slim.append(int(k))
    step = len(strata.outline) / max(len(picked), 1)
    out = []
    for runs, words, grave in (
        (_runs(lost, step), f"walls under one line ({recipe.line_width:g} mm) are lost", True),
        (_runs(slim, step), "walls under two lines leave a gap", False),
    ):
        out += [LayerWarning(strata.level(a), strata.level(b + 1), "thin", words, grave) for a, b in runs]
    return out


def _left(outline: shapely.Geometry, width: float) -> float:
    """Area of what is narrower than ``width``: gone after shrinking and growing again; corners count for nothing."""
    r = width / 2 * 0.98
    grown = shapely.buffer(shapely.buffer(outline, -r), r * 1.02)
    scraps = shapely.difference(outline, shapely.buffer(grown, 0.12 * width))
    return float(sum(p.area for p in shapely.get_parts(scraps) if p.area > 0.3 * width**2))


def _runs(layers: list[int], step: float) -> list[tuple[int, int]]:
    out: list[tuple[int, int]] = []
    for k in layers:
        if out and k - out[-1][1] <= 1.5 * step:
            out[-1] = (out[-1][0], k)
        else:
            out.append((k, k))
    return out


def _lying(strata: Strata, features: tuple[Feature, ...]) -> list[LayerWarning]:
    out = []
    for f in features:
        if f.kind != "hole" or f.diameter is None or f.diameter < 2:
            continue
        axis, centre = strata.turn @ np.asarray(f.axis), strata.turn @ np.asarray(f.centre)
        if abs(float(axis[2])) < 0.5:
            middle = float(centre[2]) - strata.base
            top = middle + f.diameter / 2
            words = f"{f.title.lower()} lies: its top sags"
            out.append(LayerWarning(middle - f.diameter / 2, top, "lying hole", words, False))
    return out
