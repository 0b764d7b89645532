"""Fits: the odds of every mate, the corrected mesh, gaps between bodies, and other edits of the mesh."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import ClassVar

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from knollside.core.fit.correction import Correction
from knollside.core.fit.doubts import Disorder, Doubt, NextReading, disorders, doubts, next_reading, strangers
from knollside.core.fit.flaring import LAYERS
from knollside.core.fit.opening import Thickened, thicken, wall_behind
from knollside.core.fit.process import (
    AXES,
    REFERENCE,
    Moved,
    PrintSetting,
    Process,
    Shift,
    history,
    process_of,
)
from knollside.core.fit.scaling import Scaled, scale_keeping
from knollside.core.fit.threadfit import Threaded, move_flanks
from knollside.core.fit.together import Together, together
from knollside.core.job import correcting
from knollside.core.job.ask import Answerer, MeshKey, Question
from knollside.core.job.questions.part import Part, ReadMesh
from knollside.core.lay.stability import fitting
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.flare import Relieved, take_flare_off
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.topology import stands_in
from knollside.core.model import Mate, Measurement, Mesh, PrinterFacts, Recipe, Refused, rotation_to_up

Vec = tuple[float, float, float]
Windows = tuple[tuple[str, tuple[float, float]], ...]


@dataclass(frozen=True)
class Fitting:
    """What each mate should be drawn as, sentences for those that cannot be told, what the printer does, and the chance
    of several pegs in several holes at once."""

    corrections: tuple[Correction, ...]
    refused: tuple[str, ...]
    processes: tuple[Process, ...]
    together: tuple[Together, ...] = ()

    def process(self, axis: str) -> Process:
        return self.processes[AXES.index(axis)]

    def shift(self, kind: str, axis: str, drawn: float = REFERENCE) -> Shift:
        return self.process(axis).shift(kind, drawn)


@dataclass(frozen=True)
class Telling:
    """What the readings of holes, or of outsides, tell besides the fit: how the shift moved, what does not fit the
    model, and the reading worth most next."""

    moved: tuple[Moved, ...]
    doubts: tuple[Doubt, ...]
    next: NextReading


@dataclass(frozen=True)
class Told:
    """Of upright holes and outsides at ``at`` mm, and bars that look like another printer's."""

    at: float
    holes: Telling
    outsides: Telling
    strangers: tuple[str, ...]
    disorders: tuple[Disorder, ...] = ()

    def of(self, kind: str) -> Telling:
        return self.holes if kind == "hole" else self.outsides


@dataclass(frozen=True, eq=False)
class Tell(Question[Told]):
    """What the readings tell of themselves. ``when``: the moment each was kept."""

    readings: tuple[Measurement, ...]
    when: tuple[datetime, ...]
    setting: PrintSetting
    at: float

    def answer(self, ask: Answerer) -> Told:
        process = process_of(self.readings, "upright", self.setting)
        dated = list(zip(self.when, self.readings, strict=True))
        told = []
        for k, kind in enumerate(("hole", "pin")):
            ask.tick(0.1 + 0.4 * k, "looking back at the readings")
            moved = history(dated, kind, "upright", self.at, self.setting)
            told.append(Telling(moved, doubts(process, kind), next_reading(process, kind, self.at)))
        return Told(self.at, told[0], told[1], strangers(self.readings), disorders(self.readings))


@dataclass(frozen=True, eq=False)
class Fits(Question[Fitting]):
    """The correction and the odds of every mate. ``windows`` of the fit classes, by name, mm."""

    part: Part
    mates: tuple[Mate, ...]
    direction: Vec
    readings: tuple[Measurement, ...]
    setting: PrintSetting
    windows: Windows

    def answer(self, ask: Answerer) -> Fitting:
        part = ask(self.part)
        at = part, self.mates, self.direction, self.readings, self.setting, dict(self.windows)
        found, refused = correcting.corrections(*at)
        processes = {axis: process_of(self.readings, axis, self.setting) for axis in AXES}
        ask.tick(0.6, "all pegs at once")
        sizes = {c.feature: c.to_mm for c in found}
        at_once = together(part.features, self.mates, sizes, processes, self.direction)
        return Fitting(found, refused, tuple(processes.values()), at_once)


@dataclass(frozen=True, eq=False)
class Correct(Question[Edited]):
    """The mesh with the chosen corrections made."""

    fits: Fits
    recipe: Recipe
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Edited:
        f, found = self.fits, ask(self.fits, 0.0, 0.3)
        ask.tick(0.3, "moving the walls")
        sag = correcting.sag_of(f.readings, REFERENCE, f.setting)
        part = ask(f.part)
        return correcting.apply_corrections(part, f.mates, found.corrections, f.direction, self.recipe, sag)


@dataclass(frozen=True)
class Changed:
    """What a correction left alone: corners of the part as it was, how many are the same to the bit, and the same of
    its lettering; the change of volume, mm3."""

    corners: int
    same: int
    lettering: int
    lettering_same: int
    volume: float


@dataclass(frozen=True, eq=False)
class ChangeReport(Question[Changed]):
    """Count what stayed, by the corners' own bits."""

    correct: Correct

    def answer(self, ask: Answerer) -> Changed:
        part, edited = ask(self.correct.fits.part), ask(self.correct)
        same = stands_in(part.mesh.vertices, edited.mesh.vertices)
        letters = [f.faces for f in part.features if f.kind == "lettering"]
        at = np.unique(part.mesh.faces[np.concatenate(letters)]) if letters else np.zeros(0, np.int64)
        change = edited.mesh.volume - part.mesh.volume
        return Changed(len(same), int(same.sum()), len(at), int(same[at].sum()), change)


@dataclass(frozen=True)
class TrueCuts:
    """A feature across its axis: the part's outline round it as it is and as corrected (None before), mm from the
    axis, up along the second direction; and half the width of what is shown."""

    feature: str
    before: BaseGeometry
    after: BaseGeometry | None
    reach: float


@dataclass(frozen=True, eq=False)
class FitCut(Question[TrueCuts]):
    """Cut the part, and the corrected one, at the middle of a round; up is where the way goes, where that is across."""

    part: Part
    feature: str
    direction: Vec
    correct: Correct | None

    def answer(self, ask: Answerer) -> TrueCuts:
        part = ask(self.part)
        made = ask(self.correct).mesh if self.correct is not None else None
        f = part.feature(self.feature)
        if f is None or f.diameter is None:
            raise Refused("Nothing round is chosen.")
        reach = f.diameter / 2 + 3.0
        window = shapely.box(-reach, -reach, reach, reach)
        axis, up = np.asarray(f.axis), np.asarray(self.direction)
        up = up - axis * (up @ axis)
        turn = rotation_to_up(f.axis)
        if np.linalg.norm(up) > 0.1:
            up = up / np.linalg.norm(up)
            turn = np.stack([np.cross(up, axis), up, axis])

        def across(mesh: Mesh) -> BaseGeometry:
            local = Mesh((mesh.vertices - np.asarray(f.centre)) @ turn.T, mesh.faces)
            return shapely.intersection(polygon_of(cut(local, np.array([0.0])).at(0)), window)

        return TrueCuts(self.feature, across(part.mesh), across(made) if made is not None else None, reach)


@dataclass(frozen=True, eq=False)
class TakeFlareOff(Question[Relieved]):
    """The flare of the first layers taken off bottom edges and hole mouths."""

    part: Part
    direction: Vec
    by: float
    layer_height: float
    kept: ClassVar[int] = 1

    def answer(self, ask: Answerer) -> Relieved:
        ask.tick(0.2, "cutting it off")
        return take_flare_off(ask(self.part).changeable(), self.direction, self.by, LAYERS * self.layer_height)


@dataclass(frozen=True, eq=False)
class MoveWall(Question[Thickened]):
    """The wall a flat is one side of made thicker."""

    part: Part
    feature: str
    by: float
    side: str
    follow: bool
    kept: ClassVar[int] = 1

    def answer(self, ask: Answerer) -> Thickened:
        part = ask(self.part)
        ask.tick(0.2, "moving the wall")
        wall = wall_behind(part.mesh, part.features, self.feature)
        return thicken(part.changeable(), part.features, wall, self.by, self.side, self.follow)


@dataclass(frozen=True, eq=False)
class MoveThread(Question[Threaded]):
    """A thread's flanks opened or closed."""

    part: Part
    feature: str
    flank: float
    kept: ClassVar[int] = 1

    def answer(self, ask: Answerer) -> Threaded:
        part = ask(self.part)
        f = part.feature(self.feature)
        if f is None:
            raise Refused("That thread is not on this part.")
        ask.tick(0.2, "moving the flanks")
        return move_flanks(part.changeable(), f, self.flank)


@dataclass(frozen=True, eq=False)
class Scale(Question[Scaled]):
    """Scale, keeping what was asked; a part that would leave the bed is refused beforehand."""

    part: Part
    factor: float
    keep: tuple[str, ...]
    keep_gaps: bool
    walls: tuple[str, ...]
    only: int | None
    line_width: float
    direction: Vec
    printer: PrinterFacts
    kept: ClassVar[int] = 1

    def answer(self, ask: Answerer) -> Scaled:
        part = ask(self.part)
        grown = part.mesh.vertices * self.factor
        ask.tick(0.1, "scaling")
        if not fitting(Mesh(grown, part.mesh.faces), np.array([self.direction]), self.printer.bed_mm)[0]:
            x, y, z = part.mesh.size * self.factor
            raise Refused(
                f"At {self.factor * 100:.0f} % it is {x:.0f} × {y:.0f} × {z:.0f} mm; lying this way it does not fit "
                f"{self.printer.name}."
            )
        at = part.changeable(), part.features, self.factor, self.keep, self.keep_gaps, self.line_width
        return scale_keeping(*at, self.walls, self.only)


@dataclass(frozen=True)
class SetPart:
    """One part of a set, scaled; or why it was refused."""

    id: int
    name: str
    scaled: Scaled | None
    refused: str


@dataclass(frozen=True, eq=False)
class ScaleSet(Question[tuple[SetPart, ...]]):
    """Several parts scaled alike, each with its holes, pockets and gaps kept. ``parts``: id, name and mesh."""

    parts: tuple[tuple[int, str, MeshKey], ...]
    factor: float
    line_width: float
    printer: PrinterFacts
    kept: ClassVar[int] = 1

    def answer(self, ask: Answerer) -> tuple[SetPart, ...]:
        out = []
        for k, (number, name, key) in enumerate(self.parts):
            ask.tick(k / len(self.parts), name)
            try:
                part = ask(ReadMesh(key), k / len(self.parts), (k + 1) / len(self.parts)).facts
                kept = tuple(f.id for f in part.features if f.kind in ("hole", "hexagon") and f.inside is not False)
                made = scale_keeping(part.changeable(), part.features, self.factor, kept, True, self.line_width)
                x, y = sorted(made.mesh.size)[1:]
                if x > max(self.printer.bed_mm) or y > max(self.printer.bed_mm):
                    raise Refused(f"{x:.0f} × {y:.0f} mm does not fit {self.printer.name} any way it lies.")
                out.append(SetPart(number, name, made, ""))
            except Refused as refusal:
                out.append(SetPart(number, name, None, str(refusal)))
        return tuple(out)
