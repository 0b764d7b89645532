"""The hole and pin bar: this job's own sizes, printed once, measured, learned from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.mesh.load import weld
from knollside.core.model import Mesh, Refused

_SEGMENTS = 96
_WALL = 3.0


@dataclass(frozen=True)
class Spot:
    """One place to measure on the bar: kind, drawn diameter, and where its axis stands (x, y)."""

    name: str
    kind: str
    drawn: float
    at: tuple[float, float]


@dataclass(frozen=True)
class Bar:
    mesh: Mesh
    spots: tuple[Spot, ...]
    grams_solid: float


def hole_and_pin_bar(sizes: list[float], thickness: float = 6.0, pin_height: float = 8.0, least: int = 4) -> Bar:
    """A flat bar with an upright hole and pin of each drawn diameter (mm), smallest first.

    A few spread sizes are added when the job has fewer than ``least``, so that
    one bar already tells shift from scatter. One corner is cut, to tell the
    ends apart.
    """
    import manifold3d as m3

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
        cutters.append(
            m3.Manifold.cylinder(thickness + 2, d / 2, circular_segments=_SEGMENTS).translate((x, hole_y, -1))
        )
        posts.append(
            m3.Manifold.cylinder(pin_height, d / 2, circular_segments=_SEGMENTS).translate((x, pin_y, thickness))
        )
        spots += [Spot(f"hole {i + 1}", "hole", d, (x, hole_y)), Spot(f"pin {i + 1}", "pin", d, (x, pin_y))]
        gap = _WALL + 2.5
        x += d / 2 + gap + (wanted[i + 1] / 2 if i + 1 < len(wanted) else 0)
    length = x - 2.5
    corner = min(4.0, width / 6)
    outline = m3.CrossSection([np.array([(corner, 0), (length, 0), (length, width), (0, width), (0, corner)])])
    body = m3.Manifold.extrude(outline, thickness) - m3.Manifold.batch_boolean(cutters, m3.OpType.Add)
    # Posts start inside the bar so that the union is one solid.
    body = m3.Manifold.batch_boolean([body, *(p.translate((0, 0, -0.5)) + p for p in posts)], m3.OpType.Add)
    raw = body.to_mesh64()
    mesh = weld(np.asarray(raw.vert_properties, float)[:, :3], np.asarray(raw.tri_verts, np.int64))
    spots.sort(key=lambda s: (s.kind, s.drawn))
    return Bar(mesh, tuple(spots), mesh.volume * 1.25e-3)
