"""What a load does to the shell right under it where there is infill below: it dents, bends in, or is punched through.

By hand, beside the solve, whose cells see neither a pad of a few millimetres nor the room between infill lines. The
shell is a plate on an elastic bed (H. Hertz 1884; S. Timoshenko, S. Woinowsky-Krieger 1959), the bed crushes at the
infill's strength (D. Zenkert 1995); between two lines it is a strip clamped at both; a punch shears it round its edge.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import keip, kerp

from knollside.core.material.infill import line_spacing, stiffness_share, strength_share
from knollside.core.mesh.walls import thickness
from knollside.core.model import (
    Array,
    DesignCase,
    Feature,
    ForceLoad,
    Mesh,
    PressureLoad,
    Recipe,
    WeightLoad,
    square_to,
)
from knollside.core.strength.field import POISSON, CaseAnswer
from knollside.core.strength.nominal import Nominal, tensor
from knollside.core.strength.rules import Rule
from knollside.core.strength.set_out import place_feature
from knollside.core.strength.skin import Skin, shell_under, skin_of
from knollside.core.strength.spots import sample_faces

_SAMPLES = 40  # of a face, whose middle depth counts
_SPOT = 0.168  # of a force on a small spot midway over a long strip clamped at both sides: its edge moment
Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Pad:
    """``force`` N pressed evenly on ``area`` mm2 of a shell ``shell`` mm thick over infill ``bed`` mm deep,
    ``stiff`` a share of the solid, its lines ``spacing`` mm apart."""

    force: float
    area: float
    shell: float
    bed: float
    stiff: float
    spacing: float

    @property
    def pressure(self) -> float:
        return self.force / self.area

    @property
    def spread(self) -> float:
        """How far a plate on its bed carries a push, mm: (D / k)^(1/4). What lies deeper than the shell's dent reaches
        gives no more way."""
        deep = min(self.bed, 2 * self.shell * self.stiff ** (-1 / 3))
        return float((self.shell**3 * deep / (12 * (1 - POISSON**2) * self.stiff)) ** 0.25)

    @property
    def radius(self) -> float:
        return float(np.sqrt(self.area / np.pi))

    @property
    def bedding(self) -> float:
        """Pressure on the infill under the middle, MPa: a round pad on a plate on an elastic bed."""
        x = self.radius / self.spread
        return float(self.pressure * (1 + x * kerp(x)))

    @property
    def bending(self) -> float:
        """Stress of the shell bent in over its bed, or between two of its lines, MPa; the larger."""
        x = self.radius / self.spread
        over_bed = self.pressure * self.radius * self.spread * (1 + POISSON) / 2 * abs(float(keip(x)))
        return 6 * max(over_bed, self._between) / self.shell**2

    @property
    def _between(self) -> float:
        """Edge moment of a long strip clamped at two lines, N mm per mm: 0.168 F of a point midway, p s^2 / 12 where
        the push is as wide as the strip and wider; between them as a plate solved by differences, to 3 %."""
        x = float(np.sqrt(self.area)) / self.spacing  # nothing where there are no lines to bridge
        share = _SPOT - (_SPOT - 1 / 12) * x**1.7 if x < 1 else 1 / (12 * x**2)
        return self.force * share if np.isfinite(self.spacing) else 0.0

    @property
    def punched(self) -> float:
        """Shear of the shell round the pad, MPa, the infill left out."""
        return float(self.force / (2 * np.pi * self.radius * self.shell))


def under_pads(
    mesh: Mesh,
    features: tuple[Feature, ...],
    design_case: DesignCase,
    answers: tuple[CaseAnswer, ...],
    recipe: Recipe,
    direction: Vec | None,
) -> tuple[Nominal, ...]:
    """Every load that presses a face with infill under it; ``answers`` as in
    :func:`~knollside.core.strength.hand_rules.by_hand`."""
    skin = skin_of(recipe, direction)
    if skin is None or recipe.infill <= 0:
        return ()
    out: list[Nominal] = []
    for number, (case, answer) in enumerate(zip(design_case.loaded, answers, strict=True)):
        for load in case.loads:
            if not isinstance(load, ForceLoad | WeightLoad | PressureLoad):
                continue
            feature = place_feature(mesh, features, load)
            if feature.kind in ("hole", "slot"):
                continue
            area = float(mesh.areas[feature.faces].sum())
            inward = -(mesh.normals[feature.faces] * mesh.areas[feature.faces][:, None]).sum(axis=0) / area
            if np.linalg.norm(inward) < 0.5:  # it runs all round: there is no one side that is pressed
                continue
            inward /= np.linalg.norm(inward)
            pressed = load.pressure_MPa * area if isinstance(load, PressureLoad) else float(np.dot(load.vector, inward))
            pad = _pad(mesh, feature, skin, recipe, answer.impact * pressed, inward)
            if pad is not None:
                out += _told(pad, feature, number, inward, strength_share(recipe.pattern, recipe.infill))
    return tuple(out)


def _pad(mesh: Mesh, feature: Feature, skin: Skin, recipe: Recipe, force: float, inward: Array) -> Pad | None:
    """What presses there, None where nothing does or it is solid all through."""
    if force <= 0:
        return None
    shell = shell_under(skin, -inward)
    area = float(mesh.areas[feature.faces].sum())
    spots = sample_faces(mesh, feature.faces, max(float(np.sqrt(area / _SAMPLES)), 0.2))
    deep = float(np.median(thickness(mesh, spots.points, spots.normals)))
    bed = deep - 2 * shell
    if bed <= 0.5 * shell:
        return None
    stiff = stiffness_share(recipe.pattern, recipe.infill)
    spacing = line_spacing(recipe.pattern, recipe.infill, recipe.line_width)
    return Pad(force, area, shell, bed, stiff, spacing)


def _told(pad: Pad, feature: Feature, number: int, inward: Array, strong: float) -> list[Nominal]:
    """Its three ways to go, as stresses of the solid: the infill's crushing by how much stronger the solid is."""
    at = np.asarray(feature.centre, float)
    beside, _ = square_to(inward)
    return [
        Nominal(Rule.DENT, at, number, tensor(-pad.bedding / strong, inward, inward)),
        Nominal(Rule.BENT_IN, at, number, tensor(pad.bending, beside, beside)),
        Nominal(Rule.PUNCHED, at, number, tensor(pad.punched, inward, beside)),
    ]
