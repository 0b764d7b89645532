"""One stress solve as a question: all that it rests on, and nothing else."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from knollside.core.job import answer
from knollside.core.job.answer import Solved
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.part import Part
from knollside.core.model import DesignCase, Fixture, LoadCase, Recipe, Refused
from knollside.core.strength.field import CaseAnswer, Medium
from knollside.core.strength.graded import Sizing
from knollside.core.strength.hollow import hollow_of
from knollside.core.strength.skin import skin_of

_SMALL = 2_500  # cells on which pins and walls first find where they act
Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Shell:
    """All of a recipe that the stress rests on."""

    walls: int
    line_width: float
    tops: int
    bottoms: int
    layer_height: float
    infill: float
    pattern: str

    @classmethod
    def of(cls, r: Recipe) -> Shell:
        return cls(r.walls, r.line_width, r.tops, r.bottoms, r.layer_height, r.infill, r.pattern)

    def recipe(self) -> Recipe:
        """A recipe with this shell; heat and fan, which no stress rests on, as usual."""
        return Recipe.model_validate({name: getattr(self, name) for name in self.__dataclass_fields__})


@dataclass(frozen=True, eq=False)
class Solve(Question[Solved]):
    """One stress solve: the rows of loads on one set-up. ``direction`` gives tops and walls of that way, None a shell
    that is alike all round; ``exactly`` takes ``cells`` as they are
    asked, ``cell_mm`` a size of cell, ``sizing`` where they get finer."""

    part: Part
    fixtures: tuple[Fixture, ...]
    rows: tuple[LoadCase, ...]
    critical_mm: float
    material: str
    modulus: float
    pull: float
    poisson: float
    shell: Shell
    direction: Vec | None
    cells: int
    exactly: bool
    cell_mm: float | None
    probes: tuple[Vec, ...]
    sizing: Sizing | None = None
    density: float = 0.0  # only where the part's own weight acts
    kept: ClassVar[int] = 4

    def answer(self, ask: Answerer) -> Solved:
        design_case = DesignCase(fixtures=self.fixtures, cases=self.rows, critical_mm=self.critical_mm)
        probes = np.array(self.probes) if self.probes else None
        before = self._before(ask)
        return answer.solve_part(
            ask(self.part, 0.0, 0.05),
            design_case,
            self.medium,
            self.cells,
            exactly=self.exactly,
            cell_mm=self.cell_mm,
            sizing=self.sizing,
            probes=probes,
            before=before,
            tick=ask.tick,
        )

    @property
    def medium(self) -> Medium:
        """What the part is made of, as this solve sees it."""
        recipe = self.shell.recipe()
        skin = skin_of(recipe, self.direction)
        return Medium(self.modulus, self.poisson, skin, hollow=hollow_of(recipe, self.pull), density=self.density)

    def _before(self, ask: Answerer) -> tuple[CaseAnswer, ...] | None:
        """Where pins and walls act on a coarser grid: a close look goes by the plain one, that by a small one."""
        if not any(f.one_way for f in self.fixtures):
            return None
        if self.sizing is not None or self.cell_mm is not None:
            return ask(replace(self, sizing=None, cell_mm=None)).field.cases
        if self.cells < 2 * _SMALL:
            return None
        if self.exactly and self.direction is not None:  # a shell alike all round was solved on as many
            return ask(replace(self, direction=None)).field.cases
        try:
            return ask(replace(self, cells=_SMALL, exactly=True)).field.cases
        except Refused:  # too thin for so few cells
            return None
