"""One stress solve for a duty: every load case from one set-up, ready for every way to lie."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.mesh.check import check
from knollside.core.model import (
    Array,
    DesignCase,
    Feature,
    Ints,
    Mesh,
    Refused,
)
from knollside.core.strength import conditions
from knollside.core.strength.bodies import Body, GradedBody, Judged, PlainBody
from knollside.core.strength.element import isotropic, layered
from knollside.core.strength.graded import Graded, Sizing
from knollside.core.strength.hollow import Hollow, of_hollow
from knollside.core.strength.multigrid import NotSettled
from knollside.core.strength.rules import Rule
from knollside.core.strength.set_out import CellSize, SetOut, set_out
from knollside.core.strength.setups import Reached, SetUps, acting_as
from knollside.core.strength.skin import Skin
from knollside.core.strength.spots import Spots, locate

POISSON = 0.35  # typical of printed plastics
RIM_SHARE = 0.72  # of the critical distance: half of it along the surface and half of it deep
_DUG = 2.0  # of the critical distance: how deep the edge of a head is felt
_UNBALANCED = 0.01  # of the loads: no answer
EDGE = 2.0  # mm from where an idealised hold ends within which a plain grid's stress is told apart

Tick = Callable[[float, str], None]


@dataclass(frozen=True)
class External:
    """All outside forces of one case as points: loads and reactions together, so they sum to nothing. ``holder`` is
    the number of what holds at each point, faces moved by a stated way after all fixtures; -1 for a load."""

    points: Array
    forces: Array
    holder: Ints

    @property
    def at_fixture(self) -> np.ndarray:
        """Which points hold, bool (n,)."""
        return np.asarray(self.holder >= 0)


@dataclass(frozen=True)
class CaseAnswer:
    """One load case: displacement at cell corners and forces from outside; ``impact`` how many times its loads push,
    where they fall."""

    name: str
    displacement: Array
    external: External
    reactions: tuple[tuple[str, tuple[float, float, float]], ...]
    impact: float = 1.0

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

    ``excluded`` marks points at an idealised hold or load edge, ``volume`` (n,) is what an inner one stands for,
    mm3, ``unsure`` (n,) by what share a reading changes with the fit, ``rims`` (r, 3) lines where holds end; ``cell``
    is the largest cell side, mm, ``sizing`` where cells are smaller; ``balance_error`` the force and moment left
    over, as a share of the loads; ``modulus`` what the displacements were computed with; ``rules`` (r,) the numbers
    of the :class:`Rule` that each of the last points is judged by.
    """

    points: Array
    normals: Array
    stress: Array
    excluded: np.ndarray
    volume: Array
    unsure: Array
    rims: Array
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
    sizing: Sizing | None
    rules: Ints

    @property
    def solved(self) -> int:
        """How many points, the first ones, are judged by the stress that was solved there."""
        return len(self.points) - len(self.rules)

    def rule(self, point: int) -> Rule | None:
        """What a point is judged for besides the stress of the solid; None for a plain one."""
        last = point - self.solved
        return Rule(int(self.rules[last])) if last >= 0 else None

    def judged_besides(self, points: Array, stress: Array, rules: Ints) -> StressField:
        """The field with more places (m, 3) after its own, of stress (k, m, 6) and judged by ``rules`` (m,)."""
        nothing = np.zeros(len(points))
        return replace(
            self,
            points=np.vstack([self.points, points]),
            normals=np.vstack([self.normals, np.zeros((len(points), 3))]),
            stress=np.concatenate([self.stress, stress], axis=1),
            excluded=np.concatenate([self.excluded, nothing > 0]),
            volume=np.concatenate([self.volume, nothing]),
            unsure=np.concatenate([self.unsure, nothing]),
            rules=np.concatenate([self.rules, rules]),
        )

    def solved_alone(self) -> StressField:
        """The field without the places that are judged by a rule."""
        n = self.solved
        return replace(
            self,
            points=self.points[:n],
            normals=self.normals[:n],
            excluded=self.excluded[:n],
            volume=self.volume[:n],
            unsure=self.unsure[:n],
            stress=self.stress[:, :n],
            rules=self.rules[:0],
        )

    def cell_at(self, at: Array) -> float:
        """The size of the cells around a place, mm."""
        if self.sizing is None:
            return self.cell
        away = np.linalg.norm(self.sizing.sources - at, axis=1).min(keepdims=True)
        return float(min(self.cell, self.sizing.size_at(away)[0]))

    @property
    def greatest_movement(self) -> float:
        """Of any case and corner of the grid, mm."""
        return max(float(np.linalg.norm(c.displacement, axis=1).max()) for c in self.cases)


@dataclass(frozen=True)
class Medium:
    """What the part is made of, as a solve sees it: ``modulus`` MPa in the layer; ``skin`` blends walls and infill
    into the cells; ``layers`` = (Ez/E, build direction) for the layered re-solve; ``hollow``
    what fails besides of a shell over infill; ``density`` g/cm3, where the part's own weight acts."""

    modulus: float
    poisson: float = POISSON
    skin: Skin | None = None
    layers: tuple[float, Array] | None = None
    hollow: Hollow | None = None
    density: float = 0.0


def solve(
    mesh: Mesh,
    features: tuple[Feature, ...],
    design_case: DesignCase,
    medium: Medium,
    cells: int | CellSize = 50_000,
    tick: Tick | None = None,
    probes: Array | None = None,
    sizing: Sizing | None = None,
    before: tuple[CaseAnswer, ...] | None = None,
) -> StressField:
    """Solve linear elasticity (docs/methods.md 1.1) for every load case; ``probes`` (p, 3) are places to read besides.

    ``before`` are answers on another grid: where pins and walls acted there is where they are first taken to act here.
    With a ``sizing`` the cells get finer where it says, and only the rims of holds are told apart (1.2).

    Raises :class:`Refused` with the reason: not closed, not held, loose, unloaded, too thin.
    """
    began = time.perf_counter()
    say: Tick = tick or (lambda share, text: None)
    say(0.02, "looking at the part")
    refuse_unready(mesh, design_case)
    say(0.06, "laying the grid")
    laid = set_out(mesh, features, design_case, cells, sizing, medium.density)
    work, constraints = laid.work, [c for c, _ in laid.held]
    body = body_of(laid, medium)
    say(0.10, "setting up the solve")
    setups = SetUps(body.grid, body.stiffness, medium.modulus)
    judged = body.judged(design_case.critical_mm)
    excluded = _excluded(laid, judged, design_case.critical_mm)
    starts = None if before is None else [_as_before(constraints, a.external) for a in before]
    reached = setups.answers(laid.cases, constraints, lambda x: say(0.12 + 0.76 * x, "solving the stress"), starts)
    moved = [r.u for r in reached]
    answers, balance = _answers(laid, reached, medium.modulus)
    if balance > _UNBALANCED:
        raise NotSettled(f"What holds the part does not balance what pushes it: {100 * balance:.0f} % are left over.")
    say(0.90, "reading the stress")
    stress, unsure = body.read(np.array(moved), judged)
    _leave_to_the_head(laid, answers, judged, stress, design_case.critical_mm)
    spots = probe_spots(work, probes) if probes is not None else np.zeros((0, 3))
    probed = _probed(body, moved, spots)
    say(0.95, "stress done")
    field = StressField(
        judged.points,
        judged.normals,
        stress,
        excluded,
        judged.volume,
        unsure,
        laid.rims,
        answers,
        body.grid.points,
        float(body.grid.size.max()),
        len(body.grid.nodes),
        medium.modulus,
        balance,
        max(r.rounds for r in reached),
        time.perf_counter() - began,
        laid.notes,
        tuple(sorted({f.body for _, f in laid.held})),
        laid.asked,
        spots,
        probed,
        sizing,
        np.zeros(0, np.int64),
    )
    return field.judged_besides(*of_hollow(body, judged, stress, np.array(moved), medium))


def _as_before(constraints: list[conditions.Constraint], external: External) -> list[conditions.Constraint]:
    out = []
    for i, h in enumerate(constraints):
        mine = external.holder == i
        pushes = np.linalg.norm(external.forces[mine], axis=1) > 0
        out.append(acting_as(h, external.points[mine], pushes) if h.one_way else h)
    return out


def body_of(s: SetOut, medium: Medium) -> Body:
    c = (
        isotropic(medium.modulus, medium.poisson)
        if medium.layers is None
        else layered(medium.modulus, medium.poisson, *medium.layers)
    )
    if isinstance(s.grid, Graded):
        return GradedBody(s.work, s.grid, c, medium.skin)
    return PlainBody(s.work, s.grid, c, medium.skin)


def laid_again(
    mesh: Mesh, features: tuple[Feature, ...], design_case: DesignCase, medium: Medium, field: StressField
) -> tuple[SetOut, PlainBody]:
    """The plain grid that ``field`` was solved on, for this very duty and medium, and what lies in it."""
    if field.sizing is not None:
        raise ValueError("only a plain grid is laid again")
    laid = set_out(mesh, features, design_case, CellSize(field.asked), None, medium.density)
    body = body_of(laid, medium)
    assert isinstance(body, PlainBody)
    if len(laid.grid.points) != len(field.grid_points):
        raise Refused("The grid of the stress could not be laid again.")
    return laid, body


def _excluded(s: SetOut, judged: Judged, depth: float) -> np.ndarray:
    """Which judged points lie where an idealised hold ends; refuses where all do."""
    if isinstance(s.grid, Graded):
        # Half the critical distance along the surface and as deep: nearer the stress is the hold's, not the part's.
        return _near(judged.points, s.rims, RIM_SHARE * depth)
    # In mm where cells are small: a singular edge must not creep into the verdict as the grid gets finer.
    margin = max(1.6 * float(s.grid.size.max()), min(EDGE, 0.03 * float(s.work.size.max())))
    excluded = _near(judged.points, s.rims, margin)
    if excluded.all():
        raise Refused("Every place on the part is next to a held or pushed face; there is nothing left to judge.")
    return excluded


def _leave_to_the_head(s: SetOut, answers: tuple[CaseAnswer, ...], judged: Judged, stress: Array, depth: float) -> None:
    """Take out of the ``stress`` of each case what lies right under a loose screw's ring where it presses: the edge
    of a rigid head digs in there until enough of it bears, which is judged by hand (crushed under the head)."""
    for i, (h, feature) in enumerate(s.held):
        if not h.is_screw:
            continue
        on_ring = np.abs(h.spots.normals @ np.asarray(feature.axis, float)) > 0.9
        for k, answer in enumerate(answers):
            presses = np.linalg.norm(answer.external.forces[answer.external.holder == i], axis=1) > 0
            spots = h.spots.points[on_ring & presses]
            if len(spots):
                stress[k, _near(judged.points, spots, _DUG * depth)] = 0.0


def _answers(s: SetOut, reached: list[Reached], modulus: float) -> tuple[tuple[CaseAnswer, ...], float]:
    """Every case's displacement with the forces from outside, and the worst balance of them."""
    answers: list[CaseAnswer] = []
    worst = 0.0
    for ask, r in zip(s.cases, reached, strict=True):
        held = [
            (f, h.spots.points, conditions.point_forces(h, s.grid, r.u, modulus))
            for h, (_, f) in zip(r.holds, s.held, strict=True)
        ]
        held += [(d.feature, d.points, n * d.forces) for d, n in zip(ask.driven, r.driving, strict=True)]
        external, reactions, error = _balance(held, ask.where, ask.forces)
        worst = max(worst, error)
        answers.append(CaseAnswer(ask.name, r.u.reshape(-1, 3), external, reactions))
    return tuple(answers), worst


def _probed(body: Body, moved: list[Array], spots: Array) -> Array:
    """Displacement and stress at places read besides, (k, p, 9)."""
    if not len(spots):
        return np.zeros((0, 0, 9))
    cell, weight = locate(body.grid, Spots(spots, np.zeros_like(spots), np.ones(len(spots))))
    shift = np.array([np.einsum("pa,pad->pd", weight, u.reshape(-1, 3)[body.grid.nodes[cell]]) for u in moved])
    return np.concatenate([shift, body.at(np.array(moved), spots)], axis=2)


def refuse_unready(mesh: Mesh, design_case: DesignCase) -> None:
    faults = [
        p for p in check(mesh, crossing=False).problems if p.kind in ("open", "non-manifold", "winding", "inside-out")
    ]
    if faults:
        raise Refused(f"The stress cannot be computed on this mesh: {faults[0].message} Mend it in Part first.")
    across = float(mesh.size.max())
    if across < 2 * design_case.critical_mm:
        raise Refused(
            f"The part is {across:.2g} mm long, next to nothing beside a printed line. Was it drawn in another unit? "
            "Say so in Part."
        )
    if not design_case.fixtures:
        raise Refused("Nothing holds the part. Mark the faces or holes that keep it in place.")
    if not design_case.cases or not any(case.loads for case in design_case.cases):
        raise Refused("Nothing pushes the part. Add a load.")
    for case in design_case.cases:
        for load in case.loads:
            if load.nothing:
                raise Refused(f"The load in '{case.name}' is zero or has no direction.")


def probe_spots(mesh: Mesh, probes: Array) -> Array:
    """Places to read: a point inside the part stays, one outside moves to the nearest surface. (p, 3)."""
    from knollside.core.mesh.inside import points_inside
    from knollside.core.mesh.nearest import nearest_point

    out = np.asarray(probes, float).reshape(-1, 3).copy()
    for i in np.flatnonzero(~points_inside(mesh, out)):
        out[i] = nearest_point(mesh, out[i])
    return out


def _near(points: Array, spots: Array, distance: float) -> np.ndarray:
    return np.asarray(cKDTree(spots).query(points, distance_upper_bound=distance)[0] < distance)


def _balance(
    held: list[tuple[Feature, Array, Array]], where: Array, forces: Array
) -> tuple[External, tuple[tuple[str, tuple[float, float, float]], ...], float]:
    """All outside forces: of loads at ``where``, and of what holds or drives each feature; and what is left over."""
    points, each, holder, named = [where], [forces], [np.full(len(where), -1)], []
    for i, (feature, at, r) in enumerate(held):
        points.append(at)
        each.append(r)
        holder.append(np.full(len(r), i))
        x, y, z = (float(v) for v in r.sum(axis=0))
        named.append((feature.id, (x, y, z)))
    p, f = np.vstack(points), np.vstack(each)
    # A moved face has no load of its own: its error is taken against the forces it calls up.
    load = max(float(np.linalg.norm(forces, axis=1).sum()), 0.5 * float(np.linalg.norm(f, axis=1).sum()), 1e-12)
    span = float(np.ptp(p, axis=0).max())
    left = float(np.linalg.norm(f.sum(axis=0)))
    middle = p.mean(axis=0)
    turned = float(np.linalg.norm(np.cross(p - middle, f).sum(axis=0)))
    return External(p, f, np.concatenate(holder)), tuple(named), max(left / load, turned / (load * span))
