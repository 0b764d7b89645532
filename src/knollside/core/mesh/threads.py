"""Screw threads, inside or outside, as one thing: a surface whose radius repeats along a helix.

On a thread of one start the radius depends only on z / pitch - angle / turn. The pitch is the one for which bins of
that phase explain the radius best (the periodogram by phase folding; Stellingwerf 1978), right- or left-handed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Array, Ints, square_to

_LEAST_FACES = 240
_EXPLAINED = 0.8
_BINS = 16
_FINEST, _COARSEST = 0.3, 8.0
_SPOTS = 6000
_LEANS = np.radians(8)


@dataclass(frozen=True)
class Thread:
    """Faces, axis through ``centre``, pitch (mm a turn), largest and smallest diameter, length, which hand, and whether
    it is inside."""

    faces: Ints
    axis: Array
    centre: Array
    pitch: float
    major: float
    minor: float
    length: float
    right_handed: bool
    inside: bool


def find_threads(skin: Skin, free: Ints, known: Array) -> list[Thread]:
    """Threads among the triangles marked ``free`` (those of no large flat). ``known`` (k, 3): axes and flats' normals
    of the part, the largest first, one of which a thread mostly follows."""
    if int(free.sum()) < _LEAST_FACES:
        return []
    a, b = skin.edges.pair[:, 0], skin.edges.pair[:, 1]
    both = free[a] & free[b]
    n = len(skin.mesh.faces)
    graph = coo_matrix((np.ones(int(both.sum()), np.int8), (a[both], b[both])), shape=(n, n))
    label = connected_components(graph, directed=False)[1]
    size = np.bincount(label[free], minlength=label.max() + 1)
    out = []
    for k in np.flatnonzero(size >= _LEAST_FACES)[:40]:
        faces = np.flatnonzero((label == k) & free)
        found = _thread(skin, faces, known)
        if found is not None:
            out.append(found)
    return out


def _thread(skin: Skin, faces: Ints, known: Array) -> Thread | None:
    normals, areas = skin.normals[faces], skin.areas[faces]
    spread = (normals * areas[:, None]).T @ normals
    for rough in np.linalg.eigh(spread)[1].T[::-1]:
        # A thread that ends part-way round leans the spread of its normals: the part's own directions are truer.
        near = known[np.abs(known @ rough) > np.cos(_LEANS)] if len(known) else known
        axes = [*near[:2], rough]
        for axis in axes:
            found = _about(skin, faces, axis * (1 if axis[np.argmax(np.abs(axis))] > 0 else -1))
            if found is not None:
                return found
    return None


def _about(skin: Skin, faces: Ints, axis: Array) -> Thread | None:
    frame = np.stack([*square_to(axis), axis], axis=1)
    mesh = skin.mesh
    tri = mesh.vertices[mesh.faces[faces]] @ frame
    points = mesh.vertices[np.unique(mesh.faces[faces])] @ frame
    low, high = points.min(axis=0), points.max(axis=0)
    # Round about its axis: as wide as it is broad.
    wide = high - low
    if abs(wide[0] - wide[1]) > 0.06 * wide[0] or wide[2] < 2 * _FINEST:
        return None
    middle = (low + high)[:2] / 2
    spots = np.vstack([points, tri.mean(axis=1)])
    if len(spots) > _SPOTS:
        spots = spots[:: len(spots) // _SPOTS]
    x, y, z = spots[:, 0] - middle[0], spots[:, 1] - middle[1], spots[:, 2]
    r, turn = np.hypot(x, y), np.arctan2(y, x) / (2 * np.pi)
    if r.std() < 0.03 or r.min() < 0.4 * r.max() or np.ptp(turn) < 0.9:
        return None
    most = min(_COARSEST, wide[2] / 1.5)
    if most <= _FINEST:
        return None
    best = (0.0, 0.0, True)
    fine = max(_FINEST, 3 * wide[2] / len(spots))
    steps = 1 / np.linspace(1 / most, 1 / fine, int(min(6 * wide[2] * (1 / fine - 1 / most) + 60, 900)))
    for hand in (True, False):
        for pitch in steps:
            best = max(best, (_explained(r, z / pitch - (turn if hand else -turn)), pitch, hand))
    share, pitch, hand = best
    if share < _EXPLAINED:
        return None
    for p in pitch * np.linspace(0.985, 1.015, 61):
        best = max(best, (_explained(r, z / p - (turn if hand else -turn)), float(p), hand))
    share, pitch, hand = best
    radial = np.einsum("ij,ij->i", (tri.mean(axis=1)[:, :2] - middle), (skin.normals[faces] @ frame)[:, :2])
    inside = bool((radial * skin.areas[faces]).sum() < 0)
    major, minor = (2 * float(np.percentile(r, q)) for q in (99, 1))
    centre = frame @ np.array([middle[0], middle[1], (low[2] + high[2]) / 2])
    return Thread(faces, axis, centre, float(pitch), major, minor, float(wide[2]), hand, inside)


def _explained(r: Array, phase: Array) -> float:
    """Share of the radius' variance that bins of the phase explain."""
    at = np.floor((phase % 1.0) * _BINS).astype(np.int64) % _BINS
    count = np.bincount(at, minlength=_BINS)
    mean = np.bincount(at, r, minlength=_BINS) / np.maximum(count, 1)
    total = float(((r - r.mean()) ** 2).sum())
    return float((count * (mean - r.mean()) ** 2).sum()) / total
