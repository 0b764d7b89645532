"""Ways to lie, recipes, fits, the test bar and what the bench learns."""

import json
from dataclasses import replace
from pathlib import Path

import pytest
import solving
from conftest import DEMO, box, plate_with_hole

from knollside.cli import main
from knollside.core.fit.process import TYPICAL
from knollside.core.job import answer
from knollside.core.material.cards import MATERIALS, material
from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import load_file
from knollside.core.model import (
    DesignCase,
    FixedFixture,
    ForceLoad,
    LoadCase,
    Range,
    Recipe,
    Surroundings,
)
from knollside.core.recipe.choose import Reach, rank_materials
from knollside.core.recipe.layer_areas import layer_areas, use_of
from knollside.core.recipe.price import PrinterMotion, price
from knollside.core.recipe.shellmap import map_shells

UP = (0.0, 0.0, 1.0)
R = Recipe()


@pytest.mark.parametrize("part", ["hose-arm", "m6-knob", "label-plate"])
def test_shells_counted_on_a_raster_are_those_of_exact_polygons(part: str) -> None:
    mesh = load_file(DEMO / f"{part}.stl").mesh
    for walls, tops in ((2, 3), (8, 5)):
        r = Recipe(walls=walls, infill=0.2, tops=tops, bottoms=max(tops - 1, 2))
        stack = layer_areas(mesh, UP, r.layer_height, (r.tops, r.bottoms))
        quick = map_shells(mesh, UP, r.layer_height, r.line_width)
        card, printer_motion, one = material("PETG"), PrinterMotion(), Range(1, 1, 1)
        exact = price(stack.thickness, use_of(stack, r), r, card, printer_motion, one)
        found = price(quick.thickness, quick.use(r), r, card, printer_motion, one)
        assert found.grams == pytest.approx(exact.grams, rel=0.03)
        assert found.hours.value == pytest.approx(exact.hours.value, rel=0.05)


def test_board_and_materials_of_a_cantilever() -> None:
    part = answer.read_part(box(80, 12, 12))
    design_case = DesignCase(
        fixtures=(FixedFixture(at=(0, 6, 6)),),
        cases=(LoadCase(name="hook", loads=(ForceLoad(at=(80, 6, 6), force_N=(0, 0, -20)),)),),
        surroundings=Surroundings(temperature_c=50),
    )
    s = solving.strength(part, design_case, Recipe(infill=1.0), material("PETG"), 6000)
    b = solving.boards(part, s, UP, PrinterMotion(), Range(1, 0.9, 1.1))
    assert len(b.dots) >= 60
    by = {(d.recipe.walls, d.recipe.infill, d.recipe.tops): d for d in b.dots}
    assert {d.preset for d in b.dots} >= {"All solid", "Thick shell, empty", "Some of both", "Lightest by estimate"}
    # The low end decides: a load that only the middle of the best range would carry has no recipe that holds.
    best = max(b.dots, key=lambda d: d.reserve.low)
    between = 0.5 * (best.reserve.low + best.reserve.value)
    assert best.reserve.low < between < best.reserve.value
    unsure = solving.boards(part, replace(s, target=between), UP, PrinterMotion(), Range(1, 0.9, 1.1))
    assert unsure.preset("Lightest by estimate") is None
    assert unsure.advice is not None and unsure.advice.reserve.low == pytest.approx(best.reserve.low)
    # More material never costs less, and never holds less.
    assert by[4, 0.5, 5].price.grams > by[4, 0.2, 5].price.grams > by[2, 0.2, 5].price.grams
    assert by[4, 0.5, 5].reserve.value >= by[4, 0.2, 5].reserve.value >= by[2, 0.2, 5].reserve.value
    # Pure bending: the estimate against the second moments of a hollow square (tops count by the thinner of the two).
    hollow = by[4, 0.0, 5].reserve.value / by[4, 1.0, 5].reserve.value
    inner = (12 - 3.6) * (12 - 2 * 0.8) ** 3  # bottoms are four layers of 0.2 mm
    assert hollow == pytest.approx(1 - inner / 12**4, rel=0.06)
    ranked = {c.card.name: c for c in rank_materials(s.field, design_case, UP, Reach(), MATERIALS.values())}
    assert (ranked["PLA"].out, ranked["PC"].out, ranked["PETG + carbon"].out) == ("heat", "printer", "nozzle")
    assert ranked["PETG"].reserve is not None and not ranked["PETG"].out


def _cli(capsys, *args: str) -> tuple[int, dict]:  # type: ignore[no-untyped-def]
    code = main([*args, "--json"])
    return code, json.loads(capsys.readouterr().out)


def test_the_command_line_answers_and_refuses(capsys, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    code, got = _cli(capsys, "check", str(DEMO / "vent-hinge.stl"))
    assert (code, got["closed"], got["bodies"], got["problems"]) == (0, True, 2, [])
    code, got = _cli(capsys, "features", str(DEMO / "label-plate.stl"))
    assert [f["diameter_mm"] for f in got["features"] if f["kind"] == "hole"] == pytest.approx([4.5, 4.5], abs=1e-3)
    (tmp_path / "bad.stl").write_bytes(b"solid nothing")
    code, got = _cli(capsys, "check", str(tmp_path / "bad.stl"))
    assert code == 1 and "bad.stl" in got["refused"]
    with pytest.raises(SystemExit) as stop:
        main(["rank"])
    assert stop.value.code == 2


def test_rank_fit_and_export_of_a_job_file(capsys, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    from knollside.core.mesh.load import load_file
    from knollside.core.mesh.write import stl_bytes

    (tmp_path / "plate.stl").write_bytes(stl_bytes(plate_with_hole(48, 5.0)))
    job = {
        "mesh": "plate.stl",
        "recipe": {"infill": 1.0},
        "held": [{"at": [0, 15, 4]}],
        "cases": [{"name": "tug", "loads": [{"at": [40, 15, 4], "force_N": ["20 kgf", 0, 0]}]}],
        "mates": [{"feature": "hole-1", "hardware": "M5", "fit": "medium"}],
        "way": [0, 0, 1],
    }
    path = tmp_path / "job.json"
    path.write_text(json.dumps(job))
    code, got = _cli(capsys, "rank", str(path), "--cells", "4000", "--directions", "100")
    assert code == 0 and len(got["ways"]) >= 4 and got["solve"]["balance_error"] < 0.01
    assert got["ways"][0]["reserve"]["low"] < got["ways"][0]["reserve"]["value"] < got["ways"][0]["reserve"]["high"]
    code, got = _cli(capsys, "fit", str(path))
    assert got["corrections"][0]["to_mm"] == pytest.approx(5.5 - TYPICAL["hole", "upright"][0], abs=0.002)
    code, got = _cli(capsys, "export", str(path), "--out", str(tmp_path / "out"), "--cells", "3000")
    assert code == 0 and {Path(f).suffix for f in got["files"]} == {".3mf", ".stl", ".html", ".pdf"}
    made = load_file(next(f for f in got["files"] if f.endswith(".stl"))).mesh
    assert [f.diameter for f in find_features(made) if f.kind == "hole"] == pytest.approx([5.68], abs=2e-3)
    assert next(Path(f) for f in got["files"] if f.endswith(".pdf")).read_bytes().startswith(b"%PDF")
    path.write_text(json.dumps(job | {"danger": "it carries a person, or is part of a vehicle, mains, gas or medical"}))
    code, got = _cli(capsys, "rank", str(path), "--cells", "2000")
    assert code == 1 and "No verdict" in got["refused"]
