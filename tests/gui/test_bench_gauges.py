"""Bench: drills tried one after another, another print, things of known size, and what the readings tell."""

from __future__ import annotations

import pytest
from conftest import Desk, pick, seen, turn_to, type_in
from conftest import press_in_panel as press
from gui.test_fits_pages import enter_reading, part

from knollside.core.model import Measurement


def test_a_hole_is_gauged_by_drills_and_a_second_print_is_told_apart(desk: Desk) -> None:
    part(desk, "Vent hinge", "Bench")
    bench = desk.window.steps["Bench"].measuring
    desk.settle(lambda: bench.slip.count > 0)
    before, spot = len(desk.part.readings), bench.spot()
    pick(desk, "What is measured with", "drills by 0.1 mm")
    pick(desk, "Along which axis", "along X")
    true = spot.drawn - 0.17
    for _ in range(12):
        if bench.spot().name != spot.name:
            break
        size = bench.slip.gauge
        assert f"Try {size:.2f} mm" in bench.measure.how.text()
        press(desk, "Goes in" if size <= true else "Does not")
        desk.settle()
    kept = desk.part.readings[-1]
    assert len(desk.part.readings) == before + 1 and kept.between is not None
    assert kept.between[0] <= true < kept.between[1] and kept.across == "x" and kept.place == spot.name
    first = kept.bar
    press(desk, "Another print")
    assert bench.spot().name == spot.name and "Print 2" in bench.said.text()
    pick(desk, "What is measured with", "calliper")
    enter_reading(desk, f"{true:.2f}")
    desk.settle()
    assert desk.part.readings[-1].bar == f"{first}, print 2" and desk.part.readings[-1].on == kept.on
    desk.workspace.take_back()
    desk.settle()
    assert len(desk.part.readings) == before + 1


def test_a_thing_of_known_size_tells_of_the_calliper_and_the_page_says_so(desk: Desk) -> None:
    part(desk, "Vent hinge", "Bench")
    bench = desk.window.steps["Bench"].measuring
    pick(desk, "Piece to measure", "Things of known size")
    desk.settle(lambda: bench.slip.count == 4)
    assert "known to be 8 mm" in bench.measure.place.text()
    enter_reading(desk, "7.94")
    desk.settle()
    assert desk.part.readings[-1].kind == "known hole"
    turn_to(desk, "This printer")
    desk.settle(lambda: desk.fresh("told") is not None and desk.fresh("fits") is not None)
    words = seen(desk)
    assert "Your calliper reads holes -0." in words
    assert "Worth most next" in words or "No single reading" in words


def test_hardware_is_written_as_people_do(desk: Desk) -> None:
    part(desk, "Hose arm", "Fits")
    desk.settle(lambda: desk.fresh("fits") is not None)
    desk.session.pick("hole-1")
    desk.settle()
    type_in(desk, "What goes in hole-1, as written", "m4x12")
    desk.settle(lambda: next(m for m in desk.part.mates if m.feature == "hole-1").hardware == "M4")
    type_in(desk, "What goes in hole-1, as written", "a thing")
    desk.settle()
    assert next(m for m in desk.part.mates if m.feature == "hole-1").hardware == "M4"


def test_a_bar_read_from_the_other_end_is_put_in_order_and_undone(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    drawn = (3.0, 4.0, 5.0, 6.0, 8.0, 10.0)
    sizes = [d - 0.2 + 0.01 * (k % 2) for k, d in enumerate(drawn)]
    wrong = tuple(
        Measurement(kind="hole", axis="upright", drawn=d, printed=v, bar="backward bar")
        for d, v in zip(drawn, sizes[::-1], strict=True)
    )
    desk.workspace.kept.add_readings(wrong, "a bar")
    desk.window.take("Bench")
    turn_to(desk, "This printer")
    desk.settle(lambda: desk.fresh("told") is not None)
    assert "The readings of backward bar agree with each other only in another order" in seen(desk)
    press(desk, "Put them in that order")
    desk.settle(lambda: desk.fresh("told") is not None and not desk.fresh("told").disorders)

    def kept() -> list[float]:
        return [m.printed for _, _, m in desk.part.dated_readings if m.bar == "backward bar"]

    assert kept() == pytest.approx(sizes) and "only in another order" not in seen(desk)
    desk.workspace.take_back()
    desk.settle()
    assert kept() == pytest.approx(sizes[::-1])


def test_readings_know_the_lot_sheet_and_nozzle_they_were_printed_with(desk: Desk) -> None:
    part(desk, "Vent hinge", "Bench")
    bench = desk.window.steps["Bench"].measuring
    desk.settle(lambda: bench.slip.count > 0)
    type_in(desk, "Spool lot it was printed with", "A 12")
    type_in(desk, "Sheet it was printed on", "smooth")
    type_in(desk, "Hours of the nozzle", "many")
    assert "'many' is no number of hours" in bench.said.text()
    type_in(desk, "Hours of the nozzle", "120,5")
    enter_reading(desk, f"{bench.spot().drawn - 0.2:.2f}")
    kept = desk.part.readings[-1]
    assert (kept.lot, kept.sheet, kept.nozzle_hours) == ("A 12", "smooth", 120.5)
    # Another lot later: what was learned of the first counts through a jump.
    type_in(desk, "Spool lot it was printed with", "B 3")
    enter_reading(desk, f"{bench.spot().drawn - 0.2:.2f}")
    assert desk.part.readings[-1].lot == "B 3" and desk.part.readings[-2].lot == "A 12"
