"""Test pieces made to size, the slip they are measured on, and test sections of a part."""

from __future__ import annotations

import math

import numpy as np
import pytest
import shapely
from conftest import DEMO, mesh_of

from knollside.core.fit.clearance import gaps
from knollside.core.learning.readingstable import read_readings, write_readings
from knollside.core.mesh.check import check
from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_file
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Measurement, Mesh, Recipe, Refused
from knollside.core.proof.bar import hole_and_pin_bar
from knollside.core.proof.couples import screw, snap_arms, thread_pair
from knollside.core.proof.ladders import (
    flare_piece,
    gap_ladder,
    roof_pads,
    single_wall,
    square_piece,
    supported_face,
    three_hinges,
)
from knollside.core.proof.piece import Spot, gap_steps_of
from knollside.core.proof.pullbars import pull_bars
from knollside.core.proof.section import section_box, section_plane
from knollside.core.proof.slip import middle_of, read_entry, wants_another
from knollside.sim.desk import PrintedPiece, SimulatedPrinter

UP = (0.0, 0.0, 1.0)


def test_the_gap_ladders_gaps_are_as_drawn_and_every_peg_is_free_in_the_mesh() -> None:
    piece = gap_ladder(0.3, 0.2, gap_steps=5)
    found = check(piece.mesh)
    assert found.sound and found.bodies == 2 + 5 + 4
    inside = [r for r in piece.gap_steps if r.direction == "in the layer"]
    assert [r.drawn for r in inside] == pytest.approx([0.2, 0.25, 0.3, 0.35, 0.4])
    near = gaps(piece.mesh, UP, Recipe(layer_height=0.1))
    measured = sorted(g.anywhere.in_layer for g in near if (g.anywhere.in_layer or 9) < 1)
    assert measured == pytest.approx([r.drawn for r in inside], abs=1e-6)
    across = sorted(g.smallest for g in near if g.anywhere.in_layer is None and g.smallest < 1)
    assert across == pytest.approx([0.2, 0.4, 0.6, 0.8], abs=1e-6)
    with pytest.raises(Refused):
        gap_steps_of(5.0, 3, 0.1)


def test_three_hinges_have_three_gaps() -> None:
    piece = three_hinges(0.4)
    assert check(piece.mesh).sound and check(piece.mesh).bodies == 6
    near = [g for g in gaps(piece.mesh, UP, Recipe()) if g.smallest < 0.9]
    assert sorted(g.smallest for g in near) == pytest.approx([0.3, 0.4, 0.5], abs=0.01)


def test_each_hinge_turns_a_quarter_is_captive_and_sits_in_its_notched_place() -> None:
    from knollside.core.mesh.solid import solid_of

    for k, g in enumerate((0.3, 0.4, 0.5)):
        found = [b for b in parts_of(three_hinges(0.4).mesh) if abs(b.bounds[:, 1].mean() - 15 - 40 * k) < 2]
        left, right = (solid_of(b).translate((0, -40.0 * k, -4.0)) for b in found)
        for turn in (10, 45, 90):  # about the pin's axis, upwards
            assert (left ^ right.rotate((0, -turn, 0))).volume() < 1e-6
        for way in ((1, 0, 0), (-1, 0, 0), (0, 1, 0), (0, -1, 0)):
            assert (left ^ right.translate(tuple(c * (g * 2**0.5 + 0.1) for c in way))).volume() > 0.01
        assert np.allclose(found[0].bounds, [[-14, 40 * k, 0], [4, 40 * k + 30, 8]], atol=1e-3)
        assert np.allclose(found[1].bounds, [[-4, 40 * k, 0], [14, 40 * k + 30, 8]], atol=1e-3)
        # Both leaves rest on the bed over their length and are three thick.
        for leaf, x in ((found[0], -8.0), (found[1], 8.0)):
            section = cut(Mesh(leaf.vertices[:, [1, 2, 0]], leaf.faces), np.array([x]))
            assert polygon_of(section.at(0)).area == pytest.approx(30 * 3, abs=1e-6)


def test_the_flare_piece_is_measured_at_foot_and_waist() -> None:
    piece = flare_piece()
    assert {s.kind for s in piece.spots} == {"foot", "pin"} and "bottom" in piece.spots[0].how
    printer = SimulatedPrinter(flare=0.2, scatter=0.0)
    feet = printer.true_size("foot", "upright", 20) - printer.true_size("pin", "upright", 20)
    assert feet == pytest.approx(0.4)


def test_threads_have_isos_profile_and_the_nuts_its_allowance() -> None:
    major, pitch = 20.0, 2.5
    body = mesh_of(screw(major, pitch, 20))
    deep = 5 / 8 * math.sqrt(3) / 2 * pitch
    r = np.linalg.norm(body.vertices[:, :2], axis=1)
    assert 2 * r.max() == pytest.approx(major, abs=1e-6) and 2 * r[r > 1].min() == pytest.approx(
        major - 2 * deep, abs=0.05
    )
    pair = thread_pair(major, pitch, (0.1,))
    assert check(pair.mesh).sound and check(pair.mesh).bodies == 2
    # Moving a 30 degree flank by a moves it a / sin 30 along the radius: all round, in every section.
    a, b = (polygon_of(cut(mesh_of(screw(major, pitch, 20, o)), np.array([10.0])).at(0)) for o in (0.0, 0.1))
    assert math.sqrt(b.area / math.pi) - math.sqrt(a.area / math.pi) == pytest.approx(0.2, abs=0.01)
    with pytest.raises(Refused):
        thread_pair(2.0, 2.5)


def test_snap_arms_bend_by_the_cantilevers_formula() -> None:
    piece = snap_arms(20, 2, 8, 0.03)
    limit = 0.03 * 20**2 / (1.5 * 2)
    assert check(piece.mesh).sound and check(piece.mesh).bodies == 1
    assert f"{limit * 0.7:.1f}, {limit:.1f}, {limit * 1.4:.1f} mm" in piece.about
    with pytest.raises(Refused):
        snap_arms(1, 2, 8, 0.03)


def test_a_section_is_closed_smaller_and_lies_the_same_way() -> None:
    arm = load_file(DEMO / "hose-arm.stl").mesh
    holes = tuple(f for f in find_features(arm) if f.kind == "hole")[:1]
    piece = section_box(arm, holes, 4.0)
    assert check(piece.mesh).sound and piece.share < 0.2
    assert [round(f.diameter, 2) for f in find_features(piece.mesh) if f.kind == "hole" and f.role == ""] == [5.3]
    found = next(f for f in find_features(piece.mesh) if f.kind == "hole" and f.role == "")
    assert np.allclose(found.centre, holes[0].centre, atol=1e-6)  # in the part's own frame
    half = section_plane(arm, holes, np.array([0, 0, 1.0]), 50.0)
    assert half.mesh.bounds[0, 2] == pytest.approx(50) and 0.2 < half.share < 0.8
    with pytest.raises(Refused, match="print the part itself"):
        section_box(arm, holes, 500.0)
    with pytest.raises(Refused):
        section_box(arm, (), 4.0)


SPOTS = (
    Spot("hole 1", "hole", 5.3, (0, 0, 0)),
    Spot("hole 2", "hole", 8.0, (0, 0, 0)),
    Spot("pin 1", "pin", 12.7, (0, 0, 0)),
)


@pytest.mark.parametrize(
    ("text", "spot", "words"),
    [
        ("hello", 0, "Cannot read"),
        ("-3", 0, "more than zero"),
        ("0.52", 0, "a tenth"),
        ("52.1", 0, "ten times"),
        ("7.8", 0, "about hole 2"),
        ("2.0", 0, "cannot be hole 1"),
    ],
)
def test_slips_are_caught_with_a_sentence(text: str, spot: int, words: str) -> None:
    with pytest.raises(Refused, match=words):
        read_entry(text, SPOTS[spot], SPOTS)


def test_inches_commas_and_repeats_are_read() -> None:
    inch = read_entry("0.5", SPOTS[2], SPOTS)
    assert inch.value == pytest.approx(12.7) and "inches" in inch.note
    assert read_entry("5,12", SPOTS[0], SPOTS).value == pytest.approx(5.12)
    assert wants_another((5.10,)) == "" == wants_another((5.10, 5.13)) and "once more" in wants_another((5.1, 5.3))
    assert middle_of((5.1, 5.3, 5.12)) == pytest.approx(5.12)
    printed = PrintedPiece(SimulatedPrinter(), 3)
    reads = [printed.read(SPOTS[0], k) for k in range(40)]
    assert np.std(reads) < 0.02 and np.mean(reads) == pytest.approx(printed.size(SPOTS[0]), abs=0.005)


def test_readings_go_out_and_come_back_as_a_table() -> None:
    taken = (
        Measurement(
            kind="hole", axis="plumb", drawn=5, printed=4.7, nozzle_mm=0.4, layer_height=0.2, bar="a", repeats=2
        ),
        Measurement(kind="foot", axis="upright", drawn=20, printed=20.4, left_out=True),
    )
    back = read_readings(write_readings(taken))
    assert [m.model_copy(update={"source": "typed"}) for m in back] == list(taken)
    assert read_readings("kind;axis;drawn;printed\nhole;upright;5,0;4,8")[0].printed == 4.8
    for text, words in (
        ("", "empty"),
        ("a,b\n1,2", "no column 'kind'"),
        ("kind,axis,drawn,printed\nhole,upright,5,-1", "row 2, printed"),
        ("kind,axis,drawn,printed\nslot,upright,5,5", "row 2, kind"),
        ("kind,axis,drawn,printed", "no readings"),
    ):
        with pytest.raises(Refused, match=words):
            read_readings(text)


def test_rungs_come_free_by_the_printers_hidden_limit() -> None:
    piece = gap_ladder(0.3, 0.2)
    printed = PrintedPiece(SimulatedPrinter(frees=0.27), 5)
    freed = {r.drawn: printed.came_free(r) for r in piece.gap_steps if r.direction == "in the layer"}
    assert freed[0.15] is False and freed[0.45] is True


def parts_of(mesh: Mesh) -> list[Mesh]:
    """The bodies of a piece, from left to right and then from front to back."""
    label = bodies_of(mesh)[1]
    made = [Mesh(mesh.vertices, mesh.faces[label == k]) for k in range(label.max() + 1)]
    return sorted(made, key=lambda m: (m.bounds[0][1] > 13.9, m.bounds[0][0], m.volume))


def round_area(d: float) -> float:
    """Of a circle drawn with 96 sides."""
    return 96 / 2 * math.sin(2 * math.pi / 96) * d**2 / 4


def test_every_place_of_a_slip_is_on_its_piece_and_measures_there_what_is_written() -> None:
    """A calliper in the mesh: the section a little under (hole) or at the place, and what is round or wide there."""
    bar = hole_and_pin_bar([4.5, 5.3, 9.0], lying=(4.5, 5.3))
    for s in bar.spots:
        x, y, z = s.at
        if s.axis != "upright":  # its middle, at the block's far side: 12 deep, sunk half a millimetre into the bar
            turned = Mesh(bar.mesh.vertices[:, [1, 2, 0]], bar.mesh.faces)
            plane, at = polygon_of(cut(turned, np.array([x - 0.01])).at(0)), (y, z)
            assert x == pytest.approx(bar.mesh.bounds[1, 0], abs=1e-6)
        else:
            plane, at = polygon_of(cut(bar.mesh, np.array([z - 0.5])).at(0)), (x, y)
            height = 6.0 if s.kind == "hole" else 14.0
            assert z == pytest.approx(height)
        spot = shapely.Point(at)
        if s.kind == "pin":
            here = next(p for p in shapely.get_parts(plane) if p.contains(spot))
        else:
            here = next(h for h in map(shapely.Polygon, shapely.get_parts(plane)[0].interiors) if h.contains(spot))
        assert here.area == pytest.approx(round_area(s.drawn), rel=1e-6)
        assert np.allclose(here.centroid.coords[0], at, atol=1e-6)
    for s in flare_piece(20.0).spots:
        plane = polygon_of(cut(flare_piece(20.0).mesh, np.array([s.at[2]])).at(0))
        assert plane.boundary.distance(shapely.Point(s.at[:2])) < 1e-9
        x0, y0, x1, y1 = plane.bounds
        assert s.drawn == pytest.approx(x1 - x0 if "long" in s.name else y1 - y0)
        assert s.at[2] == pytest.approx(0.2 if s.kind == "foot" else 4.0)  # half-way up eight millimetres


def test_pull_bars_and_their_fillers_are_as_large_at_every_height() -> None:
    piece = pull_bars(4)
    found = check(piece.mesh)
    assert found.sound and found.bodies == 8 and piece.mesh.size[2] == pytest.approx(56.0)
    heights = np.linspace(0.5, 49.5, 60)
    cuts = cut(piece.mesh, heights)
    areas = np.array([polygon_of(cuts.at(k)).area for k in range(len(heights))])
    assert areas == pytest.approx(np.full(60, 4 * 6.0 * (12 + 3)), rel=1e-6)  # so is the time of every layer
    # The neck is 4 x 6 mm, and no flank leans more than the taper's 4 mm over 9.
    one = pull_bars(1)
    neck = polygon_of(cut(one.mesh, np.array([28.0])).at(0))
    assert sorted(round(p.area, 6) for p in shapely.get_parts(neck)) == [24.0, 66.0]
    lying = pull_bars(3, standing=False)
    assert lying.mesh.size[2] == pytest.approx(6.0) and check(lying.mesh).bodies == 3
    # Told apart by notches: each head has one more than the last.
    low, high = polygon_of(cut(piece.mesh, np.array([53.0])).at(0)), 6.0 * 12
    short = sorted(high - p.area for p in shapely.get_parts(low) if p.area > 40)
    assert np.diff(short) == pytest.approx(np.full(3, short[0]), rel=0.01)
    # Drawn by lot they stand elsewhere, the same bars.
    drawn = pull_bars(4, lot=12)
    assert drawn.mesh.volume == pytest.approx(piece.mesh.volume) and "drawn by lot" in drawn.about
    order = [int(k) for k in drawn.about.split("From the left: ")[1].split(",")[0].split()]
    cutting = shapely.get_parts(polygon_of(cut(drawn.mesh, np.array([53.0])).at(0)))
    found = sorted((p.centroid.x, 6.0 * 12 - p.area) for p in cutting if p.area > 40)
    assert [round(gone / short[0]) for _, gone in found] == order != [1, 2, 3, 4]
    with pytest.raises(Refused, match="One to eight"):
        pull_bars(9)


def test_roof_pads_are_told_apart_by_notches() -> None:
    piece = roof_pads(4)
    assert check(piece.mesh).sound and check(piece.mesh).bodies == 4 and piece.mesh.size[2] == pytest.approx(5.0)
    pads = shapely.get_parts(polygon_of(cut(piece.mesh, np.array([2.5])).at(0)))
    lost = [18.0**2 - p.area for p in sorted(pads, key=lambda p: p.centroid.x)]
    assert np.diff(lost) == pytest.approx(np.full(3, lost[0]), rel=1e-6) and lost[0] > 0.3
    for none in (1, 9):
        with pytest.raises(Refused, match="Two to eight"):
            roof_pads(none)


def test_the_frame_square_has_its_sides_and_diagonals() -> None:
    piece = square_piece(100.0)
    assert check(piece.mesh).sound and piece.mesh.size == pytest.approx([100, 100, 3])
    assert piece.mesh.volume == pytest.approx((100**2 - 84**2 - 4) * 3, rel=1e-3)


def test_the_bar_weighs_what_its_drawing_says() -> None:
    """Plate with a corner cut off, less the holes, with the pins; a wall of three millimetres round every hole."""
    bar = hole_and_pin_bar([4.0, 8.0, 6.0, 10.0])
    length = 3 + 4 / 2 + (4 / 2 + 5.5 + 6 / 2) + (6 / 2 + 5.5 + 8 / 2) + (8 / 2 + 5.5 + 10 / 2) + 10 / 2 + 3
    width = 2 * 10 + 3 * 3
    rounds = sum(round_area(d) for d in (4, 6, 8, 10))
    assert np.allclose(bar.mesh.bounds, [[0, 0, 0], [length, width, 14]], atol=1e-6)
    assert bar.mesh.volume == pytest.approx((length * width - 4 * 4 / 2 - rounds) * 6 + rounds * 8, rel=1e-6)
    few = hole_and_pin_bar([5.0])  # spread out, none within six tenths of another
    assert sorted({s.drawn for s in few.spots}) == [4.0, 5.0, 6.0, 8.0]
    assert 4.0 in {s.drawn for s in hole_and_pin_bar([4.8]).spots} - {s.drawn for s in hole_and_pin_bar([4.5]).spots}
    assert check(lying_bar := hole_and_pin_bar([4.5], lying=(4.5,)).mesh).sound and check(lying_bar).bodies == 1
    lying = hole_and_pin_bar([4.0, 8.0, 6.0, 10.0], lying=(4.0, 6.0))
    tall, far = 6 + 2 * 3, max(3 + 4 + 3 + 6 + 3, width)
    assert np.allclose(lying.mesh.bounds[1], [length + 11.5, far, 14], atol=1e-6)
    more = 12 * (far * tall - round_area(4) - round_area(6)) - 0.5 * (width * 6 - round_area(4) - round_area(6))
    # The drills run on through half a millimetre of the bar that the block is sunk into.
    drilled = lying.mesh.volume - bar.mesh.volume
    assert drilled == pytest.approx(more - 0.5 * (round_area(4) + round_area(6)), rel=0.02)


def test_the_gap_ladder_is_as_its_drawing() -> None:
    piece = gap_ladder(0.3, 0.2, gap_steps=5)
    bodies = parts_of(piece.mesh)
    bodies.sort(key=lambda b: float(b.bounds[0, 0]))
    pegs, lids = (
        [b for b in bodies if np.allclose(np.ptp(b.bounds, axis=0), size)] for size in ((6, 6, 8), (6, 10, 3))
    )
    frame = next(b for b in bodies if np.ptp(b.bounds[:, 0]) > 60)
    base = next(b for b in bodies if 40 < np.ptp(b.bounds[:, 0]) < 60)
    for peg, step in zip(pegs, piece.gap_steps[:5], strict=True):
        assert np.allclose([*peg.bounds.mean(axis=0)[:2], peg.bounds[1, 2]], step.at)  # the middle of its top
        # The first groove of its number is at the frame's far edge.
        assert np.isclose(frame.vertices[:, 0], peg.bounds[0, 0] - 0.8 - 0.4, atol=1e-6).any()
    for k, (lid, step) in enumerate(zip(lids, piece.gap_steps[5:], strict=True), 1):
        assert step.number == k and step.drawn == pytest.approx(0.2 * k)
        assert lid.bounds[0, 2] - base.bounds[1, 2] == pytest.approx(step.drawn)
        x, y, z = step.at
        assert lid.bounds[0, 0] < x < lid.bounds[1, 0] and z == pytest.approx(lid.bounds[1, 2])
        # Held over the bar, with a lip beyond it to lift it by.
        assert base.bounds[0, 1] < lid.bounds[0, 1] < y < base.bounds[1, 1] < lid.bounds[1, 1]
    cut_out = sum((6 + 2 * g) ** 2 for g in (0.2, 0.25, 0.3, 0.35, 0.4)) * 5
    whole = np.prod(np.ptp(frame.bounds, axis=0))
    assert whole - frame.volume == pytest.approx(cut_out + 15 * 0.8 * 0.8 * 5, rel=1e-6)
    assert np.prod(np.ptp(base.bounds, axis=0)) - base.volume == pytest.approx(10 * 0.8 * 0.8 * 3, rel=1e-6)


def test_snap_arms_and_nuts_are_as_their_drawing() -> None:
    length, thick, wide, strain = 20.0, 2.0, 8.0, 0.03
    reach = strain * length**2 / (1.5 * thick)
    arms = snap_arms(length, thick, wide, strain).mesh
    foot = 3 * (thick + 1.4 * reach + 6) + 6
    hooks = sum((3 + 2 - min(2.0, t * reach)) / 2 * t * reach for t in (0.7, 1.0, 1.4))
    # Hooks are sunk a hundredth into the arms; one groove of 0.8 by 0.8 at the edge, five twice as long inside.
    flat = 12 * foot + 3 * length * thick + hooks - 3 * 0.01 * 3 - 0.8 * 0.8 - 5 * 0.8 * 1.6
    assert arms.volume == pytest.approx(flat * wide, rel=1e-5)
    assert np.allclose(np.ptp(arms.bounds, axis=0), [12 + length, foot, wide], atol=1e-6)
    tops = sorted({round(float(v[1]), 3) for v in arms.vertices if v[0] > 12 + length - 2.5})
    for k, t in enumerate((0.7, 1.0, 1.4)):
        y = 6 + k * (thick + 1.4 * reach + 6)
        assert {round(y, 3), round(y + thick - 0.01 + t * reach, 3)} <= set(tops)
    pair = thread_pair(10, 1.5, (0.05, 0.1))
    bolt, *nuts = parts_of(pair.mesh)
    across = 10 * 1.7 + 6
    assert np.ptp(bolt.bounds[:, 2]) == pytest.approx(8 + 4 + 5) and bolt.bounds[1, 0] == pytest.approx(across / 2)
    hexagon = 3 * math.sqrt(3) / 2 * (across / 2) ** 2
    shank = bolt.volume - 5 * hexagon
    for k, nut in enumerate(nuts, 1):
        assert nut.bounds[1, 0] == pytest.approx(k * (across + 3) + across / 2)
        hollow = 8 * hexagon - nut.volume - k * 0.8 * 0.8 * 8
        # A flank moved by a is 2 a farther out: the hole is larger by that all round than the shank.
        mean = math.sqrt(shank / 12 / math.pi)
        assert hollow / 8 == pytest.approx(math.pi * (mean + 2 * 0.05 * k) ** 2, rel=0.01)


def test_a_slip_takes_what_may_be_and_refuses_what_cannot() -> None:
    """Inches and slips of the point within 15 %, a size within half and once and a half."""
    spot = Spot("it", "hole", 20.0, (0, 0, 0))
    for text, value in ((f"{20 / 25.4 * 1.149:.5f}", 20 * 1.149), ("12.1", 12.1), ("29.9", 29.9)):
        assert read_entry(text, spot).value == pytest.approx(value, rel=1e-4)
    for text in (f"{20 / 25.4 * 1.151:.5f}", "1.72", "2.29", "172", "229", "11.9", "30.1"):
        with pytest.raises(Refused):
            read_entry(text, spot)
    others = (spot, Spot("other", "hole", 22.0, (0, 0, 0)), Spot("third", "hole", 21.6, (0, 0, 0)))
    with pytest.raises(Refused, match="about third"):
        read_entry("21.5", spot, others)
    assert read_entry("21.25", spot, others).value == 21.25  # within half a millimetre and a twenty-fifth
    assert wants_another((5.0, 5.059)) == "" and wants_another((5.0, 5.061)) and wants_another((5.0, 5.2, 5.25)) == ""


def test_a_single_wall_is_one_line_thick_and_a_held_face_has_its_sides() -> None:
    wall = single_wall(0.45)
    by_hand = (40**2 - (40 - 0.9) ** 2) * 15 - 4 * 0.45 * 2
    assert wall.mesh.volume == pytest.approx(by_hand, rel=1e-9) and not wall.spots
    face = supported_face(14, 9)
    assert face.mesh.size[0] == pytest.approx(17) and face.mesh.size[1] == pytest.approx(9)
    assert face.mesh.volume == pytest.approx(3 * 9 * 10 + 14 * 9 * 2)
    for bad in (lambda: single_wall(0.05), lambda: supported_face(3, 9)):
        with pytest.raises(Refused):
            bad()
