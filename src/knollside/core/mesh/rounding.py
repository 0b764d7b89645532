"""How exactly a file tells where its corners are."""

from __future__ import annotations

import numpy as np

from knollside.core.model import Array, Mesh

_SINGLE = 6e-8  # relative rounding of a single-precision number
_GRIDS = (0.05, 0.01, 0.005, 0.001, 0.0005, 0.0001)  # mm; steps that programs round corners to


def grid_of(vertices: Array) -> float:
    """The step that all corners' coordinates are multiples of, mm; 0 where there is none.

    >>> grid_of(np.array([[0.01, 2.34, 5.0], [7.77, 1.0, 0.02]]))
    0.01
    """
    flat = vertices.ravel()
    flat = flat[:: max(1, len(flat) // 30_000)]
    slack = 4 * _SINGLE * float(np.abs(flat).max(initial=0.0)) + 1e-9
    for step in _GRIDS:
        off = np.abs(flat - np.round(flat / step) * step)
        # A part drawn in round numbers is on a coarse grid by itself; corners that run round a curve are not.
        if (off <= slack).all() and len(np.unique(np.round(flat / step))) > 60:
            return step
    return 0.0


def digits_of(vertices: Array) -> float:
    """How far a corner may stand off where all coordinates are written with six digits, mm; 0 where they are not."""
    flat = vertices.ravel()
    flat = np.abs(flat[:: max(1, len(flat) // 30_000)])
    flat = flat[flat > 1e-6]
    if not len(flat):
        return 0.0
    unit = 10.0 ** (np.floor(np.log10(flat) + 1e-9) - 5)
    off = np.abs(flat / unit - np.round(flat / unit))
    slack = 4 * _SINGLE * flat / unit + 1e-6
    return float(unit.max()) / 2 if (off <= slack).mean() > 0.999 and unit.max() > 5e-5 else 0.0


def rounding_of(mesh: Mesh) -> float:
    """How far a corner may stand off its true place by the way it was written, mm."""
    step = grid_of(mesh.vertices)
    single = 2 * _SINGLE * float(np.abs(mesh.vertices).max(initial=0.0))
    return max(0.87 * step, 1.73 * digits_of(mesh.vertices), single)
