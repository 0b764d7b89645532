"""Each way of the list is rated with the tops, bottoms and walls that it makes, as a full solve of it has them."""

from __future__ import annotations

from dataclasses import replace

import pytest
import solving
from conftest import box

from knollside.core.job.questions.settling import Prove, Settle
from knollside.core.job.stated import Stated
from knollside.core.lay.orientations import listed_orientation
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase, Recipe


def test_a_plate_with_two_top_layers_is_not_as_strong_as_its_eight_walls() -> None:
    """Bent over its flat sides: lying flat these are two layers, standing they are eight lines."""
    case = LoadCase(name="a", loads=(ForceLoad(at=(80, 15, 4), force_N=(0, 0, -10)),))
    recipe = Recipe(walls=8, tops=2, bottoms=2, infill=0.15)
    stated = Stated(design_case=DesignCase(fixtures=(FixedFixture(at=(0, 15, 4)),), cases=(case,)), recipe=recipe)
    ask, rank = solving.ranking(box(80, 30, 8), stated, 20_000)
    strength = rank.strength
    settled = ask(Settle(rank))
    listed = settled.ranked.ranking.every
    alike = ask(replace(rank, strength=strength.upon(settled.grid))).ranking.every
    for up, falls in (((0.0, 0.0, 1.0), True), ((0.0, 1.0, 0.0), False)):
        way, before = listed_orientation(listed, up), listed_orientation(alike, up)
        assert way is not None and before is not None
        truth = ask(Prove(strength.printed(recipe, up)))
        assert way.reserve.value == pytest.approx(truth.breaking.value, rel=0.15)
        assert way.reserve.low < truth.breaking.value < way.reserve.high
        assert (before.reserve.value > 1.5 * truth.breaking.value) == falls
    solid = stated.recipe.model_copy(update={"infill": 1.0})
    nearly = stated.recipe.model_copy(update={"infill": 0.99})
    one, other = (ask(Prove(strength.printed(r, (0.0, 0.0, 1.0)))).breaking.value for r in (solid, nearly))
    assert other == pytest.approx(one, rel=0.01), "99 % and 100 % infill are all but the same"
