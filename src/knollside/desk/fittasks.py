"""What Fits asks of the worker besides corrections: gaps between bodies, and scaling that keeps them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.fit.clearance import Freedom, Gap, freedom, gaps
from knollside.core.fit.flaring import LAYERS, learn_flare
from knollside.core.fit.freeing import TYPICAL, learn_frees
from knollside.core.fit.process import Setting, learn
from knollside.core.fit.scaling import Scaled, scale_keeping
from knollside.core.job.answer import PartFacts, Tick
from knollside.core.job.file import PrinterFacts
from knollside.core.lay.stand import fitting
from knollside.core.mesh.flare import Relieved, take_flare_off
from knollside.core.model import GapTrial, Measurement, Recipe, Refused

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Learned:
    """What the person's own trials say that gaps rest on."""

    readings: tuple[Measurement, ...]
    trials: tuple[GapTrial, ...]
    setting: Setting

    def freedom(self, gap: Gap) -> Freedom:
        hole, pin = (learn(self.readings, k, "upright", setting=self.setting) for k in ("hole", "pin"))
        flared = learn_flare(self.readings, self.setting)
        return freedom(gap, hole, pin, *(learn_frees(self.trials, d) for d in TYPICAL), flared)


def gaps_of(part: PartFacts, direction: Vec, recipe: Recipe, learned: Learned, tick: Tick) -> tuple[Freedom, ...]:
    """Every pair of bodies with the chances of its gap on this printer."""
    if part.soundness.bodies < 2:
        return ()
    tick(0.1, "measuring between bodies")
    return tuple(learned.freedom(g) for g in gaps(part.mesh, direction, recipe))


def flare(part: PartFacts, direction: Vec, by: float, recipe: Recipe, tick: Tick) -> Relieved:
    """Take the flare off the layers that have one."""
    tick(0.2, "cutting it off")
    return take_flare_off(part.mesh, direction, by, LAYERS * recipe.layer_height)


def scale(
    part: PartFacts,
    factor: float,
    keep: tuple[str, ...],
    keep_gaps: bool,
    recipe: Recipe,
    direction: Vec,
    printer: PrinterFacts,
    tick: Tick,
) -> Scaled:
    """Scale, keeping what was asked; a part that would leave the bed is refused beforehand."""
    grown = part.mesh.vertices * factor
    tick(0.1, "scaling")
    if not fitting(type(part.mesh)(grown, part.mesh.faces), np.array([direction]), printer.bed_mm)[0]:
        x, y, z = part.mesh.size * factor
        raise Refused(
            f"At {factor * 100:.0f} % it is {x:.0f} × {y:.0f} × {z:.0f} mm; lying this way it does not fit "
            f"{printer.name}."
        )
    return scale_keeping(part.mesh, part.features, factor, keep, keep_gaps, recipe.line_width)
