"""Water in a spool: what it has taken up, how long to dry it, and what weighings while drying teach.

A strand takes up and gives off water as a cylinder does (Crank, *The Mathematics of Diffusion*, 1975, 5.3); what it
holds at rest goes with the air's humidity. A wound spool is slower, outer windings first: one factor of wide range.
Tables of diffusion are off by three to four either way, so hours come from the usual ones with a wide range, until
weighings in between settle them: the loss so far says how fast, and how much there was.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.special import jn_zeros, ndtri

from knollside.core.model import Array, Range, Refused

_ROOTS = jn_zeros(0, 40)
_SHARES = 4 / _ROOTS**2
_SHARES = np.append(_SHARES, 1 - _SHARES.sum())  # what is left gives way at once
_RATES = np.append(_ROOTS**2, 1e9)
_HALF = 0.0630  # D t / r2 at which half is gone
ROOM = 0.5  # relative humidity of a room, where none was measured
# Water at rest at 50 % humidity and 23 C and what harms a print, mass %, and hours to half of it on an open spool.
_TYPICAL: dict[str, tuple[tuple[float, float, float], tuple[float, float, float], float]] = {
    "PLA": ((0.4, 0.3, 0.5), (0.20, 0.12, 0.30), 60.0),
    "PETG": ((0.15, 0.10, 0.20), (0.08, 0.05, 0.12), 70.0),
    "ABS": ((0.2, 0.15, 0.25), (0.10, 0.06, 0.15), 60.0),
    "ASA": ((0.25, 0.20, 0.30), (0.12, 0.07, 0.18), 60.0),
    "PC": ((0.15, 0.12, 0.20), (0.05, 0.03, 0.08), 60.0),
    "PA": ((2.75, 2.5, 3.0), (0.50, 0.30, 0.80), 140.0),
    "TPU": ((0.65, 0.5, 0.8), (0.20, 0.12, 0.30), 50.0),
    "PP": ((0.02, 0.01, 0.04), (0.10, 0.05, 0.20), 60.0),
}
_SLOWER = 3.0  # factor by which a spool's rate is in doubt, two sigma
_DRY_SLOWER = 1.9  # factor by which usual hours of drying are in doubt, two sigma
_FLOORS = ((45.0, 0.29), (55.0, 0.18), (65.0, 0.11), (80.0, 0.06))  # of equilibrium, that heated room air leaves
_GRAM = 0.1  # the scale's step
_INSIDE, _INNER = 0.4, np.array([0.35, 0.6, 1.0])  # share of inner windings, and how much slower they are


@dataclass(frozen=True)
class Uptake:
    """Of a material, all typical: water at rest at half humidity and what harms, mass %; hours to half of it."""

    material: str
    rest: Range
    harm: Range
    half_hours: Range

    @property
    def seen(self) -> bool:
        """Whether a scale of a tenth of a gram sees this water on a kilogram well."""
        return self.rest.value * 10 > 20 * _GRAM


def uptake_of(material: str) -> Uptake:
    """What is typical of a material, by the longest name that it begins with. Raises :class:`Refused` for others."""
    upper = material.upper().replace("NYLON", "PA")
    known = max((n for n in _TYPICAL if upper.startswith(n)), key=len, default="")
    if not known:
        raise Refused(f"How much water {material} takes up is not known; there are {', '.join(_TYPICAL)}.")
    rest, harm, half = _TYPICAL[known]
    return Uptake(material, Range(*rest), Range(*harm), Range(half, half / _SLOWER, half * _SLOWER))


def left(x: Array | float) -> Array:
    """Share still to come of a change at the surface, of a cylinder at x = D t / r2 (n,)."""
    return np.asarray(np.exp(-np.multiply.outer(np.asarray(x, float), _RATES)) @ _SHARES)


@dataclass(frozen=True)
class Stay:
    """``hours`` in air of a relative ``humidity`` (a share): open, or in a box."""

    hours: float
    humidity: float


@dataclass(frozen=True)
class Water:
    """Mass % now; the chance that it is more than what harms; in words what weighs most in the doubt."""

    now: Range
    harm: Range
    wet: float


_QUANTILES = (np.arange(15) + 0.5) / 15


def water_of(uptake: Uptake, stays: Iterable[Stay], begun: Range | None = None, stringy: Sequence[bool] = ()) -> Water:
    """Water after the stays since it was last dry, by quadrature over how fast it takes up, how much it holds and what
    harms. ``begun``: mass % at the first stay, new spools a tenth of what they hold at rest. ``stringy``: prints since
    that came out matte and stringy, or did not: evidence, typical odds 0.7 against 0.15."""
    z = ndtri(_QUANTILES)
    rate = _HALF / (uptake.half_hours.value * np.exp(z * np.log(_SLOWER) / 2))
    rest = _spread(uptake.rest, z)
    harm = _spread(uptake.harm, z)
    start = Range(0.1 * uptake.rest.value, 0.0, 0.25 * uptake.rest.value) if begun is None else begun
    first = np.maximum(_spread(start, z[1::4]), 0.0)
    # Modes of each rate, each rest and each beginning: (rate, rest, first, mode).
    mode = np.broadcast_to(first[None, None, :, None], (15, 15, len(first), len(_RATES))).copy()
    for s in stays:
        if s.hours < 0 or not 0 <= s.humidity <= 1:
            raise Refused(f"{s.hours:g} h at {s.humidity:.0%} humidity is no stay.")
        air = (rest * s.humidity / 0.5)[None, :, None, None]
        fade = np.exp(-np.multiply.outer(rate * s.hours, _RATES))[:, None, None, :]
        mode = air + (mode - air) * fade
    held = (mode @ _SHARES).ravel()
    over = held[:, None] > harm[None]
    weight = np.ones(over.shape)
    for was in stringy:
        weight *= np.where(over, 0.7 if was else 0.3, 0.15 if was else 0.85)
    weight /= weight.sum()
    low, middle, high = _quantiles(held, weight.sum(axis=1), (0.05, 0.5, 0.95))
    source = "typical" if not stringy else f"typical, {len(stringy)} print{'s' if len(stringy) != 1 else ''} seen"
    return Water(Range(middle, low, high, source), uptake.harm, float(weight[over].sum()))


def _spread(r: Range, z: Array) -> Array:
    """Values of a range of nine in ten at normal deviates, each side with its own spread."""
    return np.where(z < 0, r.value + z * (r.value - r.low) / 1.6449, r.value + z * (r.high - r.value) / 1.6449)


def _quantiles(values: Array, weight: Array, shares: tuple[float, ...]) -> list[float]:
    order = np.argsort(values)
    cumulated = np.cumsum(weight[order]) / weight.sum()
    return [float(values[order][min(int(np.searchsorted(cumulated, s)), len(values) - 1)]) for s in shares]


@dataclass(frozen=True)
class Drying:
    """Hours until the spool holds ``target`` mass % or less: one spool in twenty is dry before the low end of
    ``hours``, nine in ten by its high end, which is what to plan with. ``reaches``: whether it is likely to get there
    at all at this heat; ``learned`` from so many weighings, or why they teach nothing (``trouble``)."""

    hours: Range
    target: float
    reaches: float
    learned: int
    trouble: str = ""

    @property
    def planned(self) -> float:
        return self.hours.high


def floor_at(celsius: float) -> float:
    """Share of the water at rest that air of a room, heated so, leaves in."""
    at, share = zip(*_FLOORS, strict=True)
    return float(np.interp(celsius, at, share))


def drying_of(
    uptake: Uptake,
    water: Range,
    usual_hours: float,
    celsius: float,
    grams: float,
    weighings: Sequence[tuple[float, float]] = (),
    humidity: float = ROOM,
    target: float | None = None,
) -> Drying:
    """How long to dry a spool of so many ``grams`` of plastic that holds ``water`` mass %, at ``celsius``.

    ``usual_hours`` take a spool at rest in a room to a fifth of that, typical, within a factor of two. ``weighings``:
    (hours in the drier, gross grams), from before it went in; two say little, with those in between the hours are
    learned: a grid over how fast it dries, how much it holds and what the drier's air leaves in, each weighed by how
    well it makes the weighings, whatever the dry mass is. Raises :class:`Refused` for weighings that are none.
    """
    if usual_hours <= 0 or grams <= 0:
        raise Refused("Drying needs its usual hours and the grams on the spool.")
    hours, gross = _checked(weighings)
    z = ndtri((np.arange(41) + 0.5) / 41)
    # At the usual hours a spool at rest is at a fifth, beyond what the air leaves.
    usual = _x_at(0.12) / usual_hours
    rate = usual * np.exp(z * np.log(_DRY_SLOWER) / 2 * 1.3)
    held = np.maximum(_spread(water, ndtri((np.arange(31) + 0.5) / 31)), 1e-4)
    floor = floor_at(celsius) * humidity / 0.5 * uptake.rest.value * np.array([0.6, 0.8, 1.0, 1.25, 1.6])
    k, w, f, slow = (a.ravel() for a in np.meshgrid(rate, held, floor, _INNER, indexing="ij"))
    weight = np.ones(len(k))
    if len(hours) >= 2:
        f_now = np.minimum(f, w)
        mass = (
            grams / 100 * (f_now[:, None] + (w - f_now)[:, None] * _wound(np.multiply.outer(k, hours), slow[:, None]))
        )
        off = gross[None] - mass
        off -= off.mean(axis=1, keepdims=True)  # whatever it weighs dry
        log = -0.5 * ((off / _GRAM_SIGMA) ** 2).sum(axis=1)
        weight = np.exp(log - log.max())
    goal = uptake.harm.value if target is None else target
    at = np.minimum(f, w)
    need = np.where(w <= goal, 0.0, np.inf)
    can = (w > goal) & (at < 0.95 * goal)
    share = (goal - at[can]) / (w[can] - at[can])
    for inner in _INNER:
        here = slow[can] == inner
        need[np.flatnonzero(can)[here]] = np.interp(-share[here], -_wound(_GRID, inner), _GRID) / k[can][here]
    reaches = float(weight[np.isfinite(need)].sum() / weight.sum())
    fine = np.isfinite(need)
    if not fine.any():
        return Drying(Range(np.inf, np.inf, np.inf), goal, 0.0, len(hours))
    low, middle, high = _quantiles(need[fine], weight[fine], (0.05, 0.5, 0.90))
    source = f"yours, {len(hours)} weighings" if len(hours) >= 3 else "typical"
    return Drying(Range(middle, low, high, source), goal, reaches, len(hours))


def _wound(x: Array, slow: Array | float) -> Array:
    """As :func:`left`, of a spool whose inner windings give way so much slower."""
    first, second = (np.interp(np.minimum(v, 4.0), _GRID, _LEFT) for v in (x, x * slow))
    return np.asarray((1 - _INSIDE) * first + _INSIDE * second)


_GRAM_SIGMA = 0.08  # g of one weighing: the step and the hand


def _checked(weighings: Sequence[tuple[float, float]]) -> tuple[Array, Array]:
    hours, gross = (np.array([w[k] for w in weighings], float) for k in (0, 1))
    if len(hours) and (not np.isfinite([*hours, *gross]).all() or (hours < 0).any() or (np.diff(hours) <= 0).any()):
        raise Refused("Weighings while drying come in the order of their hours, from nought on.")
    if len(gross) and float(gross[-1] - gross[0]) > 0.5:
        raise Refused(
            f"It weighs {gross[-1] - gross[0]:.1f} g more after drying than before: not the same spool, or the scale "
            "has drifted. Weigh it again."
        )
    return hours, gross


_GRID = np.concatenate([[0.0], np.geomspace(1e-5, 4.0, 400)])
_LEFT = left(_GRID)


def _x_at(share: Array | float) -> Array:
    """D t / r2 at which so much of the change is still to come."""
    return np.asarray(np.interp(-np.asarray(share, float), -_LEFT, _GRID))
