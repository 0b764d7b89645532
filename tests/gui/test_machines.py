"""A person's own workshop: printers, spools and records entered by hand, from nothing."""

from pathlib import Path

import pytest
from conftest import Desk, open_desk, press, turn_to, type_in

import knollside.demo.fill as demo
from knollside.core.mesh.load import load_file
from knollside.demo.design_cases import PARTS


@pytest.fixture
def bare(qapp, tmp_path: Path, monkeypatch):  # type: ignore[no-untyped-def]
    monkeypatch.setattr(demo, "fill_demo", lambda shop: None)
    made = open_desk(qapp, tmp_path / "own.sqlite")
    yield made
    made.window.close()


def test_a_new_workshop_takes_a_printer_a_spool_and_a_reading(bare: Desk) -> None:
    state = bare
    bare.window.part_step.open_file(str(Path(PARTS) / "label-plate.stl"))
    bare.settle(lambda: state.facts is not None)
    bare.window.take("Bench")
    bare.settle()
    bench = bare.window.steps["Bench"].measuring
    bench.take("4.4", "typed")
    assert "Add your printer" in bench.said.text() and state.part.readings == ()
    turn_to(bare, "Record")
    press(bare, "Record the print")
    assert "Add your printer" in bare.window.steps["Bench"].record.told.text() and state.shop.learned.prints() == []
    bare.window.take("Workshop")
    bare.settle()
    assert "Add your printer" in bare.window.verdict_line.title.text()
    press(bare, "Add a printer")
    type_in(bare, "Printer's name", "Shed")
    type_in(bare, "Bed, wide", "12 in")
    turn_to(bare, "Spools")
    press(bare, "Add a spool")
    type_in(bare, "Grams left", "0.25 kg")
    (printer,) = state.shop.machines.printers().values()
    assert printer.name == "Shed" and printer.bed_mm[0] == pytest.approx(304.8)
    assert state.part.printer_id is not None, "the open part takes a first printer"
    assert state.shop.machines.spools()[0].grams_left == pytest.approx(250)
    bare.window.take("Bench")
    bare.settle()
    bench.take(f"{bench.spot().drawn - 0.2:.2f}", "typed")
    bare.settle()
    assert len(state.shop.learned.measurements(state.part.printer_id, state.part.material)) == 1
    bare.window.steps["Bench"].record.took.line.setText("2,5")
    press(bare, "Record the print")
    assert [p.actual_hours for p in state.shop.learned.prints()] == [2.5]
    while state.workspace.history.can_undo:
        state.workspace.take_back()
    bare.settle()
    assert (
        state.shop.machines.printers() == {}
        and state.shop.machines.spools() == []
        and state.shop.learned.prints() == []
    )


def test_two_printers_of_one_name_are_told_apart(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Workshop")
    desk.settle()
    press(desk, "Add a printer")
    type_in(desk, "Printer's name", "Old Tom")
    assert "taken already" in desk.window.note.text()
    assert sorted(p.name for p in desk.shop.machines.printers().values()) == ["Old Tom", "Printer 1", "The Brick"]
    assert load_file(Path(PARTS) / "hose-arm.stl").mesh.fingerprint() == desk.part.mesh_hash
