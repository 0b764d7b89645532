"""The real window, driven by clicks and keys; then what it shows and what is stored."""

from pathlib import Path

import numpy as np
import pytest
from conftest import DEMO, Desk, box, open_desk, seen
from PyQt6.QtCore import QElapsedTimer, QPoint, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QLineEdit, QPushButton, QRadioButton

from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_file
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Danger, FaceMark, Mesh, Purpose, SurfaceMark
from knollside.gui.stepbase import Mark
from knollside.gui.worker import Outcome


def press(desk: Desk, words: str) -> None:
    """Click the visible button that says ``words``."""
    for b in desk.window.findChildren(QPushButton):
        if b.isVisible() and b.isEnabled() and b.text().startswith(words):
            QTest.mouseClick(b, Qt.MouseButton.LeftButton)
            desk.app.processEvents()
            return
    raise AssertionError(f"no button '{words}' to press")


def field(desk: Desk, name: str) -> QLineEdit:
    found = [w for w in desk.window.findChildren(QLineEdit) if w.accessibleName() == name and w.isVisible()]
    assert len(found) == 1, name
    return found[0]


def enter(desk: Desk, line: QLineEdit, text: str) -> None:
    line.setFocus()
    line.selectAll()
    QTest.keyClicks(line, text)
    QTest.keyClick(line, Qt.Key.Key_Return)
    desk.app.processEvents()


def verdict(desk: Desk) -> str:
    v = desk.window.verdict_line
    return f"{v.number.text()} {v.unit.text()} {v.title.text()} {v.body.text()}"


def open_part(desk: Desk, name: str) -> None:
    combo = desk.window.header.part_choice
    i = combo.findText(name)
    combo.setCurrentIndex(i)
    combo.activated.emit(i)
    desk.settle(lambda: desk.facts is not None)


def on_screen(desk: Desk, feature: str) -> QPoint:
    """A pixel of the stage where the feature is seen."""
    faces = desk.facts.feature(feature).faces
    stage = desk.window.stage
    rows, cols = np.nonzero(np.isin(stage._face_at, faces))
    assert len(rows) > 20, f"{feature} is not in sight"
    k = len(rows) // 2
    return QPoint(int(cols[k] / stage._scale), int(rows[k] / stage._scale))


def test_from_mesh_to_exported_part_with_mouse(desk: Desk, tmp_path: Path) -> None:
    desk.settle(lambda: desk.facts is not None)
    assert "sound" in verdict(desk)
    press(desk, "Say what it must do")
    assert desk.window.current.name == "Duty"
    press(desk, "Lay it")
    gaps = _watch(desk)
    desk.settle(lambda: desk.fresh("lay") is not None)
    longest = gaps()
    ranked = desk.fresh("lay")
    assert len(ranked.ranking.orientations) >= 4 and len(ranked.ranking.net.reserve) >= 600
    assert ranked.strength.field.balance_error < 1e-3
    # Recorded here, judged by the bench table: the longest pause of the loop while it solved.
    print(f"longest event-loop gap while solving: {longest} ms")
    first = desk.view.orientations[0]  # as told, with what a close look may still find
    row = next(
        w for w in desk.window.current.panel.findChildren(type(_row(desk))) if w.orientation.letter == first.letter
    )
    QTest.mouseClick(row, Qt.MouseButton.LeftButton)
    desk.settle(lambda: desk.fresh("detail") is not None)
    assert desk.shop.parts.get(desk.part.id).orientation.direction == first.direction
    assert desk.window.stage.scene.reserve is not None and desk.window.log.log is not None
    press(desk, "Build it this way")
    desk.settle(lambda: desk.fresh("build") is not None)
    assert len(desk.fresh("build").board.dots) >= 60
    press(desk, "Use this recipe")
    desk.settle(lambda: desk.fresh("prove") is not None)
    assert "Solved again" in verdict(desk)
    desk.window.take("Fits")
    desk.settle()
    press(desk, "Correct the mesh")
    desk.settle(lambda: desk.fresh("correct") is not None)
    assert "4 places are corrected" in verdict(desk)
    desk.window.take("Run")
    desk.window.steps["Run"].export_to(tmp_path)
    desk.settle(lambda: bool(desk.window.steps["Run"].written))
    made = load_file(tmp_path / "hose-arm.3mf").mesh
    wanted = {c.feature: c.to_mm for c in desk.fresh("fits").corrections}
    drawn = sorted(f.diameter for f in find_features(made) if f.kind == "hole" and f.diameter < 7)
    assert drawn == pytest.approx(sorted(wanted.values()), abs=2e-3)
    assert {p.suffix for p in tmp_path.iterdir()} >= {".3mf", ".stl", ".html", ".pdf"}
    assert desk.window.steps["Run"].standing().mark is Mark.FULL
    # A change contradicts what was written: the steps that rest on it crack, and undo mends them.
    desk.window.take("Duty")
    enter(desk, field(desk, "Force of the wet hose"), "20 kgf")
    desk.settle()
    assert {n for n in ("Lay", "Build") if desk.window.core.standings[n].mark is Mark.CRACK} == {"Lay", "Build"}
    QTest.keyClick(desk.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    desk.settle()
    assert desk.window.core.standings["Lay"].mark is not Mark.CRACK
    assert desk.shop.parts.get(desk.part.id).design_case.cases[0].loads[0].force_N[2] == pytest.approx(-88.26)


def _row(desk: Desk):  # type: ignore[no-untyped-def]
    from knollside.gui.instruments.orientationrow import OrientationRow

    return desk.window.steps["Lay"].panel.findChild(OrientationRow)


def _watch(desk: Desk):  # type: ignore[no-untyped-def]
    """Measure the longest gap between turns of the event loop, drawing frames of the stage not counted."""
    clock, worst = QElapsedTimer(), [0]
    timer = QTimer(desk.window)
    clock.start()

    def beat() -> None:
        worst[0] = max(worst[0], clock.restart())

    timer.timeout.connect(beat)
    timer.start(5)

    def stop() -> int:
        timer.stop()
        return worst[0]

    return stop


def test_a_click_takes_a_whole_feature_and_the_card_marks_it(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    stage = desk.window.stage
    faces = desk.facts.features
    flat = next(f.id for f in faces if f.kind == "flat" and np.isin(stage._face_at, f.faces).sum() > 3000)
    QTest.mouseClick(stage, Qt.MouseButton.LeftButton, pos=on_screen(desk, flat))
    desk.app.processEvents()
    card = desk.window.card
    assert card.isVisible() and card.feature == flat and "cm²" in card.what.text()
    QTest.mouseClick(card.buttons[FaceMark.SHOWN], Qt.MouseButton.LeftButton)
    desk.settle()
    assert desk.shop.parts.get(desk.part.id).design_case.marks[flat] is SurfaceMark.SHOWN
    assert desk.window.header.undo.text().startswith("Undo: flat")
    QTest.mouseClick(desk.window.header.undo, Qt.MouseButton.LeftButton)
    assert flat not in desk.shop.parts.get(desk.part.id).design_case.marks


def test_every_step_is_reached_by_keyboard_alone(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    for i, name in enumerate(desk.window.steps):
        QTest.keyClick(desk.window, Qt.Key(Qt.Key.Key_1 + i), Qt.KeyboardModifier.AltModifier)
        assert desk.window.current.name == name
    QTest.keyClick(desk.window, Qt.Key.Key_1, Qt.KeyboardModifier.AltModifier)
    stage = desk.window.stage
    stage.setFocus()
    before = stage.camera
    QTest.keyClick(stage, Qt.Key.Key_Left)
    assert stage.camera.yaw != before.yaw
    QTest.keyClick(stage, Qt.Key.Key_PageDown)
    assert desk.session.picked == desk.facts.features[0].id
    QTest.keyClick(stage, Qt.Key.Key_Return)
    assert desk.window.card.isVisible()
    QTest.keyClick(desk.window.card, Qt.Key.Key_Escape)
    assert not desk.window.card.isVisible()
    QTest.keyClick(desk.window, Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    from knollside.gui.theme.look import look

    assert look.lamp
    look.switch(False)


def test_duty_takes_units_keeps_good_values_and_asks_about_danger(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Duty")
    desk.settle()
    part = desk.part.id
    enter(desk, field(desk, "Greatest heat"), "104 degF")
    assert desk.shop.parts.get(part).design_case.surroundings.temperature_c == pytest.approx(40)
    enter(desk, field(desk, "Greatest heat"), "warm")
    assert desk.shop.parts.get(part).design_case.surroundings.temperature_c == pytest.approx(40)
    step = desk.window.steps["Duty"]
    assert "Kept 40" in step.heat.note.text()
    enter(desk, field(desk, "Greatest heat"), "150")
    desk.settle()
    assert "softens at 79" in verdict(desk)
    desk.workspace.take_back()
    option = next(b for b in desk.window.findChildren(QRadioButton) if b.property("danger") is Danger.PERSON)
    QTest.mouseClick(option, Qt.MouseButton.LeftButton, pos=QPoint(12, option.height() // 2))
    desk.settle()
    assert "No verdict" in verdict(desk)
    assert desk.shop.parts.get(part).design_case.danger is Danger.PERSON
    combo = next(c for c in desk.window.findChildren(QComboBox) if c.accessibleName() == "Purpose of this print")
    combo.setFocus()
    QTest.keyClick(combo, Qt.Key.Key_Up)
    desk.settle()
    assert desk.shop.parts.get(part).design_case.purpose is Purpose.FIT_CHECK


def test_measuring_moves_the_correction_and_says_what_went_stale(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    open_part(desk, "Label plate")
    desk.window.take("Fits")
    desk.settle()
    press(desk, "Correct the mesh")
    desk.settle(lambda: desk.fresh("correct") is not None)
    before = desk.fresh("fits").corrections[0]
    edited = desk.fresh("correct")
    moved = (edited.mesh.vertices != desk.facts.mesh.vertices).any(axis=1)
    raised = desk.facts.mesh.vertices[:, 2] > 3.05
    assert moved.sum() == sum(c.moved for c in edited.changes) > 0 and not (moved & raised).any()
    desk.window.take("Bench")
    desk.settle(lambda: desk.window.steps["Proof"].pieces.piece is not None)
    slip = field(desk, "Reading of the calliper")
    bench = desk.window.steps["Bench"].measuring
    count = len(desk.part.readings)
    for text, words in (("hello", "Cannot read"), ("-3", "more than zero"), ("999", "Not taken")):
        enter(desk, slip, text)
        assert words in bench.said.text(), bench.said.text()
    assert len(desk.part.readings) == count
    drawn = bench.spot().drawn
    # Far from what older readings lead to expect, so asked for again; then taken.
    for words in ("once more", "-0.35 off"):
        enter(desk, slip, f"{(drawn - 0.35) / 25.4:.4f}")
        assert "Read as inches" in bench.said.text() and words in bench.said.text()
        desk.settle()
    for _ in range(3):
        spot = bench.spot()
        enter(desk, slip, f"{spot.drawn - 0.35:.2f}".replace(".", ","))
        desk.settle()
    press(desk, "Simulated calliper")
    desk.settle()
    assert len(desk.part.readings) == count + 5
    after = desk.fresh("fits").corrections[0]
    assert after.to_mm > before.to_mm + 0.02 and after.shift.count > before.shift.count
    assert desk.window.steps["Fits"].standing().mark is Mark.CRACK


def test_a_recorded_break_changes_every_reserve(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    open_part(desk, "M6 knob")
    desk.window.take("Lay")
    desk.settle(lambda: desk.fresh("lay") is not None)
    desk.window.steps["Lay"]._choose("A")
    desk.settle(lambda: desk.fresh("detail") is not None)
    bond, plain = desk.part.card.bond, desk.part.plain_card.basis[0]
    before = desk.window.core.standings["Lay"].words
    desk.at("Bench", "Trials", "Breaking")
    now = desk.fresh("detail").breaking[0]
    told = desk.window.steps["Bench"].trials.breaks.foretold.text()
    assert f"Pushed as “{now.case}” it goes at {float(f'{now.load.value:.2g}'):.0f} N" in told and "glasses" in seen(
        desk
    )
    enter(desk, field(desk, "Load when it broke"), "40 N")
    enter(desk, field(desk, "Where it broke"), "at the pocket")
    press(desk, "Record it")
    desk.settle()
    # The model moves, and every reserve with it; the bond is for pull bars to say.
    model = desk.part.card.model_along
    assert model is not None and model.source == "yours, 1 break" and desk.part.card.bond == bond
    assert "of what was foretold" in desk.window.steps["Bench"].trials.breaks.model.text()
    # The reserve is told anew, with what the break taught.
    assert desk.window.core.standings["Lay"].words != before
    kept = [p.broke for p in desk.shop.learned.prints() if p.broke and p.broke.place == "at the pocket"]
    assert [(b.load_N, b.basis) for b in kept] == [(40.0, plain)]
    assert kept[0].predicted_N == pytest.approx(now.parting_N)


def test_bad_files_are_told_and_nothing_is_lost(desk: Desk, tmp_path: Path) -> None:
    desk.settle(lambda: desk.facts is not None)
    parts = len(desk.shop.parts.names())
    said: list[str] = []
    desk.workspace.said.connect(said.append)
    (tmp_path / "torn.stl").write_bytes(stl_bytes(box(9, 9, 9))[:200])
    desk.window.part_step.open_file(str(tmp_path / "torn.stl"))
    desk.settle(lambda: bool(said))
    assert "torn.stl is cut short" in said[-1] and len(desk.shop.parts.names()) == parts
    (tmp_path / "inch.stl").write_bytes(stl_bytes(Mesh(box(80, 30, 20).vertices / 25.4, box(1, 1, 1).faces)))
    desk.window.part_step.open_file(str(tmp_path / "inch.stl"))
    desk.settle(lambda: desk.part.name == "Inch" and desk.facts is not None)
    assert "inch" in verdict(desk)
    press(desk, "It is in inch")
    desk.settle(lambda: desk.facts is not None and desk.facts.soundness.unit_suspicion is None)
    assert desk.facts.mesh.size == pytest.approx([80, 30, 20], abs=1e-3)
    assert desk.part.revision == 2
    m = box(30, 30, 30)
    (tmp_path / "open.stl").write_bytes(stl_bytes(Mesh(m.vertices, m.faces[1:])))
    desk.window.part_step.open_file(str(tmp_path / "open.stl"))
    desk.settle(lambda: desk.part.name == "Open" and desk.facts is not None)
    assert "not closed" in verdict(desk)
    desk.window.take("Duty")
    desk.window.take("Lay")
    desk.settle()
    assert "No load" in verdict(desk)


@pytest.mark.own_worker
def test_cancel_stops_the_solve_and_keeps_the_last_answer(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Lay")
    while desk.worker.busy_with != "lay":
        desk.app.processEvents()
    outcomes: list[Outcome] = []
    desk.worker.finished.connect(outcomes.append)
    QTest.keyClick(desk.window, Qt.Key.Key_Escape)
    desk.settle(lambda: bool(outcomes))
    assert outcomes[0].cancelled and desk.fresh("lay") is None
    assert "Every way can be tried" in verdict(desk)


@pytest.mark.own_worker
def test_the_worker_may_die_and_work_goes_on(desk: Desk) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.worker._process.terminate()
    desk.worker._process.join(5)
    desk.window.take("Proof")
    desk.settle()
    desk.window.steps["Proof"].make()
    desk.settle(lambda: desk.window.steps["Proof"].pieces.piece is not None)
    assert desk.window.steps["Proof"].standing().mark is Mark.HALF


def test_a_job_file_leaves_and_returns(desk: Desk, tmp_path: Path) -> None:
    desk.settle(lambda: desk.facts is not None)
    desk.window.take("Run")
    desk.window.steps["Run"].save_job(tmp_path / "arm.json")
    design_case = desk.part.design_case
    desk.window.part_step.open_file(str(tmp_path / "arm.json"))
    desk.settle(lambda: desk.facts is not None)
    assert desk.part.design_case == design_case and len(desk.shop.parts.names()) == 10
    assert desk.part.recipe.walls == 4 and len(desk.part.mates) == 4


def test_it_reopens_where_it_was(qapp, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    first = open_desk(qapp, tmp_path / "w.sqlite")
    first.settle(lambda: first.facts is not None)
    open_part(first, "M6 knob")
    first.window.resize(1111, 700)
    first.window.close()
    second = open_desk(qapp, tmp_path / "w.sqlite")
    assert second.part.name == "M6 knob"
    second.settle(lambda: second.facts is not None)
    second.window.close()


def test_a_window_closed_right_after_an_edit_asks_its_pages_nothing_more(qapp, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    from PyQt6.QtCore import QEvent

    made = open_desk(qapp, tmp_path / "w.sqlite")
    made.settle(lambda: made.facts is not None)
    made.window.take("Lay")
    made.put("recipe", made.part.recipe.model_copy(update={"walls": 7}), "seven walls")  # to be planned for, next turn
    made.window.close()
    made.derived.touch()
    made.window.deleteLater()
    qapp.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    qapp.processEvents()  # a page that is gone would raise here


def test_no_display_is_said_in_one_sentence() -> None:
    import os
    import subprocess
    import sys

    bare = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    done = subprocess.run(
        [sys.executable, "-m", "knollside.cli", "--demo"],
        env=bare,
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )
    assert done.returncode == 2 and done.stderr.count("\n") == 1 and "no display" in done.stderr


def test_the_demo_parts_are_small_files() -> None:
    assert all(p.stat().st_size < 1_000_000 for p in DEMO.glob("*.stl"))
