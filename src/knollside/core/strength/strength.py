"""What a design case asks of the part, next to what the material can take."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.material.allowables import Allowables
from knollside.core.material.cards import Material
from knollside.core.model import Recipe
from knollside.core.strength.field import StressField
from knollside.core.strength.mesh_size import MeshSize
from knollside.core.strength.movement import Movement

FAR_MOVED = 0.05  # of the part's length


@dataclass(frozen=True)
class Strength:
    """The stress field of a design case with the strengths it is held against, one for each case; ``movement`` is
    how far it moves at most, ``length`` its longest side, mm, ``loosened`` what to say of screws whose clamp may not
    last."""

    field: StressField
    limits: tuple[Allowables, ...]
    card: Material
    recipe: Recipe
    target: float
    withheld: str | None
    mesh_size: MeshSize | None = None
    movement: Movement | None = None
    length: float = 0.0
    loosened: str = ""

    @property
    def moves_far(self) -> str:
        """What to say where the part moves so far that small movements, which every number rests on, are not small."""
        if self.movement is None or self.movement.mm.value <= FAR_MOVED * self.length:
            return ""
        share = self.movement.mm.value / self.length * 100
        return (
            f"It moves by {share:.0f} % of its length: these numbers are of small movements, good to about a tenth "
            "up to a fifth of the length and to nothing beyond."
        )
