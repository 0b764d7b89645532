"""What readings say of a printer: a posterior over every term of the model, and the sizes it foretells.

Gauss-Markov in the terms, exactly, for each point of a grid over how much prints differ, how places scatter and which
terms are there at all; the points weighed by how likely they make the readings (Gelman et al., *Bayesian Data
Analysis*, 3rd ed., 15; Hoeting et al. 1999 for the averaging over models). Slips take part with less weight: a two-part
noise, started wide (Neal and Hinton 1998). What is foretold is a mixture of normals.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from itertools import product

import numpy as np
from scipy.optimize import brentq
from scipy.special import ndtr, ndtri

from knollside.core.fit.rows import READING, TERMS, TYPICAL, Rows, Term
from knollside.core.model import Array

_SCATTERS = np.geomspace(0.006, 0.08, 7)  # mm of one place, whatever its size
_GROWS = ((0.0, 0.4), (0.0015, 0.2), (0.003, 0.25), (0.006, 0.15))  # mm a mm of size, and how likely before readings
# mm from print to print, and how likely before readings
_PRINTS = ((0.0, 0.45), (0.012, 0.05), (0.03, 0.12), (0.055, 0.18), (0.09, 0.14), (0.14, 0.06))
_CENTRE, _WIDTH = math.log(0.018), 0.55  # of the scatter, log-normal
_SMALL = ((0.0, 0.5), (0.4, 0.5))  # standard deviation of a term that may be absent, and how likely
_APART = ((0.0, 0.5), (0.003, 0.5))
_DRIFT = ((0.0, 0.4), (0.036, 0.6))
_RESTLESS = ((0.0, 0.1), (0.036, 0.9))  # the drift of a printer whose prints differ
_JUMP = 0.03  # mm, from lot to lot or sheet to sheet
_ABSENT = 1e-9  # variance of a term that is not there
_SLIP, _SLIP_SIGMA = 0.04, 0.25  # how often a reading is a slip, and by how much, mm
_LEFT_OUT = 1e-6  # weight of a grid point that no longer matters


@dataclass(frozen=True)
class Foretold:
    """A mixture of normals: ``weights``, ``means`` and ``sigmas`` (g,), mm."""

    weights: Array
    means: Array
    sigmas: Array

    @cached_property
    def mean(self) -> float:
        return float(self.weights @ self.means)

    @cached_property
    def sigma(self) -> float:
        """Standard deviation of the whole."""
        return math.sqrt(float(self.weights @ (self.sigmas**2 + (self.means - self.mean) ** 2)))

    def below(self, value: float) -> float:
        """The chance of less than ``value``."""
        return float(self.weights @ ndtr((value - self.means) / self.sigmas))

    def quantile(self, share: float) -> float:
        """The value that ``share`` of it lies below (Brent's method)."""
        ends = self.means + float(ndtri(share)) * self.sigmas
        low, high = float(ends.min()), float(ends.max())
        if high - low < 1e-9:
            return low
        return float(brentq(lambda v: self.below(v) - share, low - 1e-9, high + 1e-9, xtol=1e-9))

    def moved(self, by: float, more: float = 0.0) -> Foretold:
        """Shifted by ``by`` mm, with ``more`` mm of scatter added."""
        return Foretold(self.weights, self.means + by, np.hypot(self.sigmas, more))

    def scaled(self, by: float) -> Foretold:
        return Foretold(self.weights, by * self.means, abs(by) * self.sigmas)

    def less(self, other: Foretold, shared: float = 0.0) -> Foretold:
        """This minus one that knows nothing of it, by the first two moments of the other; ``shared`` is a standard
        deviation by which both differ at once and against each other, mm."""
        more = math.sqrt(other.sigma**2 + 2 * shared**2)
        return Foretold(self.weights, self.means - other.mean, np.hypot(self.sigmas, more))


@dataclass(frozen=True)
class Posterior:
    """Grid points that matter: ``weights`` (g,), ``means`` (g, m) and ``covs`` (g, m, m) of the terms and, after them,
    of each print, older lot and place read twice; each point's scatter of a place of no size, its growth by size, the
    scatter between prints (g,). ``slips`` (n,): how likely each reading is a slip. ``newest``: the columns of the last
    print's holes and outsides, where one is named."""

    weights: Array
    means: Array
    covs: Array
    scatter: Array
    grows: Array
    prints: Array
    slips: Array
    apart: bool
    newest: tuple[int | None, int | None]

    def padded(self, x: Array) -> Array:
        """``x`` (terms,) with a nought for every print, lot and place (m,)."""
        return np.concatenate([x, np.zeros(self.means.shape[1] - TERMS)])

    def latest(self, kind: str) -> int | None:
        """The column of the last print's holes, or outsides."""
        return self.newest[0 if kind == "hole" else 1]

    def foretell(self, x: Array, prints: float, places: tuple[float, ...] = (), oval: float = 0.0) -> Foretold:
        """What ``x`` (terms,) of the next print comes to. ``prints``: how often that print's own offset counts, 1 for a
        size, 2 for the gap of a hole and a pin: too much material closes the one and swells the other, and it is
        assumed that the two do not cancel. ``places``: drawn sizes whose own scatter is added. ``oval``: the drawn size
        where it is not told along which axis it is measured."""
        x = self.padded(x)
        spread = np.einsum("i,gij,j->g", x, self.covs, x) + (prints * self.prints) ** 2
        if self.apart and oval:
            term = Term.X_OVER_Y
            spread = spread + (oval / 2) ** 2 * (self.means[:, term] ** 2 + self.covs[:, term, term])
        for drawn in places:
            spread = spread + self.of_place(drawn) ** 2
        return Foretold(self.weights, self.means @ x, np.sqrt(spread))

    def of_place(self, drawn: float) -> Array:
        """Standard deviation of one place of a drawn size, without the calliper's share, at each grid point (g,)."""
        return math.sqrt(1 - READING) * (self.scatter + self.grows * drawn)


def typical(axis: str, checked: bool) -> tuple[Array, Array]:
    """Prior means and variances of the terms, all of them there."""
    mean, var = np.zeros(TERMS), np.zeros(TERMS)
    mean[Term.SHRINK], var[Term.SHRINK] = -0.002, 0.006**2
    for kind, term in (("hole", Term.HOLE), ("pin", Term.PIN)):
        mean[term], sigma = TYPICAL[kind, axis]
        var[term] = sigma**2
    mean[Term.SMALL] = 0.0
    if checked:
        var[Term.ZERO_INSIDE] = var[Term.ZERO_OUTSIDE] = 0.06**2
        mean[Term.JAWS], var[Term.JAWS] = 0.1, 0.25**2
    return mean, np.maximum(var, _ABSENT)


def posterior_of(rows: Rows, axis: str) -> Posterior:
    """Weigh every grid point by the readings. A few ms for a bar, tens for many."""
    mean, var = typical(axis, rows.checked)
    x = np.hstack([rows.x, rows.extra])
    rest = rows.y - rows.x @ mean
    slips = _slips(rows, x, rest, var)
    holes = rows.x[:, Term.SMALL] != 0
    small = _SMALL if holes.any() else _SMALL[-1:]
    apart = _APART if rows.both else ((0.0, 1.0),)
    # Where no reading names its print, what prints differ by is part of the scatter.
    prints = _PRINTS if rows.is_print.any() or not len(rows.y) else ((0.0, 1.0),)
    found = []
    for s0, (s1, p1), (su, pu) in product(_SCATTERS, _GROWS, prints):
        noise, say = _weights(rows, slips, s0, s1, su)
        base = math.log(p1) - 0.5 * ((math.log(s0) - _CENTRE) / _WIDTH) ** 2
        # A slip says nothing of how places scatter.
        base -= 0.5 * float(((1 - slips) * np.log(noise)).sum()) + 0.5 * float(say @ rest**2)
        drift = (_RESTLESS if su else _DRIFT) if rows.spans else ((0.0, 1.0),)
        for (sc, pc), (sx, px), (sd, pd) in product(small, apart, drift):
            found.append((s0, s1, su, sc, sx, sd, base + math.log(pu * pc * px * pd)))
    return _weighed(rows, x, rest, mean, var, slips, np.array(found), len(apart) > 1)


def _weights(rows: Rows, slips: Array, s0: float, s1: float, su: float) -> tuple[Array, Array]:
    """Variance of each reading, and how much it says."""
    # A reading that does not name its print is taken for one of a print of its own.
    noise = rows.share * (s0 + s1 * rows.drawn) ** 2 + rows.fixed + rows.alone * su**2
    return noise, (1 - slips) / noise + slips / (noise + _SLIP_SIGMA**2)


def _weighed(
    rows: Rows, x: Array, rest: Array, mean: Array, var: Array, slips: Array, points: Array, apart: bool
) -> Posterior:
    s0, s1, su, sc, sx, sd, base = points.T
    prior = np.empty((len(points), x.shape[1]))
    prior[:, :TERMS] = var
    prior[:, Term.SMALL] = sc**2
    prior[:, Term.X_OVER_Y] = sx**2
    prior[:, Term.HOLE_DRIFT] = prior[:, Term.PIN_DRIFT] = sd**2
    place = (1 - READING) * (s0[:, None] + s1[:, None] * rows.place_of) ** 2
    prior[:, TERMS:] = np.where(rows.is_print == 1, su[:, None] ** 2, np.where(rows.is_lot == 1, _JUMP**2, place))
    prior = np.maximum(prior, _ABSENT)
    # One scatter serves many points: their sums are made once.
    kinds, which = np.unique(points[:, : 3 if rows.alone.any() else 2], axis=0, return_inverse=True)
    which = which.ravel()
    say = np.array([_weights(rows, slips, *(*kind, 0.0)[:3])[1] for kind in kinds])
    gram = np.einsum("kn,ni,nj->kij", say, x, x, optimize=True)
    right = say @ (x * rest[:, None])
    inner = gram[which] + np.einsum("gi,ij->gij", 1 / prior, np.eye(x.shape[1]))
    chol = np.linalg.cholesky(inner)
    half = np.linalg.solve(chol, right[which][:, :, None])[:, :, 0]
    log = base + 0.5 * (half**2).sum(axis=1) - 0.5 * np.log(prior).sum(axis=1)
    log -= np.log(np.einsum("gii->gi", chol)).sum(axis=1)
    weight = np.exp(log - log.max())
    weight /= weight.sum()
    keep = weight > _LEFT_OUT * weight.max()
    cov = np.linalg.inv(inner[keep])
    step = np.einsum("gij,gj->gi", cov, right[which][keep])
    weight = weight[keep] / weight[keep].sum()
    means = np.concatenate([mean, np.zeros(x.shape[1] - TERMS)]) + step
    holes, pins = (TERMS + k if k is not None else None for k in rows.newest)
    return Posterior(weight, means, cov, s0[keep], s1[keep], su[keep], slips, apart, (holes, pins))


def _slips(rows: Rows, x: Array, rest: Array, var: Array) -> Array:
    """How likely each reading is a slip, by a fit that starts with a wide scatter and narrows."""
    n = len(rest)
    slips = np.zeros(n)
    if n < 4:
        return slips
    prior = np.concatenate([np.maximum(var, 1e-6), np.full(x.shape[1] - TERMS, 0.03**2)])
    prior[Term.SMALL], prior[Term.X_OVER_Y] = 0.3**2, (0.003**2 if rows.both else _ABSENT)
    prior[Term.HOLE_DRIFT] = prior[Term.PIN_DRIFT] = 0.02**2 if rows.spans else _ABSENT
    scale = 0.12
    for _ in range(12):
        noise = rows.share * scale**2 + rows.fixed
        say = (1 - slips) / noise + slips / (noise + _SLIP_SIGMA**2)
        inner = np.diag(1 / prior) + x.T @ (x * say[:, None])
        cov = np.linalg.inv(inner)
        off = rest - x @ (cov @ (x.T @ (say * rest)))
        # Without the reading itself: it has drawn the fit towards it.
        lever = np.clip(np.einsum("ni,ij,nj->n", x, cov, x) * say, 0, 0.95)
        out = off / (1 - lever)
        wide = noise / (1 - lever)
        ours = (1 - _SLIP) * np.exp(-0.5 * out**2 / wide) / np.sqrt(wide)
        theirs = _SLIP * np.exp(-0.5 * out**2 / (wide + _SLIP_SIGMA**2)) / np.sqrt(wide + _SLIP_SIGMA**2)
        slips = theirs / (ours + theirs)
        middle = 1.4826 * float(np.median(np.abs(off) / np.sqrt(1 - lever)))
        scale = max(min(scale * 0.7, 0.12), middle, 0.012)
    return slips
