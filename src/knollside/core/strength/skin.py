"""Walls, tops and infill blended into the grid's cells (docs/methods.md 3.2)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree

from knollside.core.material.infill import stiffness_share
from knollside.core.model import Array, Ints, Mesh, Recipe
from knollside.core.strength.element import filled_spots
from knollside.core.strength.graded import Graded
from knollside.core.strength.grid import Grid
from knollside.core.strength.spots import Spots, sample_faces

_FLAT = 0.7  # of a normal along the build: tops and bottoms beyond, walls below


@dataclass(frozen=True)
class Skin:
    """Solid shell thicknesses (mm) and the core's relative stiffness.

    With no ``direction`` the shell is the same all round (the way to lie is not
    chosen yet); with one, faces that look up get the tops' thickness and faces
    that look down the bottoms'.
    """

    walls: float
    tops: float
    core: float
    direction: tuple[float, float, float] | None = None
    bottoms: float | None = None

    @property
    def deepest(self) -> float:
        return max(self.walls, self.tops, self.tops if self.bottoms is None else self.bottoms)


def skin_of(recipe: Recipe, direction: tuple[float, float, float] | None = None) -> Skin | None:
    """The shell a recipe makes; None for a solid one (its lines touch on both sides)."""
    core = stiffness_share(recipe.pattern, recipe.infill)
    if core >= 1.0:
        return None
    walls = recipe.walls * recipe.line_width
    h = recipe.layer_height
    return Skin(walls, recipe.tops * h, core, direction, recipe.bottoms * h)


def shell_under(skin: Skin, normal: Array) -> float:
    """How thick the shell is under a face of that outward normal, mm."""
    return next(thickness for mine, thickness in _kinds(normal[None], skin) if mine[0])


def cell_scale(mesh: Mesh, grid: Grid, skin: Skin) -> Array:
    """Modulus of each active cell as a share of the solid's: Voigt blend of shell and core.

    The shell reaches as deep as its nearest surface asks; its share of a cell is
    that of a slab square to the way to that surface.
    """
    h = float(grid.size.mean())
    spots = sample_faces(mesh, np.arange(len(mesh.faces)), 0.8 * h)
    # A cell as deep as the shell by its grid distance alone is core: only the rest need asking.
    rough = ndimage.distance_transform_edt(np.pad(grid.fill >= 1, 1), sampling=grid.size)
    asked = np.flatnonzero(rough[tuple((grid.cells + 1).T)] <= skin.deepest + 3 * h)
    return _shares(grid.centres, grid.size, grid.filled, grid.cut, grid.moments, spots, asked, skin)


def level_scale(grid: Graded, k: int, spots: Spots, skin: Skin) -> Array:
    """The same for all cells of one level of a graded grid; ``spots`` of the surface as dense as its cells."""
    v = grid.levels[k]
    centres = grid.origin + (v.places + 0.5) * v.size
    return _shares(centres, v.size, v.fill, v.cut, v.moments, spots, np.arange(len(centres)), skin)


def _shares(
    centres: Array, size: Array, filled: Array, cut: Ints, moments: Array, spots: Spots, asked: Ints, skin: Skin
) -> Array:
    """Shell and core of every cell: tops, bottoms and walls each reach as deep as they do, whatever is nearer."""
    middle = centres.copy()
    if len(cut):
        middle[cut] += filled_spots(moments)[0] * size / 2
    shell = np.zeros(len(centres))
    for which, thickness in _kinds(spots.normals, skin):
        if which.any():
            some = Spots(spots.points[which], spots.normals[which], spots.area[which])
            np.maximum(shell, _shell(middle, size, filled, some, asked, thickness), out=shell)
    least = max(skin.core, 1e-3)
    return np.asarray(shell + (1 - shell) * least)


def _kinds(normals: Array, skin: Skin) -> list[tuple[np.ndarray, float]]:
    """The surface, by its outward ``normals`` (n, 3), by what is laid under it, with how thick that is, mm."""
    if skin.direction is None:
        return [(np.ones(len(normals), np.bool_), skin.walls)]
    up = normals @ np.asarray(skin.direction)
    bottoms = skin.tops if skin.bottoms is None else skin.bottoms
    return [(up > _FLAT, skin.tops), (up < -_FLAT, bottoms), (np.abs(up) <= _FLAT, skin.walls)]


def _shell(middle: Array, size: Array, filled: Array, spots: Spots, asked: Ints, thickness: float) -> Array:
    """Share of each cell (n,) within ``thickness`` mm of the surface that the ``spots`` are of."""
    h = float(size.mean())
    # Regular spots make a balanced tree slow to build; the plain one is quick and as good here.
    tree = cKDTree(spots.points, balanced_tree=False, compact_nodes=False)
    k = min(2, len(spots.points))
    found, near = tree.query(middle[asked], k=k, distance_upper_bound=thickness + 2 * h, workers=2)
    found, near = np.asarray(found).reshape(len(asked), k), np.asarray(near).reshape(len(asked), k)
    within = np.isfinite(found[:, 0])
    mine = asked[within]
    near = np.where(np.isfinite(found), near, near[:, :1])[within]
    away = np.einsum("ckd,ckd->ck", spots.points[near] - middle[mine][:, None, :], spots.normals[near])
    depth = np.abs(away).min(axis=1)  # to the planes of the nearest surface spots
    normal = spots.normals[near[np.arange(len(near)), np.abs(away).argmin(axis=1)]]
    # Width of the cell's filled part along the way to the surface.
    wide = np.abs(normal) @ size
    wide = np.where(filled[mine] < 1, np.minimum(wide, 2 * np.maximum(depth, 0.05 * h)), wide)
    out = np.zeros(len(middle))
    out[mine] = np.clip((thickness - (depth - wide / 2)) / wide, 0.0, 1.0)
    return out
