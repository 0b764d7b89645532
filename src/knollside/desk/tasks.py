"""What the worker can be asked to do: core functions, bundled the way the window needs them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from knollside.core.build.board import Board
from knollside.core.build.price import Pace, SmallLayers, layer_seconds, small_layers
from knollside.core.build.stack import use_of_layers
from knollside.core.fit.correction import Correction
from knollside.core.fit.process import AXES, REFERENCE, Process, Setting, Shift, process_of
from knollside.core.fit.windows import Windows
from knollside.core.job import answer, correcting
from knollside.core.job.answer import LayerLog, PartFacts, Strength, Tick, Verified
from knollside.core.job.compare import Column, column, unbeaten
from knollside.core.job.cure import Cure, cures
from knollside.core.job.file import PrinterFacts
from knollside.core.job.slicedcheck import SlicedCheck, check_sliced
from knollside.core.job.split import CutPlan, cut_plans
from knollside.core.lay.bed import BedAdvice, FirstLayer, bed_advice, first_layer
from knollside.core.lay.notes import LayerNote, free_area, layer_notes
from knollside.core.lay.seams import SeamAdvice, seam_advice
from knollside.core.lay.stand import footing
from knollside.core.lay.supports import Region, regions
from knollside.core.lay.ways import Ground, Ranking, RatedWay
from knollside.core.lay.ways import plain_ways as list_plain
from knollside.core.material.allowables import Allowables, limits_of
from knollside.core.material.cards import Material
from knollside.core.mesh.appearance import Appearance, appearance_of
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.load import Loaded, load_file
from knollside.core.mesh.repair import Repair, repair
from knollside.core.model import Array, Duty, Holding, Mate, Measurement, Mesh, Purpose, Range, Recipe, Way
from knollside.core.strength.field import solve
from knollside.core.strength.places import Portion, WeakPlace, portions, weak_places
from knollside.core.strength.skin import skin_of
from knollside.core.strength.superpose import Units, same_places, superpose, unit_duty
from knollside.core.strength.trust import Trust, widened
from knollside.desk.buildtasks import layers_of

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Opened:
    facts: PartFacts
    look: Appearance


@dataclass(frozen=True)
class Laying:
    strength: Strength
    ranking: Ranking


@dataclass(frozen=True)
class WayDetail:
    """A way with its log, the places that would go first, its thin portions, its cures, and how it bends."""

    log: LayerLog
    way: RatedWay
    places: tuple[WeakPlace, ...]
    portions: tuple[Portion, ...]
    cures: tuple[Cure, ...]
    bend: Array
    movement: float
    bending_case: str


@dataclass(frozen=True)
class Supported:
    """The places of a way that rest on nothing, what keeps it on the bed, where its seam may run, layers too
    small to cool; ``notes`` by height, ``free`` mm2 that rest on nothing at each of ``heights``, ``seconds`` a layer
    there."""

    regions: tuple[Region, ...]
    bed: BedAdvice
    layers: int
    seam: SeamAdvice | None
    small: tuple[SmallLayers, ...]
    first: FirstLayer
    notes: tuple[LayerNote, ...]
    heights: Array
    free: Array
    seconds: Array


@dataclass(frozen=True)
class Fitting:
    corrections: tuple[Correction, ...]
    refused: tuple[str, ...]
    processes: tuple[Process, ...]

    def process(self, axis: str) -> Process:
        return self.processes[AXES.index(axis)]

    def shift(self, kind: str, axis: str, drawn: float = REFERENCE) -> Shift:
        return self.process(axis).shift(kind, drawn)


def load(path: str, tick: Tick) -> Loaded:
    tick(0.1, "reading the file")
    return load_file(path)


def open_part(mesh: Mesh, tick: Tick) -> Opened:
    facts = answer.read_part(mesh, tick=tick)
    tick(0.8, "drawing it")
    return Opened(facts, appearance_of(facts.mesh))


def mend(mesh: Mesh, tick: Tick) -> Repair:
    tick(0.2, "mending")
    return repair(mesh)


def stair(card: Material, duty: Duty, tick: Tick) -> tuple[Allowables, ...]:
    return limits_of(duty, card)


# Kept in the worker: unit answers of the part on the stage, so that a changed force needs no new solve.
_units: dict[object, Units] = {}
# And what its shape says of the ways, so that a new duty asks only for the strength of each.
_ground: dict[object, Ground] = {}


def _known_ground(part: PartFacts, recipe: Recipe, bed: Vec) -> Ground:
    key = (part.mesh.vertices.tobytes(), part.mesh.faces.tobytes(), recipe.layer_height, recipe.line_width, bed)
    if key not in _ground:
        _ground.clear()
        _ground[key] = answer.ground(part, recipe, bed)
    return _ground[key]


def lay(
    part: PartFacts, duty: Duty, recipe: Recipe, card: Material, bed: Vec, cells: int, shape: object, tick: Tick
) -> Laying:
    """Solve and rank; with unit answers at hand for the same ``shape`` (all but the forces), add those up instead."""
    kept = _units.get(shape)
    if kept is not None and same_places(kept.duty, duty):
        tick(0.3, "adding up known answers")
        s = answer.strength_of(superpose(kept, duty), duty, recipe, card)
    else:
        s = answer.strength(part, duty, recipe, card, cells, tick=tick)
    tick(0.96, "rating the ways")
    return Laying(s, answer.ways(part, duty, s, bed, known=_known_ground(part, recipe, bed)))


def units(part: PartFacts, duty: Duty, laying: Laying, shape: object, tick: Tick) -> bool:
    """Solve each force alone, one newton along each axis, for :func:`lay` to add up; whether that can be."""
    wanted = unit_duty(duty)
    if wanted is None:
        return False
    f, s = laying.strength.field, laying.strength
    skin = skin_of(s.recipe)
    found = solve(part.mesh, part.features, wanted, f.modulus, skin=skin, tick=tick, cell_size=f.asked)
    if found.cells != f.cells or len(found.points) != len(f.points):
        return False
    _units.clear()
    _units[shape] = Units(duty, f, found)
    return True


def detail(
    part: PartFacts,
    duty: Duty,
    laying: Laying,
    printer: PrinterFacts,
    cards: tuple[Material, ...],
    direction: Vec,
    letter: str,
    board: Board | None,
    tick: Tick,
) -> WayDetail:
    s = laying.strength
    tick(0.1, "cutting layers")
    log = answer.layer_log(part, s, direction)
    way = answer.one_way(part, s, printer.bed_mm, direction, letter)
    n = np.asarray(direction)
    tick(0.5, "finding what goes first")
    places = weak_places(s.field, s.limits, n)
    thin = portions(part.mesh, s.field, s.limits, n, laying.ranking.net.directions[::4])
    tick(0.8, "looking for cures")
    choices = answer.materials(s, duty, direction, printer, cards)
    found = cures(part, duty, s, laying.ranking, way, log, board, choices)
    return WayDetail(log, way, places, thin, found, *answer.bend_of(part, s))


def supports(
    part: PartFacts,
    marks: dict[str, str],
    direction: Vec,
    recipe: Recipe,
    holding: Holding,
    card: Material,
    printer: PrinterFacts,
    weak: tuple[Vec, ...],
    tick: Tick,
) -> Supported:
    """Every layer of one way cut, and what each place that rests on nothing would take."""
    strata = layers_of(part, direction, recipe, tick)
    tick(0.8, "standing supports under it")
    found = regions(part.mesh, part.features, marks, strata, recipe, holding, card)
    foot = footing(part.mesh, direction, recipe, printer.bed_mm)
    seam = seam_advice(part.mesh, part.features, marks, weak, strata)
    use, each = use_of_layers(strata.outline, strata.h, recipe)
    small = small_layers(use, each, recipe, card, Pace())
    seconds = layer_seconds(use, recipe, card, Pace())
    heights = (np.arange(len(seconds)) + 0.5) * each
    notes = layer_notes(strata, found, part.features, tuple((s.low, s.high, s.seconds) for s in small), recipe)
    return Supported(
        found,
        bed_advice(foot, card, printer.enclosed),
        len(strata.outline),
        seam,
        small,
        first_layer(strata.outline[0], recipe, printer.nozzle_mm),
        notes,
        heights,
        free_area(strata, heights),
        seconds,
    )


def compare(
    part: PartFacts,
    marks: dict[str, str],
    mates: tuple[str, ...],
    ways: tuple[RatedWay, ...],
    recipe: Recipe,
    holding: Holding,
    card: Material,
    printer: PrinterFacts,
    factor: Range,
    tick: Tick,
) -> tuple[Column, ...]:
    """A few ways side by side."""
    out = []
    for i, w in enumerate(ways):
        tick(i / len(ways), f"weighing way {w.letter}")
        at = part.mesh, part.features, marks, mates, w, recipe, holding, card, Pace(), factor, printer.enclosed
        out.append(column(*at))
    return unbeaten(out)


def split(part: PartFacts, s: Strength, whole: RatedWay, bed: Vec, tick: Tick) -> tuple[CutPlan, ...]:
    """Where to cut it in two, and what the joint would carry."""
    return cut_plans(part, s, whole, bed, tick=tick)


def plain_ways(
    part: PartFacts, recipe: Recipe, purpose: Purpose, weights: dict[str, float], bed: Vec, tick: Tick
) -> tuple[RatedWay, ...]:
    """Ways for a part without a load."""
    tick(0.2, "trying ways to lie")
    return list_plain(part.mesh, part.features, purpose, weights, _known_ground(part, recipe, bed))


def why(part: PartFacts, s: Strength, bed: Vec, direction: Vec, tick: Tick) -> RatedWay:
    """One direction by itself: what would go first, where, and what is given up."""
    tick(0.3, "rating it")
    return answer.one_way(part, s, bed, direction, "?")


def trust(part: PartFacts, duty: Duty, laying: Laying, bed: Vec, tick: Tick) -> tuple[Trust, Laying]:
    """What backs the short list, and the list with the grid's own doubt taken into its ranges; the list is
    made anew when the grid had to be refined."""
    found = answer.trust(part, duty, laying.strength, laying.ranking, tick=tick)
    # The other grid's change and a thin wall's stiffness are two doubts; the larger speaks.
    doubts = [max(c, w.too_stiff) for c, w in zip(found.changes, found.walls, strict=True)]
    before = {w.direction: c for w, c in zip(laying.ranking.ways, doubts, strict=True)}
    if found.finer is not None:
        s = replace(laying.strength, field=found.finer)
        laying = Laying(s, answer.ways(part, duty, s, bed, known=_known_ground(part, s.recipe, bed)))

    def wider(ways: tuple[RatedWay, ...]) -> tuple[RatedWay, ...]:
        return tuple(replace(w, reserve=widened(w.reserve, before.get(w.direction, found.change))) for w in ways)

    ranking = replace(laying.ranking, ways=wider(laying.ranking.ways), every=wider(laying.ranking.every))
    return replace(found, finer=None), Laying(laying.strength, ranking)


def plain_log(part: PartFacts, direction: Vec, recipe: Recipe, tick: Tick) -> LayerLog:
    tick(0.2, "cutting layers")
    return answer.plain_log(part.mesh, direction, recipe)


def prove(
    part: PartFacts, duty: Duty, recipe: Recipe, card: Material, way: Way, quick: Range, cells: int, tick: Tick
) -> Verified:
    return answer.verify(part, duty, recipe, card, way, quick, cells, tick)


def fits(
    part: PartFacts,
    mates: tuple[Mate, ...],
    direction: Vec,
    readings: tuple[Measurement, ...],
    setting: Setting,
    windows: Windows,
    tick: Tick,
) -> Fitting:
    found, refused = correcting.corrections(part, mates, direction, readings, setting, windows)
    return Fitting(found, refused, tuple(process_of(readings, axis, setting) for axis in AXES))


def correct(
    part: PartFacts,
    mates: tuple[Mate, ...],
    found: tuple[Correction, ...],
    direction: Vec,
    recipe: Recipe,
    sag: float,
    tick: Tick,
) -> Edited:
    tick(0.3, "moving the walls")
    return correcting.apply_corrections(part, mates, found, direction, recipe, sag)


def warm(tick: Tick) -> None:
    """Load what later work needs, so that the first answer does not wait for it."""
    import importlib

    for name in ("scipy.spatial", "shapely", "manifold3d", "trimesh", "reportlab.platypus"):
        importlib.import_module(name)


def check_file(
    path: str,
    part: PartFacts,
    duty: Duty,
    recipe: Recipe,
    card: Material,
    way: Way,
    weak: tuple[Vec, ...],
    cells: int,
    tick: Tick,
) -> SlicedCheck:
    """Read a sliced file and hold it against the plan."""
    return check_sliced(Path(path), part, duty, recipe, card, way, weak, cells, tick)


def export(folder: str, stem: str, arguments: tuple[Any, ...], edited: Edited, direction: Vec, tick: Tick) -> list[str]:
    from knollside.report.export import make_sheet, write_all

    tick(0.2, "writing the sheet")
    sheet = make_sheet(*arguments)
    tick(0.6, "writing the mesh")
    return [str(p) for p in write_all(Path(folder), stem, edited, direction, sheet)]
