"""The element's inner loops: modes released cell by cell, stress read cell by cell."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, parallel=True, nogil=True, fastmath={"contract", "reassoc"})
def condense(packed, strain, c, volume, stiffness, release):  # type: ignore[no-untyped-def]
    """Release nine modes of each cell.

    ``packed`` (m, 561): upper triangle of the 33 x 33 energy over the filled part (24 displacements, 9
    modes); ``strain`` (m, 6 * 33): integrated strain rows; both per cell volume. Fills ``stiffness``
    (m, 24, 24), times ``volume``, and ``release`` (m, 9, 24).
    """
    for m in numba.prange(packed.shape[0]):
        full = np.empty((33, 33))
        at = 0
        for i in range(33):
            for j in range(i, 33):
                full[i, j] = packed[m, at]
                full[j, i] = packed[m, at]
                at += 1
        b = strain[m]
        # Share of the cell that is filled, from the integral of any constant: kept in the last slot.
        share = max(b[6 * 33], 1e-9)
        stress = np.zeros((6, 9))
        for i in range(6):
            for j in range(6):
                f = c[i, j] / share
                if f != 0.0:
                    for k in range(9):
                        stress[i, k] += f * b[33 * j + 24 + k]
        for i in range(33):
            for k in range(9):
                s = 0.0
                for q in range(6):
                    s += b[33 * q + i] * stress[q, k]
                full[i, 24 + k] -= s
        trace = 0.0
        for k in range(9):
            trace += full[24 + k, 24 + k]
        low = np.zeros((9, 9))
        for i in range(9):  # Cholesky; a sliver hardly feels some modes, a hair of stiffness keeps them
            for j in range(i + 1):
                s = full[24 + i, 24 + j]
                if i == j:
                    s += 1e-7 * trace + 1e-30
                for k in range(j):
                    s -= low[i, k] * low[j, k]
                low[i, j] = np.sqrt(max(s, 1e-9 * trace + 1e-30)) if i == j else s / low[j, j]
        half = np.empty((9, 24))
        for col in range(24):
            for i in range(9):
                s = full[col, 24 + i]
                for k in range(i):
                    s -= low[i, k] * half[k, col]
                half[i, col] = s / low[i, i]
        for i in range(24):
            for j in range(i, 24):
                s = full[i, j]
                for k in range(9):
                    s -= half[k, i] * half[k, j]
                stiffness[m, i, j] = volume * s
                stiffness[m, j, i] = volume * s
        for col in range(24):
            for i in range(8, -1, -1):
                s = half[i, col]
                for k in range(i + 1, 9):
                    s -= low[k, i] * release[m, k, col]
                release[m, i, col] = s / low[i, i]


@numba.njit(cache=True, parallel=True, nogil=True)
def read_stress(nodes, u, which, release, middle, spread, half, c, corners, out):  # type: ignore[no-untyped-def]
    """Stress (m, 6, 6) of cells at middle +- spread; ``which`` (m,) picks each cell's row of ``release``."""
    for m in numba.prange(nodes.shape[0]):
        r = which[m]
        own = np.empty((8, 3))
        for a in range(8):
            for i in range(3):
                own[a, i] = u[3 * nodes[m, a] + i]
        modes = np.zeros(9)
        for k in range(9):
            s = 0.0
            for a in range(8):
                for i in range(3):
                    s -= release[r, k, 3 * a + i] * own[a, i]
            modes[k] = s
        d = np.empty((3, 3))
        for p in range(6):
            axis = p % 3
            x0, x1, x2 = middle[m, 0], middle[m, 1], middle[m, 2]
            step = spread[m, axis] if p < 3 else -spread[m, axis]
            if axis == 0:
                x0 += step
            elif axis == 1:
                x1 += step
            else:
                x2 += step
            d[:] = 0.0
            for a in range(8):
                f0, f1, f2 = 1 + corners[a, 0] * x0, 1 + corners[a, 1] * x1, 1 + corners[a, 2] * x2
                g0 = corners[a, 0] * f1 * f2 / (8 * half[0])
                g1 = corners[a, 1] * f0 * f2 / (8 * half[1])
                g2 = corners[a, 2] * f0 * f1 / (8 * half[2])
                for i in range(3):
                    d[i, 0] += own[a, i] * g0
                    d[i, 1] += own[a, i] * g1
                    d[i, 2] += own[a, i] * g2
            # A mode is 1 - x_k^2: its slope about the filled middle is -2 times the step along its own axis.
            for i in range(3):
                d[i, axis] += modes[3 * axis + i] * (-2 * step) / half[axis]
            e0, e1, e2 = d[0, 0], d[1, 1], d[2, 2]
            e3, e4, e5 = d[1, 2] + d[2, 1], d[0, 2] + d[2, 0], d[0, 1] + d[1, 0]
            for i in range(6):
                out[m, p, i] = c[i, 0] * e0 + c[i, 1] * e1 + c[i, 2] * e2 + c[i, 3] * e3 + c[i, 4] * e4 + c[i, 5] * e5
