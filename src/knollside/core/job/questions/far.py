"""Parts that move far: their movement and reserves as turning makes them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.strength import StrengthOf
from knollside.core.material.stiffness import stiffness_left
from knollside.core.model import Refused
from knollside.core.strength.far import SOLVED, UNSOLVED, Turned, move_far, turned_ratios

_CELLS = 20_000
Vec = tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Turning(Question[Turned]):
    """By how much turning changes what is told of some ways; nothing of a part that hardly moves."""

    strength: StrengthOf
    directions: tuple[Vec, ...]
    kept: ClassVar[int] = 8

    def answer(self, ask: Answerer) -> Turned:
        s = ask(self.strength, 0.0, 0.2)
        if not s.moves_far:
            return Turned()
        plain = self.strength.plain()
        small = replace(plain, solve=replace(plain.solve, cells=min(_CELLS, plain.solve.cells), exactly=True))
        straight = (1.0,) * len(self.directions)
        try:
            part, rough = ask(small.solve.part), small.alone(ask, 0.2, 0.4)
            case = ask(small.hold).of(small.design_case)
            left = (1.0 if c.bends else stiffness_left(s.card, small.surroundings, c).value for c in case.loaded)
            soft = tuple(1 / share for share in left)
            at = part.mesh, part.features, case, small.solve.medium, rough.field, soft
            found = move_far(*at, lambda x, words: ask.tick(0.4 + 0.6 * x, words))
        except Refused as refusal:
            return Turned(1.0, straight, f"{s.moves_far} {refusal}", UNSOLVED)
        if not found.straight.any():  # just short of it on this grid
            return Turned()
        ratios = turned_ratios(rough.field, found, rough.limits, np.array(self.directions))
        share = 100 * found.turned.max() / s.length
        words = (
            f"It moves by {share:.0f} % of its length: solved with its turning, which makes {found.ratio:.2f} of the "
            "movement that small ones would give."
        )
        return Turned(found.ratio, ratios, words, SOLVED)
