"""Several pegs of one body in holes of another at once: one chance for all.

Each pair has its printed gap, and where its peg and hole stand scatters; the bodies may be shifted and turned a little
against each other until all go in. Sampled with a fixed seed; whether a shift and a turn exist is a convex question
(the least of the largest overlap over three numbers), solved for all samples at once by Newton steps on its smooth
maximum (Boyd and Vandenberghe 2004, 10.2 and 3.1.5).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from knollside.core.fit.correction import axis_of, gap_of
from knollside.core.fit.process import Process
from knollside.core.model import Array, Feature, Mate, Range, square_to

# How far off its place, each way, one printed peg or hole stands, mm (one sigma): typical, of two axes that are square.
POSITION = Range(0.03, 0.015, 0.06)
_SAMPLES = 4000
_MOST = 40  # pairs
_TEMPERATURES = (0.1, 0.03, 0.01, 0.003, 0.001)  # mm: how smooth the maximum is made, step by step
_STEPS = 6
_SHARES = (1.0, 0.5, 0.2, 0.05, 0.01)  # of a Newton step, the best of which is taken
_PARALLEL = 0.9995


@dataclass(frozen=True)
class Together:
    """Pairs of a hole and a pin, by their ids, of two bodies; the chance that all go in at once as drawn and as
    corrected, that of the tightest alone then, and the position scatter it rests on (one sigma, mm)."""

    pairs: tuple[tuple[str, str], ...]
    bodies: tuple[int, int]
    now: float
    then: float
    alone: float
    position: Range

    @property
    def words(self) -> str:
        """In a sentence."""
        a, b = (k + 1 for k in self.bodies)
        return (
            f"Bodies {a} and {b}: all {len(self.pairs)} pegs go in at once {100 * self.then:.0f} % "
            f"({100 * self.now:.0f} % as drawn; the tightest alone {100 * self.alone:.0f} %), where each may stand "
            f"{self.position.value:.2f} mm off its place, {self.position.source}."
        )


@dataclass(frozen=True)
class _Pair:
    hole: Feature
    pin: Feature


def together(
    features: tuple[Feature, ...],
    mates: tuple[Mate, ...],
    sizes: dict[str, float],
    processes: dict[str, Process],
    direction: tuple[float, float, float],
) -> tuple[Together, ...]:
    """The chance of every group of two or more pairs between the same two bodies. ``sizes`` are the corrected drawn
    diameters by feature, mm; ``processes`` by axis."""
    out = []
    for group in _groups(features, mates):
        pairs = group[:_MOST]
        places = _places(pairs)
        if places is None:
            continue
        process = processes[axis_of(pairs[0].hole, direction)]
        drawn = np.array([[p.hole.diameter or 0.0, p.pin.diameter or 0.0] for p in pairs])
        then = np.array([[sizes.get(f.id, f.diameter or 0.0) for f in (p.hole, p.pin)] for p in pairs])
        now, after = (chance_of_all(_gaps(process, s), *places, POSITION.value) for s in (drawn, then))
        alone = min(1 - gap_of(process, h, process, p).below(0.0) for h, p in then)
        bodies = pairs[0].hole.body, pairs[0].pin.body
        ids = tuple((p.hole.id, p.pin.id) for p in pairs)
        out.append(Together(ids, bodies, now, after, alone, POSITION))
    return tuple(out)


def _groups(features: tuple[Feature, ...], mates: tuple[Mate, ...]) -> list[list[_Pair]]:
    by_id = {f.id: f for f in features}
    groups: list[list[_Pair]] = []
    for m in mates:
        a, b = by_id.get(m.feature), by_id.get(m.partner or "")
        if a is None or b is None or a.body == b.body or {a.kind, b.kind} != {"hole", "pin"}:
            continue
        pair = _Pair(a, b) if a.kind == "hole" else _Pair(b, a)
        for g in groups:
            same = (g[0].hole.body, g[0].pin.body) == (pair.hole.body, pair.pin.body)
            if same and abs(float(np.dot(g[0].hole.axis, pair.hole.axis))) > _PARALLEL:
                g.append(pair)
                break
        else:
            groups.append([pair])
    return [g for g in groups if len(g) > 1]


def _places(pairs: list[_Pair]) -> tuple[Array, Array] | None:
    """Where the holes stand about their middle (n, 2), and how far each peg is drawn off its hole once the bodies are
    laid on each other as well as they can be (n, 2), mm; None where the pegs do not stand as the holes do."""
    holes, pins = (
        _flat([getattr(p, what) for p in pairs], np.asarray(getattr(pairs[0], what).axis)) for what in ("hole", "pin")
    )
    holes, pins = holes - holes.mean(axis=0), pins - pins.mean(axis=0)
    best: Array | None = None
    for mirrored in (pins, pins * np.array([1.0, -1.0])):  # the axes may point against each other
        u, _, vt = np.linalg.svd(mirrored.T @ holes)
        turn = u @ np.diag([1.0, float(np.sign(np.linalg.det(u @ vt)))]) @ vt
        off = mirrored @ turn - holes
        if best is None or float(np.abs(off).max()) < float(np.abs(best).max()):
            best = off
    assert best is not None
    return (np.asarray(holes), best) if float(np.abs(best).max()) < 1.0 else None


def _flat(some: list[Feature], axis: Array) -> Array:
    return np.asarray(np.array([f.centre for f in some]) @ np.stack(square_to(axis), axis=1))


def _gaps(process: Process, sizes: Array) -> Array:
    """Samples (s, n) of the printed gap of each pair, mm: what the print does to all is shared."""
    rng = np.random.default_rng(20261129)
    shared = rng.standard_normal(_SAMPLES)
    pick = rng.random(_SAMPLES)
    out = np.empty((_SAMPLES, len(sizes)))
    for k, (hole, pin) in enumerate(sizes):
        told = gap_of(process, hole, process, pin)
        row = np.searchsorted(np.cumsum(told.weights)[:-1], pick)
        own = math.hypot(process.scatter_at(hole), process.scatter_at(pin))
        rest = np.sqrt(np.maximum(told.sigmas[row] ** 2 - own**2, 0.0))
        alone = np.minimum(own, told.sigmas[row])
        out[:, k] = told.means[row] + rest * shared + alone * rng.standard_normal(_SAMPLES)
    return out


def chance_of_all(gaps: Array, holes: Array, off: Array, position: float) -> float:
    """The share of samples in which some shift and turn lets all in. ``gaps`` (s, n) printed, ``holes`` (n, 2) where
    they stand, ``off`` (n, 2) how far the pegs are drawn off them, ``position`` each one's scatter each way; mm."""
    rng = np.random.default_rng(7)
    d = off + math.sqrt(2) * position * rng.standard_normal((len(gaps), *off.shape))
    return float((least_overlap(d, holes, gaps / 2) <= 0).mean())


def least_overlap(d: Array, at: Array, room: Array) -> Array:
    """Over all shifts and small turns the least of the largest |d + t + w x at| - room, mm (s,); nought or less where
    all go in. ``d`` (s, n, 2), ``at`` (n, 2), ``room`` (s, n)."""
    reach = max(float(np.abs(at).max()), 1e-9)
    arm = np.stack([-at[:, 1], at[:, 0]], axis=1) / reach
    # Columns of each peg's displacement by the three numbers: shift x, shift y, turn.
    a = np.zeros((len(at), 2, 3))
    a[:, 0, 0] = a[:, 1, 1] = 1.0
    a[:, :, 2] = arm
    x = np.zeros((len(d), 3))

    def smooth(x: Array, heat: float) -> tuple[Array, Array, Array]:
        """Displacements, their lengths (rounded off at nought), and overlaps."""
        v = d + np.einsum("nij,sj->sni", a, x)
        size = np.sqrt((v**2).sum(axis=2) + (heat / 4) ** 2)
        return v, size, size - room

    def maximum(value: Array, heat: float) -> Array:
        top = value.max(axis=1)
        return np.asarray(top + heat * np.log(np.exp((value - top[:, None]) / heat).sum(axis=1)))

    for heat in _TEMPERATURES:
        for _ in range(_STEPS):
            v, size, value = smooth(x, heat)
            w = np.exp((value - value.max(axis=1, keepdims=True)) / heat)
            w /= w.sum(axis=1, keepdims=True)
            g = np.einsum("sni,nij->snj", v / size[:, :, None], a)
            mean = np.einsum("sn,snj->sj", w, g)
            curve = (np.einsum("sn,snj,snk->sjk", w, g, g) - np.einsum("sj,sk->sjk", mean, mean)) / heat
            bent = np.einsum("sn,nij,nik->sjk", w / size, a, a) - np.einsum("sn,snj,snk->sjk", w / size, g, g)
            step = -np.linalg.solve(curve + bent + 1e-9 * np.eye(3), mean[:, :, None])[:, :, 0]
            best, now = x, maximum(value, heat)
            for share in _SHARES:
                tried = x + share * step
                found = maximum(smooth(tried, heat)[2], heat)
                better = found < now
                best, now = np.where(better[:, None], tried, best), np.where(better, found, now)
            x = best
    v = d + np.einsum("nij,sj->sni", a, x)
    return np.asarray((np.linalg.norm(v, axis=2) - room).max(axis=1))
