"""Any edits of a mesh, in any order: every feature is where the edits put it, under the id it had, or is told lost.

Where a feature must be is worked out here from the edits' own statements (a scale about a point, a wall moved along its
normal, a hole that keeps its middle), not from the map the names are carried by.
"""

from __future__ import annotations

import os
from collections.abc import Callable

import manifold3d as m3
import numpy as np
import pytest
from conftest import DEMO, mesh_of, shuffled

from knollside.core.fit.opening import set_gap, thicken, wall_behind
from knollside.core.fit.scaling import scale_keeping
from knollside.core.fit.threadfit import move_flanks
from knollside.core.job.questions.motion import motion_of
from knollside.core.mesh.edit import resize
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.features import find_features
from knollside.core.mesh.flare import take_flare_off
from knollside.core.mesh.identity import NamedFeatures, first_names, follow, named
from knollside.core.mesh.load import load_file
from knollside.core.mesh.repair import repair
from knollside.core.model import Feature, Mesh, Refused

ROUND = ("hole", "pin", "hexagon")
# As many sequences as the issue of a lost hold asked for; more when a fuzz run wants them.
SEQUENCES = int(os.environ.get("KNOLLSIDE_SEQUENCES", "200"))


def _drilled(solid: m3.Manifold, *at: tuple[float, float, float]) -> m3.Manifold:
    for x, y, d in at:
        solid = solid - m3.Manifold.cylinder(60, d / 2, circular_segments=24).translate((x, y, -20))
    return solid


def _others() -> dict[str, m3.Manifold]:
    """Ten parts that are in no demo: plates, angles, rings, posts, bodies apart, slots, a boss, a tilted block."""
    cube, rod = m3.Manifold.cube, m3.Manifold.cylinder
    angle = cube((50, 30, 5)) + cube((5, 30, 40))
    return {
        "plate": _drilled(cube((60, 30, 6)), (12, 15, 5), (48, 15, 5)),
        "angle": _drilled(angle, (35, 15, 6)),
        "ring": rod(10, 20, circular_segments=40) - rod(30, 12, circular_segments=40).translate((0, 0, -5)),
        "tee": cube((60, 12, 6)) + cube((8, 12, 30)).translate((26, 0, 6)),
        "pair": cube((20, 20, 10)) + cube((20, 20, 10)).translate((20.5, 0, 0)),
        "boss": _drilled(cube((40, 40, 5)) + rod(14, 8, circular_segments=32).translate((20, 20, 5)), (20, 20, 4.2)),
        "turned": _drilled(cube((40, 24, 8)), (20, 12, 5)).rotate((17, 31, 43)),
        "frame": cube((60, 50, 6)) - cube((40, 30, 20)).translate((10, 10, -5)),
        "pocket": _drilled(cube((40, 30, 12)), (20, 15, 3.4)) - rod(4, 4.0, circular_segments=6).translate((20, 15, 9)),
        "steps": cube((30, 20, 4)) + cube((20, 20, 8)) + cube((10, 20, 12)),
    }


PARTS: dict[str, Callable[[], Mesh]] = {
    **{name: (lambda s=solid: mesh_of(s)) for name, solid in _others().items()},  # type: ignore[misc]
    **{p.stem: (lambda p=p: load_file(p).mesh) for p in sorted(DEMO.glob("*.stl"))},  # type: ignore[misc]
}


SLOW = ("vent-hinge", "union-nut")  # some seconds an edit


class Place:
    """Where a feature must be by what the edits said: its middle, and how far off it may be by now (mm)."""

    def __init__(self, f: Feature) -> None:
        self.kind, self.axis, self.slack = f.kind, np.array(f.axis), 0.03
        self.at = np.array(f.centre)

    def scaled(self, factor: float, about: np.ndarray, kept: float) -> None:
        self.at = about + (self.at - about) * factor
        self.slack = self.slack * factor + kept

    def off(self, f: Feature) -> float:
        """A flat's distance from the plane it must lie in; a round one's from the line it must be about. mm."""
        d = np.array(f.centre) - self.at
        along = float(d @ self.axis)
        return abs(along) if self.kind == "flat" else float(np.linalg.norm(d - along * self.axis))


class Following:
    """A part under edit with its names, and beside it where each feature must be."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        found = find_features(mesh)
        self.now: NamedFeatures = named(mesh, found, first_names("0", found))
        self.places = {f.id: Place(f) for f in self.now.features if f.kind == "flat" or f.kind in ROUND}
        self.told: list[str] = []

    def take(self, new: Mesh, motion: Motion | None) -> None:
        self.now = follow(self.mesh, self.now, new, find_features(new), str(len(self.told)), motion)
        self.mesh = new

    def check(self) -> int:
        """That nothing has moved to another place; gives how many of the first features are still there."""
        still = 0
        for f in self.now.features:
            want = self.places.get(f.id)
            if want is None:
                continue
            still += 1
            where = f"{f.id} after {', '.join(self.told)}"
            assert f.kind == want.kind, where
            turned = float(np.dot(f.axis, want.axis))
            assert (turned if f.kind == "flat" else abs(turned)) > 0.99, where
            assert want.off(f) <= want.slack, f"{where}: {want.off(f):.2f} mm off"
        gone = {e.id for e in self.now.names.lost}
        assert not gone & {f.id for f in self.now.features}
        assert {n for n in self.places if n not in gone} <= {f.id for f in self.now.features}, self.told
        return still


def _reorder(it: Following, rng: np.random.Generator) -> None:
    it.take(shuffled(it.mesh, rng), Motion(by=1e-3))


def _resize(it: Following, rng: np.random.Generator) -> None:
    holes = [f for f in it.now.features if f.kind == "hole" and f.diameter and f.inside is not False]
    if not holes:
        raise Refused("no hole")
    f = holes[int(rng.integers(len(holes)))]
    made = resize(it.mesh, it.now.features, {f.id: float(f.diameter or 0) + float(rng.uniform(-0.2, 0.4))})
    it.take(made.mesh, motion_of(made, it.mesh))


def _scale(it: Following, rng: np.random.Generator) -> None:
    factor = float(rng.uniform(0.8, 1.4))
    keep = tuple(f.id for f in it.now.features if f.kind == "hole" and f.inside is not False)[: int(rng.integers(0, 2))]
    low, high = it.mesh.bounds
    made = scale_keeping(it.mesh, it.now.features, factor, keep, False, 0.45)
    for p in it.places.values():
        p.scaled(made.factor, np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, low[2]]), 0.02)
    it.take(made.mesh, motion_of(made, it.mesh))


def _wall(it: Following, rng: np.random.Generator) -> None:
    flats = [f for f in it.now.features if f.kind == "flat"]
    f = flats[int(rng.integers(len(flats)))]
    wall = wall_behind(it.mesh, it.now.features, f.id)
    made = thicken(it.mesh, it.now.features, wall, float(rng.uniform(0.1, 0.6)), "near", bool(rng.integers(2)))
    for name, by in made.moved:
        for p in it.places.values():
            # What lies on or beside the wall may follow it; nothing else moves.
            p.slack += abs(by)
        assert name
    it.take(made.mesh, motion_of(made, it.mesh))


def _flare(it: Following, rng: np.random.Generator) -> None:
    made = take_flare_off(it.mesh, (0, 0, 1), 0.2, 0.4)
    it.take(made.mesh, motion_of(made, it.mesh))


def _gap(it: Following, rng: np.random.Generator) -> None:
    made = set_gap(it.mesh, (0, 1), float(rng.uniform(0.4, 0.7)))
    for p in it.places.values():
        p.slack += abs(made.now - made.before)
    it.take(made.mesh, motion_of(made, it.mesh))


def _thread(it: Following, rng: np.random.Generator) -> None:
    f = next((f for f in it.now.features if f.kind == "thread"), None)
    if f is None:
        raise Refused("no thread")
    made = move_flanks(it.mesh, f, 0.1)
    for p in it.places.values():
        p.slack += 0.2
    it.take(made.mesh, motion_of(made, it.mesh))


def _mend(it: Following, rng: np.random.Generator) -> None:
    torn = Mesh(it.mesh.vertices, np.delete(it.mesh.faces, int(rng.integers(len(it.mesh.faces))), axis=0))
    made = repair(torn)
    it.take(made.mesh, motion_of(made, it.mesh))


def _redrawn(it: Following, rng: np.random.Generator) -> None:
    """A revision from elsewhere: the same part with no map."""
    order = rng.permutation(len(it.mesh.faces))
    it.take(Mesh(it.mesh.vertices, it.mesh.faces[order]), None)


EDITS = (_reorder, _resize, _scale, _wall, _flare, _gap, _thread, _mend, _redrawn)


def _run(name: str, seed: int) -> tuple[int, int, list[str]]:
    rng = np.random.default_rng(seed)
    it = Following(PARTS[name]())
    for k in rng.permutation(len(EDITS))[:3]:
        edit = EDITS[int(k)]
        try:
            edit(it, rng)
        except Refused:
            continue  # no such edit on this part; nothing may have changed
        it.told.append(edit.__name__.strip("_"))
        it.check()
    return it.check(), len(it.places), it.told


@pytest.mark.parametrize("name", PARTS)
def test_features_follow_any_edits_in_any_order(name: str) -> None:
    share = -(-SEQUENCES // (len(PARTS) - len(SLOW))) if name not in SLOW else 2
    kept = first = done = 0
    for seed in range(share):
        still, had, told = _run(name, 1000 * seed + sorted(PARTS).index(name))
        kept, first, done = kept + still, first + had, done + len(told)
    assert done >= share, "hardly any edit was made"
    # A name told lost costs the person a click; it must stay the exception.
    assert kept >= 0.9 * first, f"{first - kept} of {first} features lost"
