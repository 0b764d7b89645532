"""How a screw holds and how a load acts, said with mouse and keys in the real window."""

from typing import Any

import manifold3d as m3
import pytest
from conftest import Desk, mesh_of, pick, type_in
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox

from knollside.core.mesh.write import stl_bytes
from knollside.core.model import DesignCase, ForceLoad, LoadCase, ScrewFixture


@pytest.fixture
def plate_on_screws(desk: Desk, tmp_path) -> Desk:  # type: ignore[no-untyped-def]
    """The window with a plate of our own under two screws, pushed at its end."""
    made = m3.Manifold.cube((80, 24, 6))
    for x in (15.0, 45.0):
        made -= m3.Manifold.cylinder(20, 2.5, circular_segments=96).translate((x, 12, -5))
    (tmp_path / "plate.stl").write_bytes(stl_bytes(mesh_of(made), "plate"))
    desk.settle(lambda: desk.facts is not None)
    desk.window.part_step.open_file(str(tmp_path / "plate.stl"))
    desk.settle(lambda: desk.part.name == "Plate" and desk.facts is not None)
    holes = [f.id for f in desk.facts.features if f.kind == "hole"]
    end = next(f.id for f in desk.facts.features if f.axis[0] > 0.9)
    load = LoadCase(name="the push", loads=(ForceLoad(feature=end, force_N=(0, 0, -20)),))
    held = tuple(ScrewFixture(feature=h) for h in holes)
    desk.put("duty", DesignCase(fixtures=held, cases=(load,), danger="no one"), "a plate")
    desk.put("recipe", desk.part.recipe.model_copy(update={"infill": 1.0}), "solid")
    desk.settle()
    return desk


def test_a_screw_is_said_as_it_holds_and_a_weight_as_it_falls(plate_on_screws: Desk) -> None:
    desk = plate_on_screws
    desk.window.take("Duty")
    desk.settle()

    def held() -> Any:
        return desk.part.design_case.fixtures[0]

    name = held().feature.replace("-", " ")
    type_in(desk, f"Head over {name}", "11 mm")
    type_in(desk, f"Tightening of {name}", "250 N")
    assert (held().head_mm, held().tightened_N, held().tight) == (11.0, 250.0, True)
    pick(desk, f"Whether the screw in {name} clamps", "loose")
    type_in(desk, f"Shank in {name}", "4.5")
    assert (held().tight, held().shank_mm, held().play(5.0)) == (False, 4.5, 0.25)
    pick(desk, f"How {name} is held", "a screw turned into it")
    type_in(desk, f"Tightening of {name}", "20000 N")
    assert held().kind == "thread" and held().tightened_N == 20000.0
    desk.window.take("Lay")
    desk.settle(lambda: bool(desk.answer("lay").refusal))
    assert "strips, at about" in desk.window.verdict_line.body.text()
    desk.window.take("Duty")
    type_in(desk, f"Tightening of {name}", "0")
    assert held().tightened_N is None
    pick(desk, "Kind of the push", "hanging weight")
    box_ = next(b for b in desk.window.current.panel.findChildren(QCheckBox) if b.text() == "knocked")
    QTest.mouseClick(box_, Qt.MouseButton.LeftButton)
    desk.settle()
    type_in(desk, "How far the push falls", "25")
    case = desk.part.design_case.cases[0]
    assert case.drop_mm == 25.0 and case.falls_mm == 25.0
    type_in(desk, "Greatest cold", "-30")
    assert [k.name for k in desk.part.allowables[0].knock_downs] == ["In the cold"]
    pick(desk, "Kind of the push", "force")
    assert desk.part.design_case.cases[0].drop_mm is None
    desk.workspace.take_back()
    assert desk.part.design_case.cases[0].drop_mm == 25.0
