"""The brick element: trilinear with incompatible modes, condensed.

E. L. Wilson, R. L. Taylor, W. P. Doherty, J. Ghaboussi, "Incompatible
displacement models" (1973); on a rectangular brick the modes pass the patch
test as they stand (their gradients integrate to zero over the cell).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.model import Array
from knollside.core.strength.grid import CORNERS

_G = 1 / np.sqrt(3)
GAUSS = np.array([[x, y, z] for z in (-_G, _G) for y in (-_G, _G) for x in (-_G, _G)])


def isotropic(e: float, nu: float) -> Array:
    """Stiffness matrix (6, 6), order xx, yy, zz, yz, zx, xy (engineering shear strains)."""
    c = np.zeros((6, 6))
    c[:3, :3] = nu
    c[np.arange(3), np.arange(3)] = 1 - nu
    c[np.arange(3, 6), np.arange(3, 6)] = (1 - 2 * nu) / 2
    return c * e / ((1 + nu) * (1 - 2 * nu))


def layered(e: float, nu: float, ratio: float, direction: Array) -> Array:
    """Transversely isotropic: modulus ``ratio`` * e along the build ``direction``, e in the layer."""
    ez = ratio * e
    g = e / (2 * (1 + nu))
    s = np.zeros((6, 6))
    s[0, 0] = s[1, 1] = 1 / e
    s[2, 2] = 1 / ez
    s[0, 1] = s[1, 0] = -nu / e
    s[0, 2] = s[2, 0] = s[1, 2] = s[2, 1] = -nu / e
    s[3, 3] = s[4, 4] = 1 / (g * ratio)
    s[5, 5] = 1 / g
    z = np.asarray(direction, float) / np.linalg.norm(direction)
    x = np.cross(z, [1.0, 0, 0] if abs(z[0]) < 0.9 else [0, 1.0, 0])
    x /= np.linalg.norm(x)
    return _turn(np.linalg.inv(s), np.stack([x, np.cross(z, x), z]))


_VOIGT = ((0, 0), (1, 1), (2, 2), (1, 2), (2, 0), (0, 1))


def _turn(c: Array, r: Array) -> Array:
    """Rotate a stiffness from the frame whose axes are the rows of ``r`` into the part's frame."""
    full = np.zeros((3, 3, 3, 3))
    for a, (i, j) in enumerate(_VOIGT):
        for b, (k, m) in enumerate(_VOIGT):
            for p, q in ((i, j), (j, i)):
                for u, v in ((k, m), (m, k)):
                    full[p, q, u, v] = c[a, b]
    full = np.einsum("pi,qj,uk,vm,pquv->ijkm", r, r, r, r, full, optimize=True)
    return np.array([[full[i, j, k, m] for k, m in _VOIGT] for i, j in _VOIGT])


def shape(xi: Array) -> Array:
    """Trilinear shape functions at local points in -1..1: (..., 8)."""
    s = 2 * CORNERS - 1
    return np.asarray(np.prod(1 + s * xi[..., None, :], axis=-1) / 8)


def _strain(gradient: Array) -> Array:
    """Strain rows (6, 3k) from shape gradients (k, 3)."""
    b = np.zeros((6, 3 * len(gradient)))
    gx, gy, gz = gradient.T
    b[0, 0::3], b[1, 1::3], b[2, 2::3] = gx, gy, gz
    b[3, 1::3], b[3, 2::3] = gz, gy
    b[4, 0::3], b[4, 2::3] = gz, gx
    b[5, 0::3], b[5, 1::3] = gy, gx
    return b


@dataclass(frozen=True)
class Brick:
    """``stiffness`` (24, 24) of one full cell and ``stress`` (8, 6, 24): stress at the Gauss
    points from the corner displacements, incompatible modes included."""

    stiffness: Array
    stress: Array


def brick(size: Array, c: Array) -> Brick:
    """Element for a cell of ``size`` (3,) mm and material stiffness ``c`` (6, 6) MPa."""
    half = np.asarray(size, float) / 2
    s = 2 * CORNERS - 1
    volume = float(np.prod(half))
    kuu, kua, kaa = np.zeros((24, 24)), np.zeros((24, 9)), np.zeros((9, 9))
    rows = []
    for xi in GAUSS:
        one = 1 + s * xi
        g = (
            np.stack(
                [s[:, 0] * one[:, 1] * one[:, 2], s[:, 1] * one[:, 0] * one[:, 2], s[:, 2] * one[:, 0] * one[:, 1]],
                axis=1,
            )
            / 8
            / half
        )
        bu = _strain(g)
        ba = _strain(np.diag(-2 * xi) / half)
        kuu += bu.T @ c @ bu * volume
        kua += bu.T @ c @ ba * volume
        kaa += ba.T @ c @ ba * volume
        rows.append((bu, ba))
    release = np.linalg.solve(kaa, kua.T)  # modes take the value that costs least
    stress = np.array([c @ (bu - ba @ release) for bu, ba in rows])
    k = kuu - kua @ release
    return Brick((k + k.T) / 2, stress)
