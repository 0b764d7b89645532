"""What a load does to the shell right under it where there is infill below: it dents, bends in, or is punched through.

By hand, beside the solve, whose cells see neither a pad of a few millimetres nor the room between infill lines. Limit
loads (W. Prager 1959): the shell gives along hinges round the pad, as a cone that crushes the infill under it or sinks
in between two lines, at the least load that any such cone takes; a punch shears it round its edge. Plastics that crack
before they give hold less.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.optimize import minimize_scalar

from knollside.core.material.infill import line_spacing, strength_share
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
from knollside.core.strength.field import CaseAnswer
from knollside.core.strength.nominal import Nominal, tensor
from knollside.core.strength.rules import Rule
from knollside.core.strength.set_out import place_feature
from knollside.core.strength.skin import Skin, shell_under, skin_of
from knollside.core.strength.spots import sample_faces

_SAMPLES = 40  # of a face, whose middle depth counts
Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Pad:
    """``force`` N pressed evenly on ``area`` mm2 of a shell ``shell`` mm thick over infill of ``strong`` times the
    solid's strength, its lines ``spacing`` mm apart. What it comes to is told as a stress of the solid, MPa, that is as
    near to its strength as the force is to the one that does it."""

    force: float
    area: float
    shell: float
    strong: float
    spacing: float

    @property
    def radius(self) -> float:
        return float(np.sqrt(self.area / np.pi))

    @property
    def dented(self) -> float:
        """Infill crushed under a cone of shell: 4 pi M R / (R - a) + crush pi (R^2 + R a + a^2) / 3, least over R."""
        a, hinge = self.radius, np.pi * self.shell**2  # 4 pi of the moment that a hinge takes, t^2 / 4 times strength

        def takes(log: float) -> float:
            r = a * (1 + np.exp(log))
            return float(hinge * r / (r - a) + self.strong * np.pi / 3 * (r * r + r * a + a * a))

        return self.force / float(minimize_scalar(takes, bounds=(-12.0, 12.0), method="bounded").fun)

    @property
    def bent_in(self) -> float:
        """Sunk in between two lines: 4 pi M of a small pad, 16 M / s^2 of every mm2 of one wider than its room."""
        return self.force / (self.shell**2 / 4 * max(4 * np.pi, 16 * self.area / self.spacing**2))

    @property
    def punched(self) -> float:
        """Shear of the shell round the pad, the infill left out."""
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
                out += _told(pad, feature, number, inward)
    return tuple(out)


def _pad(mesh: Mesh, feature: Feature, skin: Skin, recipe: Recipe, force: float, inward: Array) -> Pad | None:
    """What presses there, None where nothing does or it is solid all through."""
    if force <= 0:
        return None
    shell = shell_under(skin, -inward)
    area = float(mesh.areas[feature.faces].sum())
    spots = sample_faces(mesh, feature.faces, max(float(np.sqrt(area / _SAMPLES)), 0.2))
    deep = float(np.median(thickness(mesh, spots.points, spots.normals)))
    if deep <= 2.5 * shell:
        return None
    strong = strength_share(recipe.pattern, recipe.infill)
    return Pad(force, area, shell, strong, line_spacing(recipe.pattern, recipe.infill, recipe.line_width))


def _told(pad: Pad, feature: Feature, number: int, inward: Array) -> list[Nominal]:
    """Its three ways to go, as stresses of the solid."""
    at = np.asarray(feature.centre, float)
    beside, _ = square_to(inward)
    return [
        Nominal(Rule.DENT, at, number, tensor(-pad.dented, inward, inward)),
        Nominal(Rule.BENT_IN, at, number, tensor(pad.bent_in, beside, beside)),
        Nominal(Rule.PUNCHED, at, number, tensor(pad.punched, inward, beside)),
    ]
