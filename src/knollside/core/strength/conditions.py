"""Where the part is held and pushed, put on the grid at the true surface."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.model import Array, Ints, Mesh, Refused
from knollside.core.strength.element import shape
from knollside.core.strength.grid import Grid

# Held places are springs this many times stiffer than a cell is long: the clamp then
# gives by 1/40 of a cell's own stretch, and the smoother still copes.
_SPRING = 40.0


@dataclass(frozen=True)
class Spots:
    """Sample points of a surface patch: ``points`` (n, 3), ``normals``, and the ``area`` each stands for."""

    points: Array
    normals: Array
    area: Array


def sample_faces(mesh: Mesh, faces: Ints, spacing: float) -> Spots:
    """Points spread evenly over triangles, no farther apart than about ``spacing`` mm."""
    tri = mesh.triangles[faces]
    normals = mesh.normals[faces]
    areas = mesh.areas[faces]
    longest = np.linalg.norm(tri - np.roll(tri, 1, axis=1), axis=2).max(axis=1)
    parts = np.clip(np.ceil(longest / spacing).astype(int), 1, 400)
    points, normal, area = [], [], []
    for k in np.unique(parts):
        mine = np.flatnonzero(parts == k)
        i, j = np.meshgrid(np.arange(k), np.arange(k), indexing="ij")
        up = (i + j) < k
        down = (i + j) < k - 1
        u = np.r_[(i[up] + 1 / 3), (i[down] + 2 / 3)] / k
        v = np.r_[(j[up] + 1 / 3), (j[down] + 2 / 3)] / k
        w = np.stack([1 - u - v, u, v], axis=1)
        points.append(np.einsum("sw,twd->tsd", w, tri[mine]).reshape(-1, 3))
        normal.append(np.repeat(normals[mine], len(u), axis=0))
        area.append(np.repeat(areas[mine] / len(u), len(u)))
    return Spots(np.vstack(points), np.vstack(normal), np.concatenate(area))


def locate(grid: Grid, spots: Spots) -> tuple[Ints, Array]:
    """The active cell under each spot and the shape functions (n, 8) there.

    A spot on the boundary belongs to the cell just inside; where that cell is
    empty, to the nearest active one, by extrapolation of at most half a cell.
    """
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


@dataclass(frozen=True)
class Hold:
    """One held place on the grid."""

    spots: Spots
    cell: Ints
    weights: Array
    sliding: bool


def hold(grid: Grid, mesh: Mesh, faces: Ints, sliding: bool) -> Hold:
    spots = sample_faces(mesh, faces, 0.5 * float(grid.size.min()))
    cell, weights = locate(grid, spots)
    return Hold(spots, cell, weights, sliding)


def springs(grid: Grid, holds: list[Hold], modulus: float) -> dict[int, Array]:
    """Extra (24, 24) cell matrices of all held places."""
    stiffness = _SPRING * modulus / float(grid.size.min())
    out: dict[int, Array] = {}
    for h in holds:
        for c in np.unique(h.cell):
            mine = h.cell == c
            w = h.weights[mine]
            if h.sliding:
                n = h.spots.normals[mine]
                block = np.einsum("s,sa,sb,si,sj->aibj", h.spots.area[mine], w, w, n, n, optimize=True)
            else:
                block = np.einsum("s,sa,sb,ij->aibj", h.spots.area[mine], w, w, np.eye(3), optimize=True)
            matrix = stiffness * block.reshape(24, 24)
            out[int(c)] = out[int(c)] + matrix if int(c) in out else matrix
    return out


def reaction(grid: Grid, h: Hold, u: Array, modulus: float) -> tuple[Array, Array]:
    """Force and moment about the origin (N, N mm) that a held place exerts on the part."""
    stiffness = _SPRING * modulus / float(grid.size.min())
    at = np.einsum("sa,sad->sd", h.weights, u.reshape(-1, 3)[grid.nodes[h.cell]])
    if h.sliding:
        at = h.spots.normals * np.einsum("sd,sd->s", at, h.spots.normals)[:, None]
    force = -stiffness * at * h.spots.area[:, None]
    return force.sum(axis=0), np.cross(h.spots.points, force).sum(axis=0)


def point_forces(h: Hold, grid: Grid, u: Array, modulus: float) -> Array:
    """The reaction at each sample point (n, 3), N."""
    stiffness = _SPRING * modulus / float(grid.size.min())
    at = np.einsum("sa,sad->sd", h.weights, u.reshape(-1, 3)[grid.nodes[h.cell]])
    if h.sliding:
        at = h.spots.normals * np.einsum("sd,sd->s", at, h.spots.normals)[:, None]
    return np.asarray(-stiffness * at * h.spots.area[:, None])


def push(grid: Grid, mesh: Mesh, faces: Ints, force: Array) -> tuple[Array, Spots, Array]:
    """Nodal forces (3n,) of ``force`` spread evenly over faces, with the spots and force at each."""
    spots = sample_faces(mesh, faces, 0.5 * float(grid.size.min()))
    cell, weights = locate(grid, spots)
    each = np.outer(spots.area / spots.area.sum(), force)
    f = np.zeros((len(grid.points), 3))
    for a in range(8):
        np.add.at(f, grid.nodes[cell, a], weights[:, a, None] * each)
    return f.reshape(-1), spots, each


def refuse_if_loose(holds: list[Hold], size: float) -> None:
    """Raise :class:`Refused`, naming the motion left free, unless the holds stop all six."""
    rows = []
    middle = np.vstack([h.spots.points for h in holds]).mean(axis=0)
    for h in holds:
        p = (h.spots.points - middle) / size
        weight = np.sqrt(h.spots.area)[:, None]
        directions = [h.spots.normals] if h.sliding else [np.tile(e, (len(p), 1)) for e in np.eye(3)]
        for d in directions:
            rows.append(np.hstack([d, np.cross(p, d)]) * weight)
    a = np.vstack(rows)
    _, s, vt = np.linalg.svd(a.T @ a)
    free = np.flatnonzero(s < 1e-5 * s[0])
    if len(free) == 0:
        return
    motion = vt[free[0]]
    shift, turn = motion[:3], motion[3:]
    if np.linalg.norm(turn) > 0.3:
        axis = turn / np.linalg.norm(turn)
        raise Refused(
            f"The part is held, but can still turn about the direction {_axis(axis)}. "
            "Hold one more place away from that line."
        )
    axis = shift / np.linalg.norm(shift)
    raise Refused(f"The part is held, but can still slide along {_axis(axis)}. Hold a face square to that.")


def _axis(v: Array) -> str:
    v = v * (1 if v[np.argmax(np.abs(v))] > 0 else -1)
    return f"({v[0]:.2f}, {v[1]:.2f}, {v[2]:.2f})"
