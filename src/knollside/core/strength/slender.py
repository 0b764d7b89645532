"""Buckling of every load case of a duty, on the grid that its stress was solved on."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.model import Array, DesignCase, Feature, Mesh
from knollside.core.strength import conditions
from knollside.core.strength.buckling import Buckling, buckling, geometric_stiffness
from knollside.core.strength.field import Medium, StressField, Tick, laid_again
from knollside.core.strength.setups import let_go


@dataclass(frozen=True)
class CaseBuckling:
    """One load case: what buckles, with the ``points`` (n, 3) of the shapes."""

    name: str
    found: Buckling
    points: Array


def buckle(
    mesh: Mesh,
    features: tuple[Feature, ...],
    design_case: DesignCase,
    medium: Medium,
    field: StressField,
    tick: Tick | None = None,
) -> tuple[CaseBuckling, ...]:
    """The least factors of every case of ``field``, solved before on a plain grid for this very duty and medium."""
    say: Tick = tick or (lambda share, text: None)
    laid, body = laid_again(mesh, features, design_case, medium, field)
    out: list[CaseBuckling] = []
    for i, (ask, answer) in enumerate(zip(laid.cases, field.cases, strict=True)):
        u = answer.displacement.reshape(-1)
        acting = [let_go(laid.grid, h, u) for h, _ in laid.held]
        stiffness = body.stiffness(conditions.springs(laid.grid, acting, medium.modulus))
        geometric = geometric_stiffness(body, answer.displacement)

        def tell(x: float, i: int = i) -> None:
            say((i + 0.1 + 0.9 * x) / len(laid.cases), "looking whether it buckles")

        tell(0.0)
        out.append(CaseBuckling(ask.name, buckling(stiffness, geometric, tell), laid.grid.points))
    return tuple(out)
