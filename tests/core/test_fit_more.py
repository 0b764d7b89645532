"""Fits from mates to mesh: covers after growth, partners, hinges, the job file, the command line, and bad input."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest
from conftest import mesh_of
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold

from knollside.cli import main
from knollside.core.fit.correction import correct
from knollside.core.fit.process import learn
from knollside.core.job import answer, correcting
from knollside.core.job.file import parse_job, write_job
from knollside.core.mesh.bore import carve, grown
from knollside.core.mesh.check import check
from knollside.core.mesh.features import find_features
from knollside.core.mesh.helix import helical, profile_of
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import GapTrial, Mate, Measurement, Recipe, Refused

UP = (0.0, 0.0, 1.0)
PLATE = Manifold.cube((40, 40, 10))


def rod(d: float, length: float, sides: int = 64) -> Manifold:
    return Manifold.cylinder(length, d / 2, circular_segments=sides)


@settings(max_examples=15, deadline=None)
@given(
    st.floats(2, 9), st.floats(0.05, 0.6), st.integers(8, 90), st.tuples(*[st.floats(-80, 80)] * 3), st.floats(0.5, 2.5)
)
def test_any_countersunk_hole_grows_to_the_solid_drawn_so(
    d: float, more: float, sides: int, turn: tuple[float, float, float], deep: float
) -> None:
    sink = Manifold.cylinder(deep + 0.01, d / 2, d / 2 + deep, sides).translate((20, 20, 10 - deep))
    base = PLATE - rod(d, 20, sides).translate((20, 20, -5)) - sink
    mesh = mesh_of(base.rotate(turn))
    holes = [f for f in find_features(mesh) if f.kind == "hole"]
    made = carve(mesh, [grown(mesh, holes[0], d + more)], "Hole")
    drawn = base - rod(d + more, 20, sides).translate((20, 20, -5))
    # The hole's diameter is read from the mesh: a polygon's rounder reading may be taken.
    scale = (d + more) / (holes[0].diameter or d) * d
    drawn = base - rod(scale, 20, sides).translate((20, 20, -5))
    assert made.volume == pytest.approx(drawn.volume(), rel=2e-5)


def test_a_counterbored_hole_is_opened_and_covered_in_one_go() -> None:
    part = answer.read_part(mesh_of(PLATE - rod(5, 20).translate((20, 20, -5)) - rod(9, 8).translate((20, 20, -4))))
    f = next(f for f in part.features if f.kind == "hole" and f.role == "")
    for cover, how in (("skin", "shut by a skin"), ("steps", "stepped up to")):
        mates = (Mate(feature=f.id, hardware="M5", fit="medium", cover=cover),)
        found, _ = correcting.corrections(part, mates, UP, ())
        made = correcting.apply_corrections(part, mates, found, UP, Recipe())
        assert how in [c.how for c in made.changes] and check(made.mesh).sound
        total = sum(c.volume_found for c in made.changes)
        assert total == pytest.approx(made.mesh.volume - part.mesh.volume, rel=1e-6)
        for c in made.changes:
            assert c.volume_found == pytest.approx(c.volume_predicted, rel=0.01, abs=0.02)
    mates = (Mate(feature=f.id, hardware="as drawn", fit="as drawn", cover="skin"),)
    ((name, why),) = correcting.apply_corrections(part, mates, (), (0.0, 0.0, -1.0), Recipe()).refused
    assert name == f.id and "bed" in why


def test_a_hole_under_a_countersink_gets_narrower() -> None:
    sunk = PLATE - rod(6, 20).translate((20, 20, -5)) - Manifold.cylinder(3, 3, 6, 64).translate((20, 20, 7))
    part = answer.read_part(mesh_of(sunk))
    mates = (Mate(feature="hole-1", hardware="rod 5 mm", fit="slide"),)
    found, _ = correcting.corrections(part, mates, UP, ())
    made = correcting.apply_corrections(part, mates, found, UP, Recipe())
    assert [c.how for c in made.changes] == ["wall moved"] and check(made.mesh).sound
    (hole,) = [g for g in find_features(made.mesh) if g.kind == "hole"]
    assert hole.diameter == pytest.approx(found[0].to_mm, abs=1e-3) and found[0].to_mm < 6
    lying = (Mate(feature="hole-1", hardware="rod 5 mm", fit="slide", shape="teardrop"),)
    found, _ = correcting.corrections(part, lying, (1.0, 0.0, 0.0), ())
    both = correcting.apply_corrections(part, lying, found, (1.0, 0.0, 0.0), Recipe())
    assert [c.how for c in both.changes] == ["wall moved", "teardrop"] and check(both.mesh).sound


def test_a_roof_waits_for_the_hole_to_lie_and_a_skin_for_it_to_stand() -> None:
    part = answer.read_part(mesh_of(PLATE - rod(6, 50).rotate((0, 90, 0)).translate((-5, 20, 5))))
    both = (Mate(feature="hole-1", hardware="as drawn", fit="as drawn", shape="teardrop", cover="skin"),)
    lying = correcting.apply_corrections(part, both, (), UP, Recipe())
    assert [c.how for c in lying.changes] == ["teardrop"]
    # Stood on its end the roof no longer matters, the skin does.
    ((_, why),) = correcting.apply_corrections(part, both, (), (1.0, 0.0, 0.0), Recipe()).refused
    assert "starts on the bed" in why


def test_partners_are_corrected_together_and_missing_ones_are_named() -> None:
    solid = PLATE - rod(8, 20).translate((10, 10, -5)) + rod(8, 8).translate((30, 30, 9.9))
    part = answer.read_part(mesh_of(solid))
    both = (Mate(feature="hole-1", partner="pin-1", fit="slide", side="both"),)
    found, refused = correcting.corrections(part, both, UP, ())
    assert [c.feature for c in found] == ["hole-1", "pin-1"] and not refused
    made = correcting.apply_corrections(part, both, found, UP, Recipe())
    sizes = {f.kind: f.diameter for f in find_features(made.mesh) if f.kind in ("hole", "pin")}
    hole, pin = learn((), "hole", "upright", 8.0), learn((), "pin", "upright", 8.0)
    gap = sizes["hole"] + hole.value - sizes["pin"] - pin.value
    assert gap == pytest.approx(0.25, abs=0.002)  # the middle of sliding
    for partner, words in (("pin-9", "not on this part"), ("hole-1", "not a hole and a pin")):
        _, refused = correcting.corrections(part, (both[0].model_copy(update={"partner": partner}),), UP, ())
        assert words in refused[0]


@pytest.mark.parametrize("hand", [1, -1])
def test_a_profile_is_read_off_a_thread_and_moved_square_to_itself(hand: int) -> None:
    solid = helical(lambda p: 10 + 0.8 * np.cos(2 * np.pi * p), 4.0, 24.0)
    mesh = mesh_of(solid if hand > 0 else solid.mirror((0, 1, 0)))
    (f,) = [g for g in find_features(mesh) if g.kind == "thread"]
    profile = profile_of(mesh, f)
    assert profile.hand == hand and profile.pitch == pytest.approx(4.0, rel=0.002)
    assert profile.radius.max() == pytest.approx(10.8, abs=0.02) and profile.radius.min() == pytest.approx(
        9.2, abs=0.02
    )
    wider = profile.offset(0.2)
    # On crest and root the normal is the radius; on the flank between it leans, and the radius gains more.
    assert wider.radius.max() - profile.radius.max() == pytest.approx(0.2, abs=0.01)
    assert (wider.radius - profile.radius).max() == pytest.approx(0.2 * math.hypot(1, 0.8 * 2 * math.pi / 4), abs=0.04)


def test_a_job_file_carries_mates_readings_and_gap_trials(tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    solid = PLATE - rod(5, 20).translate((20, 20, -5))
    (tmp_path / "plate.stl").write_bytes(stl_bytes(mesh_of(solid)))
    job = {
        "mesh": "plate.stl",
        "way": [0, 0, 1],
        "mates": [{"feature": "hole-1", "size_mm": "5 mm", "sleeve_mm": 0.1, "fit": "slide", "finish": "paint"}],
        "measurements": [
            {"kind": "hole", "axis": "upright", "drawn": 5, "printed": 4.7, "layer_height": h, "repeats": 2}
            for h in (0.2, 0.2, 0.2, 0.2, 0.28)
        ],
        "gap_trials": [{"direction": "in the layer", "drawn": 0.3, "freed": True}],
    }
    read = parse_job(json.dumps(job))
    assert parse_job(write_job(read)) == read and read.gap_trials[0] == GapTrial(
        direction="in the layer", drawn=0.3, freed=True
    )
    path = tmp_path / "job.json"
    path.write_text(json.dumps(job))
    code = main(["fit", str(path), "--json"])
    got = json.loads(capsys.readouterr().out)
    (c,) = got["corrections"]
    used = [Measurement(**m) for m in job["measurements"][:4]]
    wanted = 5.2 + 0.25 + 0.12 - learn(used, "hole", "upright", c["to_mm"]).value
    assert code == 0 and c["to_mm"] == pytest.approx(wanted, abs=0.003) and c["source"] == "yours, 4"
    for change, words in (
        ({"fit": "wobbly"}, "fit"),
        ({"window": [0.4, 0.1]}, "window"),
        ({"sleeve_mm": -1}, "sleeve_mm"),
        ({"shape": "star"}, "shape"),
    ):
        with pytest.raises(Refused, match=words):
            parse_job(json.dumps(job | {"mates": [job["mates"][0] | change]}))


def test_an_insert_longer_than_its_hole_is_told() -> None:
    solid = PLATE - rod(4, 5).translate((10, 10, 4)) - rod(4, 30).translate((30, 30, -5))
    part = answer.read_part(mesh_of(solid))
    blind, open_ = sorted((f for f in part.features if f.kind == "hole"), key=lambda f: bool(f.through))
    assert not blind.through and open_.through
    for f, longest in ((blind, blind.length - 1), (open_, open_.length)):
        told = [
            correct(f, Mate(feature=f.id, hardware=f"insert M3 x {longest + d:g}", fit="melt in"), UP, ()).caution
            for d in (-0.1, 0.1)
        ]
        assert told[0] == "" and f"wants {f.length + 0.1:.1f}" in told[1]
