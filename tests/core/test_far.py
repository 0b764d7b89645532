"""Parts that move far, against the elastica and the beam under thrust."""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import pytest
import solving
from conftest import box, mesh_of
from scipy.integrate import solve_bvp
from scipy.optimize import brentq
from scipy.spatial.transform import Rotation

from knollside.core.job.questions.detail import Detail
from knollside.core.job.questions.far import Turning
from knollside.core.job.questions.settling import Settle
from knollside.core.job.stated import Stated
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    Array,
    DeflectionLoad,
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Recipe,
)
from knollside.core.strength.bodies import PlainBody
from knollside.core.strength.field import Medium, body_of
from knollside.core.strength.large import _Turning, move_large
from knollside.core.strength.multigrid import NotSettled
from knollside.core.strength.set_out import CellSize, SetOut, set_out

E, LONG, WIDE, HIGH = 2000.0, 100.0, 6.0, 4.0
INERTIA = WIDE * HIGH**3 / 12


def elastica(k: float) -> tuple[float, float, float]:
    """A strip built in at one end under k E I / L^2 across its free end: how far that goes down and back, and the
    moment at the root, in lengths; theta'' = -k cos theta (W. E. Bisshopp, D. C. Drucker 1945)."""
    s = np.linspace(0, 1, 201)
    found = solve_bvp(
        lambda _, y: np.vstack([y[1], -k * np.cos(y[0])]),
        lambda a, b: np.array([a[0], b[1]]),
        s,
        np.vstack([0.3 * k * s, 0.3 * k * (1 - s)]),
        tol=1e-8,
    )
    angle = found.sol(s)[0]
    down, along = np.trapezoid(np.sin(angle), s), np.trapezoid(np.cos(angle), s)
    return float(down), float(1 - along), float(found.sol(0)[1] / k)


def test_the_elastica_is_the_published_one() -> None:
    assert elastica(1.0)[:2] == pytest.approx((0.30172, 0.05643), abs=1e-4)
    assert elastica(2.0)[:2] == pytest.approx((0.49346, 0.16064), abs=1e-4)


def strip(tilt: float, force: Array, cell: float = 1.0) -> tuple[SetOut, PlainBody, Array, Array]:
    """A strip turned by ``tilt`` degrees about two axes, held at one end and pushed at the other: its grid, its body,
    which corners are its end, and the turn."""
    turn = Rotation.from_euler("zy", [tilt, tilt], degrees=True).as_matrix()
    mesh = mesh_of(m3.Manifold.cube((LONG, WIDE, HIGH)).rotate((0, 0, tilt)).rotate((0, tilt, 0)))
    middle = [turn @ np.array([x, WIDE / 2, HIGH / 2]) for x in (0.0, LONG)]
    f = turn @ np.asarray(force, float)
    load = ForceLoad(at=tuple(middle[1]), force_N=tuple(f))
    case = DesignCase(fixtures=(FixedFixture(at=tuple(middle[0])),), cases=(LoadCase(name="a", loads=(load,)),))
    laid = set_out(mesh, find_features(mesh), case, CellSize(cell), None)
    body = body_of(laid, Medium(E))
    assert isinstance(body, PlainBody)
    end = np.abs((laid.grid.points - middle[1]) @ turn[:, 0]) < 0.6
    return laid, body, end, turn


@pytest.mark.parametrize(("tilt", "k"), [(0.0, 1.0), (0.0, 2.0), (25.0, 1.0)])
def test_a_strip_bends_far_as_the_elastica_does(tilt: float, k: float) -> None:
    laid, body, end, turn = strip(tilt, np.array([0, 0, -k * E * INERTIA / LONG**2]))
    found = move_large(body, laid.cases[0], [h for h, _ in laid.held], E)
    moved = found.u[end].mean(axis=0) @ turn / LONG
    down, back, _ = elastica(k)
    off = 0.01 if tilt == 0 else 0.04  # a leaning strip four cells high is some per cent off by itself
    assert -moved[2] == pytest.approx(down, rel=off) and -moved[0] == pytest.approx(back, rel=2 * off)


def test_a_part_turned_as_a_whole_is_not_strained() -> None:
    laid, body, _, _ = strip(0.0, np.array([0, 0, -1.0]), 2.0)
    cells = _Turning(body, [h for h, _ in laid.held], E)
    points = laid.grid.points
    for angle in (10.0, 75.0):
        turned = points @ Rotation.from_euler("xyz", [angle, -angle, 0.5 * angle], degrees=True).as_matrix().T + 3.0
        forces, _ = cells.forces((turned - points).ravel())
        assert np.abs(forces).max() < 1e-6 * E and np.abs(cells.samples().values).max() < 1e-7 * E


@pytest.mark.parametrize("share", [0.5, -1.0])
def test_thrust_makes_a_beam_softer_and_pull_stiffer(share: float) -> None:
    """Beam under thrust P and a small push Q at its end: Q (tan kL - kL) / (P k), k^2 = P / E I (Timoshenko, Gere)."""
    thrust = share * np.pi**2 * E * INERTIA / (4 * LONG**2)
    laid, body, end, _ = strip(0.0, np.array([-thrust, 0, -0.002 * abs(thrust)]))
    found = move_large(body, laid.cases[0], [h for h, _ in laid.held], E)
    k = np.sqrt(complex(thrust / (E * INERTIA)))
    bent = (0.002 * abs(thrust) * (np.tan(k * LONG) - k * LONG) / (thrust * k)).real
    assert -found.u[end][:, 2].mean() == pytest.approx(bent, rel=0.015)


def test_beyond_what_buckles_nothing_wrong_is_told() -> None:
    laid, body, end, _ = strip(0.0, np.array([-8 * np.pi**2 * E * INERTIA / (4 * LONG**2), 0, -0.001]))
    try:
        found = move_large(body, laid.cases[0], [h for h, _ in laid.held], E)
    except NotSettled:
        return
    # Straight is a balance too, though not one that stays.
    assert np.abs(found.u[end][:, 2]).max() < 0.5 * LONG


def stated(load: ForceLoad | DeflectionLoad, **how: bool | float) -> Stated:
    case = LoadCase(name="a", loads=(load,), **how)  # type: ignore[arg-type]
    return Stated(
        design_case=DesignCase(fixtures=(FixedFixture(at=(0, 3, 2)),), cases=(case,)), recipe=Recipe(infill=1.0)
    )


def test_a_far_moved_strip_is_told_by_the_elastica_in_movement_and_reserve() -> None:
    up = (0.0, 0.0, 1.0)
    mesh = box(LONG, WIDE, HIGH)
    modulus = 1800.0
    k = 1.2
    what = stated(ForceLoad(at=(LONG, 3, 2), force_N=(0, 0, -k * modulus * INERTIA / LONG**2)))
    ask, rank = solving.ranking(mesh, what, 5000, True, 200)
    strength = ask(rank.strength)
    assert strength.card.modulus.value == modulus and "small movements" in strength.moves_far
    turned = ask(Turning(rank.strength, (up,)))
    down, back, moment = elastica(k)
    assert turned.movement == pytest.approx(np.hypot(down, back) / (k / 3), rel=0.02)
    assert turned.reserves[0] == pytest.approx(1 / moment, rel=0.03)
    assert turned.solved and "solved with its turning" in turned.words
    settled, detail = ask(Settle(rank)), ask(Detail(rank.strength, (200.0, 200.0, 200.0), up))
    assert settled.ranked.moves_far == turned.words == detail.moves_far
    assert detail.movement.mm.value == pytest.approx(LONG * np.hypot(down, back), rel=0.03)
    # The same load for ten years: it creeps, moves farther, and turns as a softer strip does.
    lasting = stated(what.design_case.cases[0].loads[0], permanent=True)
    ask, rank = solving.ranking(mesh, lasting, 5000, True, 200)
    softer = ask(rank.strength).movement
    soft = k * softer.mm.value / softer.at_once
    assert soft > 1.5 * k
    down, back, _ = elastica(soft)
    turned = ask(Turning(rank.strength, (up,)))
    assert turned.movement == pytest.approx(np.hypot(down, back) / (soft / 3), rel=0.03)


def test_an_end_that_is_moved_far_takes_the_force_of_the_elastica_and_what_hardly_moves_is_left_alone() -> None:
    up = (0.0, 0.0, 1.0)
    mesh = box(LONG, WIDE, HIGH)
    ask, rank = solving.ranking(mesh, stated(ForceLoad(at=(LONG, 3, 2), force_N=(0, 0, -0.5))), 5000, True, 200)
    nothing = ask(Turning(rank.strength, (up,)))
    assert not nothing.words and nothing.movement == 1.0 and nothing.solved
    ask, rank = solving.ranking(
        mesh, stated(DeflectionLoad(at=(LONG, 3, 2), deflection_mm=(0, 0, -30))), 5000, True, 200
    )
    turned = ask(Turning(rank.strength, (up,)))
    k = brentq(lambda k: elastica(k)[0] - 0.3, 0.5, 1.5)
    down, back, moment = elastica(k)
    assert turned.solved and turned.movement == pytest.approx(np.hypot(down, back) / 0.3, rel=0.01)
    assert turned.reserves[0] == pytest.approx(3 * 0.3 / (k * moment), rel=0.02)
