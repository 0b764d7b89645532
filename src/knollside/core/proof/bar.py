"""The hole and pin bar: this job's own sizes, upright and lying, printed once, measured, learned from."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
from manifold3d import Manifold as Solid

from knollside.core.mesh.solid import mesh_of
from knollside.core.model import Refused
from knollside.core.proof.piece import SEGMENTS, Spot, TestPiece, rod

_WALL = 3.0


def hole_and_pin_bar(
    sizes: list[float], thickness: float = 6.0, pin_height: float = 8.0, least: int = 4, lying: tuple[float, ...] = ()
) -> TestPiece:
    """A flat bar with an upright hole and pin of each drawn diameter (mm), smallest first, and a block with lying
    holes of the sizes in ``lying``.

    A few spread sizes are added when the job has fewer than ``least``, so that
    one bar already tells shift from scatter. One corner is cut, to tell the
    ends apart.
    """
    wanted = sorted({round(s, 2) for s in sizes if 1.5 <= s <= 40.0})
    for extra in (4.0, 8.0, 6.0, 10.0, 3.0):
        if len(wanted) >= least:
            break
        if all(abs(extra - s) > 0.6 for s in wanted):
            wanted.append(extra)
    wanted = sorted(wanted)[:12]
    if not wanted:
        raise Refused("There is no round between 1.5 and 40 mm to make a bar for.")
    width = 2 * max(wanted) + 3 * _WALL
    x, spots, cutters, posts = _WALL + wanted[0] / 2, [], [], []
    for i, d in enumerate(wanted):
        hole_y, pin_y = width - _WALL - max(wanted) / 2, _WALL + max(wanted) / 2
        cutters.append(rod(d, thickness + 2).translate((x, hole_y, -1)))
        posts.append(rod(d, pin_height).translate((x, pin_y, thickness)))
        spots += [
            Spot(f"hole {i + 1}", "hole", d, (x, hole_y, thickness)),
            Spot(f"pin {i + 1}", "pin", d, (x, pin_y, thickness + pin_height)),
        ]
        gap = _WALL + 2.5
        x += d / 2 + gap + (wanted[i + 1] / 2 if i + 1 < len(wanted) else 0)
    length = x - 2.5
    corner = min(4.0, width / 6)
    outline = m3.CrossSection([np.array([(corner, 0), (length, 0), (length, width), (0, width), (0, corner)])])
    body = Solid.extrude(outline, thickness) - Solid.batch_boolean(cutters, m3.OpType.Add)
    # Posts start inside the bar so that the union is one solid.
    body = Solid.batch_boolean([body, *(p.translate((0, 0, -0.5)) + p for p in posts)], m3.OpType.Add)
    block, across = _lying_block(sorted({round(s, 2) for s in lying if 1.5 <= s <= 20})[:4], length, width)
    if block is not None:
        body = body + block
        spots += across
    mesh = mesh_of(body)
    order = {"upright": 0, "lying": 1, "plumb": 2}
    spots.sort(key=lambda s: (s.kind, order[s.axis], s.drawn))
    about = "A flat bar with an upright hole and pin of each size, and a block for holes that lie."
    cannot = "It cannot tell: fits after painting, or how a fit wears."
    if block is None:
        about = "A flat bar with an upright hole and pin of each size."
        cannot = "It cannot tell: holes lying on their side, fits after painting, or how a fit wears."
    return TestPiece("bar", "Hole and pin bar", mesh, tuple(spots), (), about, cannot)


def _lying_block(sizes: list[float], x0: float, width: float) -> tuple[Solid | None, list[Spot]]:
    """A block at the bar's far end with holes along X, each measured across and from top to bottom."""
    if not sizes:
        return None, []
    tall = max(sizes) + 2 * _WALL
    deep = 12.0
    holes: list[Solid] = []
    spots: list[Spot] = []
    y = _WALL
    for i, d in enumerate(sizes):
        y += d / 2
        holes.append(Solid.cylinder(deep + 2, d / 2, circular_segments=SEGMENTS).rotate((0, 90, 0)))
        holes[-1] = holes[-1].translate((x0 - 1.5, y, tall / 2))
        at = (x0 + deep - 0.5, y, tall / 2)
        spots.append(Spot(f"lying hole {i + 1}, across", "hole", d, at, "lying"))
        spots.append(Spot(f"lying hole {i + 1}, top to bottom", "hole", d, at, "plumb"))
        y += d / 2 + _WALL
    block = Solid.cube((deep, max(y, width), tall)).translate((x0 - 0.5, 0, 0))
    for h in holes:
        block = block - h
    return block, spots
