"""The bond between layers over nozzle heat, from bars pulled standing at each heat and lying."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import get_args

import numpy as np
from pydantic import ValidationError
from scipy.special import stdtrit

from knollside.core.learning.pulls import Studied, studied
from knollside.core.material.cards import CurveOver
from knollside.core.material.own import BondCurve, BondPoint
from knollside.core.model import Array, Refused
from knollside.core.model.trials import Pull, PullStudy

CURVES: tuple[CurveOver, ...] = get_args(CurveOver)


def curve_of(study: PullStudy, nozzle_mm: float) -> BondCurve:
    """The card's own curve that a study gives. Raises :class:`Refused` where it gives none."""
    over = next((c for c in CURVES if c == study.varies), None)
    if over is None:
        told = {
            "nozzle kind": "Pull heats with each nozzle: each has a curve of its own on the card.",
            "material lot": "A card is of the material, not of a lot. Keep the weaker lot off parts that carry load.",
        }
        raise Refused(told.get(study.varies, "That has no curve on the card."))
    scale = {"nozzle temperature": 1.0, "fan": 0.01, "layer height": 1 / nozzle_mm}[over]
    try:
        return BondCurve(over=over, hard_nozzle=study.hard_nozzle, points=bond_curve(study.pulls, scale))
    except ValidationError:
        raise Refused(f"A level of that is no {over}: look at what was typed.") from None


def bond_curve(pulls: Sequence[Pull], scale: float = 1.0) -> tuple[BondPoint, ...]:
    """Standing strength over lying at each level (times ``scale``), with nine in ten of both. Raises :class:`Refused`
    where no bars lay: the bond is a share of what holds along the layers."""
    lying = np.array([math.log(p.strength) for p in pulls if not p.standing and not p.slipped])
    if len(lying) < 2:
        raise Refused(
            "The bond is a share of what holds along the layers: pull at least two bars that were printed lying, too."
        )
    along = float(lying.mean())
    off = float(stdtrit(len(lying) - 1, 0.95)) * float(lying.std(ddof=1)) / math.sqrt(len(lying))
    out = []
    for level in studied(pulls).levels:
        m = level.mean
        value = math.exp(math.log(m.value) - along)
        low = math.hypot(math.log(m.value / m.low), off)
        high = math.hypot(math.log(m.high / m.value), off)
        middle = min(value, 1.0)
        out.append(
            BondPoint(
                at=level.value * scale,
                value=middle,
                low=max(min(value * math.exp(-low), middle), 0.01),
                high=min(max(value * math.exp(high), middle), 1.0),
            )
        )
    return tuple(out)


@dataclass(frozen=True)
class Fitted:
    """A curve through the levels' means, MPa, with nine in ten of it; at ``levels`` of what varies, (k,)."""

    levels: Array
    value: Array
    low: Array
    high: Array


def fitted(found: Studied, count: int = 41) -> Fitted | None:
    """A second-degree curve over the levels, weighed by what each mean is known to; None for under four levels, which
    such a curve goes through whatever they are. Its band is widened where the levels stray more than their bars say."""
    x = np.array([v.value for v in found.levels])
    y = np.array([v.mean.value for v in found.levels])
    half = np.array([max(v.mean.high - v.mean.low, 1e-3 * v.mean.value) / 2 for v in found.levels])
    if len(x) < 4 or len(np.unique(x)) < 4:
        return None
    middle, scale = float(x.mean()), max(float(np.ptp(x)) / 2, 1e-9)
    basis = np.vander((x - middle) / scale, 3)
    w = 1.645 / half
    solved, *_ = np.linalg.lstsq(basis * w[:, None], y * w, rcond=None)
    free = len(x) - 3
    stray = float((((basis @ solved - y) * w) ** 2).sum()) / free
    spread = np.linalg.inv((basis * w[:, None] ** 2).T @ basis) * max(stray, 1.0)
    at = np.linspace(float(x.min()), float(x.max()), count)
    told = np.vander((at - middle) / scale, 3)
    value = told @ solved
    off = 1.645 * np.sqrt(np.einsum("ij,jk,ik->i", told, spread, told))
    return Fitted(at, value, value - off, value + off)
