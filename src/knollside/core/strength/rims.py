"""Where an idealised hold ends, and where a part is notched: lines at which the stress itself has no bound."""

from __future__ import annotations

import numpy as np

from knollside.core.mesh.topology import edges_of
from knollside.core.model import Array, Ints, Mesh, square_to

SHARP = np.cos(np.radians(20))  # faces that meet at more than this are an edge, not a facet of a round


def rim_of(mesh: Mesh, faces: Ints, spacing: float) -> Array:
    """Points (n, 3) about ``spacing`` mm apart along the outline of a set of faces."""
    mine = np.zeros(len(mesh.faces), np.bool_)
    mine[faces] = True
    edges = edges_of(mesh)
    one = mine[edges.pair[:, 0]] != mine[edges.pair[:, 1]]
    return along(mesh, edges.corners[edges.pair_edge[one]], spacing)[0]


def along(mesh: Mesh, ends: Ints, spacing: float) -> tuple[Array, Ints]:
    """Points along mesh edges (e, 2), ends left out, and which edge each lies on."""
    a, b = mesh.vertices[ends[:, 0]], mesh.vertices[ends[:, 1]]
    count = np.maximum(np.ceil(np.linalg.norm(b - a, axis=1) / spacing).astype(int), 1)
    which = np.repeat(np.arange(len(ends)), count)
    step = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
    t = ((step + 0.5) / count[which])[:, None]
    return np.asarray(a[which] + t * (b - a)[which]).reshape(-1, 3), which


def circle(centre: Array, axis: Array, radius: float, spacing: float) -> Array:
    """Points around a circle, (n, 3)."""
    n = max(int(np.ceil(2 * np.pi * radius / spacing)), 8)
    u, v = square_to(axis)
    t = 2 * np.pi * np.arange(n) / n
    return np.asarray(centre + radius * (np.outer(np.cos(t), u) + np.outer(np.sin(t), v)))


def inner_edges(mesh: Mesh, spacing: float) -> tuple[Array, Array, Array]:
    """Points along the part's sharp inner edges, with the outward normals (n, 3) of the two faces that meet there."""
    edges = edges_of(mesh)
    one, two = edges.pair.T
    n1, n2 = mesh.normals[one], mesh.normals[two]
    # A corner of the second face that is not on the edge lies on the outer side of the first where the edge is inner.
    ends = edges.corners[edges.pair_edge]
    third = mesh.faces[two]
    off = (third != ends[:, :1]) & (third != ends[:, 1:])
    apex = mesh.vertices[third[np.arange(len(third)), off.argmax(axis=1)]]
    inner = np.einsum("ij,ij->i", apex - mesh.vertices[ends[:, 0]], n1) > 1e-9
    mine = np.flatnonzero(inner & (np.einsum("ij,ij->i", n1, n2) < SHARP))
    points, which = along(mesh, ends[mine], spacing)
    return points, n1[mine[which]], n2[mine[which]]


def fan(points: Array, one: Array, two: Array, radius: float, rays: int = 7) -> tuple[Array, Array]:
    """Points (n * rays, 3) at ``radius`` mm round inner edges, from under one face to under the other, and the way
    back to the edge: a notch breaks along the ray that is worst, which lies under neither face."""
    axis = np.cross(one, two)
    axis /= np.maximum(np.linalg.norm(axis, axis=1, keepdims=True), 1e-12)
    turn = np.arccos(np.clip(np.einsum("ij,ij->i", one, two), -1, 1))
    across = np.cross(axis, one)
    angle = np.linspace(0, 1, rays)[None] * turn[:, None]
    way = -(np.cos(angle)[:, :, None] * one[:, None] + np.sin(angle)[:, :, None] * across[:, None])
    return (points[:, None] + radius * way).reshape(-1, 3), -way.reshape(-1, 3)
