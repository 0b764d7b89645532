"""A newer file of a part, taken in by the window: what was said stays, what changed is told, older ones come back."""

from __future__ import annotations

from pathlib import Path

import manifold3d as m3
from conftest import Desk, mesh_of, seen, type_in

from knollside.core.mesh.write import stl_bytes
from knollside.core.model import BreakTest, DesignCase, FixedFixture, ForceLoad, LoadCase, Mate
from knollside.store.records import PrintRecord


def plate(path: Path, long: float, d: float, moved: float = 0.0) -> str:
    solid = m3.Manifold.cube((long, 30, 8))
    for x in (10, long - 12):
        solid = solid - m3.Manifold.cylinder(60, d / 2, circular_segments=48).translate((x, 12, -20))
    path.write_bytes(stl_bytes(mesh_of(solid.translate((moved, 0, 0))), "plate"))
    return str(path)


def opened(desk: Desk, tmp_path: Path) -> Desk:
    desk.window.part_step.open_file(plate(tmp_path / "plate.stl", 60, 5.0))
    desk.settle(lambda: desk.part.name == "Plate" and desk.facts is not None)
    holes = sorted((f for f in desk.facts.features if f.kind == "hole"), key=lambda f: f.centre[0])
    near, far = (f.id for f in holes)
    case = LoadCase(name="a pull", loads=(ForceLoad(feature=far, force_N=(0, 0, 40)),))
    desk.put("duty", DesignCase(fixtures=(FixedFixture(feature=near),), cases=(case,), danger="no one"), "held")
    desk.put("mates", (Mate(feature=far, hardware="M5"),), "a screw")
    desk.settle()
    return desk


def test_a_longer_plate_drawn_elsewhere_keeps_what_was_said_of_it(desk: Desk, tmp_path: Path) -> None:
    opened(desk, tmp_path)
    said = desk.stored.design_case, desk.stored.mates
    desk.window.part_step.open_revision(plate(tmp_path / "newer.stl", 72, 5.6, moved=100.0))
    desk.settle(lambda: desk.part.revision == 2 and desk.facts is not None and desk.part.doc.newest.names is not None)
    assert (desk.stored.design_case, desk.stored.mates) == said
    far = desk.facts.feature(said[1][0].feature)
    assert abs(far.centre[0] - 60) < 0.2 and abs(far.diameter - 5.6) < 0.02 and not desk.view.spoken_of_lost
    desk.window.take("Part")
    desk.settle()
    assert "put back where the last revision lies" in desk.window.note.text()
    assert "5.00 › 5.60 mm" in seen(desk) and "Since the one before" in seen(desk)
    type_in(desk, "Why it was changed", "the arm was short")
    assert desk.stored.revision_note == "the arm was short"
    # The first one is brought back as the newest; the longer one stays among the older.
    card = desk.window.part_step.revisions
    i = next(i for i in range(card.older.count()) if card.older.itemData(i) == 1)
    card.older.setCurrentIndex(i)
    card.older.activated.emit(i)
    desk.settle(lambda: desk.part.revision == 3 and desk.facts is not None)
    assert abs(desk.facts.mesh.size[0] - 60) < 1e-6 and desk.stored.revision_note == "revision 1 again"
    desk.workspace.take_back()
    desk.settle(lambda: desk.part.revision == 2 and desk.facts is not None)
    assert abs(desk.facts.mesh.size[0] - 72) < 1e-6


def test_a_load_at_a_bare_place_goes_with_the_face_it_was_on_and_comes_back(desk: Desk, tmp_path: Path) -> None:
    opened(desk, tmp_path)
    case = desk.stored.design_case
    bare = case.cases[0].model_copy(update={"loads": (ForceLoad(at=(60, 15, 4), force_N=(20, 0, 0)),)})
    desk.put("duty", case.model_copy(update={"cases": (bare,)}), "at a bare place")
    end = next(f.id for f in desk.facts.features if f.kind == "flat" and f.axis[0] > 0.9)
    desk.window.part_step.open_revision(plate(tmp_path / "newer.stl", 72, 5.0))
    desk.settle(lambda: desk.part.revision == 2 and desk.facts is not None)
    load = desk.stored.design_case.cases[0].loads[0]
    assert (load.at, load.feature) == (None, end) and f"went with {end.replace('-', ' ')}" in desk.window.note.text()
    desk.settle(lambda: desk.facts is not None and desk.facts.feature(end) is not None)
    assert abs(desk.facts.feature(end).centre[0] - 72) < 0.01
    desk.workspace.take_back()
    desk.settle(lambda: desk.part.revision == 1)
    assert desk.stored.design_case.cases == (bare,)


def test_what_is_said_while_a_newer_file_is_read_stays(desk: Desk, tmp_path: Path) -> None:
    opened(desk, tmp_path)
    case = desk.stored.design_case
    bare = case.cases[0].model_copy(update={"loads": (ForceLoad(at=(60, 15, 4), force_N=(20, 0, 0)),)})
    desk.put("duty", case.model_copy(update={"cases": (bare,)}), "at a bare place")
    desk.window.part_step.open_revision(plate(tmp_path / "newer.stl", 72, 5.0))
    renamed = bare.model_copy(update={"name": "said meanwhile", "repeated": True})
    desk.put("duty", case.model_copy(update={"cases": (renamed,)}), "said meanwhile")
    desk.settle(lambda: desk.part.revision == 2 and desk.facts is not None)
    (now,) = desk.stored.design_case.cases
    assert (now.name, now.repeated) == ("said meanwhile", True) and now.loads[0].at is None


def test_what_is_no_revision_changes_nothing_and_a_break_is_its_cause(desk: Desk, tmp_path: Path) -> None:
    opened(desk, tmp_path)
    other = tmp_path / "other.stl"
    other.write_bytes(stl_bytes(mesh_of(m3.Manifold.sphere(9, 48)), "other"))
    desk.window.part_step.open_revision(str(other))
    desk.settle(lambda: "another part" in desk.window.note.text())
    assert desk.stored.revision == 1
    desk.window.part_step.open_revision(str(tmp_path / "plate.stl"))
    desk.settle(lambda: "the mesh that is open" in desk.window.note.text())
    assert desk.stored.revision == 1
    test = BreakTest(mode="along a layer", load_N=120)
    at = desk.part.id, desk.part.printer_id, desk.part.material, desk.workspace.now()
    desk.workspace.kept.add_print(PrintRecord(0, *at, None, None, "broke", test), "broke")
    desk.window.part_step.open_revision(plate(tmp_path / "newer.stl", 60, 4.6))
    desk.settle(lambda: desk.part.revision == 2 and desk.facts is not None)
    assert desk.stored.revision_note == "it broke along a layer at 120 N"
    desk.workspace.take_back()
    desk.settle()
    assert desk.stored.revision == 1
