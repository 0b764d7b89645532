"""Living hinges and snap arms, told by their sizes, whichever way the part is turned; and what is none."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
from conftest import DEMO, mesh_of

from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_file
from knollside.core.model import WEBS, Feature

Solid = m3.Manifold
TURNS = ((0, 0, 0), (90, 0, 30), (17, -41, 63))


def block(a: float, b: float, c: float, d: float, e: float, f: float) -> Solid:
    return Solid.cube((b - a, d - c, f - e)).translate((a, c, e))


def webs(solid: Solid) -> list[Feature]:
    return [f for f in find_features(mesh_of(solid)) if f.role in WEBS]


def leaves(thick: float, over: float, deep: float = 4.0) -> Solid:
    """Two leaves with a groove between them that leaves ``thick`` mm."""
    return block(0, 40, 0, 30, 0, deep) - block(20 - over / 2, 20 + over / 2, -1, 31, thick, deep + 1)


def arm(thick: float, long: float, wide: float, catch: float, slope: float = 2.0) -> Solid:
    """An arm that stands on a plate, its catch with a slope towards the free end."""
    base = block(-10, 20, -10, 20, -3, 0)
    profile = [(0, 0), (thick, 0), (thick, long), (thick + catch, long), (thick, long + slope), (0, long + slope)]
    made = Solid.extrude(m3.CrossSection([profile]), wide)
    return base + made.rotate((90, 0, 0)).translate((0, wide, 0))


@pytest.mark.parametrize("turn", TURNS)
@pytest.mark.parametrize(("thick", "over"), [(0.4, 3.0), (0.8, 6.0), (0.2, 1.2)])
def test_a_living_hinge_is_told(thick: float, over: float, turn: tuple[float, float, float]) -> None:
    (f,) = webs(leaves(thick, over).rotate(turn))
    assert f.role == "living hinge" and f.title.startswith("Living hinge")
    assert (*f.readings, f.length) == pytest.approx((thick, over, 30.0), abs=1e-6)
    assert f.size_text == f"{thick:.2f} mm thick over {over:.1f} mm, 30.0 mm long"


@pytest.mark.parametrize("turn", TURNS)
@pytest.mark.parametrize(
    ("thick", "long", "wide", "catch"), [(2.0, 15.0, 6.0, 1.2), (1.2, 10.0, 8.0, 0.6), (3, 30, 10, 2)]
)
def test_a_snap_arm_is_told_with_its_catch(thick: float, long: float, wide: float, catch: float, turn) -> None:  # type: ignore[no-untyped-def]
    (f,) = webs(arm(thick, long, wide, catch).rotate(turn))
    assert f.role == "snap arm" and f.title.startswith("Snap arm")
    assert (f.readings[0], f.length, f.span) == pytest.approx((thick, long, wide), abs=1e-6)
    # The catch is felt for in steps of a twentieth, a tenth of a mm beyond the edge.
    assert f.readings[1] == pytest.approx(catch * (1 - 0.1 / 2.0), abs=0.06)
    # A cantilever's root strains 3 t d / 2 L2 (Roark).
    assert f"strains {150 * thick * f.readings[1] / long**2:.1f} %" in f.size_text


def test_an_arm_in_the_plane_of_its_plate_is_one_too() -> None:
    """Cut out of a wall: its root goes on to both sides."""
    profile = [(0, 0), (2, 0), (2, 14), (3, 14), (2, 16), (0, 16)]
    made = Solid.extrude(m3.CrossSection([profile]), 5.0) + block(-10, 12, -8, 0, 0, 5)
    (f,) = webs(made)
    assert f.role == "snap arm" and f.length == pytest.approx(14.0) and f.readings[0] == pytest.approx(2.0)


@pytest.mark.parametrize(
    "solid",
    [
        leaves(1.5, 6.0),  # too thick to bend again and again
        leaves(0.6, 12.0),  # a thin plate between two
        block(0, 40, 0, 30, 0, 0.6),  # a sheet
        block(0, 40, 0, 30, 0, 10) - block(1, 39, 1, 29, 0.8, 11),  # a box with thin walls
        arm(2.0, 15.0, 6.0, 0.0),  # a post without a catch
        block(-10, 20, -10, 20, -3, 0) + block(0, 2, 0, 6, 0, 15),  # a rib
        block(-10, 20, -10, 20, -3, 0) + block(0, 2, 0, 6, 0, 15) + block(-4, 6, 0, 6, 15, 17),  # a tee
        block(0, 30, 0, 6, 0, 3) + block(0, 2, 0, 6, 0, 15) + block(28, 30, 0, 6, 0, 15),  # a channel
        block(0, 2, 0, 6, 0, 20) + block(0, 30, 0, 6, 17, 20) + block(28, 30, 0, 6, 0, 20),  # a bridge
    ],
)
def test_what_neither_bends_nor_catches_is_neither(solid: Solid) -> None:
    assert webs(solid) == []


def test_the_parts_of_the_demo_have_none_but_what_is_drawn() -> None:
    said = {p.stem: [f.role for f in find_features(load_file(p).mesh) if f.role in WEBS] for p in DEMO.glob("*.stl")}
    assert {k for k, v in said.items() if v} <= {"trellis-clip", "gate-latch"}, said


def test_the_strain_in_passing_is_that_of_a_bent_beam() -> None:
    """By the deflection and the moment of a cantilever: strain = M t / 2 E I with d = M L2 / 3 E I at its end."""
    (f,) = webs(arm(2.0, 15.0, 6.0, 1.2))
    t, d, long = f.readings[0], f.readings[1], f.length
    inertia = 6.0 * t**3 / 12
    force = 3 * inertia * d / long**3  # of a modulus of one
    strain = force * long * (t / 2) / inertia
    assert math.isclose(strain * 100, float(f.size_text.split("strains ")[1].split(" ")[0]), abs_tol=0.06)
    assert np.isfinite(strain)
