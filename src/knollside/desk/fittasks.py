"""What Fits asks of the worker besides corrections: gaps between bodies, and scaling that keeps them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.fit.clearance import Freedom, Gap, freedom, gaps
from knollside.core.fit.flaring import LAYERS, learn_flare
from knollside.core.fit.freeing import TYPICAL, learn_frees
from knollside.core.fit.hinge import Hinge, hinge_of
from knollside.core.fit.opening import Opened, Thickened, set_gap, thicken, wall_behind
from knollside.core.fit.process import Setting, learn
from knollside.core.fit.scaling import Scaled, scale_keeping
from knollside.core.fit.threadfit import Threaded, open_flanks
from knollside.core.job.answer import PartFacts, Tick
from knollside.core.job.file import PrinterFacts
from knollside.core.lay.stand import fitting
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.features import find_features
from knollside.core.mesh.flare import Relieved, take_flare_off
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.topology import stands_in
from knollside.core.model import GapTrial, Measurement, Mesh, Recipe, Refused, rotation_to_up

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


@dataclass(frozen=True)
class Between:
    """A pair of bodies: whether it comes free, and the hinge it makes, if it does."""

    free: Freedom
    hinge: Hinge | None


def gaps_of(part: PartFacts, direction: Vec, recipe: Recipe, learned: Learned, tick: Tick) -> tuple[Between, ...]:
    """Every pair of bodies with the chances of its gap on this printer."""
    if part.soundness.bodies < 2:
        return ()
    tick(0.1, "measuring between bodies")
    found = gaps(part.mesh, direction, recipe)
    return tuple(Between(learned.freedom(g), hinge_of(part.mesh, part.features, g.bodies)) for g in found)


def flare(part: PartFacts, direction: Vec, by: float, recipe: Recipe, tick: Tick) -> Relieved:
    """Take the flare off the layers that have one."""
    tick(0.2, "cutting it off")
    return take_flare_off(part.mesh, direction, by, LAYERS * recipe.layer_height)


def open_gap(part: PartFacts, bodies: tuple[int, int], to: float, tick: Tick) -> Opened:
    """Open (or close) one gap by moving the faces that look at the other body."""
    tick(0.2, "opening the gap")
    return set_gap(part.mesh, bodies, to)


def move_wall(part: PartFacts, name: str, by: float, side: str, follow: bool, tick: Tick) -> Thickened:
    """Thicken the wall a flat is one side of."""
    tick(0.2, "moving the wall")
    return thicken(part.mesh, part.features, wall_behind(part.mesh, part.features, name), by, side, follow)


def thread(part: PartFacts, name: str, flank: float, tick: Tick) -> Threaded:
    """Open a thread's flanks."""
    f = part.feature(name)
    if f is None:
        raise Refused("That thread is not on this part.")
    tick(0.2, "moving the flanks")
    return open_flanks(part.mesh, f, flank)


@dataclass(frozen=True)
class TrueCuts:
    """A feature across its axis: the part's outline round it as it is and as corrected (None before), mm from the
    axis, up along the second direction; and half the width of what is shown."""

    feature: str
    before: BaseGeometry
    after: BaseGeometry | None
    reach: float


def true_cuts(part: PartFacts, feature: str, direction: Vec, made: Mesh | None, tick: Tick) -> TrueCuts:
    """Cut the part, and the corrected one, at the middle of a round; up is where the way goes, where that is across."""
    f = part.feature(feature)
    if f is None or f.diameter is None:
        raise Refused("Nothing round is chosen.")
    reach = f.diameter / 2 + 3.0
    window = shapely.box(-reach, -reach, reach, reach)
    axis, up = np.asarray(f.axis), np.asarray(direction)
    up = up - axis * (up @ axis)
    turn = rotation_to_up(f.axis)
    if np.linalg.norm(up) > 0.1:
        up = up / np.linalg.norm(up)
        turn = np.stack([np.cross(up, axis), up, axis])

    def across(mesh: Mesh) -> BaseGeometry:
        local = Mesh((mesh.vertices - np.asarray(f.centre)) @ turn.T, mesh.faces)
        return shapely.intersection(polygon_of(cut(local, np.array([0.0])).at(0)), window)

    return TrueCuts(feature, across(part.mesh), across(made) if made is not None else None, reach)


def scale(
    part: PartFacts,
    factor: float,
    keep: tuple[str, ...],
    keep_gaps: bool,
    walls: tuple[str, ...],
    only: int | None,
    recipe: Recipe,
    direction: Vec,
    printer: PrinterFacts,
    tick: Tick,
) -> Scaled:
    """Scale, keeping what was asked; a part that would leave the bed is refused beforehand."""
    grown = part.mesh.vertices * factor
    tick(0.1, "scaling")
    if not fitting(Mesh(grown, part.mesh.faces), np.array([direction]), printer.bed_mm)[0]:
        x, y, z = part.mesh.size * factor
        raise Refused(
            f"At {factor * 100:.0f} % it is {x:.0f} × {y:.0f} × {z:.0f} mm; lying this way it does not fit "
            f"{printer.name}."
        )
    return scale_keeping(part.mesh, part.features, factor, keep, keep_gaps, recipe.line_width, walls, only)


@dataclass(frozen=True)
class SetPart:
    """One part of a set, scaled; or why it was refused."""

    id: int
    name: str
    scaled: Scaled | None
    refused: str


def scale_set(
    parts: tuple[tuple[int, str, Mesh], ...], factor: float, line_width: float, printer: PrinterFacts, tick: Tick
) -> tuple[SetPart, ...]:
    """Scale several parts alike, each with its holes, pockets and gaps kept."""
    out = []
    for k, (number, name, mesh) in enumerate(parts):
        tick(k / len(parts), name)
        try:
            features = find_features(mesh)
            kept = tuple(f.id for f in features if f.kind in ("hole", "hexagon") and f.inside is not False)
            made = scale_keeping(mesh, features, factor, kept, True, line_width)
            x, y = sorted(made.mesh.size)[1:]
            if x > max(printer.bed_mm) or y > max(printer.bed_mm):
                raise Refused(f"{x:.0f} × {y:.0f} mm does not fit {printer.name} any way it lies.")
            out.append(SetPart(number, name, made, ""))
        except Refused as refusal:
            out.append(SetPart(number, name, None, str(refusal)))
    return tuple(out)


@dataclass(frozen=True)
class ChangeReport:
    """What a correction left alone: corners of the part as it was, how many are the same to the bit, and the same of
    its lettering; wall surfaces before and after."""

    corners: int
    same: int
    lettering: int
    lettering_same: int
    volume: float


def change_report(part: PartFacts, edited: Edited, tick: Tick) -> ChangeReport:
    """Count what stayed, by the corners' own bits."""
    same = stands_in(part.mesh.vertices, edited.mesh.vertices)
    letters = [f.faces for f in part.features if f.kind == "lettering"]
    at = np.unique(part.mesh.faces[np.concatenate(letters)]) if letters else np.zeros(0, np.int64)
    change = edited.mesh.volume - part.mesh.volume
    return ChangeReport(len(same), int(same.sum()), len(at), int(same[at].sum()), change)
