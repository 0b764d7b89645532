"""The instruments one by one: what a click or key on each says, and that each draws in both themes."""

import numpy as np
import pytest
import shapely
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest

from knollside.core.fit.correction import correct
from knollside.core.fit.freeing import learn_frees
from knollside.core.fit.process import process_of
from knollside.core.job import answer
from knollside.core.material.allowables import allowables
from knollside.core.material.cards import material
from knollside.core.mesh.appearance import DRAWN_AT_MOST, appearance_of
from knollside.core.model import (
    FaceMark,
    Feature,
    GapTrial,
    LoadCase,
    Mate,
    Measurement,
    Mesh,
    Range,
    Recipe,
    Surroundings,
)
from knollside.gui.instruments import fitstrips, strips
from knollside.gui.instruments.knock_downs import KnockDownStrip
from knollside.gui.instruments.ladder import FitLadder
from knollside.gui.instruments.layer_profile import LogStrip
from knollside.gui.instruments.orientation_net import disc_direction, disc_point
from knollside.gui.instruments.step_rail import CoreColumn
from knollside.gui.instruments.verdictline import VerdictLine
from knollside.gui.instruments.widgets import Chip, NumberField, RangeBar, reserve_tone, times
from knollside.gui.stepbase import Act, Mark, Standing, Verdict
from knollside.gui.theme.look import TOKENS, font, load_fonts, look
from knollside.gui.viewport import raster
from knollside.gui.viewport.camera import Camera
from knollside.gui.viewport.scene import Arrow, Scene
from knollside.gui.viewport.view import StageView
from knollside.gui.viewport.warmup import draw_once
from knollside.warm import box


@pytest.fixture(params=["Day", "Lamp"], autouse=True)
def theme(request, qapp):  # type: ignore[no-untyped-def]
    load_fonts()
    look.switch(request.param == "Lamp")
    yield request.param
    look.switch(False)


def colours(widget) -> int:  # type: ignore[no-untyped-def]
    """How many different colours a widget shows: a drawing has several, a blank has one."""
    image = widget.grab().toImage()
    step = max(image.width() // 60, 1)
    return len({image.pixel(x, y) for x in range(0, image.width(), step) for y in range(0, image.height(), step)})


def contrast(a: str, b: str) -> float:
    """Contrast ratio of two colours (WCAG 2 relative luminance)."""

    def light(h: str) -> float:
        c = np.array([int(h[i : i + 2], 16) for i in (1, 3, 5)]) / 255
        c = np.where(c <= 0.03928, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)
        return float(c @ [0.2126, 0.7152, 0.0722])

    high, low = sorted((light(a), light(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def test_text_is_readable_on_every_ground(theme: str) -> None:
    k = 1 if theme == "Lamp" else 0
    for ink in ("peat", "slate", "moss", "straw ink", "clay", "spring", "heather"):
        for ground in ("chalk", "paper"):
            assert contrast(TOKENS[ink][k], TOKENS[ground][k]) >= 4.5, (ink, ground)
    assert contrast(TOKENS["peat"][k], TOKENS["warn"][k]) >= 4.5
    assert contrast(TOKENS["on moss"][k], TOKENS["moss"][k]) >= 4.5


def test_the_shipped_fonts_are_there_with_weights_and_even_digits() -> None:
    from PyQt6.QtGui import QFontInfo, QFontMetricsF

    assert "Atkinson" in QFontInfo(font()).family()
    assert "Mono" in QFontInfo(font(12, mono=True)).family()
    thin, fat = (QFontMetricsF(font(40, w)).horizontalAdvance("Layers hold") for w in (400, 800))
    assert fat > thin * 1.02
    digits = {round(QFontMetricsF(font(30)).horizontalAdvance(str(d)), 2) for d in range(10)}
    assert len(digits) == 1


@pytest.mark.parametrize(
    ("kind", "unit", "text", "value"),
    [
        ("length", "mm", "5/8 in", 15.875),
        ("length", "mm", "12+0,2", 12.2),
        ("share", "%", "30", 0.3),
        ("share", "%", "45 %", 0.45),
        ("force", "N", "2 kgf", 19.6133),
    ],
)
def test_a_number_field_reads_units_and_sums(qtbot, kind, unit, text, value) -> None:  # type: ignore[no-untyped-def]
    f = NumberField("size", kind, unit, low=0, high=1000)
    qtbot.addWidget(f)
    got: list[float] = []
    f.entered.connect(got.append)
    f.line.selectAll()
    QTest.keyClicks(f.line, text)
    QTest.keyClick(f.line, Qt.Key.Key_Return)
    assert got == [pytest.approx(value)]


def test_a_bad_number_says_why_and_the_good_one_stays(qtbot) -> None:  # type: ignore[no-untyped-def]
    f = NumberField("size", "length", "mm", step=0.5, low=0, high=10)
    qtbot.addWidget(f)
    f.put(4)
    got: list[float] = []
    f.entered.connect(got.append)
    for text, words in (("wide", "Kept 4"), ("55", "Between 0 and 10")):
        f.line.selectAll()
        QTest.keyClicks(f.line, text)
        QTest.keyClick(f.line, Qt.Key.Key_Return)
        assert words in f.note.text() and f.value == 4 and not got
    f._show()
    QTest.keyClick(f.line, Qt.Key.Key_Up)
    assert got == [4.5]


def test_tones_and_words_of_a_reserve() -> None:
    assert [reserve_tone(Range(v, v - 1, v + 1), 3) for v in (4.5, 3.2, 1.5)] == ["moss", "straw ink", "clay"]
    assert [times(v) for v in (2.64, 13.7, 140)] == ["2.6", "14", "over 20"]
    assert colours(RangeBar(Range(3, 2, 4), 3)) > 3
    assert Chip("yours, 6").sizeHint().width() > Chip("x").sizeHint().width()


def test_the_core_tells_its_marks_apart_and_takes_clicks_and_arrows(qtbot) -> None:  # type: ignore[no-untyped-def]
    names = ["Part", "Duty", "Lay", "Workshop"]
    core = CoreColumn(names)
    qtbot.addWidget(core)
    core.resize(216, 480)
    pictures = []
    for mark in Mark:
        core.put({n: Standing(mark, "Sound. Four screw holes, one saddle.") for n in names}, "Part")
        pictures.append(
            bytes(core.grab().toImage().convertToFormat(core.grab().toImage().format()).bits().asarray(4000))
        )
    taken: list[str] = []
    core.taken.connect(taken.append)
    QTest.mouseClick(core, Qt.MouseButton.LeftButton, pos=QPoint(120, 200))
    QTest.keyClick(core, Qt.Key.Key_Down)
    assert taken == ["Duty", "Duty"] and "saddle" in core.accessibleDescription()
    assert colours(core) > 6


def a_log() -> answer.LayerLog:
    h = np.linspace(0.5, 49.5, 50)
    return answer.LayerLog(
        h, 2 + h / 20, 1.5 + h / 25, 500 + 3 * h, np.where(h > 30, 8.0, 0), np.zeros(0), 0.0, 250, 0.2
    )


def test_the_log_stands_at_the_weak_height_and_its_cursor_moves(qtbot) -> None:  # type: ignore[no-untyped-def]
    strip = LogStrip()
    qtbot.addWidget(strip)
    strip.resize(204, 640)
    strip.put(a_log(), 3.0, False)
    assert strip.cursor_mm == pytest.approx(0.5)
    moved: list[float] = []
    strip.moved.connect(moved.append)
    QTest.keyClick(strip, Qt.Key.Key_Up)
    assert moved == [pytest.approx(0.7)]
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(100, int(strip._y(25.0))))
    assert moved[-1] == pytest.approx(25, abs=0.2)
    assert colours(strip) > 8


def test_a_direction_and_its_opposite_share_one_place_on_the_net() -> None:
    centre = np.array([0.48, -0.62, 0.62])
    centre /= np.linalg.norm(centre)
    rng = np.random.default_rng(2)
    d = rng.standard_normal((4000, 3))
    d /= np.linalg.norm(d, axis=1, keepdims=True)
    p = np.array([disc_point(x, centre) for x in d])
    assert p == pytest.approx(np.array([disc_point(-x, centre) for x in d]))
    # Equal area: a quarter of the disc's area holds a quarter of the directions.
    assert (np.hypot(*p.T) < 0.5).mean() == pytest.approx(0.25, abs=0.03)
    assert disc_point(centre, centre) == (0.0, 0.0)


def test_the_verdict_line_keeps_its_buttons_and_shows_work(qtbot) -> None:  # type: ignore[no-untyped-def]
    done: list[str] = []
    line = VerdictLine(lambda: done.append("cancel"))
    qtbot.addWidget(line)
    line.resize(692, 112)
    line.show()
    verdict = Verdict(
        "It holds.", "Why.", "2.6", "×", ("1 to 3",), "moss", "typical", (Act("Go", lambda: done.append("go")),)
    )
    line.put(verdict)
    first = line.acts[0]
    QTest.mouseClick(first, Qt.MouseButton.LeftButton)
    line.put(verdict)
    assert line.acts[0] is first and first.text() == "Go" and not line.acts[1].isVisible()
    line.show_progress("Solving …", 0.4)
    assert line.bar.value() == 40 and not first.isVisible()
    QTest.mouseClick(line.stop, Qt.MouseButton.LeftButton)
    line.show_progress("", 0)
    assert done == ["go", "cancel"] and first.isVisible()
    assert "It holds." in line.accessibleDescription()


def test_every_strip_draws_with_and_without_something_to_show(qtbot) -> None:  # type: ignore[no-untyped-def]
    hole = Feature("hole-1", "hole", (0, 0, 0), (0, 0, 1.0), np.arange(3), 1.0, 5.0, 8.0, True, 48)
    readings = tuple(Measurement(kind="hole", axis="upright", drawn=d, printed=d - 0.2) for d in (3, 5, 8))
    row = correct(hole, Mate(feature="hole-1", hardware="M5", fit="slide"), (0, 0, 1), readings)
    allow = allowables(
        material("PETG"), Surroundings(temperature_c=45, sun=True), LoadCase(name="x", loads=(), permanent=True)
    )
    inside = "in the layer"
    trials = tuple(GapTrial(direction=inside, drawn=g, freed=g > 0.2) for g in (0.1, 0.2, 0.3))
    ring = shapely.Point(0, 0).buffer(20).difference(shapely.Point(0, 0).buffer(6))
    shown = [
        (KnockDownStrip(), lambda w: w.put(None, "", ""), lambda w: w.put(allow, "the hose", "PETG")),
        (strips.WeakCut(), lambda w: w.put(None, Recipe(), ""), lambda w: w.put(ring, Recipe(), "here")),
        (fitstrips.FitCut(), lambda w: w.put(None), lambda w: w.put(row)),
        (fitstrips.ErrorChart(), lambda w: None, lambda w: w.put(process_of(readings, "upright"), readings, "hole")),
        (fitstrips.GapChart(), lambda w: None, lambda w: w.put(trials, {inside: learn_frees(trials, inside)})),
        (strips.BedPlan(), lambda w: None, lambda w: w.put(ring, (220, 220), "Part", "under")),
    ]
    for widget, empty, full in shown:
        qtbot.addWidget(widget)
        widget.resize(692, 190)
        empty(widget)
        before = colours(widget)
        full(widget)
        assert colours(widget) > before, type(widget).__name__


def test_the_ladder_takes_a_row(qtbot) -> None:  # type: ignore[no-untyped-def]
    hole = Feature("hole-1", "hole", (0, 0, 0), (0, 0, 1.0), np.arange(3), 1.0, 5.3, 8.0, True, 48)
    rows = tuple(correct(hole, Mate(feature="hole-1", hardware="M5", fit=f), (0, 0, 1), ()) for f in ("close", "slide"))
    ladder = FitLadder()
    qtbot.addWidget(ladder)
    ladder.put(rows, "hole-1", {"hole-1"})
    ladder.resize(340, ladder.height())
    got: list[str] = []
    ladder.taken.connect(got.append)
    QTest.mouseClick(ladder, Qt.MouseButton.LeftButton, pos=QPoint(50, 60))
    assert got == ["hole-1"] and colours(ladder) > 8


# The stage


def test_drawing_covers_the_projected_area_and_knows_its_faces() -> None:
    mesh = box(10, 10, 10)
    image = draw_once(mesh, 200, 160)
    assert 0.2 < (image[..., 3] == 255).mean() < 0.7
    front = Camera(yaw=0, pitch=0, zoom=4)
    screen = front.project(mesh.vertices, mesh.bounds.mean(axis=0), 100, 100)
    depth, face_at = np.full((100, 100), -1e30, np.float32), np.full((100, 100), -1, np.int32)
    height = mesh.vertices[:, 2]
    raster.draw(screen, mesh.faces, height, np.inf, depth, face_at, np.empty((100, 100, 2), np.float32))
    seen = face_at >= 0
    assert seen.sum() == 40 * 40
    assert (mesh.normals[np.unique(face_at[seen])] == [0, -1, 0]).all()


def test_an_open_part_shows_its_cut_and_not_what_lies_above() -> None:
    mesh = box(10, 10, 10)
    # From straight above the whole square is cut; from the front 4 of its 10 mm are left, and no cut is seen.
    for pitch, cut, front in ((89.99, 40 * 40, 0), (0.0, 0, 40 * 16)):
        screen = Camera(yaw=0, pitch=pitch, zoom=4).project(mesh.vertices, mesh.bounds.mean(axis=0), 100, 100)
        depth, face_at = np.full((100, 100), -1e30, np.float32), np.full((100, 100), -1, np.int32)
        raster.draw(screen, mesh.faces, mesh.vertices[:, 2], 4.0, depth, face_at, np.empty((100, 100, 2), np.float32))
        assert abs(int((face_at == raster.CUT).sum()) - cut) < 100
        assert abs(int((face_at >= 0).sum()) - front) < 100


def test_the_camera_keeps_the_part_in_view_and_right_angles() -> None:
    rng = np.random.default_rng(0)
    points = rng.uniform(-50, 80, (200, 3))
    for yaw, pitch in ((0, 0), (37, 61), (200, -30)):
        camera = Camera(yaw, pitch).fitted(points, points.mean(axis=0), 500, 400)
        at = camera.project(points, points.mean(axis=0), 500, 400)
        assert at[:, 0].min() > 0 and at[:, 0].max() < 500 and at[:, 1].min() > 0 and at[:, 1].max() < 400
        assert camera.basis() @ camera.basis().T == pytest.approx(np.eye(3))
        assert np.linalg.det(camera.basis()) == pytest.approx(1)
    assert Camera(pitch=80).turned(0, 40).pitch == 89


def test_a_huge_mesh_is_drawn_simplified_and_picked_whole() -> None:
    n = 220
    x, y = np.meshgrid(np.linspace(0, 100, n), np.linspace(0, 100, n))
    z = 3 * np.sin(x / 7) * np.cos(y / 9)
    v = np.stack([x.ravel(), y.ravel(), z.ravel()], axis=1)
    i = np.arange(n * n).reshape(n, n)
    a, b, c, d = (k.ravel() for k in (i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1]))
    mesh = Mesh(v, np.vstack([np.c_[a, b, c], np.c_[a, c, d]]))
    seen = appearance_of(mesh)
    assert len(mesh.faces) > DRAWN_AT_MOST >= len(seen.mesh.faces) > 5000
    middle = mesh.triangles[seen.original].mean(axis=1)
    assert np.linalg.norm(middle - seen.mesh.triangles.mean(axis=1), axis=1).max() < 3
    assert seen.mesh.vertices == pytest.approx(mesh.vertices[seen.corner_of])


def test_marks_and_paint_change_the_picture_and_a_click_names_the_face(qtbot) -> None:  # type: ignore[no-untyped-def]
    view = StageView()
    qtbot.addWidget(view)
    view.resize(400, 360)
    view.show()
    assert view.face_at(QPointF(200, 180)) == -1
    seen = appearance_of(box(30, 20, 10))
    pictures = set()
    for k, mark in enumerate([None, *FaceMark]):
        marks = np.full(12, raster.MARKS[mark.value] if mark else 0)
        view.show_scene(Scene(look=seen, marks=marks, title="Box", legend=(mark.value,) if mark else ()))
        pictures.add(bytes(view.grab().toImage().constBits().asarray(4 * 400 * 200)))
        assert len(pictures) == k + 1
    view.show_scene(
        Scene(
            look=seen,
            direction=(0, 0, 1),
            reserve=np.linspace(0.5, 6, 8),
            target=2,
            cursor=5,
            arrows=(Arrow((30, 10, 5), (1, 0, 0), "10 N"),),
            place=(0, 0, 10),
            place_words="goes first",
        )
    )
    pictures.add(bytes(view.grab().toImage().constBits().asarray(4 * 400 * 200)))
    assert len(pictures) == 8
    got: list[int] = []
    view.picked.connect(lambda face, at: got.append(face))
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(200, 190))
    assert got[0] >= 0
    yaw = view.camera.yaw
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=QPoint(200, 190))
    QTest.mouseMove(view, QPoint(260, 190))
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(260, 190))
    QTest.keyClick(view, Qt.Key.Key_Plus)
    assert len(got) == 1 and view.camera.yaw != yaw, "a drag turns the part and picks nothing"


def test_the_net_maps_places_and_directions_to_and_fro() -> None:
    centre = np.array([0.48, -0.62, 0.62]) / np.linalg.norm([0.48, -0.62, 0.62])
    for x, y in ((0.0, 0.0), (0.3, -0.5), (-0.9, 0.2), (0.1, 0.95)):
        d = disc_direction(np.array(x), np.array(y), centre)
        assert np.linalg.norm(d) == pytest.approx(1) and d @ centre > -1e-9
        assert disc_point(d, centre) == pytest.approx((x, y), abs=1e-9)


def test_the_stair_takes_a_factor_of_ones_own(qtbot) -> None:  # type: ignore[no-untyped-def]
    case = LoadCase(name="the hose", loads=(), permanent=True)
    stair = KnockDownStrip()
    qtbot.addWidget(stair)
    stair.resize(700, 190)
    stair.put(allowables(material("PETG"), Surroundings(temperature_c=45), case), "the hose", "PETG")
    stair.show()
    stair.grab()
    said: list[tuple[str, object]] = []
    stair.changed.connect(lambda name, value: said.append((name, value)))
    box = stair._boxes[1][0]
    QTest.mouseClick(stair, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    assert stair.entry.isVisible() and stair.entry.text() == "0.33"
    QTest.keyClicks(stair.entry, "0,5")
    QTest.keyClick(stair.entry, Qt.Key.Key_Return)
    assert said == [("Always loaded", 0.5)] and not stair.entry.isVisible()
    stair.edit(1)
    QTest.keyClicks(stair.entry, "seven")
    QTest.keyClick(stair.entry, Qt.Key.Key_Return)
    assert len(said) == 1, "nonsense is not taken"
    stair.entry.clear()
    QTest.keyClick(stair.entry, Qt.Key.Key_Return)
    assert said[-1] == ("Always loaded", None)
