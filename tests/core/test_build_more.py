"""Patterns, nozzle and layer choices, break-even of an empty shell, one spiral wall, bond by heat, own cards."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
import solving
from conftest import box
from pydantic import ValidationError

from knollside.core.job import answer
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import ask_board, ask_strength
from knollside.core.job.stated import Stated
from knollside.core.job.variants import variants
from knollside.core.material.bond import height_share
from knollside.core.material.cards import material
from knollside.core.material.infill import PATTERNS, density_for, line_spacing, stiffness_share
from knollside.core.material.own import OwnCard, OwnValue, with_own
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase, Mesh, Orientation, Range, Recipe
from knollside.core.recipe.breakeven import SCALES, WORTH, break_even
from knollside.core.recipe.price import PrinterMotion
from knollside.core.recipe.spiral import spiral_possible
from knollside.core.strength.rating import rate
from knollside.demo import design_cases

UP = (0.0, 0.0, 1.0)


@pytest.mark.parametrize("name", PATTERNS)
def test_a_pattern_is_never_stiffer_than_its_filament_and_grows_with_it(name: str) -> None:
    density = np.array([0.05, 0.1, 0.2, 0.4, 0.8])
    share = np.array([stiffness_share(name, float(d)) for d in density])
    assert (np.diff(share) > 0).all()
    assert (share <= density).all()  # no cellular solid beats the rule of mixtures (Voigt)
    assert stiffness_share(name, 1.0) == 1.0


def test_lattices_follow_their_closed_forms() -> None:
    # Triangular lattice: a third of its density in the layer; hexagonal one 1.5 r3 (Gibson and Ashby).
    assert stiffness_share("triangles", 0.2) == pytest.approx(0.2 / 3, rel=0.01)
    assert stiffness_share("honeycomb", 0.2) == pytest.approx(1.5 * 0.2**3)


@pytest.mark.parametrize("name", PATTERNS)
def test_spacing_and_density_are_each_others_inverse(name: str) -> None:
    assert density_for(name, line_spacing(name, 0.13, 0.45), 0.45) == pytest.approx(0.13)
    # Area covered by one family of lines over all families.
    assert PATTERNS[name].families * 0.45 / line_spacing(name, 0.13, 0.45) == pytest.approx(0.13)
    assert line_spacing(name, 0.0, 0.45) == np.inf


def test_an_empty_cube_saves_by_the_closed_form() -> None:
    side, side_lines, tops = 30.0, 0.5, 0.2
    empty = Recipe(walls=4, line_width=side_lines, layer_height=tops, tops=10, bottoms=10, infill=0.0)
    filled = empty.model_copy(update={"walls": 2, "tops": 5, "bottoms": 5, "infill": 0.2})
    found = break_even(box(side, side, side), UP, empty, filled, material("PLA"))

    def grams(a: float, r: Recipe) -> float:
        t = r.walls * side_lines
        core = max(a - 2 * t, 0) ** 2 * max(a - 2 * r.tops * tops, 0)
        return (a**3 - core * (1 - r.infill)) * 1.24 / 1000

    # Where the shell is a good share of the part the sampled layers tell it to a few per cent.
    for k, s in enumerate(SCALES):
        if 0.5 <= s <= 2:
            assert found.grams[k] == pytest.approx([grams(side * s, empty), grams(side * s, filled)], rel=0.06)
    fine = np.geomspace(0.35, 4, 400)
    saving = np.array([1 - grams(side * s, empty) / grams(side * s, filled) for s in fine])
    exact = fine[np.flatnonzero(saving < WORTH)[-1]]
    assert found.pays == pytest.approx(exact, rel=0.15)
    assert found.saving[-1] > found.saving[0]


def test_a_spiral_wants_one_loop_in_every_layer() -> None:
    square = shapely.box(0, 0, 20, 20)
    two = shapely.union_all([square, shapely.box(30, 0, 40, 10)])
    pierced = shapely.difference(square, shapely.box(5, 5, 10, 10))
    assert spiral_possible((square,) * 20, 3) == (True, "Every layer is one loop.")
    assert spiral_possible((pierced,) * 3 + (square,) * 17, 3)[0]  # the bottom is laid plainly
    assert "more than one piece" in spiral_possible((square,) * 10 + (two,) * 10, 3)[1]
    assert "hole" in spiral_possible((pierced,) * 20, 3)[1]
    assert not spiral_possible((square,) * 3, 3)[0]


def test_own_values_take_over_and_say_so() -> None:
    card = material("PETG")
    own = OwnCard(values={"pull": OwnValue(value=52, low=50, high=54, note="ten bars"), "density": _one(1.31)})
    mine = with_own(card, own)
    assert mine.pull == Range(52, 50, 54, "yours") and mine.density == 1.31
    assert mine.bond == card.bond and with_own(card, None) is card
    # Use above the softening point is never let through.
    soft = with_own(card, OwnCard(values={"use_below": _one(120.0)}))
    assert soft.use_below < soft.softens
    with pytest.raises(ValidationError):
        OwnValue(value=5, low=6, high=7)
    with pytest.raises(ValidationError):
        OwnValue(value=-1, low=-2, high=0)


def _one(v: float) -> OwnValue:
    return OwnValue(value=v, low=v, high=v)


def test_thick_layers_cost_the_bond_and_a_wide_nozzle_gives_it_back() -> None:
    """A bar pulled along its layers' normal: reserve goes with the bond and nothing else."""
    part = answer.read_part(box(12, 12, 60))
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(6, 6, 0)),),
        cases=(LoadCase(name="pull", loads=(ForceLoad(at=(6, 6, 60), force_N=(0, 0, 200)),)),),
    )
    base = Recipe(layer_height=0.2, infill=1.0)
    s = solving.strength(part, design_case, base, material("PETG"), 3000)
    pricer = answer.pricer(part, s, UP, PrinterMotion(), Range(1, 1, 1), 0.4)
    found = {v.name: v.dot for v in variants(pricer, base, 0.4)}
    own = found["0.2 mm"].reserve.value
    assert found["0.3 mm"].reserve.value == pytest.approx(own * height_share(0.75))
    # Layers in proportion to the bore are pressed alike, whatever the bore.
    for bore in ("0.25 mm", "0.6 mm", "0.8 mm"):
        assert found[bore].reserve.value == pytest.approx(own, rel=1e-6)
    assert found["0.8 mm"].price.hours.value < found["0.4 mm"].price.hours.value < found["0.25 mm"].price.hours.value


def test_the_materials_say_of_the_own_recipe_what_the_board_says(arm: Mesh) -> None:
    """Two tops over eight walls: the field has them as thick as the walls, board and list must not."""
    thin = Recipe(walls=8, infill=0.1, tops=2, bottoms=2)
    design_case, _, _ = design_cases.arm()
    ask = Answerer()
    part = solving.put(ask, arm)
    stated = Stated(design_case=design_case, recipe=thin, orientation=Orientation(direction=(0.0, 0.0, 1.0)))
    strength = ask_strength(part, stated, 4000, None, True)
    built = ask(ask_board(strength, stated, stated.direction, 0.2))
    mine = next(c for c in built.materials if c.card.name == stated.card.name)
    dot = built.board.dot(thin)
    assert dot is not None and mine.reserve is not None
    for end in ("low", "value", "high"):
        assert getattr(mine.reserve, end) == pytest.approx(getattr(dot.reserve, end), rel=1e-9)
    # It bites: the field alone says another thing of this recipe.
    field = ask(strength).field
    plain = rate(field, ask(strength).limits, np.array([stated.direction])).range_of(0).value
    assert abs(plain / dot.reserve.value - 1) > 0.1
