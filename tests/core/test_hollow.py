"""Infill torn and shells wrinkled, against sandwich theory."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import box

from knollside.core.material.infill import PATTERNS, strength_share
from knollside.core.mesh.features import find_features
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase
from knollside.core.strength.field import Medium, StressField, solve
from knollside.core.strength.graded import Sizing
from knollside.core.strength.hollow import Hollow
from knollside.core.strength.rules import Rule
from knollside.core.strength.set_out import CellSize
from knollside.core.strength.skin import Skin

E, WIDE, DEEP, SKIN, LONG, LOAD = 2000.0, 20.0, 14.0, 2.0, 100.0, 30.0


def sandwich(core: float, strength: float, pull: float, sizing: Sizing | None = None) -> StressField:
    """A cantilever of two skins 2 mm thick with 10 mm of infill between and open sides, pressed down at its end."""
    part = box(LONG, WIDE, DEEP)
    case = LoadCase(name="a", loads=(ForceLoad(at=(LONG, 10, 7), force_N=(0, 0, -LOAD)),))
    medium = Medium(E, skin=Skin(0.0, SKIN, core, (0.0, 0.0, 1.0)), hollow=Hollow(strength, pull, 4.0))
    design_case = DesignCase(fixtures=(FixedFixture(at=(0, 10, 7)),), cases=(case,))
    return solve(part, find_features(part), design_case, medium, CellSize(1.0), sizing=sizing)


def at_rule(f: StressField, rule: Rule, x: tuple[float, float]) -> tuple[np.ndarray, np.ndarray]:
    """Points and stresses of one rule between two places along the beam."""
    base = len(f.points) - len(f.rules)
    mine = base + np.flatnonzero(f.rules == int(rule))
    mine = mine[(f.points[mine, 0] > x[0]) & (f.points[mine, 0] < x[1])]
    return f.points[mine], f.stress[0, mine]


@pytest.mark.parametrize("close", [False, True])
def test_infill_between_two_skins_carries_the_shear(close: bool) -> None:
    """V / (b d), d between the middles of the skins (Allen 1969), over what the infill bears."""
    sizing = Sizing(np.array([[0.0, 10.0, 14.0]]), 0.25, 0.25) if close else None
    f = sandwich(0.02, 0.01, 45.0, sizing)
    points, stress = at_rule(f, Rule.CORE, (40, 60))
    middle = np.abs(points[:, 1] - 10) < 6
    told = np.abs(stress[middle, 4]).mean()
    assert told == pytest.approx(LOAD / (WIDE * (DEEP - SKIN)) / 0.01, rel=0.06)
    # The weaker the infill for its stiffness, the nearer it is told to be to its end.
    assert np.abs(at_rule(sandwich(0.02, 0.005, 45.0), Rule.CORE, (40, 60))[1][:, 4]).mean() == pytest.approx(
        2 * told, rel=0.05
    )


def test_a_pressed_skin_over_soft_infill_wrinkles() -> None:
    """M / (b t d) in the skin, held against 0.5 (Ef Ec Gc)^(1/3)."""
    soft, pull = 0.012, 45.0
    f = sandwich(soft, 0.002, pull)
    points, stress = at_rule(f, Rule.WRINKLING, (45, 55))
    middle = np.abs(points[:, 1] - 10) < 6
    points, stress = points[middle], stress[middle]
    assert len(points) and (points[:, 2] < SKIN).all(), "only the lower skin is pressed"
    wrinkles = 0.5 * (E * soft * E * soft * E / 2.7) ** (1 / 3)
    assert wrinkles < pull
    far = DEEP - SKIN
    bending = LOAD * (LONG - points[:, 0]) / (WIDE * SKIN * far) * (DEEP / 2 - 0.25) / (far / 2)
    assert -stress[:, 0] * wrinkles / pull == pytest.approx(bending, rel=0.08)
    stiff = sandwich(0.2, 0.1, pull)
    assert not (stiff.rules == int(Rule.WRINKLING)).any(), "over firm infill the skin breaks before it wrinkles"


@pytest.mark.parametrize("name", PATTERNS)
def test_infill_is_never_stronger_than_its_share_and_closes_up_to_solid(name: str) -> None:
    density = np.array([0.05, 0.1, 0.2, 0.4, 0.6, 0.8, 0.9])
    share = np.array([strength_share(name, float(d)) for d in density])
    assert (np.diff(share) > 0).all() and (share <= density).all()
    assert strength_share(name, 0.98) == 1.0


def test_thin_upright_walls_buckle_before_they_break() -> None:
    # A grid of 8 %: walls 0.04 of their span thick buckle at 3.6 E (t / l)^2 (Timoshenko), E 40 times the strength.
    assert strength_share("grid", 0.08) == pytest.approx(0.5 * 0.08 * 3.6 * 40 * 0.04**2)
    assert strength_share("grid", 0.3) == pytest.approx(0.15)
