"""Conjugate gradients with geometric multigrid on brick cells, without a global matrix.

Coarse levels are exact Galerkin products kept cell by cell while they are
built (eight children fold into one parent) and as stencils afterwards.
Smoother: Chebyshev over 3 x 3 block Jacobi (Adams, Brezina, Hu, Tuminaro 2003).
The cycle runs in single precision inside double-precision conjugate gradients.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numba
import numpy as np
from scipy.linalg import cho_factor, cho_solve, eigh_tridiagonal

from knollside.core.model import Array, Ints, Refused
from knollside.core.strength.element import Brick
from knollside.core.strength.grid import CORNERS
from knollside.core.strength.stencil import Gatherer, Stencil


class NotSettled(Refused):
    """A solve that went on and on: some sliver of the grid hangs by almost nothing. Another grid may have none."""


_COARSEST = 260  # nodes; below it a dense factor is cheapest
_LANCZOS = 12
_BATCH = 3000  # cut cells condensed at a time: their matrices are never held all at once


def _fold() -> Array:
    """(8, 24, 24): trilinear interpolation from a parent's corners to those of each child."""
    out = np.zeros((8, 24, 24))
    for child, off in enumerate(CORNERS):
        for a, c in enumerate(CORNERS):
            x = (off + c) / 2
            for b, p in enumerate(CORNERS):
                w = np.prod(np.where(p == 1, x, 1 - x))
                for d in range(3):
                    out[child, 3 * a + d, 3 * b + d] = w
    return out


_FOLD = _fold()
WEIGHT = _FOLD[:, 0::3, 0::3].astype(np.float32)  # (child, its corner, parent corner)


@dataclass
class Smoothed:
    """One level as the cycle sees it."""

    stencil: Stencil
    inverse: Array  # (n, 3, 3) float32, of the block diagonal
    bound: float  # largest eigenvalue of the smoothed operator
    parents: tuple[Ints, Array] | None  # per node: 8 coarse nodes and weights
    children: tuple[Ints, Array] | None  # per coarse node: up to 27 fine nodes and weights


class Operator:
    """Stiffness of whole and cut cells plus springs at held places.

    ``brick`` the element; ``scale`` (c,) share of the solid modulus; ``cells`` (c, 3) grid places,
    ``nodes`` (c, 8); ``cut`` numbers of the cut cells with their ``moments`` (m, 27); ``springs``
    extra cell matrices by cell number.
    """

    def __init__(
        self,
        brick: Brick,
        scale: Array,
        cells: Ints,
        nodes: Ints,
        cut: Ints,
        moments: Array,
        springs: dict[int, Array],
    ) -> None:
        self.count = int(nodes.max()) + 1
        held = np.array(sorted(springs), np.int64)
        spring = np.array([springs[int(c)] for c in held]) if len(held) else np.zeros((0, 24, 24))
        even = np.ones(len(nodes), np.bool_)
        even[cut] = False
        whole = np.flatnonzero(even)
        even[held] = False
        fine = Gatherer(nodes, self.count, brick.stiffness, even, scale)
        fine.add(whole, brick.stiffness[None], scale[whole])
        up = _Parents(cells, even, scale)
        ke = up.of_whole(whole, brick.stiffness, scale)
        for a in range(0, len(cut), _BATCH):
            batch = cut[a : a + _BATCH]
            stiffness = brick.condense(moments[a : a + _BATCH]).stiffness
            fine.add(batch, stiffness, scale[batch])
            up.fold(ke, batch, stiffness, scale[batch])
        fine.add(held, spring, np.ones(len(held)))
        up.fold(ke, held, spring, np.ones(len(held)))
        self.fine = fine.done()
        self.levels: list[Smoothed] = [smoothed(self.fine, self.count)]
        self._coarsen(nodes, up, ke, fold_whole(brick.stiffness).sum(axis=0))

    def _coarsen(self, nodes: Ints, up: _Parents, ke: Array, whole: Array) -> None:
        """Levels from the first parents on: ``ke`` the odd ones' matrices, the even ones multiples of ``whole``."""
        while True:
            coarse_nodes, count = _number(up.place)
            who, weight = _hand_up(nodes, up, coarse_nodes)
            self.levels[-1].parents = who, weight
            self.levels[-1].children = children_of(who, weight, count)
            even = np.flatnonzero(up.even)
            made = Gatherer(coarse_nodes, count, whole, up.even, up.scale, exact=False)
            made.add(even, whole[None], up.scale[even])
            made.add(up.odd, ke, np.ones(len(ke)))
            self.levels.append(smoothed(made.done(), count))
            if count <= _COARSEST or up.place.max() < 1:
                break
            higher = _Parents(up.place, up.even, up.scale)
            folded = higher.of_whole(even, whole, up.scale)
            higher.fold(folded, up.odd, ke, np.ones(len(ke)))
            nodes, up, ke, whole = coarse_nodes, higher, folded, fold_whole(whole).sum(axis=0)
        for level in self.levels[:-1]:
            level.bound = largest(level)
        n = 3 * count
        full = np.zeros((n, n))
        dof = (3 * coarse_nodes[:, :, None] + np.arange(3)).reshape(-1, 24)
        every = up.scale[:, None, None] * whole
        every[up.odd] = ke
        np.add.at(full, (dof[:, :, None], dof[:, None, :]), every)
        full[np.arange(n), np.arange(n)] += 1e-9 * full.diagonal().max()
        self._coarse = cho_factor(full)

    def apply(self, u: Array) -> Array:
        """K u in double precision, for one vector (3n,) or several (m, 3n)."""
        return self.fine.apply(np.atleast_2d(u)).reshape(u.shape)

    def cycle(self, r: Array, i: int = 0) -> Array:
        """One symmetric W-cycle in single precision: approximately K_i^-1 r, for vectors (m, 3n)."""
        level = self.levels[i]
        if i == len(self.levels) - 1:
            return cho_solve(self._coarse, r.T.astype(np.float64)).T.astype(np.float32, order="C")
        u = smooth(level, np.zeros_like(r), r, True)
        assert level.parents is not None and level.children is not None
        rest = level.stencil.rest(u, r)
        coarse = np.empty((len(r), 3 * len(level.children[0])), np.float32)
        gather(*level.children, rest, coarse)
        e = self.cycle(coarse, i + 1)
        if i + 2 < len(self.levels):
            # Twice on the coarse levels (a W): they are cheap, and trilinear coarse cells are stiff in bending.
            e += self.cycle(self.levels[i + 1].stencil.rest(e, coarse), i + 1)
        spread(*level.parents, e, u)
        return smooth(level, u, r, False)

    def solve(
        self,
        f: Array,
        tolerance: float = 1e-7,
        limit: int = 300,
        tick: Callable[[float], None] | None = None,
        start: Array | None = None,
    ) -> tuple[Array, int]:
        """Displacements for nodal forces ``f``, one load (3n,) or several at once (m, 3n): the set-up's numbers
        are then read once for all of them. Returns them and the iterations taken."""
        x, k = conjugate_gradients(self.apply, self.cycle, np.atleast_2d(f), tolerance, limit, tick, start)
        return x.reshape(f.shape), k


def conjugate_gradients(
    apply: Callable[[Array], Array],
    cycle: Callable[[Array], Array],
    b: Array,
    tolerance: float,
    limit: int = 300,
    tick: Callable[[float], None] | None = None,
    start: Array | None = None,
) -> tuple[Array, int]:
    """Solve for vectors ``b`` (m, n) at once: ``apply`` in double precision, ``cycle`` about its inverse in single."""
    norm = np.linalg.norm(b, axis=1, keepdims=True)
    norm[norm == 0] = 1.0
    x = np.zeros_like(b) if start is None else np.atleast_2d(start).copy()
    r = b - apply(x) if start is not None else b.copy()
    p, rz, least = np.zeros_like(b), np.ones_like(norm), 1.0
    for k in range(limit + 1):
        size = np.linalg.norm(r, axis=1, keepdims=True)
        error = float((size / norm).max())
        if tick is not None and k:
            least = min(least, error)  # it may rise before it falls
            tick(min(0.99, np.log(max(least, tolerance)) / np.log(tolerance)))
        if error < tolerance:
            return x, k
        z = preconditioned(cycle, r, size)
        fresh = _dot(r, z)
        p *= np.where(k, fresh / rz, 0.0)
        p += z
        rz = np.where(fresh > 0, fresh, 1.0)
        q = apply(p)
        bent = _dot(p, q)
        alpha = np.where(bent > 0, fresh / np.where(bent > 0, bent, 1.0), 0.0)
        x += alpha * p
        r -= alpha * q
    raise NotSettled(
        f"The stress solve did not settle in {limit} rounds (error {error:.1e}); "
        "part of the body may be held by almost nothing."
    )


def preconditioned(cycle: Callable[[Array], Array], r: Array, size: Array) -> Array:
    """What a ``cycle`` in single precision makes of residuals (m, n), each of norm ``size`` (m, 1), however small."""
    size = np.where(size == 0, 1.0, size)
    return np.asarray(cycle((r / size).astype(np.float32)).astype(np.float64) * size)


def _dot(a: Array, b: Array) -> Array:
    """Products of each pair of vectors, (m, 1)."""
    return np.asarray(np.einsum("mi,mi->m", a, b))[:, None]


class _Parents:
    """The next coarser cells: ``parent`` and ``child`` place of each cell, ``place`` (p, 3) of the parents.

    A parent of eight ``even`` cells of one ``scale`` is even itself and keeps no matrix; ``odd`` numbers the others.
    """

    def __init__(self, cells: Ints, even: np.ndarray, scale: Array) -> None:
        up = cells // 2
        self.child = (cells % 2) @ np.array([1, 2, 4])
        span = up.max(axis=0) + 1
        key = (up[:, 0] * span[1] + up[:, 1]) * span[2] + up[:, 2]
        unique, self.parent = np.unique(key, return_inverse=True)
        self.place = np.stack(np.unravel_index(unique, tuple(span)), axis=1)
        count = len(unique)
        low, self.scale = np.full(count, np.inf), np.zeros(count)
        np.minimum.at(low, self.parent, scale)
        np.maximum.at(self.scale, self.parent, scale)
        self.even = (np.bincount(self.parent[even], minlength=count) == 8) & (low == self.scale)
        self.odd = np.flatnonzero(~self.even)
        self._slot = np.where(self.even, -1, np.cumsum(~self.even) - 1)

    def of_whole(self, cells: Ints, whole: Array, scale: Array) -> Array:
        """Odd parents' matrices (o, 24, 24) from those of their children that are ``scale`` times ``whole``."""
        slot = self._slot[self.parent[cells]]
        mine, cells = slot >= 0, cells[slot >= 0]
        at = 8 * slot[mine] + self.child[cells]
        weight = np.bincount(at, scale[cells], minlength=8 * len(self.odd)).reshape(-1, 8)
        return np.asarray(weight @ fold_whole(whole).reshape(8, 576)).reshape(-1, 24, 24)

    def fold(self, ke: Array, cells: Ints, matrices: Array, scale: Array) -> None:
        """Add the ``matrices`` of odd ``cells`` to their parents'."""
        fold_in(ke, matrices, self._slot[self.parent[cells]], self.child[cells], scale, WEIGHT)


def fold_whole(whole: Array) -> Array:
    """(8, 24, 24): what each child adds to its parent when it is ``whole``."""
    return np.asarray(np.einsum("cpi,pq,cqj->cij", _FOLD, whole, _FOLD, optimize=True))


@numba.njit(cache=True, nogil=True, parallel=True)
def fold_in(ke, matrices, parent, child, scale, weight):  # type: ignore[no-untyped-def]
    """Add children's matrices to their parents': K_parent += sum of F' K F, two strands by parent."""
    for strand in numba.prange(2):
        half = np.empty((24, 24))
        for m in range(matrices.shape[0]):
            up = parent[m]
            if up % 2 != strand:
                continue
            w = weight[child[m]]
            half[:] = 0.0
            for a in range(8):
                for p in range(8):
                    f = w[a, p]
                    if f != 0.0:
                        for i in range(3):
                            for k in range(24):
                                half[3 * p + i, k] += f * matrices[m, 3 * a + i, k]
            for b in range(8):
                for q in range(8):
                    f = w[b, q] * scale[m]
                    if f != 0.0:
                        for k in range(24):
                            for j in range(3):
                                ke[up, k, 3 * q + j] += f * half[k, 3 * b + j]


def smoothed(stencil: Stencil, count: int) -> Smoothed:
    diagonal = stencil.diagonal(count)
    inverse = np.empty(diagonal.shape, np.float32)
    _invert(diagonal, inverse)
    return Smoothed(stencil, inverse, 0.0, None, None)


@numba.njit(cache=True, parallel=True, nogil=True)
def _invert(m, out):  # type: ignore[no-untyped-def]
    for n in numba.prange(m.shape[0]):
        t = 1e-6 * (m[n, 0, 0] + m[n, 1, 1] + m[n, 2, 2])
        a, b, c = m[n, 0, 0] + t, m[n, 1, 1] + t, m[n, 2, 2] + t
        d, e, f = m[n, 1, 2], m[n, 0, 2], m[n, 0, 1]
        x, y, z = b * c - d * d, e * d - f * c, f * d - e * b
        det = a * x + f * y + e * z
        out[n, 0, 0], out[n, 1, 1], out[n, 2, 2] = x / det, (a * c - e * e) / det, (a * b - f * f) / det
        out[n, 0, 1] = out[n, 1, 0] = y / det
        out[n, 0, 2] = out[n, 2, 0] = z / det
        out[n, 1, 2] = out[n, 2, 1] = (e * f - a * d) / det


def largest(level: Smoothed) -> float:
    """A bound on the largest eigenvalue of D^-1 K, by Lanczos' method in the inner product of D: the last Ritz value
    and its residual (Paige 1971). Were it too small, the smoother would grow what lies above and the cycle not be
    positive."""
    r: Array = np.random.default_rng(7).standard_normal((1, 3 * len(level.inverse))).astype(np.float32)
    along, beside = [], [0.0]
    x, before = np.empty_like(r), np.zeros_like(r)
    _block(level.inverse, r[0], x[0])
    for _ in range(_LANCZOS):
        size = float(np.sqrt(max(float(r[0] @ x[0]), 1e-30)))
        beside.append(size)
        r, x = r / np.float32(size), x / np.float32(size)
        image, fresh = level.stencil.apply(x), np.empty_like(x)
        along.append(float(image[0] @ x[0]))
        link = beside[-1] if len(along) > 1 else 0.0
        image -= np.float32(along[-1]) * r + np.float32(link) * before
        _block(level.inverse, image[0], fresh[0])
        before, r, x = r, image, fresh
    left = float(np.sqrt(max(float(r[0] @ x[0]), 0.0)))
    values, vectors = eigh_tridiagonal(np.array(along), np.array(beside[2:]))
    return 1.02 * float(values[-1] + left * abs(vectors[-1, -1]))


def smooth(level: Smoothed, u: Array, r: Array, from_zero: bool, steps: int = 3) -> Array:
    """Chebyshev steps from ``u``, over the upper eleven twelfths of the spectrum. Overwrites ``u``."""
    top, low = level.bound, level.bound / 12
    theta, delta = (top + low) / 2, (top - low) / 2
    sigma = theta / delta
    rho = 1 / sigma
    d = np.zeros_like(u)
    other = np.empty_like(u)
    pull, push = 0.0, 1 / theta
    for step in range(steps):
        level.stencil.relax(u, other, level.inverse, r, d, pull, push, from_zero and step == 0)
        u, other = other, u
        fresh = 1 / (2 * sigma - rho)
        pull, push = fresh * rho, 2 * fresh / delta
        rho = fresh
    return u


@numba.njit(cache=True, parallel=True, nogil=True)
def _block(inverse, r, out):  # type: ignore[no-untyped-def]
    for n in numba.prange(inverse.shape[0]):
        for i in range(3):
            out[3 * n + i] = (
                inverse[n, i, 0] * r[3 * n] + inverse[n, i, 1] * r[3 * n + 1] + inverse[n, i, 2] * r[3 * n + 2]
            )


def _number(place: Ints) -> tuple[Ints, int]:
    corner = place[:, None, :] + CORNERS
    span = place.max(axis=0) + 2
    flat = (corner[..., 0] * span[1] + corner[..., 1]) * span[2] + corner[..., 2]
    used, nodes = np.unique(flat, return_inverse=True)
    return nodes.reshape(-1, 8).astype(np.int64), len(used)


def _hand_up(nodes: Ints, up: _Parents, coarse_nodes: Ints) -> tuple[Ints, Array]:
    """Each fine node's eight coarse nodes and trilinear weights (taken from any cell it belongs to)."""
    count = int(nodes.max()) + 1
    who = np.zeros((count, 8), np.int32)
    weight = np.zeros((count, 8), np.float32)
    _fill_up(nodes, up.child, up.parent, coarse_nodes, WEIGHT, who, weight)
    return who, weight


@numba.njit(cache=True, nogil=True)
def _fill_up(nodes, child, parent, coarse_nodes, share, who, weight):  # type: ignore[no-untyped-def]
    for c in range(nodes.shape[0]):
        for a in range(8):
            n = nodes[c, a]
            if weight[n].max() == 0:
                for b in range(8):
                    who[n, b] = coarse_nodes[parent[c], b]
                    weight[n, b] = share[child[c], a, b]


def children_of(who: Ints, weight: Array, count: int) -> tuple[Ints, Array]:
    """The transpose of :func:`_hand_up`, gathered by coarse node so that it runs in parallel."""
    out = np.full((count, 27), -1, np.int32)
    share = np.zeros((count, 27), np.float32)
    _turn_round(who, weight, np.zeros(count, np.int32), out, share)
    return out, share


@numba.njit(cache=True, nogil=True)
def _turn_round(who, weight, used, out, share):  # type: ignore[no-untyped-def]
    for n in range(who.shape[0]):
        for b in range(8):
            if weight[n, b] != 0:
                c = who[n, b]
                out[c, used[c]] = n
                share[c, used[c]] = weight[n, b]
                used[c] += 1


@numba.njit(cache=True, parallel=True, nogil=True)
def gather(children, share, fine, coarse):  # type: ignore[no-untyped-def]
    for c in numba.prange(children.shape[0]):
        for m in range(fine.shape[0]):
            s0 = s1 = s2 = np.float32(0)
            for j in range(27):
                n = children[c, j]
                if n < 0:
                    break
                w = share[c, j]
                s0 += w * fine[m, 3 * n]
                s1 += w * fine[m, 3 * n + 1]
                s2 += w * fine[m, 3 * n + 2]
            coarse[m, 3 * c], coarse[m, 3 * c + 1], coarse[m, 3 * c + 2] = s0, s1, s2


@numba.njit(cache=True, parallel=True, nogil=True)
def spread(who, weight, coarse, u):  # type: ignore[no-untyped-def]
    """u += interpolation of the coarse correction."""
    for n in numba.prange(who.shape[0]):
        for m in range(u.shape[0]):
            for d in range(3):
                s = np.float32(0)
                for b in range(8):
                    s += weight[n, b] * coarse[m, 3 * who[n, b] + d]
                u[m, 3 * n + d] += s
