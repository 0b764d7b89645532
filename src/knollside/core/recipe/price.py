"""Grams, hours and money of a recipe, from its layers."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import stdtrit

from knollside.core.material.cards import Material
from knollside.core.material.infill import PATTERNS
from knollside.core.model import Array, Range, Recipe
from knollside.core.recipe.layer_areas import LayerUse


@dataclass(frozen=True)
class PrinterMotion:
    """How a printer moves: mm/s, mm/s2, seconds; the ``flow`` its hot end melts, mm3/s. Typical until its own record
    corrects it."""

    wall: float = 45.0
    solid: float = 60.0
    infill: float = 80.0
    travel: float = 150.0
    acceleration: float = 1500.0
    layer_floor: float = 8.0
    per_layer: float = 1.2
    flow: float = 12.0


@dataclass(frozen=True)
class Price:
    grams: float
    hours: Range
    cost: float
    layer_seconds: Array


def price(
    thickness: float, use: LayerUse, recipe: Recipe, card: Material, printer_motion: PrinterMotion, factor: Range
) -> Price:
    """Mass from the areas of sampled layers that stand for ``thickness`` mm each; time from path lengths with a
    start-and-stop share per line.

    A straight line of length L takes L/v + v/a (trapezoidal motion); ``factor``
    is the printer's own actual-over-estimate record.
    """
    grams = grams_of(thickness, use, recipe, card)
    per_layer = np.maximum(layer_seconds(use, recipe, card, printer_motion), printer_motion.layer_floor)
    hours = float(per_layer.sum()) * thickness / recipe.layer_height / 3600
    return Price(grams, factor.times(hours), grams / 1000 * card.price_per_kg, per_layer)


def grams_of(thickness: float, use: LayerUse, recipe: Recipe, card: Material) -> float:
    """Mass of sampled layers that stand for ``thickness`` mm each."""
    volume = float((use.wall + use.solid + use.infill * recipe.infill).sum()) * thickness
    return volume * card.density / 1000


def layer_seconds(use: LayerUse, recipe: Recipe, card: Material, printer_motion: PrinterMotion) -> Array:
    """Seconds of each sampled layer at full pace, before any is slowed down to cool (k,)."""
    infill_area = use.infill * recipe.infill
    w = recipe.line_width
    slow = 0.4 if card.flexible else 1.0
    fill = printer_motion.infill * PATTERNS[recipe.pattern].speed_share
    # A wide or thick line is held back by what can be melted.
    most = printer_motion.flow / (w * recipe.layer_height)
    wall_v, solid_v, infill_v = (min(v, most) * slow for v in (printer_motion.wall, printer_motion.solid, fill))
    area = use.wall + use.solid + use.infill
    # Mean chord of what is filled: pi times its area over the length of its edge (Cauchy).
    chord = np.maximum(np.pi * (use.solid + use.infill) / np.maximum(use.edge, 1e-9), w)
    solid_length, infill_length = use.solid / w, infill_area / w
    seconds = use.wall_length / wall_v + solid_length / solid_v + infill_length / infill_v
    # About four corners a loop; every line of fill stops, steps over to the next and starts again.
    gap = w / max(recipe.infill, 0.02)
    stops = 4 * use.loops * wall_v / printer_motion.acceleration
    for length, v, over in ((solid_length, solid_v, w), (infill_length, infill_v, gap)):
        # A short line never reaches its full speed.
        reached = np.minimum(v, np.sqrt(printer_motion.acceleration * chord))
        stops = stops + length / chord * (
            reached / printer_motion.acceleration + 2 * np.sqrt(over / printer_motion.acceleration)
        )
    seconds = seconds + stops + np.sqrt(area) * np.maximum(use.loops, 1) / printer_motion.travel
    return np.asarray(seconds + printer_motion.per_layer)


@dataclass(frozen=True)
class SmallLayers:
    """A run of layers that are done too quickly to cool: from ``low`` to ``high`` mm over the bed, the least
    ``seconds`` of one, and the pace, a share of the full one, that gives it the time it needs."""

    low: float
    high: float
    seconds: float
    speed_share: float


def small_layers(
    use: LayerUse, thickness: float, recipe: Recipe, card: Material, printer_motion: PrinterMotion
) -> tuple[SmallLayers, ...]:
    """Runs of sampled layers under the layer-time floor, from below."""
    seconds = layer_seconds(use, recipe, card, printer_motion)
    short = np.flatnonzero((seconds < printer_motion.layer_floor) & (use.wall > 0))
    runs = np.split(short, np.flatnonzero(np.diff(short) > 1) + 1) if len(short) else []
    return tuple(
        SmallLayers(
            float(r[0] * thickness),
            float((r[-1] + 1) * thickness),
            float(seconds[r].min()),
            float(seconds[r].min() / printer_motion.layer_floor),
        )
        for r in runs
    )


def time_factor(pairs: list[tuple[float, float]]) -> Range:
    """Actual over estimated time from a printer's record: log ratio with a t interval for the next print.

    Typical 1.1 (0.9 to 1.4) until there are three pairs of (estimate, actual) hours.
    """
    good = [(e, a) for e, a in pairs if e > 0 and a > 0]
    if len(good) < 3:
        return Range(1.1, 0.9, 1.4, "typical")
    log = np.log([a / e for e, a in good])
    n, mean, spread = len(log), float(log.mean()), float(log.std(ddof=1))
    half = float(stdtrit(n - 1, 0.95)) * max(spread, 0.02) * float(np.sqrt(1 + 1 / n))
    return Range(float(np.exp(mean)), float(np.exp(mean - half)), float(np.exp(mean + half)), f"yours, {n} prints")
