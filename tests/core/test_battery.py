"""The command line on a tray of parts and a tray of broken files, the way a script would call it."""

import json
import subprocess
import sys
from pathlib import Path

import manifold3d as m3
import numpy as np
import pytest
import trimesh
from conftest import box, mesh_of

from knollside.cli import main
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Mesh


def rod(h: float, d: float, n: int, top: float | None = None) -> m3.Manifold:
    return m3.Manifold.cylinder(h, d / 2, (top if top is not None else d) / 2, circular_segments=n)


def tray() -> m3.Manifold:
    """A plate with through, blind, coarse, countersunk and stepped holes, a pin, a slot and a nut pocket."""
    s = m3.Manifold.cube((80, 60, 12))
    s -= (
        rod(20, 6, 24).translate((10, 10, -4))
        + rod(8, 8, 32).translate((30, 10, 5))
        + rod(20, 5, 8).translate((50, 10, -4))
    )
    s -= rod(20, 4.2, 12).translate((65, 10, -4)) + rod(3, 4.2, 12, 10.2).translate((65, 10, 9.01))
    s += rod(15, 7, 40).translate((10, 40, 11))
    s -= rod(20, 6, 48).translate((30, 40, -4)) + rod(20, 6, 48).translate((42, 40, -4))
    s -= m3.Manifold.cube((12, 6, 20)).translate((30, 37, -4))
    return s - rod(6, 10 / np.cos(np.pi / 6), 6).translate((60, 40, 7)) - rod(20, 6.5, 48).translate((60, 40, -4))


FOUND = {
    ("hole", 6.0, True),
    ("hole", 8.0, False),
    ("hole", 5.0, True),
    ("hole", 6.5, True),
    ("hole", 4.2, True),
    ("pin", 7.0, None),
    ("hexagon", 10.0, False),
    ("slot", 6.0, True),
}


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("tray")
    mesh = mesh_of(tray())
    (folder / "plate.stl").write_bytes(stl_bytes(mesh, "plate"))
    turned = mesh_of(tray().rotate((31, 47, 12)).translate((1000, -500, 300)))
    (folder / "turned.stl").write_bytes(stl_bytes(turned, "turned"))
    t = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    for ending in ("obj", "ply", "3mf"):
        t.export(folder / f"plate.{ending}")
    (folder / "text.stl").write_text(trimesh.exchange.stl.export_stl_ascii(t))
    inch = Mesh(mesh.vertices / 25.4, mesh.faces)
    (folder / "inch.stl").write_bytes(stl_bytes(inch, "inch"))
    nan = mesh.vertices.copy()
    nan[5] = np.nan
    flipped = mesh.faces.copy()
    flipped[:50] = flipped[:50, ::-1]
    two = Mesh(
        np.vstack([box(9, 9, 9).vertices, box(9, 9, 9).vertices + 12]),
        np.vstack([box(9, 9, 9).faces, box(9, 9, 9).faces + 8]),
    )
    for name, m in {
        "nan": Mesh(nan, mesh.faces),
        "far": Mesh(mesh.vertices * 1e9, mesh.faces),
        "flat": Mesh(mesh.vertices * [1, 1, 0], mesh.faces),
        "open": Mesh(mesh.vertices, mesh.faces[:-7]),
        "inside": Mesh(mesh.vertices, mesh.faces[:, ::-1]),
        "mixed": Mesh(mesh.vertices, flipped),
        "two": two,
    }.items():
        (folder / f"{name}.stl").write_bytes(stl_bytes(m, name))
    (folder / "empty.stl").write_bytes(b"")
    (folder / "short.stl").write_bytes((folder / "plate.stl").read_bytes()[:5000])
    (folder / "wrong.obj").write_bytes((folder / "plate.stl").read_bytes())
    (folder / "plate.xyz").write_text("1 2 3")
    return folder


def ask(capsys: pytest.CaptureFixture[str], *words: str) -> tuple[int, dict]:
    code = main([*words, "--json"])
    return code, json.loads(capsys.readouterr().out)


@pytest.mark.parametrize("name", ["plate.stl", "turned.stl", "plate.obj", "plate.ply", "plate.3mf", "text.stl"])
def test_the_tray_reads_alike_in_every_format_and_turn(files: Path, name: str, capsys) -> None:  # type: ignore[no-untyped-def]
    code, state = ask(capsys, "check", str(files / name))
    assert code == 0 and state["closed"] and state["problems"] == [] and state["bodies"] == 1
    assert state["volume_mm3"] == pytest.approx(mesh_of(tray()).volume, rel=1e-5) and state["unit_suspicion"] is None
    _, out = ask(capsys, "features", str(files / name))
    got = [f for f in out["features"] if f["kind"] in ("hole", "pin", "hexagon", "slot")]
    for kind, diameter, through in FOUND:
        mine = [f for f in got if f["kind"] == kind and abs(f["diameter_mm"] - diameter) < 1e-3]
        assert len(mine) == 1, (kind, diameter)
        assert mine[0]["through"] == through or kind == "pin"
        assert np.linalg.norm(mine[0]["axis"]) == pytest.approx(1)
    cone = next(f for f in out["features"] if f["kind"] == "cone")
    assert cone["diameter_mm"] == pytest.approx(10.18, abs=0.05)


def test_inches_are_suspected_and_read_when_said(files: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    _, plain = ask(capsys, "check", str(files / "inch.stl"))
    assert plain["unit_suspicion"] == "inch"
    _, said = ask(capsys, "check", str(files / "inch.stl"), "--unit", "inch")
    assert said["size_mm"] == pytest.approx([80, 60, 26], rel=1e-5) and said["unit_suspicion"] is None


@pytest.mark.parametrize(("name", "kind"), [("open", "open"), ("flat", "zero-area")])
def test_faults_are_answered_by_kind_with_a_count(files: Path, name: str, kind: str, capsys) -> None:  # type: ignore[no-untyped-def]
    code, state = ask(capsys, "check", str(files / f"{name}.stl"))
    found = {p["kind"]: p for p in state["problems"]}
    assert code == 0 and found[kind]["count"] > 0 and found[kind]["message"].endswith(".")


@pytest.mark.parametrize(
    ("name", "words"),
    [("inside", "1 shell turned right side out"), ("mixed", "turned to face")],
)
def test_what_is_put_right_on_reading_is_said_with_a_count(files: Path, name: str, words: str, capsys) -> None:  # type: ignore[no-untyped-def]
    code, state = ask(capsys, "check", str(files / f"{name}.stl"))
    assert code == 0 and not state["problems"] and state["volume_mm3"] > 0
    assert any(words in note and note.split()[0].isdigit() for note in state["notes"])


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("empty.stl", "is empty"),
        ("short.stl", "cut short"),
        ("wrong.obj", "no triangles"),
        ("plate.xyz", "not a mesh file"),
        ("nan.stl", "no finite position"),
        ("far.stl", "Is the unit right"),
        ("absent.stl", "could not be read"),
    ],
)
def test_broken_files_are_refused_by_name(files: Path, name: str, words: str, capsys) -> None:  # type: ignore[no-untyped-def]
    for command in ("check", "features"):
        code, out = ask(capsys, command, str(files / name))
        assert code == 1 and set(out) == {"refused"} and name in out["refused"] and words in out["refused"]


def job(files: Path, name: str, **more: object) -> str:
    body: dict[str, object] = {
        "mesh": "two.stl",
        "recipe": {"infill": 1.0},
        "held": [{"at": [0, 4.5, 4.5]}],
        "cases": [{"name": "x", "loads": [{"at": [9, 4.5, 4.5], "force_N": [0, 0, "-2 kgf"]}]}],
    }
    (files / f"{name}.json").write_text(json.dumps(body | more))
    return str(files / f"{name}.json")


@pytest.mark.parametrize(
    ("name", "more", "words"),
    [
        ("unheld", {"held": []}, "Nothing holds"),
        ("unloaded", {"cases": []}, "Nothing pushes"),
        ("zero", {"cases": [{"name": "x", "loads": [{"at": [9, 4, 4], "force_N": [0, 0, 0]}]}]}, "zero or has no"),
        ("loose", {"cases": [{"name": "x", "loads": [{"at": [21, 16, 16], "force_N": [0, 0, 1]}]}]}, "held\nnowhere"),
        ("hot", {"material": "PLA", "surroundings": {"temperature_c": 150}}, "softens"),
        ("slides", {"held": [{"at": [0, 4.5, 4.5], "kind": "sliding"}]}, "can still"),
        ("person", {"danger": "it carries a person, or is part of a vehicle, mains, gas or medical"}, "No verdict"),
        ("typo", {"heldd": []}, "heldd"),
        ("stuff", {"material": "Cheese"}, "No material called"),
        ("torn", {"mesh": "open.stl"}, "not closed"),
    ],
)
def test_jobs_that_cannot_be_answered_say_why(files: Path, name: str, more: dict, words: str, capsys) -> None:  # type: ignore[no-untyped-def]
    code, out = ask(capsys, "rank", job(files, name, **more), "--cells", "2000")
    assert code == 1 and all(w in out["refused"] for w in words.split("\n")), out


def test_one_of_two_bodies_is_ranked_and_the_other_named(files: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    code, out = ask(capsys, "rank", job(files, "one"), "--cells", "2000", "--directions", "100", "--probe", "9,4.5,4.5")
    assert code == 0 and len(out["ways"]) >= 4 and "1 of 2 bodies" in out["solve"]["notes"][0]
    best = out["ways"][0]
    assert best["reserve"]["low"] < best["reserve"]["value"] < best["reserve"]["high"]
    assert out["solve"]["balance_error"] < 1e-5
    assert out["probes"][0]["cases"][0]["displacement_mm"][2] < 0


def test_a_script_gets_json_alone_on_standard_output_and_the_codes(files: Path) -> None:
    def call(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "knollside.cli", *words], capture_output=True, text=True, check=False
        )

    good = call("check", str(files / "plate.stl"), "--json")
    assert good.returncode == 0 and json.loads(good.stdout)["closed"]
    bad = call("check", str(files / "empty.stl"), "--json")
    assert bad.returncode == 1 and "refused" in json.loads(bad.stdout)
    assert call("check").returncode == 2 and call("rank", "x.json", "--probe", "1,2").returncode == 2
