"""Test pieces made to size, the slip they are measured on, and test sections of a part."""

from __future__ import annotations

import math

import numpy as np
import pytest
from conftest import DEMO, mesh_of

from knollside.core.fit.clearance import gaps
from knollside.core.learning.readingstable import read_readings, write_readings
from knollside.core.mesh.check import check
from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_file
from knollside.core.mesh.slicer import cut, polygon_of
from knollside.core.model import Measurement, Recipe, Refused
from knollside.core.proof.bar import hole_and_pin_bar
from knollside.core.proof.couples import screw, snap_arms, thread_pair
from knollside.core.proof.ladders import flare_piece, gap_ladder, three_hinges
from knollside.core.proof.piece import Spot, gap_steps_of
from knollside.core.proof.section import section_box, section_plane
from knollside.core.proof.slip import middle_of, read_entry, wants_another
from knollside.sim.desk import PrintedPiece, SimulatedPrinter

UP = (0.0, 0.0, 1.0)


def test_the_bar_has_lying_holes_measured_twice() -> None:
    bar = hole_and_pin_bar([4.5, 5.3], lying=(4.5, 5.3))
    assert check(bar.mesh).sound and check(bar.mesh).bodies == 1
    lying = [f for f in find_features(bar.mesh) if f.kind == "hole" and abs(f.axis[0]) > 0.99]
    assert sorted(f.diameter for f in lying) == pytest.approx([4.5, 5.3], abs=1e-3)
    for d in (4.5, 5.3):
        axes = {s.axis for s in bar.spots if s.kind == "hole" and s.drawn == d}
        assert axes == {"upright", "lying", "plumb"}


def test_the_gap_ladders_gaps_are_as_drawn_and_every_peg_is_free_in_the_mesh() -> None:
    piece = gap_ladder(0.3, 0.2, gap_steps=5)
    found = check(piece.mesh)
    assert found.sound and found.bodies == 2 + 5 + 4
    inside = [r for r in piece.gap_steps if r.direction == "in the layer"]
    assert [r.drawn for r in inside] == pytest.approx([0.2, 0.25, 0.3, 0.35, 0.4])
    near = gaps(piece.mesh, UP, Recipe(layer_height=0.1))
    measured = sorted(g.in_layer for g in near if g.in_layer is not None and g.in_layer < 1)
    assert measured == pytest.approx([r.drawn for r in inside], abs=1e-6)
    across = sorted(g.smallest for g in near if g.in_layer is None)
    assert across == pytest.approx([0.2, 0.4, 0.6, 0.8], abs=1e-6)
    with pytest.raises(Refused):
        gap_steps_of(5.0, 3, 0.1)


def test_three_hinges_have_three_gaps() -> None:
    piece = three_hinges(0.4)
    assert check(piece.mesh).sound and check(piece.mesh).bodies == 6
    near = [g for g in gaps(piece.mesh, UP, Recipe()) if g.smallest < 0.9]
    assert sorted(g.smallest for g in near) == pytest.approx([0.3, 0.4, 0.5], abs=0.01)


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
