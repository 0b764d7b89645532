"""What Proof and Bench ask of the worker: test pieces, test sections, and a simulated print of either."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.build.board import PlainPricer
from knollside.core.build.price import Pace
from knollside.core.job.answer import PartFacts, Tick
from knollside.core.material.cards import Material
from knollside.core.mesh.appearance import Appearance, appearance_of
from knollside.core.model import Mesh, Range, Recipe
from knollside.core.proof.fromjob import Wish, make
from knollside.core.proof.piece import TestPiece
from knollside.core.proof.section import Section, section_box

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Piece:
    """A test piece ready to show, with grams and hours of the job's recipe."""

    piece: TestPiece
    look: Appearance
    grams: float
    hours: float


@dataclass(frozen=True)
class Cropped:
    """A test section ready to show, with what it and the whole part cost in grams and hours."""

    section: Section
    look: Appearance
    grams: float
    hours: float
    grams_whole: float
    hours_whole: float


def _cost(mesh: Mesh, direction: Vec, recipe: Recipe, card: Material, factor: Range) -> tuple[float, float]:
    price = PlainPricer(mesh, card, direction, Pace(), factor, recipe).price(recipe)
    return price.grams, price.hours.value


def make_piece(wish: Wish, recipe: Recipe, card: Material, factor: Range, tick: Tick) -> Piece:
    """Make it, and price it lying as it is meant to."""
    tick(0.2, "making the piece")
    piece = make(wish)
    tick(0.7, "pricing it")
    return Piece(piece, appearance_of(piece.mesh), *_cost(piece.mesh, (0.0, 0.0, 1.0), recipe, card, factor))


def crop(
    part: PartFacts,
    names: tuple[str, ...],
    margin: float,
    direction: Vec,
    recipe: Recipe,
    card: Material,
    factor: Range,
    tick: Tick,
) -> Cropped:
    """Cut a test section round some features, lying as the part will."""
    chosen = tuple(f for f in part.features if f.id in names)
    tick(0.2, "cutting it out")
    made = section_box(part.mesh, chosen, margin)
    tick(0.5, "pricing both")
    cost = _cost(made.mesh, direction, recipe, card, factor)
    return Cropped(made, appearance_of(made.mesh), *cost, *_cost(part.mesh, direction, recipe, card, factor))
