"""What each layer rests on, and the supports of each place that rests on nothing, against shapes of known size."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import box, mesh_of

from knollside.core.lay.strata import Strata, lay_strata
from knollside.core.lay.supports import Region, bill, held, regions
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


def test_a_shelf_is_a_ledge_of_its_own_reach_with_the_column_of_the_room_beneath() -> None:
    strata, found = looked(shelf(14))
    (r,) = found
    assert r.kind == "ledge" and r.needed
    assert r.area == pytest.approx((14 - strata.reach) * 20, rel=0.01)
    assert r.far == pytest.approx(14, rel=0.03)
    assert r.low == pytest.approx(16) and 15.0 < r.column <= 16.0
    assert not r.on_part and r.access == "outside"
    # 0.15 of the body, and two layers solid under the shelf.
    grams = (0.15 * (r.column - 0.4) + 0.4) * r.area * material("PETG").density / 1000
    assert r.grams == pytest.approx(grams, rel=0.02)


def test_a_short_shelf_needs_nothing_and_says_how_many_lines_it_sticks_out() -> None:
    _, found = looked(shelf(1.2))
    (r,) = found
    assert not r.needed and "3 lines" in r.without


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


def test_thinner_layers_reach_further() -> None:
    mesh = mesh_of(m3.Manifold.extrude(m3.CrossSection([[(0, 0), (10, 0), (40, 20), (0, 20)]]), 15).rotate((90, 0, 0)))
    free = {h: lay_strata(mesh, UP, R.model_copy(update={"layer_height": h})).free for h in (0.1, 0.3)}
    assert not free[0.1] and free[0.3]


def test_the_school_decides_and_the_hand_overrules_it() -> None:
    _, found = looked(shelf(14) + CUBE((1.0, 20, 4)).translate((-1.0, 0, 16)))
    big, small = sorted(found, key=lambda r: -r.area)
    assert [held(big, SupportSettings(preset=s)) for s in ("all", "pays", "none")] == [True, True, False]
    assert [held(small, SupportSettings(preset=s)) for s in ("all", "pays", "none")] == [True, False, False]
    mine = SupportSettings(preset="pays", by_hand={big.key: False, small.key: True})
    assert not held(big, mine) and held(small, mine)
    total = bill(found, mine)
    assert total.count == 1 and total.open_ones == 1 and total.grams == pytest.approx(small.grams)


def test_marks_say_which_faces_a_support_scars() -> None:
    mesh = mesh_of(shelf(14))
    under = next(f for f in find_features(mesh) if f.kind == "flat" and f.axis[2] < -0.9 and f.centre[2] > 10)
    _, found = looked(mesh, marks={under.id: "shown"})
    assert found[0].scars == ("a show face",)
    assert np.allclose(mesh.triangles[found[0].faces][:, :, 2], 16.0)


def test_a_tree_takes_less_and_a_thin_ledge_is_at_risk() -> None:
    _, plain = looked(shelf(14))
    _, tree = looked(shelf(14), SupportSettings(style="tree"))
    assert tree[0].grams < 0.7 * plain[0].grams
    thin = CUBE((10, 20, 20)) + CUBE((30, 20, 0.8)).translate((0, 0, 16))
    _, found = looked(thin)
    assert found[0].risk is not None and found[0].risk > 5 * (plain[0].risk or 0.01)


def test_too_many_layers_are_refused_with_their_number() -> None:
    with pytest.raises(Refused, match=r"5,000 layers of 0.04 mm"):
        lay_strata(box(5, 5, 200), UP, R.model_copy(update={"layer_height": 0.04}))


def test_bed_advice_by_length_shrinkage_and_what_touches() -> None:
    from knollside.core.lay.bed_adhesion import bed_adhesion
    from knollside.core.lay.stability import footing

    room = (300.0, 300.0, 300.0)
    long_ = footing(box(240, 20, 8), UP, R, room)
    assert bed_adhesion(long_, material("ABS")).kind == "brim"
    assert bed_adhesion(long_, material("ABS"), enclosed=True).curl < bed_adhesion(long_, material("ABS")).curl
    assert bed_adhesion(long_, material("ABS")).span == pytest.approx(240)
    assert bed_adhesion(footing(box(30, 30, 8), UP, R, room), material("PLA")).kind == "nothing"
    tall = bed_adhesion(footing(box(12, 12, 140), UP, R, room), material("PLA"))
    assert tall.kind == "brim" and "narrow stand" in tall.why
    assert bed_adhesion(footing(box(4, 4, 40), UP, R, room), material("PLA")).kind == "raft"


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
