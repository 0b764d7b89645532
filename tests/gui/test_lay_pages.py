"""Duty's loads and holds, and what stands under the net, by mouse and key in the real window."""

import numpy as np
import pytest
from conftest import Desk, box, pick, seen, type_in
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QPushButton

from knollside.core.lay.orientations import listed_orientation
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase, Orientation
from knollside.gui.instruments.orientationrow import OrientationRow
from knollside.gui.instruments.widgets import times
from knollside.gui.nodes import base_strength
from knollside.gui.viewport.raster import CUT


def combo(desk: Desk, name: str) -> QComboBox:
    found = [c for c in desk.window.findChildren(QComboBox) if c.accessibleName() == name and c.isVisible()]
    assert len(found) == 1, name
    return found[0]


def move(widget, at: QPointF) -> None:  # type: ignore[no-untyped-def]
    """A move of the mouse with the left button down."""
    left = Qt.MouseButton.LeftButton
    place = widget.mapToGlobal(at)
    QApplication.sendEvent(
        widget,
        QMouseEvent(QEvent.Type.MouseMove, at, place, left, left, Qt.KeyboardModifier.NoModifier),
    )


@pytest.fixture
def beam(desk: Desk, tmp_path) -> Desk:  # type: ignore[no-untyped-def]
    """The window with a plain beam, held at one end and pushed at the other."""
    (tmp_path / "beam.stl").write_bytes(stl_bytes(box(80, 14, 10), "beam"))
    desk.settle(lambda: desk.facts is not None)
    desk.window.part_step.open_file(str(tmp_path / "beam.stl"))
    desk.settle(lambda: desk.part.name == "Beam" and desk.facts is not None)
    names = {f.id: f for f in desk.facts.features}
    end = next(k for k, f in names.items() if f.axis[0] < -0.9)
    tip = next(k for k, f in names.items() if f.axis[0] > 0.9)
    load = LoadCase(name="the pull", loads=(ForceLoad(feature=tip, force_N=(0, 0, -30)),))
    desk.put("duty", DesignCase(fixtures=(FixedFixture(feature=end),), cases=(load,), danger="no one"), "a beam")
    desk.put("recipe", desk.part.recipe.model_copy(update={"infill": 1.0}), "solid")
    desk.settle()
    return desk


def test_a_load_changes_its_kind_its_size_and_how_often(beam: Desk) -> None:
    beam.window.take("Duty")
    beam.settle()
    pick(beam, "Kind of the pull", "torque")
    type_in(beam, "Size of the pull", "1.5 N m")
    load = beam.part.design_case.cases[0].loads[0]
    assert load.kind == "torque" and load.torque_Nmm == pytest.approx(1500)
    pick(beam, "Axis of the pull", "about −Z")
    assert beam.part.design_case.cases[0].loads[0].axis == (0, 0, -1)
    pick(beam, "Kind of the pull", "hanging weight")
    type_in(beam, "Size of the pull", "2.5 kg")
    assert beam.part.design_case.cases[0].loads[0].weight_g == pytest.approx(2500)
    box_ = next(b for b in beam.window.current.panel.findChildren(type(beam.window.current.sun)) if b.text() == "often")
    QTest.mouseClick(box_, Qt.MouseButton.LeftButton)
    beam.settle()
    type_in(beam, "How many times the pull", "50000")
    assert beam.part.design_case.cases[0].cycles == 50000
    stays = next(
        b for b in beam.window.current.panel.findChildren(type(beam.window.current.sun)) if b.text() == "always"
    )
    QTest.mouseClick(stays, Qt.MouseButton.LeftButton)
    beam.settle()
    pick(beam, "How long the pull stays", "1 month")
    assert beam.part.design_case.cases[0].lasting_h == 730.0
    assert "creep to rupture, 1 month" in {k.why for k in beam.part.allowables[0].knock_downs}
    held = beam.part.design_case.fixtures[0].feature.replace("-", " ")
    pick(beam, f"How {held} is held", "rests on a wall")
    assert beam.part.design_case.fixtures[0].kind == "wall"
    pick(beam, f"How {held} is held", "slides along its face")
    assert beam.part.design_case.fixtures[0].kind == "sliding"
    beam.window.take("Lay")
    beam.settle(lambda: bool(beam.answer("lay").refusal))
    assert "can still" in beam.window.verdict_line.body.text()
    for _ in range(5):
        beam.workspace.take_back()
    assert beam.part.design_case.fixtures[0].kind == "fixed" and beam.part.design_case.cases[0].cycles is None
    beam.window.take("Duty")
    beam.put("duty", beam.part.design_case.model_copy(update={"own_knock_downs": {"Many times": 0.4}}), "tread")
    beam.settle()
    assert beam.window.current.knock_downs.allow.knock_downs[0].factor.source == "yours"


def test_the_pages_under_the_net_tell_places_cures_and_trust(beam: Desk) -> None:
    state, lay = beam, beam.window.steps["Lay"]
    beam.window.take("Lay")
    beam.settle(lambda: state.fresh("lay") is not None)
    worst = min(lay.view.ranked.fresh.ranking.orientations, key=lambda w: w.reserve.value)
    lay._choose(worst.letter)
    beam.settle(lambda: state.fresh("layers") is not None)
    tab = {b.text(): b for b in lay.panel.findChildren(QPushButton)}
    QTest.mouseClick(tab["Weak places"], Qt.MouseButton.LeftButton)
    beam.settle()
    words = seen(beam)
    assert "What would go first" in words and "the pull" in words and "mm at most" in words
    assert len(beam.window.stage.scene.places) >= 3
    pick(beam, "Shape shown on the stage", "Drawn as it bends")
    beam.settle()
    bend = beam.window.stage.scene.bend
    tip = float(np.linalg.norm(bend, axis=1).max())
    assert tip == pytest.approx(lay.view.ranked.fresh.strength.field.greatest_movement, rel=0.05)
    QTest.mouseClick(tab["Cures"], Qt.MouseButton.LeftButton)
    beam.settle()
    assert "Lie it as" in seen(beam) and beam.window.stage.scene.bend is None
    QTest.mouseClick(tab["Trust"], Qt.MouseButton.LeftButton)
    beam.settle()
    words = seen(beam)
    assert f"{lay.view.ranked.fresh.strength.field.cells:,}" in words and "Change from a coarser look" in words
    assert "Solved again in layers" in words
    rows = {r.orientation.letter: r for r in lay.panel.findChildren(OrientationRow)}
    first = lay.view.ranked.fresh.ranking.orientations[0]
    again = next(x for x in state.fresh("layers") if x.direction == first.direction)
    assert rows[first.letter].layered == again.reserve.value
    # Reactions stand on the stage of Duty once the solve is there.
    beam.window.take("Duty")
    beam.settle()
    assert any(a.colour == "spring" for a in beam.window.stage.scene.arrows)
    assert "N m about the holds" in seen(beam)


def test_a_place_that_is_clicked_is_looked_at_closely_and_told(beam: Desk) -> None:
    lay = beam.window.steps["Lay"]
    beam.window.take("Lay")
    beam.settle(lambda: beam.fresh("lay") is not None)
    lay._choose("A")
    tab = {b.text(): b for b in lay.panel.findChildren(QPushButton)}
    QTest.mouseClick(tab["Weak places"], Qt.MouseButton.LeftButton)
    beam.settle(lambda: beam.fresh("detail") is not None)
    assert "Click a place on the part" in seen(beam)
    mesh, stage = beam.facts.mesh, beam.window.stage
    # The middle of a triangle that is seen from where the eye is.
    corners = next(t for i, t in enumerate(mesh.triangles) if stage.face_at(stage.to_screen(t.mean(axis=0))) == i)
    at = corners.mean(axis=0)
    QTest.mouseClick(stage, Qt.MouseButton.LeftButton, pos=stage.to_screen(at).toPoint())
    (watched,) = beam.part.design_case.watched
    # A pixel of the stage is under half a millimetre of this beam.
    assert np.linalg.norm(np.array(watched) - at) < 0.5
    beam.settle(lambda: beam.fresh("layers") is not None)
    (told,) = beam.fresh("detail").watched
    assert np.linalg.norm(np.array(told.at) - watched) < 1.5 and 0 < told.doubt < 0.3
    assert "Watched by you" in seen(beam) and f"{told.case}" in seen(beam)
    assert any(words.startswith("a: ") for _, words in stage.scene.places)
    sizing = lay.view.ranked.fresh.strength.field.sizing
    assert sizing is not None and np.linalg.norm(sizing.sources - np.array(watched), axis=1).min() < 1e-3
    gone = next(b for b in lay.panel.findChildren(QPushButton) if b.accessibleName() == "Watch place a no more")
    QTest.mouseClick(gone, Qt.MouseButton.LeftButton)
    assert beam.part.design_case.watched == ()
    beam.workspace.take_back()
    assert beam.part.design_case.watched == (watched,)


def test_the_stage_opens_at_the_cursor_and_closes_again(beam: Desk) -> None:
    state, log, stage = beam, beam.window.log, beam.window.stage
    beam.window.take("Lay")
    beam.settle(lambda: state.fresh("lay") is not None)
    beam.window.steps["Lay"]._choose("A")
    beam.settle(lambda: state.fresh("detail") is not None)
    whole = int((stage._face_at >= 0).sum())
    log._to(0.5 * float(log.log.heights[-1]))
    QTest.mouseClick(log.open_here, Qt.MouseButton.LeftButton)
    beam.settle()
    assert stage.scene.opened and (stage._face_at == CUT).sum() > 500
    cut = np.argwhere(stage._face_at == CUT)[0] / stage._scale
    assert stage.face_at(QPointF(float(cut[1]) + 0.5, float(cut[0]) + 0.5)) == -1
    assert log.open_here.text() == "close"
    QTest.mouseClick(log.open_here, Qt.MouseButton.LeftButton)
    beam.settle()
    assert not stage.scene.opened and abs(int((stage._face_at >= 0).sum()) - whole) < 0.02 * whole


def test_the_net_crosses_out_what_the_bed_cannot_hold(beam: Desk) -> None:
    small = beam.part.printer.model_copy(update={"bed_mm": (90.0, 90.0, 60.0)})
    beam.workspace.kept.put_printer(beam.part.printer_id, small)
    assert beam.part.printer == small
    beam.window.take("Lay")
    beam.settle(lambda: beam.fresh("lay") is not None)
    lay = beam.window.steps["Lay"]
    fits = lay.view.ranked.fresh.ranking.fits
    # Upright the beam is 80 mm high under 60: everything within about 41 degrees of its length is too tall.
    net = lay.view.ranked.fresh.ranking.net.directions
    assert fits[np.abs(net[:, 0]) < 0.4].all() and not fits[np.abs(net[:, 0]) > 0.9].any()
    beam.settle()
    picture = lay.net.grab().toImage()
    ink = sum(picture.pixelColor(x, y).name() == "#2a2520" for x in range(10, 190) for y in range(10, 190))
    assert ink > 60


def test_an_arrow_is_turned_by_its_tail(beam: Desk) -> None:
    beam.window.take("Duty")
    beam.settle()
    stage = beam.window.stage
    arrow = next(a for a in stage.scene.arrows if a.handle is not None)
    tail, tip, _ = stage._ends(arrow)
    QTest.mousePress(stage, Qt.MouseButton.LeftButton, pos=tail.toPoint())
    there = tip + (tail - tip) * -1.0  # from above the tip to below it
    for f in (0.3, 0.7, 1.0):
        move(stage, tail + (there - tail) * f)
    QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, pos=there.toPoint())
    beam.settle()
    force = beam.part.design_case.cases[0].loads[0].force_N
    assert np.linalg.norm(force) == pytest.approx(30) and force[2] > 20, "it now pushes up"
    assert beam.workspace.history.undo_text == "the pull: turned by hand"


def test_a_reversed_load_needs_no_new_solve_and_what_was_rated_is_old(beam: Desk) -> None:
    state, lay = beam, beam.window.steps["Lay"]
    beam.window.take("Lay")
    beam.settle(lambda: state.fresh("lay") is not None)
    lay._choose("A")
    beam.settle(lambda: state.fresh("layers") is not None)
    solved = base_strength(beam.view.inputs).solve
    before = lay.view.ranked.fresh.ranking.orientations[0].reserve.value
    beam.window.take("Duty")
    beam.settle()
    pick(beam, "Direction of the pull", "straight up")
    assert base_strength(beam.view.inputs).solve == solved, "added up from the same solve"
    beam.window.take("Lay")
    assert lay.view.ranked.fresh is None and lay.view.ranked.old, "what was rated before is old"
    beam.settle(lambda: state.fresh("lay") is not None)
    field = lay.view.ranked.fresh.strength.field
    assert field.cases[0].external.forces.sum(axis=0) == pytest.approx([0, 0, 0], abs=1e-3)
    beam.window.take("Duty")
    pick(beam, "Direction of the pull", "along +Y")
    assert base_strength(beam.view.inputs).solve != solved, "a push along another axis is a row of its own"
    beam.window.take("Lay")
    beam.settle(lambda: state.fresh("lay") is not None)
    # A beam 14 deep and 10 high carries 1.4 times as much sideways.
    assert lay.view.ranked.fresh.ranking.orientations[0].reserve.value > 1.2 * before


def test_a_pin_dragged_over_the_net_says_why_not_there_and_can_be_taken(beam: Desk) -> None:
    state, lay = beam, beam.window.steps["Lay"]
    beam.window.take("Lay")
    beam.settle(lambda: state.fresh("lay") is not None)
    net = lay.net
    pins = [net._at(w.direction) for w in lay.view.ranked.fresh.ranking.orientations]
    disc = net._disc()
    spots = [disc.center() + (disc.topLeft() - disc.center()) * f for f in np.linspace(-0.6, 0.6, 13)]
    clear = max(spots, key=lambda s: min((s - p).manhattanLength() for p in pins))
    QTest.mousePress(net, Qt.MouseButton.LeftButton, pos=clear.toPoint())
    assert lay.trying is not None and "There:" in lay.note.text()
    assert beam.window.current.scene().direction == lay.trying
    QTest.mouseRelease(net, Qt.MouseButton.LeftButton, pos=clear.toPoint())
    beam.settle(lambda: lay._asked() is not None)
    row = next(r for r in lay.panel.findChildren(OrientationRow) if r.orientation.letter == "?" and r.isVisible())
    QTest.mouseClick(row, Qt.MouseButton.LeftButton)
    beam.settle()
    assert state.part.orientation == Orientation(direction=row.orientation.direction), (
        "the stored reason is the person's own"
    )
    type_in(beam, "Your reason for this way", "the smooth side shows")
    assert state.shop.parts.get(state.part.id).orientation.reason == "the smooth side shows"
    assert beam.window.core.standings["Lay"].words != ""
    pick(beam, "Measure shown on the net", "Layers parting")
    assert net.measure == "interlayer_reserve"


def test_a_chosen_way_that_is_not_listed_is_rated_and_told(beam: Desk) -> None:
    lay = beam.window.steps["Lay"]
    beam.window.take("Lay")
    beam.settle(lambda: beam.fresh("settled") is not None)
    slant = (0.48, 0.6, 0.64)
    assert listed_orientation(beam.view.orientations, slant) is None
    beam.put("way", Orientation(direction=slant), "on a slant")
    beam.settle(lambda: beam.fresh("detail") is not None)
    here, alone = beam.view.chosen, beam.fresh("detail").orientation
    assert here is not None and here.letter == "" and here.direction == pytest.approx(slant)
    # Its range has the doubt of the grid in it, and the verdict is of it, not of the first of the list.
    assert here.reserve.value == alone.reserve.value and here.reserve.low < alone.reserve.low
    assert lay.verdict().title.startswith(here.title) and lay.verdict().number == times(here.reserve.value)
    assert lay.scene().title == here.title and "layers of" in lay.scene().subtitle
    rows = [r for r in lay.panel.findChildren(OrientationRow) if r.isVisible() and r.chosen]
    assert [r.accessibleName().split(":")[0] for r in rows] == ["Way chosen"]


def test_what_buckles_is_told_drawn_and_held_against_the_need(beam: Desk) -> None:
    """80 x 14 x 10 mm pressed on its end with about its Euler load, far under what breaks it."""
    before = beam.part.design_case
    press = ForceLoad(at=(80, 7, 5), force_N=(-800.0, 0.0, 0.0))
    beam.put("duty", before.model_copy(update={"cases": (LoadCase(name="the post", loads=(press,)),)}), "pressed")
    lay = beam.window.steps["Lay"]
    beam.window.take("Lay")
    beam.settle(lambda: beam.fresh("settled") is not None)
    s = beam.view.stability
    euler = np.pi**2 * beam.part.card.modulus.value * 14 * 10**3 / 12 / (4 * 80**2)
    assert s is not None and s.factor == pytest.approx(euler / 800, rel=0.06)  # a hollow bar bends a little more
    first = beam.view.orientations[0]
    assert first.mode == "buckles" and not first.holds and lay.verdict().number == times(s.reserve.value)
    assert first.reason.startswith("The post buckles it") and first.reason in lay.verdict().body
    lay._choose(first.letter)
    beam.settle(lambda: beam.fresh("detail") is not None)
    assert beam.window.stage.scene.place_words == f"buckles first: {times(first.reserve.value)}×"
    tab = {b.text(): b for b in lay.panel.findChildren(QPushButton)}
    QTest.mouseClick(tab["Weak places"], Qt.MouseButton.LeftButton)
    beam.settle()
    assert "Buckles, giving way sideways" in seen(beam)
    pick(beam, "Shape shown on the stage", "Drawn as it buckles")
    beam.settle()
    scene = beam.window.stage.scene
    shape = np.linalg.norm(scene.bend, axis=1)
    corners = scene.look.mesh.vertices
    assert scene.bend_words and shape[corners[:, 0] > 79].min() > 0.9 and shape[corners[:, 0] < 1].max() < 0.1
    QTest.mouseClick(tab["Trust"], Qt.MouseButton.LeftButton)
    beam.settle()
    assert "never quite straight 0.8" in seen(beam)
