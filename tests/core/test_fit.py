"""Fits: the process learned from readings, hardware and windows, corrections with their odds."""

from __future__ import annotations

import math

import numpy as np
import pytest
from conftest import plate_with_hole

from knollside.core.fit.correction import correct
from knollside.core.fit.flaring import learn_flare
from knollside.core.fit.hardware import ISO_273, catalogue, item, names, suggestion
from knollside.core.fit.process import (
    learn,
)
from knollside.core.fit.windows import CLASSES, target, windows_for
from knollside.core.mesh.features import find_features
from knollside.core.model import Feature, Mate, Measurement, Range, Refused
from knollside.sim.desk import SimulatedCalliper, SimulatedPrinter

UP = (0.0, 0.0, 1.0)


def mate(hardware: str = "M5", fit: str = "medium", **more) -> Mate:  # type: ignore[no-untyped-def]
    return Mate(feature="hole-1", hardware=hardware, fit=fit, **more)


def round_of(kind: str, d: float, name: str = "") -> Feature:
    return Feature(name or f"{kind}-1", kind, (0, 0, 0), UP, np.zeros(0, int), 0.0, d, 8.0, True, 48)


def test_hardware_sizes_are_those_of_the_standard() -> None:
    assert ISO_273["M5"] == (5.0, 5.3, 5.5, 5.8) and ISO_273["M12"] == (12.0, 13.0, 13.5, 14.5)
    assert target(mate(), True, 5.0).size == 5.5
    slide = target(mate(fit="slide"), True, 5.0)
    assert (slide.size, slide.low, slide.high) == pytest.approx((5.25, 5.15, 5.35))
    assert target(mate("rod 8 mm", "press"), False, 8.0).size == pytest.approx(8.05)
    assert suggestion(5.3) == ("M5", "close") and suggestion(10.2, "hexagon") == ("nut M6", "snug")
    quarter = item("1/4 in")
    assert quarter.size == pytest.approx(6.35) and quarter.bores["medium"][1] == pytest.approx(0.281 * 25.4)
    assert item("#8").bores["thread"][1] == pytest.approx((0.164 - 1 / 32) * 25.4)  # nominal less pitch
    assert item("bearing 608").size == 22 and item("bore of 608").size == 8 and item("nut M6").size == 10
    assert all(i.bores or i.classes for i in catalogue().values()) and len(catalogue()) > 120
    assert "nut M6" in names("hexagon", 10.2) and "M5" in names("hole", 5.3) and "M20" not in names("hole", 5.3)
    for hardware, fit, hole in (("M99", "medium", True), ("rod 5 mm", "coarse", True), ("M5", "close", False)):
        with pytest.raises(Refused):
            target(mate(hardware, fit), hole, 5.0)


def test_a_thing_counts_with_its_sleeve_and_a_material_with_its_windows() -> None:
    thing = mate("as drawn", "slide", size_mm=20, sleeve_mm=1.5, tolerance_mm=0.2)
    want = target(thing, True, 22)
    assert (want.low, want.high) == pytest.approx((20 + 3 + 0.2 + 0.15, 20 + 3 + 0.2 + 0.35))
    assert want.partner == 23
    own = windows_for("PETG", {"slide": (0.3, 0.4)})
    assert target(mate("rod 8 mm", "slide"), True, 8, own).size == pytest.approx(8.35)
    assert windows_for("TPU 95A")["press"] != CLASSES["press"] and windows_for("PETG") == CLASSES
    assert target(mate("rod 8 mm", "slide", window=(0.1, 0.2)), True, 8).size == pytest.approx(8.15)
    with pytest.raises(ValueError, match="window"):
        mate(window=(0.3, 0.1))


def readings(errors: list[float], kind: str = "hole", drawn: float = 5.0) -> list[Measurement]:
    return [Measurement(kind=kind, axis="upright", drawn=drawn, printed=drawn + e) for e in errors]


def test_the_closed_loop_centres_the_error() -> None:
    """Measure a simulated printer's holes, correct, print again: the error goes to nothing."""
    rng = np.random.default_rng(3)
    printer, calliper = SimulatedPrinter(), SimulatedCalliper()
    f = find_features(plate_with_hole(48, 5.5))[0]
    off = []
    for _ in range(60):
        taken = [
            Measurement(
                kind="hole",
                axis="upright",
                drawn=d,
                printed=calliper.read(printer.printed("hole", "upright", d, rng), rng),
            )
            for d in (4, 5, 5.5, 6) * 2
        ]
        c = correct(f, mate(), UP, taken)
        off.append(printer.printed("hole", "upright", c.to_mm, rng) - 5.5)
        assert c.low < c.to_mm < c.high and c.chance_then[1] > c.chance_now[1]
    assert abs(float(np.mean(off))) < 0.02


@pytest.mark.parametrize(("side", "moves"), [("hole", (1, 0)), ("pin", (0, 1)), ("both", (0.5, 0.5))])
def test_printed_partners_share_the_change_as_told(side: str, moves: tuple[float, float]) -> None:
    hole, pin = round_of("hole", 8.0), round_of("pin", 8.0)
    two = mate("as drawn", "slide", partner="pin-1", side=side)
    a = correct(hole, two, UP, [], pin)
    b = correct(pin, two.model_copy(update={"feature": "pin-1", "partner": "hole-1"}), UP, [], hole)
    up, over = learn([], "hole", "upright", 8.0), learn([], "pin", "upright", 8.0)
    whole = 0.25 - (up.value - over.value)  # to the middle of the window; the shift of what moved is a little another
    assert a.to_mm - 8 == pytest.approx(moves[0] * whole, abs=2e-3)
    assert 8 - b.to_mm == pytest.approx(moves[1] * whole, abs=2e-3)
    # Whoever moves, the gap is then in the middle, and both say the same of it.
    assert a.chance_then == pytest.approx(b.chance_then) and abs(a.chance_then[0] - a.chance_then[2]) < 0.01
    # Of one print: what it is off by closes the hole and swells the pin, so it is wider than two that do not know
    # of each other.
    assert a.sigma > math.hypot(up.sigma, over.sigma) and a.chance_now[0] > 0.9
    with pytest.raises(Refused, match="not a hole and a pin"):
        correct(hole, two, UP, [], round_of("hole", 8.0, "hole-2"))


def test_a_round_lying_hole_is_tighter_from_top_to_bottom() -> None:
    lying = (1.0, 0.0, 0.0)
    plain, tear = (
        correct(round_of("hole", 6), mate("rod 6 mm", "slide", shape=s), lying, []) for s in ("round", "teardrop")
    )
    across, plumb = (learn([], "hole", axis, 6) for axis in ("lying", "plumb"))
    drop = across.value - plumb.value
    assert drop == pytest.approx(0.14, abs=0.01) and plain.to_mm - tear.to_mm == pytest.approx(drop / 2, abs=1e-3)
    # Its two sizes lie to either side of the window's middle, and the lesser one binds.
    want = plain.target
    binds = across.one.below(want.low - want.size + drop / 2 + across.value)
    assert plain.chance_then[0] == pytest.approx(binds, abs=2e-3)
    assert plain.chance_then[0] == pytest.approx(plain.chance_then[2]) and plain.chance_then[1] < tear.chance_then[1]


def test_paint_is_left_room_for_and_adds_its_doubt() -> None:
    bare, painted = (
        correct(round_of("hole", 8), mate("rod 8 mm", "slide", finish=f), UP, []) for f in ("none", "paint")
    )
    assert painted.to_mm - bare.to_mm == pytest.approx(2 * 0.06, abs=0.001) and painted.sigma > bare.sigma
    pin = correct(round_of("pin", 8), mate("tube 8 mm", "slide", finish="paint"), UP, [])
    assert pin.target.size == pytest.approx(8 - 0.25 - 0.12)
    assert correct(round_of("hole", 8), mate("rod 8 mm", "slide", finish_mm=0.1), UP, []).coat.source == "yours"


def test_flare_is_the_foot_less_what_outsides_grow() -> None:
    outside = readings([0.06] * 12, "pin", 20.0)
    feet = [Measurement(kind="foot", axis="upright", drawn=20, printed=20.06 + 2 * f) for f in (0.2, 0.22, 0.18, 0.2)]
    got = learn_flare([*outside, *feet])
    assert got.value == pytest.approx(0.2, abs=0.01) and got.low < 0.2 < got.high and got.source == "yours, 4"
    assert isinstance(learn_flare(outside), Range) and learn_flare(outside).source == "typical"
