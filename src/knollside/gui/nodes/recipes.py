"""Recipes: the board, what each choice buys, the proof, roofs and prices."""

from __future__ import annotations

from knollside.core.job.asked import ask_board, ask_fits, ask_gaps, ask_orientations, ask_price, ask_proof
from knollside.core.job.questions.cleanup import Finish, Finishing
from knollside.core.job.questions.detail import Detail
from knollside.core.job.questions.orientation import Supports
from knollside.core.job.questions.recipe import Build, Building, Buying, Buys, Even, PriceOf, Remedies, Roofing, Roofs
from knollside.core.job.questions.settling import Prove, Proved
from knollside.core.job.remedies import Remedy
from knollside.core.model import Recipe
from knollside.core.recipe.breakeven import BreakEven
from knollside.core.recipe.price import Price
from knollside.gui.derived import Inputs, Node
from knollside.gui.nodes.strength import DETAIL, SETTLED, SUPPORTS, base_strength, doubt, rated_strength


def _build(v: Inputs, checked: bool) -> Build | None:
    strength, p = rated_strength(v), v.part
    if strength is None or p.orientation is None or v.fresh(SETTLED) is None:
        return None
    return ask_board(strength, p, p.direction, doubt(v, p.direction), checked)


BUILD: Node[Building] = Node("build", lambda v: _build(v, False), (SETTLED,), doing="Pricing recipes")
CHECKED: Node[Building] = Node("checked", lambda v: _build(v, True), (SETTLED,), behind=True)


def _remedies(v: Inputs) -> Remedies | None:
    detail, build, strength = v.question(DETAIL), v.question(BUILD), rated_strength(v)
    if not isinstance(detail, Detail) or not isinstance(build, Build) or strength is None:
        return None
    return Remedies(detail, ask_orientations(strength, v.part), build)


REMEDIES: Node[tuple[Remedy, ...]] = Node("cures", _remedies, (SETTLED,))


def _prove(v: Inputs) -> Prove | None:
    strength, p = base_strength(v), v.part
    if strength is None or p.orientation is None:
        return None
    return ask_proof(strength, p)


PROVE: Node[Proved] = Node("prove", _prove, doing="Solving this recipe")


def tried(v: Inputs) -> Recipe:
    """The recipe under discussion at Build: tried on the board, else the stored one."""
    chosen: Recipe | None = v.choice(BUYS)
    return chosen if chosen is not None else v.part.recipe


def _buys(v: Inputs) -> Buys | None:
    p = v.part
    if p.question is None or (p.loaded and (p.orientation is None or v.fresh(SETTLED) is None)):
        return None
    checked = v.fresh(CHECKED) is not None
    at = p.question, rated_strength(v), p.card, p.direction, tried(v), p.printer.nozzle_mm, p.factor, checked
    return Buys(*at, doubt(v, p.direction))


BUYS: Node[Buying] = Node("buys", _buys, (SETTLED, CHECKED))


def _price(v: Inputs) -> PriceOf | None:
    p = v.part
    return None if p.question is None else ask_price(p.question, p)


PRICE: Node[Price] = Node("price", _price)


def _roofs(v: Inputs) -> Roofs | None:
    p = v.part
    return None if p.question is None else Roofs(p.question, p.direction, tried(v))


ROOFS: Node[Roofing] = Node("roofs", _roofs)


def _even(v: Inputs) -> Even | None:
    p = v.part
    return None if p.question is None else Even(p.question, p.direction, tried(v), p.plain_card)


EVEN: Node[BreakEven] = Node("even", _even)


def _finish(v: Inputs) -> Finish | None:
    p, supports = v.part, v.question(SUPPORTS)
    if p.question is None or not isinstance(supports, Supports):
        return None
    return Finish(supports, ask_fits(p.question, p), ask_gaps(p.question, p), ask_price(p.question, p))


FINISH: Node[Finishing] = Node("finish", _finish, (SUPPORTS,))
