"""Load cases that move a part far, solved with its turning, next to the same cases solved as if it hardly moved.

What is told is by how much turning changes a movement and a reserve: the ratio of two answers of one grid, one load and
one set of holds, which a finer grid hardly changes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from knollside.core.material.allowables import Allowables
from knollside.core.model import Array, DesignCase, Feature, Mesh, Range
from knollside.core.strength.bodies import PlainBody
from knollside.core.strength.discretisation import widened
from knollside.core.strength.field import CaseAnswer, Medium, StressField, Tick, laid_again
from knollside.core.strength.large import move_large
from knollside.core.strength.movement import Movement
from knollside.core.strength.rating import rate
from knollside.core.strength.recover import judged_stress
from knollside.core.strength.set_out import SetOut
from knollside.core.strength.setups import let_go
from knollside.core.strength.strength import FAR_MOVED

SOLVED, UNSOLVED = 0.05, 0.25  # of a reserve, what is unsure of turning: where it was solved, and where it was not


@dataclass(frozen=True)
class FarMoved:
    """The solved cases that move far by their greatest movement: ``turned`` and ``straight``, mm, (k,), 0 for a case
    that does not move far; the ``stress`` (k, n, 6) of all cases in turned frames, of solid MPa."""

    turned: Array
    straight: Array
    stress: Array

    @property
    def ratio(self) -> float:
        """What turning makes of the movement of the case that moves farthest."""
        k = int(np.argmax(self.straight))
        return float(self.turned[k] / self.straight[k])


@dataclass(frozen=True)
class Turned:
    """What turning makes of the movement, and of the reserve of each direction asked; ``words`` tell it, and ``doubt``
    how unsure that is, a share."""

    movement: float = 1.0
    reserves: tuple[float, ...] = ()
    words: str = ""
    doubt: float = 0.0

    @property
    def solved(self) -> bool:
        """Whether there is nothing to turn, or turning was solved."""
        return self.doubt <= SOLVED

    def reserve(self, number: int, of: Range) -> Range:
        """The reserve of the direction of that number."""
        return widened(of.times(self.reserves[number]), self.doubt) if self.reserves else of

    def moved(self, m: Movement) -> Movement:
        """The movement, with what is unsure of it."""
        return replace(m, mm=widened(m.mm.times(self.movement), self.doubt))


STRAIGHT = Turned()  # it hardly moves


def move_far(
    mesh: Mesh,
    features: tuple[Feature, ...],
    design_case: DesignCase,
    medium: Medium,
    field: StressField,
    softness: tuple[float, ...],
    tick: Tick | None = None,
) -> FarMoved:
    """Solve those cases of ``field``, a plain one of this very duty and medium, that move far. ``softness`` is how many
    times as far as at once each case moves in the end, by heat and time.

    Raises :class:`~knollside.core.strength.multigrid.NotSettled` where one finds no balance.
    """
    say: Tick = tick or (lambda share, words: None)
    laid, body = laid_again(mesh, features, design_case, medium, field)
    plain = field.solved_alone()
    stress, judged = plain.stress.copy(), (plain.points, plain.normals)
    turned, straight = np.zeros(len(laid.cases)), np.zeros(len(laid.cases))
    for k, (answer, soft) in enumerate(zip(field.cases, softness, strict=True)):
        moved = soft * float(np.linalg.norm(answer.displacement, axis=1).max())
        if moved <= FAR_MOVED * float(mesh.size.max()):
            continue

        def tell(x: float, k: int = k) -> None:
            say((k + x) / len(laid.cases), "moving it far")

        u, found = _of_case(laid, body, k, answer, soft, medium.modulus, judged, tell)
        found[~stress[k].any(axis=1)] = 0.0  # what is judged by hand
        stress[k], straight[k] = found, moved
        turned[k] = float(np.linalg.norm(u, axis=1).max())
    return FarMoved(turned, straight, stress)


def _of_case(
    laid: SetOut,
    body: PlainBody,
    k: int,
    answer: CaseAnswer,
    soft: float,
    modulus: float,
    judged: tuple[Array, Array],
    tell: Callable[[float], None],
) -> tuple[Array, Array]:
    """Displacements (n, 3) and judged stress (n, 6) of one case. A softer stuff moves as under so much more load, and
    has so much less stress for it."""
    ask, u = laid.cases[k], answer.displacement.reshape(-1)
    holds = [let_go(laid.grid, h, u) for h, _ in laid.held]
    found = move_large(body, ask, holds, modulus, soft * answer.impact, tell)
    stress = judged_stress(body.grid, found.samples, judged[0], judged[1], body.solid)[0]
    return found.u, stress / soft


def turned_ratios(
    field: StressField, found: FarMoved, limits: tuple[Allowables, ...], directions: Array
) -> tuple[float, ...]:
    """What turning makes of the reserve of each of ``directions`` (d, 3), by what was solved alone."""
    plain = field.solved_alone()
    before = rate(plain, limits, directions).reserve
    after = rate(replace(plain, stress=found.stress), limits, directions).reserve
    return tuple(float(r) for r in after / before)
