"""Joints printed in place: what bears on what, how far it moves, and the layers between."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
from conftest import DEMO, mesh_of
from hypothesis import given, settings
from hypothesis import strategies as st

from knollside.core.fit.clearance import Gap, empty_layers, freedom, gaps
from knollside.core.fit.flaring import TYPICAL as FLARE
from knollside.core.fit.freeing import TYPICAL as FREES
from knollside.core.fit.joints import Joint, joint_of
from knollside.core.fit.layering import Layering
from knollside.core.fit.moving import travel
from knollside.core.fit.process import process_of
from knollside.core.mesh.columns import facing_up
from knollside.core.mesh.features import find_features
from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.load import load_file
from knollside.core.model import Mesh, Recipe

Solid = m3.Manifold
UP = (0.0, 0.0, 1.0)


def rod(d: float, length: float, sides: int = 128) -> m3.Manifold:
    return Solid.cylinder(length, d / 2, circular_segments=sides)


def block(x0: float, x1: float, y0: float, y1: float, z0: float, z1: float) -> m3.Manifold:
    return Solid.cube((x1 - x0, y1 - y0, z1 - z0)).translate((x0, y0, z0))


def sector(r0: float, r1: float, low: float, high: float, z0: float, z1: float) -> m3.Manifold:
    """Between two radii and two angles, degrees, with flat sides through the axis."""
    turn = np.radians(np.linspace(low, high, 33))
    outer, inner = (np.stack([np.cos(turn), np.sin(turn)], axis=1) * r for r in (r1, r0))
    return Solid.extrude(m3.CrossSection([np.concatenate([outer, inner[::-1]])]), z1 - z0).translate((0, 0, z0))


def joint_in(mesh: Mesh) -> Joint | None:
    return joint_of(mesh, find_features(mesh), (0, 1))


def test_the_demo_hinge_bears_on_its_cones_and_wobbles_by_their_gap() -> None:
    mesh = load_file(DEMO / "vent-hinge.stl").mesh
    found = joint_in(mesh)
    assert found is not None and found.kind == "cone" and len(found.bearings) == 2
    assert found.gap == pytest.approx(0.4, abs=2e-3) and 15 < found.span < 22 and 45 < found.reach < 50
    w = found.wobbles(0.3)
    lean = math.cos(math.radians(found.half_angle))
    assert w.degrees == pytest.approx(math.degrees(math.atan(0.6 / lean / found.span)))
    assert joint_in(mesh_of(Solid.compose([block(0, 40, 0, 40, 0, 10), block(0, 40, 0, 40, 20, 30)]))) is None


@pytest.mark.parametrize("aside", [0.0, 0.1])
@pytest.mark.parametrize("turn", [(0, 0, 0), (90, 0, 0), (31, 17, 50)])
def test_a_pins_gap_is_half_the_difference_less_what_it_stands_aside(aside: float, turn: tuple[int, int, int]) -> None:
    eye = block(-10, 10, -10, 10, 2, 12) - rod(8.8, 30).translate((0, 0, -5))
    pin = rod(8, 30).translate((aside, 0, -8))
    found = joint_in(mesh_of(Solid.compose([eye.rotate(turn), pin.rotate(turn)])))
    assert found is not None and found.kind == "pin" and found.title == "Pin in a hole"
    assert found.gap == pytest.approx(0.4 - aside, abs=1e-3) and found.span == pytest.approx(10, abs=1e-6)
    # What is too wide to bear is none; nor is a pin past the hole's end.
    far = Solid.compose([eye, rod(4, 30).translate((0, 0, -8))])
    beyond = Solid.compose([eye, rod(8, 30).translate((0, 0, 13))])
    assert joint_in(mesh_of(far)) is None and joint_in(mesh_of(beyond)) is None


def test_a_ball_in_its_socket_leans_until_its_neck_meets_the_mouth() -> None:
    """By the sine of the neck's radius over the socket's, off the mouth's angle."""
    r, socket, neck, mouth = 5.0, 5.4, 1.5, 55.0
    far = 20.0
    cone = Solid.cylinder(far, 0, far * math.tan(math.radians(mouth)), circular_segments=128)
    cup = Solid.sphere(8, 128) - Solid.sphere(socket, 128) - cone
    ball = Solid.sphere(r, 128) + rod(2 * neck, 14)
    mesh = mesh_of(Solid.compose([cup, ball]))
    found = joint_in(mesh)
    assert found is not None and found.kind == "ball" and found.gap == pytest.approx(socket - r, abs=2e-3)
    leans = travel(mesh, found, (0, 1)).leans
    assert leans is not None
    foretold = mouth - math.degrees(math.asin(neck / socket))
    assert leans == pytest.approx((foretold, foretold), abs=1.0)
    assert joint_in(mesh_of(Solid.compose([cup, ball.translate((2, 0, 0))]))) is None


def knuckle(low: float = 70.0, high: float = -100.0) -> Mesh:
    """A post with a flange at either end and two stops; a ring with an arm of 20 degrees about it, 6 mm high where 8
    mm are free."""
    stops = sector(6, 14, low, low + 20, 0, 12) + sector(6, 14, high - 20, high, 0, 12)
    post = rod(8, 12) + rod(14, 2) + rod(14, 2).translate((0, 0, 10)) + stops
    post += sector(3, 7, low, low + 20, 0, 2) + sector(3, 7, high - 20, high, 0, 2)
    ring = (rod(11, 6) - rod(8.6, 6) + sector(4.6, 14, -10, 10, 0, 6)).translate((0, 0, 2.5))
    return mesh_of(Solid.compose([post, ring]))


def test_a_joint_turns_to_its_stops_and_slides_to_its_flanges() -> None:
    mesh = knuckle()
    found = joint_in(mesh)
    assert found is not None and found.kind == "pin" and found.gap == pytest.approx(0.3, abs=1e-3)
    t = travel(mesh, found, (0, 1))
    assert t.turns is not None and t.slides is not None
    assert sorted(t.turns) == pytest.approx([60, 90], abs=0.3)
    assert sorted(t.slides) == pytest.approx([0.5, 1.5], abs=0.011) and t.captive
    assert "Turns" in t.words and "°" in t.words
    # Without stops or flanges it goes round and comes out.
    free = mesh_of(Solid.compose([rod(8, 40), (rod(11, 6) - rod(8.6, 6)).translate((0, 0, 12))]))
    loose = joint_in(free)
    assert loose is not None
    t = travel(free, loose, (0, 1))
    assert t.turns == (180.0, 180.0) and t.captive is False
    assert t.words == "Turns right round either way. Slides out of it either way along its axis. As drawn."


@settings(max_examples=40, deadline=None)
@given(st.floats(1.0, 6.0), st.floats(0.12, 1.2), st.sampled_from([0.08, 0.12, 0.2, 0.28]), st.floats(0.2, 0.3))
def test_empty_layers_are_those_whose_middle_lies_between(low: float, gap: float, h: float, first: float) -> None:
    """Counted one by one, off places where a middle is within a hair of an end."""
    middles = [first / 2, *(first + (k + 0.5) * h for k in range(200))]
    if min(abs(m - e) for m in middles for e in (low, low + gap)) < 0.006:
        return
    layering = Layering(h, first)
    assert int(layering.empty(np.array([low]), np.array([low + gap]))[0]) == sum(low < m < low + gap for m in middles)
    assert layering.middles(8.0)[:150] == pytest.approx(middles[: len(layering.middles(8.0))][:150])


def stack(start: float, gap: float = 0.35) -> Gap:
    """A plate over another, held up beside it."""
    upper = block(0, 20, 0, 20, start + gap, start + gap + 3) + block(25, 30, 0, 20, 0, start + gap + 3)
    upper += block(19, 26, 0, 20, start + gap, start + gap + 3)
    mesh = mesh_of(Solid.compose([block(0, 20, 0, 20, 0, start), upper]))
    (g,) = gaps(mesh, UP, Recipe(layer_height=0.2))
    return g


def freed(g: Gap):  # type: ignore[no-untyped-def]
    side = process_of((), "upright").gap(5.0, 5.0).scaled(0.5)
    return freedom(g, side, "typical", *FREES.values(), FLARE)


def test_a_gap_of_035_is_one_or_two_layers_by_where_it_starts_and_a_first_layer_makes_it_two() -> None:
    over = stack(4.05).anywhere.across
    assert over is not None and over.drawn == pytest.approx(0.35) and over.starts == pytest.approx(4.05)
    assert over.layers == 2 and over.first is None
    g = stack(4.12)
    over = g.anywhere.across
    assert over is not None and (over.layers, over.most) == (1, 2) and over.first is not None
    # The first layer that is advised does make it two: the plates moved by as much against the borders.
    moved = stack(4.12 - (over.first - 0.2)).anywhere.across
    assert moved is not None and moved.layers == 2
    assert "1 empty layer, 2 with a first layer of" in empty_layers(over)
    two, one = freed(stack(4.05)), freed(g)
    assert one.welds > two.welds
    assert f"lay the first layer {over.first:.2f} mm high: then 2 layers stay empty" == one.cure


def test_heights_between_two_are_those_of_the_circles() -> None:
    """A rod lying in a bore: sqrt(R2 - x2) - sqrt(r2 - x2) under and over it."""
    bore = (block(-10, 10, -10, 10, -10, 10) - rod(10.8, 40, 720).rotate((90, 0, 0)).translate((0, 20, 0))).translate(
        (0, 0, 12)
    )
    pin = rod(10, 30, 720).rotate((90, 0, 0)).translate((0, 15, 12))
    f = facing_up(mesh_of(bore), mesh_of(pin), 0.15)
    inside = np.abs(f.x) < 4.5
    drawn = np.sqrt(5.4**2 - f.x**2) - np.sqrt(25 - f.x**2)
    assert inside.sum() > 5000 and np.allclose((f.high - f.low)[inside], drawn[inside], atol=2e-3)
    assert len(f.x) * f.cell == pytest.approx(2 * 10 * 20, rel=0.02)  # once over and once under it


def test_another_place_that_is_tighter_is_told_beside_where_it_bears() -> None:
    eye = block(-10, 10, -10, 10, 2, 12) - rod(9, 30).translate((0, 0, -5))
    pin = rod(8, 20).translate((0, 0, 0)) + block(-4, 4, -4, 4, 12.9, 20)
    near = pin + block(10.15, 14, -3, 3, 4, 20) + block(3, 14, -3, 3, 16, 20)
    (wide,), (tight,) = (
        gaps(m, UP, Recipe(), 0.4, find_features(m)) for m in (mesh_of(Solid.compose([eye, p])) for p in (pin, near))
    )
    assert wide.size == pytest.approx(0.5, abs=1e-3) and tight.size == pytest.approx(0.5, abs=1e-3)
    assert tight.smallest == pytest.approx(0.15, abs=1e-3) and tight.bears is not None
    assert tight.bears.in_layer == pytest.approx(0.5, abs=5e-3)
    assert tight.anywhere.in_layer == pytest.approx(0.15, abs=1e-3)
    good, bad = freed(wide), freed(tight)
    assert bad.welds > 0.8 > 0.2 > good.welds and bad.why.startswith("beside where it bears, 0.15 mm")
    # The play is that of the bearing still.
    assert bad.printed.value == pytest.approx(good.printed.value, abs=5e-3)


def test_where_it_bears_is_the_same_room_for_points_and_for_layers() -> None:
    eye = block(-10, 10, -10, 10, 2, 12) - rod(8.8, 30).translate((0, 0, -5))
    turn = (20, 35, 10)
    found = joint_in(mesh_of(Solid.compose([eye.rotate(turn), rod(8, 30).translate((0, 0, -8)).rotate(turn)])))
    assert found is not None
    points = np.random.default_rng(1).uniform(-14, 14, (4000, 3))
    inside = points_inside(found.region(), points)
    assert (inside != found.holds(points)).mean() < 0.005 and inside.sum() > 50
