"""Workshop's spools and printers, clicked: weighed, dried, squared, and what a change does to what was learned."""

from __future__ import annotations

import math
import os
from datetime import datetime, timedelta

import numpy as np
import pytest
from conftest import Desk, pick, press, press_in_panel, seen, turn_to, type_in
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox

from knollside.core.job.answer import laid
from knollside.core.mesh.load import load_file
from knollside.core.model.running import Dried, SpoolLog, Stay
from knollside.sim.shelf import SimulatedScale, SimulatedSpool, spool_named

SHOTS = os.environ.get("KNOLL_SHOTS", "")


def shot(desk: Desk, name: str) -> None:
    if SHOTS:
        desk.window.resize(1280, 800)
        desk.settle()
        desk.window.grab().save(f"{SHOTS}/{name}.png")


@pytest.fixture
def shelf(desk: Desk) -> Desk:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    turn_to(desk, "Spools")
    return desk


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
    shelf.workspace.undo.undo()
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
    desk.workspace.undo.undo()
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


def test_the_record_is_searched(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    table = desk.window.steps["Workshop"].table
    assert table.model.rowCount() == 13
    type_in(desk, "Search the record", "brick asa")
    assert table.model.rowCount() == 3
    assert all("The Brick" in r for r in table.model.shown)
    type_in(desk, "Search the record", "pull bars")
    assert {r[5] for r in table.model.shown} == {"pair of pull bars"}


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
    desk.workspace.undo.undo()
    assert len(desk.workspace.shelf.printer_logs[number].ticks) == 1
