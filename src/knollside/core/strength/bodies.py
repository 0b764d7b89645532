"""A part put into cells, plain or graded: its stiffness, where stress is judged in it, and what is read there."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.mesh.inside import points_inside
from knollside.core.model import Array, Ints, Mesh
from knollside.core.strength import graded_read, recover
from knollside.core.strength.composite import Composite
from knollside.core.strength.element import Brick
from knollside.core.strength.graded import Graded
from knollside.core.strength.grid import Grid
from knollside.core.strength.multigrid import Operator
from knollside.core.strength.rims import fan, inner_edges
from knollside.core.strength.skin import Skin, cell_scale, level_scale
from knollside.core.strength.spots import Spots, sample_graded

_PURE = 1.02  # times the infill's own stiffness: no more of the shell is in such a cell
_CLEAR = 0.98  # of half the critical distance: nearer to an inner edge the stress has no bound


@dataclass(frozen=True)
class Judged:
    """Where stress is judged: ``points`` (n, 3), outward ``normals`` (zero inside), the ``level`` each is read on, and
    the ``volume`` mm3 that an inner one is the middle of."""

    points: Array
    normals: Array
    level: Ints
    volume: Array

    @property
    def surface(self) -> np.ndarray:
        return np.asarray(np.linalg.norm(self.normals, axis=1) > 0)


@dataclass(frozen=True)
class PlainBody:
    """All cells of one size. ``c`` (6, 6) is the solid's stiffness."""

    mesh: Mesh
    grid: Grid
    c: Array
    skin: Skin | None

    @cached_property
    def element(self) -> Brick:
        return Brick(self.grid.size, self.c)

    @cached_property
    def scale(self) -> Array:
        return np.ones(len(self.grid.cells)) if self.skin is None else cell_scale(self.mesh, self.grid, self.skin)

    @property
    def solid(self) -> Array:
        return np.asarray(self.grid.filled * self.scale)

    def stiffness(self, springs: dict[int, Array]) -> Operator:
        g = self.grid
        return Operator(self.element, self.scale, g.cells, g.nodes, g.cut, g.moments, springs)

    def judged(self, depth: float) -> Judged:
        points, normals = recover.judge_points(self.mesh, self.grid, depth, self.scale)
        volume = np.where(np.linalg.norm(normals, axis=1) > 0, 0.0, float(self.grid.size.prod()))
        return Judged(points, normals, np.zeros(len(points), np.int64), volume)

    def read(self, u: Array, judged: Judged) -> tuple[Array, Array]:
        """Stress (k, n, 6) of displacements (k, 3n), and how unsure each reading is: by what share a plane fitted to
        the samples around it differs from a curved surface."""
        samples = recover.sample_stress(self.grid, self.element, u)
        stress = recover.judged_stress(self.grid, samples, judged.points, judged.normals, self.solid)
        mine = np.flatnonzero(judged.surface)
        plane = recover.stress_at(self.grid, samples, judged.points[mine], self.solid, 0.0)
        size = np.sqrt((stress[:, mine] ** 2).sum(axis=(0, 2)))
        apart = np.sqrt(((stress[:, mine] - plane) ** 2).sum(axis=(0, 2)))
        unsure = np.zeros(len(judged.points))
        unsure[mine] = apart / np.maximum(size, 1e-12 + 1e-3 * size.max(initial=0))
        return stress, unsure

    def core(self, u: Array, share: float) -> tuple[Array, Array, Array]:
        """Middles (n, 3) of whole cells of infill, their volume, and the stress (k, n, 6) of solid strained so."""
        mine = np.flatnonzero((self.grid.filled > 0.9) & (self.scale <= _PURE * share))
        values = recover.sample_stress(self.grid, self.element, u).values[mine].mean(axis=1)
        found = values.reshape(len(mine), len(u), 6).transpose(1, 0, 2)
        return self.grid.centres[mine], np.full(len(mine), float(self.grid.size.prod())), found

    def at(self, u: Array, spots: Array) -> Array:
        """Stress (k, p, 6) at any places."""
        samples = recover.sample_stress(self.grid, self.element, u)
        return recover.stress_at(self.grid, samples, spots, self.solid)


@dataclass(frozen=True)
class GradedBody:
    """Cells that get finer towards some places."""

    mesh: Mesh
    grid: Graded
    c: Array
    skin: Skin | None

    @cached_property
    def elements(self) -> list[Brick]:
        return [Brick(v.size, self.c) for v in self.grid.levels]

    @cached_property
    def scales(self) -> list[Array]:
        if self.skin is None:
            return [np.ones(len(v.places)) for v in self.grid.levels]
        return [level_scale(self.grid, k, self._surface, self.skin) for k in range(len(self.grid.levels))]

    @cached_property
    def _surface(self) -> Spots:
        return sample_graded(self.grid, self.mesh, np.arange(len(self.mesh.faces)), 0.9)

    def stiffness(self, springs: dict[int, Array]) -> Composite:
        return Composite(self.grid, self.elements, self.scales, springs)

    def judged(self, depth: float) -> Judged:
        """Half ``depth`` under the surface, a fan of rays round every inner edge looked at closely, and cell middles;
        nowhere nearer to an inner edge or the surface than that."""
        g, half = self.grid, 0.5 * depth
        points, normals = self._surface.points - half * self._surface.normals, self._surface.normals
        edge, one, two = inner_edges(self.mesh, half)
        close = np.asarray(cKDTree(g.sizing.sources).query(edge)[0] < half) if len(edge) else np.zeros(0, np.bool_)
        if len(edge):
            points, normals = _clear(points, normals, edge, _CLEAR * half)
        if close.any():
            around, away = fan(edge[close], one[close], two[close], half)
            inside = points_inside(self.mesh, around)
            points, normals = np.vstack([points, around[inside]]), np.vstack([normals, away[inside]])
        level = graded_read.reading_level(g, points)
        kept = _thinned(g, points, normals, level)
        points, normals, level = points[kept], normals[kept], level[kept]
        middles, volume = self._middles(half, points + half * normals, edge)
        return Judged(
            np.vstack([points, middles]),
            np.vstack([normals, 0 * middles]),
            np.concatenate([level, graded_read.reading_level(g, middles)]),
            np.concatenate([np.zeros(len(points)), volume]),
        )

    def _middles(self, half: float, surface: Array, edge: Array) -> tuple[Array, Array]:
        """Middles of whole solid leaves that lie deep enough, and the volume of each."""
        points, volume, tree = [], [], cKDTree(surface)
        for k, (v, scale) in enumerate(zip(self.grid.levels, self.scales, strict=True)):
            full = (v.fill > 0.9) & (scale > 0.5) & ~v.refined
            at = self.grid.origin + (v.places[full] + 0.5) * v.size
            points.append(at[tree.query(at)[0] > half] if k else at)
            volume.append(np.full(len(points[-1]), float(v.size.prod())))
        middles, each = np.vstack(points), np.concatenate(volume)
        if len(edge):
            middles, each = _clear(middles, each, edge, _CLEAR * half)
        return middles, each

    def read(self, u: Array, judged: Judged) -> tuple[Array, Array]:
        stress = graded_read.stress_on(self.grid, self.elements, self.scales, u, judged.points, judged.level)
        return stress, np.zeros(len(judged.points))

    def core(self, u: Array, share: float) -> tuple[Array, Array, Array]:
        """As of a plain body, each leaf of infill."""
        places, volume, found = [], [], []
        ends = 3 * self.grid.offsets
        for k, (v, scale) in enumerate(zip(self.grid.levels, self.scales, strict=True)):
            mine = np.flatnonzero((v.fill > 0.9) & (scale <= _PURE * share) & ~v.refined)
            part = np.ascontiguousarray(u[:, ends[k] : ends[k + 1]])
            values = recover.sample_stress(v, self.elements[k], part).values[mine].mean(axis=1)
            places.append(self.grid.origin + (v.places[mine] + 0.5) * v.size)
            volume.append(np.full(len(mine), float(v.size.prod())))
            found.append(values.reshape(len(mine), len(u), 6).transpose(1, 0, 2))
        return np.vstack(places), np.concatenate(volume), np.concatenate(found, axis=1)

    def at(self, u: Array, spots: Array) -> Array:
        level = graded_read.reading_level(self.grid, spots)
        return graded_read.stress_on(self.grid, self.elements, self.scales, u, spots, level)


Body = PlainBody | GradedBody


def _clear(points: Array, normals: Array, edge: Array, least: float) -> tuple[Array, Array]:
    """Those at least so far from the points of the inner edges."""
    away = cKDTree(edge).query(points, distance_upper_bound=2 * least)[0] >= least
    return points[away], normals[away]


def _thinned(grid: Graded, points: Array, normals: Array, level: Ints) -> Ints:
    """One point a bucket as large as the cells that it is read on."""
    out = []
    for k, v in enumerate(grid.levels):
        mine = np.flatnonzero(level == k)
        if len(mine):
            out.append(mine[recover.one_a_bucket(points[mine], normals[mine], grid.origin, v.size)])
    return np.concatenate(out)
