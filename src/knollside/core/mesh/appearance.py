"""What a picture of a mesh needs: smooth groups, soft normals, and a simplified stand-in for a huge one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.measured import dihedral
from knollside.core.mesh.topology import edges_of
from knollside.core.model import Array, Ints, Mesh

CREASE = np.radians(28)
DRAWN_AT_MOST = 60_000


@dataclass(frozen=True)
class Appearance:
    """Triangles to draw with the number of the original each stands for, its smooth ``group``,
    soft corner normals (3m, 3), and which faces are shaded softly."""

    mesh: Mesh
    original: Ints
    corner_of: Ints
    group: Ints
    normals: Array
    corner_normals: Array
    soft: np.ndarray


def appearance_of(mesh: Mesh) -> Appearance:
    """Groups by crease angle; above the limit, corners are gathered into cells for drawing only."""
    drawn, original, corner_of = _simplified(mesh)
    edges = edges_of(drawn)
    angle = np.abs(dihedral(drawn, edges))
    n = len(drawn.faces)
    link = edges.pair[angle < CREASE]
    label = connected_components(
        coo_matrix((np.ones(len(link), np.int8), (link[:, 0], link[:, 1])), shape=(n, n)), directed=False
    )[1].astype(np.int64)
    normals = drawn.normals
    # Soft normals: mean over the triangles of the same group at a corner.
    key = label[:, None] * (len(drawn.vertices) + 1) + drawn.faces
    _, where = np.unique(key.ravel(), return_inverse=True)
    total = np.zeros((where.max() + 1, 3))
    np.add.at(total, where, np.repeat(drawn.crosses, 3, axis=0))
    soft_normals = total[where]
    soft_normals /= np.maximum(np.linalg.norm(soft_normals, axis=1, keepdims=True), 1e-12)
    spread = np.einsum("ij,ij->i", soft_normals, np.repeat(normals, 3, axis=0)).reshape(-1, 3).min(axis=1)
    return Appearance(drawn, original, corner_of, label, normals, soft_normals, spread < 0.99999)


def _simplified(mesh: Mesh) -> tuple[Mesh, Ints, Ints]:
    if len(mesh.faces) <= DRAWN_AT_MOST:
        return mesh, np.arange(len(mesh.faces)), np.arange(len(mesh.vertices))
    low, size = mesh.bounds[0], float(mesh.size.max())
    for cells in (400, 300, 220, 160, 120, 90):
        place = np.floor((mesh.vertices - low) / size * cells).astype(np.int64)
        key = (place[:, 0] * (cells + 1) + place[:, 1]) * (cells + 1) + place[:, 2]
        _, first, label = np.unique(key, return_index=True, return_inverse=True)
        faces = label.ravel()[mesh.faces]
        good = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
        if good.sum() <= DRAWN_AT_MOST:
            break
    original = np.flatnonzero(good)
    return Mesh(mesh.vertices[first], faces[good]), original, first
