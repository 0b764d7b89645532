"""Walls, tops and infill blended into the grid's cells (METHODS 1.4)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from knollside.core.material.infill import stiffness_share
from knollside.core.model import Array, Mesh, Recipe
from knollside.core.strength.grid import Grid


@dataclass(frozen=True)
class Skin:
    """Solid shell thicknesses and the core's relative stiffness.

    With no ``direction`` the shell is the same all round (the way to lie is not
    chosen yet); with one, faces square to it get the tops' thickness.
    """

    walls: float
    tops: float
    core: float
    direction: tuple[float, float, float] | None = None


def skin_of(recipe: Recipe, direction: tuple[float, float, float] | None = None) -> Skin | None:
    """The shell a recipe makes; None for a solid one (100 % infill is one solid)."""
    if recipe.infill >= 1.0:
        return None
    walls = recipe.walls * recipe.line_width
    tops = min(recipe.tops, recipe.bottoms) * recipe.layer_height
    return Skin(walls, tops, stiffness_share(recipe.pattern, recipe.infill), direction)


def cell_scale(mesh: Mesh, grid: Grid, skin: Skin) -> Array:
    """Modulus of each active cell as a share of the solid's: Voigt blend of shell and core."""
    solid = np.pad(grid.fill > 0.5, 1)
    distance, near = ndimage.distance_transform_edt(solid, sampling=grid.size, return_indices=True)
    here = tuple((grid.cells + 1).T)
    away = (np.stack([near[k][here] for k in range(3)], axis=1) - (grid.cells + 1)) * grid.size
    length = np.linalg.norm(away, axis=1)
    h = float(grid.size.mean())
    depth = np.maximum(distance[here] - h / 2, 0.0)  # middle of the cell to the surface
    thickness = np.full(len(grid.cells), skin.walls)
    if skin.direction is not None:
        up = np.abs(away @ np.asarray(skin.direction)) / np.maximum(length, 1e-9)
        thickness = np.where(up > 0.7, skin.tops, skin.walls)
    share = np.clip((thickness - (depth - h / 2)) / h, 0.0, 1.0)
    share = np.where(length == 0, 1.0, share)  # cells the surface cuts are all shell
    least = max(skin.core, 1e-3)
    return np.asarray(share + (1 - share) * least)
