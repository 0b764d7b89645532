"""How small the grid's cells should be: by the shell, the thinnest walls, and the memory at hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from knollside.core.mesh.walls import gap, thickness
from knollside.core.model import Array, Mesh, Refused
from knollside.core.strength.grid import choose_size
from knollside.core.strength.skin import Skin
from knollside.core.strength.spots import sample_faces

if TYPE_CHECKING:
    from knollside.core.strength.field import StressField

ACROSS = 2.0  # cells wanted through a wall: two give its bending to 1 or 2 %
THIN_SHARE = 0.05  # of the surface a thin wall must make up to set the cells of the whole part
SLIT_SHARE = 0.005  # of the surface that must face a slit for it to be spoken of
MORE = 2.0  # times the usual count of cells a thin shell or wall may ask for
# Measured on hollow parts, whose cells all keep their own numbers; a solid one takes a third.
BYTES_A_CELL = 5000
_RAYS, _TESTS = 3000, 1e8  # rays at most, and ray-triangle tests: some tenths of a second
# How much too stiff a wall on a slant to the grid was found, by cells across it (docs/methods.md 1.4).
_CELLS, _STIFF = (1.0, 2.0, 3.0, 4.0, 6.0), (0.33, 0.13, 0.07, 0.04, 0.0)


@dataclass(frozen=True)
class MeshSize:
    """The cell ``size`` to ask for, the one ``wanted``, mm, and ``why``; the ``narrowest`` slit of the part, mm."""

    size: float
    wanted: float
    why: str
    narrowest: float = np.inf

    def warning(self, cell: float) -> str | None:
        """What the grid of that cell size cannot see, in a sentence."""
        if self.narrowest >= cell:
            return None
        return (
            f"A slit of {self.narrowest:.2g} mm is narrower than a cell ({cell:.2g} mm): the solve may take its two "
            "sides as one. Ask for more cells, or do not count on the number there."
        )

    @property
    def short(self) -> bool:
        """Whether the cells are larger than they should be."""
        return self.size > 1.02 * self.wanted


def choose_mesh_size(mesh: Mesh, cells: int, skin: Skin | None) -> MeshSize:
    """Cells for about ``cells`` of them, or up to twice as many where the shell or thin walls ask for it.

    Half the shell for stress in it (docs/methods.md 1.3), two cells through the wall that a twentieth of the surface
    is thinner than.
    """
    usual = choose_size(mesh, cells)
    least = choose_size(mesh, int(min(MORE * cells, max(free_memory() / 2 / BYTES_A_CELL, cells))))
    wanted, why = usual, f"for about {cells:,} of them"
    wall = thin_wall(mesh)
    if wall / ACROSS < wanted:
        wanted, why = wall / ACROSS, f"two across the thin walls, {wall:.1f} mm"
    if skin is not None and skin.walls / 2 < wanted:
        wanted, why = skin.walls / 2, f"half the shell of {skin.walls:.1f} mm"
    size = max(wanted, least)
    if size > 1.02 * wanted:
        why = f"as many as answer quickly; {wanted:.2f} mm would be {why}"
    return MeshSize(size, wanted, why, narrow_slit(mesh))


def thin_wall(mesh: Mesh) -> float:
    """The wall thickness, mm, that a twentieth of the surface is thinner than."""
    return _least(mesh, thickness, THIN_SHARE)


def narrow_slit(mesh: Mesh) -> float:
    """The free room, mm, that a two-hundredth of the surface faces less of; inf where nothing faces it."""
    return _least(mesh, gap, SLIT_SHARE)


def _least(mesh: Mesh, measure: Callable[[Mesh, Array, Array], Array], part: float) -> float:
    """What ``part`` of the surface lies under, by rays from even places."""
    spots = sample_faces(mesh, np.arange(len(mesh.faces)), max(float(mesh.size.max()) / 40, 1e-3))
    rays = min(len(spots.points), _RAYS, max(int(_TESTS / len(mesh.faces)), 200))
    some = np.linspace(0, len(spots.points) - 1, rays).astype(int)
    found = measure(mesh, spots.points[some], spots.normals[some])
    order = np.argsort(found)
    share = np.cumsum(spots.area[some][order]) / spots.area[some].sum()
    return float(found[order][min(int(np.searchsorted(share, part)), len(order) - 1)])


def too_stiff(cells_across: float, normal: Array) -> float:
    """By how much (a share) a wall so many cells thick may be too stiff; nothing along the lattice."""
    if float(np.abs(normal).max()) > 0.995:
        return 0.0
    return float(np.interp(cells_across, _CELLS, _STIFF))


@dataclass(frozen=True)
class WallDepth:
    """The wall at a place: ``depth`` mm, ``cells`` across it, and by what share it may be ``too_stiff``."""

    depth: float
    cells: float
    too_stiff: float


def wall_at(mesh: Mesh, field: StressField, at: tuple[float, float, float]) -> WallDepth:
    """The wall under the judged surface place nearest to ``at``."""
    surface = np.flatnonzero(np.linalg.norm(field.normals, axis=1) > 0)
    p = surface[int(np.argmin(np.linalg.norm(field.points[surface] - np.asarray(at), axis=1)))]
    normal = field.normals[p]
    # Judged places lie a little under the surface: the way back to it counts too.
    deep = float(thickness(mesh, field.points[p][None], normal[None])[0])
    back = float(thickness(mesh, field.points[p][None], -normal[None])[0])
    depth = deep + (back if np.isfinite(back) else 0.0)
    cells = depth / field.cell_at(np.asarray(at))
    return WallDepth(depth, cells, too_stiff(cells, normal))


def free_memory() -> float:
    """Bytes that can be had without swapping; a large number where the system does not tell."""
    try:
        for line in Path("/proc/meminfo").read_text().splitlines():
            if line.startswith("MemAvailable:"):
                return 1024.0 * float(line.split()[1])
    except (OSError, ValueError, IndexError):
        pass
    return 1e12


def refuse_if_short(cells: int) -> None:
    """Say so before the machine starts to swap."""
    need, free = cells * BYTES_A_CELL, free_memory()
    if need > 0.8 * free:
        raise Refused(
            f"{cells:,} cells need about {need / 1e9:.1f} GB and {free / 1e9:.1f} GB are free. "
            "Ask for fewer cells, or close something."
        )
