"""Test pieces, and a piece of the part itself."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from knollside.core.job.ask import Answerer, Question
from knollside.core.job.questions.part import Part
from knollside.core.material.cards import Material
from knollside.core.mesh.appearance import Appearance, appearance_of
from knollside.core.model import Mesh, Range, Recipe
from knollside.core.proof.fromjob import Wish, make
from knollside.core.proof.piece import TestPiece
from knollside.core.proof.section import Section, section_box
from knollside.core.recipe.board import PlainPricer
from knollside.core.recipe.price import PrinterMotion

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Piece:
    """A test piece ready to show, with grams and hours of the job's recipe."""

    piece: TestPiece
    look: Appearance
    grams: float
    hours: float


def _cost(mesh: Mesh, direction: Vec, recipe: Recipe, card: Material, factor: Range) -> tuple[float, float]:
    price = PlainPricer(mesh, card, direction, PrinterMotion(), factor, recipe).price(recipe)
    return price.grams, price.hours.value


@dataclass(frozen=True, eq=False)
class MakePiece(Question[Piece]):
    """A test piece made, and priced lying as it is meant to."""

    wish: Wish
    recipe: Recipe
    card: Material
    factor: Range
    kept: ClassVar[int] = 6

    def answer(self, ask: Answerer) -> Piece:
        ask.tick(0.2, "making the piece")
        piece = make(self.wish)
        ask.tick(0.7, "pricing it")
        cost = _cost(piece.mesh, (0.0, 0.0, 1.0), self.recipe, self.card, self.factor)
        return Piece(piece, appearance_of(piece.mesh), *cost)


@dataclass(frozen=True)
class Cropped:
    """A test section ready to show, with what it and the whole part cost in grams and hours."""

    section: Section
    look: Appearance
    grams: float
    hours: float
    grams_whole: float
    hours_whole: float


@dataclass(frozen=True, eq=False)
class Crop(Question[Cropped]):
    """A test section cut round some features, lying as the part will."""

    part: Part
    features: tuple[str, ...]
    margin: float
    direction: Vec
    recipe: Recipe
    card: Material
    factor: Range

    def answer(self, ask: Answerer) -> Cropped:
        part = ask(self.part)
        chosen = tuple(f for f in part.features if f.id in self.features)
        ask.tick(0.2, "cutting it out")
        made = section_box(part.mesh, chosen, self.margin)
        ask.tick(0.5, "pricing both")
        at = self.direction, self.recipe, self.card, self.factor
        return Cropped(made, appearance_of(made.mesh), *_cost(made.mesh, *at), *_cost(part.mesh, *at))
