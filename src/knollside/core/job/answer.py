"""From frozen records to answers: the steps of a job, each a function.

The window and the command line both call these; neither computes for itself.
Data goes one way: part, strength, ways, board, corrections, export.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from knollside.core.lay.orientations import (
    NET_DIRECTIONS,
    Ground,
    Ranking,
    RatedOrientation,
    rank,
    rate_orientation,
    survey,
)
from knollside.core.lay.stability import overhang_limit
from knollside.core.material.allowables import limits_of, target_reserve, withheld
from knollside.core.material.cards import Material
from knollside.core.mesh.check import Soundness, check, in_millimetres
from knollside.core.mesh.features import read_features
from knollside.core.mesh.identity import Named
from knollside.core.mesh.slicer import cut, section_of
from knollside.core.model import (
    Array,
    DesignCase,
    Feature,
    Mesh,
    PrinterFacts,
    Range,
    Recipe,
    Refused,
    rotation_to_up,
)
from knollside.core.recipe.board import Pricer
from knollside.core.recipe.choose import MaterialChoice, Reach, rank_materials
from knollside.core.recipe.price import PrinterMotion
from knollside.core.strength.field import CaseAnswer, Medium, StressField, Tick, solve
from knollside.core.strength.graded import Sizing
from knollside.core.strength.mesh_size import MeshSize, choose_mesh_size
from knollside.core.strength.movement import moved_at
from knollside.core.strength.multigrid import NotSettled
from knollside.core.strength.rating import point_reserves
from knollside.core.strength.resultants import balance_by_stress, nominal_reserve, resultants
from knollside.core.strength.set_out import CellSize
from knollside.core.strength.strength import Strength

CELLS = 50_000
_FREE = 0.3  # of a part's surface from which it is said to be free
_AGAIN = 0.96  # of the cell size, where a solve did not settle: its lattice lies elsewhere in the part


@dataclass(frozen=True)
class PartFacts:
    """The mesh in mm with what is known of it without a duty; ``lost`` are names that this mesh has no feature for."""

    mesh: Mesh
    soundness: Soundness
    features: tuple[Feature, ...]
    lost: tuple[Named, ...] = ()

    def feature(self, name: str) -> Feature | None:
        """The feature of that name, or None."""
        return next((f for f in self.features if f.id == name), None)

    def changeable(self) -> Mesh:
        """The mesh, to be changed. Raises :class:`Refused` where it is not sound: what is cut into a faulty mesh comes
        out anyhow."""
        faults = self.soundness.problems
        if faults:
            raise Refused(f"The mesh is not sound, so nothing on it is changed. {faults[0].message} Mend it first.")
        return self.mesh


def read_part(mesh: Mesh, unit: str = "mm", tick: Tick | None = None) -> PartFacts:
    """Scale to mm, check, and find features."""
    say = tick or (lambda share, text: None)
    scaled = in_millimetres(mesh, unit)
    say(0.1, "checking the mesh")
    state = check(scaled)
    say(0.5, "finding holes and flats")
    found, scatter = read_features(scaled)
    return PartFacts(scaled, replace(state, notes=(*state.notes, *surface_notes(scaled, found, scatter))), found)


def surface_notes(mesh: Mesh, found: tuple[Feature, ...], scatter: float) -> tuple[str, ...]:
    """In words, that a mesh is scanned, or that much of it is neither flat nor round."""
    if scatter > 0:
        return (f"Scanned: its surface scatters by {scatter:.2g} mm; sizes are those of the scan.",)
    areas, named = mesh.areas, np.zeros(len(mesh.faces), bool)
    for f in found:
        named[f.faces] = True
    free = float(areas[~named].sum() / max(areas.sum(), 1e-12))
    return (f"{100 * free:.0f} % of its surface is free: neither flat nor round.",) if free > _FREE else ()


@dataclass(frozen=True)
class Solved:
    """A stress field with how its cells were chosen."""

    field: StressField
    mesh_size: MeshSize | None


def solve_part(
    part: PartFacts,
    design_case: DesignCase,
    medium: Medium,
    cells: int = CELLS,
    *,
    exactly: bool = False,
    cell_mm: float | None = None,
    sizing: Sizing | None = None,
    probes: Array | None = None,
    before: tuple[CaseAnswer, ...] | None = None,
    tick: Tick | None = None,
) -> Solved:
    """Solve a design case's loads once; ``probes`` (p, 3) are read besides. About ``cells`` cells, more where the part
    asks for it, unless ``exactly`` or ``cell_mm`` is said; finer ones where a ``sizing`` says. ``before`` as in
    :func:`~knollside.core.strength.field.solve`."""
    fine = None if exactly or not part.soundness.sound else choose_mesh_size(part.mesh, cells, medium.skin)
    size = cell_mm or (fine.size if fine is not None else None)
    grid = cells if size is None else CellSize(size)
    try:
        found = solve(part.mesh, part.features, design_case, medium, grid, tick, probes, sizing, before)
    except NotSettled:
        if size is None:
            raise
        found = solve(
            part.mesh, part.features, design_case, medium, CellSize(_AGAIN * size), tick, probes, sizing, before
        )
    # Between bodies a lost gap is refused by count; within one it can only be spoken of.
    unseen = fine.warning(found.cell) if fine is not None and part.soundness.bodies == 1 else None
    if unseen is not None:
        found = replace(found, notes=(*found.notes, unseen))
    return Solved(found, fine)


def strength_of(field: StressField, design_case: DesignCase, recipe: Recipe, card: Material) -> Strength:
    """A field that is known already, held against this duty's limits."""
    return Strength(
        field, limits_of(design_case, card), card, recipe, target_reserve(design_case), withheld(design_case)
    )


def ground(
    part: PartFacts, recipe: Recipe, bed: tuple[float, float, float], directions: int = NET_DIRECTIONS
) -> Ground:
    """What the shape alone says of the ways to lie."""
    return survey(part.mesh, part.features, recipe, bed, directions)


def orientations(
    part: PartFacts,
    design_case: DesignCase,
    s: Strength,
    bed: tuple[float, float, float],
    directions: int = NET_DIRECTIONS,
    known: Ground | None = None,
) -> Ranking:
    """The rated net and the short list; a ``known`` ground saves surveying the shape again."""
    under = known or ground(part, s.recipe, bed, directions)
    return rank(part.mesh, part.features, s, design_case.purpose, bed, under)


def one_way(
    part: PartFacts,
    s: Strength,
    bed: tuple[float, float, float],
    direction: tuple[float, float, float],
    letter: str = "",
) -> RatedOrientation:
    """One ``direction`` rated by itself, its footing cut for real."""
    return rate_orientation(letter, part.mesh, part.features, s, bed, np.asarray(direction))


@dataclass(frozen=True)
class LayerLog:
    """Quantities against height for one way: every array (k,). ``peak`` is the least solved reserve
    near the height, ``nominal`` the plain-section one, ``overhang`` mm2 per mm of height; ``paint`` the reserve at
    each mesh corner, ``balance`` how far the stresses are from carrying the loads (a share)."""

    heights: Array
    nominal: Array
    peak: Array
    area: Array
    overhang: Array
    paint: Array
    balance: float
    layers: int
    layer_height: float


def layer_log(part: PartFacts, s: Strength, direction: tuple[float, float, float], count: int = 80) -> LayerLog:
    """The layer log of a way, with the painted reserve for the stage."""
    n = np.asarray(direction, float)
    res = resultants(part.mesh, s.field, n, count)
    nominal = nominal_reserve(res, s.limits)
    interlayer_reserve, every = point_reserves(s.field, s.limits, n)
    z = s.field.points @ n - float((part.mesh.vertices @ n).min())
    step = res.heights[1] - res.heights[0]
    bins = np.clip((z / step).astype(int), 0, count - 1)
    peak = np.full(count, np.inf)
    clear = ~s.field.excluded
    np.minimum.at(peak, bins[clear], interlayer_reserve[clear])
    # Judged points come in rows a cell apart: each row speaks for the heights half a cell up and down.
    reach = max(int(np.ceil(0.5 * s.field.cell / step)), 1)
    peak = np.min([np.roll(np.pad(peak, reach, constant_values=np.inf), k) for k in range(-reach, reach + 1)], axis=0)
    peak = peak[reach : reach + count]
    over = _overhang_profile(part.mesh, n, s.recipe, count)
    paint = _at_corners(part.mesh, s.field, every)
    area = np.array([x.area for x in res.sections])
    height = float(np.ptp(part.mesh.vertices @ n))
    return LayerLog(
        res.heights,
        nominal,
        peak,
        area,
        over,
        paint,
        balance_by_stress(res, part.mesh, s.field, n),
        max(1, round(height / s.recipe.layer_height)),
        s.recipe.layer_height,
    )


def plain_log(mesh: Mesh, direction: tuple[float, float, float], recipe: Recipe, count: int = 80) -> LayerLog:
    """The log without a stress field: area and overhang only."""
    n = np.asarray(direction, float)
    turned = mesh.turned(rotation_to_up(n))
    low, high = turned.bounds[:, 2]
    levels = low + (np.arange(count) + 0.5) * (high - low) / count
    cuts = cut(turned, levels)
    area = np.array([section_of(cuts.at(k)).area for k in range(count)])
    nothing = np.full(count, np.nan)
    return LayerLog(
        levels - low,
        nothing,
        nothing,
        area,
        _overhang_profile(mesh, n, recipe, count),
        np.zeros(0),
        0.0,
        max(1, round((high - low) / recipe.layer_height)),
        recipe.layer_height,
    )


def _overhang_profile(mesh: Mesh, n: Array, recipe: Recipe, count: int) -> Array:
    """Area leaning beyond the limit in each slice of height, mm2 (k,)."""
    z = mesh.vertices @ n
    low, high = float(z.min()), float(z.max())
    lean = -(mesh.normals @ n)
    faces = z[mesh.faces]
    steep = (lean > np.sin(overhang_limit(recipe))) & (faces.max(axis=1) > low + recipe.layer_height)
    middle = faces.mean(axis=1)[steep]
    bins = np.clip(((middle - low) / max(high - low, 1e-9) * count).astype(int), 0, count - 1)
    return np.bincount(bins, mesh.areas[steep], minlength=count).astype(float)


def bend_of(part: PartFacts, field: StressField, case: str) -> Array:
    """Displacement (v, 3) mm at every mesh corner in a load case, short-term and at room heat."""
    answer = next(c for c in field.cases if c.name == case)
    return moved_at(field.grid_points, answer.displacement, part.mesh.vertices)


def _at_corners(mesh: Mesh, field: StressField, reserve: Array) -> Array:
    """Reserve at mesh corners from the nearest judged surface points."""
    from scipy.spatial import cKDTree

    surface = np.flatnonzero(np.linalg.norm(field.normals, axis=1) > 0)
    distance, near = cKDTree(field.points[surface]).query(mesh.vertices, k=min(3, len(surface)))
    weight = 1 / np.maximum(distance, 0.1)
    log = np.log(np.clip(reserve[surface][near], 0.01, 1e4))
    return np.asarray(np.exp((log * weight).sum(axis=1) / weight.sum(axis=1)))


def pricer(
    part: PartFacts,
    s: Strength,
    direction: tuple[float, float, float],
    printer_motion: PrinterMotion,
    factor: Range,
    nozzle: float = 0.4,
) -> Pricer:
    """One way to lie, ready to price any recipe."""
    return Pricer(part.mesh, s, direction, printer_motion, factor, nozzle)


def materials(
    s: Strength,
    design_case: DesignCase,
    direction: tuple[float, float, float],
    printer: PrinterFacts,
    cards: Iterable[Material],
    as_printed: float = 1.0,
    doubt: float = 0.0,
) -> tuple[MaterialChoice, ...]:
    """Every card held against the duty; ``as_printed`` and ``doubt`` as in rank_materials."""
    reach = Reach(int(printer.nozzle_max_c), int(printer.bed_max_c), printer.enclosed, printer.hard_nozzle)
    return rank_materials(s.field, design_case, direction, reach, cards, as_printed, doubt)


def laid(mesh: Mesh, direction: tuple[float, float, float]) -> Mesh:
    """The mesh turned to its way and set on the bed: lowest point at 0, middle at the origin."""
    turned = mesh.turned(rotation_to_up(direction))
    low, high = turned.bounds
    return Mesh(turned.vertices - np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, low[2]]), turned.faces)
