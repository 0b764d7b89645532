"""Which ways are offered: on twenty parts turned anyhow, against every direction of the net by the same weights."""

from __future__ import annotations

from dataclasses import replace

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import mesh_of

from knollside.core.job import answer
from knollside.core.lay.candidates import candidates, is_new, lies_flat, net_maxima
from knollside.core.lay.orientations import WEIGHTS, Ranking, weighed
from knollside.core.lay.stability import footing
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase, Mesh, Purpose, Recipe
from knollside.core.strength.rating import rate

Solid = m3.Manifold
BED = (220.0, 220.0, 250.0)
R = Recipe(infill=1.0)


def slab(x0: float, x1: float, y0: float, y1: float, z0: float, z1: float) -> m3.Manifold:
    return Solid.cube((x1 - x0, y1 - y0, z1 - z0)).translate((x0, y0, z0))


def part_of(seed: int) -> tuple[Mesh, np.ndarray, np.ndarray, np.ndarray]:
    """A plate with an arm out of it (straight, cranked, round or with a fork), anyhow; where it is held, where it is
    pushed, and the push."""
    rng = np.random.default_rng(seed)
    wide, high, thick = rng.uniform(25, 60), rng.uniform(20, 60), rng.uniform(4, 9)
    long, deep, broad = rng.uniform(25, 80), rng.uniform(5, 12), rng.uniform(6, 20)
    level = rng.uniform(0, high - deep)
    arm = slab(0, thick + long, -broad / 2, broad / 2, level, level + deep)
    kind = seed % 4
    if kind == 1:
        arm += slab(thick + long - deep, thick + long, -broad / 2, broad / 2, level, level + deep + rng.uniform(8, 25))
    elif kind == 2:
        arm = Solid.cylinder(thick + long, deep / 2 + 2, circular_segments=32).rotate((0, 90, 0))
        arm = arm.translate((0, 0, level + deep / 2))
    elif kind == 3:
        arm = arm.rotate((0, -rng.uniform(5, 30), 0)) ^ slab(0, 200, -100, 100, -200, 200)
    solid = slab(0, thick, -wide / 2, wide / 2, 0, high) + arm
    turn = tuple(rng.uniform(-180, 180, 3))
    mesh = mesh_of(solid.rotate(turn))
    far = mesh_of((arm ^ slab(thick + 0.4 * long, 300, -100, 100, -200, 200)).rotate(turn))
    held = mesh_of(slab(0, 1e-3, -wide / 2, wide / 2, 0, high).rotate(turn)).bounds.mean(axis=0)
    push = rng.normal(size=3)
    tip = far.vertices[np.argmax(np.linalg.norm(far.vertices - held, axis=1))]
    return mesh, held, tip, push / np.linalg.norm(push) * rng.uniform(5, 60)


def ranked(seed: int, purpose: Purpose) -> tuple[answer.PartFacts, answer.Strength, Ranking, answer.Ground]:
    mesh, held, tip, push = part_of(seed)
    part = answer.read_part(mesh)
    load = ForceLoad(at=tuple(tip), force_N=tuple(push))
    case = DesignCase(
        fixtures=(FixedFixture(at=tuple(held)),), cases=(LoadCase(name="a", loads=(load,)),), purpose=purpose
    )
    s = solving.strength(part, case, R, material("PETG"), 1500, exactly=True)
    ground = answer.ground(part, R, BED, 2000)
    return part, s, answer.orientations(part, case, s, BED, known=ground), ground


def net_best(part: answer.PartFacts, s: answer.Strength, ranking: Ranking, ground: answer.Ground) -> float:
    """The best score among all 2,000 directions, each standing on what it stands on."""
    at = ground.directions
    rated = rate(s.field, s.limits, at)
    feet = [f.footing for f in ranking.every]
    tall, surface = max(f.height for f in feet), float(part.mesh.areas.sum())
    broad = max(f.footing.contact for f in ranking.every)
    model = ranking.every[0]
    made = []
    for i in np.argsort(-rated.reserve)[::25].tolist() + np.argsort(ground.shape.overhang[: len(at)])[:40].tolist():
        foot = footing(part.mesh, at[i], R, BED)
        over = float(ground.shape.overhang[i])
        shares = over / surface, foot.height / tall, min(foot.contact / broad, 1.0)
        told = {"reserve": rated.range_of(i), "footing": foot, "overhang": over, "shares": shares, "lies_flat": True}
        made.append(replace(model, **told))
    from knollside.core.lay.orientations import WEIGHTS

    return max(w.score for w in weighed(replace(ranking, every=tuple(made)), WEIGHTS[ranking.purpose]).orientations)


@pytest.mark.parametrize("seed", range(20))
def test_what_is_offered_is_the_best_there_is_and_flat_before_leaning(seed: int) -> None:
    purpose = (Purpose.WORKING, Purpose.SHOW)[seed % 2]
    part, s, ranking, ground = ranked(seed, purpose)
    listed = ranking.orientations
    assert listed[0].score >= net_best(part, s, ranking, ground) - 0.1
    scored = weighed(replace(ranking, every=tuple(w for w in ranking.every if w.lies_flat)), WEIGHTS[purpose], 99)
    flat = [w.score for w in scored.orientations]
    assert flat and all(w.lies_flat or w.score > max(flat) + 0.1 for w in listed)
    assert all(w.lies_flat == (not w.title.startswith("Leaning") and "edges" not in w.title) for w in listed)
    # No near doubles; every sizeable flat was laid down, or one that lies flat within twelve degrees was.
    tried = [np.array(w.direction) for w in ranking.every]
    assert all(is_new(n, tried[:i]) for i, n in enumerate(tried))
    surface = float(part.mesh.areas.sum())
    for f in part.features:
        if f.kind == "flat" and f.area > 0.012 * surface:
            near = [w for w in ranking.every if np.dot(w.direction, f.axis) < -np.cos(np.radians(12.01))]
            assert near and (near[0].lies_flat or not lies_flat(part.mesh, part.features, -np.array(f.axis)))
    assert [w.letter for w in listed] == list("ABCDEFGHIJ")[: len(listed)]


def test_of_near_doubles_the_one_that_lies_flat_stays() -> None:
    """A bar with a foot out of one side: on the foot's rim and its own end it leans by six degrees."""
    bar = mesh_of(slab(0, 60, 0, 10, 0, 10) + slab(54, 60, 2, 8, -5, 0) + slab(20, 40, 0, 10, 10, 12))
    features = find_features(bar)
    found = candidates(bar, features, R)
    assert any(np.allclose(n, (0, 0, -1)) for n in found) and lies_flat(bar, features, np.array([0.0, 0.0, -1.0]))
    # Its underside is parallel to the bed but cannot lie on it: the way is looked at all the same.
    down = [n for n in found if n[2] > 0.97]
    assert len(down) == 1 and lies_flat(bar, features, down[0])
    ball = mesh_of(Solid.sphere(20, 64))
    assert len(candidates(ball, find_features(ball), R)) >= 6


def test_maxima_of_the_net_are_those_no_neighbour_beats() -> None:
    rng = np.random.default_rng(3)
    at = rng.normal(size=(1500, 3))
    at /= np.linalg.norm(at, axis=1)[:, None]
    peaks = np.array([(0, 0, 1.0), (0.8, 0.6, 0), (-1.0, 0, 0)])
    score = (np.array([3.0, 2.0, 1.0]) * np.exp(-((np.arccos(np.clip(at @ peaks.T, -1, 1)) / 0.5) ** 2))).max(axis=1)
    found = net_maxima(at, score, 3)
    for k, p in zip(found, peaks, strict=True):
        assert np.degrees(np.arccos(at[k] @ p)) < 8
