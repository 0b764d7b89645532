"""The first test pieces of a printer, priced."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.job.ask import Answerer, Question
from knollside.core.material.cards import Material
from knollside.core.model import PrinterFacts, Range, Recipe
from knollside.core.proof.bar import hole_and_pin_bar
from knollside.core.proof.ladders import flare_piece, gap_ladder, square_piece
from knollside.core.recipe.board import PlainPricer
from knollside.core.recipe.price import PrinterMotion
from knollside.core.run.setup import SetUpStep


def first_pieces(facts: PrinterFacts, recipe: Recipe, card: Material, factor: Range) -> tuple[SetUpStep, ...]:
    """Test pieces in the order in which each can trust the one before; the hours by this printer's own factor."""
    drawn = min(100.0, min(facts.bed_mm[:2]) - 20)
    named = (
        ("first square", "Frame square", "Square and scale, measured below.", square_piece(drawn).mesh),
        ("flare", "Flare piece", "How much the first layer grows: at Bench.", flare_piece().mesh),
        ("bar", "Hole and pin bar", "What corrections rest on: at Bench.", hole_and_pin_bar([]).mesh),
        ("ladder", "Gap ladder", "Which gaps come free: at Bench.", gap_ladder(0.3, recipe.layer_height).mesh),
    )
    out = []
    for key, words, how, mesh in named:
        price = PlainPricer(mesh, card, (0.0, 0.0, 1.0), PrinterMotion(), factor, recipe).price(recipe)
        out.append(SetUpStep(key, words, how, price.hours, price.grams))
    return tuple(out)


@dataclass(frozen=True, eq=False)
class FirstPieces(Question[tuple[SetUpStep, ...]]):
    """Test pieces in order with hours and grams on this printer."""

    printer: PrinterFacts
    recipe: Recipe
    card: Material
    factor: Range

    def answer(self, ask: Answerer) -> tuple[SetUpStep, ...]:
        ask.tick(0.1, "pricing the first test pieces")
        return first_pieces(self.printer, self.recipe, self.card, self.factor)
