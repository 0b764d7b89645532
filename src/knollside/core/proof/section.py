"""A test section: a closed piece of the part round chosen features, lying as the part will (T1)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from manifold3d import Manifold as Solid

from knollside.core.mesh.solid import mesh_of, solid_of
from knollside.core.mesh.topology import bodies_of, edges_of
from knollside.core.model import Array, Feature, Mesh, Refused


@dataclass(frozen=True)
class Section:
    """The piece in the part's own frame (so that it lies the same way), its share of the volume, and what it holds."""

    mesh: Mesh
    share: float
    bodies: int
    features: tuple[str, ...]
    box: Array


def box_round(mesh: Mesh, features: tuple[Feature, ...], margin: float) -> Array:
    """Corners (2, 3) of a box round some features with ``margin`` mm of the part about them."""
    if not features:
        raise Refused("Choose at least one feature to cut a test section round.")
    points = np.concatenate([mesh.vertices[np.unique(mesh.faces[f.faces])] for f in features])
    return np.array([points.min(axis=0) - margin, points.max(axis=0) + margin])


def section_box(mesh: Mesh, features: tuple[Feature, ...], margin: float = 4.0) -> Section:
    """What of the part lies in a box round the features. Raises :class:`Refused` where that is nearly all of it."""
    corners = box_round(mesh, features, margin)
    low, high = corners
    cutter = Solid.cube(tuple(high - low)).translate(tuple(low))
    return _made(mesh, solid_of(mesh) ^ cutter, features, corners)


def section_plane(mesh: Mesh, features: tuple[Feature, ...], normal: Array, offset: float) -> Section:
    """What of the part lies on the far side of a plane (normal . x >= offset, mm)."""
    length = float(np.linalg.norm(normal))
    kept = solid_of(mesh).trim_by_plane(tuple(np.asarray(normal, float) / length), float(offset) / length)
    return _made(mesh, kept, features, mesh.bounds)


def _made(mesh: Mesh, solid: Solid, features: tuple[Feature, ...], corners: Array) -> Section:
    made = mesh_of(solid)
    if len(made.faces) == 0:
        raise Refused("Nothing of the part is left there.")
    if not (edges_of(made).count == 2).all():
        raise Refused("The section would not be closed; move the cut a little.")
    share = made.volume / mesh.volume
    if share > 0.9:
        raise Refused(
            f"The section would be {100 * share:.0f} % of the part; print the part itself, or take less margin."
        )
    return Section(made, share, bodies_of(made)[0], tuple(f.id for f in features), corners)
