"""Splined shafts and hubs: how many teeth, over and between them; what only looks like them."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
from conftest import mesh_of

from knollside.core.mesh.features import find_features
from knollside.core.model import Feature, Mesh

Solid = m3.Manifold


def toothed(count: int, over: float, between: float, share: float = 0.5, lean: float = 0.15) -> np.ndarray:
    """Corners of an outline of teeth with leaning flanks and round lands of five corners each."""
    pitch, out = 2 * np.pi / count, []
    for k in range(count):
        start = k * pitch
        for radius, low, high in (
            (over / 2, start + lean * pitch / 2, start + (share - lean / 2) * pitch),
            (between / 2, start + (share + lean / 2) * pitch, start + (1 - lean / 2) * pitch),
        ):
            out += [(radius * np.cos(a), radius * np.sin(a)) for a in np.linspace(low, high, 5)]
    return np.array(out)


def drawn(ring: np.ndarray, height: float) -> m3.Manifold:
    return Solid.extrude(m3.CrossSection([ring], m3.FillRule.EvenOdd), height)


def splines(mesh: Mesh) -> list[Feature]:
    return [f for f in find_features(mesh) if f.kind == "spline"]


@pytest.mark.parametrize("turn", [(0, 0, 0), (90, 0, 0), (25, 40, 10)])
@pytest.mark.parametrize(("count", "over", "between"), [(6, 20.0, 16.0), (12, 30.0, 26.0), (25, 24.0, 22.0)])
def test_teeth_of_a_shaft_and_of_a_hub_are_counted(count: int, over: float, between: float, turn) -> None:  # type: ignore[no-untyped-def]
    shaft = drawn(toothed(count, over, between), 18.0) + Solid.cylinder(4, 18, circular_segments=96).translate(
        (0, 0, -3.9)
    )
    (f,) = splines(mesh_of(shaft.rotate(turn).translate((3, 5, 7))))
    assert f.facets == count and f.inside is False and f.length == pytest.approx(18.0, abs=0.2)
    assert f.readings == pytest.approx((over, between), rel=2e-3)
    assert f"{count} teeth, {over:.2f} mm over them" in f.size_text and f.title == "Spline 1"
    hub = Solid.cylinder(10, 22, circular_segments=128) - drawn(toothed(count, over, between), 30.0).translate(
        (0, 0, -5)
    )
    (g,) = splines(mesh_of(hub.rotate(turn)))
    assert g.facets == count and g.inside and g.through and g.readings == pytest.approx((over, between), rel=2e-3)
    owned = np.concatenate([f.faces for f in find_features(mesh_of(hub))])
    assert len(owned) == len(np.unique(owned))


def test_hexagons_knobs_keys_and_a_shaft_with_one_tooth_less_are_none() -> None:
    plate = Solid.cube((60, 60, 8), True)
    hexagon = plate - Solid.cylinder(20, 8, circular_segments=6).translate((0, 0, -10))
    knob = Solid.cylinder(10, 15, circular_segments=128)
    for k in range(8):
        a = 2 * np.pi * k / 8
        knob -= Solid.cylinder(20, 3, circular_segments=64).translate((16 * np.cos(a), 16 * np.sin(a), -5))
    ring = toothed(12, 30, 26)
    broken = np.delete(ring, np.arange(0, 5), axis=0)
    for solid in (
        hexagon,
        knob,
        drawn(broken, 10.0),
        plate - Solid.cylinder(20, 5, circular_segments=64).translate((0, 0, -10)),
    ):
        assert splines(mesh_of(solid)) == []
    kinds = {f.kind for f in find_features(mesh_of(hexagon))}
    assert "hexagon" in kinds


def test_the_rest_of_a_splined_shaft_stays_a_pin() -> None:
    """Its plain end is as wide as over the teeth: the lands lie on its own round."""
    plain = Solid.cylinder(15, 15, circular_segments=120).translate((0, 0, 11.9))
    groove = Solid.cylinder(3, 12, circular_segments=96).translate((0, 0, 9.5))
    mesh = mesh_of(drawn(toothed(12, 30, 26), 10.0) + groove + plain)
    found = find_features(mesh)
    assert [f.facets for f in found if f.kind == "spline"] == [12]
    assert any(f.kind == "pin" and f.diameter == pytest.approx(30, abs=1e-2) for f in found)


def dovetail(wide: float, angle: float, deep: float, length: float = 40.0) -> m3.Manifold:
    """Its widest side down, along Y from 0."""
    narrow = wide - 2 * deep / np.tan(np.radians(angle))
    ring = np.array([(-wide / 2, 0), (wide / 2, 0), (narrow / 2, deep), (-narrow / 2, deep)])
    return drawn(ring, length).rotate((90, 0, 0)).translate((0, length, 0))


@pytest.mark.parametrize("turn", [(0, 0, 0), (30, 50, 20)])
@pytest.mark.parametrize(("wide", "angle"), [(16.0, 60.0), (12.0, 45.0), (20.0, 75.0)])
def test_a_dovetail_and_its_groove_are_told_by_width_and_angle(wide: float, angle: float, turn) -> None:  # type: ignore[no-untyped-def]
    plate = Solid.cube((50, 40, 12)).translate((-25, 0, 0))
    groove = plate - dovetail(wide, angle, 4.0, 50.0).translate((0, -5, 8.0))
    tail = plate + dovetail(wide, angle, 4.0).rotate((0, 180, 0)).translate((0, 0, 16.0))
    for solid, inside in ((groove, True), (tail, False)):
        (f,) = [g for g in find_features(mesh_of(solid.rotate(turn))) if g.kind == "dovetail"]
        assert f.inside is inside and f.diameter == pytest.approx(wide, abs=1e-3)
        assert f.angle == pytest.approx(angle, abs=0.05) and f.length == pytest.approx(40.0, abs=1e-3)
        assert f"flanks of {angle:.1f}°" in f.size_text


def test_a_plain_groove_and_a_triangle_are_no_dovetails() -> None:
    plate = Solid.cube((50, 40, 12)).translate((-25, 0, 0))
    plain = plate - Solid.cube((16, 60, 10)).translate((-8, -5, 8))
    three = plate - Solid.cylinder(30, 8, circular_segments=3).translate((0, 20, -5))
    draft = plate - dovetail(16.0, 60.0, 4.0, 50.0).rotate((0, 180, 0)).translate((0, -5, 12.0))
    for solid in (plain, three, draft):
        assert not any(f.kind == "dovetail" for f in find_features(mesh_of(solid)))
