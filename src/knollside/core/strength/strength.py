"""What a design case asks of the part, next to what the material can take."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.material.allowables import Allowables
from knollside.core.material.cards import Material
from knollside.core.model import Recipe
from knollside.core.strength.field import StressField
from knollside.core.strength.mesh_size import MeshSize


@dataclass(frozen=True)
class Strength:
    """The stress field of a design case with the strengths it is held against, one for each case."""

    field: StressField
    limits: tuple[Allowables, ...]
    card: Material
    recipe: Recipe
    target: float
    withheld: str | None
    mesh_size: MeshSize | None = None
