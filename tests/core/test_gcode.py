"""Reading toolpaths: every dialect of the same path is the same path, and what is found is what was written."""

from __future__ import annotations

from pathlib import Path

import manifold3d as m3
import numpy as np
import pytest
from conftest import DEMO, box, mesh_of

from knollside.core.job.ask import Answerer
from knollside.core.job.questions.part import Part, ReadMesh, names_of_new
from knollside.core.job.questions.settling import Proved, prove_printed
from knollside.core.job.slicedcheck import Plan, check_sliced
from knollside.core.material.cards import Material, material
from knollside.core.mesh.load import load_file
from knollside.core.model import DesignCase, FixedFixture, ForceLoad, LoadCase, Range, Recipe, Refused
from knollside.core.recipe.board import PlainPricer
from knollside.core.recipe.price import PrinterMotion
from knollside.core.run import gcode
from knollside.core.run.gcode import Toolpath, parse_gcode, read_gcode
from knollside.core.run.sliced import FILAMENT_MM, describe, differences
from knollside.demo import design_cases
from knollside.sim.toolpath import write_toolpath

UP = (0.0, 0.0, 1.0)


def parsed(text: str) -> Toolpath:
    return parse_gcode(np.frombuffer(text.encode(), np.uint8))


def written(mesh, recipe: Recipe, **more):  # type: ignore[no-untyped-def]
    return describe(parsed(write_toolpath(mesh, UP, recipe, 240, 80, **more)))


SQUARE = """G21
G90
G1 Z0.2 F600
G0 X0 Y0 F6000
G1 X10 Y0 E1 F1800
G1 X10 Y10 E2
G1 X0 Y10 E3
G1 X0 Y0 E4
"""
RELATIVE = SQUARE.replace("G90", "G90\nM83").replace("E2", "E1").replace("E3", "E1").replace("E4", "E1")
INCHES = """G20 ; an inch is 25.4 mm
G90
G1 Z0.0078740157 F23.622047
G0 X0 Y0 F236.22047
G1 X.3937007874 Y0 E0.03937007874 F70.8661417
G1 Y.3937007874 E0.07874015748
G1 X0 E.11811023622
G1 Y0 E.15748031496
"""
NOISY = """N1 g21*37
; a remark G1 X99 E9
G90 (and G1 X77 here)
SET_SOMETHING NAME=x VALUE=3
M117 G1 X50 Y50 E50
g1 z0.2 f600
G0X0Y0F6000
G01 X10. Y0 E1 F1800 ;X5
G1 X10 Y10 E2
G1 X0 Y10 E+3.0
G1 X0 Y0 E4.
"""


@pytest.mark.parametrize("text", [RELATIVE, INCHES, NOISY, SQUARE.replace("\n", "\r\n")])
def test_every_dialect_of_a_square_is_the_same_square(text: str) -> None:
    plain, other = parsed(SQUARE), parsed(text)
    assert other.at == pytest.approx(plain.at, abs=1e-6)
    assert other.pushed == pytest.approx(plain.pushed, abs=1e-6)
    assert other.speed == pytest.approx(plain.speed, rel=1e-5)


def test_fully_relative_moves_and_a_reset_of_the_filament_add_up() -> None:
    text = "G91\nG1 Z0.2 F600\nG1 X10 E1 F1800\nG1 Y10 E1\nG92 E0\nG1 X-10 E1\nG1 Y-10 E1\n"
    p = parsed(text)
    assert p.at[-1] == pytest.approx([0, 0, 0.2]) and p.pushed.sum() == pytest.approx(4)
    assert any("Relative" in n for n in p.notes)


@pytest.mark.parametrize(
    ("command", "end", "length"),
    [
        ("G2 X10 Y0 I5 J0 E1", (10, 0), 5 * np.pi),
        ("G3 X10 Y0 I5 J0 E1", (10, 0), 5 * np.pi),
        ("G3 X0 Y0 I5 J0 E1", (0, 0), 10 * np.pi),
        ("G2 X5 Y5 R5 E1", (5, 5), 2.5 * np.pi),
    ],
)
def test_arcs_are_as_long_as_their_circle_and_end_where_they_say(command: str, end, length: float) -> None:  # type: ignore[no-untyped-def]
    p = parsed(f"G90\nG0 X0 Y0 Z0.2 F600\n{command}\n")
    assert p.at[-1, :2] == pytest.approx(end, abs=1e-9)
    assert p.length[1:].sum() == pytest.approx(length, rel=1e-9)
    assert p.pushed.sum() == pytest.approx(1) and any("Arcs" in n for n in p.notes)
    if "I5" in command:
        assert np.hypot(p.at[1:, 0] - 5, p.at[1:, 1]) == pytest.approx(5)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "is empty"),
        (b"G1 X1 Y1\nG1 X2\n", "lays no line"),
        (b"a letter to a friend\n" * 5, "holds no moves"),
        (bytes(range(256)) * 40, "not plain text"),
    ],
)
def test_what_is_no_toolpath_is_refused_in_words(data: bytes, words: str) -> None:
    with pytest.raises(Refused, match=words):
        parse_gcode(np.frombuffer(data, np.uint8), "x.gcode")


def test_too_large_a_file_and_a_missing_one_are_refused(tmp_path: Path, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    (tmp_path / "a.gcode").write_text(SQUARE)
    monkeypatch.setattr(gcode, "MOST_BYTES", 10)
    with pytest.raises(Refused, match="up to 0 MB are read"):
        read_gcode(tmp_path / "a.gcode")
    with pytest.raises(Refused, match="cannot be opened"):
        read_gcode(tmp_path / "none.gcode")


def test_a_file_cut_short_says_so() -> None:
    whole = write_toolpath(box(20, 20, 4), UP, Recipe(), 240, 80)
    assert not parsed(whole).notes
    assert any("cut short" in n for n in parsed(whole[: len(whole) // 2]).notes)
    assert any("cut short" in n for n in parsed(whole[: whole.rindex("G1 ")] + "G1 X12 E").notes)


@pytest.mark.parametrize("walls", [1, 2, 3, 5])
@pytest.mark.parametrize("infill", [0.0, 0.2, 1.0])
def test_what_was_written_is_found_again(walls: int, infill: float) -> None:
    recipe = Recipe(walls=walls, infill=infill, layer_height=0.25, line_width=0.5, tops=3, bottoms=3)
    mesh = mesh_of(
        m3.Manifold.cube((40, 30, 8)) - m3.Manifold.cylinder(30, 5, circular_segments=48).translate((14, 15, -5))
    )
    s = written(mesh, recipe)
    assert len(s.layers) == 32 and s.layer_height == pytest.approx(0.25, abs=1e-6)
    assert s.line_width == pytest.approx(0.5, rel=1e-3) and s.walls == walls
    assert s.infill == pytest.approx(infill, abs=0.05)
    assert s.size == pytest.approx((40, 30, 8), abs=0.05)
    assert (s.nozzle_c, s.bed_c) == (240, 80) and s.fan == pytest.approx(0.8)
    again = s.recipe(recipe)
    assert (again.walls, again.layer_height, again.line_width) == (walls, 0.25, 0.5)


def test_plastic_and_time_are_the_sums_of_the_moves() -> None:
    p = parsed(SQUARE.replace("E4", "E4\nG1 Z0.4\nG1 X10 E5\nG1 Y10 E6\nG1 X0 E7\nG1 Y0 E8"))
    s = describe(p)
    area = np.pi * FILAMENT_MM**2 / 4
    assert s.volume == pytest.approx(8 * area) and s.filament_m == pytest.approx(0.008)
    # Eight sides of 10 mm at 30 mm/s, each with a stop and a start of v / a; lifting takes a little more.
    sides = 8 * (10 / 30 + 30 / 1500)
    assert sides < s.hours * 3600 < 1.1 * sides


def test_seams_start_where_they_were_told_to() -> None:
    mesh, recipe = box(40, 20, 6), Recipe(walls=2, infill=0.2)
    s = written(mesh, recipe, seam=(-100.0, -100.0))
    corner = np.array([110 - 20 + recipe.line_width / 2, 110 - 10 + recipe.line_width / 2])
    assert np.abs(s.seams[:, :2] - corner).max() < 0.01 and len(s.seams) == 30
    told = differences(s, recipe, material("PETG"), (40, 20, 6), [(-19.0, -9.0, 3.0), (15.0, 0.0, 3.0)])
    assert [d.title for d in told] == ["The seam runs through 1 weak place"]


def test_a_file_wrong_in_five_ways_is_told_in_order_of_harm() -> None:
    plan = Recipe(walls=4, infill=0.3, layer_height=0.2, line_width=0.45)
    made = plan.model_copy(update={"walls": 2, "infill": 0.1, "layer_height": 0.3})
    text = write_toolpath(box(40, 30, 20), UP, made, 205, 40)
    told = differences(describe(parsed(text)), plan, material("PETG"), (40, 30, 20))
    titles = [d.title for d in told]
    assert titles[:2] == ["Two walls where four were planned", "Nozzle 205 °C where PETG wants 230 to 250"]
    assert any("Layers of 0.30 mm" in t for t in titles) and any("Infill about 10 %" in t for t in titles)
    assert any("Bed 40" in t for t in titles) and len(told) == 5
    assert [d.harm for d in told] == sorted((d.harm for d in told), reverse=True)


def test_a_file_as_planned_differs_in_nothing_and_another_part_is_told_first() -> None:
    plan = Recipe(walls=3, infill=0.25)
    s = written(load_file(DEMO / "trellis-clip.stl").mesh, plan)
    assert differences(s, plan, material("PETG"), (26.5, 32.0, 14.0)) == ()
    assert differences(s, plan, material("PETG"), (70.0, 32.0, 4.0))[0].title == "Another size"


def test_the_reserve_of_what_the_file_prints_is_less_than_planned(tmp_path: Path) -> None:
    mesh, plan, ask = box(60, 16, 16), Recipe(walls=4, infill=0.4), Answerer()
    key = ask.meshes.put(mesh)
    named = Part(key, names_of_new(key, ask(ReadMesh(key)).facts))
    part = ask(named)

    def prove(recipe: Recipe, card: Material) -> Proved:
        return ask(prove_printed(named, design_case, recipe, card, stood, 4000))

    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 8, 8)),),
        cases=(LoadCase(name="a", loads=(ForceLoad(at=(60, 8, 8), force_N=(0, 0, -30)),)),),
    )
    held, stood = {}, (1.0, 0.0, 0.0)
    hollow = plan.model_copy(update={"walls": 1, "infill": 0.0})
    for name, recipe, heat in (("good", plan, 240), ("bad", hollow, 240), ("cold", plan, 220)):
        path = tmp_path / f"{name}.gcode"
        path.write_text(write_toolpath(mesh, stood, recipe, heat, 80))
        held[name] = check_sliced(read_gcode(path), name, Plan(part, design_case, plan, material("PETG"), stood), prove)
    assert held["good"].differences == () and held["good"].reserve is not None
    assert held["bad"].reserve.value < 0.6 * held["good"].reserve.value
    # Wider than the bond's own doubt alone: another grid was tried.
    bond, told = material("PETG").bond, held["good"].reserve
    assert told.low / told.value < bond.low / bond.value * (1 - 1e-4)
    # Pulled apart across the layers, it holds in proportion to the bond.
    assert held["cold"].reserve.value == pytest.approx(0.76 * held["good"].reserve.value, rel=0.03)
    volume = mesh.volume * 1e-3 * material("PETG").density
    assert held["bad"].grams < held["good"].grams < volume
    idle = check_sliced(
        read_gcode(tmp_path / "good.gcode"), "good", Plan(part, DesignCase(), plan, material("PETG"), stood), prove
    )
    assert idle.reserve is None and "Nothing is asked" in idle.why


@pytest.mark.parametrize(
    ("stem", "make"),
    [
        ("trellis-clip", design_cases.clip),
        ("m6-knob", design_cases.knob),
        ("stay-pawl", design_cases.pawl),
        ("stay-bar", design_cases.bar),
    ],
)
def test_hours_and_grams_foretold_are_those_of_the_written_file(stem: str, make) -> None:  # type: ignore[no-untyped-def]
    """The path-length model against the kinematic sum over every move of a file, at the file's own speeds."""
    mesh, recipe = load_file(DEMO / f"{stem}.stl").mesh, make()[1]
    s = written(mesh, recipe)
    printer_motion = PrinterMotion(wall=45, solid=70, infill=70, layer_floor=0, per_layer=0)
    told = PlainPricer(mesh, material("PETG"), UP, printer_motion, Range(1, 1, 1), recipe).price(recipe)
    assert told.hours.value == pytest.approx(s.hours, rel=0.1)
    # Lines end in short of the walls in the file; plastic is a few per cent less there.
    assert told.grams == pytest.approx(s.volume * 1.27 / 1000, rel=0.06)
