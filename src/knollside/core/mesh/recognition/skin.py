"""The skin of a part as recognition sees it: triangles with neighbours and bends, and the flat pieces they make."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.mesh.measured import measured
from knollside.core.mesh.patches import Patches, patches_of
from knollside.core.mesh.topology import Edges, edges_of
from knollside.core.model import Array, Ints, Mesh


@dataclass(frozen=True)
class Rim:
    """Sides where some triangles end and others begin (r,): the triangle within, the one beyond, the ``edge`` between
    (r, 3) with its ``length``, and the ``bend`` there (rad, positive where convex)."""

    inner: Ints
    outer: Ints
    edge: Array
    length: Array
    bend: Array


@dataclass(frozen=True)
class Skin:
    """A mesh with, per triangle and side (m, 3): the triangle beyond it (-1 for none) and how the surface bends there
    (rad, positive where convex). ``rounding`` is how far a corner may stand off its true place, mm; ``tolerance`` how
    far one may stand off a surface it is said to be on, ``strict`` how far most may."""

    mesh: Mesh
    edges: Edges
    beyond: Ints
    bend: Array
    normals: Array
    areas: Array
    middles: Array
    patches: Patches
    rounding: float
    tolerance: float
    strict: float

    def rim(self, faces: Ints) -> Rim:
        """Where some triangles end."""
        within = np.zeros(len(self.mesh.faces), bool)
        within[faces] = True
        beyond = self.beyond[faces]
        row, side = np.nonzero((beyond >= 0) & ~within[np.maximum(beyond, 0)])
        inner, corner = faces[row], self.mesh.faces[faces[row]]
        take = np.arange(len(row))
        edge = self.mesh.vertices[corner[take, (side + 1) % 3]] - self.mesh.vertices[corner[take, side]]
        return Rim(inner, beyond[row, side], edge, np.linalg.norm(edge, axis=1), self.bend[inner, side])


def skin_of(mesh: Mesh, step: float) -> Skin:
    """Neighbours, bends and flat pieces of a mesh centred near the origin, whose corners may stand off by ``step``."""
    edges = edges_of(mesh)
    known = measured(mesh, edges)
    beyond = np.full((len(mesh.faces), 3), -1, np.int64)
    bend = np.zeros((len(mesh.faces), 3))
    _across(mesh.faces, edges.pair, edges.corners[edges.pair_edge], known.angle, beyond, bend)
    size = float(mesh.size.max())
    return Skin(
        mesh,
        edges,
        beyond,
        bend,
        known.normals,
        known.areas,
        known.middles,
        patches_of(mesh, edges, step, known),
        step,
        max(2e-4, 1.2 * step, 3e-6 * size),
        max(2e-5, 1.2 * step),
    )


@numba.njit(cache=True, nogil=True)
def _across(faces, pair, corners, angle, beyond, bend):  # type: ignore[no-untyped-def]
    """Fills in, per triangle and side, the triangle beyond and the bend to it."""
    for e in range(len(pair)):
        for m in range(2):
            t, o = pair[e, m], pair[e, 1 - m]
            for k in range(3):
                a, b = faces[t, k], faces[t, (k + 1) % 3]
                if (a == corners[e, 0] and b == corners[e, 1]) or (a == corners[e, 1] and b == corners[e, 0]):
                    beyond[t, k], bend[t, k] = o, angle[e]
