"""A run file's parts on plates and in a week, by the command line; plates read back by another program."""

from __future__ import annotations

import json
from pathlib import Path

import lib3mf
import manifold3d as m3
import numpy as np
import pytest
import shapely
from conftest import mesh_of

from knollside.cli import main
from knollside.core.job.runfile import parse_run, week_of, write_run
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Refused

Solid = m3.Manifold


def parts(folder: Path) -> None:
    """An angle bracket, a ring and a post with an arm that is held up, each with its job."""
    angle = Solid.cube((80, 12, 6)) + Solid.cube((12, 60, 6))
    ring = Solid.cylinder(8, 20, circular_segments=64) - Solid.cylinder(20, 14, circular_segments=64).translate(
        (0, 0, -5)
    )
    post = Solid.cube((10, 10, 30)) + Solid.cube((30, 10, 5)).translate((0, 0, 25))
    for name, solid in (("angle", angle), ("ring", ring), ("post", post)):
        (folder / f"{name}.stl").write_bytes(stl_bytes(mesh_of(solid.translate((100, -30, 7)))))
        job = {
            "name": name.capitalize(),
            "mesh": f"{name}.stl",
            "way": {"direction": [0, 0, 1]},
            "format": "knollside-job-2",
        }
        (folder / f"{name}.json").write_text(json.dumps(job))


def run_of(**more: object) -> dict[str, object]:
    return {
        "name": "Allotment",
        "parts": [
            {"job": "angle.json", "copies": 5, "colour": "green"},
            {"job": "ring.json", "copies": 3, "colour": "green", "due": "2026-12-01T22:00"},
            {"job": "post.json", "copies": 2, "colour": "white", "turns": "none"},
        ],
        "printers": [
            {"facts": {"name": "Old Tom"}, "loaded": "PETG green"},
            {"facts": {"name": "The Brick", "bed_mm": [250, 250, 250]}},
        ],
        "spools": [
            {"name": "Green end", "material": "PETG", "colour": "green", "took_g": [700]},
            {"name": "White", "material": "PETG", "colour": "white", "dry_hours": 5},
        ],
        "week": {"zone": "Europe/Berlin"},
        "begin": "2026-11-30T17:10",
    } | more


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    parts(tmp_path)
    return tmp_path


def asked(folder: Path, command: str, run: dict[str, object], capsys, *more: str) -> dict:  # type: ignore[no-untyped-def, type-arg]
    (folder / "run.json").write_text(json.dumps(run))
    main([command, str(folder / "run.json"), "--json", *more])
    return json.loads(capsys.readouterr().out)


def read_3mf(path: Path) -> list[shapely.Geometry]:
    """Every build item's shadow on the bed, by the reference reader in strict mode."""
    model = lib3mf.get_wrapper().CreateModel()
    reader = model.QueryReader("3mf")
    reader.SetStrictModeActive(True)
    reader.ReadFromFile(str(path))
    assert reader.GetWarningCount() == 0
    out, items = [], model.GetBuildItems()
    while items.MoveNext():
        item = items.GetCurrent()
        mesh = model.GetMeshObjectByID(item.GetObjectResource().GetModelResourceID())
        at = np.array([list(v.Coordinates) for v in mesh.GetVertices()])
        t = np.array([list(r) for r in item.GetObjectTransform().Fields], float)
        placed = at @ t[:3] + t[3]
        tri = np.array([list(f.Indices) for f in mesh.GetTriangleIndices()])
        flat = placed[tri][:, :, :2]
        area = np.cross(flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0])
        out.append(shapely.union_all(shapely.buffer(shapely.polygons(flat[np.abs(area) > 1e-6]), 1e-5)))
        assert placed[:, 2].min() == pytest.approx(0, abs=1e-5)
    return out


def test_plates_are_written_where_they_were_packed_and_nothing_overlaps(folder: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    told = asked(folder, "plan", run_of(), capsys, "--out", str(folder / "out"))
    assert [p["filament"] for p in told["plates"]] == ["PETG green", "PETG white"] and told["left_out"] == []
    assert told["plates"][0]["title"] == "5 × Angle, 3 × Ring" and told["plates"][0]["printer"] == "Old Tom"
    files = [Path(f) for f in told["files"]]
    assert [f.suffix for f in files] == [".3mf", ".html"] * 2 and "<svg" in files[1].read_text()
    for path, count in ((files[0], 8), (files[2], 2)):
        shapes = read_3mf(path)
        assert len(shapes) == count
        for k, a in enumerate(shapes):
            low = min(a.bounds)
            assert low >= 4.0 - 1e-3 and max(a.bounds) <= 216.0 + 1e-3
            assert all(shapely.distance(a, b) >= 3.0 - 0.01 for b in shapes[:k])
    # The angle's true area, not its box's: turned and moved, not bent.
    areas = sorted(round(s.area) for s in read_3mf(files[0]))
    assert areas == [640] * 3 + [1536] * 5
    # What is held up takes the bed under it, too: the post's arm is 30 mm long either way.
    post = told["plates"][1]["pieces"]
    assert {p["turned_deg"] for p in post} == {0} and len(post) == 2


def test_what_a_frame_is_off_is_taken_out_of_every_plate(folder: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    """On a frame whose Y leans 0.6 degrees and whose X is 0.4 % long, the angle's print is square and true again."""
    lean, long = np.radians(0.6), 1.004
    frame = np.array([[long, np.sin(lean)], [0.0, np.cos(lean)]])
    x, y = frame @ (100, 0), frame @ (0, 100)
    # Outsides come out 0.04 mm wider on a usual printer: the piece does so, too.
    sides = [float(np.linalg.norm(v)) + 0.04 for v in (x, y)]
    diagonals = [float(np.linalg.norm(v)) + 0.04 * 2**0.5 for v in (x + y, x - y)]
    printers = [{"facts": {"name": "Old Tom"}, "loaded": "PETG green", "square_mm": [100, 100, *sides, *diagonals]}]
    one = run_of(parts=[{"job": "angle.json", "copies": 1, "colour": "green", "turns": "none"}], printers=printers)
    told = asked(folder, "plan", one, capsys, "--out", str(folder / "out"))
    (shape,) = read_3mf(Path(told["files"][0]))
    corners = np.asarray(shapely.convex_hull(shape).exterior.coords)[:-1] @ frame.T
    printed = shapely.polygons(corners)
    plain = shapely.convex_hull(shapely.union(shapely.box(0, 0, 80, 12), shapely.box(0, 0, 12, 60)))
    moved = shapely.transform(printed, lambda c: c - c.min(axis=0))
    assert shapely.hausdorff_distance(moved, plain) < 0.05
    assert shapely.hausdorff_distance(shapely.convex_hull(shape), shapely.convex_hull(shape).envelope) > 1
    off = shapely.transform(shapely.convex_hull(shape), lambda c: c - c.min(axis=0))
    assert shapely.hausdorff_distance(off, plain) > 0.3  # what is written leans the other way


def test_a_printers_own_head_and_a_spools_own_past_count(folder: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    parts = [{"job": "ring.json", "copies": 4, "colour": "green"}]

    def nearest(head: list[float] | None) -> float:
        printers = [{"facts": {"name": "Old Tom"}} | ({"head_mm": head} if head else {})]
        told = asked(folder, "plan", run_of(parts=parts, printers=printers, one_after_another=True), capsys)
        at = [(p["x_mm"], p["y_mm"]) for p in told["plates"][0]["pieces"]]
        return min(max(abs(a[0] - b[0]), abs(a[1] - b[1])) for k, a in enumerate(at) for b in at[:k])

    # Rings 40 mm across must clear what reaches farthest: to the side, or to the front and back.
    assert nearest([20, 20, 20, 20, 4, 40]) < nearest(None) < nearest([60, 60, 60, 60, 4, 40])
    assert nearest([60, 60, 60, 60, 4, 40]) >= 100 - 0.5
    wet = {"name": "White", "material": "Nylon", "colour": "green", "opened": "2026-06-01"}
    wet["stays"] = [{"since": "2026-06-01T00:00", "where": "open", "humidity": 0.7}]
    angle = json.loads((folder / "ring.json").read_text()) | {"material": "Nylon"}
    (folder / "nylon.json").write_text(json.dumps(angle))
    hot = {"name": "Old Tom", "nozzle_max_c": 300, "bed_max_c": 110, "enclosed": True}
    run = run_of(parts=[{"job": "nylon.json", "colour": "green"}], printers=[{"facts": hot}], spools=[wet])
    (dry,) = asked(folder, "week", run, capsys)["drying"]
    assert dry["spool"] == "White" and dry["end"] > dry["start"]
    kept = wet | {"stays": [{"since": "2026-06-01T00:00", "where": "box", "humidity": 0.05}]}
    assert asked(folder, "week", run | {"spools": [kept]}, capsys)["drying"] == []
    assert asked(folder, "week", run | {"spools": [wet | {"dry_hours": 0}]}, capsys)["drying"] == []


def test_a_week_keeps_to_hours_spools_and_dues(folder: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    told = asked(folder, "week", run_of(goal="due first"), capsys)
    green, white = (next(s for s in told["slots"] if s["spool"] == n) for n in ("Green end", "White"))
    assert told["short"] == [] and told["late_h"] == 0 and green["end"] <= "2026-12-01T22:00"
    (dry,) = told["drying"]
    assert dry["spool"] == "White" and white["start"] >= dry["end"]
    assert told["next"].startswith("Mon 17:10") and "it ends" in green["act"]
    little = run_of(spools=[{"name": "Rest", "material": "PETG", "colour": "green", "took_g": [980]}])
    short = asked(folder, "week", little, capsys)["short"]
    assert "Rest has about 20 g to spare" in short[0] and "there is no such spool" in short[1]


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"parts": []}, "parts"),
        ({"parts": [{"job": "gone.json"}]}, "gone.json"),
        ({"parts": [{"job": "ring.json", "copies": 0}]}, "copies"),
        ({"week": {"zone": "Nowhere/Town"}}, "no time zone"),
        ({"week": {"days": {"Blursday": [["08:00", "09:00"]]}}}, "no weekday"),
        ({"week": {"days": {"Monday": [["09:00", "08:00"]]}}}, "no stretch"),
        ({"week": {"days": {"Monday": []}}}, "Nobody is in"),
        ({"spools": [{"name": "x", "material": "PETG", "tare_g": 230, "gross_g": 100}]}, "less than the empty spool"),
        ({"school": "never"}, "school"),
        ({"begin": "0001-01-01T00:00"}, "begin: a date lies in the years 1970 to 2199"),
        ({"begin": "9999-12-31T23:59"}, "begin: a date lies in the years 1970 to 2199"),
        ({"parts": [{"job": "angle.json", "due": "9999-12-31T23:59"}]}, "due: a date lies in"),
        ({"printers": [{"facts": {"name": "A"}}, {"facts": {"name": "A"}}]}, "two printers are called A"),
        ({"spools": [{"name": "x", "material": "PETG"}] * 2}, "two spools are called x"),
        ({"spools": [{"name": "x", "material": "Wood", "opened": "2026-10-01"}]}, "the spool x is of 'Wood'"),
        ({"week": {"days": {"Monday": [["24:00", "24:00"]]}}}, "Monday: from 24:00 to 24:00 is no stretch"),
        ({"week": {"other": {"2026-12-01": [["22:00", "06:00"]]}}}, "2026-12-01: from 22:00 to 06:00 is no stretch"),
        ({"clearance_mm": -1}, "clearance_mm"),
        ({"printers": [{"facts": {"name": "Small", "bed_mm": [60, 60, 60]}}]}, "Angle is"),
    ],
)
def test_a_wrong_run_is_refused_with_what_and_where(
    folder: Path, capsys, change: dict[str, object], words: str
) -> None:  # type: ignore[no-untyped-def]
    told = asked(folder, "week", run_of(**change), capsys)
    said = told.get("refused") or " ".join(told["left_out"])
    assert words in said


def test_a_run_is_written_as_it_is_read() -> None:
    run = parse_run(json.dumps(run_of()))
    assert parse_run(write_run(run)) == run and week_of(run.week).days[0]
    for text, words in (("[", "run"), ("[]", "run"), ('{"parts": [{"job": "a"}], "what": 1}', "what")):
        with pytest.raises(Refused, match=words):
            parse_run(text)


def test_towers_one_after_another_are_split_over_plates_and_one_that_fits_none_is_named(folder: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    """Nine towers above the bar with low rings: every plate has an order, all nine are there, and the one that is
    too high for the printer is named while the rest is written."""
    for name, high in (("tower", 60), ("mast", 300)):
        (folder / f"{name}.stl").write_bytes(stl_bytes(mesh_of(Solid.cube((60, 25, high)))))
        job = {"name": name.capitalize(), "mesh": f"{name}.stl", "way": {"direction": [0, 0, 1]}}
        (folder / f"{name}.json").write_text(json.dumps(job | {"format": "knollside-job-2"}))
    parts = [{"job": "tower.json", "copies": 9}, {"job": "ring.json", "copies": 3}, {"job": "mast.json"}]
    run = run_of(parts=parts, one_after_another=True, printers=[{"facts": {"name": "Old Tom"}}], spools=[])
    (folder / "run.json").write_text(json.dumps(run | {"format": "knollside-run-1"}))
    assert main(["plan", str(folder / "run.json"), "--out", str(folder / "out"), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert all(p["order"] is not None for p in told["plates"]) and len(told["plates"]) > 1
    pieces = [q["copy"] for p in told["plates"] for q in p["pieces"]]
    assert sorted(pieces) == sorted([f"part-1/{k}" for k in range(1, 10)] + [f"part-2/{k}" for k in range(1, 4)])
    assert len(told["files"]) == 2 * len(told["plates"])
    assert len(told["left_out"]) == 1 and "Mast is 300 mm high" in told["left_out"][0]
