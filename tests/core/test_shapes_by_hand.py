"""Shapes whose every measure is drawn, laid anyhow and far from the origin: what is found must be the drawing."""

from __future__ import annotations

import math
from dataclasses import replace

import manifold3d as m3
import numpy as np
import pytest
import trimesh
from conftest import mesh_of

from knollside.core.mesh.bore import carve, grown
from knollside.core.mesh.feature_relations import related
from knollside.core.mesh.features import feature_at, find_features
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.trueshapes import cover
from knollside.core.model import Feature, Mesh, Refused, rotation_to_up

Solid = m3.Manifold
UP = (0.0, 0.0, 1.0)


def rod(d: float, length: float, sides: int = 96) -> m3.Manifold:
    return Solid.cylinder(length, d / 2, circular_segments=sides)


def ring(d: float) -> float:
    """Area of a circle of 96 sides."""
    return 48 * math.sin(math.pi / 48) * d**2 / 4


def rotation(turn: tuple[float, float, float]) -> np.ndarray:
    return np.asarray(trimesh.transformations.euler_matrix(*np.radians(turn), axes="sxyz")[:3, :3])


def drawing() -> m3.Manifold:
    """A block 80 x 50 x 12 with one of each; its bottom rests at nought."""
    half = m3.CrossSection.circle(2.0, 96)
    slot = m3.CrossSection.batch_hull([half, half.translate((10, 0))])
    solid = Solid.cube((80, 50, 12))
    solid -= rod(5, 30).translate((10, 10, -5))  # through
    solid -= rod(6, 10).translate((25, 10, 8))  # four deep, from the top
    solid -= rod(7, 9).translate((40, 10, -5))  # four deep, from the bottom
    solid -= rod(10 / math.cos(math.pi / 6), 10, 6).translate((60, 12, 7))  # five deep, ten across its flats
    solid -= Solid.extrude(slot, 30).translate((15, 35, -5))
    solid += rod(8, 6).translate((45, 35, 11.9))
    solid -= rod(4, 30).translate((65, 35, -5)) + Solid.cylinder(3, 2, 5, circular_segments=96).translate((65, 35, 9))
    corner = Solid.cube((3, 3, 40)) - rod(6, 40).translate((3, 3, 0))
    return solid - corner.translate((0, 0, -5))  # one upright edge rounded by three


# What is drawn: kind, size, length, whether it goes through, the middle of its axis, and its surface.
EDGE = 2 * math.sin(math.pi / 96)  # of a 96-gon's side, over its radius
DRAWN = [
    ("hole", 5.0, 12.0, True, (10, 10, 6), 96 * EDGE * 2.5 * 12),
    ("hole", 6.0, 4.0, False, (25, 10, 10), 96 * EDGE * 3 * 4),
    ("hole", 7.0, 4.0, False, (40, 10, 2), 96 * EDGE * 3.5 * 4),
    ("hole", 4.0, 9.0, True, (65, 35, 4.5), 96 * EDGE * 2 * 9),
    ("hexagon", 10.0, 5.0, False, (60, 12, 9.5), 6 * 10 / math.sqrt(3) * 5),
    ("slot", 4.0, 12.0, True, (20, 35, 6), 96 * EDGE * 2 * 12 + 2 * 10 * 12),
    ("pin", 8.0, 5.9, None, (45, 35, 12 + 5.9 / 2), 96 * EDGE * 4 * 5.9),
    ("fillet", 6.0, 12.0, None, (3, 3, 6), 24 * EDGE * 3 * 12),
    ("cone", 10.0, 3.0, None, (65, 35, 10.5), None),
]


@pytest.mark.parametrize(
    ("turn", "off"), [((0, 0, 0), (0, 0, 0)), ((25, -40, 70), (310, -220, 95)), ((180, 15, 3), (0, 9, -60))]
)
def test_each_shape_is_found_with_every_measure_of_its_drawing(
    turn: tuple[float, float, float], off: tuple[float, float, float]
) -> None:
    mesh = mesh_of(drawing().rotate(turn).translate(off))
    turned = rotation(turn)
    found = [f for f in find_features(mesh) if f.kind != "flat"]
    assert len(found) == len(DRAWN)
    for kind, size, length, through, middle, surface in DRAWN:
        at = turned @ middle + off
        f = min(
            (g for g in found if g.kind == kind), key=lambda g, at=at: float(np.linalg.norm(np.asarray(g.centre) - at))
        )
        assert f.centre == pytest.approx(tuple(at), abs=0.02 if kind in ("fillet", "cone") else 2e-3)
        assert f.diameter == pytest.approx(size, abs=2e-3) and f.length == pytest.approx(length, abs=2e-3)
        assert f.through is through and f.body == 0
        if surface is not None:
            assert f.area == pytest.approx(surface, rel=1e-3 if kind != "fillet" else 0.1)
        assert abs(np.asarray(f.axis) @ turned[:, 2]) == pytest.approx(1.0, abs=1e-6)
        if kind in ("hole", "pin"):
            assert f.facets == 96 and f.readings == pytest.approx((size, size * math.cos(math.pi / 96)), abs=2e-3)
            assert f.inside is (kind == "hole")
    flats = [f for f in find_features(mesh) if f.kind == "flat"]
    top = 80 * 50 - (3**2 - 24 / 2 * math.sin(math.pi / 48) * 9) - ring(5) - ring(6) - 40 - ring(4) - ring(8)
    top -= 6 * 5**2 * math.tan(math.pi / 6) + ring(10)
    assert max(f.area for f in flats if f.area < 3720) == pytest.approx(top, abs=0.05)


def test_a_point_off_the_part_is_taken_up_to_a_tenth_of_its_size() -> None:
    mesh = mesh_of(Solid.cube((60, 20, 8)))
    features = find_features(mesh)
    assert (
        feature_at(mesh, features, (30, 10, 13.9)).axis[2] > 0.9
        and feature_at(mesh, features, (66, 10, 4)).axis[0] > 0.9
    )
    with pytest.raises(Refused, match=r"6\.1 mm from the part"):
        feature_at(mesh, features, (30, 10, 14.1))
    small = mesh_of(Solid.cube((4, 4, 4)))
    assert feature_at(small, find_features(small), (2, 2, 4.9)).axis[2] > 0.9
    with pytest.raises(Refused):
        feature_at(small, find_features(small), (2, 2, 5.1))


def hole(name: str, at: tuple[float, float, float], axis: tuple[float, float, float], d: float, long: float) -> Feature:
    return Feature(name, "hole", at, axis, np.zeros(0, int), 1.0, d, long, True, 48)


def test_holes_belong_together_from_their_limits_on() -> None:
    """End to end within 0.06 on one axis within 0.05; crossing where the axes pass within both radii and lengths."""
    base = hole("a", (0, 0, 5), UP, 4, 10)

    def with_(other: Feature) -> str:
        return next(f.role for f in related([base, other]) if f.id == "b")

    for z, off, role in (
        (12.05, 0, "counterbore"),
        (12.07, 0, ""),
        (11.95, 0, "counterbore"),
        (12.0, 0.045, "counterbore"),
    ):
        assert with_(hole("b", (off, 0, z), UP, 8, 4)) == role
        assert with_(hole("b", (off, 0, z), (0, 0, -1), 8, 4)) == role
        assert with_(hole("b", (off, 0, 10 - z), UP, 8, 4)) == role
    assert with_(hole("b", (0.055, 0, 12), UP, 8, 4)) == ""
    assert with_(replace(hole("b", (0, 0, 12), UP, 8, 4), body=1)) == ""
    across = (1.0, 0.0, 0.0)
    for y, x, z, role in (
        (4.9, 0.0, 5.0, "crossing"),
        (5.1, 0.0, 5.0, ""),
        (0.0, 13.0, 5.0, "crossing"),  # ten long: its end is eight away, three of radius and a hair short
        (0.0, 13.1, 5.0, ""),
        (0.0, 0.0, 12.9, "crossing"),
        (0.0, 0.0, 13.1, ""),
    ):
        assert with_(hole("b", (x, y, z), across, 6, 20)) == role
    three = related([base, hole("b", (0, 0, 12), UP, 8, 4), hole("c", (0, 0, 16), UP, 12, 4)])
    assert [(f.role, f.beside) for f in three] == [("", ("b", "c")), ("step", ("a",)), ("step", ("a",))]


@pytest.mark.parametrize("turn", [(0, 0, 0), (35, -20, 50)])
def test_skins_and_steps_are_plastic_of_a_layer_each(turn: tuple[float, float, float]) -> None:
    """A hole of five over a counterbore of eleven: a disc, or a slot and a square less the round, a layer each."""
    solid = Solid.cube((30, 30, 12)) - rod(5, 30).translate((15, 15, -5)) - rod(11, 9).translate((15, 15, -5))
    mesh = mesh_of(solid.rotate(turn))
    up = tuple(float(v) for v in rotation(turn)[:, 2])
    found = find_features(mesh)
    f = next(g for g in found if g.diameter and abs(g.diameter - 5) < 0.01)
    for to in (5.0, 5.4):
        skin = cover(mesh, f, to, found, up, "skin", 0.25)
        assert [(c.adds, c.handles) for c in skin] == [(True, -1)]
        assert skin[0].predicted == pytest.approx(ring(to) * 0.25, rel=1e-6)
        first, second = cover(mesh, f, to, found, up, "steps", 0.25)
        wide, reach = to * 1.01 / 2, 5.5 * 0.98
        half = math.asin(wide / reach)
        slot = 2 * (wide * reach * math.cos(half) + reach**2 * half)
        for c, area in ((first, slot), (second, 4 * wide**2)):
            assert not c.adds and c.predicted == pytest.approx(-(area - ring(to)) * 0.25, rel=3e-3)
    made = carve(mesh, cover(mesh, f, 5.0, found, up, "steps", 0.25), "Hole")
    assert mesh.volume - made.volume == pytest.approx(-sum(c.predicted for c in (first, second)), rel=0.12)
    laid = Mesh(made.vertices @ rotation_to_up(up).T, made.faces)
    low = laid.bounds[0, 2]
    areas = [30 * 30 - polygon_of(cut(laid, np.array([low + z])).at(0)).area for z in (3.9, 4.1, 4.35, 4.6)]
    wide = 2.5 * 1.01
    half = math.asin(wide / (5.5 * 0.98))
    assert areas == pytest.approx(
        [ring(11), 2 * (wide * 5.39 * math.cos(half) + 5.39**2 * half), 4 * wide**2, ring(5)], rel=2e-3
    )
    short = Solid.cube((30, 30, 4.7)) - rod(5, 30).translate((15, 15, -5)) - rod(11, 9).translate((15, 15, -5))
    low_hole = next(g for g in find_features(mesh_of(short)) if g.diameter and abs(g.diameter - 5) < 0.01)
    with pytest.raises(Refused, match="two steps need more"):
        cover(mesh_of(short), low_hole, 5.0, find_features(mesh_of(short)), UP, "steps", 0.25)


@pytest.mark.parametrize(("shape", "more"), [("round", 0.0), ("teardrop", None), ("flat top", None)])
@pytest.mark.parametrize("turn", [(0, 0, 0), (0, 0, 65)])
def test_a_lying_hole_opened_foretells_its_volume(
    shape: str, more: float | None, turn: tuple[float, float, float]
) -> None:
    """A bore of six to 6.6 through thirty: two polygons' difference, and the corner between two tangents above it."""
    mesh = mesh_of((Solid.cube((30, 20, 14)) - rod(6, 60).rotate((0, 90, 0)).translate((-5, 10, 7))).rotate(turn))
    f = next(g for g in find_features(mesh) if g.kind == "hole")
    c = grown(mesh, f, 6.6, np.array(UP), shape, 0.3)
    if more is None:
        r = 3.3
        tear = r**2 * (1 - math.pi / 4)
        tip = r * math.sqrt(2) - (r + 0.3)  # what a flat top leaves off the corner: a right angle this high
        more = tear if shape == "teardrop" else tear - tip**2
    assert c.predicted == pytest.approx(-(ring(6.6) - ring(6.0) + more) * 30, rel=4e-3)
    made = carve(mesh, [c], "Hole")
    assert made.volume - mesh.volume == pytest.approx(c.predicted, rel=2e-3)
