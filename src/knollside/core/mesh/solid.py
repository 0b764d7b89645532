"""Between our meshes and the solids of the boolean library."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.needles import without_needles
from knollside.core.mesh.weld import weld
from knollside.core.model import Array, Ints, Mesh, Refused

_STUB = 1e-5  # mm


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
    f = _without_stubs(made.vertices, made.faces)
    real = (f[:, 0] != f[:, 1]) & (f[:, 1] != f[:, 2]) & (f[:, 2] != f[:, 0])
    return Mesh(made.vertices, without_needles(made.vertices, f[real])[0])


def _without_stubs(vertices: Array, faces: Ints) -> Ints:
    """Edges shorter than a hundredth of a thousandth drawn together: two cuts met there but for rounding."""
    a, b = faces, np.roll(faces, -1, axis=1)
    short = (np.linalg.norm(vertices[b] - vertices[a], axis=2) < _STUB) & (a != b)
    if not short.any():
        return faces
    n = len(vertices)
    graph = coo_matrix((np.ones(int(short.sum()), np.int8), (a[short], b[short])), shape=(n, n))
    label = connected_components(graph, directed=False)[1]
    first = np.full(int(label.max()) + 1, n, np.int64)
    np.minimum.at(first, label, np.arange(n))
    return np.asarray(first[label][faces])
