"""One stress solve for a duty: every load case from one set-up, ready for every way to lie."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.mesh.check import check
from knollside.core.mesh.features import feature_at
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import (
    Array,
    DesignCase,
    Feature,
    FixedFixture,
    Fixture,
    Ints,
    Load,
    Mesh,
    PinFixture,
    Placed,
    Refused,
    ScrewFixture,
)
from knollside.core.strength import conditions, recover
from knollside.core.strength.element import Brick, isotropic, layered
from knollside.core.strength.grid import Grid, choose_size, make_grid, pieces
from knollside.core.strength.mesh_size import refuse_if_short
from knollside.core.strength.setups import Pushed, SetUps
from knollside.core.strength.setups import pushed as pushed_by
from knollside.core.strength.skin import Skin, cell_scale

POISSON = 0.35  # typical of printed plastics
EDGE = 2.0  # mm from an idealised hold or load edge within which a stress is told apart

Tick = Callable[[float, str], None]


@dataclass(frozen=True)
class External:
    """All outside forces of one case as points: loads and reactions together, so they sum to nothing."""

    points: Array
    forces: Array
    at_fixture: np.ndarray  # bool per point


@dataclass(frozen=True)
class CaseAnswer:
    """One load case: displacement at cell corners and forces from outside."""

    name: str
    displacement: Array
    external: External
    reactions: tuple[tuple[str, tuple[float, float, float]], ...]

    @property
    def pushing(self) -> float:
        """The loads' sum, N; for a driven face what it takes to move it."""
        mine = self.external.forces[~self.external.at_fixture]
        if len(mine):
            return float(np.linalg.norm(mine.sum(axis=0)))
        return max((float(np.linalg.norm(f)) for _, f in self.reactions), default=0.0)

    @property
    def turning(self) -> float:
        """The loads' moment about the middle of what holds, N mm."""
        e = self.external
        if e.at_fixture.all() or not e.at_fixture.any():
            return 0.0
        arm = e.points[~e.at_fixture] - e.points[e.at_fixture].mean(axis=0)
        return float(np.linalg.norm(np.cross(arm, e.forces[~e.at_fixture]).sum(axis=0)))


@dataclass(frozen=True)
class StressField:
    """Solid stress (k, n, 6) MPa of k cases at n judged points, in the part's frame.

    ``excluded`` marks points at an idealised hold or load edge; ``cell`` is the
    largest cell side, mm; ``balance_error`` the force and moment left over, as a
    share of the loads; ``modulus`` what the displacements were computed with.
    """

    points: Array
    normals: Array
    stress: Array
    excluded: np.ndarray
    cases: tuple[CaseAnswer, ...]
    grid_points: Array
    cell: float
    cells: int
    modulus: float
    balance_error: float
    iterations: int
    seconds: float
    notes: tuple[str, ...]
    bodies: tuple[int, ...]
    asked: float  # the cell size the grid was laid for, mm
    probes: Array
    probed: Array  # (k, p, 9): displacement mm, then stress MPa

    @property
    def greatest_movement(self) -> float:
        """Of any case and corner of the grid, mm."""
        return max(float(np.linalg.norm(c.displacement, axis=1).max()) for c in self.cases)


def place_feature(mesh: Mesh, features: tuple[Feature, ...], place: Placed) -> Feature:
    """The feature a held place or load names, by id or by nearest point."""
    if place.feature is not None:
        for f in features:
            if f.id == place.feature:
                return f
        if place.feature.startswith("patch-") and place.feature[6:].isdigit():
            from knollside.core.mesh.features import feature_of_face

            face = int(place.feature[6:])
            if face < len(mesh.faces):
                return feature_of_face(mesh, features, face)
        raise Refused(f"There is no feature '{place.feature}' on this part.")
    assert place.at is not None
    return feature_at(mesh, features, place.at)


@dataclass(frozen=True)
class Medium:
    """What the part is made of, as a solve sees it: ``modulus`` MPa in the layer; ``skin`` blends walls and infill
    into the cells; ``layers`` = (Ez/E, build direction) for the layered re-solve."""

    modulus: float
    poisson: float = POISSON
    skin: Skin | None = None
    layers: tuple[float, Array] | None = None


@dataclass(frozen=True)
class CellSize:
    """Cells of about so many mm, in place of about so many cells."""

    mm: float


def solve(
    mesh: Mesh,
    features: tuple[Feature, ...],
    design_case: DesignCase,
    medium: Medium,
    cells: int | CellSize = 50_000,
    tick: Tick | None = None,
    probes: Array | None = None,
) -> StressField:
    """Solve linear elasticity (docs/methods.md 1.1) for every load case; ``probes`` (p, 3) are places to read besides.

    Raises :class:`Refused` with the reason: not closed, not held, loose, unloaded, too thin.
    """
    began = time.perf_counter()
    say: Tick = tick or (lambda share, text: None)
    say(0.02, "looking at the part")
    refuse_unready(mesh, design_case)
    say(0.06, "laying the grid")
    set_out = _set_out(mesh, features, design_case, cells)
    work, grid, constraints = set_out.work, set_out.grid, [c for c, _ in set_out.held]
    modulus, skin, layers = medium.modulus, medium.skin, medium.layers
    c = isotropic(modulus, medium.poisson) if layers is None else layered(modulus, medium.poisson, *layers)
    element = Brick(grid.size, c)
    scale = np.ones(len(grid.cells)) if skin is None else cell_scale(work, grid, skin)
    say(0.10, "setting up the solve")
    setups = SetUps(grid, element, scale, modulus)
    solid = grid.filled * scale
    points, normals = recover.judge_points(work, grid, design_case.critical_mm, scale)
    excluded = _excluded(set_out, points)
    moved, actives, rounds = setups.answers(
        set_out.cases, constraints, lambda x: say(0.12 + 0.76 * x, "solving the stress")
    )
    answers, balance = _answers(set_out, moved, actives, modulus)
    say(0.90, "reading the stress")
    samples = recover.sample_stress(grid, element, np.array(moved))
    stress = recover.judged_stress(grid, samples, points, normals, solid)
    spots = probe_spots(work, probes) if probes is not None else np.zeros((0, 3))
    probed = _probed(grid, moved, samples, spots, solid)
    say(0.95, "stress done")
    return StressField(
        points,
        normals,
        stress,
        excluded,
        answers,
        grid.points,
        float(grid.size.max()),
        len(grid.cells),
        modulus,
        balance,
        rounds,
        time.perf_counter() - began,
        set_out.notes,
        tuple(sorted({f.body for _, f in set_out.held})),
        set_out.asked,
        spots,
        probed,
    )


@dataclass(frozen=True)
class _SetOut:
    """The design case on its grid: the bodies it is solved for, what holds them, and every case with its forces;
    ``asked`` the cell size the grid was laid for, mm."""

    work: Mesh
    grid: Grid
    held: list[tuple[conditions.Constraint, Feature]]
    cases: list[Pushed]
    notes: tuple[str, ...]
    asked: float


def _set_out(mesh: Mesh, features: tuple[Feature, ...], design_case: DesignCase, cells: int | CellSize) -> _SetOut:
    fixtures = [(h, place_feature(mesh, features, h)) for h in design_case.fixtures]
    pushed = [[(ld, place_feature(mesh, features, ld)) for ld in case.loads] for case in design_case.cases]
    for row in pushed:
        _refuse_into_the_hold(row, fixtures)
    work, keep, notes = _held_bodies(mesh, [f for _, f in fixtures], [f for row in pushed for _, f in row])
    renumber = np.full(len(mesh.faces), -1, np.int64)
    renumber[keep] = np.arange(len(keep))
    asked = cells.mm if isinstance(cells, CellSize) else choose_size(work, cells)
    grid = make_grid(work, asked)
    refuse_if_short(len(grid.cells))
    _refuse_pieces(work, grid)
    held = [(conditions.constrain(grid, work, renumber[f.faces], h, f), f) for h, f in fixtures]
    conditions.refuse_if_loose([c for c, _ in held], float(work.size.max()))
    cases = [
        pushed_by(grid, work, case.name, [(ld, f, renumber[f.faces]) for ld, f in row])
        for case, row in zip(design_case.cases, pushed, strict=True)
        if row
    ]
    return _SetOut(work, grid, held, cases, tuple(notes), asked)


def _refuse_into_the_hold(loads: list[tuple[Load, Feature]], fixtures: list[tuple[Fixture, Feature]]) -> None:
    """A load on a face that is held all over goes straight into the hold: the part would seem not to feel it."""
    for _, pushed_on in loads:
        for fixture, held_by in fixtures:
            if (
                isinstance(fixture, FixedFixture | ScrewFixture | PinFixture)
                and np.isin(pushed_on.faces, held_by.faces).all()
            ):
                raise Refused(
                    f"A load acts on {pushed_on.title.lower()}, which is held: it would go straight into the hold and "
                    "the part not feel it. Push another face, or hold another one."
                )


def _excluded(s: _SetOut, points: Array) -> np.ndarray:
    """Which judged points lie at an idealised hold's or load's edge; refuses where all do."""
    edges = [c.spots.points for c, _ in s.held] + [p for a in s.cases for p in a.edges]
    # In mm where cells are small: a singular edge must not creep into the verdict as the grid gets finer.
    margin = max(1.6 * float(s.grid.size.max()), min(EDGE, 0.03 * float(s.work.size.max())))
    excluded = _near(points, np.vstack(edges), margin)
    if excluded.all():
        raise Refused("Every place on the part is next to a held or pushed face; there is nothing left to judge.")
    return excluded


def _answers(
    s: _SetOut, moved: list[Array], actives: list[list[conditions.Constraint]], modulus: float
) -> tuple[tuple[CaseAnswer, ...], float]:
    """Every case's displacement with the forces from outside, and the worst balance of them."""
    answers: list[CaseAnswer] = []
    worst = 0.0
    for ask, u, active in zip(s.cases, moved, actives, strict=True):
        held = [*zip(active, (f for _, f in s.held)), *ask.driven]
        external, reactions, error = _balance(s.grid, held, u, modulus, ask.where, ask.forces)
        worst = max(worst, error)
        answers.append(CaseAnswer(ask.name, u.reshape(-1, 3), external, reactions))
    return tuple(answers), worst


def _probed(grid: Grid, moved: list[Array], samples: recover.Samples, spots: Array, solid: Array) -> Array:
    """Displacement and stress at places read besides, (k, p, 9)."""
    if not len(spots):
        return np.zeros((0, 0, 9))
    cell, weight = conditions.locate(grid, conditions.Spots(spots, np.zeros_like(spots), np.ones(len(spots))))
    shift = np.array([np.einsum("pa,pad->pd", weight, u.reshape(-1, 3)[grid.nodes[cell]]) for u in moved])
    return np.concatenate([shift, recover.stress_at(grid, samples, spots, solid)], axis=2)


def refuse_unready(mesh: Mesh, design_case: DesignCase) -> None:
    faults = [
        p for p in check(mesh, crossing=False).problems if p.kind in ("open", "non-manifold", "winding", "inside-out")
    ]
    if faults:
        raise Refused(f"The stress cannot be computed on this mesh: {faults[0].message} Mend it in Part first.")
    if not design_case.fixtures:
        raise Refused("Nothing holds the part. Mark the faces or holes that keep it in place.")
    if not design_case.cases or not any(case.loads for case in design_case.cases):
        raise Refused("Nothing pushes the part. Add a load.")
    for case in design_case.cases:
        for load in case.loads:
            if load.nothing:
                raise Refused(f"The load in '{case.name}' is zero or has no direction.")


def _refuse_pieces(work: Mesh, grid: Grid) -> None:
    count, _ = pieces(grid)
    bodies = state_bodies(work, len(np.unique(bodies_of(work)[1])))
    if count > bodies:
        raise Refused(
            f"On cells of {grid.size.max():.2f} mm the part falls into {count} pieces: a wall is thinner "
            "than a cell. Ask for more cells, or thicken it."
        )
    if count < bodies:
        raise Refused(
            f"On cells of {grid.size.max():.2f} mm the gap between held bodies is lost. Hold one body at a time, "
            "or ask for more cells."
        )
    if len(grid.cells) < 40:
        raise Refused("The part is too small for a stress grid.")


def probe_spots(mesh: Mesh, probes: Array) -> Array:
    """Places to read: a point inside the part stays, one outside moves to the nearest surface. (p, 3)."""
    from knollside.core.mesh.inside import points_inside
    from knollside.core.mesh.nearest import nearest_point

    out = np.asarray(probes, float).reshape(-1, 3).copy()
    for i in np.flatnonzero(~points_inside(mesh, out)):
        out[i] = nearest_point(mesh, out[i])
    return out


def state_bodies(work: Mesh, shells: int) -> int:
    """Bodies a grid should show: shells less cavities."""
    return check(work, crossing=False).bodies if shells > 1 else 1


def _held_bodies(mesh: Mesh, fixtures: list[Feature], pushed: list[Feature]) -> tuple[Mesh, Ints, list[str]]:
    count, label = bodies_of(mesh)
    if count == 1:
        return mesh, np.arange(len(mesh.faces)), []
    sound = check(mesh, crossing=False)
    if sound.bodies == 1:  # one body with cavities
        return mesh, np.arange(len(mesh.faces)), []
    held_bodies = {int(label[f.faces[0]]) for f in fixtures}
    for f in pushed:
        if int(label[f.faces[0]]) not in held_bodies:
            raise Refused(
                f"{f.title} is pushed, but its body ({int(label[f.faces[0]]) + 1} of {count}) is held "
                "nowhere. Bodies that only touch do not hold each other here."
            )
    keep = np.flatnonzero(np.isin(label, list(held_bodies)))
    notes = (
        []
        if len(held_bodies) == count
        else [f"{count - len(held_bodies)} of {count} bodies are not held and carry nothing; they were left out."]
    )
    return Mesh(mesh.vertices, mesh.faces[keep]), keep, notes


def _near(points: Array, spots: Array, distance: float) -> np.ndarray:
    return np.asarray(cKDTree(spots).query(points, distance_upper_bound=distance)[0] < distance)


def _balance(
    grid: Grid,
    fixtures: list[tuple[conditions.Constraint, Feature]],
    u: Array,
    modulus: float,
    where: Array,
    forces: Array,
) -> tuple[External, tuple[tuple[str, tuple[float, float, float]], ...], float]:
    points, each, is_held, named = [where], [forces], [np.zeros(len(where), bool)], []
    for h, feature in fixtures:
        r = conditions.point_forces(h, grid, u, modulus)
        points.append(h.spots.points)
        each.append(r)
        is_held.append(np.ones(len(r), bool))
        x, y, z = (float(v) for v in r.sum(axis=0))
        named.append((feature.id, (x, y, z)))
    p, f = np.vstack(points), np.vstack(each)
    # A moved face has no load of its own: its error is taken against the forces it calls up.
    load = max(float(np.linalg.norm(forces, axis=1).sum()), 0.5 * float(np.linalg.norm(f, axis=1).sum()), 1e-12)
    span = float(np.ptp(p, axis=0).max())
    left = float(np.linalg.norm(f.sum(axis=0)))
    middle = p.mean(axis=0)
    turned = float(np.linalg.norm(np.cross(p - middle, f).sum(axis=0)))
    return External(p, f, np.concatenate(is_held)), tuple(named), max(left / load, turned / (load * span))
