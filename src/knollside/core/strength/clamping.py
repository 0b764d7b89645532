"""What a screw's tightening still does: how much of it plastic leaves, and whether the joint opens or slips.

Tightening is a shortening that stays, so its force falls as the stiffness does (Findley 1944; docs/methods.md 1.30).
A joint opens where it is pulled with more than is left, and slips where it is pushed sideways with more than friction
on what is left.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.material.allowables import time_words
from knollside.core.material.cards import Material
from knollside.core.material.stiffness import stiffness_left
from knollside.core.model import (
    DesignCase,
    Feature,
    Mesh,
    Range,
    Refused,
    ScrewFixture,
    ThreadFixture,
)
from knollside.core.strength.field import CaseAnswer
from knollside.core.strength.hand_rules import threaded_area
from knollside.core.strength.set_out import place_feature

_FRICTION = Range(0.30, 0.20, 0.45, "typical")  # of plastic on wood, metal or plastic, dry


@dataclass(frozen=True)
class Clamp:
    """One tightened screw in one load case: ``left`` N of its tightening, against a ``pull`` along it and a push
    ``sideways``, N; ``lasting`` in words where the load stays."""

    hole: str
    case: str
    tightened: float
    left: Range
    pull: float
    sideways: float
    lasting: str

    @property
    def opens(self) -> bool:
        return self.pull >= self.left.low

    @property
    def slips(self) -> bool:
        return self.sideways > _FRICTION.low * max(self.left.low - self.pull, 0.0)

    @property
    def words(self) -> str:
        """What may go, or nothing where it holds at the low end."""
        if not (self.opens or self.slips):
            return ""
        after = f" after {self.lasting}" if self.lasting else ""
        what = "open" if self.opens else "slip"
        return (
            f"The screw in {self.hole.lower()} may {what}: of {self.tightened:.0f} N, {self.left.words(0)} N are left"
            f"{after}, and {self.case} pulls it with {self.pull:.0f} N and pushes it sideways with {self.sideways:.0f} "
            "N. Say that it is loose."
        )


def clamps(
    mesh: Mesh, features: tuple[Feature, ...], design_case: DesignCase, answers: tuple[CaseAnswer, ...], card: Material
) -> tuple[Clamp, ...]:
    """Every screw that is said to be tightened, in every load case; ``answers`` as in
    :func:`~knollside.core.strength.hand_rules.by_hand`."""
    out = []
    for i, fixture in enumerate(design_case.fixtures):
        if not isinstance(fixture, ScrewFixture) or not fixture.tight or not fixture.tightened_N:
            continue
        hole = place_feature(mesh, features, fixture)
        axis = np.asarray(hole.axis, float)
        for case, answer in zip(design_case.loaded, answers, strict=True):
            force = answer.external.forces[answer.external.holder == i].sum(axis=0)
            pull = abs(float(force @ axis))
            sideways = float(np.linalg.norm(force - (force @ axis) * axis))
            left = stiffness_left(card, design_case.surroundings, case).times(fixture.tightened_N)
            lasting = time_words(case.lasting_h) if case.permanent else ""
            out.append(Clamp(hole.title, case.name, fixture.tightened_N, left, pull, sideways, lasting))
    return tuple(out)


def loosened(clamps: tuple[Clamp, ...]) -> str:
    """The one that goes first, in words, and how many more may; nothing where all hold."""
    some = sorted((c for c in clamps if c.opens or c.slips), key=lambda c: c.left.low - c.pull - c.sideways)
    if not some:
        return ""
    more = len({c.hole for c in some}) - 1
    others = "" if not more else f" So may {more} more screw{'s' if more > 1 else ''}."
    return some[0].words + others


def refuse_if_stripped(mesh: Mesh, features: tuple[Feature, ...], design_case: DesignCase, card: Material) -> None:
    """Raise :class:`Refused` where a screw is tightened with more than its thread in the plastic can take."""
    for fixture in design_case.fixtures:
        if isinstance(fixture, ThreadFixture) and fixture.tightened_N:
            hole = place_feature(mesh, features, fixture)
            if hole.kind != "hole" or not hole.diameter or not hole.length:
                continue
            most = threaded_area(hole) * card.pull.value / 3**0.5
            if fixture.tightened_N > most:
                raise Refused(
                    f"Tightened with {fixture.tightened_N:.0f} N the thread in {hole.title.lower()} strips, at about "
                    f"{most:.0f} N. Tighten it less, or make the hole deeper or wider."
                )
