"""Gap ladders, the flare piece, the frame square and the hinge of three gaps: what a printer frees and is off."""

from __future__ import annotations

from manifold3d import Manifold as Solid

from knollside.core.model import Refused
from knollside.core.proof.piece import GapStep, Spot, TestPiece, box, gap_steps_of, notches, placed, rod

_PEG, _WALL = 6.0, 3.0


def gap_ladder(middle: float, layer: float, gap_steps: int = 7, step: float = 0.05) -> TestPiece:
    """Square pegs in square holes with gaps in steps round ``middle`` mm a side, and plates over a bar by whole
    layers. Each rung has its number in notches."""
    gaps = gap_steps_of(middle, gap_steps, step)
    pitch = _PEG + _WALL + 3.0
    frame = box(0, pitch * gap_steps + _WALL, 0, _PEG + 2 * _WALL + 1, 0, 5)
    bodies, found = [], []
    for k, g in enumerate(gaps):
        x = _WALL + k * pitch + 0.5
        frame = frame - box(x - g, x + _PEG + g, _WALL - g, _WALL + _PEG + g, -1, 6)
        bodies.append(box(x, x + _PEG, _WALL, _WALL + _PEG, 0, 8))
        found.append(GapStep(k + 1, "in the layer", g, (x + _PEG / 2, _WALL + _PEG / 2, 8.0)))
        for n in notches(k + 1, x - 0.8, _PEG + 2 * _WALL + 1, 0, 5):
            frame = frame - n
    y = _PEG + 2 * _WALL + 4
    base = box(0, pitch * 4 + _WALL, y, y + _PEG + 4, 0, 3)
    for k in range(4):
        up = 3 + (k + 1) * layer
        x = _WALL + k * pitch
        bodies.append(box(x, x + _PEG, y + 2, y + 6 + _PEG, up, up + 3))  # a lip to lift it by
        found.append(GapStep(k + 1, "across it", round((k + 1) * layer, 3), (x + _PEG / 2, y + _PEG / 2 + 2, up + 3)))
        for n in notches(k + 1, x, y, 0, 3):
            base = base - n
    return TestPiece(
        "ladder",
        "Gap ladder",
        placed(frame, base, *bodies),
        (),
        tuple(found),
        "Pegs in holes with wider and wider gaps, and plates over a bar by one to four layers. Push each peg, lift "
        "each plate with a finger: say which came free.",
        "It cannot tell: how a long hinge frees, or a gap under a slope.",
    )


def flare_piece(wide: float = 20.0) -> TestPiece:
    """A plain block, measured at its foot and half-way up, both ways."""
    block = box(0, wide, 0, wide * 0.6, 0, 8) - box(-1, 2, -1, 2, -1, 9)
    spots = []
    for name, d, at in (("long side", wide, (wide, wide * 0.3)), ("short side", wide * 0.6, (wide * 0.5, wide * 0.6))):
        spots.append(Spot(f"foot, {name}", "foot", d, (*at, 0.2)))
        spots.append(Spot(f"waist, {name}", "pin", d, (*at, 4.0)))
    return TestPiece(
        "flare",
        "Flare piece",
        placed(block),
        tuple(spots),
        (),
        "A block measured at its foot and half-way up: the difference is the first layers' flare.",
        "It cannot tell: the flare of another sheet, first-layer height or bed temperature.",
    )


def square_piece(drawn: float = 100.0, beam: float = 8.0) -> TestPiece:
    """A flat square frame to be measured along both sides and over both diagonals: what the printer's frame is off. Its
    front left corner has a notch inside."""
    inner = drawn - beam
    frame = box(0, drawn, 0, drawn, 0, 3) - box(beam, inner, beam, inner, -1, 4)
    mark = box(beam - 2, beam + 0.01, beam - 2, beam + 0.01, -1, 4)
    return TestPiece(
        "square",
        "Frame square",
        placed(frame - mark),
        (),
        (),
        "Measured along X and Y and over both diagonals, at Workshop under Square and scale. The notch inside is front "
        "left.",
        "It cannot tell: how square Z stands.",
    )


def three_hinges(middle: float, step: float = 0.1) -> TestPiece:
    """Three short hinges with cone points, their gaps a step narrower and wider than ``middle``; notches tell which."""
    bodies, found = [], []
    for k, g in enumerate(gap_steps_of(middle, 3, step)):
        y = k * 40.0
        for solid in _hinge(g, k + 1):
            bodies.append(solid.translate((0, y, 0)))
        found.append(GapStep(k + 1, "in the layer", g, (0.0, y + 15.0, 8.0)))
    return TestPiece(
        "hinges",
        "Hinge of three gaps",
        placed(*bodies),
        (),
        tuple(found),
        "Three hinges as the part has them, with three gaps. Turn each by hand; the narrowest that turns and does not "
        "rattle is yours.",
        "It cannot tell: how it turns after a thousand openings.",
    )


def _hinge(gap: float, number: int) -> tuple[Solid, Solid]:
    r, z = 4.0, 4.0

    def along(s: Solid) -> Solid:
        return s.rotate((-90, 0, 0))

    def point(base: float, at: float, up: bool) -> Solid:
        cone = Solid.cylinder(base, base, 0.01, circular_segments=96)
        return (cone.rotate((-90, 0, 0)) if up else cone.rotate((90, 0, 0))).translate((0, at, z))

    left = box(-14, -3, 0, 30, 0, 3) - along(rod(2 * r + 1.2, 14)).translate((0, 8, z))
    for y0 in (0.0, 22.0):
        left += along(rod(2 * r, 8)).translate((0, y0, z)) + box(-5, 0, y0, y0 + 8, 0, 4)
    left += point(2.6, 8, True) + point(2.6, 22, False)
    right = box(3, 14, 0, 30, 0, 3)
    for y0, y1 in ((-1.0, 8 + gap), (22 - gap, 31.0)):
        right -= along(rod(2 * r + 1.2, y1 - y0)).translate((0, y0, z))
    right += along(rod(2 * r, 14 - 2 * gap)).translate((0, 8 + gap, z)) + box(0, 5, 8 + gap, 22 - gap, 0, 4)
    lift = gap * 2**0.5
    right -= point(2.6 + lift, 8, True) + point(2.6 + lift, 22, False)
    for n in notches(number, -12, 30, 0, 3):
        left = left - n
    return left, right


def single_wall(line: float, side: float = 40.0, high: float = 15.0) -> TestPiece:
    """Four walls of one line each, without floor or roof: what they measure tells the flow. A notch is front left."""
    if not 0.2 <= line <= 2.0:
        raise Refused("A line is 0.2 to 2 mm wide.")
    ring = box(0, side, 0, side, 0, high) - box(line, side - line, line, side - line, -1, high + 1)
    ring = ring - box(3, 7, -1, line + 1, high - 2, high + 1)
    return TestPiece(
        "wall",
        "Single wall",
        placed(ring),
        (),
        (),
        f"One wall of {line:.2f} mm, no floor, roof or infill. Measure it at two places of each side, well above the "
        "bed, and type them at What went wrong: it tells the flow.",
        "It cannot tell: the flow at another heat or speed.",
    )


def roof_pads(count: int, side: float = 18.0, high: float = 5.0) -> TestPiece:
    """Pads side by side, each with its number in notches: each is given another flow, and tells whether its top closes.
    Raises :class:`Refused` for fewer than two or more than eight."""
    if not 2 <= count <= 8:
        raise Refused("Two to eight pads go side by side.")
    bodies = []
    for k in range(count):
        x = k * (side + 4)
        pad = box(x, x + side, 0, side, 0, high)
        for n in notches(k + 1, x + 2.4, 0, 0, high):
            pad = pad - n
        bodies.append(pad)
    return TestPiece(
        "pads",
        "Roof pads",
        placed(*bodies),
        (),
        (),
        f"{count} pads. Give pad 1 the lowest flow and each one more 3 % more, print them with your tops and infill, "
        "hold each to the light, and say at What went wrong which tops closed.",
        "It cannot tell: the flow of walls.",
    )


def supported_face(wide: float, deep: float, high: float = 8.0) -> TestPiece:
    """A small roof on a wall, as wide and deep as a face of the job that is held up: its support is what is tried."""
    if not (6 <= wide <= 40 and 6 <= deep <= 40):
        raise Refused("A supported face to try is 6 to 40 mm wide and deep.")
    wall = box(0, 3, 0, deep, 0, high + 2)
    return TestPiece(
        "face",
        "Supported face",
        placed(wall + box(0, 3 + wide, 0, deep, high, high + 2)),
        (),
        (),
        "A roof as large as a face of this part that is held up. Print it with supports and the gap to try, take them "
        "off, say at Support gap how they came off.",
        "It cannot tell: how supports come out of a place that a hand hardly reaches.",
    )
