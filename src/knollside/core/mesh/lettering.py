"""Raised and sunk characters: shallow islands on a larger flat, taken as one thing and left alone by every edit."""

from __future__ import annotations

import numpy as np
import shapely
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.patches import Patches
from knollside.core.mesh.topology import Edges
from knollside.core.model import Ints, Mesh, square_to

DEPTH = 1.5  # mm; higher than that it is a boss, deeper a pocket
_SHARE = 0.5  # of the ground's area an island may cover
_GROUNDS = 12  # flats looked at, largest first
_LEVEL = 0.02


def find_lettering(mesh: Mesh, patches: Patches, edges: Edges, flats: list[int]) -> list[tuple[int, Ints]]:
    """Per ground flat (its patch number) the triangles of all characters on it.

    An island hangs on the rest of the part by the ground flat alone and stays within 1.5 mm of its plane. Where all of
    them are convex they are bosses, holes or pockets, no letters.
    """
    out = []
    order = sorted(flats, key=lambda p: -patches.area[p])[:_GROUNDS]
    taken = np.zeros(len(mesh.faces), bool)
    for p in order:
        normal = patches.normal[p]
        height = (mesh.vertices - patches.centre[p]) @ normal
        off = np.abs(height)[mesh.faces].max(axis=1)
        ground = patches.of_face == p
        near = (off < DEPTH + _LEVEL) & ~ground & ~taken
        if not near.any():
            continue
        found = _islands(mesh, edges, ground, near, normal, height)
        if all(_boss(mesh, i, normal) for i in found):
            continue
        covered = sum(mesh.areas[i][np.abs(mesh.normals[i] @ normal) > 0.9].sum() for i in found)
        if found and covered < _SHARE * patches.area[p]:
            faces = np.concatenate(found)
            taken[faces] = True
            out.append((p, faces))
    return out


def _islands(mesh: Mesh, edges: Edges, ground: Ints, near: Ints, normal: np.ndarray, height: np.ndarray) -> list[Ints]:
    """Connected pieces of ``near`` that touch the ground and nothing else."""
    a, b = edges.pair[:, 0], edges.pair[:, 1]
    both = near[a] & near[b]
    n = len(mesh.faces)
    graph = coo_matrix((np.ones(int(both.sum()), np.int8), (a[both], b[both])), shape=(n, n))
    label = connected_components(graph, directed=False)[1]
    # What touches anything that is neither ground nor near reaches farther than a letter does.
    mixed = near[a] != near[b]
    inner = np.where(near[a], a, b)[mixed]
    outer = np.where(near[a], b, a)[mixed]
    reaches = np.unique(label[inner[~ground[outer]]])
    stands = np.unique(label[inner[ground[outer]]])
    good = np.setdiff1d(stands, reaches)
    out = []
    for k in good:
        faces = np.flatnonzero((label == k) & near)
        level = np.abs(height[mesh.faces[faces]]).max()
        # A flat at another height is what one reads; without it, it is only a groove or a ridge.
        caps = np.abs(mesh.normals[faces] @ normal) > 0.999
        if level > 0.05 and caps.any():
            out.append(faces)
    return out


def _boss(mesh: Mesh, faces: Ints, normal: np.ndarray) -> bool:
    """Whether an island is one cap of convex outline: a boss, a hole or a pocket. A character has a hollow side."""
    cap = faces[np.abs(mesh.normals[faces] @ normal) > 0.999]
    points = mesh.vertices[np.unique(mesh.faces[cap])]
    frame = np.stack(square_to(normal), axis=1)
    hull = shapely.MultiPoint(points @ frame).convex_hull.area
    return bool(float(mesh.areas[cap].sum()) > 0.97 * hull)
