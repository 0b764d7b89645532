"""Questions about layer outlines: are two alike, how far does a patch reach, how wide and long is it."""

from __future__ import annotations

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

_FACING = 1.0  # mm; a facing side is looked for at least this far, else twice as far as the near one


def alike(a: BaseGeometry, b: BaseGeometry) -> bool:
    """Whether two layers are the same outline: straight walls make most layers so."""
    return a is b or (abs(a.area - b.area) < 1e-6 and abs(a.length - b.length) < 1e-6 and a.bounds == b.bounds)


def farthest(patch: BaseGeometry, held: BaseGeometry) -> tuple[float, bool]:
    """How far the farthest place of ``patch`` is from what holds it, mm, and whether it is held on the facing side
    too. The place is on the rim, or, where the rim is held all round, at the middle of the widest circle inside."""
    rim = shapely.points(shapely.get_coordinates(shapely.segmentize(patch, max(0.4, patch.length / 200))))
    if patch.area > 4.0:
        rim = np.append(rim, shapely.get_point(shapely.maximum_inscribed_circle(patch, 0.1), 0))
    away = shapely.distance(rim, held)
    best = int(np.argmax(away))
    far, spot = float(away[best]), rim[best]
    near = shapely.get_coordinates(shapely.shortest_line(spot, held))
    if len(near) < 2 or far <= 0:
        return far, True
    out = near[0] + (near[0] - near[1]) * (_FACING / far if far < _FACING else 2.0)
    return far, bool(shapely.intersects(shapely.linestrings([near[0], out]), held))


def sides(shape: BaseGeometry) -> tuple[float, float]:
    """Short and long side of the least box around it, mm; nothing where it has no area."""
    box = shapely.oriented_envelope(shape)
    if box.geom_type != "Polygon":
        return 0.0, 0.0
    c = np.asarray(box.exterior.coords)
    a, b = float(np.linalg.norm(c[1] - c[0])), float(np.linalg.norm(c[2] - c[1]))
    return min(a, b), max(a, b)
