"""Where a seam may run, and layers too small to cool, against parts where the answer is plain."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
from conftest import box, mesh_of

from knollside.core.lay.seams import CLEAR_MM, SeamAdvice, seam_advice
from knollside.core.lay.strata import lay_strata
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.model import Mesh, Recipe
from knollside.core.recipe.layer_areas import areas_of, use_of
from knollside.core.recipe.price import PrinterMotion, layer_seconds, small_layers

R = Recipe(walls=2, infill=0.2)
UP = (0.0, 0.0, 1.0)


def advised(mesh: Mesh, marks: dict[str, str] | None = None, weak=()) -> SeamAdvice:  # type: ignore[no-untyped-def]
    found = seam_advice(mesh, find_features(mesh), marks or {}, tuple(weak), lay_strata(mesh, UP, R))
    assert found is not None
    return found


def test_an_inward_corner_hides_the_seam() -> None:
    ell = m3.Manifold.cube((40, 40, 10)) - m3.Manifold.cube((30, 30, 20)).translate((15, 15, -5))
    s = advised(mesh_of(ell))
    assert s.inward and s.best[:2] == pytest.approx((15, 15), abs=0.1) and s.reach == 1.0
    assert s.clear == CLEAR_MM and s.avoid == ()


def test_a_weak_place_drives_it_to_the_far_corner() -> None:
    for weak, side in (((0.5, 0.5, 5.0), "back right"), ((39.0, 29.0, 5.0), "front left")):
        others = [(39.0, 0.5, 5.0), (0.5, 29.0, 5.0)]
        s = advised(box(40, 30, 10), weak=[weak, *others])
        assert s.side == side and s.clear == CLEAR_MM and s.avoid == ("weak places (3)",)


def test_show_faces_and_flexing_places_carry_no_seam() -> None:
    mesh = box(40, 30, 10)
    front = next(f.id for f in find_features(mesh) if f.kind == "flat" and f.axis[1] < -0.9)
    s = advised(mesh, {front: "shown"})
    assert s.side.startswith("back") and s.avoid == ("show faces (1)",)
    left = next(f.id for f in find_features(mesh) if f.kind == "flat" and f.axis[0] < -0.9)
    s = advised(mesh, {front: "shown", left: "flexes"})
    assert s.side == "back right" and s.avoid == ("show faces (1)", "flexing places (1)")


def test_the_place_is_told_in_the_parts_own_frame() -> None:
    mesh = box(40, 30, 10)
    strata = lay_strata(mesh, (1.0, 0.0, 0.0), R)
    s = seam_advice(mesh, find_features(mesh), {}, (), strata)
    assert s is not None
    # A corner of the outline of that way is an edge along X of the part.
    assert min(abs(s.best[1]), abs(s.best[1] - 30)) < 1e-6 and min(abs(s.best[2]), abs(s.best[2] - 10)) < 1e-6


def test_a_round_part_has_no_corner_to_choose() -> None:
    mesh = mesh_of(m3.Manifold.cylinder(10, 15, circular_segments=200))
    assert seam_advice(mesh, find_features(mesh), {}, (), lay_strata(mesh, UP, R)) is None


def test_a_thin_peg_on_a_plate_is_too_quick_to_cool() -> None:
    mesh = mesh_of(m3.Manifold.cube((60, 40, 4)) + m3.Manifold.cube((4, 4, 16)).translate((20, 20, 4)))
    strata = lay_strata(mesh, UP, R)
    stack = areas_of(strata.outline, strata.h, (R.tops, R.bottoms), 100)
    use, card, printer_motion = use_of(stack, R), material("PETG"), PrinterMotion()
    (small,) = small_layers(use, stack.thickness, R, card, printer_motion)
    assert (small.low, small.high) == pytest.approx((4, 20), abs=0.3)
    seconds = layer_seconds(use, R, card, printer_motion)
    assert small.seconds == pytest.approx(seconds[25:].min()) and small.speed_share == pytest.approx(
        small.seconds / 8.0
    )
    assert seconds[5] > printer_motion.layer_floor
    # Two pegs of the same size take about twice as long a layer.
    twice = mesh_of(
        m3.Manifold.cube((60, 40, 4))
        + m3.Manifold.cube((4, 4, 16)).translate((20, 20, 4))
        + m3.Manifold.cube((4, 4, 16)).translate((40, 20, 4))
    )
    more = use_of(areas_of(lay_strata(twice, UP, R).outline, 0.2, (R.tops, R.bottoms), 100), R)
    gain = (layer_seconds(more, R, card, printer_motion)[50] - printer_motion.per_layer) / (
        seconds[50] - printer_motion.per_layer
    )
    assert np.isclose(gain, 2.0, rtol=0.25)
