"""The demonstration parts, made from geometry of our own. Run as a script to remake the files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TypeAlias

import manifold3d as m3
import numpy as np

from knollside.core.mesh.helix import helical
from knollside.core.mesh.solid import mesh_of
from knollside.core.mesh.write import stl_bytes

PARTS = Path(__file__).parent / "parts"
Solid: TypeAlias = m3.Manifold


def _box(x0: float, x1: float, y0: float, y1: float, z0: float, z1: float) -> Solid:
    return Solid.cube((x1 - x0, y1 - y0, z1 - z0)).translate((x0, y0, z0))


def _rod(d: float, length: float, sides: int = 64) -> Solid:
    """A cylinder along +Z from the origin."""
    return Solid.cylinder(length, d / 2, circular_segments=sides)


def _along_x(s: Solid) -> Solid:
    return s.rotate((0, 90, 0))


def _along_y(s: Solid) -> Solid:
    return s.rotate((-90, 0, 0))


def _rounded(points: Sequence[tuple[float, float]], inner: float, outer: float) -> m3.CrossSection:
    """A profile with its inner and outer corners rounded."""
    round_ = m3.JoinType.Round
    shape = m3.CrossSection([np.array(points, float)], m3.FillRule.EvenOdd)
    shape = shape.offset(inner, round_, circular_segments=64).offset(-inner - outer, round_, circular_segments=64)
    return shape.offset(outer, round_, circular_segments=64)


def hose_arm(corner: float = 0.0) -> Solid:
    """Wall bracket: foot plate on the wall (x = 0), arm along +X, saddle at 120 mm, lip at the end; its sides meet the
    plate in corners rounded by ``corner`` mm, sharp ones where that is nothing."""
    profile = [
        (0, 6),
        (8, 6),
        (50, 40),
        (100, 58),
        (142, 62),
        (146, 66),
        (146, 100),
        (134, 100),
        (130, 88),
        (110, 88),
        (40, 84),
        (8, 94),
        (0, 94),
    ]
    side = _rounded(profile, 5.0, 2.0)
    arm = m3.Manifold.extrude(side, 26).rotate((90, 0, 0)).translate((0, 13, 0))
    if corner > 0:
        wide = m3.Manifold.extrude(side, 26 + 2 * corner).rotate((90, 0, 0)).translate((0, 13 + corner, 0))
        for y in (-1, 1):
            low, high = sorted((13 * y, (13 + corner) * y))
            hollow = _rod(2 * corner, 200, 96).translate((8 + corner, (13 + corner) * y, -50))
            arm += (_box(7, 8 + corner, low, high, -50, 150) - hollow) ^ wide
    saddle = _along_y(_rod(22, 40, 96)).translate((120, -20, 89))
    window = m3.Manifold.extrude(_rounded([(26, 44), (26, 74), (62, 76), (66, 58)], 0.01, 5.0), 40)
    window = window.rotate((90, 0, 0)).translate((0, 20, 0))
    plate_outline = _rounded([(-30, 0), (30, 0), (30, 100), (-30, 100)], 0.01, 6.0)
    # Drawn in the YZ plane, grown along +X.
    plate = m3.Manifold.extrude(plate_outline, 8).rotate((90, 0, 90))
    solid = plate + arm - saddle - window
    for y, z in ((-21, 12), (21, 12), (-21, 88), (21, 88)):
        solid -= _along_x(_rod(5.3, 20, 48)).translate((-5, y, z))
        solid -= _along_x(_rod(9.5, 20, 64)).translate((4.5, y, z))
    return solid


def vent_hinge() -> Solid:
    """Print-in-place hinge: outer knuckles with cone points, middle knuckle with cone sockets."""
    gap, r, z = 0.4, 6.0, 6.0

    def knuckle(y0: float, y1: float) -> Solid:
        return _along_y(_rod(2 * r, y1 - y0, 96)).translate((0, y0, z))

    def cone(base: float, y0: float, up: bool) -> Solid:
        shape = Solid.cylinder(base, base, 0.01, circular_segments=96)
        return (shape.rotate((-90, 0, 0)) if up else shape.rotate((90, 0, 0))).translate((0, y0, z))

    left = _box(-46, -4, 0, 50, 0, 4) - _along_y(_rod(2 * r + 1.2, 22, 96)).translate((0, 14, z))
    left += knuckle(0, 14) + knuckle(36, 50) + _box(-8, 0, 0, 14, 0, 6) + _box(-8, 0, 36, 50, 0, 6)
    left += cone(4.2, 14, True) + cone(4.2, 36, False)
    right = _box(4, 46, 0, 50, 0, 4)
    for y0, y1 in ((-1, 14.4), (35.6, 51)):
        right -= _along_y(_rod(2 * r + 1.2, y1 - y0, 96)).translate((0, y0, z))
    right += knuckle(14.4, 35.6) + _box(0, 8, 14.4, 35.6, 0, 6)
    # The socket runs parallel to the point at the gap: shifted out along the axis by gap * sqrt(2).
    lift = gap * np.sqrt(2)
    right -= cone(4.2 + lift, 14.0, True) + cone(4.2 + lift, 36.0, False)
    for x, y in ((-32, 12), (-32, 38)):
        left -= _rod(4.5, 10, 48).translate((x, y, -2))
        right -= _rod(4.5, 10, 48).translate((-x, y, -2))
    return m3.Manifold.compose([left, right])


def m6_knob() -> Solid:
    """Six-lobed knob with a pocket for an M6 nut (10 mm across flats) and a through hole."""
    lobes = [_rod(11, 14, 48).translate((15 * np.cos(a), 15 * np.sin(a), 10)) for a in np.arange(6) * np.pi / 3]
    solid = m3.Manifold.batch_boolean([_rod(32, 14, 96).translate((0, 0, 10)), _rod(18, 12, 96), *lobes], m3.OpType.Add)
    solid -= _rod(6.4, 60, 48).translate((0, 0, -1))
    return solid - _rod(10.2 / np.cos(np.pi / 6), 5.4, 6).translate((0, 0, -0.2))


def label_plate() -> Solid:
    """Plate with two screw holes and the raised number 08: counters closed."""
    solid = m3.Manifold.extrude(_rounded([(0, 0), (70, 0), (70, 32), (0, 32)], 0.01, 4.0), 3.0)
    for x in (7, 63):
        solid -= _rod(4.5, 10, 48).translate((x, 16, -2))

    def ring(x: float, y: float, wide: float, high: float, stroke: float) -> Solid:
        outer = m3.CrossSection.circle(0.5, 64).scale((wide, high))
        inner = m3.CrossSection.circle(0.5, 64).scale((wide - 2 * stroke, high - 2 * stroke))
        return m3.Manifold.extrude(outer - inner, 1.0).translate((x, y, 2.9))

    return solid + ring(26, 16, 13, 20, 3) + ring(44, 20.6, 11, 10.8, 3) + ring(44, 11.2, 12, 11.6, 3)


def trellis_clip() -> Solid:
    """C-shaped clip over a 16 mm cane with two lips, on a foot with a screw hole; opened each season."""
    inner, outer, wide = 8.15, 9.95, 14.0
    ring = m3.CrossSection.circle(outer, 96) - m3.CrossSection.circle(inner, 96)
    mouth = m3.CrossSection([np.array([(0, 0), (30, -20.2), (30, 20.2)])])
    arms = ring - mouth
    lips = m3.CrossSection.circle(1.4, 32)
    a = np.radians(34.0)
    middle = (inner + outer) / 2
    for sign in (1, -1):
        arms += lips.translate((float(middle * np.cos(a)) + 0.6, sign * float(middle * np.sin(a)) + sign * 0.4))
    clip = m3.Manifold.extrude(arms, wide)
    foot = _box(-17, -9, -16, 16, 0, wide)
    return (
        foot
        + clip
        - _along_x(_rod(4.5, 12, 48)).translate((-19, -12.2, 7))
        - _along_x(_rod(4.5, 12, 48)).translate((-19, 12.2, 7))
    )


def stay_bar() -> Solid:
    """Notch bar of the cold frame's stay: a hole at one end, eight sloping teeth of 4 mm along the top."""
    outline = [(0.0, 0.0), (150.0, 0.0), (150.0, 14.0)]
    for k in range(8):
        x = 140.0 - 12.0 * k
        outline += [(x, 14.0), (x - 2.0, 10.0), (x - 11.0, 14.0)]
    outline += [(0.0, 14.0)]
    bar = m3.Manifold.extrude(_rounded(outline, 0.4, 0.4), 10)
    return bar - _rod(5.3, 20, 48).translate((9, 7, -5))


def stay_pawl() -> Solid:
    """Pawl that drops into the notch bar: a lever on a pin, its tooth at the end, a finger tab above."""
    lever = [
        (-7, -6),
        (30, -6),
        (38, -11),
        (40.5, -11),
        (42, -4),
        (42, 4),
        (30, 6),
        (12, 6),
        (4, 16),
        (-2, 16),
        (-7, 6),
    ]
    body = m3.Manifold.extrude(_rounded([(float(x), float(y)) for x, y in lever], 0.8, 1.2), 12)
    return body - _rod(5.3, 20, 48).translate((0, 0, -4))


def gate_latch() -> Solid:
    """Bolt in a body, two bodies: 12 mm square with 0.35 mm to each side; it must drop by itself."""
    gap, side, long = 0.35, 12.0, 60.0
    body = _box(-14, 14, -14, 11, 0, 40)
    body -= _box(-side / 2 - gap, side / 2 + gap, -side / 2 - gap, side / 2 + gap, -1, 41)
    body -= _box(-3.2, 3.2, 4, 14, 8, 32)  # slot for the finger peg
    body += _box(-28, 28, -14, -10, 0, 40)
    for x in (-21, 21):
        for z in (9, 31):
            body -= _along_y(_rod(4.5, 10, 48)).translate((x, -17, z))
    bolt = _box(-side / 2, side / 2, -side / 2, side / 2, -8, long - 8)
    bolt += _along_y(_rod(5.6, 12, 48)).translate((0, 4, 20))
    return m3.Manifold.compose([body, bolt])


def union_nut() -> Solid:
    """Hexagon nut with a 1-inch pipe thread inside: 33.25 mm over the crests, 2.309 mm to a turn, rounded."""
    crest, root, pitch, high = 33.249, 30.291, 2.309, 16.0
    nut = _rod(46 / np.cos(np.pi / 6), high, 6)
    mean, deep = (crest + root) / 4, (crest - root) / 4
    tap = helical(lambda phase: mean + deep * np.cos(2 * np.pi * phase), pitch, high + 2, 64)
    return nut - tap.translate((0, 0, -1)) - _rod(34.5, 1.2, 64).translate((0, 0, -0.2))


MAKERS = {
    "hose-arm": hose_arm,
    "hose-arm-rounded": lambda: hose_arm(3.0),
    "vent-hinge": vent_hinge,
    "m6-knob": m6_knob,
    "label-plate": label_plate,
    "trellis-clip": trellis_clip,
    "stay-bar": stay_bar,
    "stay-pawl": stay_pawl,
    "gate-latch": gate_latch,
    "union-nut": union_nut,
}


def main() -> None:
    PARTS.mkdir(exist_ok=True)
    for name, make in MAKERS.items():
        (PARTS / f"{name}.stl").write_bytes(stl_bytes(mesh_of(make()), name))


if __name__ == "__main__":
    main()
