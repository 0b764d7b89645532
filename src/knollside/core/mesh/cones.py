"""Cones all round: countersinks and cone points."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.patches import Patches
from knollside.core.model import Array, Feature, Mesh, square_to

_BIGGEST = 0.008  # share of the whole surface one strip of a cone may have


def find_cones(mesh: Mesh, patches: Patches, used: np.ndarray) -> list[Feature]:
    """Rings of strips whose normals make one angle with an axis: countersinks and cone points."""
    bend = np.abs(patches.angle)
    link = (bend > np.radians(0.5)) & (bend < np.radians(50)) & ~used[patches.pair].any(axis=1)
    big = max(_BIGGEST * float(patches.area.sum()), 1.0)
    link &= (patches.area[patches.pair] < big).all(axis=1)
    pair = patches.pair[link]
    if len(pair) == 0:
        return []
    n, label = connected_components(
        coo_matrix((np.ones(len(pair)), (pair[:, 0], pair[:, 1])), shape=(patches.count,) * 2), directed=False
    )
    out = []
    size = np.bincount(label, minlength=n)
    for c in np.flatnonzero(size >= 8):
        cone = _cone(mesh, patches, np.flatnonzero(label == c))
        if cone is not None:
            out.append(cone)
    return out


def _cone(mesh: Mesh, patches: Patches, members: np.ndarray) -> Feature | None:
    """The cone that a ring of strips makes; None where they lean unlike or are not all round."""
    # Slivers of a tip and a flat that meets the rim at a slant hang on; neither is a strip of it.
    typical = np.median(patches.area[members])
    members = members[patches.area[members] < 4 * typical]
    clear = members[patches.area[members] > 0.05 * typical]
    axis, lean = _leaning(patches.normal[clear])
    off = np.abs(lean - np.median(lean)) > 0.05
    if off.any() and off.mean() < 0.2:  # the cap of a blunt tip
        members = np.setdiff1d(members, clear[off])
        clear = clear[~off]
        axis, lean = _leaning(patches.normal[clear])
    if np.ptp(lean) > 0.02 or not 0.1 < abs(lean.mean()) < 0.98:
        return None
    normals = patches.normal[clear]
    faces = np.flatnonzero(np.isin(patches.of_face, members))
    points = mesh.vertices[np.unique(mesh.faces[faces])]
    u, v = square_to(axis)
    radial = normals @ np.c_[u, v]
    if abs(np.linalg.norm(radial.mean(axis=0))) > 0.2:
        return None  # not all round
    along = points @ axis
    top = points[np.abs(along - along.max()) < 1e-3 + 0.02 * np.ptp(along)] @ np.c_[u, v]
    low = points[np.abs(along - along.min()) < 1e-3 + 0.02 * np.ptp(along)] @ np.c_[u, v]
    centre2 = points @ np.c_[u, v]
    mid = centre2.mean(axis=0) if len(points) < 3 else (centre2.max(axis=0) + centre2.min(axis=0)) / 2
    widest = 2 * max(float(np.linalg.norm(t - mid, axis=1).max()) for t in (top, low))
    centre = u * mid[0] + v * mid[1] + axis * (along.max() + along.min()) / 2
    axis = axis * (1 if axis[np.argmax(np.abs(axis))] > 0 else -1)
    # Hollow where its faces look at the axis.
    from_axis = patches.centre[clear] - centre
    from_axis = from_axis - np.outer(from_axis @ axis, axis)
    hollow = bool(np.einsum("ij,ij->i", from_axis, normals).mean() < 0)
    (x, y, z), (i, j, k) = (float(c) for c in centre), (float(c) for c in axis)
    return Feature(
        "",
        "cone",
        (x, y, z),
        (i, j, k),
        faces,
        diameter=widest,
        length=float(np.ptp(along)),
        facets=len(members),
        inside=hollow,
    )


def _leaning(normals: Array) -> tuple[Array, Array]:
    """The direction all normals lean alike against, and by how much."""
    axis = np.linalg.svd(normals - normals.mean(axis=0), full_matrices=False)[2][-1]
    return axis, normals @ axis
