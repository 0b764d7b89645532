"""Buckling of every load case of a duty, on the grid that its stress was solved on."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.model import Array, DesignCase, Feature, Mesh, Refused
from knollside.core.strength import conditions
from knollside.core.strength.bodies import PlainBody
from knollside.core.strength.buckling import Buckling, buckling, geometric_stiffness
from knollside.core.strength.field import Medium, StressField, Tick, body_of
from knollside.core.strength.grid import Grid
from knollside.core.strength.set_out import CellSize, set_out
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
    if field.sizing is not None:
        raise ValueError("buckling is asked of a plain grid")
    laid = set_out(mesh, features, design_case, CellSize(field.asked), None, medium.density)
    body = body_of(laid, medium)
    assert isinstance(body, PlainBody) and isinstance(laid.grid, Grid)
    if len(laid.grid.points) != len(field.grid_points):
        raise Refused("The grid of the stress could not be laid again.")
    constraints = [c for c, _ in laid.held]
    out: list[CaseBuckling] = []
    for i, (ask, answer) in enumerate(zip(laid.cases, field.cases, strict=True)):
        u = answer.displacement.reshape(-1)
        acting = [let_go(laid.grid, h, u) if h.one_way else h for h in constraints]
        stiffness = body.stiffness(conditions.springs(laid.grid, acting, medium.modulus))
        geometric = geometric_stiffness(body, answer.displacement)

        def tell(x: float, i: int = i) -> None:
            say((i + 0.1 + 0.9 * x) / len(laid.cases), "looking whether it buckles")

        tell(0.0)
        out.append(CaseBuckling(ask.name, buckling(stiffness, geometric, tell), laid.grid.points))
    return tuple(out)
