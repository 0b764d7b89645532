"""How a part lies: what rests on nothing, ways side by side, ways without a load, and cutting in two."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.job import answer
from knollside.core.job.answer import LayerLog
from knollside.core.job.ask import Answerer, Question
from knollside.core.job.compare import Column, Comparison, unbeaten
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.recipe import strata_of
from knollside.core.job.questions.strength import GroundOf, StrengthOf
from knollside.core.job.split import CutPlan, cut_plans
from knollside.core.lay.bed_adhesion import BedAdhesion, FirstLayer, bed_adhesion, first_layer
from knollside.core.lay.layer_warnings import LayerWarning, free_area, layer_warnings
from knollside.core.lay.orientations import NET_DIRECTIONS, RatedOrientation
from knollside.core.lay.orientations import plain_orientations as list_plain
from knollside.core.lay.peel import Peel
from knollside.core.lay.seams import SeamAdvice, seam_advice
from knollside.core.lay.stability import footing
from knollside.core.lay.supports import Region, regions
from knollside.core.material.cards import Material
from knollside.core.model import Array, FaceMark, PrinterFacts, Purpose, Range, Recipe, SupportSettings
from knollside.core.recipe.layer_areas import use_of_layers
from knollside.core.recipe.price import PrinterMotion, SmallLayers, layer_seconds, small_layers

Vec = tuple[float, float, float]
Marks = tuple[tuple[str, FaceMark], ...]


def _by_name(marks: Marks) -> dict[str, str]:
    return {name: mark.value for name, mark in marks}


@dataclass(frozen=True)
class Supported:
    """The places of a way that rest on nothing, what keeps it on the bed, where its seam may run, layers too
    small to cool; ``notes`` by height, ``free`` mm2 that rest on nothing at each of ``heights``, ``seconds`` a layer
    there."""

    regions: tuple[Region, ...]
    bed: BedAdhesion
    layers: int
    seam: SeamAdvice | None
    small: tuple[SmallLayers, ...]
    first: FirstLayer
    notes: tuple[LayerWarning, ...]
    heights: Array
    free: Array
    seconds: Array


@dataclass(frozen=True, eq=False)
class Supports(Question[Supported]):
    """Every layer of one way cut, and what each place that rests on nothing would take."""

    part: Part
    marks: Marks
    direction: Vec
    recipe: Recipe
    support_settings: SupportSettings
    card: Material
    printer: PrinterFacts
    weak: tuple[Vec, ...]
    peel: Peel

    def answer(self, ask: Answerer) -> Supported:
        part, recipe, card, marks = ask(self.part), self.recipe, self.card, _by_name(self.marks)
        strata = ask(strata_of(self.part, self.direction, recipe), 0.0, 0.7)
        ask.tick(0.8, "standing supports under it")
        found = regions(part.mesh, part.features, marks, strata, recipe, self.support_settings, card, self.peel)
        foot = footing(part.mesh, self.direction, recipe, self.printer.bed_mm)
        seam = seam_advice(part.mesh, part.features, marks, self.weak, strata)
        use, each = use_of_layers(strata.outline, strata.h, recipe)
        small = small_layers(use, each, recipe, card, PrinterMotion())
        seconds = layer_seconds(use, recipe, card, PrinterMotion())
        heights = (np.arange(len(seconds)) + 0.5) * each
        quick = tuple((s.low, s.high, s.seconds) for s in small)
        return Supported(
            found,
            bed_adhesion(foot, card, self.printer.enclosed),
            len(strata.outline),
            seam,
            small,
            first_layer(strata.outline[0], recipe, self.printer.nozzle_mm),
            layer_warnings(strata, found, part.features, quick, recipe),
            heights,
            free_area(strata, heights),
            seconds,
        )


@dataclass(frozen=True, eq=False)
class Compare(Question[tuple[Column, ...]]):
    """A few ways side by side."""

    part: Part
    marks: Marks
    mates: tuple[str, ...]
    orientations: tuple[RatedOrientation, ...]
    recipe: Recipe
    support_settings: SupportSettings
    card: Material
    printer: PrinterFacts
    factor: Range

    def answer(self, ask: Answerer) -> tuple[Column, ...]:
        part, marks, made = ask(self.part), _by_name(self.marks), self.support_settings
        at = part.mesh, part.features, marks, self.mates, self.recipe, made, self.card
        weigher, out = Comparison(*at, PrinterMotion(), self.factor, self.printer.enclosed), []
        for i, w in enumerate(self.orientations):
            ask.tick(i / len(self.orientations), f"weighing way {w.letter}")
            out.append(weigher.column(w))
        return unbeaten(out)


@dataclass(frozen=True, eq=False)
class Split(Question[tuple[CutPlan, ...]]):
    """Where to cut it in two, and what the joint would carry."""

    strength: StrengthOf
    whole: RatedOrientation
    bed: Vec

    def answer(self, ask: Answerer) -> tuple[CutPlan, ...]:
        s, part = ask(self.strength, 0.0, 0.3), ask(self.strength.solve.part)
        return cut_plans(part, s, self.whole, self.bed, tick=lambda x, t: ask.tick(0.3 + 0.7 * x, t))


@dataclass(frozen=True, eq=False)
class PlainOrientations(Question[tuple[RatedOrientation, ...]]):
    """Ways for a part without a load."""

    part: Part
    layer_height: float
    line_width: float
    purpose: Purpose
    weights: tuple[tuple[str, float], ...]
    bed: Vec

    def answer(self, ask: Answerer) -> tuple[RatedOrientation, ...]:
        ask.tick(0.2, "trying ways to lie")
        part = ask(self.part)
        ground = ask(GroundOf(self.part, self.layer_height, self.line_width, self.bed, NET_DIRECTIONS))
        return list_plain(part.mesh, part.features, self.purpose, dict(self.weights), ground)


@dataclass(frozen=True, eq=False)
class PlainLog(Question[LayerLog]):
    """The layer log without a stress: area and overhang only."""

    part: Part
    direction: Vec
    layer_height: float
    line_width: float

    def answer(self, ask: Answerer) -> LayerLog:
        ask.tick(0.2, "cutting layers")
        recipe = Recipe(layer_height=self.layer_height, line_width=self.line_width)
        return answer.plain_log(ask(self.part).mesh, self.direction, recipe)
