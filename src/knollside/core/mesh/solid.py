"""Between our meshes and the solids of the boolean library."""

from __future__ import annotations

import manifold3d as m3
import numpy as np

from knollside.core.mesh.load import weld
from knollside.core.model import Mesh, Refused


def solid_of(mesh: Mesh) -> m3.Manifold:
    """The mesh as a solid; raises :class:`Refused` where it is not closed."""
    made = m3.Manifold(m3.Mesh64(mesh.vertices, mesh.faces.astype(np.uint64)))
    if made.is_empty():
        raise Refused("This mesh is not closed; mend it at Part first.")
    return made


def mesh_of(solid: m3.Manifold) -> Mesh:
    """The solid as a welded mesh."""
    raw = solid.to_mesh64()
    made = weld(np.asarray(raw.vert_properties, float)[:, :3], np.asarray(raw.tri_verts, np.int64))
    # Where two cuts met within rounding, welding shut an edge: its two triangles are none.
    f = made.faces
    real = (f[:, 0] != f[:, 1]) & (f[:, 1] != f[:, 2]) & (f[:, 2] != f[:, 0])
    return Mesh(made.vertices, f[real])
