"""What backs a strength: the same ways on another grid, in layers, and the chosen recipe solved with its own shell."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from knollside.core.job.answer import CELLS, PartFacts
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.far import Turning
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.strength import Rank, RankedOrientations, StrengthOf, strength_question
from knollside.core.lay.orientations import WEIGHTS, RatedOrientation, steadied, weighed
from knollside.core.material.cards import Material
from knollside.core.model import (
    DesignCase,
    Range,
    Recipe,
    Refused,
    same_direction,
)
from knollside.core.strength.discretisation import (
    MOVED,
    UNCHECKED,
    GridDoubt,
    Layered,
    changes_of,
    coarser_cell,
    finer_cell,
    grid_doubt,
    solve_layered,
    widened,
)
from knollside.core.strength.far import Turned
from knollside.core.strength.field import Tick
from knollside.core.strength.movement import Movement, moved_at
from knollside.core.strength.places import left_over
from knollside.core.strength.rating import rate, sphere
from knollside.core.strength.skin import skin_of
from knollside.core.strength.slender import buckle
from knollside.core.strength.stability import Stability, stability_of, steadied_range
from knollside.core.strength.strength import Strength
from knollside.core.strength.zoom import Closeness, look_closely, may_have

_NET = 600  # directions for which places are weighed
_SMALL = 20_000  # cells on which a way's own shell is held against one alike all round
_SCREEN = 10_000  # cells on which it is first looked whether anything buckles at all
_FAR_OFF, _COARSE = 3.0, 0.1  # reserve at the low end from which that will do, and what it is unsure of by
_SHELL = 0.1  # of a reserve, what is unsure at least of a way's own shell
_LIKELY = 8  # ways of which that is asked

Vec = tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Grids(Question[GridDoubt]):
    """Some ways looked at closely where something could govern that the first grid cannot see; else on another grid,
    and on a finer one where they moved by more than a tenth."""

    strength: StrengthOf
    directions: tuple[Vec, ...]
    kept: ClassVar[int] = 4

    def answer(self, ask: Answerer) -> GridDoubt:
        s, why = ask(self.strength, 0.0, 0.2), ""
        mesh = ask(self.strength.solve.part).mesh
        every = np.vstack([sphere(_NET), np.array(self.directions)])
        close = look_closely(mesh, s.field, s.limits, every, self.strength.solve.critical_mm, self.strength.watched)
        if close is not None:
            try:
                return self._close(ask, close)
            except Refused as refusal:
                why = str(refusal)
        plain = self._plain(ask, s, why)
        if close is None:
            return plain
        # Suspected and not seen: what the look might have found stays in the doubt.
        unseen = may_have(mesh, s.field, s.limits, every, self.strength.solve.critical_mm)
        return replace(plain, changes=tuple(max(c, unseen) for c in plain.changes))

    def _close(self, ask: Answerer, close: Closeness) -> GridDoubt:
        ask.tick(0.2, "looking closely")
        mesh = ask(self.strength.solve.part).mesh
        fine = ask(self.strength.close(close), 0.2, 0.75)
        rough = ask(self.strength.close(close.rougher()), 0.75, 1.0).field
        ways = np.array(self.directions)
        moved = np.array(changes_of(rough, fine.field, fine.limits, ways))
        plain = ask(self.strength).field
        left = left_over(mesh, plain, fine.field, fine.limits, ways, self.strength.solve.critical_mm)
        changes = tuple(float(c) for c in np.maximum(moved, left))
        return grid_doubt(mesh, fine.field, fine.limits, self.directions, changes, rough.cells, close=close)

    def _plain(self, ask: Answerer, s: Strength, why: str) -> GridDoubt:
        mesh, field, orientations = ask(self.strength.solve.part).mesh, s.field, np.array(self.directions)
        size, other = finer_cell(field), 0
        changes: tuple[float, ...] = (UNCHECKED,) * len(orientations)
        ask.tick(0.3, "on another grid")
        try:
            wide = coarser_cell(field)
            if wide is not None:
                coarse = ask(self.strength.on(wide), 0.3, 0.5).field
                changes, other = changes_of(coarse, field, s.limits, orientations), coarse.cells
                if max(changes) <= MOVED or size is None:
                    return grid_doubt(mesh, field, s.limits, self.directions, changes, other)
        except Refused as refusal:
            why = str(refusal)
        if size is not None:
            try:
                finer = ask(self.strength.on(size), 0.5, 1.0).field
                changes = changes_of(field, finer, s.limits, orientations)
                return grid_doubt(mesh, finer, s.limits, self.directions, changes, field.cells, size)
            except Refused as refusal:
                why = str(refusal)
        assumed = "" if other else why or "A finer grid is too large."
        return grid_doubt(mesh, field, s.limits, self.directions, changes, other, assumed=assumed)


@dataclass(frozen=True, eq=False)
class Buckles(Question[Stability]):
    """At how many times the load the part gives way sideways, of a plain grid."""

    strength: StrengthOf
    kept: ClassVar[int] = 4

    def answer(self, ask: Answerer) -> Stability:
        small = self.strength.small(_SCREEN)
        try:
            first = self._of(ask, small, small.alone(ask, 0.0, 0.1), 0.1, 0.2)
            if first.reserve.low >= _FAR_OFF:
                return replace(first, reserve=widened(first.reserve, _COARSE))
        except Refused:  # too thin for so few cells
            pass
        return self._of(ask, self.strength, ask(self.strength, 0.2, 0.4), 0.4, 1.0)

    def _of(self, ask: Answerer, strength: StrengthOf, s: Strength, low: float, high: float) -> Stability:
        part, design_case = ask(strength.solve.part), ask(strength.hold).of(strength.design_case)

        def tell(share: float, words: str) -> None:
            ask.tick(low + (high - low) * share, words)

        found = buckle(part.mesh, part.features, design_case, strength.solve.medium, s.field, tell)
        least = stability_of(found, design_case.loaded, s.card, design_case.surroundings)
        # What is kept is drawn: the mesh's corners are fewer than the grid's, or all that is seen of them.
        corners = part.mesh.vertices
        return replace(least, points=corners, shape=moved_at(least.points, least.shape, corners))


@dataclass(frozen=True, eq=False)
class OwnShells(Question[tuple[float, ...]]):
    """Of some ways what their own tops, bottoms and walls make of the reserve that a shell alike all round gives: the
    ratio of two solves on a small grid; not a number where it could not be solved."""

    strength: StrengthOf
    directions: tuple[Vec, ...]
    kept: ClassVar[int] = 4

    def answer(self, ask: Answerer) -> tuple[float, ...]:
        small = self.strength.small(_SMALL)
        if skin_of(small.recipe) is None:
            return (1.0,) * len(self.directions)
        share = 1 / (len(self.directions) + 1)
        try:
            alike = ask(small, 0.0, share)
        except Refused:
            return (math.nan,) * len(self.directions)
        every = rate(alike.field, alike.limits, np.array(self.directions)).reserve
        out = dict.fromkeys(self.directions, math.nan)
        plain = dict(zip(self.directions, every, strict=True))
        for i, some in enumerate(self._of_one_shell()):
            own = small.printed(small.recipe, some[0]).alone(ask, (i + 1) * share, (i + 2) * share)
            for direction, reserve in zip(some, rate(own.field, own.limits, np.array(some)).reserve, strict=True):
                out[direction] = float(reserve) / float(plain[direction])
        return tuple(out[d] for d in self.directions)

    def _of_one_shell(self) -> list[list[Vec]]:
        """The directions by the shell they make: upside down it is the same where as many layers close both ends."""
        recipe, out = self.strength.recipe, list[list[Vec]]()
        for direction in self.directions:
            x, y, z = direction
            turned = (w for w in out if recipe.tops == recipe.bottoms and same_direction(w[0], (-x, -y, -z)))
            alike = next(turned, None)
            if alike is None:
                out.append([direction])
            else:
                alike.append(direction)
        return out


def shelled(ranked: RankedOrientations, directions: tuple[Vec, ...], ratios: tuple[float, ...]) -> RankedOrientations:
    """The ways with what their own shells take off their reserves; a third of that, at least a tenth, or ``UNCHECKED``
    where it is not known, goes into the range. What a small grid says that they add is not counted: such a shell is
    thinner than its cells, and it was up to 40 % too much."""

    def told(w: RatedOrientation) -> RatedOrientation:
        ratio = next((r for d, r in zip(directions, ratios, strict=True) if same_direction(d, w.direction)), math.nan)
        known = math.isfinite(ratio) and ratio > 0
        taken = min(ratio, 1.0) if known else 1.0
        doubt = max(abs(math.log(ratio)) / 3, _SHELL) if known else UNCHECKED
        return replace(w, reserve=widened(w.reserve.times(taken), doubt))

    ranking = replace(ranked.ranking, every=tuple(told(w) for w in ranked.ranking.every))
    return replace(ranked, ranking=weighed(ranking, WEIGHTS[ranking.purpose]))


def _every(ranked: RankedOrientations) -> tuple[Vec, ...]:
    return tuple(w.direction for w in ranked.ranking.every)


def turned_far(ranked: RankedOrientations, turned: Turned) -> RankedOrientations:
    """The ways with what turning makes of their reserves, where the part moves far."""
    if not turned.words:
        return ranked
    every = tuple(replace(w, reserve=turned.reserve(i, w.reserve)) for i, w in enumerate(ranked.ranking.every))
    ranking = weighed(replace(ranked.ranking, every=every), WEIGHTS[ranked.ranking.purpose])
    return replace(ranked, ranking=ranking, turned=turned)


def doubted(ranked: RankedOrientations, share: Callable[[Vec], float]) -> RankedOrientations:
    """The ways with the grid's own doubt, ``share`` of each direction, in their ranges, in the order these give."""
    ranking = ranked.ranking
    every = tuple(replace(w, reserve=widened(w.reserve, share(w.direction))) for w in ranking.every)
    return replace(ranked, ranking=weighed(replace(ranking, every=every), WEIGHTS[ranking.purpose]))


def unsettled(ranked: RankedOrientations) -> RankedOrientations:
    """The ways before they were looked at closely: with what that may still find."""
    return doubted(ranked, lambda direction: ranked.unseen)


@dataclass(frozen=True)
class Settled:
    """The rated ways as a verdict may use them: on the grid that was found fine enough, its doubt in their ranges, and
    none above what buckles first."""

    ranked: RankedOrientations
    grid: GridDoubt
    stability: Stability


@dataclass(frozen=True, eq=False)
class Settle(Question[Settled]):
    """Every way rated, checked on another grid, and rated again on a finer one where that was needed."""

    rank: Rank
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Settled:
        first = ask(self.rank, 0.0, 0.4)
        grid = ask(Grids(self.rank.strength, tuple(w.direction for w in first.ranking.orientations)), 0.4, 0.8)
        stability = ask(Buckles(self.rank.strength.plain()), 0.8, 0.9)
        rank = replace(self.rank, strength=self.rank.strength.upon(grid))
        ranked = doubted(ask(rank, 0.9, 0.92), grid.share)
        if skin_of(self.rank.strength.recipe) is not None:
            likely = tuple(
                w.direction for w in weighed(ranked.ranking, WEIGHTS[ranked.ranking.purpose], _LIKELY).orientations
            )
            ratios = ask(OwnShells(self.rank.strength, likely), 0.92, 1.0)
            ranked = shelled(ranked, likely, ratios)
        ranked = turned_far(ranked, ask(Turning(self.rank.strength.plain(), _every(ranked))))
        part = ask(self.rank.strength.solve.part)
        ranking = steadied(part.mesh, part.features, ranked.ranking, stability)
        return Settled(replace(ranked, ranking=ranking), grid, stability)


def layered_way(
    part: PartFacts, design_case: DesignCase, plain: Strength, close: Strength, direction: Vec, tick: Tick
) -> Layered:
    """One way in layers: what they change on the ``plain`` grid, told of the reserve that the ``close`` one gives."""
    at = part.mesh, part.features, design_case, plain.field, plain.limits, plain.recipe, direction
    found, _ = solve_layered(*at, tick, plain.card.density)
    quick = float(rate(close.field, close.limits, np.array([direction])).reserve[0])
    return replace(found, quick=quick, reserve=found.reserve.times(quick / found.quick))


@dataclass(frozen=True, eq=False)
class Layers(Question[tuple[Layered, ...]]):
    """The first ``count`` ways of the list solved again in layers."""

    settle: Settle
    count: int = 4
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> tuple[Layered, ...]:
        ranked = ask(self.settle, 0.0, 0.1).ranked
        base = self.settle.rank.strength
        part, plain, out = ask(base.solve.part), ask(base.plain(), 0.1, 0.15), list[Layered]()
        held = ask(base.hold).of(base.design_case)
        orientations = ranked.ranking.orientations[: self.count]
        for i, w in enumerate(orientations):

            def tell(x: float, t: str, i: int = i) -> None:
                ask.tick(0.15 + 0.85 * (i + x) / len(orientations), f"way {orientations[i].letter} in layers")

            out.append(layered_way(part, held, plain, ranked.strength, w.direction, tell))
        return tuple(out)


@dataclass(frozen=True)
class Proved:
    """The chosen way and recipe solved with their own shell and core: ``solved`` is the reserve against what comes
    first, ``breaking`` that without buckling."""

    solved: Range
    breaking: Range
    movement: Movement
    moves_far: str
    target: float
    bond_source: str
    withheld: str | None
    stability: Stability


@dataclass(frozen=True, eq=False)
class Prove(Question[Proved]):
    """Solve a recipe as its way makes it, on a grid that another one bears out. ``strength`` carries the direction."""

    strength: StrengthOf
    kept: ClassVar[int] = 16  # of a board that is being checked, which makes room for all else

    def answer(self, ask: Answerer) -> Proved:
        direction = self.strength.solve.direction
        assert direction is not None
        grid = ask(Grids(self.strength, (direction,)), 0.0, 0.8)
        stability = ask(Buckles(self.strength.plain()), 0.8, 0.98)
        s = ask(self.strength.upon(grid))
        rating = rate(s.field, s.limits, np.array([direction]))
        turned = ask(Turning(self.strength.plain(), (direction,)), 0.98, 1.0)
        breaking = turned.reserve(0, widened(rating.range_of(0), grid.share(direction)))
        solved = steadied_range(breaking, stability)
        assert s.movement is not None
        told = turned.moved(s.movement), turned.words
        return Proved(solved, breaking, *told, s.target, s.card.bond.source, s.withheld, stability)


def prove_printed(
    part: Part,
    design_case: DesignCase,
    recipe: Recipe,
    card: Material,
    direction: Vec,
    cells: int = CELLS,
    exactly: bool = False,
) -> Prove:
    """The question of what a recipe would hold as a way prints it."""
    return Prove(strength_question(part, design_case, recipe, card, cells, exactly=exactly).printed(recipe, direction))
