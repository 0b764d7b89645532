"""Movement that is not small: every cell turns with the part and is strained in its own turned frame.

The corotational method (C. C. Rankin, F. A. Brogan 1986; C. A. Felippa, B. Haugen 2005): a cell's forces are its own
stiffness times what it is moved by beyond its own turn, turned along; Newton's method in load steps with the turned
stiffness and the initial stress as tangent, each step by conjugate gradients with the multigrid cycle of the stress
solve (docs/methods.md 1.30). Strains stay small; loads keep their direction and go along with their places.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numba
import numpy as np
from scipy.sparse import csr_array

from knollside.core.model import Array, Ints
from knollside.core.strength import conditions
from knollside.core.strength.bodies import PlainBody
from knollside.core.strength.buckling import initial_stress
from knollside.core.strength.grid import CORNERS
from knollside.core.strength.multigrid import NotSettled, Operator, preconditioned
from knollside.core.strength.recover import Samples, sample_stress
from knollside.core.strength.setups import Pushed, driving_forces

_STEPS, _MOST = 4, 25  # load steps, and Newton rounds in each
_LEFT, _LINEAR = 1e-3, 1e-2  # of the forces there are, at the end of a step; of a round's own residual
_PCG = 60


@dataclass(frozen=True)
class LargeMovement:
    """Corner displacements ``u`` (n, 3), the solid's stress in the cells' turned frames, Newton ``rounds`` taken."""

    u: Array
    samples: Samples
    rounds: int


def move_large(
    body: PlainBody,
    ask: Pushed,
    holds: list[conditions.Constraint],
    modulus: float,
    more: float = 1.0,
    tell: Callable[[float], None] | None = None,
) -> LargeMovement:
    """Displacements of a case under ``more`` times its forces with ``holds`` as they act, however far the part moves.

    Raises :class:`NotSettled` where no balance is found, as beyond a load that buckles.
    """
    cells = _Turning(body, holds, modulus)
    pulled = conditions.drawn_together(body.grid, holds, modulus)
    drawn = more * ask.f + (0.0 if pulled is None else pulled)
    ways = np.array([d.f for d in ask.driven]).reshape(-1, len(drawn))
    u, force, rounds = np.zeros_like(drawn), np.zeros(len(ways)), 0
    for step in range(1, _STEPS + 1):
        share = step / _STEPS
        grown = step / max(step - 1, 1)  # as far again, to begin with
        u, force = u * grown, force * grown
        for _ in range(_MOST):
            inner, springs = cells.forces(u)
            rest = share * drawn + force @ ways - inner - springs
            off = max((abs(w @ u - share * d.to) / d.to for w, d in zip(ways, ask.driven, strict=True)), default=0.0)
            carried = max(share * more * float(np.linalg.norm(ask.f)), float(np.linalg.norm(inner)))
            if float(np.linalg.norm(rest)) < _LEFT * carried and off < _LEFT:
                break
            tangent = cells.tangent()
            u = u + _step(tangent, rest)
            if len(ways):
                each = np.array([_step(tangent, w) for w in ways])
                added = driving_forces(ask.driven, u, each, share)
                u, force = u + added @ each, force + added
            rounds += 1
            if tell is not None:
                tell(min(0.99, (step - 1) / _STEPS + 0.02 * rounds))
        else:
            raise NotSettled("Moved as far as this the part finds no balance.")
    return LargeMovement(u.reshape(-1, 3), cells.samples(), rounds)


@dataclass(frozen=True)
class _Tangent:
    """The turned ``stiffness`` and what the stress there is adds to it, ``geometric`` (n, n) of each component."""

    stiffness: Operator
    geometric: csr_array

    def apply(self, p: Array) -> Array:
        """The tangent times a vector (3n,)."""
        return np.asarray(self.stiffness.apply(p) + (self.geometric @ p.reshape(-1, 3)).ravel())


def _step(tangent: _Tangent, rest: Array) -> Array:
    """Newton's step by conjugate gradients, cut short where the tangent bends no more (T. Steihaug 1983)."""
    x, r = np.zeros_like(rest), rest.copy()
    p, rz = np.zeros_like(rest), 1.0
    for k in range(_PCG):
        size = float(np.linalg.norm(r))
        if size < _LINEAR * float(np.linalg.norm(rest)):
            break
        z = preconditioned(tangent.stiffness.cycle, r[None], np.array([[size]]))[0]
        fresh = float(r @ z)
        p = z + (fresh / rz if k else 0.0) * p
        rz = fresh
        q = tangent.apply(p)
        bent = float(p @ q)
        if bent <= 0:
            return x if k else z
        x += fresh / bent * p
        r -= fresh / bent * q
    return x


class _Turning:
    """Cells with their turns: forces for a displacement, then the tangent and the stress there."""

    def __init__(self, body: PlainBody, holds: list[conditions.Constraint], modulus: float) -> None:
        g = self.grid = body.grid
        self.body = body
        self.nodes, self.points, self.scale = g.nodes, g.points, body.scale
        self.which = np.full(len(g.nodes), -1, np.int64)
        self.which[g.cut] = np.arange(len(g.cut))
        self.cut = body.element.condense(g.moments).stiffness if len(g.cut) else np.zeros((0, 24, 24))
        springs = conditions.springs(g, holds, modulus)
        self.held = np.array(sorted(springs), np.int64)
        self.springs = np.array([springs[int(c)] for c in self.held])
        corner = 2.0 * CORNERS - 1
        self.slopes = corner / 8 / (g.size / 2)  # of the shape functions in a cell's middle
        self.turn = np.tile(np.eye(3), (len(g.nodes), 1, 1))
        self.own = np.zeros((len(g.nodes), 24))

    def forces(self, u: Array) -> tuple[Array, Array]:
        """Of the cells, turned to where ``u`` (3n,) brings them, and of the springs that hold, (3n,) each."""
        _turn(self.nodes, self.points, u, self.slopes, self.turn, self.own)
        return self._gathered(self.own), self._held(u)

    def tangent(self) -> _Tangent:
        """With the turns and the stress that there are now."""
        every = np.empty((len(self.nodes), 24, 24))
        _matrices(self.which, self.body.element.stiffness, self.cut, self.scale, self.turn, every)
        every[self.held] += self.springs
        g = self.grid
        nothing = np.zeros(len(every))
        each = dict(enumerate(every))
        stiffness = Operator(self.body.element, nothing, g.cells, g.nodes, g.cut, g.moments, each)
        return _Tangent(stiffness, initial_stress(self.body, self.samples().values.mean(axis=1)))

    def samples(self) -> Samples:
        """Stress inside every cell, in its turned frame."""
        return sample_stress(self.grid, self.body.element, self.own.reshape(1, -1), apart=True)

    def _gathered(self, own: Array) -> Array:
        each = np.empty_like(own)
        _push(self.which, self.body.element.stiffness, self.cut, self.scale, self.turn, own, each)
        return self._summed(self.nodes, each)

    def _held(self, u: Array) -> Array:
        at = u.reshape(-1, 3)[self.nodes[self.held]].reshape(-1, 24)
        return self._summed(self.nodes[self.held], np.einsum("cij,cj->ci", self.springs, at))

    def _summed(self, nodes: Ints, each: Array) -> Array:
        count, flat = len(self.points), nodes.ravel()
        parts = [np.bincount(flat, each[:, d::3].ravel(), minlength=count) for d in range(3)]
        return np.stack(parts, axis=1).ravel()


@numba.njit(cache=True, parallel=True, nogil=True)
def _turn(nodes, points, u, slopes, turn, own):  # type: ignore[no-untyped-def]
    """Each cell's turn, the rotation nearest to its middle's deformation (N. J. Higham 1986), and what its corners are
    moved by beyond it, in the turned frame."""
    for c in numba.prange(nodes.shape[0]):
        r = np.eye(3)
        was, now = np.zeros(3), np.zeros(3)
        for a in range(8):
            n = nodes[c, a]
            for i in range(3):
                was[i] += points[n, i] / 8
                now[i] += (points[n, i] + u[3 * n + i]) / 8
                for j in range(3):
                    r[i, j] += u[3 * n + i] * slopes[a, j]
        for _ in range(6):
            co = np.empty((3, 3))
            for i in range(3):
                for j in range(3):
                    i1, i2, j1, j2 = (i + 1) % 3, (i + 2) % 3, (j + 1) % 3, (j + 2) % 3
                    co[i, j] = r[i1, j1] * r[i2, j2] - r[i1, j2] * r[i2, j1]
            det = r[0, 0] * co[0, 0] + r[0, 1] * co[0, 1] + r[0, 2] * co[0, 2]
            for i in range(3):
                for j in range(3):
                    r[i, j] = 0.5 * (r[i, j] + co[i, j] / det)
        for i in range(3):
            for j in range(3):
                turn[c, i, j] = r[i, j]
        for a in range(8):
            n = nodes[c, a]
            for j in range(3):
                s = was[j] - points[n, j]
                for i in range(3):
                    s += r[i, j] * (points[n, i] + u[3 * n + i] - now[i])
                own[c, 3 * a + j] = s


@numba.njit(cache=True, parallel=True, nogil=True)
def _matrices(which, whole, cut, scale, turn, out):  # type: ignore[no-untyped-def]
    """Each cell's stiffness (c, 24, 24) turned into the part's frame."""
    for c in numba.prange(turn.shape[0]):
        k, r = whole if which[c] < 0 else cut[which[c]], turn[c]
        half = np.empty((3, 3))
        for a in range(8):
            for b in range(8):
                for i in range(3):
                    for j in range(3):
                        s = 0.0
                        for p in range(3):
                            s += r[i, p] * k[3 * a + p, 3 * b + j]
                        half[i, j] = s
                for i in range(3):
                    for j in range(3):
                        s = 0.0
                        for p in range(3):
                            s += half[i, p] * r[j, p]
                        out[c, 3 * a + i, 3 * b + j] = scale[c] * s


@numba.njit(cache=True, parallel=True, nogil=True)
def _push(which, whole, cut, scale, turn, own, out):  # type: ignore[no-untyped-def]
    """Each cell's forces (c, 24) in the part's frame from its own displacements in its turned one."""
    for c in numba.prange(own.shape[0]):
        k = whole if which[c] < 0 else cut[which[c]]
        f = np.empty(24)
        for i in range(24):
            s = 0.0
            for j in range(24):
                s += k[i, j] * own[c, j]
            f[i] = scale[c] * s
        for a in range(8):
            for i in range(3):
                out[c, 3 * a + i] = (
                    turn[c, i, 0] * f[3 * a] + turn[c, i, 1] * f[3 * a + 1] + turn[c, i, 2] * f[3 * a + 2]
                )
