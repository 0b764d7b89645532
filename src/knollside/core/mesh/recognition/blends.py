"""Surfaces that run over smoothly into what they lie between: fillets about a hole, of no one radius."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Array, Feature, Ints

_WITHIN = np.radians(40.0)  # between neighbours of one blend
_SMOOTH = np.radians(26.0)  # between it and what it runs into: half a facet of three to a quarter turn
_RUNS_ON = 0.7  # of its rim
_MOST = 0.15  # of the part's surface: more is a free surface of its own
_FEWEST = 4  # triangles
_SHORT = 0.5  # of its diameter: a fillet no longer than that is a sector of a ring where it lies in one


def with_blends(skin: Skin, raw: list[Feature]) -> list[Feature]:
    """The features ``raw`` with patches of triangles that are of none and whose rims run on smoothly, each as a fillet
    without a diameter. Short fillets that lie in such a patch are sectors of a ring and go into it."""
    named = np.zeros(len(skin.mesh.faces), bool)
    for f in raw:
        named[f.faces] = True
    short = [f for f in raw if f.kind == "fillet" and f.diameter and (f.length or 0.0) < _SHORT * f.diameter]
    for f in short:
        named[f.faces] = False
    found = _blends(skin, named)
    inside = np.zeros(len(skin.mesh.faces), bool)
    for f in found:
        inside[f.faces] = True
    gone = {id(f) for f in short if inside[f.faces].all()}
    kept = [f for f in raw if id(f) not in gone]
    # What is only half in one would be of two.
    half = np.zeros(len(skin.mesh.faces), bool)
    for f in short:
        if id(f) not in gone:
            half[f.faces] = True
    return kept + [f for f in found if not half[f.faces].any()]


def _blends(skin: Skin, named: np.ndarray) -> list[Feature]:
    free = ~named & (skin.areas > 0)
    if not free.any():
        return []
    at = np.flatnonzero(free)
    place = np.full(len(free), -1, np.int64)
    place[at] = np.arange(len(at))
    beyond, bend = skin.beyond[at], np.abs(skin.bend[at])
    joined = (beyond >= 0) & (bend < _WITHIN) & (place[np.maximum(beyond, 0)] >= 0)
    row, side = np.nonzero(joined)
    graph = coo_matrix((np.ones(len(row), np.int8), (row, place[beyond[row, side]])), shape=(len(at), len(at)))
    count, label = connected_components(graph, directed=False)
    order = np.argsort(label, kind="stable")
    stops = np.r_[0, np.cumsum(np.bincount(label, minlength=count))]
    whole = float(skin.areas.sum())
    out = []
    for k in range(count):
        faces = at[order[stops[k] : stops[k + 1]]]
        if len(faces) >= _FEWEST and skin.areas[faces].sum() < _MOST * whole and _runs_on(skin, faces):
            out.append(_told(skin, faces))
    return out


def _runs_on(skin: Skin, faces: Ints) -> bool:
    rim = skin.rim(faces)
    smooth = np.abs(rim.bend) < _SMOOTH
    return bool(rim.length[smooth].sum() > _RUNS_ON * rim.length.sum())


def _told(skin: Skin, faces: Ints) -> Feature:
    areas = skin.areas[faces]
    centre = np.average(skin.middles[faces], axis=0, weights=areas)
    mean: Array = (skin.normals[faces] * areas[:, None]).sum(axis=0)
    size = float(np.linalg.norm(mean))
    axis = mean / size if size > 1e-6 * areas.sum() else np.array([0.0, 0.0, 1.0])
    x, y, z = (float(c) for c in centre)
    u, v, w = (float(c) for c in axis)
    return Feature("", "fillet", (x, y, z), (u, v, w), faces)
