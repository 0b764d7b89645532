"""What lies between bodies printed in place, how their joints move, and one gap opened."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from knollside.core.fit.clearance import MOST_BODIES, Freedom, Gap, freedom, gaps
from knollside.core.fit.flaring import learn_flare
from knollside.core.fit.freeing import TYPICAL, learn_frees
from knollside.core.fit.joints import joint_of
from knollside.core.fit.moving import Travel, travel
from knollside.core.fit.opening import OpenedGap, set_gap
from knollside.core.fit.process import REFERENCE, PrintSetting, process_of
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.part import Part
from knollside.core.model import GapTrial, Measurement, Recipe

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Learned:
    """What the person's own trials say that gaps rest on."""

    readings: tuple[Measurement, ...]
    trials: tuple[GapTrial, ...]
    setting: PrintSetting

    def freedom(self, gap: Gap) -> Freedom:
        upright = process_of(self.readings, "upright", self.setting)
        side = upright.gap(REFERENCE, REFERENCE).scaled(0.5)
        source = upright.shift("hole").source
        flared = learn_flare(self.readings, self.setting)
        within, across = (learn_frees(self.trials, d) for d in TYPICAL)
        return freedom(gap, side, source, within, across, flared)


@dataclass(frozen=True, eq=False)
class GapsOf(Question[tuple[Gap, ...]]):
    """What lies between the bodies of a part, as drawn."""

    part: Part
    direction: Vec
    recipe: Recipe
    nozzle: float = 0.4
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> tuple[Gap, ...]:
        part = ask(self.part)
        if part.soundness.bodies < 2:
            return ()
        ask.tick(0.1, "measuring between bodies")
        return gaps(part.mesh, self.direction, self.recipe, self.nozzle, part.features)


@dataclass(frozen=True, eq=False)
class Gaps(Question[tuple[Freedom, ...]]):
    """Every pair of bodies with the chances of its gap on this printer."""

    gaps: GapsOf
    learned: Learned

    def answer(self, ask: Answerer) -> tuple[Freedom, ...]:
        return tuple(self.learned.freedom(g) for g in ask(self.gaps, 0.1, 0.9))


Travels = tuple[tuple[tuple[int, int], Travel], ...]


@dataclass(frozen=True, eq=False)
class TravelsOf(Question[Travels]):
    """How far every joint between two bodies moves, as drawn, by the pair of bodies."""

    part: Part
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Travels:
        part = ask(self.part)
        count = part.soundness.bodies
        pairs = [(i, j) for i in range(count) for j in range(i + 1, count)] if count <= MOST_BODIES else []
        joints = [(p, j) for p in pairs if (j := joint_of(part.mesh, part.features, p)) is not None]
        out = []
        for k, (pair, joint) in enumerate(joints):

            def tick(share: float, k: int = k) -> None:
                ask.tick((k + share) / len(joints), "moving what moves")

            out.append((pair, travel(part.mesh, joint, pair, tick)))
        return tuple(out)


@dataclass(frozen=True, eq=False)
class OpenGap(Question[OpenedGap]):
    """One gap opened (or closed) by moving the faces that look at the other body."""

    part: Part
    bodies: tuple[int, int]
    to: float
    kept: ClassVar[int] = 1

    def answer(self, ask: Answerer) -> OpenedGap:
        ask.tick(0.2, "opening the gap")
        return set_gap(ask(self.part).changeable(), self.bodies, self.to)
