"""What keeps a part on the bed: its curl, the brim or raft that answers it, and how to lay the first layer."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.lay.stability import Footing
from knollside.core.material.cards import Material
from knollside.core.mesh.outline import sides
from knollside.core.model import Recipe

# Index 1 is where an unaided corner of a typical part starts to lift; typical of open printers.
_SHRINK_AT, _LENGTH_AT = 0.4, 150.0  # per cent, mm
_LEAN_AT = 0.12  # margin over the centre's height below which a knock may tip it


@dataclass(frozen=True)
class BedAdhesion:
    """``kind`` nothing, brim or raft; its ``width`` mm and ``why``; the ``curl`` index (1: corners start to lift)
    and the ``span`` of the contact it comes from, mm."""

    kind: Literal["nothing", "brim", "raft"]
    width: float
    why: str
    curl: float
    span: float


def bed_adhesion(foot: Footing, card: Material, enclosed: bool = False) -> BedAdhesion:
    """A brim by shrinkage and length, or for a narrow stand; a raft where next to nothing touches the bed.

    Curl grows with the shrinkage and the length that shrinks, less in a closed chamber: a rule of practice, not
    a computed warp.
    """
    _, span = sides(foot.outline)
    shrink = sum(card.shrink_percent) / 2
    curl = shrink / _SHRINK_AT * span / _LENGTH_AT * (0.6 if enclosed else 1.0)
    if foot.contact < 30.0 and foot.height > 5.0:
        return BedAdhesion(
            "raft", 5.0, f"only {foot.contact:.0f} mm² touch the bed under {foot.height:.0f} mm", curl, span
        )
    if curl >= 0.5:
        width = min(5.0 + 5.0 * round(2 * (curl - 0.5)) / 2, 15.0)
        return BedAdhesion(
            "brim", width, f"{span:.0f} mm long, and {card.name} shrinks about {shrink:.1f} %", curl, span
        )
    if foot.lean < _LEAN_AT and foot.height > 20.0:
        return BedAdhesion("brim", 5.0, f"{foot.height:.0f} mm high on a narrow stand", curl, span)
    return BedAdhesion("nothing", 0.0, f"{foot.contact / 100:.1f} cm² lie flat, {span:.0f} mm long", curl, span)


@dataclass(frozen=True)
class FirstLayer:
    """Height mm and speed mm/s of the first layer with its ``why``; ``small`` loops on it that want ``small_speed``."""

    height: float
    speed: float
    why: str
    small: int
    small_speed: float


_SMALL_LOOP = 25.0  # mm round: a hole of 8 mm
_SLOW, _SLOWER, _CREEP = 25.0, 18.0, 12.0  # mm/s, typical


def first_layer(outline: BaseGeometry, recipe: Recipe, nozzle: float) -> FirstLayer:
    """A first layer thick enough to forgive an uneven sheet, slower where little of it lies down."""
    height = recipe.first_mm(nozzle)
    pieces = [p for p in shapely.get_parts(outline) if p.geom_type == "Polygon"]
    rings = [r for p in pieces for r in (p.exterior, *p.interiors)]
    small = sum(r.length < _SMALL_LOOP for r in rings)
    least = min((p.area for p in pieces), default=0.0)
    if least < 100.0:
        return FirstLayer(height, _SLOWER, f"its smallest island is {least:.0f} mm²", small, _CREEP)
    return FirstLayer(height, _SLOW, "it lies broad", small, _CREEP)
