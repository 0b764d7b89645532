"""First-layer flare taken off: bottom edges and hole mouths drawn in, and nothing else (F3).

The slice of the first layers less the same slice shrunk by the flare is cut off as a solid; the cutter is turned to
the part, so that corners it does not touch stay exactly as they are.
"""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d as m3
import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.solid import mesh_of, solid_of
from knollside.core.mesh.topology import bodies_of, stands_in
from knollside.core.model import Mesh, Refused, rotation_to_up

_LEAST_LEFT = 0.3  # of an island's area that must be left standing on the bed

FLARES = (0.01, 2.0)  # mm a side


@dataclass(frozen=True)
class Relieved:
    """The mesh with ``by`` mm taken off its lowest ``height`` mm; volume foretold and found, mm3; corners kept."""

    mesh: Mesh
    by: float
    height: float
    predicted: float
    found: float
    untouched: int


def take_flare_off(mesh: Mesh, direction: tuple[float, float, float], by: float, height: float) -> Relieved:
    """Draw the lowest ``height`` mm in by ``by`` mm all round, holes' mouths too.

    Raises :class:`Refused` where an island on the bed would lose most of its foot, where bodies would change, or
    where the volume does not come out as foretold.
    """
    if not (0 < by <= FLARES[1] and 0 < height <= 5):
        raise Refused(f"A flare of {by:g} mm over {height:g} mm is not one: up to {FLARES[1]:g} mm, over up to 5 mm.")
    turn = rotation_to_up(direction)
    turned = mesh.turned(turn)
    low, high = (float(v) for v in turned.bounds[:, 2])
    if height > 0.5 * (high - low):
        raise Refused(f"The part is only {high - low:.1f} mm high; a flare of {height:g} mm would be half of it.")
    foot = polygon_of(cut(turned, np.array([low + 0.5 * height])).at(0))
    kept = shapely.buffer(foot, -by, join_style="mitre", mitre_limit=2.0)
    for island in shapely.get_parts(foot):
        left = shapely.intersection(island, kept).area
        if left < _LEAST_LEFT * island.area:
            at = shapely.point_on_surface(island)
            raise Refused(
                f"A foot of {island.area:.0f} mm² at ({at.x:.0f}, {at.y:.0f}) would lose most of itself; it is too "
                "thin for that."
            )
    solid = solid_of(mesh)
    # Below the bed the cutter has room, so that no skin is left.
    ring = shapely.difference(shapely.buffer(foot, 0.5 * by + 0.1, join_style="mitre"), kept)
    cutter = m3.Manifold.extrude(_section(ring), height + 1.0).translate((0, 0, low - 1.0))
    frame = np.c_[turn.T, np.zeros(3)]
    out = mesh_of(solid - cutter.transform(frame))
    predicted = -_volume_within(turned, ring, low, height)
    found = out.volume - mesh.volume
    if bodies_of(out)[0] != bodies_of(mesh)[0]:
        raise Refused("Taken off so, a body would be lost or torn; nothing was changed.")
    if abs(found - predicted) > 0.02 * abs(predicted) + 0.05:
        raise Refused(
            f"The volume would change by {found:.2f} mm³ where {predicted:.2f} was foretold: the foot is not upright."
        )
    same = int(stands_in(out.vertices, mesh.vertices).sum())
    return Relieved(out, by, height, predicted, found, same)


def _volume_within(turned: Mesh, ring: BaseGeometry, low: float, height: float) -> float:
    """What of the part lies within ``ring`` in the lowest ``height`` mm, by slices (Gauss-Legendre)."""
    x, w = np.polynomial.legendre.leggauss(8)
    levels = low + (x + 1) / 2 * height
    cuts = cut(turned, levels)
    areas = [shapely.intersection(polygon_of(cuts.at(k)), ring).area for k in range(len(levels))]
    return float(np.dot(w / 2, areas) * height)


def _section(shape: BaseGeometry) -> m3.CrossSection:
    rings = []
    for p in shapely.get_parts(shape):
        if p.geom_type == "Polygon" and not p.is_empty:
            rings += [np.asarray(r.coords)[:-1, :2] for r in (p.exterior, *p.interiors)]
    return m3.CrossSection(rings, m3.FillRule.EvenOdd)
