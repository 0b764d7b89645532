"""Faces of one body that look at another, and moving them along their normals with sharp edges kept.

Each corner goes by the least-squares solution of n . d = delta over the flats that meet there: delta for those that
move, nothing for the others (docs/methods.md 7.13).
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from knollside.core.mesh.measured import dihedral
from knollside.core.mesh.patches import Patches, patches_of
from knollside.core.mesh.topology import edges_of
from knollside.core.mesh.unfold import unfold
from knollside.core.model import Array, Ints, Mesh, Refused

_MOST_SPOTS = 400_000
_CREASE = np.radians(20)
_FACING = 0.6  # cosine: how squarely a face must look at the other body


def facing(mesh: Mesh, mine: Ints, other: Ints, reach: float, gap: float, share: float = 0.5) -> Ints:
    """Triangles among ``mine`` whose whole surface, a flat or a round, or most of it, looks at ``other`` within
    ``reach`` mm; ``gap`` is about how far off it is, ``share`` how much of a surface must look."""
    label = _smooth(mesh)
    spots = _spots(mesh, other, max(0.5 * gap, 0.1))
    middle = mesh.triangles[mine].mean(axis=1)
    away, near = (np.asarray(v) for v in cKDTree(spots).query(middle, distance_upper_bound=reach))
    hit = np.isfinite(away)
    toward = np.zeros((len(mine), 3))
    toward[hit] = (spots[near[hit]] - middle[hit]) / np.maximum(away[hit], 1e-9)[:, None]
    looks = hit & (np.einsum("ij,ij->i", toward, mesh.normals[mine]) > _FACING)
    # A surface moves as a whole or not at all: more than half of its area must look. Moved in part, a round would
    # tear at the edge of the part.
    area, which = mesh.areas[mine], label[mine]
    count = int(label.max()) + 1
    seen = np.bincount(which, area * looks, minlength=count)
    whole = np.bincount(which, area, minlength=count)
    chosen = seen > share * np.maximum(whole, 1e-12)
    return np.asarray(mine[chosen[which]])


def _smooth(mesh: Mesh) -> Ints:
    """Number of the smooth surface of each triangle: flats, rounds and cones by themselves."""
    edges = edges_of(mesh)
    link = edges.pair[np.abs(dihedral(mesh, edges)) < _CREASE]
    n = len(mesh.faces)
    graph = coo_matrix((np.ones(len(link), np.int8), (link[:, 0], link[:, 1])), shape=(n, n))
    return np.asarray(connected_components(graph, directed=False)[1].astype(np.int64))


def _spots(mesh: Mesh, faces: Ints, apart: float) -> Array:
    """Points spread over some triangles, corners and middles among them."""
    tri, area = mesh.triangles[faces], mesh.areas[faces]
    count = int(min(max(area.sum() / apart**2, 1000), _MOST_SPOTS))
    rng = np.random.default_rng(len(faces))  # the same spots for the same mesh
    pick = rng.choice(len(tri), count, p=area / area.sum())
    u = rng.random((count, 2))
    u = np.where(u.sum(axis=1, keepdims=True) > 1, 1 - u, u)
    inner = tri[pick, 0] + u[:, :1] * (tri[pick, 1] - tri[pick, 0]) + u[:, 1:] * (tri[pick, 2] - tri[pick, 0])
    return np.vstack([inner, tri.reshape(-1, 3), tri.mean(axis=1)])


def move_faces(mesh: Mesh, faces: Ints, by: float) -> Mesh:
    """The mesh with ``faces`` moved ``by`` mm along their normals, outward where positive.

    Raises :class:`Refused` where a corner would have to jump much farther than ``by``: flats that meet too flat to
    be told apart.
    """
    patches = patches_of(mesh)
    moves = np.zeros(patches.count, bool)
    moves[patches.of_face[faces]] = True
    corners = np.unique(mesh.faces[faces])
    shift = _shifts(mesh, patches, moves, corners, by)
    far = np.linalg.norm(shift, axis=1).max(initial=0.0)
    if far > 6 * abs(by) + 1e-9:
        raise Refused(f"A corner would have to move {far:.2f} mm for faces to move {abs(by):.2f}; do it in the model.")
    vertices = mesh.vertices.copy()
    vertices[corners] += shift
    touched = np.zeros(len(vertices), bool)
    touched[corners] = True
    return Mesh(vertices, unfold(mesh, vertices, touched)[0])


def _shifts(mesh: Mesh, patches: Patches, moves: np.ndarray, corners: Ints, by: float) -> Array:
    """Displacement of each corner (c, 3) by regularised normal equations over the flats that meet there."""
    group = _together(mesh, corners, 0.5 * abs(by))
    at = np.full(len(mesh.vertices), -1, np.int64)
    at[corners] = group
    face, k = np.nonzero(at[mesh.faces] >= 0)
    who, flat = at[mesh.faces[face, k]], patches.of_face[face]
    # A flat that lies within one such knot (the blunt tip of a cone) goes where its neighbours take it.
    knot = at[mesh.faces]
    inside = (knot[:, 0] >= 0) & (knot[:, 0] == knot[:, 1]) & (knot[:, 1] == knot[:, 2])
    who, flat = who[~inside[face]], flat[~inside[face]]
    # Each flat counts once at a corner, however many of its triangles meet there.
    pair = np.unique(np.c_[who, flat], axis=0)
    n = patches.normal[pair[:, 1]]
    good = np.linalg.norm(n, axis=1) > 0.5
    pair, n = pair[good], n[good]
    delta = np.where(moves[pair[:, 1]], by, 0.0)
    count = int(group.max()) + 1
    normal = np.zeros((count, 3, 3))
    right = np.zeros((count, 3))
    np.add.at(normal, pair[:, 0], n[:, :, None] * n[:, None, :])
    np.add.at(right, pair[:, 0], n * delta[:, None])
    # The least move where flats leave a direction free.
    value, vector = np.linalg.eigh(normal)
    inverse = np.where(value > 1e-3, 1 / np.maximum(value, 1e-12), 0.0)
    return np.asarray(np.einsum("cij,cj,ckj,ck->ci", vector, inverse, vector, right))[group]


def _together(mesh: Mesh, corners: Ints, apart: float) -> Ints:
    """Number of the knot of each corner: those joined by edges shorter than ``apart`` move as one."""
    edges = edges_of(mesh).corners
    at = np.full(len(mesh.vertices), -1, np.int64)
    at[corners] = np.arange(len(corners))
    short = np.linalg.norm(mesh.vertices[edges[:, 0]] - mesh.vertices[edges[:, 1]], axis=1) < apart
    link = at[edges[short]]
    link = link[(link >= 0).all(axis=1)]
    n = len(corners)
    graph = coo_matrix((np.ones(len(link), np.int8), (link[:, 0], link[:, 1])), shape=(n, n))
    return np.asarray(connected_components(graph, directed=False)[1].astype(np.int64))
