"""Ways people would take: the directions a part is looked at in before any is weighed.

Every sizeable flat laid down (also one that other places would need supports for), what its hull rests on, and the axes
of its rounds both ways. Near doubles are one way: the one that lies flat stays, and of those the broader.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from scipy.spatial import ConvexHull

from knollside.core.lay.stability import standing
from knollside.core.model import Array, Feature, Mesh, Recipe

_SAME = np.cos(np.radians(12))
_FLAT = -0.9995  # a flat's normal along the way up: it lies within two degrees
_MOST = 20
_FLATS = 16
_SIZEABLE = 0.01  # of the part's surface


def candidates(mesh: Mesh, features: Iterable[Feature], recipe: Recipe) -> list[Array]:
    """Up-directions (unit, (3,) each) worth looking at, those that lie flat and broad first."""
    flats, axes = [], []
    surface = float(mesh.areas.sum())
    known = tuple(features)
    for f in sorted((f for f in known if f.kind == "flat"), key=lambda f: -f.area)[:_FLATS]:
        if f.area > _SIZEABLE * surface:
            flats.append(-np.asarray(f.axis))
    for f in known:
        if f.kind in ("hole", "pin", "slot", "hexagon"):
            axes += [np.asarray(f.axis), -np.asarray(f.axis)]
    every = [*flats, *_hull_rests(mesh), *axes]
    if not every:  # curved all over: nothing to rest on, so the drawing's own axes
        every = [*np.eye(3)[::-1], *-np.eye(3)[::-1]]
    way = np.array(every) / np.linalg.norm(every, axis=1, keepdims=True)
    contact = standing(mesh, way, recipe).contact
    order = sorted(range(len(way)), key=lambda i: (not lies_flat(mesh, known, way[i]), -round(float(contact[i]), 3)))
    out: list[Array] = []
    for i in order:
        if is_new(way[i], out):
            out.append(way[i])
    return out[:_MOST]


def is_new(n: Array, among: Iterable[Array]) -> bool:
    """Whether ``n`` is twelve degrees or more off every other."""
    return all(float(n @ o) < _SAME for o in among)


def lies_flat(mesh: Mesh, features: Iterable[Feature], n: Array) -> bool:
    """Whether a flat of the part lies on the bed with ``n`` up."""
    down = [f for f in features if f.kind == "flat" and float(np.asarray(f.axis) @ n) < _FLAT]
    if not down:
        return False
    level = float((mesh.vertices[mesh.used] @ n).min())
    return any(abs(float(np.asarray(f.centre) @ n) - level) < 0.1 for f in down)


def net_maxima(directions: Array, score: Array, most: int) -> list[int]:
    """Numbers of the ``directions`` (d, 3) whose score (d,) none within twelve degrees beats, the best first."""
    near = directions @ directions.T > _SAME
    best = np.where(near, score[None], -np.inf).max(axis=1)
    tops = np.flatnonzero(score >= best)
    return [int(i) for i in tops[np.argsort(-score[tops], kind="stable")][:most]]


def _hull_rests(mesh: Mesh) -> list[Array]:
    """Ways that rest on a sizeable facet of the hull."""
    points = mesh.vertices[mesh.used]
    hull = ConvexHull(points)
    corner = points[hull.simplices]
    area = np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1) / 2
    _, group = np.unique(np.round(hull.equations[:, :3], 2), axis=0, return_inverse=True)
    total = np.bincount(group.ravel(), area)
    return [
        -hull.equations[np.argmax(group.ravel() == g), :3]
        for g in np.argsort(-total)[:12]
        if total[g] > 0.015 * hull.area
    ]
