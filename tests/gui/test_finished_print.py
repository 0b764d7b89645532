"""A print off the bed, clicked: cleaned place by place, tried dry, recorded, judged, photographed, found again."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from conftest import Desk, press, press_in_panel, seen, turn_to, type_in
from PyQt6.QtCore import QDate, Qt
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from knollside.core.job.asked import stated_of
from knollside.core.job.file import parse_job, write_job
from knollside.core.lay.cleanup import Mess
from knollside.core.model import Mate, Measurement, Orientation
from knollside.core.model.prints import PrintDetails
from knollside.core.model.running import PlateDone
from knollside.gui.instruments.widgets import Chip, Dropdown
from knollside.gui.runprogress import details_of_plate
from knollside.store.jobs import job_of
from knollside.store.records import Kind, PrintRecord

DAY = datetime(2026, 11, 28, 10)


def open_part(desk: Desk, name: str) -> None:
    desk.workspace.open(next(p.id for p in desk.shop.parts.names() if p.name == name))
    desk.settle(lambda: desk.facts is not None)


def pick(desk: Desk, name: str, words: str) -> None:
    box = next(w for w in desk.window.findChildren(Dropdown) if w.accessibleName() == name and w.isVisible())
    i = next(i for i in range(box.count()) if words in box.itemText(i))
    box.setCurrentIndex(i)
    box.activated.emit(i)
    desk.settle()


def test_places_are_lit_in_order_and_a_moving_mate_is_told(desk: Desk) -> None:
    open_part(desk, "Gate latch")
    desk.at("Bench", "Clean up")
    desk.settle(lambda: desk.fresh("finish") is not None)
    page = desk.window.steps["Bench"].clean
    many = len(page.finishing.chores)
    lit = []
    for k in range(many):
        assert f"{k + 1} of {many}" in seen(desk)
        scene = desk.window.current.scene()
        assert scene.place == page.chore.at and scene.place_words == page.chore.mess.value
        lit.append(page.chore.mess)
        press(desk, "Done, next")
    assert "Now put it together dry" in desk.window.verdict_line.title.text()
    assert lit == sorted(lit, key=list(Mess).index)
    moving = [t for t in page.finishing.tries if t.moving]
    assert moving, "the latch has a bolt that slides"
    press_in_panel(desk, "with a push")
    kept = desk.shop.running.fit_checks()[desk.part.id].checks
    assert [(c.mate, c.moved) for c in kept] == [("bodies 1 and 2", "with a push")]
    assert "moves with a push" in seen(desk)
    # It tells what this printer frees, as a rung of a ladder does.
    trials = [t for _, _, t in desk.shop.learned.gap_trials(desk.part.printer_id, desk.part.material)]
    assert [(t.drawn, t.freed) for t in trials] == [(pytest.approx(moving[0].between.gap), True)]
    desk.workspace.take_back()
    desk.settle()
    assert desk.shop.running.fit_checks() == {}
    assert desk.shop.learned.gap_trials(desk.part.printer_id, desk.part.material) == []


def mated(desk: Desk) -> Desk:
    """A clip with a rod of its own that slides in its lowest upright hole."""
    open_part(desk, "Hose arm")
    hole = next(f for f in desk.facts.features if f.kind == "hole" and f.all_round)
    rod = Mate(feature=hole.id, size_mm=hole.diameter - 0.3, fit="slide")
    axis = tuple(float(c) for c in hole.axis)
    desk.workspace.edit({Kind.MATES: (rod,), Kind.ORIENTATION: Orientation(direction=axis)}, "a rod")
    desk.at("Bench", "Clean up")
    desk.settle(lambda: desk.fresh("finish") is not None)
    return desk


def test_a_dry_fit_moves_the_window_of_its_class_and_starts_the_running_in(desk: Desk) -> None:
    mated(desk)
    (m,) = desk.part.mates
    typical = desk.part.windows["slide"]
    odds = desk.fresh("fits").corrections[0].chance_now
    press_in_panel(desk, "not at all")
    desk.settle(lambda: desk.fresh("finish") is not None and desk.fresh("fits") is not None)
    (kept,) = desk.part.fit_checks
    assert (kept.told, kept.fit, kept.material) == ("binds", "slide", desk.part.material)
    # What it was foretold to have is the scale of the window, so the lower edge is believed higher now.
    assert kept.gap_mm is not None and desk.part.windows["slide"][0] > typical[0]
    assert desk.fresh("fits").corrections[0].chance_now[0] > odds[0]
    # Measured, it is the mate's running-in; moved before, it says nothing of the class any more.
    type_in(desk, "Gap measured", "0.24")
    type_in(desk, "Moved before, times", "30")
    press_in_panel(desk, "by itself")
    desk.settle(lambda: desk.fresh("finish") is not None)
    assert desk.part.mates[0].worn == ((30.0, 0.24),) and desk.part.fit_checks[-1].told == ""
    assert "moves by itself after 30 times, gap 0.24 mm" in seen(desk)
    desk.at("Fits")
    turn_to(desk, "Mates")
    desk.session.pick(m.feature)
    desk.settle(lambda: desk.fresh("fits") is not None)
    assert any(c.source == "yours, 1 dry fit" for c in desk.window.findChildren(Chip) if c.isVisible())
    assert "moves by itself after 30 times" in seen(desk)
    job = parse_job(write_job(job_of(desk.part, desk.part, "arm.stl")))
    assert stated_of(job).windows == desk.part.windows
    for _ in range(2):
        desk.workspace.take_back()
    # What a mate wore is kept to its last sixty, so that the part can always be read again.
    many = m.model_copy(update={"worn": tuple((float(k), 0.2) for k in range(60))})
    desk.workspace.edit({Kind.MATES: (many,)}, "worn long")
    desk.at("Bench", "Clean up")
    desk.settle(lambda: desk.fresh("finish") is not None)
    type_in(desk, "Gap measured", "0.3")
    press_in_panel(desk, "by itself")
    assert desk.shop.parts.get(desk.part.id).mates[0].worn[-2:] == ((59.0, 0.2), (0.0, 0.3))
    for _ in range(2):
        desk.workspace.take_back()
    desk.settle()
    assert desk.part.windows["slide"] == typical and desk.part.mates == (m,) and desk.part.fit_checks == ()


@pytest.fixture
def clip(desk: Desk) -> Desk:
    open_part(desk, "Trellis clip")
    desk.workspace.clock = lambda: DAY
    desk.at("Bench", "Record")
    desk.settle(lambda: desk.fresh("price") is not None)
    return desk


def test_a_second_clip_says_why_it_was_printed_cooler_and_is_found_by_that(clip: Desk, tmp_path: Path) -> None:
    record = clip.window.steps["Bench"].record
    hot = clip.part.recipe.model_copy(update={"nozzle_c": 250.0})
    clip.workspace.edit({Kind.RECIPE: hot}, "hot")
    clip.settle(lambda: clip.fresh("price") is not None)
    press(clip, "Record the print")
    clip.workspace.clock = lambda: DAY + timedelta(days=1)
    clip.workspace.edit({Kind.RECIPE: hot.model_copy(update={"nozzle_c": 238.0})}, "cooler")
    clip.settle(lambda: clip.fresh("price") is not None)
    type_in(clip, "Hours it took", "1.5")
    press(clip, "Record the print")
    first, second = [r for r in clip.shop.learned.prints() if r.part_id == clip.part.id][-2:]
    assert first.details.recipe.nozzle_c == 250 and second.details.recipe.nozzle_c == 238
    assert "Nozzle 238 °C, before 250 °C" in second.details.why and second.details.estimate_g > 1
    # Judged, with what to change next.
    pick(clip, "Verdict on strength", "good")
    type_in(clip, "What to change next", "Round the neck")
    assert clip.shop.learned.prints()[-1].details.strength == "good"
    assert clip.shop.learned.prints()[-1].details.next == "Round the neck"
    type_in(clip, "Grams it weighs", "9.7")
    assert clip.shop.learned.prints()[-1].details.actual_g == 9.7
    # Beside the first.
    pick(clip, "Compare with", "28 Nov")
    assert "nozzle: 250 °C › 238 °C" in seen(clip) and "strength: nothing said › good" in seen(clip)
    # Its story.
    record.story_to(tmp_path / "clip.html")
    clip.settle(lambda: (tmp_path / "clip.html").exists())
    assert "Round the neck" in (tmp_path / "clip.html").read_text()
    record.story_to(tmp_path / "clip.pdf")
    clip.settle(lambda: (tmp_path / "clip.pdf").exists())
    assert (tmp_path / "clip.pdf").read_bytes().startswith(b"%PDF")
    # Found in the workshop's record by the heat.
    clip.window.take("Workshop")
    type_in(clip, "Search the record", "clip 238 °C")
    table = clip.window.steps["Workshop"].table
    assert second.id in table.shown
    type_in(clip, "Search the record", '"nozzle 238" neck')
    assert table.shown == (second.id,)
    table.table.selectRow(0)
    clip.settle()
    assert "Why so: Nozzle 238 °C, before 250 °C" in table.about.text()
    while clip.workspace.history.can_undo:
        clip.workspace.take_back()
    assert {first.id, second.id} & {r.id for r in clip.shop.learned.prints()} == set()


def photo(path: Path, words: str = "") -> Path:
    image = QImage(3000, 2000, QImage.Format.Format_RGB32)
    image.fill(QColor("#557722"))
    if words:
        image.setText("Description", words)
    assert image.save(str(path))
    return path


def test_a_photo_is_kept_small_without_what_came_with_it_and_what_is_none_is_said(clip: Desk, tmp_path: Path) -> None:
    press(clip, "Record the print")
    record = clip.window.steps["Bench"].record
    secret = "51.5 north 0.1 west"
    record.photos.take(photo(tmp_path / "a.png", secret))
    clip.settle(lambda: bool(clip.shop.learned.thumbs(record.shown.id)))
    number, thumb = clip.shop.learned.thumbs(record.shown.id)[0]
    kept = clip.shop.learned.photo(number)
    assert secret.encode() not in kept.picture and b"Exif" not in kept.picture and kept.picture.startswith(b"\xff\xd8")
    shown = QImage.fromData(kept.picture)
    assert (shown.width(), shown.height()) == (1600, 1066) and QImage.fromData(thumb).width() == 176
    pictures = [w for w in record.findChildren(QPushButton) if w.accessibleName().startswith("Photo") and w.isVisible()]
    assert len(pictures) == 1
    QTest.mouseClick(pictures[0], Qt.MouseButton.LeftButton)
    clip.settle()
    assert record.photos.large.isVisible() and record.photos.large.pixmap().width() == 1000
    record.photos.large.close()
    for name, data, words in (
        ("b.jpg", b"no picture at all" * 9, "is no picture that is read here"),
        ("c.jpg", b"\xff\xd8\xff\xe0" + b"\0" * 64, "c.jpg"),
    ):
        (tmp_path / name).write_bytes(data)
        record.photos.take(tmp_path / name)
        clip.settle(lambda words=words: words in record.told.text())
    with open(tmp_path / "d.jpg", "wb") as f:
        f.truncate(200 * 2**20)
    record.photos.take(tmp_path / "d.jpg")
    clip.settle(lambda: "the limit is 64 MB" in record.told.text())
    assert len(clip.shop.learned.thumbs(record.shown.id)) == 1
    clip.workspace.take_back()
    clip.settle()
    assert clip.shop.learned.thumbs(record.shown.id) == []
    clip.workspace.make_again()
    clip.settle()
    assert clip.shop.learned.thumbs(record.shown.id)[0][0] == number


def test_details_that_are_too_long_are_said_and_nothing_is_kept(clip: Desk) -> None:
    press(clip, "Record the print")
    record = clip.window.steps["Bench"].record
    record.change(why="x" * 2001)
    assert "too long" in record.told.text() and record.shown.details == PrintDetails.model_validate(
        record.shown.details.model_dump()
    )
    turn_to(clip, "Measure")


def test_prints_on_another_printer_and_on_a_plate_with_others_belong_to_the_parts_life(clip: Desk) -> None:
    record = clip.window.steps["Bench"].record
    before = len(record.prints)
    brick = next(n for n, f in clip.workspace.shelf.printers.items() if f.name == "The Brick")
    alone = PrintRecord(0, clip.part.id, brick, "ASA", DAY, None, None, "came out well", None)
    plate = PrintDetails(plate="two of a kind", parts=(clip.part.id, clip.part.id + 1))
    shared = PrintRecord(0, None, brick, "ASA", DAY, 2.0, 2.1, "came out well: two of a kind", None, plate)
    for made in (alone, shared):
        clip.workspace.kept.add_print(made, "a print")
    clip.settle()
    assert len(record.prints) == before + 2 and len(record.chart.shown) == before + 2
    record._take(record.prints[-1].id)
    clip.settle()
    assert "2.1 h taken" in seen(clip)
    clip.window.take("Workshop")
    type_in(clip, "Search the record", '"two of a kind"')
    (line,) = clip.window.steps["Workshop"].table.model.shown
    assert line.cells[1].startswith("Trellis clip, ")


def test_a_stuck_pair_teaches_its_gap_only_where_nothing_lies_across_the_layers(desk: Desk) -> None:
    open_part(desk, "Gate latch")
    desk.at("Bench", "Clean up")
    desk.settle(lambda: desk.fresh("finish") is not None)
    page = desk.window.steps["Bench"].clean
    (pair,) = (t for t in page.finishing.tries if t.between is not None)
    for alone, counted in ((False, 0), (True, 1)):
        page.moved(replace(pair, between=replace(pair.between, alone=alone)), "not at all")
        desk.settle()
        trials = desk.shop.learned.gap_trials(desk.part.printer_id, desk.part.material)
        assert [t.freed for _, _, t in trials] == [False] * counted


def test_a_print_kept_late_has_its_own_day_and_what_was_measured_then(clip: Desk) -> None:
    record = clip.window.steps["Bench"].record
    kept = Measurement(kind="hole", axis="upright", drawn=5.3, printed=5.12, on=DAY.date() - timedelta(days=3))
    clip.workspace.kept.add_readings((kept,), "a reading")
    hot = clip.part.recipe.model_copy(update={"nozzle_c": 251.0})
    press(clip, "Record the print")
    clip.workspace.edit({Kind.RECIPE: hot}, "hot")
    clip.settle(lambda: clip.fresh("price") is not None)
    record.day.setDate(QDate(2026, 11, 25))
    press(clip, "Record the print")
    late = next(r for r in clip.shop.learned.prints() if r.made == datetime(2026, 11, 25, 12))
    assert late.details.recipe.nozzle_c == 251 and record.day.date() == QDate(2026, 11, 28)
    # Nobody said why today's was cooler than that one.
    clip.workspace.clock = lambda: DAY + timedelta(hours=2)
    clip.workspace.edit({Kind.RECIPE: hot.model_copy(update={"walls": 7})}, "thicker")
    clip.settle(lambda: clip.fresh("price") is not None)
    press(clip, "Record the print")
    assert "Why walls 7, before" in record.told.text() and "Say it below." in record.told.text()
    record._take(late.id)
    clip.settle()
    assert "Measured that day: upright hole 5.3: 5.12 mm." in seen(clip)
    assert ("upright hole 5.3: 5.12 mm",) in [k.measured for k in record.story().prints]


def test_a_break_is_kept_with_its_picture(clip: Desk, tmp_path: Path) -> None:
    clip.at("Bench", "Trials", "Breaking")
    page = clip.window.steps["Bench"].trials.breaks
    type_in(clip, "Load when it broke", "120")
    press_in_panel(clip, "Record it")
    broken = clip.shop.learned.prints()[-1]
    assert broken.broke is not None and "The last one, 28 Nov: broke along a layer." in seen(clip)
    page.photos.take(photo(tmp_path / "broken.png"))
    clip.settle(lambda: bool(clip.shop.learned.thumbs(broken.id)))
    assert next(w.accessibleName() for w in page.photos.findChildren(QPushButton)).startswith("Photo")
    assert "Kept, without its place and camera." in page.told.text()


def test_a_plate_of_several_parts_keeps_what_each_was_printed_as(clip: Desk) -> None:
    other = next(p.id for p in clip.shop.parts.names() if p.name == "Hose arm")
    me = clip.part.id
    done = PlateDone(pieces=((me, 1), (other, 1), (other, 2)), state="printed", printer="Old Tom", title="two kinds")
    details = details_of_plate(clip.workspace, done, None)
    assert details.parts == tuple(sorted((me, other))) and details.recipe is None
    assert details.of_part(me).recipe == clip.part.recipe
    assert details.of_part(other).recipe == clip.shop.parts.get(other).recipe != clip.part.recipe
    at = (0, None, clip.part.printer_id, clip.part.material, DAY, None, None)
    clip.workspace.kept.add_print(PrintRecord(*at, "printed: two kinds", None, details), "a plate")
    clip.settle()
    walls = f"walls {clip.part.recipe.walls}"
    assert walls in seen(clip) and "revision 1" in seen(clip)
    # Judged, it stays the plate's record.
    pick(clip, "Verdict on look", "good")
    kept = clip.shop.learned.prints()[-1].details
    assert kept.look == "good" and kept.recipe is None and kept.each == details.each
    last = clip.window.steps["Bench"].record.story().prints[-1]
    assert last.details.recipe == clip.part.recipe
