"""Workshop's spools and printers, clicked: weighed, dried, squared, and what a change does to what was learned."""

from __future__ import annotations

import csv
import json
import math
import os
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
from conftest import Desk, pick, press, press_in_panel, seen, type_in
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox

from knollside.core.job.answer import laid
from knollside.core.mesh.load import load_file
from knollside.core.model.running import Dried, SpoolLog, Stay
from knollside.core.run.square import Square, frame_of
from knollside.sim.desk import frame_named
from knollside.sim.shelf import SimulatedScale, SimulatedSpool, spool_named

SHOTS = os.environ.get("KNOLL_SHOTS", "")


def shot(desk: Desk, name: str) -> None:
    if SHOTS:
        desk.window.resize(1280, 800)
        desk.settle()
        desk.window.grab().save(f"{SHOTS}/{name}.png")


@pytest.fixture
def shelf(desk: Desk) -> Desk:
    return desk.at("Workshop", "Spools")


def page(desk: Desk):  # type: ignore[no-untyped-def]
    return desk.window.steps["Workshop"].spool


def test_a_spool_is_weighed_by_hand_and_by_the_scale_and_what_cannot_be_is_refused(shelf: Desk) -> None:
    logs = lambda: shelf.workspace.shelf.spool_logs  # noqa: E731
    pick(shelf, "Spool to describe", "PETG green")
    number = page(shelf).spool.id
    type_in(shelf, "Empty spool's grams", "230")
    press_in_panel(shelf, "Read the scale")
    (first,) = logs()[number].weighings
    truth = spool_named("PETG green", 640)
    assert first.gross_g == pytest.approx(truth.tare + truth.filament * (1 + truth.water / 100), abs=2.5)
    assert first.source == "simulated" and "weighed" in seen(shelf)
    type_in(shelf, "Gross grams", "100")
    assert len(logs()[number].weighings) == 1 and "less than the empty spool" in shelf.window.note.text()
    type_in(shelf, "Gross grams", "780")
    assert len(logs()[number].weighings) == 2
    # By weight 550 g, by what it was said to hold 640: that is said, and weight counts.
    assert "By weight 550 g are left, by its prints 640" in seen(shelf)
    shelf.workspace.take_back()
    assert len(logs()[number].weighings) == 1
    page(shelf).scale = SimulatedScale(unplugged_after=0)
    press_in_panel(shelf, "Read the scale")
    assert "went away" in shelf.window.note.text() and len(logs()[number].weighings) == 1
    shot(shelf, "spools")


def test_a_wet_spool_is_told_and_dried_by_weighings_in_between(shelf: Desk) -> None:
    pick(shelf, "Spool to describe", "Nylon")
    assert "Dry Nylon before it prints." in shelf.window.verdict_line.title.text()
    spool = page(shelf).spool
    before = page(shelf).verdict()
    start = 1230.0
    # A spool that loses four fifths of 1.6 % of 288 g, as a cylinder whose half time is an hour and a half.
    for hours, lost in ((0.0, 0.0), (1.0, 1.6), (2.0, 2.2), (4.0, 3.0), (6.0, 3.4)):
        page(shelf).weigh(start - lost, "typed", hours)
    shelf.settle()
    assert "yours, 5 weighings" in seen(shelf)
    assert page(shelf).verdict().source == "Hours: yours, 5 weighings." and before.source == "Hours: typical."
    shot(shelf, "nylon")
    press(shelf, "It is dried")
    log = shelf.workspace.shelf.spool_logs[spool.id]
    assert len(log.dried) == 1 and "fit to print" in shelf.window.verdict_line.title.text()
    pick(shelf, "Where Nylon is kept", "in a box, desiccant")
    assert shelf.workspace.shelf.spool_logs[spool.id].stays[-1].where == "box"
    press_in_panel(shelf, "matte, stringy")
    assert shelf.workspace.shelf.spool_logs[spool.id].took[-1].stringy is True


def test_days_in_the_open_make_it_wet_and_a_box_does_not(shelf: Desk) -> None:
    from knollside.gui.spoolfacts import water_now

    spool = next(s for s in shelf.workspace.shelf.spools if s.name == "Nylon")
    now = datetime(2026, 11, 28, 12)
    dried = (Dried(at=now - timedelta(days=6), hours=12, celsius=80),)
    kept = {
        where: water_now(spool, SpoolLog(dried=dried, stays=(Stay(since=now - timedelta(days=6), where=where),)), now)
        for where in ("open", "box")
    }
    assert kept["open"].wet > 0.8 > kept["box"].wet and kept["open"].now.value > 2 * kept["box"].now.value


def test_a_new_nozzle_makes_older_readings_doubtful_and_a_square_is_worked_out(desk: Desk, tmp_path) -> None:  # type: ignore[no-untyped-def]
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    from knollside.core.fit.process import learn

    part = desk.part
    before = learn(part.readings, "hole", "upright", 5.0, part.fit_setting)
    pick(desk, "What was done", "new nozzle")
    type_in(desk, "Note of what was done", "0.4 brass")
    press_in_panel(desk, "Log it")
    assert "new nozzle: 0.4 brass" in seen(desk) and "0 h on this nozzle" in seen(desk)
    after = learn(desk.part.readings, "hole", "upright", 5.0, desk.part.fit_setting)
    assert after.half > before.half + 0.002 and len(desk.part.changed) == 2
    desk.window.take("Fits")
    desk.settle(lambda: desk.fresh("fits") is not None)
    assert "readings are from before the new nozzle" in seen(desk) and "measure a bar" in seen(desk)
    desk.window.take("Workshop")
    desk.workspace.take_back()
    assert len(desk.part.changed) == 1  # its first use, before anything was read
    for name, value in (("X, mm", "100.10"), ("Y, mm", "100.05"), ("Rising diagonal, mm", "142.15")):
        type_in(desk, name, value)
    press_in_panel(desk, "Work it out")
    assert "Falling diagonal is still to be typed" in desk.window.note.text()
    type_in(desk, "Falling diagonal, mm", "140.92")
    press_in_panel(desk, "Work it out")
    assert "Y leans 0.50° to the right" in seen(desk)
    shot(desk, "printer")
    assert desk.part.frame is None
    box = next(b for b in desk.window.findChildren(QCheckBox) if b.text() == "Take it out of exported meshes")
    area = desk.window.steps["Workshop"].tabs.pages.currentWidget()
    area.ensureWidgetVisible(box)
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
    desk.settle()
    assert desk.part.frame.skew.value == pytest.approx(0.5, abs=0.02)
    run = desk.window.steps["Run"]
    run.export_to(tmp_path)
    desk.settle(lambda: bool(run.written))
    made, drawn = load_file(tmp_path / "hose-arm.stl").mesh, laid(desk.facts.mesh, desk.part.direction)
    lean = math.radians(desk.part.frame.skew.value)
    # Printed on that frame its corners stand where they were drawn, but for the two scales.
    back = made.vertices[:, 0] * desk.part.frame.scale_x.value + made.vertices[:, 1] * math.sin(lean)
    assert np.ptp(back) == pytest.approx(float(np.ptp(drawn.vertices[:, 0])), abs=0.05)
    assert "taken out of the mesh" in (tmp_path / "hose-arm-sheet.html").read_text()
    type_in(desk, "Falling diagonal, mm", "120")
    press_in_panel(desk, "Work it out")
    assert "more than a frame leans" in desk.window.note.text()


def test_the_scale_reads_what_is_there_and_drifts_as_it_is_told() -> None:
    spool = SimulatedSpool(220.0, 500.0, 1.0)
    plain, drifting = SimulatedScale(), SimulatedScale(drift=2.0)
    assert plain.read(spool) == pytest.approx(725, abs=2)
    assert [drifting.read(spool) for _ in range(5)][-1] == pytest.approx(735, abs=3)


def test_the_record_is_searched(desk: Desk, tmp_path: Path) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    table = desk.window.steps["Workshop"].table
    assert table.model.rowCount() == 16
    type_in(desk, "Search the record", "brick asa")
    assert table.model.rowCount() == 3
    assert all("The Brick" in r.cells for r in table.model.shown) and "3 prints" in table.count.text()
    type_in(desk, "Search the record", "pull bars")
    assert {r.cells[6] for r in table.model.shown} == {"pair of pull bars"}
    # Narrowed by printer and outcome besides; what is shown goes out as a table and as JSON.
    table.search.clear()
    pick(desk, "Prints of", "Old Tom")
    pick(desk, "That came out", "came out well")
    assert table.model.rowCount() == 3
    workshop = desk.window.steps["Workshop"]
    workshop.write_to(tmp_path / "prints.csv")
    rows = list(csv.DictReader((tmp_path / "prints.csv").open()))
    assert len(rows) == 3 and [r["nozzle_c"] for r in rows] == ["", "", "238.0"]
    workshop.write_to(tmp_path / "prints.json")
    assert len(json.loads((tmp_path / "prints.json").read_text())["prints"]) == 3
    assert "3 prints written to prints.json" in desk.window.note.text()
    # Why the second clip was printed at 238.
    pick(desk, "That came out", "any outcome")
    type_in(desk, "Search the record", "clip 238")
    (found,) = table.model.shown
    table.table.selectRow(0)
    desk.settle()
    assert "bars at 238 were as strong" in table.about.text() and found.cells[1] == "Trellis clip"


def test_the_list_before_a_print_is_ticked_or_skipped_with_a_reason_and_kept(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    number = desk.part.printer_id
    desk.window.steps["Workshop"].printers.at = number
    desk.window.take("Workshop")
    desk.window.steps["Workshop"].printer.happened("nozzle", "0.6")
    desk.window.take("Run")
    desk.settle()
    assert "Nozzle changed" in seen(desk) and "after the last good print" in seen(desk)
    press_in_panel(desk, "skip")
    type_in(desk, "Why it is skipped", "done with the sheet on it")
    (tick,) = desk.workspace.shelf.printer_logs[number].ticks
    assert tick.line.startswith("Set the first-layer height") and tick.skipped == "done with the sheet on it"
    assert "Skipped: done with the sheet on it." in seen(desk)
    box = next(b for b in desk.window.findChildren(QCheckBox) if b.text() == "Stay for the first layer")
    QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
    desk.settle()
    assert [t.line for t in desk.workspace.shelf.printer_logs[number].ticks][1] == "Stay for the first layer"
    box = next(
        b for b in desk.window.findChildren(QCheckBox) if b.text() == "Stay for the first layer" and b.isVisible()
    )
    assert box.isChecked()
    shot(desk, "before")
    desk.workspace.take_back()
    assert len(desk.workspace.shelf.printer_logs[number].ticks) == 1


def test_a_scale_at_a_port_is_listened_to_until_it_has_settled(shelf: Desk) -> None:
    logs = lambda: shelf.workspace.shelf.spool_logs  # noqa: E731
    pick(shelf, "Spool to describe", "PETG green")
    number, port = page(shelf).spool.id, page(shelf).port
    press_in_panel(shelf, "a scale at a port …")
    type_in(shelf, "The scale's port", "/dev/nowhere")
    press_in_panel(shelf, "Listen")
    assert "There is no scale at /dev/nowhere" in seen(shelf)
    press_in_panel(shelf, "Plug in the simulated one")
    assert "Listening at" in seen(shelf)
    press_in_panel(shelf, "Read the scale")
    shelf.settle(lambda: len(logs()[number].weighings) == 1)
    truth = spool_named("PETG green", 640)
    (first,) = logs()[number].weighings
    assert first.source == "scale" and first.gross_g == pytest.approx(truth.gross(), abs=2)
    # One that drifts never settles: that is said, and nothing is kept.
    for k in range(15):
        port.simulated.send(800 + 3 * k, "g")
    shelf.settle(lambda: "does not settle" in shelf.window.note.text())
    # Pulled in the middle of a reading: nothing is kept of it either.
    port.simulated.send(812, "g")
    port.simulated.send(812, "g")
    port.simulated.unplug()
    shelf.settle(lambda: "is gone" in seen(shelf))
    assert len(logs()[number].weighings) == 1


def test_the_simulated_drier_teaches_the_hours(shelf: Desk) -> None:
    pick(shelf, "Spool to describe", "Nylon")
    press_in_panel(shelf, "4 h, simulated")
    log = shelf.workspace.shelf.spool_logs[page(shelf).spool.id]
    truth = spool_named("Nylon", page(shelf).spool.grams_left)
    assert [w.drying for w in log.weighings] == [0, 1, 2, 4]
    assert log.weighings[3].gross_g == pytest.approx(truth.gross(4.0), abs=0.3)
    assert page(shelf).verdict().source == "Hours: yours, 4 weighings."


def test_a_simulated_frame_is_measured_and_found(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    desk.settle()
    press_in_panel(desk, "Print and measure it, simulated")
    number = desk.part.printer_id
    event = desk.workspace.shelf.printer_logs[number].events[-1]
    true = frame_named("Old Tom")
    found = frame_of(Square(*event.square))
    assert found.skew.low <= true.skew <= found.skew.high and abs(found.skew.value - true.skew) < 0.05
    assert abs(found.scale_x.value - true.scale_x) < 0.002


def test_a_new_printer_is_set_up_step_by_step(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    press(desk, "Add a printer")
    assert "by hand" in seen(desk) or "7 of 7 left" in seen(desk)
    press_in_panel(desk, "Set it up, step by step")
    desk.settle(lambda: "Together" in seen(desk), 60)
    workshop = desk.window.steps["Workshop"]
    names = [b.accessibleName() for b in workshop.setup.findChildren(QCheckBox)]
    assert names[0].startswith("Mains selector") and names[6:] == [
        "First-layer height",
        "Frame square",
        "Flare piece",
        "Hole and pin bar",
        "Gap ladder",
    ]
    for text in ("Mains selector to this wall's voltage", "Bed level"):
        box = next(b for b in desk.window.findChildren(QCheckBox) if b.accessibleName() == text and b.isVisible())
        QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(10, box.height() // 2))
        desk.settle()
    log = desk.workspace.shelf.printer_logs[workshop.printers.at]
    assert [t.line for t in log.ticks] == ["set up: selector", "set up: level"] and "5 of 7 left" in seen(desk)
    pieces = next(iter(workshop.setup._pieces.values()))
    square = next(s for s in pieces if s.key == "first square")
    # A frame of 8 mm beams, 100 mm wide, 3 mm high, mostly walls and tops: 11 g of PETG if it were solid.
    solid = (100**2 - 84**2) * 3 * 1.27 / 1000
    assert 0.5 * solid < square.grams <= 1.02 * solid
    desk.workspace.take_back()
    desk.settle()
    assert "6 of 7 left" in seen(desk), seen(desk)
    shot(desk, "setup")


def test_adhesive_that_let_go_is_asked_for_before_the_next_print(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    pick(desk, "What was done", "adhesive let go")
    type_in(desk, "Note of what was done", "glue stick")
    press_in_panel(desk, "Log it")
    desk.window.take("Run")
    desk.settle()
    assert "Glue stick: let go" in seen(desk)
    desk.window.take("Workshop")
    pick(desk, "What was done", "adhesive held, taken off hot")
    press_in_panel(desk, "Log it")
    event = desk.workspace.shelf.printer_logs[desk.part.printer_id].events[-1]
    assert event.held and event.hot and "held, taken off hot" in seen(desk)
    desk.window.take("Run")
    desk.settle()
    assert "Glue stick: let go" not in seen(desk)
