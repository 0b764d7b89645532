"""Raised and sunk characters: shallow islands on a larger flat, taken as one thing and left alone by every edit."""

from __future__ import annotations

import numpy as np
import shapely
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.recognition.skin import Skin
from knollside.core.mesh.topology import Edges
from knollside.core.model import Ints, square_to

DEPTH = 1.5  # mm; higher than that it is a boss, deeper a pocket
_SHARE = 0.5  # of the ground's area an island may cover
_GROUNDS = 12  # flats looked at, largest first
_LEVEL = 0.02


def find_lettering(skin: Skin, flats: list[int]) -> list[tuple[int, Ints]]:
    """Per ground flat (its patch number) the triangles of all characters on it.

    An island hangs on the rest of the part by the ground flat alone and stays within 1.5 mm of its plane. Where all of
    them are convex they are bosses, holes or pockets, no letters.
    """
    out = []
    mesh, patches, edges = skin.mesh, skin.patches, skin.edges
    order = sorted(flats, key=lambda p: -patches.area[p])[:_GROUNDS]
    taken = np.zeros(len(mesh.faces), bool)
    for p in order:
        normal = patches.normal[p]
        height = (mesh.vertices - patches.centre[p]) @ normal
        ground = patches.of_face == p
        near = (np.abs(height) < DEPTH + _LEVEL)[mesh.faces].all(axis=1) & ~ground & ~taken
        if not near.any():
            continue
        found = _islands(skin, edges, ground, near, normal, height)
        if all(_boss(skin, i, normal) for i in found):
            continue
        covered = sum(skin.areas[i][np.abs(skin.normals[i] @ normal) > 0.9].sum() for i in found)
        if found and covered < _SHARE * patches.area[p]:
            faces = np.concatenate(found)
            taken[faces] = True
            out.append((p, faces))
    return out


def _islands(skin: Skin, edges: Edges, ground: Ints, near: Ints, normal: np.ndarray, height: np.ndarray) -> list[Ints]:
    """Connected pieces of ``near`` that touch the ground and nothing else."""
    a, b = edges.pair[:, 0], edges.pair[:, 1]
    both = near[a] & near[b]
    mesh = skin.mesh
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
        caps = np.abs(skin.normals[faces] @ normal) > 0.999
        if level > 0.05 and caps.any():
            out.append(faces)
    return out


def _boss(skin: Skin, faces: Ints, normal: np.ndarray) -> bool:
    """Whether an island is one cap of convex outline: a boss, a hole or a pocket. A character has a hollow side."""
    cap = faces[np.abs(skin.normals[faces] @ normal) > 0.999]
    points = skin.mesh.vertices[np.unique(skin.mesh.faces[cap])]
    frame = np.stack(square_to(normal), axis=1)
    hull = shapely.MultiPoint(points @ frame).convex_hull.area
    return bool(float(skin.areas[cap].sum()) > 0.97 * hull)
