"""Screws as they hold: loose ones with play, tightened ones that relax, threads that pull out; walls that stick."""

from __future__ import annotations

import math

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import mesh_of

from knollside.core.job.stated import Stated
from knollside.core.material.allowables import allowables
from knollside.core.material.cards import material
from knollside.core.material.stiffness import creep_left
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    Array,
    DesignCase,
    Fixture,
    ForceLoad,
    LoadCase,
    Mesh,
    Recipe,
    Refused,
    ScrewFixture,
    SlidingFixture,
    Surroundings,
    ThreadFixture,
    WallFixture,
)
from knollside.core.strength.clamping import clamps, loosened, refuse_if_stripped
from knollside.core.strength.field import CaseAnswer, Medium, StressField, solve
from knollside.core.strength.hand_rules import by_hand
from knollside.core.strength.rules import Rule

E = 2000.0
HOLES = (20.0, 80.0)


def plate() -> Mesh:
    """100 x 30 x 6 with two holes of 5 mm."""
    made = m3.Manifold.cube((100, 30, 6))
    for x in HOLES:
        made -= m3.Manifold.cylinder(20, 2.5, circular_segments=96).translate((x, 15, -5))
    return mesh_of(made)


def pushed(held: tuple[Fixture, ...], force: tuple[float, float, float], at: tuple[float, float, float]) -> StressField:
    part = plate()
    case = DesignCase(fixtures=held, cases=(LoadCase(name="a", loads=(ForceLoad(at=at, force_N=force),)),))
    return solve(part, find_features(part), case, Medium(E), 12_000)


def loose(shank: float | None = None) -> tuple[ScrewFixture, ...]:
    return tuple(ScrewFixture(at=(x + 2.5, 15, 3), head_mm=10, shank_mm=shank, tight=False) for x in HOLES)


def at_end(answer: CaseAnswer) -> Array:
    return np.asarray(answer.displacement.mean(axis=0))


def test_a_part_on_loose_screws_slides_by_the_play_and_then_bears() -> None:
    snug, wide = (pushed(loose(s), (40, 0, 0), (100, 15, 3)).cases[0] for s in (5.0, 4.4))
    # Both shanks bear at once; a narrower arc of contact gives a little more.
    assert at_end(wide)[0] - at_end(snug)[0] == pytest.approx(0.3, rel=0.02)
    for answer in (snug, wide):
        total = sum(np.asarray(f) for _, f in answer.reactions)
        assert total == pytest.approx([-40, 0, 0], abs=0.4)
        # A shank only pushes: it bears on the walls that the push brings towards it, none of it beyond their middle.
        forces, points = answer.external.forces, answer.external.points
        wall = (answer.external.holder >= 0) & (np.abs(points[:, 2] - 3) < 2.99)
        assert forces[wall, 0].sum() == pytest.approx(-40, rel=0.02)
        for x in HOLES:
            here = wall & (np.abs(points[:, 0] - x) < 2.6)
            off = (points[here] - [x, 15, 0])[:, 0]
            assert forces[here, 0][off < 0.3].sum() == pytest.approx(forces[here, 0].sum(), rel=0.01)


def test_with_more_play_less_of_the_hole_bears() -> None:
    arcs = []
    for shank in (5.0, 4.9, 4.0):
        answer = pushed(loose(shank), (40, 0, 0), (100, 15, 3)).cases[0]
        mine = (answer.external.holder >= 0) & (np.linalg.norm(answer.external.forces, axis=1) > 0)
        points = answer.external.points[mine]
        wall = points[np.abs(points[:, 2] - 3) < 2.5]
        off = wall[np.abs(wall[:, 0] - 20) < 2.6] - [20, 15, 0]
        arcs.append(np.ptp(np.arctan2(off[:, 1], -off[:, 0])))
    # Snug it is about half the hole (Persson 1964: less than pi for a pin that fits).
    assert 2.2 < arcs[0] < math.pi + 0.1 and arcs[2] < arcs[1] < arcs[0]


def test_a_loose_head_pushes_back_and_the_plate_lifts_off_between() -> None:
    answer = pushed(loose(), (0, 0, 60), (50, 15, 6)).cases[0]
    total = sum(np.asarray(f) for _, f in answer.reactions)
    assert total == pytest.approx([0, 0, -60], abs=0.6)
    along, points = answer.external.forces[:, 2], answer.external.points
    for ring, sign in ((points[:, 2] > 5.99, -1), (points[:, 2] < 0.01, 1)):
        mine = ring & (answer.external.holder >= 0)
        # What of it would pull is what the contact is not settled by: a hundredth of all at most.
        assert np.maximum(-sign * along[mine], 0).sum() < 0.01 * np.abs(along[mine]).sum() + 0.6
    # It is free to turn on the rings where a tight one is built in, and so moves farther.
    tight = tuple(ScrewFixture(at=(x + 2.5, 15, 3), head_mm=10) for x in HOLES)
    stiff = pushed(tight, (0, 0, 60), (50, 15, 6)).cases[0]
    assert np.abs(answer.displacement[:, 2]).max() > 1.2 * np.abs(stiff.displacement[:, 2]).max()


def test_a_wall_that_sticks_holds_sideways_what_presses_on_it() -> None:
    part = plate()
    for sticks in (False, True):
        held = WallFixture(at=(50, 15, 0), sticks=sticks), SlidingFixture(at=(50, 0, 3))
        loads = (ForceLoad(at=(50, 15, 6), force_N=(8, 0, -50)),)
        case = DesignCase(fixtures=held, cases=(LoadCase(name="a", loads=loads),))
        if not sticks:
            with pytest.raises(Refused, match="slide along"):
                solve(part, find_features(part), case, Medium(E), 6000)
            continue
        answer = solve(part, find_features(part), case, Medium(E), 6000).cases[0]
        wall, side = (np.asarray(f) for _, f in answer.reactions)
        assert wall[[0, 2]] == pytest.approx([-8, 50], abs=0.1) and wall + side == pytest.approx([-8, 0, 50], abs=0.1)


def test_a_head_presses_with_what_is_left_of_its_tightening() -> None:
    part = plate()
    features = find_features(part)
    held = tuple(ScrewFixture(at=(x + 2.5, 15, 3), head_mm=10, tightened_N=300) for x in HOLES)
    case = DesignCase(
        fixtures=held, cases=(LoadCase(name="a", loads=(ForceLoad(at=(50, 15, 6), force_N=(0, 0, 60)),)),)
    )
    field = solve(part, features, case, Medium(E), 3000)
    ring = math.pi / 4 * (10**2 - 5**2)
    pressed = [
        r.stress[2]
        for r in by_hand(part, features, case, field.cases, Recipe(infill=1.0), (0.4,))
        if r.rule is Rule.HEAD
    ]
    assert pressed == pytest.approx([-(0.4 * 300 + 30) / ring] * 2, rel=0.01)


def test_a_thread_is_pulled_out_on_half_its_cylinder_and_stripped_by_tightening() -> None:
    part = plate()
    features = find_features(part)
    hole = math.pi * 5 * 6 / 2
    held = tuple(ThreadFixture(at=(x + 2.5, 15, 3), tightened_N=100) for x in HOLES)
    load = LoadCase(name="a", loads=(ForceLoad(at=(50, 15, 6), force_N=(0, 0, 80)),))
    case = DesignCase(fixtures=held, cases=(load,))
    field = solve(part, features, case, Medium(E), 3000)
    found = [
        r for r in by_hand(part, features, case, field.cases, Recipe(infill=1.0), (0.5,)) if r.rule is Rule.PULLED_OUT
    ]
    assert [np.abs(r.stress).max() for r in found] == pytest.approx([(40 + 50) / hole] * 2, rel=0.02)
    card = material("PETG")
    most = hole * card.pull.value / math.sqrt(3)
    refuse_if_stripped(part, features, case, card)
    hard = DesignCase(fixtures=(ThreadFixture(at=(22.5, 15, 3), tightened_N=1.05 * most),), cases=(load,))
    with pytest.raises(Refused, match=f"strips, at about {most:.0f} N"):
        refuse_if_stripped(part, features, hard, card)
    with pytest.raises(Refused, match="turned into a hole"):
        solve(part, features, DesignCase(fixtures=(ThreadFixture(at=(0, 15, 3)),), cases=(load,)), Medium(E), 3000)


def test_tightening_relaxes_as_stiffness_does_and_then_the_joint_slips_or_opens() -> None:
    part, card = plate(), material("PETG")
    features = find_features(part)
    held = tuple(ScrewFixture(at=(x + 2.5, 15, 3), head_mm=10, tightened_N=200) for x in HOLES)
    left = creep_left(card, 8760.0)
    for force, permanent, what in (
        ((0, 60, 0), False, ""),  # 30 N each against 0.2 of 200
        ((0, 60, 0), True, "slip"),
        ((0, 50, 200), False, "slip"),  # 25 N each against 0.2 of what 100 N of pull leaves
        ((0, 0, 2.2 * 200 * left.low), True, "open"),
        ((0, 0, 1.8 * 200 * left.low), True, ""),
    ):
        load = LoadCase(
            name="the push", loads=(ForceLoad(at=(50, 15, 6), force_N=force),), permanent=permanent, hours=8760.0
        )
        case = DesignCase(fixtures=held, cases=(load,), surroundings=Surroundings(temperature_c=25))
        field = solve(part, features, case, Medium(E), 3000)
        found = clamps(part, features, case, field.cases, card)
        assert len(found) == 2
        share = left if permanent else None
        assert found[0].left.low == pytest.approx(200 * (share.low if share else 1.0), rel=1e-6)
        assert np.hypot(found[0].pull, found[0].sideways) == pytest.approx(np.linalg.norm(force) / 2, rel=0.05)
        told = loosened(found)
        assert bool(told) == bool(what) and (not what or f"may {what}" in told)


def test_a_thread_that_strips_is_refused_before_anything_is_solved() -> None:
    held = (ThreadFixture(at=(22.5, 15, 3), tightened_N=5000.0),)
    load = LoadCase(name="a", loads=(ForceLoad(at=(100, 15, 3), force_N=(0, 0, -5)),))
    stated = Stated(design_case=DesignCase(fixtures=held, cases=(load,)), recipe=Recipe(infill=1.0))
    with pytest.raises(Refused, match="strips"):
        ask, rank = solving.ranking(plate(), stated, cells=3000)
        ask(rank)
    assert allowables(material("PETG"), Surroundings(), load).tension > 0
