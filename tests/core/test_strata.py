"""What each layer rests on, and the supports of each place that rests on nothing, against shapes of known size."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import box, mesh_of

from knollside.core.lay.strata import Strata, lay_strata
from knollside.core.lay.supports import Region, regions
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.model import FixedFixture, ForceLoad, Mesh, Recipe, Refused, SupportSettings

R = Recipe(layer_height=0.2, line_width=0.45)
UP = (0.0, 0.0, 1.0)
CUBE = m3.Manifold.cube
PAYS = SupportSettings()


def looked(
    solid: m3.Manifold | Mesh, support_settings: SupportSettings = PAYS, marks: dict[str, str] | None = None
) -> tuple[Strata, tuple[Region, ...]]:
    mesh = solid if isinstance(solid, Mesh) else mesh_of(solid)
    strata = lay_strata(mesh, UP, R)
    return strata, regions(mesh, find_features(mesh), marks or {}, strata, R, support_settings, material("PETG"))


def shelf(out: float) -> m3.Manifold:
    """A post of 10 x 20 x 20 with a shelf of ``out`` mm sticking out to +X from 16 to 20 mm."""
    return CUBE((10, 20, 20)) + CUBE((10 + out, 20, 4)).translate((0, 0, 16))


def portal(span: float) -> m3.Manifold:
    return CUBE((span + 20, 12, 16)) - CUBE((span, 40, 12)).translate((10, -10, -1e-3))


def test_layers_of_a_block_have_its_area_and_rest_on_each_other() -> None:
    strata, found = looked(box(20, 10, 6))
    assert len(strata.outline) == 30 and strata.areas == pytest.approx(200.0)
    assert strata.free == () and found == ()


@pytest.mark.parametrize(("span", "needed"), [(8.0, False), (25.0, True)])
def test_a_portal_bridges_by_its_span(span: float, needed: bool) -> None:
    _, found = looked(portal(span))
    (r,) = found
    assert r.kind == "bridge" and r.needed is needed
    assert 2 * r.far == pytest.approx(span, rel=0.05) and f"{span:.0f} mm" in r.without


def test_what_hangs_down_is_an_island_and_always_needs_holding() -> None:
    hook = CUBE((8, 20, 30)) + CUBE((30, 20, 6)).translate((0, 0, 24)) + CUBE((6, 20, 14)).translate((24, 0, 10))
    _, found = looked(hook)
    island = next(r for r in found if r.kind == "island")
    assert island.needed and island.low == pytest.approx(10) and "falls away" in island.without


def test_a_round_hole_lying_closes_itself_and_a_wide_one_does_not() -> None:
    for d, needed in ((7.0, False), (22.0, True)):
        block = CUBE((40, 12, 30)) - m3.Manifold.cylinder(40, d / 2, circular_segments=96).rotate((90, 0, 0)).translate(
            (20, 30, 15)
        )
        _, found = looked(block)
        crown = max(found, key=lambda r: r.area)
        assert crown.kind == "arch" and crown.needed is needed
        assert crown.scars == ("a hole's wall",)


def test_a_support_over_a_floor_of_the_part_stands_on_it_and_a_closed_room_cannot_be_cleared() -> None:
    room = CUBE((40, 30, 24)) - CUBE((30, 20, 14)).translate((5, 5, 5))
    _, found = looked(room)
    r = max(found, key=lambda r: r.area)
    assert r.on_part and r.access == "shut in" and r.column * r.area == pytest.approx(14 * 28.8 * 18.8, rel=0.01)
    _, found = looked(room - CUBE((40, 10, 10)).translate((20, 10, 8)))
    assert max(found, key=lambda r: r.area).access == "outside"


def test_a_slope_past_the_limit_is_one_region_and_one_within_it_none() -> None:
    def wedge(lean: float) -> m3.Manifold:
        out = 20 * np.tan(np.radians(lean))
        return m3.Manifold.extrude(m3.CrossSection([[(0, 0), (10, 0), (10 + out, 20), (0, 20)]]), 15).rotate((90, 0, 0))

    limit = np.degrees(np.arctan(0.5 * 0.45 / 0.2))
    assert looked(wedge(limit - 4))[1] == ()
    _, gentle = looked(wedge(limit + 6))
    assert len(gentle) == 1 and gentle[0].kind == "slope" and not gentle[0].needed
    _, steep = looked(wedge(limit + 26))
    assert len(steep) == 1 and steep[0].needed and f"{limit + 26:.0f}" in steep[0].without


def test_too_many_layers_are_refused_with_their_number() -> None:
    with pytest.raises(Refused, match=r"5,000 layers of 0.04 mm"):
        lay_strata(box(5, 5, 200), UP, R.model_copy(update={"layer_height": 0.04}))


def test_a_stack_from_cut_layers_prices_like_one_cut_for_itself() -> None:
    from knollside.core.model import Range
    from knollside.core.recipe.layer_areas import areas_of, layer_areas, use_of
    from knollside.core.recipe.price import PrinterMotion, price

    mesh = mesh_of(shelf(14) - m3.Manifold.cylinder(60, 4, circular_segments=64).translate((5, 10, -5)))
    strata = lay_strata(mesh, UP, R)
    ours = areas_of(strata.outline, strata.h, (R.tops, R.bottoms))
    theirs = layer_areas(mesh, UP, R.layer_height, (R.tops, R.bottoms))
    a, b = (
        price(s.thickness, use_of(s, R), R, material("PETG"), PrinterMotion(), Range(1, 1, 1)) for s in (ours, theirs)
    )
    assert a.grams == pytest.approx(b.grams, rel=0.03) and a.hours.value == pytest.approx(b.hours.value, rel=0.03)


def test_a_way_that_another_beats_in_everything_is_told() -> None:
    from knollside.core.job import answer
    from knollside.core.job.compare import Comparison, unbeaten
    from knollside.core.model import DesignCase, LoadCase, Range
    from knollside.core.recipe.price import PrinterMotion

    mesh = mesh_of(shelf(20))
    part = answer.read_part(mesh)
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(5, 10, 0)),),
        cases=(LoadCase(name="a", loads=(ForceLoad(at=(30, 10, 18), force_N=(0, 0, -20)),)),),
    )
    s = solving.strength(part, design_case, R.model_copy(update={"infill": 1.0}), material("PETG"), 3000, exactly=True)
    orientations = answer.orientations(part, design_case, s, (220, 220, 250), 100).orientations
    at = R, PAYS, material("PETG"), PrinterMotion(), Range(1, 0.9, 1.1)
    made = unbeaten([Comparison(mesh, part.features, {}, (), *at).column(w) for w in orientations[:4]])
    for c in made:
        better = [
            o
            for o in made
            if o is not c and all(x <= y + 1e-9 for x, y in zip(o.costs, c.costs)) and o.costs != c.costs
        ]
        assert bool(c.beaten) == bool(better)
    assert any(not c.beaten for c in made)
    weights = [c.grams - c.bill.grams for c in made]
    # The part itself weighs the same however it lies, but for where its tops fall.
    assert max(weights) < 1.15 * min(weights)
