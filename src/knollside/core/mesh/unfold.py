"""Flats whose triangles folded over when a rim moved, triangulated anew within the same outline."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.model import Array, Mesh, square_to


def unfold(mesh: Mesh, vertices: Array, touched: np.ndarray) -> tuple[Array, bool]:
    """Faces for the moved ``vertices``: flats whose triangles folded over are triangulated anew.

    A rim that grows can pass a neighbour's long edge; the flat's outline and corners stay as they are.
    The second answer says that some flat stayed folded.
    """
    faces = mesh.faces.copy()
    near = touched[faces].any(axis=1)
    now = Mesh(vertices, faces)
    folded = near & (np.einsum("ij,ij->i", now.crosses, mesh.normals) <= 1e-12) & (mesh.areas > 1e-9)
    done = np.zeros(len(faces), bool)
    for t in np.flatnonzero(folded):
        if done[t]:
            continue
        n = mesh.normals[t]
        level = np.abs((mesh.triangles - mesh.triangles[t, 0]) @ n).max(axis=1) < 1e-5
        flat = _joined(faces, np.flatnonzero(level & (mesh.normals @ n > 0.999999)), int(t))
        done[flat] = True
        part = flat[touched[faces[flat]].any(axis=1)]
        while True:
            made = _triangulated(vertices, faces[part], n)
            if made is not None and (Mesh(vertices, made).crosses @ n > 0).all():
                faces[part] = made
                break
            if len(part) == len(flat):
                return faces, True
            part = flat[np.isin(faces[flat], faces[part]).any(axis=1)]  # one ring more
    return faces, False


def _joined(faces: Array, among: Array, start: int) -> Array:
    """Those of ``among`` that hang together with ``start`` by shared edges."""
    edge = np.sort(faces[among][:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)
    _, number = np.unique(edge, axis=0, return_inverse=True)
    who = np.repeat(np.arange(len(among)), 3)
    graph = coo_matrix((np.ones(len(who)), (who, number.ravel()))).tocsr()
    _, label = connected_components(graph @ graph.T)
    return np.asarray(among[label == label[np.searchsorted(among, start)]])


def _triangulated(vertices: Array, faces: Array, normal: Array) -> Array | None:
    """The same flat piece, outlined by its directed boundary, cut into as many triangles; None where it cannot be."""
    edges = faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2)
    inner = {(int(b), int(a)) for a, b in edges}
    follow: dict[int, int] = {}
    for a, b in edges:
        if (int(a), int(b)) not in inner:
            if int(a) in follow:
                return None  # it pinches to a point
            follow[int(a)] = int(b)
    loops = []
    while follow:
        first, at = next(iter(follow.items()))
        loop = [first]
        del follow[first]
        while at != first:
            loop.append(at)
            at = follow.pop(at)
        loops.append(loop)
    frame = np.stack(square_to(normal), axis=1)
    made = m3.triangulate([vertices[loop] @ frame for loop in loops])
    if len(made) != len(faces):
        return None  # corners inside it
    return np.asarray(np.array([i for loop in loops for i in loop])[np.asarray(made)])
