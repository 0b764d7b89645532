"""What each choice buys: the recipe as it is against other patterns, layer heights and nozzles, walls the same.

Everything is priced by the trade board's own means; nothing is solved again.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

from knollside.core.lay.stability import overhang_limit
from knollside.core.material.bond import height_share
from knollside.core.material.infill import PATTERNS
from knollside.core.model import Recipe
from knollside.core.recipe.board import Dot, PlainPricer

NOZZLES_MM = (0.25, 0.4, 0.6, 0.8)
LINE_OVER_NOZZLE = 1.125  # typical line width over the nozzle's bore
_RATIOS = (0.25, 0.35, 0.5, 0.6, 0.75)


VariantKind = Literal["pattern", "layer", "nozzle"]


@dataclass(frozen=True)
class Variant:
    """One other choice: its ``kind`` (pattern, layer, nozzle), name, price and reserve, and what it brings."""

    kind: VariantKind
    name: str
    dot: Dot
    note: str


def variants(pricer: PlainPricer, recipe: Recipe, nozzle: float) -> tuple[Variant, ...]:
    """Patterns, layer heights and nozzles round one recipe, the recipe's own among each."""
    asked: list[tuple[VariantKind, str, Recipe, str, float]] = []
    if 0 < recipe.infill < 1:
        for name, p in PATTERNS.items():
            asked.append(("pattern", name, recipe.model_copy(update={"pattern": name}), p.note, nozzle))
    for h in sorted({round(r * nozzle, 2) for r in _RATIOS} | {recipe.layer_height}):
        made = with_layer(recipe, h)
        asked.append(("layer", f"{h:g} mm", made, _layer_note(made, nozzle), nozzle))
    for other in sorted({*NOZZLES_MM, nozzle}):
        made = with_nozzle(recipe, nozzle, other)
        words = f"{made.walls} walls, lines {made.line_width:g} mm, layers {made.layer_height:g} mm"
        asked.append(("nozzle", f"{other:g} mm", made, words, other))
        if other > nozzle and made.walls < recipe.walls:
            wide = made.model_copy(update={"walls": recipe.walls})
            thick = f"{wide.walls} walls are {wide.walls * wide.line_width:.3g} mm: strength from a wide nozzle"
            asked.append(("nozzle", f"{other:g} mm, as many walls", wide, thick, other))
    out = []
    for kind, name, r, note, other in asked:
        # Layers are judged by the bore they are pressed with.
        out.append(Variant(kind, name, pricer.dots([r], other)[0], note))
    return tuple(out)


def with_layer(recipe: Recipe, h: float) -> Recipe:
    """Another layer height, tops and bottoms as deep as before."""
    scale = recipe.layer_height / h
    tops = max(round(recipe.tops * scale), 1) if recipe.tops else 0
    bottoms = max(round(recipe.bottoms * scale), 1) if recipe.bottoms else 0
    return recipe.model_copy(update={"layer_height": h, "tops": min(tops, 30), "bottoms": min(bottoms, 30)})


def with_nozzle(recipe: Recipe, nozzle: float, other: float) -> Recipe:
    """Another nozzle: line width by its bore, layers in proportion, walls about as thick as before."""
    if math.isclose(other, nozzle):
        return recipe
    line = round(LINE_OVER_NOZZLE * other, 3)
    walls = max(round(recipe.walls * recipe.line_width / line), 1)
    thinner = with_layer(recipe, max(round(recipe.layer_height * other / nozzle, 2), 0.04))
    return thinner.model_copy(update={"line_width": line, "walls": min(walls, 20)})


def _layer_note(recipe: Recipe, nozzle: float) -> str:
    lean = math.degrees(overhang_limit(recipe))
    bond = height_share(recipe.layer_height / nozzle)
    words = f"leans {lean:.0f}° unsupported, steps of {recipe.layer_height:g} mm"
    return words if bond >= 1 else f"{words}, bond {(1 - bond) * 100:.0f} % less"
