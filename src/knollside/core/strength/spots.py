"""Places on the true surface: points spread over faces, and the cell each lies in."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.model import Array, Ints, Mesh, Refused
from knollside.core.strength.element import shape
from knollside.core.strength.graded import Graded
from knollside.core.strength.grid import Grid

# Of a cell between the points of a held or pushed face: at half a cell an even push is 7 % uneven, at a quarter 2 %.
SHARE = 0.25


@dataclass(frozen=True)
class Spots:
    """Sample points of a surface patch: ``points`` (n, 3), ``normals``, and the ``area`` each stands for."""

    points: Array
    normals: Array
    area: Array


def sample_faces(mesh: Mesh, faces: Ints, spacing: float) -> Spots:
    """Points spread evenly over triangles, no farther apart than about ``spacing`` mm.

    Each triangle is cut into rows along its longest side; a row's points stand for its area and lie at its
    centroid's height, so that even and linear loads keep their sum and their moment. One no higher than the spacing
    is cut across instead: what meshers fan round a hole is long, thin, and wide at one end only.
    """
    tri = mesh.triangles[faces]
    normals = mesh.normals[faces]
    areas = mesh.areas[faces]
    side = np.linalg.norm(np.roll(tri, -1, axis=1) - tri, axis=2)
    first = side.argmax(axis=1)
    turn = (first[:, None] + np.arange(3)) % 3
    tri = np.take_along_axis(tri, turn[:, :, None], axis=1)  # base from corner 0 to corner 1, apex corner 2
    base = side.max(axis=1)
    wide = np.clip(np.ceil(base / spacing).astype(int), 1, 400)
    high = np.clip(np.ceil(2 * areas / np.maximum(base, 1e-12) / spacing).astype(int), 1, 400)
    points, normal, area = [], [], []
    kinds, which = np.unique(wide * 1000 + high, return_inverse=True)
    for i, kind in enumerate(kinds):
        mine = np.flatnonzero(which == i)
        if kind % 1000 == 1:
            at, share = _columns(tri[mine], int(kind) // 1000)
        else:
            w, one = _rows(int(kind) // 1000, int(kind) % 1000)
            at, share = w[None, :, :] @ tri[mine], np.tile(one, (len(mine), 1))
        points.append(at.reshape(-1, 3))
        normal.append(np.repeat(normals[mine], share.shape[1], axis=0))
        area.append((areas[mine, None] * share).reshape(-1))
    return Spots(np.vstack(points), np.vstack(normal), np.concatenate(area))


@lru_cache(maxsize=4096)
def _rows(wide: int, high: int) -> tuple[Array, Array]:
    """Barycentric places (m, 3) in rows towards the apex, and the share of the area each stands for."""
    places, shares = [], []
    for j in range(high):
        v0, v1 = j / high, (j + 1) / high
        share = (1 - v0) ** 2 - (1 - v1) ** 2
        v = 1 - 2 / 3 * ((1 - v0) ** 3 - (1 - v1) ** 3) / share
        n = max(int(np.ceil(wide * (1 - v0))), 1)
        u = (np.arange(n) + 0.5) / n * (1 - v)
        places.append(np.stack([1 - v - u, u, np.full(n, v)], axis=1))
        shares.append(np.full(n, share / n))
    return np.vstack(places), np.concatenate(shares)


def _columns(tri: Array, wide: int) -> tuple[Array, Array]:
    """Centroids (m, wide, 3) of triangles cut square to their base, and the share of the area each stands for.

    Of a height that rises to the apex over ``s`` of the base and falls again: integrals of it, of it times its place,
    and of its square, up to each cut.
    """
    base = tri[:, 1] - tri[:, 0]
    s = np.einsum("ij,ij->i", tri[:, 2] - tri[:, 0], base) / np.maximum(np.einsum("ij,ij->i", base, base), 1e-18)
    s = np.clip(s, 1e-9, 1 - 1e-9)[:, None]
    rise = tri[:, 2] - tri[:, 0] - s * base
    u = np.linspace(0, 1, wide + 1)[None]
    up, left = np.minimum(u, s), 1 - np.maximum(u, s)  # how much of the rising and of the falling side is passed
    over = 1 - left
    high = np.diff(up**2 / (2 * s) + ((1 - s) ** 2 - left**2) / (2 * (1 - s)))
    along = up**3 / (3 * s) + (over**2 / 2 - over**3 / 3 - s**2 / 2 + s**3 / 3) / (1 - s)
    square = up**3 / (3 * s**2) + ((1 - s) ** 3 - left**3) / (3 * (1 - s) ** 2)
    x, y = np.diff(along) / high, np.diff(square) / (2 * high)
    return tri[:, None, 0] + x[:, :, None] * base[:, None] + y[:, :, None] * rise[:, None], 2 * high


def sample_on(grid: Grid | Graded, mesh: Mesh, faces: Ints, share: float = SHARE) -> Spots:
    """Points over faces ``share`` of a cell apart, as small as the cells are there."""
    if isinstance(grid, Grid):
        return sample_faces(mesh, faces, share * float(grid.size.min()))
    return sample_graded(grid, mesh, faces, share)


def sample_graded(grid: Graded, mesh: Mesh, faces: Ints, share: float) -> Spots:
    """Points over faces, triangles halved along their longest side until they are as small as is wanted there."""
    tri, normal = mesh.triangles[faces], mesh.normals[faces]
    near, base = cKDTree(grid.sizing.sources), float(grid.size.min())
    reach = grid.sizing.reach(grid.levels[0].largest)
    away, finest = [], grid.levels[-1].largest
    done: list[Spots] = []
    while len(tri):
        side = np.linalg.norm(np.roll(tri, -1, axis=1) - tri, axis=2)
        longest = side.max(axis=1)
        gap = np.maximum(near.query(tri.mean(axis=1))[0] - longest * 0.67, 0.0)
        plain = gap > reach
        wanted = np.clip(grid.sizing.size_at(gap), finest, base)
        small = ~plain & (longest <= 1.2 * share * wanted)
        away.append(tri[plain])
        done.append(Spots(tri[small].mean(axis=1), normal[small], _areas(tri[small])))
        rest = ~plain & ~small
        tri, normal = _halved(tri[rest], side[rest].argmax(axis=1)), np.repeat(normal[rest], 2, axis=0)
    far = np.vstack(away)
    if len(far):
        done.append(
            sample_faces(
                Mesh(far.reshape(-1, 3), np.arange(3 * len(far)).reshape(-1, 3)), np.arange(len(far)), share * base
            )
        )
    return Spots(*(np.concatenate([getattr(s, name) for s in done]) for name in ("points", "normals", "area")))


def around(mesh: Mesh, faces: Ints, at: Array, axis: Array, radius: float) -> Mesh:
    """What of the faces lies within ``radius`` of a line, and a little more: triangles halved until few stick out."""
    tri, kept = mesh.triangles[faces], []
    while len(tri):
        side = np.linalg.norm(np.roll(tri, -1, axis=1) - tri, axis=2)
        longest = side.max(axis=1)
        off = tri.mean(axis=1) - at
        away = np.linalg.norm(off - np.outer(off @ axis, axis), axis=1)
        near = away < radius + 0.67 * longest
        small = near & (longest <= radius)
        kept.append(tri[small])
        rest = near & ~small
        tri = _halved(tri[rest], side[rest].argmax(axis=1))
    return Mesh(np.vstack(kept).reshape(-1, 3), np.arange(3 * sum(len(t) for t in kept)).reshape(-1, 3))


def _areas(tri: Array) -> Array:
    return np.asarray(np.linalg.norm(np.cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0]), axis=1) / 2)


def _halved(tri: Array, first: Ints) -> Array:
    """Each triangle cut in two from the middle of its side ``first`` to the corner across, (2t, 3, 3)."""
    turn = (first[:, None] + np.arange(3)) % 3
    tri = np.take_along_axis(tri, turn[:, :, None], axis=1)
    middle = tri[:, :2].mean(axis=1)
    a = np.stack([tri[:, 0], middle, tri[:, 2]], axis=1)
    b = np.stack([middle, tri[:, 1], tri[:, 2]], axis=1)
    return np.stack([a, b], axis=1).reshape(-1, 3, 3)


def locate(grid: Grid | Graded, spots: Spots) -> tuple[Ints, Array]:
    """The active cell under each spot and the shape functions (n, 8) there.

    A spot on the boundary belongs to the cell just inside; where that cell is
    empty, to the nearest active one, by extrapolation of at most half a cell.
    """
    if isinstance(grid, Graded):
        return _locate_leaf(grid, spots)
    inside = spots.points - 0.3 * float(grid.size.min()) * spots.normals
    top = np.array(grid.fill.shape) - 1
    place = np.clip(np.floor((inside - grid.origin) / grid.size).astype(np.int64), 0, top)
    cell = grid.cell_of[tuple(place.T)]
    lost = np.flatnonzero(cell < 0)
    if len(lost):
        distance, nearest = cKDTree(grid.centres).query(inside[lost])
        if float(np.max(distance)) > 2.5 * float(grid.size.max()):
            raise Refused(
                "A held or pushed face lies where the grid has no material; the part is too thin there "
                f"for cells of {grid.size.max():.2f} mm."
            )
        cell[lost] = nearest
    xi = 2 * (spots.points - grid.origin - grid.cells[cell] * grid.size) / grid.size - 1
    return cell, shape(np.clip(xi, -2, 2))


def _locate_leaf(grid: Graded, spots: Spots) -> tuple[Ints, Array]:
    """The same in a graded grid, the finest cells first; a cell's number is that of a leaf."""
    leaf = np.full(len(spots.points), -1, np.int64)
    for k in range(len(grid.levels) - 1, -1, -1):
        level, left = grid.levels[k], np.flatnonzero(leaf < 0)
        inside = spots.points[left] - 0.3 * float(level.size.min()) * spots.normals[left]
        cell = level.lookup.find(np.floor((inside - grid.origin) / level.size).astype(np.int64))
        leaf[left] = np.where(cell >= 0, grid.numbers[k][cell], -1)
    lost = np.flatnonzero(leaf < 0)
    if len(lost):
        distance, nearest = cKDTree(grid.centres).query(spots.points[lost])
        if float(np.max(distance)) > 2.5 * float(grid.size.max()):
            raise Refused("A held or pushed face lies where the grid has no material; the part is too thin there.")
        leaf[lost] = nearest
    weights = np.empty((len(leaf), 8))
    for k, level in enumerate(grid.levels):
        mine = np.flatnonzero(grid.leaf[leaf, 0] == k)
        low = grid.origin + level.places[grid.leaf[leaf[mine], 1]] * level.size
        weights[mine] = shape(np.clip(2 * (spots.points[mine] - low) / level.size - 1, -2, 2))
    return leaf, weights
