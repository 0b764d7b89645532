"""Nearest triangle to a point."""

from __future__ import annotations

import numpy as np

from knollside.core.model import Array, Mesh


def nearest_face(mesh: Mesh, point: Array) -> tuple[int, float]:
    """Number of the triangle nearest to ``point`` and its distance (Ericson 2004, section 5.1.5)."""
    from trimesh.triangles import closest_point

    tri = mesh.triangles
    # Bound first: only triangles whose box comes nearer than the nearest centre can win.
    gap = np.maximum(np.maximum(tri.min(axis=1) - point, point - tri.max(axis=1)), 0)
    lower = np.linalg.norm(gap, axis=1)
    upper = float(np.linalg.norm(tri.mean(axis=1) - point, axis=1).min())
    near = np.flatnonzero(lower <= upper + 1e-9)
    hits = closest_point(tri[near], np.repeat(point[None], len(near), axis=0))  # type: ignore[no-untyped-call]
    distance = np.linalg.norm(hits - point, axis=1)
    best = distance.min()
    # On a shared edge several tie: take the one whose plane faces the point most squarely.
    tied = np.flatnonzero(distance <= best + 1e-6)
    if len(tied) > 1:
        n = mesh.normals[near[tied]]
        off = point - hits[tied]
        score = np.abs(np.einsum("ij,ij->i", n, off)) if best > 1e-6 else mesh.areas[near[tied]]
        return int(near[tied[np.argmax(score)]]), float(best)
    return int(near[tied[0]]), float(best)


def nearest_point(mesh: Mesh, point: Array) -> Array:
    """The place on the surface nearest to ``point``, (3,)."""
    from trimesh.triangles import closest_point

    face, _ = nearest_face(mesh, point)
    return np.asarray(closest_point(mesh.triangles[[face]], point[None])[0])  # type: ignore[no-untyped-call]
