"""Whether a mesh is of a scanner, and how far its corners scatter about the surface.

Each corner's height over the mean of its neighbours: on a smooth surface neighbours' heights are alike, on a noisy one
they are against each other (of independent scatter the correlation over an edge is about -0.25).
"""

from __future__ import annotations

import numpy as np

from knollside.core.mesh.topology import Edges, edges_of
from knollside.core.model import Array, Mesh

_FLAT = 1 - 2e-6  # cosine over an edge within a flat
_FEW = 200  # corners that must tell
_SPREAD = 0.75  # cosine between a corner's normal and those of its triangles: less is an edge of the part
_AGAINST = 0.2  # correlation below which it is scatter
_LEAST = 1e-3  # mm
_LEVEL = 0.1  # of a drawn part's edges at least lie within flats
_SHARE = 0.35  # of an edge's length: more is no scatter that a surface could be told under


def scatter_of(mesh: Mesh, normals: Array, edges: Edges | None = None) -> float:
    """Standard deviation of the corners about the surface, mm; 0 for a drawn mesh, whose corners are where they belong.

    ``normals`` of its triangles (m, 3).
    """
    n = len(mesh.vertices)
    if n < _FEW:
        return 0.0
    edges = edges or edges_of(mesh)
    a, b = edges.pair.T
    if (np.einsum("ij,ij->i", normals[a], normals[b]) > _FLAT).mean() > _LEVEL:
        return 0.0
    i, j = edges.corners.T
    count = np.bincount(i, minlength=n) + np.bincount(j, minlength=n)
    corner = np.stack([np.bincount(mesh.faces.ravel(), np.repeat(normals[:, k], 3), n) for k in range(3)], axis=1)
    corner = corner / np.maximum(np.linalg.norm(corner, axis=1, keepdims=True), 1e-12)
    even = np.ones(n)
    for k in range(3):
        np.minimum.at(even, mesh.faces[:, k], np.einsum("ij,ij->i", corner[mesh.faces[:, k]], normals))
    mean = np.stack([np.bincount(i, mesh.vertices[j, k], n) + np.bincount(j, mesh.vertices[i, k], n) for k in range(3)])
    mean = mean.T / np.maximum(count, 1)[:, None]
    height = np.einsum("ij,ij->i", mesh.vertices - mean, corner)
    good = (even > _SPREAD) & (count >= 4)
    if good.sum() < _FEW:
        return 0.0
    length = np.linalg.norm(mesh.vertices[i] - mesh.vertices[j], axis=1)
    each = height[good] / np.sqrt(1 + 1 / count[good])
    scatter = float(np.median(np.abs(each - np.median(each)))) / 0.6745
    if not _LEAST < scatter < _SHARE * float(np.median(length)):
        return 0.0
    both = good[i] & good[j]
    h = np.clip(height, *np.quantile(height[good], [0.02, 0.98]))
    together = np.corrcoef(h[i[both]], h[j[both]])[0, 1]
    return scatter if together < _AGAINST else 0.0
