"""Conjugate gradients with geometric multigrid on brick cells, without a global matrix.

The fine level holds one 24 x 24 cell matrix and a scale per cell; coarse levels
are exact Galerkin products kept cell by cell (eight children fold into one
parent). Smoother: Chebyshev over 3 x 3 block Jacobi (Adams, Brezina, Hu,
Tuminaro 2003). The cycle runs in single precision inside double-precision
conjugate gradients.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numba
import numpy as np
from scipy.linalg import cho_factor, cho_solve

from knollside.core.model import Array, Ints, Refused
from knollside.core.strength.grid import CORNERS

_COARSEST = 260  # nodes; below it a dense factor is cheapest


@numba.njit(cache=True, parallel=True, nogil=True)
def _gather(scale, nodes, u, out):  # type: ignore[no-untyped-def]
    for c in numba.prange(nodes.shape[0]):
        for b in range(8):
            m = 3 * nodes[c, b]
            for d in range(3):
                out[c, 3 * b + d] = scale[c] * u[m + d]


@numba.njit(cache=True, parallel=True, nogil=True)
def _scatter(each, at, out):  # type: ignore[no-untyped-def]
    """Sum the cells' corner forces at each node; by node, so no two threads meet."""
    for n in numba.prange(at.shape[0]):
        s0 = s1 = s2 = each[0, 0] * 0
        for a in range(8):
            c = at[n, a]
            if c >= 0:
                s0 += each[c, 3 * a]
                s1 += each[c, 3 * a + 1]
                s2 += each[c, 3 * a + 2]
        out[3 * n], out[3 * n + 1], out[3 * n + 2] = s0, s1, s2


@numba.njit(cache=True, parallel=True, nogil=True, fastmath=True)
def _apply_dense(ke, nodes, at, u, out, add):  # type: ignore[no-untyped-def]
    """out (+)= K u with a full matrix per cell; ``at`` (n, 8) names the cell at each corner or -1."""
    for n in numba.prange(at.shape[0]):
        for r in range(3):
            s = u[0] * 0
            for a in range(8):
                c = at[n, a]
                if c < 0:
                    continue
                for b in range(8):
                    m = 3 * nodes[c, b]
                    for d in range(3):
                        s += ke[c, 3 * a + r, 3 * b + d] * u[m + d]
            if add:
                out[3 * n + r] += s
            else:
                out[3 * n + r] = s


def cells_at_nodes(nodes: Ints, count: int) -> Ints:
    """(n, 8): the cell of which a node is corner a, or -1."""
    at = np.full((count, 8), -1, np.int64)
    for a in range(8):
        at[nodes[:, a], a] = np.arange(len(nodes))
    return at


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
_WEIGHT = _FOLD[:, 0::3, 0::3].astype(np.float32)  # (child, its corner, parent corner)


@dataclass
class _Level:
    nodes: Ints
    at: Ints
    matrices: Array | None  # (c, 24, 24) float32 on coarse levels
    inverse: Array  # (n, 3, 3) float32 block diagonal
    bound: float  # largest eigenvalue of the smoothed operator
    parents: tuple[Ints, Array] | None  # per node: 8 coarse nodes and weights


class Operator:
    """Stiffness of a grid of cells plus springs at held places.

    ``stiffness`` (24, 24) of a full unit cell, ``scale`` (c,), ``nodes`` (c, 8),
    ``cells`` (c, 3) grid places, ``springs`` extra cell matrices by cell number.
    """

    def __init__(self, stiffness: Array, scale: Array, cells: Ints, nodes: Ints, springs: dict[int, Array]) -> None:
        self.count = int(nodes.max()) + 1
        self.nodes, self.scale, self.k = nodes, np.ascontiguousarray(scale), np.ascontiguousarray(stiffness)
        self.at = cells_at_nodes(nodes, self.count)
        held = np.array(sorted(springs), np.int64)
        self.spring_ke = np.array([springs[int(c)] for c in held]) if len(held) else np.zeros((0, 24, 24))
        self.spring_nodes = nodes[held] if len(held) else np.zeros((0, 8), np.int64)
        self.spring_at = cells_at_nodes(self.spring_nodes, self.count)
        self._k32 = self.k.astype(np.float32)
        self._scale32 = self.scale.astype(np.float32)
        self._springs32 = self.spring_ke.astype(np.float32)
        self.levels: list[_Level] = []
        self._build(cells, held)

    def apply(self, u: Array) -> Array:
        out = np.empty_like(u)
        single = u.dtype == np.float32
        each = np.empty((len(self.nodes), 24), u.dtype)
        _gather(self._scale32 if single else self.scale, self.nodes, u, each)
        # One matrix product for all cells: the library's blocked kernel beats any loop of ours.
        _scatter(each @ (self._k32 if single else self.k), self.at, out)
        if len(self.spring_ke):
            _apply_dense(self._springs32 if single else self.spring_ke, self.spring_nodes, self.spring_at, u, out, True)
        return out

    def _level_apply(self, i: int, u: Array) -> Array:
        if i == 0:
            return self.apply(u)
        level = self.levels[i]
        out = np.empty_like(u)
        _apply_dense(level.matrices, level.nodes, level.at, u, out, False)
        return out

    def _build(self, cells: Ints, held: Ints) -> None:
        diagonal = np.zeros((self.count, 3, 3))
        for a in range(8):
            block = self.k[3 * a : 3 * a + 3, 3 * a : 3 * a + 3]
            np.add.at(diagonal, self.nodes[:, a], self.scale[:, None, None] * block)
            if len(held):
                np.add.at(diagonal, self.spring_nodes[:, a], self.spring_ke[:, 3 * a : 3 * a + 3, 3 * a : 3 * a + 3])
        self.levels.append(_Level(self.nodes, self.at, None, _inverse(diagonal), 0.0, None))
        # Children fold into parents: K_parent = sum of F_c' K_c F_c over the eight places.
        folded = np.einsum("cpi,pq,cqj->cij", _FOLD, self.k, _FOLD, optimize=True)
        nodes = self.nodes
        dense: Array | None = None
        while int(nodes.max()) >= _COARSEST and cells.max() > 1:
            parent_place, child = cells // 2, (cells % 2) @ np.array([1, 2, 4])
            span = parent_place.max(axis=0) + 1
            key = (parent_place[:, 0] * span[1] + parent_place[:, 1]) * span[2] + parent_place[:, 2]
            unique, parent = np.unique(key, return_inverse=True)
            ke = np.zeros((len(unique), 24, 24))
            for c in range(8):
                mine = child == c
                if dense is None:
                    weight = np.bincount(parent[mine], self.scale[mine], minlength=len(unique))
                    ke += weight[:, None, None] * folded[c]
                else:
                    ke[parent[mine]] += np.matmul(np.matmul(_FOLD[c].T, dense[mine]), _FOLD[c])
            if dense is None:
                for i, cell in enumerate(held):
                    f = _FOLD[child[cell]]
                    ke[parent[cell]] += f.T @ self.spring_ke[i] @ f
            place = np.stack([unique // (span[1] * span[2]), unique // span[2] % span[1], unique % span[2]], axis=1)
            coarse_nodes, count = _number(place)
            self.levels[-1].parents = _parents(nodes, child, parent, coarse_nodes)
            at = cells_at_nodes(coarse_nodes, count)
            diagonal = np.zeros((count, 3, 3))
            for a in range(8):
                np.add.at(diagonal, coarse_nodes[:, a], ke[:, 3 * a : 3 * a + 3, 3 * a : 3 * a + 3])
            self.levels.append(_Level(coarse_nodes, at, ke.astype(np.float32), _inverse(diagonal), 0.0, None))
            cells, nodes, dense = place, coarse_nodes, ke
        for i, level in enumerate(self.levels[:-1]):
            level.bound = self._largest(i, level)
        self._coarse = self._factor(dense)

    def _factor(self, dense: Array | None) -> tuple[Array, bool]:
        level = self.levels[-1]
        n = 3 * len(level.at)
        full = np.zeros((n, n))
        ke = dense
        if ke is None:
            ke = self.scale[:, None, None] * self.k
        dof = (3 * level.nodes[:, :, None] + np.arange(3)).reshape(-1, 24)
        np.add.at(full, (dof[:, :, None], dof[:, None, :]), ke)
        if dense is None and len(self.spring_ke):
            dof = (3 * self.spring_nodes[:, :, None] + np.arange(3)).reshape(-1, 24)
            np.add.at(full, (dof[:, :, None], dof[:, None, :]), self.spring_ke)
        full[np.arange(n), np.arange(n)] += 1e-9 * full.diagonal().max()
        return cho_factor(full)

    def _largest(self, i: int, level: _Level) -> float:
        v: Array = np.random.default_rng(7).standard_normal(3 * len(level.at)).astype(np.float32)
        value = 1.0
        for _ in range(8):
            w = _block(level.inverse, self._level_apply(i, v))
            value = float(np.linalg.norm(w) / max(float(np.linalg.norm(v)), 1e-30))
            v = w / np.float32(np.linalg.norm(w))
        return 1.1 * value

    def cycle(self, r: Array, i: int = 0) -> Array:
        """One symmetric V-cycle in single precision: approximately K_i^-1 r."""
        level = self.levels[i]
        if i == len(self.levels) - 1:
            return cho_solve(self._coarse, r.astype(np.float64)).astype(np.float32)
        u = self._smooth(i, None, r)
        assert level.parents is not None
        who, weight = level.parents
        rest = (r - self._level_apply(i, u)).reshape(-1, 3)
        coarse = np.zeros((len(self.levels[i + 1].at), 3), np.float32)
        _restrict(who, weight, rest, coarse)
        e = self.cycle(coarse.reshape(-1), i + 1).reshape(-1, 3)
        up = np.empty((len(who), 3), np.float32)
        _prolong(who, weight, e, up)
        return self._smooth(i, u + up.reshape(-1), r)

    def _smooth(self, i: int, u: Array | None, r: Array, steps: int = 3) -> Array:
        level = self.levels[i]
        top, low = level.bound, level.bound / 12
        theta, delta = (top + low) / 2, (top - low) / 2
        sigma = theta / delta
        rho = 1 / sigma
        rest = r if u is None else r - self._level_apply(i, u)
        d = _block(level.inverse, rest) / np.float32(theta)
        x = d.copy() if u is None else u + d
        for _ in range(steps - 1):
            rest = r - self._level_apply(i, x)
            fresh = 1 / (2 * sigma - rho)
            d = np.float32(fresh * rho) * d + np.float32(2 * fresh / delta) * _block(level.inverse, rest)
            rho = fresh
            x += d
        return x

    def solve(
        self,
        f: Array,
        tolerance: float = 1e-7,
        limit: int = 300,
        tick: Callable[[float], None] | None = None,
        start: Array | None = None,
    ) -> tuple[Array, int]:
        """Displacements for nodal forces ``f`` (3n,). Returns them and the iterations taken."""
        norm = float(np.linalg.norm(f))
        if norm == 0:
            return np.zeros_like(f), 0
        x = np.zeros_like(f) if start is None else start.copy()
        r = f - self.apply(x)
        z = self.cycle((r / norm).astype(np.float32)).astype(np.float64) * norm
        p, rz = z.copy(), float(r @ z)
        for k in range(1, limit + 1):
            q = self.apply(p)
            alpha = rz / float(p @ q)
            x += alpha * p
            r -= alpha * q
            error = float(np.linalg.norm(r)) / norm
            if tick is not None:
                tick(min(0.99, np.log(max(error, tolerance)) / np.log(tolerance)))
            if error < tolerance:
                return x, k
            size = float(np.linalg.norm(r))
            z = self.cycle((r / size).astype(np.float32)).astype(np.float64) * size
            fresh = float(r @ z)
            p = z + (fresh / rz) * p
            rz = fresh
        raise Refused(
            f"The stress solve did not settle in {limit} rounds (error {error:.1e}); "
            "part of the body may be held by almost nothing."
        )


def _inverse(diagonal: Array) -> Array:
    trace = np.trace(diagonal, axis1=1, axis2=2)[:, None, None]
    return np.linalg.inv(diagonal + 1e-6 * trace * np.eye(3)).astype(np.float32)


def _block(inverse: Array, r: Array) -> Array:
    out = np.empty_like(r)
    _block_into(inverse, r, out)
    return out


@numba.njit(cache=True, parallel=True, nogil=True)
def _block_into(inverse, r, out):  # type: ignore[no-untyped-def]
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


def _parents(nodes: Ints, child: Ints, parent: Ints, coarse_nodes: Ints) -> tuple[Ints, Array]:
    """Each fine node's eight coarse nodes and trilinear weights (taken from any cell it belongs to)."""
    count = int(nodes.max()) + 1
    who = np.zeros((count, 8), np.int64)
    weight = np.zeros((count, 8), np.float32)
    for a in range(8):
        n = nodes[:, a]
        who[n] = coarse_nodes[parent]
        weight[n] = _WEIGHT[child, a]
    return who, weight


@numba.njit(cache=True, nogil=True)
def _restrict(who, weight, fine, coarse):  # type: ignore[no-untyped-def]
    for n in range(who.shape[0]):
        for b in range(8):
            w = weight[n, b]
            if w != 0:
                for d in range(3):
                    coarse[who[n, b], d] += w * fine[n, d]


@numba.njit(cache=True, parallel=True, nogil=True)
def _prolong(who, weight, coarse, fine):  # type: ignore[no-untyped-def]
    for n in numba.prange(who.shape[0]):
        for d in range(3):
            s = np.float32(0)
            for b in range(8):
                s += weight[n, b] * coarse[who[n, b], d]
            fine[n, d] = s
