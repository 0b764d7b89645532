"""Every kind of load and support against its closed form."""

import manifold3d as m3
import numpy as np
import pytest
from conftest import box, mesh_of
from pydantic import ValidationError

from knollside.core.material.allowables import allowables, fatigue
from knollside.core.material.cards import material
from knollside.core.mesh.features import find_features
from knollside.core.model import (
    GRAVITY,
    BearingLoad,
    DeflectionLoad,
    DesignCase,
    EdgeFixture,
    FixedFixture,
    Fixture,
    ForceLoad,
    Load,
    LoadCase,
    Mesh,
    Orientation,
    PinFixture,
    PressureLoad,
    Refused,
    ScrewFixture,
    SlidingFixture,
    SupportSettings,
    Surroundings,
    TorqueLoad,
    WeightLoad,
    fixture_of,
    load_of,
)
from knollside.core.strength.field import POISSON, Medium, StressField, solve
from knollside.core.strength.graded import Sizing
from knollside.core.units import QuantityError, parse

E = 2000.0


def run(
    mesh: Mesh,
    held: list[Fixture],
    loads: list[Load],
    probes: list[tuple],
    cells: int = 16_000,
    sizing: Sizing | None = None,
) -> StressField:
    design_case = DesignCase(fixtures=tuple(held), cases=(LoadCase(name="it", loads=tuple(loads)),))
    return solve(
        mesh, find_features(mesh), design_case, Medium(E), cells, probes=np.array(probes, float), sizing=sizing
    )


def test_a_torque_on_a_round_bar_gives_tr_over_j_and_its_twist() -> None:
    r, length, torque = 6.0, 60.0, 2000.0
    mesh = mesh_of(m3.Manifold.cylinder(length, r, circular_segments=96))
    at = [(r, 0, 30), (0, r, 30), (0.7 * r, 0.7 * r, 24), (r, 0, 45)]
    field = run(mesh, [FixedFixture(at=(0, 0, 0))], [TorqueLoad(at=(0, 0, length), torque_Nmm=torque)], at, 30_000)
    j = np.pi / 2 * r**4
    tau = np.hypot(field.probed[0, :3, 6], field.probed[0, :3, 7])
    assert tau == pytest.approx(torque * np.array([r, r, 0.99 * r]) / j, rel=0.03)
    twist = field.probed[0, 3, 1] / r
    assert twist == pytest.approx(torque * 45 / (E / (2 * (1 + POISSON)) * j), rel=0.02)
    assert field.cases[0].turning == pytest.approx(torque, rel=1e-3) and field.cases[0].pushing < 1e-6 * torque


@pytest.mark.parametrize("cells", [10_000, 16_000])
def test_pressure_in_a_thick_ring_is_lame(cells: int) -> None:
    """A quarter of a thick ring between two sliding cuts and a sliding base: hoop stress through the wall."""
    a, b, p, thick = 15.0, 30.0, 2.0, 6.0
    ring = m3.Manifold.cylinder(thick, b, circular_segments=192) - m3.Manifold.cylinder(
        thick + 2, a, circular_segments=192
    ).translate((0, 0, -1))
    mesh = mesh_of(ring ^ m3.Manifold.cube((50, 50, 50)).translate((0, 0, -1)))
    r = np.array([15.25, 18.0, 24.0])  # the first as deep as stress is judged; at the very wall it is 8 % unsure
    d = np.sqrt(0.5)
    held = [
        SlidingFixture(at=(0, 22, 3)),
        SlidingFixture(at=(22, 0, 3)),
        SlidingFixture(at=(16, 16, 0)),
    ]
    field = run(mesh, held, [PressureLoad(at=(a * d, a * d, 3), pressure_MPa=p)], [(x * d, x * d, 3) for x in r], cells)
    s = field.probed[0, :, 3:]
    hoop = (s[:, 0] + s[:, 1]) / 2 - s[:, 5]  # square to the radius at 45 degrees
    assert hoop == pytest.approx(p * a**2 / (b**2 - a**2) * (1 + b**2 / r**2), rel=0.03)


def test_a_hanging_weight_and_a_force_are_the_same_load() -> None:
    mesh = box(60, 10, 10)
    held, at = [FixedFixture(at=(0, 5, 5))], [(30, 5, 10)]
    weight = run(mesh, held, [WeightLoad(at=(60, 5, 5), weight_g=2000)], at, 4000)
    force = run(mesh, held, [ForceLoad(at=(60, 5, 5), force_N=(0, 0, -2 * GRAVITY))], at, 4000)
    assert weight.probed == pytest.approx(force.probed, rel=1e-9)


def test_a_bearing_load_presses_one_side_and_carries_the_whole_force() -> None:
    plate = m3.Manifold.cube((80, 30, 6)) - m3.Manifold.cylinder(20, 5, circular_segments=64).translate((65, 15, -5))
    field = run(
        mesh_of(plate),
        [FixedFixture(at=(0, 15, 3))],
        [BearingLoad(at=(70, 15, 3), force_N=(100, 0, 0))],
        [(30, 15, 3)],
    )
    e = field.cases[0].external
    mine = ~e.at_fixture
    assert e.forces[mine].sum(axis=0) == pytest.approx([100, 0, 0], abs=1e-6)
    assert (e.points[mine & (np.linalg.norm(e.forces, axis=1) > 1e-9)][:, 0] > 65 - 1e-9).all()
    assert field.probed[0, 0, 3] == pytest.approx(100 / 180, rel=0.05)


def test_a_pin_pushes_but_never_pulls() -> None:
    plate = m3.Manifold.cube((80, 30, 6)) - m3.Manifold.cylinder(20, 5, circular_segments=64).translate((65, 15, -5))
    held = [PinFixture(at=(70, 15, 3)), SlidingFixture(at=(40, 15, 0)), SlidingFixture(at=(40, 0, 3))]
    field = run(mesh_of(plate), held, [ForceLoad(at=(0, 15, 3), force_N=(-100, 0, 0))], [(30, 15, 3)], 6000)
    e = field.cases[0].external
    pin = e.at_fixture & (np.hypot(e.points[:, 0] - 65, e.points[:, 1] - 15) < 5.5)
    outward = e.points[pin, :2] - [65, 15]
    # The pin presses the wall away from itself; at the rim of the contact a spot may still flicker.
    pressing = np.einsum("ij,ij->i", e.forces[pin, :2], outward) / 5.0
    assert -pressing[pressing < 0].sum() < 0.01 * pressing.sum()
    assert (pressing == 0).mean() > 0.4, "more than the far half is let go"
    assert e.forces[pin].sum(axis=0)[0] == pytest.approx(100, rel=1e-3)
    assert field.probed[0, 0, 3] == pytest.approx(100 / 180, rel=0.03)
    assert field.balance_error < 1e-4


def test_a_screw_head_holds_on_its_ring_and_an_edge_along_its_line() -> None:
    plate = mesh_of(
        m3.Manifold.cube((80, 30, 6)) - m3.Manifold.cylinder(20, 2.5, circular_segments=48).translate((65, 15, -5))
    )
    load = [ForceLoad(at=(0, 15, 3), force_N=(0, 0, -5))]
    screw = run(plate, [ScrewFixture(at=(67.5, 15, 3), head_mm=10)], load, [(30, 15, 6)], 12_000)
    e = screw.cases[0].external
    radius = np.hypot(e.points[e.at_fixture][:, 0] - 65, e.points[e.at_fixture][:, 1] - 15)
    assert radius.min() > 2.4 and radius.max() <= 5.0 + 1e-9
    assert screw.probed[0, 0, 3] == pytest.approx(5 * 30 * 6 / (30 * 36), rel=0.03)
    edge = run(plate, [EdgeFixture(at=(80, 15, 6)), SlidingFixture(at=(40, 15, 0))], load, [(20, 15, 6)], 6000)
    on = edge.cases[0].external
    line = on.points[on.at_fixture & (on.points[:, 2] > 5.9)]
    assert len(line) > 5 and np.ptp(line[:, 1]) > 25 and np.abs(line[:, 0] - 80).max() < 1e-6


@pytest.mark.parametrize("sizing", [None, Sizing(np.array([[0.0, 5.0, 5.0]]), 0.25, 0.5)])
def test_a_snap_is_moved_and_judged_by_strain(sizing: Sizing | None) -> None:
    mesh = box(60, 10, 5)
    down = DeflectionLoad(at=(60, 5, 2.5), deflection_mm=(0, 0, -3))
    field = run(mesh, [FixedFixture(at=(0, 5, 2.5))], [down], [(20, 5, 5)], sizing=sizing)
    # The springs that move it push thousands of times harder than it needs: what is left over must be small beside it.
    assert field.balance_error < 1e-3
    i = 10 * 125 / 12
    force = 3 * 3 * E * i / (60**3 * (1 + 0.6 * (1 + POISSON) * (5 / 60) ** 2))
    assert field.cases[0].pushing == pytest.approx(force, rel=0.02)
    assert field.probed[0, 0, 3] == pytest.approx(force * 40 * 2.5 / i, rel=0.03)
    card = material("PETG")
    snap = LoadCase(name="x", loads=(DeflectionLoad(at=(0, 0, 0), deflection_mm=(0, 0, 1)),))
    a = allowables(card, Surroundings(), snap)
    assert a.tension == pytest.approx(card.snap.value / 100 * card.modulus.value)
    assert allowables(card, Surroundings(), LoadCase(name="x", loads=())).tension == card.pull.value


def test_treads_of_ones_own_replace_the_typical_ones_and_say_so() -> None:
    case = LoadCase(name="x", loads=(), permanent=True, repeated=True, cycles=1e5)
    plain = allowables(material("PETG"), Surroundings(), case)
    own = allowables(material("PETG"), Surroundings(), case, {"Always loaded": 0.5})
    assert own.tension / plain.tension == pytest.approx(0.5 / 0.33)
    assert [s.factor.source for s in own.knock_downs] == ["yours", "typical"]
    assert (
        fatigue(1).value == 1 and fatigue(1e3).value == pytest.approx(0.7) and fatigue(1e5).value < fatigue(1e3).value
    )


@pytest.mark.parametrize(
    ("held", "load", "words"),
    [
        (ScrewFixture(at=(0, 5, 2.5)), ForceLoad(at=(60, 5, 2.5), force_N=(0, 0, -1)), "clamps a hole"),
        (PinFixture(at=(0, 5, 2.5)), ForceLoad(at=(60, 5, 2.5), force_N=(0, 0, -1)), "carries a hole"),
        (SlidingFixture(at=(30, 5, 5)), ForceLoad(at=(60, 5, 2.5), force_N=(0, 0, -1)), "can still slide"),
        (FixedFixture(at=(0, 5, 2.5)), BearingLoad(at=(60, 5, 2.5), force_N=(0, 0, -1)), "wants a hole"),
        (FixedFixture(at=(0, 5, 2.5)), TorqueLoad(at=(60, 5, 2.5), torque_Nmm=0), "zero or has no direction"),
        (FixedFixture(at=(0, 5, 2.5)), ForceLoad(at=(0, 4, 2), force_N=(9, 0, 0)), "which is held"),
        (
            FixedFixture(at=(0, 5, 2.5)),
            TorqueLoad.model_construct(at=(60, 5, 2.5), feature=None, kind="torque", torque_Nmm=9, axis=(0, 0, 0)),
            "needs an axis",
        ),
    ],
)
def test_what_cannot_hold_or_push_is_refused_in_words(held: Fixture, load: Load, words: str) -> None:
    with pytest.raises(Refused, match=words):
        run(box(60, 10, 5), [held], [load], [(30, 5, 5)], 2000)


def test_the_worst_balance_of_any_case_is_told_and_a_bad_one_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    from knollside.core.strength import field

    errors = iter((0.002, 0.009, 0.001, 0.002, 0.3, 0.001))
    real = field._balance
    monkeypatch.setattr(field, "_balance", lambda *args: (*real(*args)[:2], next(errors)))
    cases = tuple(
        LoadCase(name=n, loads=(ForceLoad(at=(60, 5, 2.5), force_N=(0, 0, -1.0)),)) for n in ("one", "two", "three")
    )
    what = DesignCase(fixtures=(FixedFixture(at=(0, 5, 2.5)),), cases=cases)
    part = box(60, 10, 5)
    assert solve(part, find_features(part), what, Medium(2000.0), 1500).balance_error == 0.009
    with pytest.raises(Refused, match="30 % are left over"):
        solve(part, find_features(part), what, Medium(2000.0), 1500)


def test_a_face_clamped_along_its_edge_may_be_pushed() -> None:
    edges = [EdgeFixture(at=(0, 5, 5)), EdgeFixture(at=(60, 5, 5))]
    made = run(box(60, 10, 5), edges, [ForceLoad(at=(30, 5, 5), force_N=(0, 0, -1))], [(30, 5, 5)], 2000)
    assert made.balance_error < 0.01


def test_a_load_needs_the_number_of_its_kind_and_torque_reads_its_units() -> None:
    with pytest.raises(ValidationError, match="torque_Nmm"):
        TorqueLoad(at=(0, 0, 0))
    assert load_of({"at": [0, 0, 0], "kind": "torque", "torque_Nmm": "2 N m"}).torque_Nmm == 2000
    assert parse("2 N·m", "torque") == 2000 and parse("1 kgf cm", "torque") == pytest.approx(98.0665)
    with pytest.raises(QuantityError):
        parse("2 kg", "torque")
    doubled = DeflectionLoad(at=(0, 0, 0), deflection_mm=(0, 1, 0)).times(2)
    assert doubled.deflection_mm == (0, 2, 0)


WRITTEN_BEFORE = {"feature": "flat-1", "at": None, "force_N": [0.0, 0.0, 0.0], "pressure_MPa": None, "axis": None}


def test_records_of_the_time_of_one_record_for_all_kinds_are_read_and_a_second_number_is_refused() -> None:
    weight = WRITTEN_BEFORE | {"kind": "weight", "weight_g": 800.0, "torque_Nmm": None, "deflection_mm": None}
    assert load_of(weight) == WeightLoad(feature="flat-1", weight_g=800.0)
    assert load_of({"feature": "a", "force_N": [1, 2, 2]}) == ForceLoad(feature="a", force_N=(1, 2, 2))
    with pytest.raises(ValidationError, match="force_N"):
        load_of(weight | {"force_N": [0, 0, -5.0]})
    with pytest.raises(ValidationError, match="'gale' found using"):
        load_of({"feature": "a", "kind": "gale"})
    assert fixture_of({"feature": "a", "kind": "pin", "head_mm": None}) == PinFixture(feature="a")
    assert fixture_of({"at": [0, 0, 1]}) == FixedFixture(at=(0, 0, 1))
    with pytest.raises(ValidationError, match="head_mm"):
        fixture_of({"feature": "a", "kind": "fixed", "head_mm": 9.0})
    design_case = DesignCase(
        fixtures=(PinFixture(feature="a"),), cases=(LoadCase(name="x", loads=(WeightLoad(feature="b", weight_g=1),)),)
    )
    short = design_case.model_dump(mode="json", exclude_defaults=True)
    assert short["fixtures"][0]["kind"] == "pin" and short["cases"][0]["loads"][0]["kind"] == "weight"
    assert DesignCase.model_validate(short) == design_case
    assert DesignCase.model_validate({"held": [{"feature": "a", "kind": "pin"}]}).fixtures == design_case.fixtures
    before = {"direction": [0, 0, 1], "holding": {"school": "all"}}
    assert Orientation.model_validate(before).support_settings == SupportSettings(preset="all")
