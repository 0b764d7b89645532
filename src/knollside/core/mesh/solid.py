"""Between our meshes and the solids of the boolean library."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.load import weld
from knollside.core.model import Array, Ints, Mesh, Refused

_STUB = 1e-5  # mm
_NO_AREA = 2e-8  # of the longest edge squared


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
    return Mesh(made.vertices, _without_needles(made.vertices, f[real]))


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


def _without_needles(vertices: Array, faces: Ints) -> Ints:
    """Triangles of no area, whose one corner lies on their longest edge, given to the neighbour across that edge: both
    are cut the other way. Needles stand where rims of two cuts lie in one plane."""
    faces = faces.copy()
    for _ in range(4):
        mesh = Mesh(vertices, faces)
        long = np.linalg.norm(np.roll(mesh.triangles, -1, axis=1) - mesh.triangles, axis=2)
        needles = np.flatnonzero(mesh.areas <= _NO_AREA * long.max(axis=1) ** 2)
        if not len(needles):
            break
        at = {
            (int(a), int(b)): int(t) for t, row in enumerate(faces) for a, b in zip(row, np.roll(row, -1), strict=True)
        }
        touched: set[int] = set()
        for t in needles:
            e = int(np.argmax(long[t]))
            i, j, k = (int(faces[t, (e + q) % 3]) for q in range(3))
            other = at.get((j, i))
            if other is None or t in touched or other in touched:
                continue
            far = next(int(v) for v in faces[other] if v not in (i, j))
            # An edge there already would become one of four triangles.
            if far == k or (k, far) in at or (far, k) in at:
                continue
            faces[t], faces[other] = (i, far, k), (far, j, k)
            at[far, k], at[k, far] = int(t), int(other)
            touched |= {int(t), other}
        if not touched:
            break
    return faces
