"""Roofs over sparse insides, against boxes whose free span is known."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
from conftest import box, mesh_of

from knollside.core.lay.strata import lay_strata
from knollside.core.model import Recipe
from knollside.core.recipe.roofs import roofs

UP = (0.0, 0.0, 1.0)
EMPTY = Recipe(walls=2, infill=0.0, tops=4, bottoms=4)


def of(mesh, recipe: Recipe):  # type: ignore[no-untyped-def]
    s = lay_strata(mesh, UP, recipe)
    return roofs(s.outline, s.h, s.turn, s.base, recipe)


@pytest.mark.parametrize(("wide", "closes"), [(11.0, True), (30.0, False)])
def test_an_empty_box_closes_by_its_free_width(wide: float, closes: bool) -> None:
    (r,) = of(box(60, wide, 12), EMPTY)
    assert r.span == pytest.approx(wide - 4 * 0.45, rel=0.05) and r.closes is closes and not r.one_sided
    assert r.area == pytest.approx((60 - 1.8) * (wide - 1.8), rel=0.01)
    assert r.height == pytest.approx(12 - 4 * 0.2, abs=0.2) and r.at[2] == pytest.approx(r.height, abs=0.2)


def test_infill_under_it_closes_what_was_open_and_the_cure_says_how_much() -> None:
    mesh = box(60, 30, 12)
    (empty,) = of(mesh, EMPTY)
    assert empty.infill == pytest.approx(0.09)
    (just,) = of(mesh, EMPTY.model_copy(update={"infill": empty.infill + 0.001}))
    assert just.closes and just.span == pytest.approx(10, rel=0.02)
    (thin,) = of(mesh, EMPTY.model_copy(update={"infill": 0.05}))
    assert not thin.closes and thin.span == pytest.approx(18)


def test_solid_parts_and_open_tops_have_no_roof_to_close() -> None:
    assert of(box(40, 30, 10), EMPTY.model_copy(update={"infill": 1.0})) == ()
    assert of(box(40, 30, 10), EMPTY.model_copy(update={"tops": 0})) == ()
    assert of(box(40, 3.0, 10), EMPTY.model_copy(update={"walls": 4})) == ()


def test_two_levels_are_two_roofs_and_a_steep_slope_closes_strip_by_strip() -> None:
    step = m3.Manifold.cube((60, 30, 10)) + m3.Manifold.cube((30, 30, 20))
    found = of(mesh_of(step), EMPTY)
    heights = sorted(round(r.height) for r in found if r.area > 100)
    assert heights == [9, 19] and not any(r.closes for r in found if r.area > 100)
    steep = m3.Manifold.extrude(m3.CrossSection([[(0, 0), (40, 0), (20, 40)]]), 30).rotate((90, 0, 0))
    slopes = of(mesh_of(steep), EMPTY)
    assert all(r.closes for r in slopes) and all(r.span < 3 for r in slopes)


def test_a_gentle_slope_hangs_on_one_side() -> None:
    shallow = m3.Manifold.extrude(m3.CrossSection([[(0, 0), (80, 0), (80, 10), (0, 14)]]), 30).rotate((90, 0, 0))
    found = of(mesh_of(shallow), EMPTY)
    # Each layer bares 0.2 / tan(2.86 degrees) = 4 mm more.
    hanging = [r for r in found if r.one_sided]
    assert hanging and not any(r.closes for r in hanging)
    assert np.isclose(max(r.span for r in hanging), 4.0, rtol=0.15)
