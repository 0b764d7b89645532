"""How deep every place of every sampled layer lies under walls, tops and bottoms: once, for any recipe.

Layers are filled on a fine raster from their exact cuts; each pixel knows its wall (by its distance to the
outline) and how many layers up and down are covered. Counted together, they give what any number of walls,
tops and bottoms takes, with no further geometry.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.mesh.slicer import cut
from knollside.core.model import Array, Ints, Mesh, Recipe, rotation_to_up
from knollside.core.recipe.layer_areas import LayerUse

MOST_WALLS = 20
MOST_SHELLS = 10
SAMPLES = 60
_ACROSS = 480  # pixels along the longer side
_FINEST, _COARSEST = 0.08, 0.35  # mm


@numba.njit(cache=True, nogil=True, parallel=True)
def _fill(start, segments, low, px, out):  # type: ignore[no-untyped-def]
    """Even-odd fill of every level: ``out`` (k, ny, nx), pixel middles inside."""
    ny, nx = out.shape[1], out.shape[2]
    for k in numba.prange(out.shape[0]):
        for s in range(start[k], start[k + 1]):
            x0, y0 = (segments[s, 0, 0] - low[0]) / px, (segments[s, 0, 1] - low[1]) / px
            x1, y1 = (segments[s, 1, 0] - low[0]) / px, (segments[s, 1, 1] - low[1]) / px
            if y0 > y1:
                x0, y0, x1, y1 = x1, y1, x0, y0
            for j in range(max(int(np.ceil(y0 - 0.5)), 0), min(int(np.ceil(y1 - 0.5)), ny)):
                x = x0 + (j + 0.5 - y0) / (y1 - y0) * (x1 - x0)
                i = min(max(int(np.ceil(x - 0.5)), 0), nx)
                if i < nx:
                    out[k, j, i] = not out[k, j, i]
        for j in range(ny):
            inside = False
            for i in range(nx):
                if out[k, j, i]:
                    inside = not inside
                out[k, j, i] = inside


@numba.njit(cache=True, nogil=True)
def _count(here, depth, masks, levels_up, levels_down, line, most_walls, out):  # type: ignore[no-untyped-def]
    """Count pixels of one layer by wall, layers covered above and layers covered below."""
    for j in range(here.shape[0]):
        for i in range(here.shape[1]):
            if not here[j, i]:
                continue
            wall = min(int(depth[j, i] / line), most_walls)
            up = 0
            while up < len(levels_up) and masks[levels_up[up], j, i]:
                up += 1
            down = 0
            while down < len(levels_down) and masks[levels_down[down], j, i]:
                down += 1
            out[wall, up, down] += 1


@dataclass(frozen=True)
class ShellMap:
    """Areas (k, walls + 1, shells + 1, shells + 1) mm2 of each sampled layer that lie under so many walls, with
    so many layers covered above and below; closed ``loops`` (k, 2) of the first and each further pass; each stands for
    ``thickness`` mm; ``line`` is the width the walls were counted by."""

    area: Array
    loops: Ints
    thickness: float
    line: float

    def use(self, recipe: Recipe) -> LayerUse:
        """What ``recipe`` lays down in each sampled layer."""
        a = self.area
        wall = a[:, : recipe.walls].sum(axis=(1, 2, 3))
        inner = a[:, recipe.walls :]
        core = inner[:, :, recipe.tops :, recipe.bottoms :].sum(axis=(1, 2, 3))
        solid = inner.sum(axis=(1, 2, 3)) - core
        passes = (a[:, : recipe.walls].sum(axis=(2, 3)) > 0).sum(axis=1)
        loops = self.loops[:, 0] * (passes > 0) + self.loops[:, 1] * np.maximum(passes - 1, 0)
        # A line's breadth on either side of the innermost wall's inner face, over that breadth, is its length: on one
        # side alone the raster favours one of two neighbouring rings.
        rings = a[:, max(recipe.walls - 1, 0) : recipe.walls + 1].sum(axis=(2, 3))
        edge = rings.mean(axis=1) / self.line * (rings[:, -1] > 0)
        return LayerUse(wall, solid, core, wall / self.line, loops, edge)


def map_shells(
    mesh: Mesh,
    direction: tuple[float, float, float],
    layer_height: float,
    line: float,
    shells: int = 6,
    samples: int = SAMPLES,
) -> ShellMap:
    """Raster ``samples`` layers (fewer for a low part) with ``shells`` neighbours each way."""
    from scipy import ndimage  # start-up need not pay for it

    turned = mesh.turned(rotation_to_up(direction))
    low, high = turned.bounds
    height = float(high[2] - low[2])
    count = int(min(samples, max(4, round(height / layer_height))))
    middle = (np.arange(count) + 0.5) * height / count
    offsets = np.arange(-shells, shells + 1)
    level = middle[:, None] + offsets * layer_height
    wanted, where = np.unique(np.round(level.ravel(), 9), return_inverse=True)
    where = where.reshape(level.shape)
    size = (high - low)[:2]
    px = float(np.clip(size.max() / _ACROSS, _FINEST, _COARSEST))
    shape = np.ceil(size / px).astype(int) + 2
    origin = low[:2] - (shape * px - size) / 2
    cuts = cut(turned, np.clip(wanted, -1.0, height + 1.0) + low[2])
    masks = np.zeros((len(wanted), int(shape[1]), int(shape[0])), np.bool_)
    _fill(cuts.start, cuts.segments, origin, px, masks)
    area = np.zeros((count, MOST_WALLS + 1, shells + 1, shells + 1))
    loops = np.zeros((count, 2), np.int64)
    before: np.ndarray | None = None
    depth, last = np.zeros((0, 0)), 0
    for k in range(count):
        here = masks[where[k, shells]]
        rows, columns = np.flatnonzero(here.any(axis=1)), np.flatnonzero(here.any(axis=0))
        if len(rows) == 0:
            continue
        up, down = where[k, shells + 1 :], where[k, :shells][::-1]
        # Straight walls fill the same pixels again: their depth is known.
        if before is not None and np.array_equal(here, before):
            _count(here, depth, masks, up, down, line, MOST_WALLS, area[k])
            loops[k] = loops[last]
            continue
        before, last = here, k
        window = slice(rows[0] - 1, rows[-1] + 2), slice(columns[0] - 1, columns[-1] + 2)
        # Half a pixel off: the transform measures to the middle of the nearest empty one.
        depth = np.zeros(here.shape)
        depth[window] = ndimage.distance_transform_edt(here[window]) * px - 0.5 * px
        _count(here, depth, masks, up, down, line, MOST_WALLS, area[k])
        for j in range(2):  # small letters and holes have one pass and no second
            within = depth[window] > (j + 0.5) * line
            loops[k, j] = ndimage.label(within)[1] + ndimage.label(~within)[1] - 1 if within.any() else 0
    return ShellMap(area * px**2, loops, height / count, line)
