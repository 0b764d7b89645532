"""Plain pieces held against closed forms: a sign or a factor changed in any of them is noticed here.

Each was once changed without any test seeing it.
"""

from __future__ import annotations

import math
from dataclasses import replace

import manifold3d as m3
import numpy as np
import pytest
import shapely
from conftest import box, mesh_of

from knollside.core.fit.flaring import learn_flare
from knollside.core.lay.orientations import _gives_up
from knollside.core.lay.stability import Footing
from knollside.core.lay.strata import Free, Strata
from knollside.core.lay.supports import BRIDGE_MM, _without
from knollside.core.material.allowables import Allowables, limits_of
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_bytes
from knollside.core.mesh.revised import _unrivalled
from knollside.core.mesh.slicer import cut, section_of
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import (
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Measurement,
    Range,
    Recipe,
    Refused,
)
from knollside.core.proof.section import section_plane
from knollside.core.recipe.layer_areas import LayerUse
from knollside.core.recipe.price import PrinterMotion, layer_seconds
from knollside.core.strength.field import Medium, solve
from knollside.core.strength.hot_spots import hot_spots
from knollside.core.strength.resultants import Resultants, nominal_reserve

PETG = material("PETG")


def allow(apart: float) -> Allowables:
    return Allowables(50, 50, apart, 1e9, (0.9, 1.1), (0.9, 1.1), (), Range(1, 1, 1), Range(1, 1, 1))


@pytest.mark.parametrize("turn", [0.0, 30.0, 90.0, 200.0])
def test_an_angle_bends_about_its_own_axes(turn: float) -> None:
    """Stress over an unsymmetric section is the one plane that balances force and moments: three equations for it,
    from the section's area laid out in small squares, and no moments of inertia by formula."""
    angle = m3.Manifold.cube((30, 6, 20)) + m3.Manifold.cube((5, 22, 20))
    angle = angle - m3.Manifold.cube((3, 3, 50)).translate((20, 1, -5))
    mesh = mesh_of(angle.rotate((0, 0, turn)))
    cuts = cut(mesh, np.array([10.0]))
    section = section_of(cuts.at(0))
    step = 0.125
    a, b = np.meshgrid(np.arange(step / 2, 30, step), np.arange(step / 2, 22, step))
    a, b = a.ravel(), b.ravel()
    inside = ((b < 6) | (a < 5)) & ~((a > 20) & (a < 23) & (b > 1) & (b < 4))
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    x, y = a[inside] * c - b[inside] * s, a[inside] * s + b[inside] * c
    cx, cy = x.mean(), y.mean()
    assert section.centroid == pytest.approx((cx, cy), abs=1e-6)
    # What acts above: a pull up and sideways loads, at a place off the centre.
    at, f = np.array([cx + 9.0, cy - 4.0, 25.0]), np.array([3.0, -2.0, 40.0])
    moment = np.cross(at - (cx, cy, 10.0), f)
    area = step * step
    one = np.ones_like(x)
    basis = np.stack([one, x - cx, y - cy])
    # The cut face pulls the piece above down by the stress: forces and both moments are nothing together.
    wanted = np.array([f[2], -moment[1], moment[0]])
    plane = np.linalg.solve(area * basis @ basis.T, wanted)
    rim = cuts.at(0).reshape(-1, 2)
    worst = (plane @ np.stack([np.ones(len(rim)), rim[:, 0] - cx, rim[:, 1] - cy])).max()
    res = Resultants(np.array([10.0]), (section,), f[None, None], moment[None, None], cuts, 0.0)
    assert nominal_reserve(res, (allow(20.0),))[0] == pytest.approx(20.0 / worst, rel=2e-3)


def test_a_strand_sags_as_a_beam_under_its_own_weight() -> None:
    """5 w L^4 / 384 E I: sixteen times the sag over twice the span; half a layer at the span that still closes."""
    h = 0.8
    strata = Strata((), (), h, 0.1, np.eye(3), 0.0)
    for share, text in ((1.0, "0.4"), (0.9, "0.3"), (0.7, "0.1"), (0.6, "0.05")):
        span = share * BRIDGE_MM
        pays, words = _without("bridge", Free(0, shapely.box(0, 0, span, 4), span / 2, "bridge"), strata, Recipe(), 0.0)
        assert f"{h / 2 * share**4:.1g}" == text
        assert not pays and f"sags about {text} mm" in words


def _from_rest_to_rest(length: float, v: float, a: float) -> float:
    """Seconds of one straight move, stepped through: speed up, keep pace, slow down."""
    t, at, speed, step = 0.0, 0.0, 0.0, 1e-4
    while at < length:
        left = length - at
        speed = min(speed + a * step, v, max(math.sqrt(2 * a * max(left, 0)), 1e-3))
        at, t = at + speed * step, t + step
    return t


def test_a_square_loop_stops_at_its_four_corners() -> None:
    side, printer_motion, recipe = 40.0, PrinterMotion(), Recipe(walls=1, infill=0.0)
    nothing = np.zeros(1)
    use = LayerUse(np.array([4 * side * 0.45]), nothing, nothing, np.array([4 * side]), np.ones(1), np.full(1, 1e-9))
    v = min(printer_motion.wall, printer_motion.flow / (recipe.line_width * recipe.layer_height))
    moved = layer_seconds(use, recipe, PETG, printer_motion)[0] - printer_motion.per_layer
    travel = math.sqrt(use.wall[0]) / printer_motion.travel
    assert moved - travel == pytest.approx(4 * _from_rest_to_rest(side, v, printer_motion.acceleration), rel=3e-3)


def test_a_weak_place_at_a_support_is_kept_a_place_and_a_strong_one_is_not() -> None:
    """A cantilever is stressed in proportion to the distance from its end: which end is held apart decides."""
    mesh = box(100, 4, 4)
    load = LoadCase(name="a", loads=(ForceLoad(at=(100, 2, 2), force_N=(0, 0, -1)),))
    case = DesignCase(fixtures=(FixedFixture(at=(0, 2, 2)),), cases=(load,))
    field = solve(mesh, find_features(mesh), case, Medium(2000.0), 8000)
    limits = limits_of(case, PETG)
    for near, kept in ((field.points[:, 0] < 25, True), (field.points[:, 0] > 75, False)):
        told = hot_spots(replace(field, excluded=near), limits, np.array([0.0, 0.0, 1.0]), 2)
        assert len(told) == 2 and any(t.at_support for t in told) == kept
        assert told[0].reserve <= told[1].reserve
    apart = np.linalg.norm(np.subtract(told[0].at, told[1].at))
    assert 10.0 <= apart < 20.0  # a tenth of the part, and no more than that is passed over
    # Between the ends the reserve goes as one over the distance from the load.
    first, second = (t for t in told if not t.at_support)
    assert second.reserve / first.reserve == pytest.approx((100 - first.at[0]) / (100 - second.at[0]), rel=0.1)


def test_a_feature_with_a_near_rival_is_not_guessed() -> None:
    far = np.array([[0.1, 9.0], [9.0, 0.2]])
    assert _unrivalled(far) == {0: 0, 1: 1}
    # A second that is not three times as far off could be meant as well.
    assert _unrivalled(np.array([[0.1, 0.3], [9.0, 9.0]])) == {}
    assert _unrivalled(np.array([[0.1, 0.36], [np.inf, np.inf]])) == {0: 0}
    assert _unrivalled(np.array([[0.1], [0.3]])) == {}


def test_a_binary_mesh_is_as_long_as_its_count_says() -> None:
    whole = stl_bytes(box(3, 4, 5))
    assert load_bytes(whole, "a.stl").mesh.volume == pytest.approx(60)
    with pytest.raises(Refused, match="promises 12 triangles and holds 11"):
        load_bytes(whole[:-1], "a.stl")
    with pytest.raises(Refused, match="holds no triangles"):
        load_bytes(whole[:80] + bytes(4), "a.stl")


def test_what_a_way_gives_up_is_said_from_where_it_matters_on() -> None:
    def said(overhang: float = 0.0, **more: float) -> str:
        of = {"contact": 400.0, "margin": 5.0, "lean": 0.5, "height": 20.0, "layers": 100, "fits": True} | more
        return _gives_up(Footing(outline=shapely.Polygon(), turn=np.eye(3), **of), overhang)

    assert said() == said(overhang=29.9) == "Needs no support."
    assert said(overhang=130.0) == "1.3 cm² leans too far; support it."
    assert said(fits=False).startswith("Too large for the bed") and said(margin=-1.0) == "Tips over without help."
    assert said(overhang=130.0, margin=-1.0) == "Tips over. 1.3 cm² leans; support it."
    assert said(lean=0.24) == "Stands narrow; give it a brim."
    assert said(contact=29.0).startswith("Next to nothing") and said(contact=29.0, height=4.9) == "Needs no support."


def test_a_section_is_cut_where_its_plane_says_however_long_the_normal() -> None:
    """Of a block 10 mm high, n . x >= d leaves what lies beyond d over the length of n."""
    for normal, offset, left in (((0, 0, 1), 4.0, 0.6), ((0, 0, 2), 8.0, 0.6), ((0, 0, -0.5), -2.0, 0.4)):
        got = section_plane(box(20, 10, 10), (), np.array(normal, float), offset)
        assert got.share == pytest.approx(left)


def test_a_flare_is_a_tenth_of_a_typical_one_and_all_that_was_measured() -> None:
    """Feet of 5 mm: outsides come out 0.04 mm larger there, the rest is twice the flare (Student's t by its table)."""
    flares = [0.12, 0.16, 0.20]
    feet = [Measurement(kind="foot", axis="upright", drawn=5.0, printed=5.04 + 2 * f) for f in flares]
    got = learn_flare(feet)
    middle = (0.1 * 0.15 + sum(flares)) / 3.1
    spread = math.sqrt((0.025**2 + sum((f - middle) ** 2 for f in flares)) / 3)
    assert got.value == pytest.approx(middle)
    assert got.high - got.value == pytest.approx(2.3534 * spread / math.sqrt(3), rel=1e-4)
    # One foot alone keeps the table's doubt: (0.30 - 0.05) / 2.
    one = learn_flare(feet[:1])
    assert (one.value - one.low, one.high - one.value) == (pytest.approx(0.125), pytest.approx(0.125))
