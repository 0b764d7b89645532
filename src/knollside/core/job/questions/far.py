"""Parts that move far: their movement and reserves as turning makes them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.strength import StrengthOf
from knollside.core.material.stiffness import stiffness_left
from knollside.core.model import Refused
from knollside.core.strength.far import SOLVED, STRAIGHT, UNSOLVED, FarMoved, Turned, move_far, turned_ratios
from knollside.core.strength.strength import Strength

_CELLS = 20_000
Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Moved:
    """A part moved far: ``rough``, as it would be did it hardly move, and ``found``; or why there is no answer."""

    rough: Strength | None = None
    found: FarMoved | None = None
    why_not: str = ""


@dataclass(frozen=True, eq=False)
class Moving(Question[Moved]):
    """The load cases that move far solved with their turning, on a small grid, once for every way."""

    strength: StrengthOf
    kept: ClassVar[int] = 4

    def answer(self, ask: Answerer) -> Moved:
        small = self.strength.small(_CELLS)
        try:
            part, rough = ask(small.solve.part), small.alone(ask, 0.0, 0.3)
            case = ask(small.hold).of(small.design_case)
            left = (1.0 if c.bends else stiffness_left(rough.card, small.surroundings, c).value for c in case.loaded)
            soft = tuple(1 / share for share in left)
            at = part.mesh, part.features, case, small.solve.medium, rough.field, soft
            return Moved(rough, move_far(*at, lambda x, words: ask.tick(0.3 + 0.7 * x, words)))
        except Refused as refusal:
            return Moved(why_not=str(refusal))


@dataclass(frozen=True, eq=False)
class Turning(Question[Turned]):
    """By how much turning changes what is told of some ways; nothing of a part that hardly moves."""

    strength: StrengthOf
    directions: tuple[Vec, ...]
    kept: ClassVar[int] = 8

    def answer(self, ask: Answerer) -> Turned:
        s = ask(self.strength, 0.0, 0.2)
        if not s.moves_far:
            return STRAIGHT
        moved = ask(Moving(self.strength), 0.2, 1.0)
        if moved.rough is None or moved.found is None:
            return Turned(1.0, (1.0,) * len(self.directions), f"{s.moves_far} {moved.why_not}", UNSOLVED)
        if not moved.found.straight.any():  # just short of it on this grid
            return STRAIGHT
        ratios = turned_ratios(moved.rough.field, moved.found, moved.rough.limits, np.array(self.directions))
        share = 100 * moved.found.turned.max() / s.length
        words = (
            f"It moves by {share:.0f} % of its length: solved with its turning, which makes {moved.found.ratio:.2f} of "
            "the movement that small ones would give."
        )
        return Turned(moved.found.ratio, ratios, words, SOLVED)
