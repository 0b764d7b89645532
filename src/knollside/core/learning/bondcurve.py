"""The bond between layers over nozzle heat, from bars pulled standing at each heat and lying."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from scipy.special import stdtrit

from knollside.core.learning.pulls import studied
from knollside.core.material.own import BondPoint
from knollside.core.model import Refused
from knollside.core.model.trials import Pull


def bond_curve(pulls: Sequence[Pull]) -> tuple[BondPoint, ...]:
    """Standing strength over lying at each level, with nine in ten of both. Raises :class:`Refused` where no bars lay:
    the bond is a share of what holds along the layers."""
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
                celsius=level.value,
                value=middle,
                low=max(min(value * math.exp(-low), middle), 0.01),
                high=min(max(value * math.exp(high), middle), 1.0),
            )
        )
    return tuple(out)
