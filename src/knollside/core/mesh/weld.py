"""Corners that are one point, joined."""

from __future__ import annotations

import numpy as np

from knollside.core.model import Array, Ints, Mesh


def weld(vertices: Array, faces: Ints) -> Mesh:
    """Join corners that are the same point to single-precision rounding.

    >>> corners = np.array([[0, 0, 0], [9, 0, 0], [0, 9, 0], [9, 0, 0], [9, 9, 0], [0, 9, 1e-9]], float)
    >>> weld(corners, np.array([[0, 1, 2], [3, 4, 5]])).vertices.shape
    (4, 3)
    """
    span = float(np.ptp(vertices, axis=0).max()) or 1.0
    step = max(span, float(np.abs(vertices).max()) * 0.1) * 2e-7
    keys = np.round(vertices / step).astype(np.int64)
    order = np.lexsort(keys.T)
    fresh = np.ones(len(keys), bool)
    fresh[1:] = (keys[order][1:] != keys[order][:-1]).any(axis=1)
    label = np.empty(len(keys), np.int64)
    label[order] = np.cumsum(fresh) - 1
    first = order[fresh]
    return without_loose(Mesh(vertices[first], label[faces]))


def without_loose(mesh: Mesh) -> Mesh:
    """The mesh less corners that no triangle has."""
    used, new = mesh.used, np.full(len(mesh.vertices), -1, np.int64)
    new[used] = np.arange(len(used))
    return Mesh(mesh.vertices[used], new[mesh.faces])
