"""One stress solve for a duty: every load case from one set-up, ready for every way to lie."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.mesh.check import check
from knollside.core.mesh.features import feature_at
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Array, DeflectionLoad, Duty, Feature, Ints, Load, Mesh, Placed, Refused
from knollside.core.strength import conditions, loads, recover
from knollside.core.strength.element import Brick, isotropic, layered
from knollside.core.strength.grid import Grid, choose_size, make_grid, pieces
from knollside.core.strength.mesh_size import refuse_if_short
from knollside.core.strength.multigrid import Operator
from knollside.core.strength.skin import Skin, cell_scale

POISSON = 0.35  # typical of printed plastics
TOLERANCE = 1e-7  # of the residual
_TOGETHER = 4  # load cases solved at once; more would only take memory
EDGE = 2.0  # mm from an idealised hold or load edge within which a stress is told apart

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

    @property
    def pushing(self) -> float:
        """The loads' sum, N; for a driven face what it takes to move it."""
        mine = self.external.forces[~self.external.held]
        if len(mine):
            return float(np.linalg.norm(mine.sum(axis=0)))
        return max((float(np.linalg.norm(f)) for _, f in self.reactions), default=0.0)

    @property
    def turning(self) -> float:
        """The loads' moment about the middle of what holds, N mm."""
        e = self.external
        if e.held.all() or not e.held.any():
            return 0.0
        arm = e.points[~e.held] - e.points[e.held].mean(axis=0)
        return float(np.linalg.norm(np.cross(arm, e.forces[~e.held]).sum(axis=0)))


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
    probes: Array | None = None,
    poisson: float = POISSON,
) -> StressField:
    """Solve linear elasticity (docs/methods.md 1.1) for every load case.

    ``modulus`` MPa in the layer; ``skin`` blends walls and infill into the cells;
    ``layers`` = (Ez/E, build direction) for the layered re-solve; ``probes`` (p, 3)
    are places to read besides. Raises :class:`Refused` with the reason: not closed,
    not held, loose, unloaded, too thin.
    """
    began = time.perf_counter()
    say: Tick = tick or (lambda share, text: None)
    say(0.02, "looking at the part")
    refuse_unready(mesh, duty)
    held = [(h, place_feature(mesh, features, h)) for h in duty.held]
    pushed = [[(ld, place_feature(mesh, features, ld)) for ld in case.loads] for case in duty.cases]
    work, keep, notes = _held_bodies(mesh, [f for _, f in held], [f for row in pushed for _, f in row])
    renumber = np.full(len(mesh.faces), -1, np.int64)
    renumber[keep] = np.arange(len(keep))

    say(0.06, "laying the grid")
    asked = cell_size or choose_size(work, cells)
    grid = make_grid(work, asked)
    refuse_if_short(len(grid.cells))
    _refuse_pieces(work, grid)
    c = isotropic(modulus, poisson) if layers is None else layered(modulus, poisson, layers[0], layers[1])
    element = Brick(grid.size, c)
    holds = [conditions.hold(grid, work, renumber[f.faces], h, f) for h, f in held]
    conditions.refuse_if_loose(holds, float(work.size.max()))
    scale = np.ones(len(grid.cells)) if skin is None else cell_scale(work, grid, skin)
    say(0.10, "setting up the solve")
    bench = _Bench(grid, element, scale, modulus)
    solid = grid.filled * scale
    points, normals = recover.judge_points(work, grid, duty.critical_mm, scale)
    spots = probe_spots(work, probes) if probes is not None else np.zeros((0, 3))
    edges = [h.spots.points for h in holds]
    asks = [
        _pushed(grid, work, case.name, [(ld, f, renumber[f.faces]) for ld, f in row])
        for case, row in zip(duty.cases, pushed, strict=True)
        if row
    ]
    edges += [p for a in asks for p in a.edges]
    moved, actives, rounds = bench.answers(asks, holds, lambda x: say(0.12 + 0.76 * x, "solving the stress"))
    answers: list[CaseAnswer] = []
    worst_balance = 0.0
    for ask, u, active in zip(asks, moved, actives, strict=True):
        external, reactions, error = _balance(
            grid, [*zip(active, (f for _, f in held)), *ask.driven], u, modulus, ask.where, ask.forces
        )
        worst_balance = max(worst_balance, error)
        answers.append(CaseAnswer(ask.name, u.reshape(-1, 3), external, reactions))
    say(0.90, "reading the stress")
    samples = recover.sample_stress(grid, element, np.array(moved))
    stress = recover.judged_stress(grid, samples, points, normals, solid)
    probed = np.zeros((0, 0, 9))
    if len(spots):
        cell, weight = conditions.locate(grid, conditions.Spots(spots, np.zeros_like(spots), np.ones(len(spots))))
        shift = np.array([np.einsum("pa,pad->pd", weight, u.reshape(-1, 3)[grid.nodes[cell]]) for u in moved])
        probed = np.concatenate([shift, recover.stress_at(grid, samples, spots, solid)], axis=2)
    # In mm where cells are small: a singular edge must not creep into the verdict as the grid gets finer.
    margin = max(1.6 * float(grid.size.max()), min(EDGE, 0.03 * float(work.size.max())))
    apart = _near(points, np.vstack(edges), margin)
    if apart.all():
        raise Refused("Every place on the part is next to a held or pushed face; there is nothing left to judge.")
    say(0.95, "stress done")
    return StressField(
        points,
        normals,
        stress,
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
        asked,
        spots,
        probed,
    )


def refuse_unready(mesh: Mesh, duty: Duty) -> None:
    faults = [
        p for p in check(mesh, crossing=False).problems if p.kind in ("open", "non-manifold", "winding", "inside-out")
    ]
    if faults:
        raise Refused(f"The stress cannot be computed on this mesh: {faults[0].message} Mend it in Part first.")
    if not duty.held:
        raise Refused("Nothing holds the part. Mark the faces or holes that keep it in place.")
    if not duty.cases or not any(case.loads for case in duty.cases):
        raise Refused("Nothing pushes the part. Add a load.")
    for case in duty.cases:
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


@dataclass(frozen=True)
class _Ask:
    """A load case on the grid: nodal forces ``f`` (3n,), the points ``where`` they act with ``forces``, faces
    ``driven`` by a given way, and the ``edges`` at which a stress is told apart."""

    name: str
    f: Array
    where: Array
    forces: Array
    driven: tuple[tuple[conditions.Hold, Feature], ...]
    edges: tuple[Array, ...]


def _pushed(grid: Grid, work: Mesh, name: str, loads_: list[tuple[Load, Feature, Ints]]) -> _Ask:
    f = np.zeros(3 * len(grid.points))
    where, forces, edges = [np.zeros((0, 3))], [np.zeros((0, 3))], []
    driven: list[tuple[conditions.Hold, Feature]] = []
    for load, feature, faces in loads_:
        if isinstance(load, DeflectionLoad):
            driven.append((conditions.drive(grid, work, faces, load.deflection_mm), feature))
            edges.append(driven[-1][0].spots.points)
            continue
        nodal, at, each = loads.push(grid, work, feature, faces, load)
        f += nodal
        where.append(at.points)
        forces.append(each)
        edges.append(at.points)
    return _Ask(name, f, np.vstack(where), np.vstack(forces), tuple(driven), tuple(edges))


class _Bench:
    """Set-ups by what is held: load cases that hold alike share one, and are solved together."""

    def __init__(self, grid: Grid, element: Brick, scale: Array, modulus: float) -> None:
        self.grid, self.element, self.scale, self.modulus = grid, element, scale, modulus
        self._key: object = None
        self._operator: Operator | None = None

    def _set_up(self, holds: list[conditions.Hold]) -> Operator:
        key = tuple((id(h.spots), h.active.tobytes()) for h in holds)
        if self._operator is None or key != self._key:
            g = self.grid
            extra = conditions.springs(g, holds, self.modulus)
            self._operator = Operator(self.element, self.scale, g.cells, g.nodes, g.cut, g.moments, extra)
            self._key = key
        return self._operator

    def answers(
        self, asks: list[_Ask], holds: list[conditions.Hold], tell: Callable[[float], None]
    ) -> tuple[list[Array], list[list[conditions.Hold]], int]:
        """Displacements of every case, the holds as they act in it, and the most rounds taken."""
        moved: list[Array] = []
        actives, rounds = [], 0
        together = not any(h.one_way for h in holds) and not any(a.driven for a in asks)
        step = _TOGETHER if together else 1
        for i in range(0, len(asks), step):
            some = asks[i : i + step]

            def share(x: float, i: int = i, n: int = len(some)) -> None:
                tell((i + n * x) / len(asks))

            if together:
                u, n = self._set_up(holds).solve(np.array([a.f for a in some]), TOLERANCE, tick=share)
                moved += list(u)
                actives += [holds] * len(some)
            else:
                one, n, active = self._alone(some[0].f, holds, [h for h, _ in some[0].driven], share)
                moved.append(one)
                actives.append(active)
            rounds = max(rounds, n)
        return moved, actives, rounds

    def _alone(
        self, f: Array, holds: list[conditions.Hold], driven: list[conditions.Hold], tell: Callable[[float], None]
    ) -> tuple[Array, int, list[conditions.Hold]]:
        """Displacements of one case, rounds taken, and the holds as they act: pins let go where they would pull."""
        f = f + sum((conditions.driven_force(self.grid, h, self.modulus) for h in driven), np.zeros_like(f))
        u: Array | None = None
        rounds = 0
        while True:
            u, n = self._set_up([*holds, *driven]).solve(f, TOLERANCE, tick=tell, start=u)
            rounds += n
            fresh = [_let_go(self.grid, h, u) if h.one_way else h for h in holds]
            turned = sum(int((a.active != b.active).sum()) for a, b in zip(fresh, holds, strict=True))
            # A handful of spots at the rim of the contact may flicker for ever; they carry next to nothing.
            if turned <= 0.01 * sum(int(h.active.sum()) for h in holds if h.one_way) or rounds > 400:
                return u, rounds, holds
            holds = fresh


def _let_go(grid: Grid, h: conditions.Hold, u: Array) -> conditions.Hold:
    """A pin presses only where the wall comes towards it."""
    assert h.along is not None
    toward = np.einsum("sd,sd->s", conditions.moved(grid, h, u), h.along) > 0
    return replace(h, active=toward) if toward.any() else h


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


def _held_bodies(mesh: Mesh, held: list[Feature], pushed: list[Feature]) -> tuple[Mesh, Ints, list[str]]:
    count, label = bodies_of(mesh)
    if count == 1:
        return mesh, np.arange(len(mesh.faces)), []
    sound = check(mesh, crossing=False)
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
    held: list[tuple[conditions.Hold, Feature]],
    u: Array,
    modulus: float,
    where: Array,
    forces: Array,
) -> tuple[External, tuple[tuple[str, tuple[float, float, float]], ...], float]:
    points, each, is_held, named = [where], [forces], [np.zeros(len(where), bool)], []
    for h, feature in held:
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
