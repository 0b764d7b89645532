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
from knollside.core.model import Array, Duty, Feature, Held, Ints, Mesh, Placed, Refused
from knollside.core.strength import conditions, recover
from knollside.core.strength.element import Brick, isotropic, layered
from knollside.core.strength.grid import Grid, choose_size, make_grid, pieces
from knollside.core.strength.multigrid import Operator
from knollside.core.strength.skin import Skin, cell_scale

POISSON = 0.35  # typical of the printed plastics in METHODS 6
CRITICAL_DISTANCE = 0.5  # mm, about one line

Tick = Callable[[float, str], None]


@dataclass(frozen=True)
class External:
    """All outside forces of one case as points: loads and reactions together, so they sum to nothing."""

    points: Array
    forces: Array
    held: np.ndarray  # bool per point


@dataclass(frozen=True)
class CaseAnswer:
    """One load case: displacement at cell corners and forces from outside."""

    name: str
    displacement: Array
    external: External
    reactions: tuple[tuple[str, tuple[float, float, float]], ...]


@dataclass(frozen=True)
class StressField:
    """Solid stress (k, n, 6) MPa of k cases at n judged points, in the part's frame.

    ``apart`` marks points at an idealised hold or load edge; ``cell`` is the
    largest cell side, mm; ``balance_error`` the force and moment left over, as a
    share of the loads; ``modulus`` what the displacements were computed with.
    """

    points: Array
    normals: Array
    stress: Array
    apart: np.ndarray
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

    @property
    def greatest_movement(self) -> float:
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


def solve(
    mesh: Mesh,
    features: tuple[Feature, ...],
    duty: Duty,
    modulus: float,
    cells: int = 50_000,
    skin: Skin | None = None,
    layers: tuple[float, Array] | None = None,
    tick: Tick | None = None,
    cell_size: float | None = None,
) -> StressField:
    """Solve linear elasticity (METHODS 1.1) for every load case.

    ``modulus`` MPa in the layer; ``skin`` blends walls and infill into the cells;
    ``layers`` = (Ez/E, build direction) for the layered re-solve. Raises
    :class:`Refused` with the reason: not closed, not held, loose, unloaded, too thin.
    """
    began = time.perf_counter()
    say: Tick = tick or (lambda share, text: None)
    say(0.02, "looking at the part")
    state = check(mesh)
    faults = [p for p in state.problems if p.kind in ("open", "non-manifold", "winding", "inside-out")]
    if faults:
        raise Refused(f"The stress cannot be computed on this mesh: {faults[0].message} Mend it in Part first.")
    if not duty.held:
        raise Refused("Nothing holds the part. Mark the faces or holes that keep it in place.")
    if not duty.cases or not any(case.loads for case in duty.cases):
        raise Refused("Nothing pushes the part. Add a load.")
    for case in duty.cases:
        for load in case.loads:
            if load.newtons == 0:
                raise Refused(f"The load in '{case.name}' is zero or has no direction.")

    held = [(h, place_feature(mesh, features, h)) for h in duty.held]
    pushed = [[(ld, place_feature(mesh, features, ld)) for ld in case.loads] for case in duty.cases]
    work, keep, notes = _held_bodies(mesh, [f for _, f in held], [f for row in pushed for _, f in row])
    renumber = np.full(len(mesh.faces), -1, np.int64)
    renumber[keep] = np.arange(len(keep))

    say(0.06, "laying the grid")
    grid = make_grid(work, cell_size or choose_size(work, cells))
    count, _ = pieces(grid)
    bodies = len(np.unique(bodies_of(work)[1]))
    if count != state_bodies(work, bodies):
        raise Refused(
            f"On cells of {grid.size.max():.2f} mm the part falls into {count} pieces: a wall is thinner "
            "than a cell. Ask for more cells, or thicken it."
        )
    if len(grid.cells) < 40:
        raise Refused("The part is too small for a stress grid.")

    c = isotropic(modulus, POISSON) if layers is None else layered(modulus, POISSON, layers[0], layers[1])
    element = Brick(grid.size, c)
    holds = [conditions.hold(grid, work, renumber[f.faces], h.kind == "sliding") for h, f in held]
    conditions.refuse_if_loose(holds, float(work.size.max()))
    scale = np.ones(len(grid.cells)) if skin is None else cell_scale(work, grid, skin)
    say(0.12, "setting up the solve")
    operator = Operator(
        element, scale, grid.cells, grid.nodes, grid.cut, grid.moments, conditions.springs(grid, holds, modulus)
    )

    solid = grid.filled * scale
    points, normals = recover.judge_points(work, grid, CRITICAL_DISTANCE, scale)
    edges = [h.spots.points for h in holds]
    answers: list[CaseAnswer] = []
    stress: list[Array] = []
    worst_balance, rounds = 0.0, 0
    for i, (case, row) in enumerate(zip(duty.cases, pushed, strict=True)):
        if not row:
            continue
        f = np.zeros(3 * len(grid.points))
        where, forces = [], []
        for load, feature in row:
            nodal, spots, each = conditions.push(grid, work, renumber[feature.faces], np.asarray(load.force_N, float))
            f += nodal
            where.append(spots.points)
            forces.append(each)
            edges.append(spots.points)
        base = 0.15 + 0.7 * i / len(duty.cases)

        def tell(share: float, base: float = base) -> None:
            say(base + share * 0.7 / len(duty.cases), "solving the stress")

        u, n = operator.solve(f, tick=tell)
        rounds = max(rounds, n)
        external, reactions, error = _balance(grid, holds, held, u, modulus, np.vstack(where), np.vstack(forces))
        worst_balance = max(worst_balance, error)
        say(base + 0.68 / len(duty.cases), "reading the stress")
        stress.append(recover.stress_at(grid, recover.sample_stress(grid, element, u), points, solid))
        answers.append(CaseAnswer(case.name, u.reshape(-1, 3), external, reactions))
    apart = _near(points, np.vstack(edges), 1.6 * float(grid.size.max()))
    if apart.all():
        raise Refused("Every place on the part is next to a held or pushed face; there is nothing left to judge.")
    say(0.95, "stress done")
    return StressField(
        points,
        normals,
        np.stack(stress),
        apart,
        tuple(answers),
        grid.points,
        float(grid.size.max()),
        len(grid.cells),
        modulus,
        worst_balance,
        rounds,
        time.perf_counter() - began,
        tuple(notes),
        tuple(sorted({f.body for _, f in held})),
    )


def state_bodies(work: Mesh, shells: int) -> int:
    """Bodies a grid should show: shells less cavities."""
    return check(work).bodies if shells > 1 else 1


def _held_bodies(mesh: Mesh, held: list[Feature], pushed: list[Feature]) -> tuple[Mesh, Ints, list[str]]:
    count, label = bodies_of(mesh)
    if count == 1:
        return mesh, np.arange(len(mesh.faces)), []
    sound = check(mesh)
    if sound.bodies == 1:  # one body with cavities
        return mesh, np.arange(len(mesh.faces)), []
    held_bodies = {int(label[f.faces[0]]) for f in held}
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
    holds: list[conditions.Hold],
    held: list[tuple[Held, Feature]],
    u: Array,
    modulus: float,
    where: Array,
    forces: Array,
) -> tuple[External, tuple[tuple[str, tuple[float, float, float]], ...], float]:
    points, each, is_held, named = [where], [forces], [np.zeros(len(where), bool)], []
    for h, (_, feature) in zip(holds, held, strict=True):
        r = conditions.point_forces(h, grid, u, modulus)
        points.append(h.spots.points)
        each.append(r)
        is_held.append(np.ones(len(r), bool))
        x, y, z = (float(v) for v in r.sum(axis=0))
        named.append((feature.id, (x, y, z)))
    p, f = np.vstack(points), np.vstack(each)
    load = float(np.linalg.norm(forces, axis=1).sum())
    span = float(np.ptp(p, axis=0).max())
    left = float(np.linalg.norm(f.sum(axis=0)))
    middle = p.mean(axis=0)
    turned = float(np.linalg.norm(np.cross(p - middle, f).sum(axis=0)))
    return External(p, f, np.concatenate(is_held)), tuple(named), max(left / load, turned / (load * span))
