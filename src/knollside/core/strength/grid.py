"""A regular grid of brick cells clipped to the part, each with the share it is filled and its moments."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy import ndimage

from knollside.core.model import Array, Ints, Mesh, Refused
from knollside.core.strength.lookup import Lookup, lookup_of
from knollside.core.strength.moments import cell_moments

LEAST_FILL = 0.01
_SPLINTER, _SLIM = 0.03, 0.03  # fill under which a cell may be one, and variance (in half cells) of a slim side


@dataclass(frozen=True)
class Grid:
    """``shape`` cells of ``size`` (3,) mm from ``origin``; ``fill`` (nx, ny, nz) in 0..1.

    Active cells are numbered in ``cell_of`` (-1 elsewhere); ``cells`` (c, 3) are
    their grid places, ``nodes`` (c, 8) their corner numbers and ``points`` (n, 3)
    the corner positions. ``cut`` are the numbers of the cells the surface passes
    through, ``moments`` (m, 27) those of their filled parts.
    """

    origin: Array
    size: Array
    fill: Array
    cell_of: Ints
    cells: Ints
    nodes: Ints
    points: Array
    cut: Ints
    moments: Array

    @property
    def centres(self) -> Array:
        """Middle of each cell, mm (m, 3)."""
        return self.origin + (self.cells + 0.5) * self.size

    @cached_property
    def lookup(self) -> Lookup:
        """Which active cell lies at a place."""
        return lookup_of(self.cells)

    @property
    def filled(self) -> Array:
        """Fill of the active cells, (c,)."""
        return np.asarray(self.fill[tuple(self.cells.T)])

    @property
    def volumes(self) -> Array:
        """What each active cell holds, mm3 (c,)."""
        return np.asarray(self.filled * self.size.prod())


# Corner order of a brick: x fastest, then y, then z.
CORNERS = np.array([[i & 1, i >> 1 & 1, i >> 2 & 1] for i in range(8)])


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
    shape = (int(n[0]), int(n[1]), int(n[2]))
    fill, places, moments = cell_moments(mesh, mesh.bounds[0], size, shape)
    total = float(fill.sum() * size.prod())
    if abs(total - abs(mesh.volume)) > 0.02 * abs(mesh.volume):
        raise Refused(
            f"The grid holds {total:.0f} mm³ where the mesh encloses {abs(mesh.volume):.0f} mm³: it is not closed, "
            "or it passes through itself."
        )
    active = fill > LEAST_FILL
    active[tuple(places[splinters(moments)].T)] = False
    # Crumbs that touch the rest by an edge only would float: keep face-connected cells of a body's size.
    label, count = ndimage.label(active)
    if count > 1:
        amount = ndimage.sum_labels(fill, label, np.arange(1, count + 1))
        small = np.flatnonzero(amount < 1e-3 * fill.sum()) + 1
        active &= ~np.isin(label, small)
    return number_cells(mesh.bounds[0], size, fill, active, places, moments)


def splinters(moments: Array) -> np.ndarray:
    """Which cells, by their ``moments`` (m, 27), hold next to nothing and that slim to two sides or all: the edge or
    corner of a part poking in. They bear nothing, and their corners swing as free as a solve suffers; a skin of the
    same fill that lies along a whole side is none."""
    out = np.asarray(moments[:, 0] < _SPLINTER)
    some = np.flatnonzero(out)
    if not len(some):
        return out
    m = moments[some].reshape(-1, 3, 3, 3).astype(np.float64) / np.maximum(moments[some, 0], 1e-12)[:, None, None, None]
    first = np.stack([m[:, 1, 0, 0], m[:, 0, 1, 0], m[:, 0, 0, 1]], axis=1)
    spread = np.empty((len(some), 3, 3))
    for i in range(3):
        for j in range(3):
            power = [0, 0, 0]
            power[i] += 1
            power[j] += 1
            spread[:, i, j] = m[:, power[0], power[1], power[2]] - first[:, i] * first[:, j]
    out[some] = np.linalg.eigvalsh(spread)[:, 1] < _SLIM
    return out


def number_cells(
    origin: Array,
    size: Array,
    fill: Array,
    active: np.ndarray,
    places: Ints | None = None,
    moments: Array | None = None,
) -> Grid:
    """Number the active cells and their corners; cells with no moments given count as whole."""
    cells = np.argwhere(active)
    cell_of = np.full(fill.shape, -1, np.int64)
    cell_of[tuple(cells.T)] = np.arange(len(cells))
    number = np.full(tuple(n + 1 for n in fill.shape), -1, np.int32)
    for corner in CORNERS:
        number[tuple((cells + corner).T)] = 0
    place = np.argwhere(number == 0)
    number[tuple(place.T)] = np.arange(len(place), dtype=np.int32)
    nodes = np.stack([number[tuple((cells + corner).T)] for corner in CORNERS], axis=1)
    if places is None or moments is None:
        places, moments = np.zeros((0, 3), np.int64), np.zeros((0, 27))
    which = cell_of[tuple(places.T)]
    kept = which >= 0
    return Grid(
        origin,
        size,
        fill,
        cell_of,
        cells,
        nodes.astype(np.int64),
        origin + place * size,
        which[kept],
        moments[kept],
    )


def pieces(grid: Grid) -> tuple[int, Ints]:
    """Number of face-connected pieces and the piece of each active cell."""
    label, count = ndimage.label(grid.cell_of >= 0)
    return int(count), label[tuple(grid.cells.T)].astype(np.int64) - 1
