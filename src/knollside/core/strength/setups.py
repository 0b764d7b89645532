"""Load cases on the grid: the forces they make, the set-ups that solve them, and pins that let go."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from knollside.core.model import Array, DeflectionLoad, Feature, ForceLoad, Ints, Load, Mesh
from knollside.core.strength import conditions, loads
from knollside.core.strength.composite import Composite
from knollside.core.strength.graded import Graded
from knollside.core.strength.grid import Grid
from knollside.core.strength.multigrid import NotSettled, Operator

TOLERANCE = 1e-7  # of the residual
_PASSING = 1e-3  # while it is still looked for what acts
_DRAWN = 1e-3  # what holds carry, of what draws them over a gap: guessed at first
_LEAST = 1e-12  # of the residual: less is not to be had
CLOSE = 1e-4  # the same on a graded grid, whose stress is read to a per cent: it changes that by under 1e-4
_FLICKER = 0.01  # of the force, and three times that after so many set-ups
_PATIENCE, _MOST = 20, 60
_TOGETHER = 4  # load cases solved at once; more would only take memory


@dataclass(frozen=True)
class Driven:
    """A face moved by ``to`` mm along a way: nodal forces ``f`` (3n,) of 1 N along it, which by their work also measure
    how far the face moves on average, and the same as forces at points. The face is free to turn and to give."""

    f: Array
    points: Array
    forces: Array
    to: float
    feature: Feature


@dataclass(frozen=True)
class Pushed:
    """A load case on the grid: nodal forces ``f`` (3n,), the points ``where`` they act with ``forces``, and faces
    ``driven`` by a given way."""

    name: str
    f: Array
    where: Array
    forces: Array
    driven: tuple[Driven, ...]


def pushed(
    grid: Grid | Graded, work: Mesh, name: str, loads_: list[tuple[Load, Feature, Ints]], own_weight: float = 0.0
) -> Pushed:
    """``own_weight`` is what a mm3 of the part weighs, N, where that acts besides."""
    f = np.zeros(3 * len(grid.points))
    where, forces = [np.zeros((0, 3))], [np.zeros((0, 3))]
    driven: list[Driven] = []
    for load, feature, faces in loads_:
        if isinstance(load, DeflectionLoad):
            way = load.sized(1.0).deflection_mm
            unit = ForceLoad(feature=load.feature, at=load.at, force_N=way)
            nodal, at, each = loads.push(grid, work, feature, faces, unit)
            driven.append(Driven(nodal, at.points, each, load.size, feature))
            continue
        nodal, at, each = loads.push(grid, work, feature, faces, load)
        f += nodal
        where.append(at.points)
        forces.append(each)
    if own_weight:
        nodal, at_cells, each = loads.weigh(grid, own_weight)
        f += nodal
        where.append(at_cells)
        forces.append(each)
    return Pushed(name, f, np.vstack(where), np.vstack(forces), tuple(driven))


@dataclass(frozen=True)
class Reached:
    """Displacements ``u`` (3n,) of a case, the holds as they act in it, what each driven face takes, N, and the most
    rounds taken."""

    u: Array
    holds: list[conditions.Constraint]
    driving: Array
    rounds: int


def driving_forces(driven: tuple[Driven, ...], u: Array, each: Array, share: float = 1.0) -> Array:
    """What moves every driven face (k,) by ``share`` of its way, N: ``u`` (3n,) is there without, ``each`` (k, 3n) of
    1 N at every one."""
    ways = np.array([d.f for d in driven])
    return np.linalg.solve(ways @ each.T, share * np.array([d.to for d in driven]) - ways @ u)


Stiffness = Operator | Composite


class SetUps:
    """Set-ups by what is held: load cases that hold alike share one, and are solved together.

    ``make`` gives the stiffness with springs by cell.
    """

    def __init__(self, grid: Grid | Graded, make: Callable[[dict[int, Array]], Stiffness], modulus: float) -> None:
        self.grid, self.make, self.modulus = grid, make, modulus
        self.tolerance = CLOSE if isinstance(grid, Graded) else TOLERANCE
        self._key: object = None
        self._operator: Stiffness | None = None

    def _set_up(self, constraints: list[conditions.Constraint]) -> Stiffness:
        key = tuple((id(h.spots), h.active.tobytes()) for h in constraints)
        if self._operator is None or key != self._key:
            self._operator = self.make(conditions.springs(self.grid, constraints, self.modulus))
            self._key = key
        return self._operator

    def answers(
        self,
        asks: list[Pushed],
        constraints: list[conditions.Constraint],
        tell: Callable[[float], None],
        starts: list[list[conditions.Constraint]] | None = None,
    ) -> list[Reached]:
        """What every case comes to; ``starts`` are the holds as they are thought to act in each."""
        out: list[Reached] = []
        together = not any(h.one_way for h in constraints) and not any(a.driven for a in asks)
        step = _TOGETHER if together else 1
        for i in range(0, len(asks), step):
            some = asks[i : i + step]

            def share(x: float, i: int = i, n: int = len(some)) -> None:
                tell((i + n * x) / len(asks))

            if together:
                u, n = self._set_up(constraints).solve(np.array([a.f for a in some]), self.tolerance, tick=share)
                out += [Reached(v, constraints, np.zeros(0), n) for v in u]
            else:
                out.append(self._alone(some[0], constraints if starts is None else starts[i], share))
        return out

    def _alone(self, ask: Pushed, constraints: list[conditions.Constraint], tell: Callable[[float], None]) -> Reached:
        """One case by itself: pins, walls, loose screws let go where they would pull. A semismooth Newton method on
        what acts (M. Hintermueller, K. Ito, K. Kunisch 2002)."""
        rounds = 0
        if any(h.one_way and np.any(h.beyond) and h.active.all() for h in constraints):
            # Which side of a hole bears is seen without its play; with it nothing would seem to.
            tight = [replace(h, gap=0 * h.gap) if h.gap is not None else h for h in constraints]
            first = self._alone(ask, tight, tell)
            rounds = first.rounds
            constraints = [replace(h, active=w.active) for h, w in zip(constraints, first.holds, strict=True)]
        size, cell = float(np.ptp(self.grid.points, axis=0).max()), float(self.grid.size.max())
        every: Array | None = None
        leap, most, origin = 0.0, size, (constraints, constraints)
        for count in range(_MOST):
            # A handful of spots at the rim of the contact may flicker for ever; they carry next to nothing.
            few = _FLICKER * (1 if count < _PATIENCE else 3)
            # What acts is found by a passing solve, and borne out by a whole one.
            for tolerance in (max(_PASSING, self.tolerance), self.tolerance):
                every, n = self._solved(ask, constraints, tolerance, every, tell)
                rounds += n
                u, driving = _driven(ask, every)
                if any(_wrong(self.grid, h, u) > few for h in constraints if h.one_way):
                    break
            else:
                return Reached(u, constraints, driving, rounds)
            fresh = [let_go(self.grid, h, u) for h in constraints]
            back = sum(int((b.active & ~a.active).sum()) for a, b in zip(constraints, fresh, strict=True))
            away = sum(int((a.active & ~b.active).sum()) for a, b in zip(constraints, fresh, strict=True))
            if leap and back > 0.1 * away:  # too far: from where it leapt, half as far
                most = leap / 2
                leap, (constraints, fresh) = most, origin
            elif back <= 0.1 * away:
                leap = max(2 * leap, cell)
            else:
                leap = 0.0
            leap = min(leap, most) if most > 0.5 * cell else 0.0
            if leap:
                # Glued ground hides what lifts off beyond the next few cells: leap ahead; too far is seen at once.
                origin = constraints, fresh
                # Not of a screw: what the ring lets go says nothing of the shank beside it.
                pairs = zip(constraints, fresh, strict=True)
                fresh = [_leapt(a, b, leap) if a.one_way and not a.is_screw else b for a, b in pairs]
            constraints = fresh
            conditions.refuse_if_loose(constraints, size, "Under this load it lifts off, and then")
        raise NotSettled(f"Where the part rests on its pins and walls was not settled in {_MOST} tries.")

    def _solved(
        self,
        ask: Pushed,
        holds: list[conditions.Constraint],
        tolerance: float,
        start: Array | None,
        tell: Callable[[float], None],
    ) -> tuple[Array, int]:
        """Displacements (1 + k, 3n) of what pushes and of 1 N at every driven face, with ``holds`` as they act, and
        rounds taken. ``tolerance`` is of the forces there are: what draws a stiff hold over its play is thousands of
        times that, and to a share of it nothing would be settled."""
        operator = self._set_up(holds)
        pulled = conditions.drawn_together(self.grid, holds, self.modulus)
        driven = [d.f for d in ask.driven]
        if pulled is None:
            if ask.driven and not ask.f.any():  # nothing pushes besides
                start = None if start is None else start[1:]
                found, n = operator.solve(np.array(driven), tolerance, tick=tell, start=start)
                return np.vstack([0 * ask.f, found]), n
            return operator.solve(np.array([ask.f, *driven]), tolerance, tick=tell, start=start)
        every = np.array([ask.f + pulled, *driven])
        whole, outer = float(np.linalg.norm(every[0])), float(np.linalg.norm(ask.f))
        share, rounds = _DRAWN, 0
        while True:
            start, n = operator.solve(every, max(tolerance * share, _LEAST), tick=tell, start=start)
            rounds += n
            u = _driven(ask, start)[0]
            each = [np.linalg.norm(conditions.point_forces(h, self.grid, u, self.modulus)) for h in holds]
            carried = max(float(np.linalg.norm(each)), outer) / whole
            if carried >= share or tolerance * share <= _LEAST:
                return start, rounds
            share = 0.5 * carried


def _driven(ask: Pushed, every: Array) -> tuple[Array, Array]:
    """Displacements (3n,) with every driven face where it shall be, and what that takes, N."""
    if not ask.driven:
        return every[0], np.zeros(0)
    force = driving_forces(ask.driven, every[0], every[1:])
    return every[0] + force @ every[1:], force


def let_go(grid: Grid | Graded, h: conditions.Constraint, u: Array) -> conditions.Constraint:
    """A pin, a wall or a loose screw presses only where the part comes towards it; what else holds stays as it is."""
    return replace(h, active=_toward(grid, h, u) > 0) if h.one_way else h


def _toward(grid: Grid | Graded, h: conditions.Constraint, u: Array) -> Array:
    return np.asarray(np.einsum("sd,sd->s", conditions.moved(grid, h, u), h.spots.normals) - h.beyond)


def _wrong(grid: Grid | Graded, h: conditions.Constraint, u: Array) -> float:
    """The force that is wrong, pulls where it acts and what pushes into it where it does not, as a share of all."""
    each = _toward(grid, h, u) * h.spots.area
    wrong = float(-each[h.active & (each < 0)].sum() + each[~h.active & (each > 0)].sum())
    return wrong / max(float(np.abs(each[h.active]).sum()), 1e-300) if wrong else 0.0


def _leapt(was: conditions.Constraint, now: conditions.Constraint, reach: float) -> conditions.Constraint:
    """Let go also within ``reach`` mm of what was let go."""
    gone = was.active & ~now.active
    if not gone.any() or not now.active.any():
        return now
    near = cKDTree(was.spots.points[gone]).query(now.spots.points, distance_upper_bound=reach)[0] < reach
    rest = now.active & ~near
    return replace(now, active=rest) if rest.any() else now


def acting_as(h: conditions.Constraint, points: Array, pushes: np.ndarray) -> conditions.Constraint:
    """A pin or a wall as it acted elsewhere: at each spot as at the nearest of ``points`` (n, 3), which ``pushes``."""
    active = pushes[cKDTree(points).query(h.spots.points)[1]]
    return replace(h, active=active) if active.any() else h
