"""How many times a load may grow before the part gives way sideways: linear buckling on the grid of the stress solve.

(K + factor Kg) shape = 0, the smallest positive factor (docs/methods.md 1.24). Kg comes from the cells' mean stress
and the trilinear shape functions, integrated over the filled part of each cell. Solved by the locally optimal block
preconditioned conjugate gradient method (A. V. Knyazev 2001) for -Kg shape = (1 / factor) K shape, with the
multigrid cycle of the stress solve as preconditioner.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.linalg import eigh
from scipy.sparse import coo_array, csr_array

from knollside.core.model import Array
from knollside.core.strength.bodies import PlainBody
from knollside.core.strength.element import gradient_products
from knollside.core.strength.multigrid import Operator, preconditioned
from knollside.core.strength.recover import sample_stress

BLOCK = 4  # shapes sought together: as many as commonly lie close to each other
FAR = 40.0  # factors beyond are only known to be beyond: nothing else of the part would still hold
_ROUNDS = 80
_NEAR = 0.03  # error of a shape in the norm of K at which its factor is good to about a thousandth
_ROUGH = 0.3  # the same, where the factor is FAR off even at the worst of that error


@dataclass(frozen=True)
class Buckling:
    """``factors`` ascending, of the shapes (k, n, 3) of corners of the grid, each of unit greatest movement; ``error``
    of the first factor, a share; ``rounds`` taken. Factors are ``inf`` where no shape of that number buckles."""

    factors: tuple[float, ...]
    shapes: Array
    error: float
    rounds: int

    @property
    def first(self) -> float:
        return self.factors[0]


def geometric_stiffness(body: PlainBody, displacement: Array) -> csr_array:
    """Kg of one displacement component (n, n) for corner displacements (n, 3)."""
    return initial_stress(body, sample_stress(body.grid, body.element, displacement.reshape(1, -1)).values.mean(axis=1))


def initial_stress(body: PlainBody, stress: Array) -> csr_array:
    """The solid's mean stress (c, 6) in each cell times the products of the shape functions' slopes, (n, n), alike for
    all three components of displacement (Zienkiewicz, Taylor: the initial stress matrix)."""
    g, stress = body.grid, stress * body.scale[:, None]
    whole, cut = gradient_products(g.size, g.moments)
    each = np.einsum("cs,sab->cab", stress, whole)
    if len(g.cut):
        each[g.cut] = np.einsum("cs,csab->cab", stress[g.cut], cut)
    rows = np.repeat(g.nodes, 8, axis=1).ravel()
    columns = np.tile(g.nodes, (1, 8)).ravel()
    count = len(g.points)
    return csr_array(coo_array((each.ravel(), (rows, columns)), shape=(count, count)))


def buckling(stiffness: Operator, geometric: csr_array, tell: Callable[[float], None] | None = None) -> Buckling:
    """The least factors on the load at which ``stiffness`` and ``geometric`` (n, n) balance out."""
    count = geometric.shape[0]

    def soften(x: Array) -> Array:
        """-Kg x for vectors (m, 3n)."""
        columns = x.reshape(len(x), count, 3).transpose(1, 0, 2).reshape(count, -1)
        out = (geometric @ columns).reshape(count, len(x), 3).transpose(1, 0, 2)
        return np.asarray(-out.reshape(len(x), -1))

    def back(r: Array) -> Array:
        return preconditioned(stiffness.cycle, r, np.linalg.norm(r, axis=1, keepdims=True))

    def spanned(x: Array) -> _Basis:
        return _Basis(x, stiffness.apply(x), soften(x))

    x = back(np.random.default_rng(11).standard_normal((BLOCK, 3 * count)))
    now, mu, _ = _best([spanned(back(soften(x)))])
    way: list[_Basis] = []
    for k in range(_ROUNDS + 1):
        rest = now.ax - mu[:, None] * now.kx
        w = back(rest)
        off = float(np.sqrt(max(rest[0] @ w[0], 0.0))) / max(abs(mu[0]), 1e-300)
        if tell is not None:
            tell(min(0.99, k / 25))
        if off < _NEAR or (off < _ROUGH and mu[0] * (1 + off) < 1 / FAR) or (mu[0] < 1e-6 / FAR and k > 5):
            break
        now, mu, last = _best([now, spanned(w), *way])
        way = [last]
    factors = tuple(float(1 / m) if m > 0 else float("inf") for m in mu)
    shapes = now.x.reshape(BLOCK, count, 3)
    shapes = shapes / np.linalg.norm(shapes, axis=2).max(axis=1)[:, None, None]
    return Buckling(factors, shapes, off * off, k)


@dataclass(frozen=True)
class _Basis:
    """Vectors (m, n) with their images under K and under -Kg."""

    x: Array
    kx: Array
    ax: Array

    @classmethod
    def joined(cls, some: list[_Basis]) -> _Basis:
        return cls(*(np.vstack([getattr(b, name) for b in some]) for name in ("x", "kx", "ax")))

    def mixed(self, c: Array) -> _Basis:
        return _Basis(c.T @ self.x, c.T @ self.kx, c.T @ self.ax)


def _best(some: list[_Basis]) -> tuple[_Basis, Array, _Basis]:
    """The best shapes in what is spanned, their ratios, and the way that leads there from the first of ``some``."""
    every = _Basis.joined(some)
    c, mu = _ritz(every)
    found = every.mixed(c)
    c[: len(some[0].x)] = 0
    return found, mu, every.mixed(c)


def _ritz(basis: _Basis) -> tuple[Array, Array]:
    """Weights (m, BLOCK) of the vectors whose -Kg is largest for their K, and the ratios, largest first."""
    gram, a = basis.x @ basis.kx.T, basis.x @ basis.ax.T
    scale = 1 / np.sqrt(np.maximum(gram.diagonal(), 1e-300))
    gram, a = scale[:, None] * (gram + gram.T) / 2 * scale, scale[:, None] * (a + a.T) / 2 * scale
    size, ways = eigh(gram)
    kept = size > 1e-10 * size[-1]  # what the vectors have twice is dropped
    ways = ways[:, kept] / np.sqrt(size[kept])
    mu, inner = eigh(ways.T @ a @ ways)
    best = np.argsort(-mu)[:BLOCK]
    return scale[:, None] * (ways @ inner[:, best]), mu[best]
