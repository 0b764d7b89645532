"""How a part is held once its screws have done what they do: those whose clamp may go are taken as loose."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from knollside.core.job.answer import CELLS, Solved
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.solve import Shell, Solve
from knollside.core.material.cards import Material
from knollside.core.model import DesignCase, Fixture, LoadCase, Recipe, Refused, ScrewFixture, Surroundings
from knollside.core.strength.clamping import Clamp, clamps, gone, loosened, told
from knollside.core.strength.impact import caught
from knollside.core.strength.superpose import mix, plan_of

HELD_CELLS = 20_000  # forces in the holds need no fine grid


@dataclass(frozen=True)
class HeldAs:
    """The holds as a verdict may count on them, and what to say of screws that it may not."""

    fixtures: tuple[Fixture, ...]
    words: str = ""

    def of(self, design_case: DesignCase) -> DesignCase:
        """The same duty, held so."""
        return design_case.model_copy(update={"fixtures": self.fixtures})

    def solved(
        self,
        ask: Answerer,
        solve: Solve,
        cases: tuple[LoadCase, ...],
        low: float = 0.0,
        high: float = 1.0,
        keep: bool = True,
    ) -> Solved:
        """A solve of these cases, held so. Raises :class:`Refused` with why screws are loose where that is why."""
        rows = plan_of(self.fixtures, cases).rows
        try:
            return ask(replace(solve, fixtures=self.fixtures, rows=rows), low, high, keep=keep)
        except Refused as refusal:
            raise Refused(f"{refusal} {self.words}".strip()) from refusal


@dataclass(frozen=True, eq=False)
class Hold(Question[HeldAs]):
    """Which tight screws stay so: solved as clamped, and again with those loose that open, tip or slip, until none
    does. What screws carry hardly depends on the recipe: it is asked of the solid part on a plain grid."""

    solve: Solve
    cases: tuple[LoadCase, ...]
    surroundings: Surroundings
    card: Material
    kept: ClassVar[int] = 4

    @classmethod
    def of(
        cls, solve: Solve, cases: tuple[LoadCase, ...], surroundings: Surroundings, card: Material, cells: int
    ) -> Hold:
        """The question for any recipe, way and grid, on about so many ``cells``."""
        shell = Shell.of(Recipe(infill=1.0))
        plain = replace(
            solve, shell=shell, direction=None, cells=cells, exactly=False, cell_mm=None, sizing=None, probes=()
        )
        return cls(plain, cases, surroundings, card)

    def answer(self, ask: Answerer) -> HeldAs:
        fixtures = self.solve.fixtures
        out: list[Clamp] = []
        while any(isinstance(h, ScrewFixture) and h.tight for h in fixtures):
            fresh = gone(self._clamps(ask, HeldAs(fixtures, told(tuple(out)))))
            if not fresh:
                break
            out += fresh
            fixtures = loosened(fixtures, fresh)
        return HeldAs(fixtures, told(tuple(out)))

    def _clamps(self, ask: Answerer, held: HeldAs) -> tuple[Clamp, ...]:
        part = ask(self.solve.part)
        case = DesignCase(fixtures=held.fixtures, cases=self.cases, surroundings=self.surroundings)
        try:
            field = held.solved(ask, self.solve, self.cases).field
        except Refused:  # it may be too thin for so few cells
            field = held.solved(ask, replace(self.solve, cells=CELLS), self.cases).field
        answers = caught(mix(field, plan_of(held.fixtures, self.cases)), case.loaded).cases
        return clamps(part.mesh, part.features, case, answers, self.card)
