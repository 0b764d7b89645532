"""Where each layer may start and end: away from weak places, mating faces, show faces and what flexes.

A seam is a column of small flaws. Candidate columns are the corners of the outlines; each is judged by how near
it passes the places a seam must not run, and inward corners, which hide it, are preferred.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from knollside.core.lay.strata import Strata
from knollside.core.model import Array, Feature, Mesh

CLEAR_MM = 8.0  # farther away than this nothing is gained
_COLUMNS = 400
_LAYERS = 40


@dataclass(frozen=True)
class SeamAdvice:
    """The ``best`` column: a place on it (part's frame), ``side`` of the bed in words, how ``clear`` mm it stays
    of what it must not touch, whether it lies in an ``inward`` corner, and the share of layers it reaches.
    ``avoid``: what must not carry a seam, in words, with how many places of each."""

    best: tuple[float, float, float]
    side: str
    clear: float
    inward: bool
    reach: float
    avoid: tuple[str, ...]


def seam_advice(
    mesh: Mesh,
    features: tuple[Feature, ...],
    marks: dict[str, str],
    weak: tuple[tuple[float, float, float], ...],
    strata: Strata,
) -> SeamAdvice | None:
    """The best column for the seam of a way; None for a part without corners to choose from."""
    picked = np.unique(np.linspace(0, len(strata.outline) - 1, _LAYERS).astype(int))
    corners, inward, layer = _corners(strata, picked)
    if len(corners) == 0:
        return None
    bad, names = _forbidden(mesh, features, marks, weak, strata)
    # Columns: corners of all layers gathered to a millimetre and a half, seen from above.
    cell = np.round(corners / 1.5).astype(np.int64)
    _, first, which = np.unique(cell, axis=0, return_index=True, return_inverse=True)
    which = which.ravel()
    count = len(first)
    hits = np.zeros((count, len(picked)), np.bool_)
    hits[which, layer] = True
    reach = hits.mean(axis=1)
    curl = np.bincount(which, inward, minlength=count) / np.bincount(which, minlength=count)
    spots = np.c_[corners, strata.base + (picked[layer] + 0.5) * strata.h]
    near = np.full(len(spots), CLEAR_MM)
    if len(bad):
        from scipy.spatial import cKDTree

        near = np.minimum(cKDTree(bad).query(spots)[0], CLEAR_MM)
    clear = np.full(count, CLEAR_MM)
    np.minimum.at(clear, which, near)
    score = clear / CLEAR_MM + 0.6 * reach + 0.3 * curl
    best = int(np.argmax(score))
    mine = np.flatnonzero(which == best)
    middle = spots[mine[len(mine) // 2]]
    x, y, z = (float(v) for v in strata.turn.T @ middle)
    low, high = np.asarray(shapely.total_bounds(np.array(strata.outline, dtype=object))).reshape(2, 2)
    return SeamAdvice(
        (x, y, z), _side(middle[:2], low, high), float(clear[best]), bool(curl[best] > 0.5), float(reach[best]), names
    )


def _corners(strata: Strata, picked: Array) -> tuple[Array, Array, Array]:
    """Corners of the outermost outlines (n, 2), whether each turns inward, and its place among ``picked``."""
    at, turns, layer = [np.zeros((0, 2))], [np.zeros(0)], [np.zeros(0, np.int64)]
    for j, k in enumerate(picked):
        for p in shapely.get_parts(strata.outline[int(k)]):
            if p.geom_type != "Polygon" or p.is_empty:
                continue
            ring = shapely.simplify(shapely.orient_polygons(p).exterior, 0.05)
            c = np.asarray(ring.coords)[:-1]
            if len(c) < 3:
                continue
            a, b = c - np.roll(c, 1, axis=0), np.roll(c, -1, axis=0) - c
            angle = np.arctan2(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0], (a * b).sum(axis=1))
            sharp = np.abs(angle) > np.radians(20)
            at.append(c[sharp])
            turns.append((angle[sharp] < 0).astype(float))
            layer.append(np.full(int(sharp.sum()), j))
    every = np.vstack(at)
    some = np.linspace(0, len(every) - 1, min(len(every), _COLUMNS * _LAYERS)).astype(int)
    return every[some], np.concatenate(turns)[some], np.concatenate(layer)[some]


def _forbidden(
    mesh: Mesh,
    features: tuple[Feature, ...],
    marks: dict[str, str],
    weak: tuple[tuple[float, float, float], ...],
    strata: Strata,
) -> tuple[Array, tuple[str, ...]]:
    """Places (n, 3) in the bed's frame that must not carry a seam, and what they are."""
    words = {"mates": "mating faces", "shown": "show faces", "flexes": "flexing places"}
    points, names = [], []
    if weak:
        points.append(np.array(weak))
        names.append(f"weak places ({len(weak)})")
    for mark, name in words.items():
        mine = [f for f in features if marks.get(f.id) == mark]
        if mine:
            faces = np.concatenate([f.faces for f in mine])
            tri = mesh.triangles[faces]
            points.append(np.vstack([tri.mean(axis=1), tri.reshape(-1, 3)]))
            names.append(f"{name} ({len(mine)})")
    every = np.vstack(points) if points else np.zeros((0, 3))
    return every @ strata.turn.T, tuple(names)


def _side(spot: Array, low: Array, high: Array) -> str:
    """Where on the bed: the front is -Y, left -X."""
    share = (spot - low) / np.maximum(high - low, 1e-9)
    across = "left" if share[0] < 0.34 else "right" if share[0] > 0.66 else ""
    along = "front" if share[1] < 0.34 else "back" if share[1] > 0.66 else ""
    return f"{along} {across}".strip() or "middle"
