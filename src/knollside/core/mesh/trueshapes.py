"""Holes that start in mid-air, over a counterbore or supports, made to print (F7).

Shut by one layer, to be pierced afterwards (*skin*), or approached by two layers of straight bridges: first a slot as
wide as the hole, then a square, then the round (*steps*). Roofs of lying holes are in :mod:`bore`.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely

from knollside.core.mesh.bore import GRIP, Bore, Cut, bore_of, within
from knollside.core.model import Feature, Mesh, Refused


def cover(
    mesh: Mesh,
    f: Feature,
    to: float,
    features: tuple[Feature, ...],
    direction: tuple[float, float, float],
    kind: str,
    layer: float,
) -> list[Cut]:
    """Shut the lower end of an upright hole by one layer ('skin'), or step up to it in two ('steps'), where the hole
    has been brought to ``to`` mm already."""
    b = bore_of(mesh, f)
    scale = to / float(f.diameter or 1.0)
    b = replace(b, ring=b.ring * scale, radius=b.radius * scale)
    rise = float(b.turn[2] @ np.asarray(direction))
    if abs(rise) < 0.9:
        raise Refused(f"{f.title} lies; a skin or steps are for holes that stand upright.")
    up = rise > 0
    low = b.low if up else b.high
    if not (b.open_low if up else b.open_high):
        raise Refused(f"{f.title} is shut below; there is nothing to bridge.")
    height = (mesh.vertices - b.centre) @ b.turn[2]
    if abs(low - (height.min() if up else height.max())) < 1e-3:
        raise Refused(f"{f.title} starts on the bed; nothing hangs in the air there.")
    return _skin(b, up, layer) if kind == "skin" else _steps(mesh, b, f, features, up, layer)


def _skin(b: Bore, up: bool, layer: float) -> list[Cut]:
    z0, z1 = (b.low, b.low + layer) if up else (b.high - layer, b.high)
    disc = b.ring * (1 + GRIP / b.radius)
    whole = shapely.Polygon(b.ring)
    return [Cut(b.placed(disc, z0, z1), True, whole.area * layer, b, whole, handles=-1)]


def _steps(mesh: Mesh, b: Bore, f: Feature, features: tuple[Feature, ...], up: bool, layer: float) -> list[Cut]:
    wide = [g for g in features if g.id in f.beside and g.role in ("counterbore", "step") and g.diameter]
    at = b.low if up else b.high
    under = [g for g in wide if ((np.asarray(g.centre) - b.centre) @ b.turn[2] < at) == up]
    if not under:
        raise Refused(f"{f.title} has no counterbore below it; steps bridge from its rim. A skin would do.")
    reach = 0.5 * float(under[0].diameter or 0.0)
    if f.length is not None and f.length < 3 * layer:
        raise Refused(f"{f.title} is only {f.length:.1f} mm deep; two steps need more.")
    # A hair wider than the hole, and short of the counterbore's flats: rims that touch in a point are no clean mesh.
    flat = b.radius * 1.01
    disc = shapely.Point(0, 0).buffer(reach * 0.98, quad_segs=32)
    slot = shapely.intersection(shapely.box(-2 * reach, -flat, 2 * reach, flat), disc)
    square = shapely.box(-flat, -flat, flat, flat)
    local, out, hole = b.local(mesh), [], shapely.Polygon(b.ring)
    orientation = 1.0 if up else -1.0
    for k, profile in enumerate((slot, square)):
        near, far = at + orientation * k * layer, at + orientation * (k + 1) * layer
        # Each cut begins a hair below, in what is void by then: planes that only meet would leave a film between.
        solid = b.placed(profile, *sorted((near - orientation * 0.02, far)))
        predicted = -within(local, shapely.difference(profile, hole), b, *sorted((near, far)))
        out.append(Cut(solid, False, predicted, b, profile))
    return out
