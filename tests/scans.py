"""Meshes as scanners and smoothing programs make them, of a plate whose sizes are known."""

from __future__ import annotations

from functools import lru_cache

import manifold3d as m3
import numpy as np
import trimesh
from conftest import mesh_of

from knollside.core.model import Mesh

# Of the plate, 26 x 18 x 6 mm: hole (7, 9) through, slot from (16, 5) to (21, 5), blind hole (18, 12) to z = 2,
# peg (7, 3) to z = 11; diameters.
HOLE, SLOT, BLIND, PEG = 8.0, 4.0, 5.0, 3.6
SPAN = 5.0


def _box(x: float, y: float, z: float, low: tuple[float, float, float], high: tuple[float, float, float]) -> float:
    q = [abs(v - (a + b) / 2) - (b - a) / 2 for v, a, b in zip((x, y, z), low, high, strict=True)]
    return float(np.sqrt(sum(max(v, 0.0) ** 2 for v in q)) + min(max(q), 0.0))


def _outside(x: float, y: float, z: float) -> float:
    """Distance to the plate's surface, positive outside it (near its edges only nearly)."""
    peg = max(np.hypot(x - 7, y - 2.9) - PEG / 2, z - 11, -z)
    d = min(_box(x, y, z, (0, 0, 0), (26, 18, 6)), peg)
    d = max(d, HOLE / 2 - np.hypot(x - 7, y - 10))
    d = max(d, min(BLIND / 2 - np.hypot(x - 18, y - 12.5), z - 2))
    along = np.clip(x, 15, 15 + SPAN)
    return float(max(d, SLOT / 2 - np.hypot(x - along, y - 5)))


@lru_cache(maxsize=4)
def plate(pitch: float = 0.6) -> Mesh:
    """Its corners on the surface, triangles of about ``pitch`` mm that know nothing of rounds."""
    made = m3.Manifold.level_set(lambda x, y, z: -_outside(x, y, z), [-1, -1, -1, 27, 19, 12], pitch)
    return mesh_of(made)


def scanned(scatter: float, seed: int = 1, pitch: float = 0.6) -> Mesh:
    """The plate with every corner moved about by ``scatter`` mm each way."""
    clean = plate(pitch)
    moved = clean.vertices + np.random.default_rng(seed).normal(0, scatter, clean.vertices.shape)
    return Mesh(moved, clean.faces)


def softened(pitch: float = 0.6) -> Mesh:
    """The plate smoothed, so that no surface is what it was."""
    clean = plate(pitch)
    t = trimesh.Trimesh(clean.vertices, clean.faces, process=False)
    trimesh.smoothing.filter_humphrey(t, iterations=5)
    return Mesh(np.asarray(t.vertices), clean.faces)
