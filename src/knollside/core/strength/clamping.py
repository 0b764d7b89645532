"""What a screw's tightening still does: how much of it plastic leaves, and whether the joint opens, tips or slips.

Tightening is a shortening that stays, so its force falls as the stiffness does (Findley 1944; docs/methods.md 1.28).
A joint opens where it is pulled with more than is left, tips where it is bent so that one side of its ring lifts off
(the force then leaves the ring's kern), and slips where it is pushed or turned with more than friction on what is left.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from knollside.core.material.allowables import time_words
from knollside.core.material.cards import Material
from knollside.core.material.stiffness import stiffness_left
from knollside.core.model import (
    YEAR,
    Array,
    DesignCase,
    Feature,
    Fixture,
    LoadCase,
    Mesh,
    Range,
    Refused,
    ScrewFixture,
    Surroundings,
    ThreadFixture,
)
from knollside.core.strength.field import CaseAnswer
from knollside.core.strength.hand_rules import threaded_area
from knollside.core.strength.set_out import place_feature

_FRICTION = Range(0.30, 0.20, 0.45, "typical")  # of plastic on wood, metal or plastic, dry
_BY_HAND = Range(10.0, 5.0, 20.0, "typical")  # MPa under the head of a screw that is tightened by hand into plastic


@dataclass(frozen=True)
class Clamp:
    """One tight screw in one load case: ``left`` N of its ``tightened`` N, against a ``pull`` along it and a push
    ``sideways``, N, ``bending`` across it and ``turning`` about it, N mm. ``fixture`` is its number, ``head`` and
    ``bore`` the ring's diameters, mm; ``lasting`` in words how long it has been tight."""

    fixture: int
    hole: str
    case: str
    tightened: Range
    left: Range
    pull: float
    sideways: float
    bending: float
    turning: float
    head: float
    bore: float
    lasting: str

    @property
    def _lifting(self) -> float:
        """What clamp it takes that no side of the ring lifts off, N: bending by its kern, (R^2 + r^2) / 4R."""
        kern = (self.head**2 + self.bore**2) / (8 * self.head)
        return self.pull + self.bending / kern

    @property
    def _rubbing(self) -> float:
        """What clamp friction needs besides the pull, N; turning is taken at the ring's mean radius."""
        return (self.sideways + self.turning / ((self.head + self.bore) / 4)) / _FRICTION.low

    @property
    def goes(self) -> str:
        """What may go at the low end, in a word; nothing where it holds."""
        if self.pull >= self.left.low:
            return "open"
        if self._lifting >= self.left.low:
            return "tip"
        return "slip" if self._rubbing > self.left.low - self.pull else ""

    @property
    def short(self) -> float:
        """How many times as tight it would have to be; below one where it holds."""
        return max(self._lifting, self.pull + self._rubbing) / max(self.left.low, 1e-9)

    @property
    def words(self) -> str:
        """What may go, and how hard it would have to be tightened."""
        typical = "" if self.tightened.source == "yours" else " (typical by hand)"
        every = (
            (self.pull, f"pulls it with {self.pull:.0f} N"),
            (self.sideways, f"pushes it sideways with {self.sideways:.0f} N"),
            (self.bending / self.bore, f"bends it with {self.bending / 1000:.2g} N m"),
            (self.turning / self.bore, f"turns it with {self.turning / 1000:.2g} N m"),
        )
        loads = [words for size, words in every if size >= 0.1 * max(s for s, _ in every)]
        joined = " and ".join([", ".join(loads[:-1]), loads[-1]] if len(loads) > 1 else loads)
        return (
            f"The screw in {self.hole.lower()} may {self.goes}: of {self.tightened.value:.0f} N{typical}, "
            f"{self.left.words(0)} N are left after {self.lasting}, and {self.case} {joined}"
        )

    @property
    def cure(self) -> str:
        """How hard it would have to be tightened, where plastic bears that."""
        enough = self.tightened.low * self.short
        if enough > _BY_HAND.high * _ring(self.head, self.bore):
            return "no clamp that plastic bears would hold it: a pin, a ledge or more screws would"
        return f"tightened with {_rounded_up(enough):.0f} N and kept so, it would hold"


def tightening(fixture: ScrewFixture, hole: Feature) -> Range:
    """With how much a screw is tightened, N: as said, else what is typical by hand for its head."""
    if fixture.tightened_N:
        return Range(fixture.tightened_N, fixture.tightened_N, fixture.tightened_N, "yours")
    bore = hole.diameter or 0.0
    return _BY_HAND.times(_ring(fixture.head(bore), bore))


def _ring(head: float, bore: float) -> float:
    return math.pi / 4 * max(head**2 - bore**2, 0.0)


def clamp_left(card: Material, place: Surroundings, case: LoadCase) -> Range:
    """The share of a tightening that is there when a case comes: a year after, or as long as it lasts."""
    return stiffness_left(card, place, case.model_copy(update={"permanent": True, "hours": _tight_for(case)}))


def _tight_for(case: LoadCase) -> float:
    """Hours that a screw has been tight when the last of a case comes."""
    return max(case.lasting_h if case.permanent else 0.0, YEAR)


def clamps(
    mesh: Mesh, features: tuple[Feature, ...], design_case: DesignCase, answers: tuple[CaseAnswer, ...], card: Material
) -> tuple[Clamp, ...]:
    """Every tight screw, in every load case; ``answers`` as in :func:`~knollside.core.strength.hand_rules.by_hand`."""
    out = []
    for i, fixture in enumerate(design_case.fixtures):
        if not isinstance(fixture, ScrewFixture) or not fixture.tight:
            continue
        hole = place_feature(mesh, features, fixture)
        if hole.kind == "hole" and hole.diameter:
            for case, answer in zip(design_case.loaded, answers, strict=True):
                out.append(_clamp(i, fixture, hole, case, answer, clamp_left(card, design_case.surroundings, case)))
    return tuple(out)


def _clamp(
    number: int, fixture: ScrewFixture, hole: Feature, case: LoadCase, answer: CaseAnswer, share: Range
) -> Clamp:
    assert hole.diameter is not None
    mine = answer.external.holder == number
    each, axis = answer.external.forces[mine], np.asarray(hole.axis, float)
    force = each.sum(axis=0)
    moment = np.cross(answer.external.points[mine] - np.asarray(hole.centre), each).sum(axis=0)
    tightened = tightening(fixture, hole)
    left = Range(
        tightened.value * share.value, tightened.low * share.low, tightened.high * share.high, tightened.source
    )
    return Clamp(
        number,
        hole.title,
        case.name,
        tightened,
        left,
        abs(float(force @ axis)),
        _across(force, axis),
        _across(moment, axis),
        abs(float(moment @ axis)),
        fixture.head(hole.diameter),
        hole.diameter,
        time_words(_tight_for(case)),
    )


def _across(v: Array, axis: Array) -> float:
    return float(np.linalg.norm(v - (v @ axis) * axis))


def gone(clamps: tuple[Clamp, ...]) -> tuple[Clamp, ...]:
    """Of every screw whose clamp may go the case that it is shortest of, the worst first."""
    worst: dict[int, Clamp] = {}
    for c in clamps:
        if c.goes and c.short > (worst[c.fixture].short if c.fixture in worst else 0.0):
            worst[c.fixture] = c
    return tuple(sorted(worst.values(), key=lambda c: -c.short))


def loosened(fixtures: tuple[Fixture, ...], clamps: tuple[Clamp, ...]) -> tuple[Fixture, ...]:
    """The holds with those screws loose."""
    loose = {c.fixture for c in clamps}
    return tuple(h.model_copy(update={"tight": False}) if i in loose else h for i, h in enumerate(fixtures))


def told(clamps: tuple[Clamp, ...]) -> str:
    """What went, in words, with what would hold it; nothing where all hold."""
    if not clamps:
        return ""
    first = max(clamps, key=lambda c: c.short)
    more = len({c.fixture for c in clamps}) - 1
    others = "" if not more else f", and so are {more} more" if more > 1 else ", and so is another"
    return f"{first.words}. It is taken as loose{others}; {first.cure}."


def _rounded_up(newton: float) -> float:
    step = 0.5 * 10.0 ** math.floor(math.log10(max(newton, 1.0)))
    return math.ceil(newton / step) * step


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
