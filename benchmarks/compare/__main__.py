"""`./run compare [PART ...]`: reserves of 300 ways and movement against quadratic tetrahedra of another program.

Both are given the same solid, holds and loads, and are read at the same points (half the critical distance deep, a fan
round inner edges, the rims of holds left out); how each finds the stress there is its own.
"""

from __future__ import annotations

import sys
import time
from dataclasses import dataclass, replace

import numpy as np
from scipy.stats import spearmanr

from compare.parts import PARTS, Bearing
from compare.reference import Reference, solved, stress_at
from knollside.core.material.allowables import Allowables, limits_of
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.mesh.weld import weld
from knollside.core.model import BearingLoad, DesignCase, FixedFixture, ForceLoad, LoadCase, Mesh, Refused
from knollside.core.strength.discretisation import CLOSE, changes_of
from knollside.core.strength.field import Medium, StressField, solve
from knollside.core.strength.places import left_over
from knollside.core.strength.rating import bounds, rate, sphere
from knollside.core.strength.set_out import CellSize
from knollside.core.strength.zoom import look_closely

CELLS, WAYS = 50_000, 300
NEAR = 0.75  # of the least governing index: points below it can govern no way
_MOST = 6000  # points read in the other program


@dataclass(frozen=True)
class Compared:
    """One part: shares by which the plain and the close reserve are over the other program's, and the rest."""

    name: str
    plain: np.ndarray
    close: np.ndarray
    theirs: np.ndarray
    share: np.ndarray
    movement: float
    seconds: tuple[float, float]

    @property
    def line(self) -> str:
        best, worst = int(self.theirs.argmax()), int(self.theirs.argmin())
        held = np.abs(np.log1p(self.close)) <= np.log1p(self.share)
        rank = spearmanr((1 + self.close) * self.theirs, self.theirs)[0]
        before = spearmanr((1 + self.plain) * self.theirs, self.theirs)[0]
        return (
            f"| {self.name.replace('_', ' ')} | {np.median(self.plain) * 100:+.0f} ({before:.2f}) "
            f"| {np.median(self.close) * 100:+.1f} | {self.close[best] * 100:+.1f} | {self.close[worst] * 100:+.1f} "
            f"| {self.close.min() * 100:+.0f} to {self.close.max() * 100:+.0f} | {rank:.3f} | {held.mean() * 100:.0f} "
            f"| {self.movement * 100:+.1f} | {self.seconds[0]:.1f} + {self.seconds[1]:.1f} |"
        )


_COLUMNS = (
    "part",
    "plain grid: median % (rank)",
    "close: median %",
    "best way %",
    "worst way %",
    "all ways %",
    "rank",
    "inside the grid's own range %",
    "movement %",
    "s",
)
HEAD = f"| {' | '.join(_COLUMNS)} |\n|{'---|' * len(_COLUMNS)}"


def _ours(r: Reference) -> tuple[Mesh, DesignCase]:
    tri = r.corners[r.triangles]
    mesh = weld(tri.reshape(-1, 3), np.arange(3 * len(tri)).reshape(-1, 3))
    if mesh.volume < 0:
        mesh = Mesh(mesh.vertices, mesh.faces[:, ::-1])
    d = r.drawn
    if isinstance(d.pushed, Bearing):
        toward = np.array(d.force) / np.linalg.norm(d.force)
        x, y, z = (float(v) for v in np.array(d.pushed.hole.centre) + d.pushed.hole.radius * toward)
        load: BearingLoad | ForceLoad = BearingLoad(at=(x, y, z), force_N=d.force)
    else:
        load = ForceLoad(at=d.pushed, force_N=d.force)
    held = tuple(FixedFixture(at=h) for h in d.held)
    return mesh, DesignCase(fixtures=held, cases=(LoadCase(name="it", loads=(load,)),))


def _theirs(r: Reference, close: StressField, limits: tuple[Allowables, ...], net: np.ndarray) -> np.ndarray:
    """Reserves by the other program's stress at our judged points that could govern."""
    bound = bounds(close.stress[0], limits[0])
    least = float((1 / rate(close, limits, net).reserve).min())
    some = np.flatnonzero((bound >= NEAR * least) & ~close.excluded)
    some = some[np.argsort(-bound[some])[:_MOST]]
    stress, lost = stress_at(r, close.points[some])
    known, all_of_it = np.ones(len(close.points), bool), np.zeros_like(close.stress[0])
    known[some], all_of_it[some] = lost, stress
    return np.asarray(rate(replace(close, stress=all_of_it[None], excluded=known), limits, net).reserve)


def compare(name: str) -> Compared:
    r = solved(name)
    mesh, duty = _ours(r)
    features, limits, net, soft = find_features(mesh), limits_of(duty, material("PETG")), sphere(WAYS), Medium(1.0)
    began = time.perf_counter()
    plain = solve(mesh, features, duty, soft, CELLS)
    quick = time.perf_counter() - began
    look = look_closely(mesh, plain, limits, sphere(600), duty.critical_mm)
    assert look is not None, "nothing suspected"
    close, rough = (
        solve(mesh, features, duty, soft, CellSize(c.base), sizing=c.sizing) for c in (look, look.rougher())
    )
    took = time.perf_counter() - began - quick
    theirs = _theirs(r, close, limits, net)
    moved = np.array(changes_of(rough, close, limits, net))
    share = np.maximum(np.hypot(moved, CLOSE), left_over(mesh, plain, close, limits, net, duty.critical_mm))
    return Compared(
        name,
        rate(plain, limits, net).reserve / theirs - 1,
        rate(close, limits, net).reserve / theirs - 1,
        theirs,
        share,
        close.greatest_movement / r.movement - 1,
        (quick, took),
    )


def main(names: list[str]) -> int:
    unknown = [n for n in names if n not in PARTS]
    if unknown:
        print(f"There is no part {unknown[0]}; there are {', '.join(PARTS)}.", file=sys.stderr)
        return 2
    print(HEAD)
    for name in names or PARTS:
        try:
            print(compare(name).line, flush=True)
        except Refused as refusal:
            print(f"| {name.replace('_', ' ')} | refused: {refusal} |", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
