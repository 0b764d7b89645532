"""A regular grid of brick cells clipped to the part, each with the share it is filled."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
from scipy import ndimage

from knollside.core.model import Array, Ints, Mesh, Refused

SUBRAYS = 4  # rays per cell side; the third direction is exact
LEAST_FILL = 0.02


@dataclass(frozen=True)
class Grid:
    """``shape`` cells of ``size`` (3,) mm from ``origin``; ``fill`` (nx, ny, nz) in 0..1.

    Active cells are numbered in ``cell_of`` (-1 elsewhere); ``cells`` (c, 3) are
    their grid places, ``nodes`` (c, 8) their corner numbers and ``points`` (n, 3)
    the corner positions.
    """

    origin: Array
    size: Array
    fill: Array
    cell_of: Ints
    cells: Ints
    nodes: Ints
    points: Array

    @property
    def centres(self) -> Array:
        return self.origin + (self.cells + 0.5) * self.size

    @property
    def filled(self) -> Array:
        """Fill of the active cells, (c,)."""
        return self.fill[tuple(self.cells.T)]


# Corner order of a brick: x fastest, then y, then z.
CORNERS = np.array([[i & 1, i >> 1 & 1, i >> 2 & 1] for i in range(8)])


@numba.njit(cache=True, nogil=True)
def _crossings(tri, x0, y0, dx, dy, nx, ny, count, start, z, up):  # type: ignore[no-untyped-def]
    """Where vertical rays meet triangles. Counts when ``z`` is empty, else fills."""
    for t in range(tri.shape[0]):
        ax, ay = tri[t, 0, 0], tri[t, 0, 1]
        bx, by = tri[t, 1, 0], tri[t, 1, 1]
        cx, cy = tri[t, 2, 0], tri[t, 2, 1]
        det = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if det == 0.0:
            continue
        i0 = max(int(np.ceil((min(ax, bx, cx) - x0) / dx)), 0)
        i1 = min(int(np.floor((max(ax, bx, cx) - x0) / dx)), nx - 1)
        j0 = max(int(np.ceil((min(ay, by, cy) - y0) / dy)), 0)
        j1 = min(int(np.floor((max(ay, by, cy) - y0) / dy)), ny - 1)
        for i in range(i0, i1 + 1):
            px = x0 + i * dx
            for j in range(j0, j1 + 1):
                py = y0 + j * dy
                u = ((px - ax) * (cy - ay) - (cx - ax) * (py - ay)) / det
                v = ((bx - ax) * (py - ay) - (px - ax) * (by - ay)) / det
                if u < 0 or v < 0 or u + v > 1:
                    continue
                ray = i * ny + j
                if z.shape[0]:
                    k = start[ray] + count[ray]
                    z[k] = tri[t, 0, 2] + u * (tri[t, 1, 2] - tri[t, 0, 2]) + v * (tri[t, 2, 2] - tri[t, 0, 2])
                    up[k] = 1 if det > 0 else -1
                count[ray] += 1


@numba.njit(cache=True, nogil=True)
def _deposit(start, z, up, ny, z0, dz, sub, fill):  # type: ignore[no-untyped-def]
    share = 1.0 / (sub * sub)
    for ray in range(len(start) - 1):
        a, b = start[ray], start[ray + 1]
        if b - a < 2:
            continue
        order = np.argsort(z[a:b])
        i, j = (ray // ny) // sub, (ray % ny) // sub
        depth = 0
        low = 0.0
        for k in order:
            before = depth
            depth -= up[a + k]  # a face looking down (-1) is where the ray enters
            if before <= 0 and depth > 0:
                low = z[a + k]
            elif before > 0 and depth <= 0:
                s, e = (low - z0) / dz, (z[a + k] - z0) / dz
                for c in range(max(int(s), 0), min(int(np.ceil(e)), fill.shape[2])):
                    fill[i, j, c] += share * max(0.0, min(e, c + 1.0) - max(s, float(c)))


def fill_grid(mesh: Mesh, size: Array, shape: tuple[int, int, int]) -> Array:
    """Share of each cell inside the closed mesh: exact along z, 4 x 4 rays across."""
    low = mesh.bounds[0]
    # A hair off the lattice, so that rays do not run along mesh edges.
    dx, dy = size[0] / SUBRAYS, size[1] / SUBRAYS
    x0, y0 = low[0] + dx * 0.50137, low[1] + dy * 0.49871
    nx, ny = shape[0] * SUBRAYS, shape[1] * SUBRAYS
    tri = np.ascontiguousarray(mesh.triangles)
    count = np.zeros(nx * ny, np.int64)
    empty = np.empty(0)
    _crossings(tri, x0, y0, dx, dy, nx, ny, count, np.zeros(1, np.int64), empty, np.empty(0, np.int8))
    start = np.r_[0, np.cumsum(count)]
    z, up = np.empty(start[-1]), np.empty(start[-1], np.int8)
    count[:] = 0
    _crossings(tri, x0, y0, dx, dy, nx, ny, count, start, z, up)
    fill = np.zeros(shape)
    _deposit(start, z, up, ny, low[2], size[2], SUBRAYS, fill)
    return np.minimum(fill, 1.0)


def choose_size(mesh: Mesh, target_cells: int) -> float:
    """A cell size (mm) that gives about ``target_cells`` filled cells."""
    volume = abs(mesh.volume)
    if volume <= 0:
        raise Refused("The part encloses no volume.")
    skin = float(mesh.areas.sum())
    # Cut cells count too: about half a layer of them over the whole surface.
    h = (volume / target_cells) ** (1 / 3)
    for _ in range(20):
        h = ((volume + 0.5 * h * skin) / target_cells) ** (1 / 3)
    return float(h)


def make_grid(mesh: Mesh, cell: float) -> Grid:
    """Lay the grid so that whole cells span the part's box in each direction.

    Refuses when the part is thinner than a cell so widely that bodies fall apart on it.
    """
    extent = np.maximum(mesh.size, 1e-6)
    n = np.maximum(np.round(extent / cell), 1).astype(int)
    if int(n.prod()) > 60_000_000:
        raise Refused(f"A grid of {cell:.2f} mm over this part would have {int(n.prod()) / 1e6:.0f} million cells.")
    size = extent / n
    fill = fill_grid(mesh, size, (int(n[0]), int(n[1]), int(n[2])))
    total = float(fill.sum() * size.prod())
    if abs(total - abs(mesh.volume)) > 0.05 * abs(mesh.volume):
        raise Refused(
            f"The part's walls are too thin for cells of {cell:.2f} mm, or it is not closed: the grid "
            f"holds {total:.0f} mm³ of {abs(mesh.volume):.0f} mm³."
        )
    active = fill > LEAST_FILL
    # Crumbs that touch the rest by an edge only would float: keep face-connected cells of a body's size.
    label, count = ndimage.label(active)
    if count > 1:
        amount = ndimage.sum_labels(fill, label, np.arange(1, count + 1))
        small = np.flatnonzero(amount < 1e-3 * fill.sum()) + 1
        active &= ~np.isin(label, small)
    return number_cells(mesh.bounds[0], size, fill, active)


def number_cells(origin: Array, size: Array, fill: Array, active: np.ndarray) -> Grid:
    cells = np.argwhere(active)
    cell_of = np.full(fill.shape, -1, np.int64)
    cell_of[tuple(cells.T)] = np.arange(len(cells))
    node_shape = np.array(fill.shape) + 1
    corner = cells[:, None, :] + CORNERS
    flat = (corner[..., 0] * node_shape[1] + corner[..., 1]) * node_shape[2] + corner[..., 2]
    used, nodes = np.unique(flat, return_inverse=True)
    place = np.stack(np.unravel_index(used, tuple(node_shape)), axis=1)
    return Grid(origin, size, fill, cell_of, cells, nodes.reshape(-1, 8).astype(np.int64), origin + place * size)


def pieces(grid: Grid) -> tuple[int, Ints]:
    """Number of face-connected pieces and the piece of each active cell."""
    label, count = ndimage.label(grid.cell_of >= 0)
    return int(count), label[tuple(grid.cells.T)].astype(np.int64) - 1
