"""The brick element, whole or cut: trilinear with incompatible modes, condensed.

E. L. Wilson, R. L. Taylor, W. P. Doherty, J. Ghaboussi, "Incompatible
displacement models" (1973). A cell that the surface cuts is integrated over its
filled part only, from that part's moments; the modes' gradients are taken about
their mean over the filled part, so that the patch test holds there too (R. L.
Taylor, P. J. Beresford, E. L. Wilson 1976).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.model import Array
from knollside.core.strength.condense import condense
from knollside.core.strength.grid import CORNERS

# A whole cell's moments: the mean of x^a is 1, 0, 1/3.
WHOLE = np.einsum("a,b,c->abc", *[np.array([1.0, 0.0, 1.0 / 3.0])] * 3).reshape(27)


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


# The order of six stresses or strains.
VOIGT = ((0, 0), (1, 1), (2, 2), (1, 2), (2, 0), (0, 1))


def _turn(c: Array, r: Array) -> Array:
    """Rotate a stiffness from the frame whose axes are the rows of ``r`` into the part's frame."""
    full = np.zeros((3, 3, 3, 3))
    for a, (i, j) in enumerate(VOIGT):
        for b, (k, m) in enumerate(VOIGT):
            for p, q in ((i, j), (j, i)):
                for u, v in ((k, m), (m, k)):
                    full[p, q, u, v] = c[a, b]
    full = np.einsum("pi,qj,uk,vm,pquv->ijkm", r, r, r, r, full, optimize=True)
    return np.array([[full[i, j, k, m] for k, m in VOIGT] for i, j in VOIGT])


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


def _gradients(xi: Array) -> Array:
    """Local shape gradients (8, 3) at one local point."""
    s = 2 * CORNERS - 1
    one = 1 + s * xi
    return np.stack(
        [s[:, 0] * one[:, 1] * one[:, 2], s[:, 1] * one[:, 0] * one[:, 2], s[:, 2] * one[:, 0] * one[:, 1]], axis=1
    ) / np.float64(8)


def _to_powers() -> Array:
    """(27, 27): values at the 3 x 3 x 3 points -1, 0, 1 to coefficients of x^a y^b z^c."""
    v = np.linalg.inv(np.vander([-1.0, 0.0, 1.0], 3, increasing=True))
    return np.asarray(np.einsum("ai,bj,ck->abcijk", v, v, v).reshape(27, 27))


_NODES = np.array([[x, y, z] for x in (-1.0, 0, 1) for y in (-1.0, 0, 1) for z in (-1.0, 0, 1)])


@dataclass(frozen=True)
class Cells:
    """Condensed cells: ``stiffness`` (m, 24, 24), and the modes' ``release`` (m, 9, 24)."""

    stiffness: Array
    release: Array


class Brick:
    """Cells of ``size`` (3,) mm with material stiffness ``c`` (6, 6) MPa, from the moments of their filled parts."""

    def __init__(self, size: Array, c: Array) -> None:
        self.half = np.asarray(size, float) / 2
        self.volume = float(np.prod(2 * self.half))
        self.c = np.ascontiguousarray(c)
        to_powers = _to_powers()
        b = np.array([np.hstack([self._shape_strain(x), self._mode_strain(x)]) for x in _NODES])
        energy = np.einsum("qpi,pr,qrj->qij", b, c, b, optimize=True).reshape(27, -1)
        upper = np.triu_indices(33)
        energy = (to_powers @ energy).reshape(27, 33, 33)
        self._energy = np.ascontiguousarray(energy[:, upper[0], upper[1]])
        self._strain = (to_powers @ b.reshape(27, -1)).reshape(27, 6 * 33)
        whole = self.condense(WHOLE[None])
        self.stiffness, self.release = whole.stiffness[0], whole.release[0]

    def _shape_strain(self, xi: Array) -> Array:
        return _strain(_gradients(xi) / self.half)

    def _mode_strain(self, xi: Array) -> Array:
        return _strain(np.diag(-2 * xi) / self.half)

    def condense(self, moments: Array) -> Cells:
        """Cells from ``moments`` (m, 27) of their filled parts (per cell volume)."""
        strain = np.hstack([moments @ self._strain, moments[:, :1]])
        stiffness, release = np.empty((len(moments), 24, 24)), np.empty((len(moments), 9, 24))
        condense(moments @ self._energy, strain, self.c, self.volume, stiffness, release)
        return Cells(stiffness, release)


def gradient_products(size: Array, moments: Array) -> tuple[Array, Array]:
    """Integrals of dNa/dxi dNb/dxj, both ways round, for the six stresses of :func:`isotropic`'s order: of a whole
    cell of ``size`` (6, 8, 8) and of cells with ``moments`` (m, 27) of their filled parts (m, 6, 8, 8), mm."""
    half = np.asarray(size, float) / 2
    slopes = np.array([_gradients(x) / half for x in _NODES])
    table = np.empty((27, 6, 8, 8))
    for s, (i, j) in enumerate(VOIGT):
        one = np.einsum("qa,qb->qab", slopes[:, :, i], slopes[:, :, j])
        table[:, s] = one if i == j else one + one.transpose(0, 2, 1)
    powers = (_to_powers() @ table.reshape(27, -1)) * float(np.prod(2 * half))
    return (WHOLE @ powers).reshape(6, 8, 8), (moments @ powers).reshape(-1, 6, 8, 8)


def filled_spots(moments: Array) -> tuple[Array, Array]:
    """Middle and spread (m, 3) of the filled parts, local coordinates."""
    m = moments.reshape(-1, 3, 3, 3)
    share = np.maximum(m[:, 0, 0, 0], 1e-12)[:, None]
    first = np.stack([m[:, 1, 0, 0], m[:, 0, 1, 0], m[:, 0, 0, 1]], axis=1) / share
    second = np.stack([m[:, 2, 0, 0], m[:, 0, 2, 0], m[:, 0, 0, 2]], axis=1) / share
    return np.clip(first, -1, 1), np.sqrt(np.clip(second - first**2, 1e-6, 1.0 / 3.0))
