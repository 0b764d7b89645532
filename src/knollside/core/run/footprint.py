"""What a part takes up of the bed: every layer's outline seen from above, its supports and its brim with it."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.mesh.solid import solid_of
from knollside.core.model import Mesh, Refused

_FINE = 0.01  # mm the outline is drawn simpler by, outward
_MOST = 4000  # corners of an outline


def footprint(lying: Mesh, brim: float = 0.0, supports: Iterable[BaseGeometry] = ()) -> BaseGeometry:
    """The shadow of a closed mesh that lies as it is printed, mm, with its ``supports``' outlines and a brim of so many
    mm. Never smaller than the truth. Raises :class:`Refused` for a mesh that is not closed."""
    solid = solid_of(lying)
    if solid.is_empty():
        raise Refused("The mesh is not closed: it has no outline from above. Mend it at Part first.")
    rings = [np.asarray(r) for r in solid.project().to_polygons()]
    shape = shapely.union_all([_outer(r) for r in rings if _area(r) > 0])
    holes = shapely.union_all([_outer(r) for r in rings if _area(r) < 0])
    whole = shapely.union_all([shapely.difference(shape, holes), *supports])
    if brim > 0:
        whole = shapely.buffer(whole, brim, quad_segs=8)
    return simple(whole)


def simple(shape: BaseGeometry) -> BaseGeometry:
    """The same outline with fewer corners, nowhere smaller and at most a fiftieth of a mm larger."""
    if shapely.get_num_coordinates(shape) < 60:
        return shape
    by = _FINE
    made = shapely.buffer(shapely.simplify(shape, by), by, quad_segs=2)
    while shapely.get_num_coordinates(made) > _MOST and by < 0.2:
        by *= 2
        made = shapely.buffer(shapely.simplify(shape, by), by, quad_segs=2)
    return made


def _outer(ring: np.ndarray) -> BaseGeometry:
    return shapely.buffer(shapely.Polygon(ring), 0)


def _area(ring: np.ndarray) -> float:
    x, y = ring[:, 0], ring[:, 1]
    return 0.5 * float(x @ np.roll(y, -1) - y @ np.roll(x, -1))
