"""One way in full: its layer log, the places that would go first and those watched, its thin portions, its bend."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from knollside.core.job import answer
from knollside.core.job.answer import LayerLog
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.far import Turning
from knollside.core.job.questions.strength import StrengthOf
from knollside.core.lay.orientations import NET_DIRECTIONS, RatedOrientation
from knollside.core.model import Array
from knollside.core.strength.breaking import BreakNow, breaks_now
from knollside.core.strength.discretisation import doubted_places, widened
from knollside.core.strength.hot_spots import HotSpot, Portion, hot_spots, portions, spot_at
from knollside.core.strength.movement import Movement
from knollside.core.strength.rating import sphere
from knollside.core.strength.strength import Strength
from knollside.core.strength.zoom import Closeness

Vec = tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Why(Question[RatedOrientation]):
    """One direction by itself: what would go first, where, and what is given up; ``doubt`` the grid's, a share."""

    strength: StrengthOf
    bed: Vec
    direction: Vec
    doubt: float = 0.0

    def answer(self, ask: Answerer) -> RatedOrientation:
        s = ask(self.strength, 0.0, 0.9)
        ask.tick(0.9, "rating it")
        orientation = answer.one_way(ask(self.strength.solve.part), s, self.bed, self.direction, "?")
        turned = ask(Turning(self.strength.plain(), (self.direction,)))
        return replace(orientation, reserve=turned.reserve(0, widened(orientation.reserve, self.doubt)))


@dataclass(frozen=True)
class OrientationDetail:
    """A way with its log, the places that would go first and those ``watched``, its thin portions, how it bends, and
    what would break it now."""

    log: LayerLog
    orientation: RatedOrientation
    places: tuple[HotSpot, ...]
    watched: tuple[HotSpot, ...]
    portions: tuple[Portion, ...]
    bend: Array
    movement: Movement
    moves_far: str
    breaking: tuple[BreakNow, ...] = ()


@dataclass(frozen=True, eq=False)
class Detail(Question[OrientationDetail]):
    """The layer log of one way and what would go first."""

    strength: StrengthOf
    bed: Vec
    direction: Vec

    def answer(self, ask: Answerer) -> OrientationDetail:
        part, s = ask(self.strength.solve.part), ask(self.strength, 0.0, 0.5)
        ask.tick(0.5, "cutting layers")
        log = answer.layer_log(part, s, self.direction)
        orientation = answer.one_way(part, s, self.bed, self.direction)
        n = np.asarray(self.direction)
        ask.tick(0.75, "finding what goes first")
        first, reach = hot_spots(s.field, s.limits, n), self.strength.solve.critical_mm
        watched = tuple(spot_at(s.field, s.limits, n, at, reach) for at in self.strength.watched)
        every = self._doubted(ask, s, (*first, *watched))
        places, watched = every[: len(first)], every[len(first) :]
        thin = portions(part.mesh, s.field, s.limits, n, sphere(NET_DIRECTIONS)[::4])
        assert s.movement is not None
        bend = answer.bend_of(part, s.field, s.movement.case)
        turned = ask(Turning(self.strength.plain(), (self.direction,)), 0.9, 1.0)
        movement, words = turned.moved(s.movement), turned.words
        breaking = breaks_now(s, self.strength.design_case.loaded, n)
        return OrientationDetail(log, orientation, places, watched, thin, bend, movement, words, breaking)

    def _doubted(self, ask: Answerer, s: Strength, places: tuple[HotSpot, ...]) -> tuple[HotSpot, ...]:
        """Places, each with the grid's doubt there where it was looked at closely."""
        n, solve = np.asarray(self.direction), self.strength.solve
        if solve.sizing is None or solve.cell_mm is None:
            return places
        rough = ask(self.strength.close(Closeness(solve.cell_mm, solve.sizing).rougher()), 0.75, 0.9)
        return doubted_places(places, rough.field, rough.limits, n)
