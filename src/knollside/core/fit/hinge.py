"""The hinge that two bodies make: its axis, how far apart it is borne, and how far its leaves reach."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from knollside.core.fit.play import Wobble, wobble
from knollside.core.model import Feature, FeatureKind, Mesh

_OFF = 0.6  # mm off one line


HingeKind = Literal["cone", "pin"]


@dataclass(frozen=True)
class Hinge:
    """``kind`` 'cone' or 'pin'; mm between its outermost bearings; reach of the farthest corner from its axis."""

    kind: HingeKind
    span: float
    reach: float

    def wobbles(self, gap: float) -> Wobble:
        """How far it tilts with that printed gap a side, mm."""
        return wobble(max(gap, 0.0), self.span, self.reach, self.kind)


def hinge_of(mesh: Mesh, features: tuple[Feature, ...], bodies: tuple[int, int]) -> Hinge | None:
    """Cones, or a pin in holes, of two bodies on one line; None where they share none."""
    pairs: tuple[tuple[HingeKind, FeatureKind], ...] = (("cone", "cone"), ("pin", "hole"))
    for kind, inner in pairs:
        own = [f for f in features if f.kind == kind and f.body in bodies]
        for f in own:
            line = [g for g in features if g.kind in (kind, inner) and g.body in bodies and _on(f, g)]
            if {g.body for g in line} != set(bodies):
                continue
            axis = np.asarray(f.axis)
            along = np.array([float(np.dot(g.centre, axis)) for g in line])
            span = float(np.ptp(along)) if kind == "cone" else float(max(g.length or 0.0 for g in line))
            if span < 1.0:
                continue
            off = mesh.vertices - np.asarray(f.centre)
            reach = np.linalg.norm(off - np.outer(off @ axis, axis), axis=1).max()
            return Hinge(kind, span, float(reach))
    return None


def _on(f: Feature, g: Feature) -> bool:
    if abs(float(np.dot(f.axis, g.axis))) < 0.999:
        return False
    apart = np.asarray(g.centre) - np.asarray(f.centre)
    axis = np.asarray(f.axis)
    return bool(np.linalg.norm(apart - axis * (apart @ axis)) < _OFF)
