"""The job sheet, the files handed over, the list before the print, and every demo part solved."""

import json
import re
import zipfile
from html import unescape
from pathlib import Path

import numpy as np
import pytest
import solving
from conftest import DEMO, box, plate_with_hole
from PyQt6.QtPdf import QPdfDocument

from knollside.cli import main
from knollside.core.job import answer, correcting
from knollside.core.job.file import Job, read_job, write_job
from knollside.core.material.cards import MATERIALS, material, with_bond
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.load import load_file
from knollside.core.model import Danger, DesignCase, Mate, PrinterFacts, Range, Recipe, Refused
from knollside.core.recipe.price import time_factor
from knollside.core.run.preflight import cautions, preflight
from knollside.demo import design_cases
from knollside.gui.theme.look import font, load_fonts
from knollside.report.export import SheetInputs, make_sheet, write_all, write_whole
from knollside.report.sheet import sheet_html, sheet_pdf
from knollside.sim.desk import PRINTERS, SimulatedCalliper, printer_named


def sheet(**more):  # type: ignore[no-untyped-def]
    part = answer.read_part(plate_with_hole(48, 5.0))
    mates = (Mate(feature="hole-1", hardware="M5", fit="medium"),)
    found, _ = correcting.corrections(part, mates, (0.0, 0.0, 1.0), ())
    edited = correcting.apply_corrections(part, mates, found, (0.0, 0.0, 1.0), Recipe())
    values = {
        "title": "Plate <b>&",
        "job": "Corner",
        "date": "2026-11-24",
        "corrections": found,
        "design_case": DesignCase(),
        "recipe": Recipe(),
        "card": material("ASA"),
        "direction": (0.0, 0.0, 1.0),
        "orientation_title": "Flat on flat 1",
        "reserve": Range(2.6, 1.9, 3.4),
        "said": "",
        "reasons": ("The hose pulls.",),
        "printer": PrinterFacts(name="Old Tom"),
        "spool_left": 3.0,
        "factor": time_factor([]),
    } | more
    return make_sheet(SheetInputs(**values), edited), edited


def test_the_sheet_says_settings_reasons_cautions_and_changes() -> None:
    made, _ = sheet()
    html = sheet_html(made)
    assert "<b>&" not in html.split("<h1>")[1].split("</h1>")[0] and "Plate &lt;b&gt;&amp;" in html
    for words in (
        "0.2 mm",
        "4, lines 0.45",
        "Reserve 2.6 (1.9 to 3.4)",
        "does not surely hold",
        "ASA",
        "styrene",
        "Never unattended",
        "hole-1",
        "5.00",
        "5.68",
        "Not enough filament",
        "typical",
    ):
        assert words in html, words
    assert "http" not in re.sub(r"<!DOCTYPE.*?>", "", html)


@pytest.mark.parametrize("beside_a_window", [False, True])
def test_the_pdf_says_what_the_page_says(tmp_path: Path, qapp, beside_a_window: bool) -> None:  # type: ignore[no-untyped-def]
    """Read back by another program: every word of the page is on the PDF, in its order, whatever font a window set."""
    if beside_a_window:
        load_fonts()
        qapp.setFont(font(14))
    made, _ = sheet()
    (tmp_path / "a.pdf").write_bytes(sheet_pdf(made))
    pdf = QPdfDocument(None)
    assert pdf.load(str(tmp_path / "a.pdf")) == QPdfDocument.Error.None_
    assert 1 <= pdf.pageCount() <= 3
    size = pdf.pagePointSize(0)
    assert (size.width(), size.height()) == pytest.approx((595, 842), abs=1)
    told = " ".join(pdf.getAllText(k).text() for k in range(pdf.pageCount()))
    body = re.sub(r"<style>.*?</style>|<head>.*?</head>", "", sheet_html(made), flags=re.S)
    words = unescape(re.sub(r"<[^>]+>", " ", body))
    assert re.sub(r"\s", "", words) == re.sub(r"\s", "", told)


def test_a_part_for_a_person_gets_no_reserve_on_its_sheet() -> None:
    made, _ = sheet(design_case=DesignCase(danger=Danger.PERSON))
    assert made.reasons[0].startswith("No verdict") and not any("Reserve" in r for r in made.reasons)
    unloaded, _ = sheet(reserve=None)
    assert "No loads" in unloaded.reasons[0]


def test_files_appear_whole_or_not_at_all(tmp_path: Path) -> None:
    made, edited = sheet()
    files = write_all(tmp_path / "new", "Hose arm/../x", edited, (1.0, 0.0, 0.0), made)
    assert all(f.parent == tmp_path / "new" for f in files) and len(files) == 4
    turned = load_file(next(f for f in files if f.suffix == ".stl")).mesh
    assert turned.bounds[0][2] == pytest.approx(0, abs=1e-6) and turned.size == pytest.approx([8, 30, 40], abs=1e-4)
    assert zipfile.ZipFile(next(f for f in files if f.suffix == ".3mf")).testzip() is None
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(Refused, match="could not be written"):
        write_whole(tmp_path / "file" / "x.stl", b"x")
    assert not list(tmp_path.rglob(".part-*"))


def test_a_full_disk_leaves_no_half_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import os

    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    (tmp_path / "a.stl").write_bytes(b"old")
    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(Refused, match="No space left"):
        write_whole(tmp_path / "a.stl", b"new")
    assert (tmp_path / "a.stl").read_bytes() == b"old" and len(list(tmp_path.iterdir())) == 1


def test_the_list_before_the_print_follows_the_material() -> None:
    asa = [c.text for c in preflight(material("ASA"), Recipe(), 50, 60, 40, 250)]
    pla = [c.text for c in preflight(material("PLA"), Recipe(), 50, 51, 40, 250)]
    assert "Chamber closed and warm" in asa and "Chamber closed and warm" not in pla
    assert "Not enough filament on this spool" in pla and "Enough filament" in asa
    titles = {c.title for c in cautions(material("Nylon + carbon"), DesignCase(danger=Danger.BELOW))}
    assert {"Dust", "Someone may stand below", "Limits", "Never unattended"} <= titles


def test_cards_are_consistent_and_own_bond_takes_over() -> None:
    assert len(MATERIALS) == 10
    for card in MATERIALS.values():
        for r in (card.modulus, card.pull, card.bond):
            assert 0 < r.low <= r.value <= r.high
        assert card.use_below < card.softens and card.nozzle[0] <= card.nozzle[1]
    own = with_bond(material("petg"), Range(0.5, 0.4, 0.6, "yours, 3"))
    assert own.bond.source == "yours, 3" and material("PA").name == "Nylon"
    with pytest.raises(Refused, match="There are: PLA"):
        material("cheese")


@pytest.mark.parametrize(
    ("stem", "make"),
    [("hose-arm", design_cases.arm), ("vent-hinge", design_cases.hinge), ("m6-knob", design_cases.knob)],
)
def test_every_loaded_demo_part_balances_and_ranks(stem: str, make) -> None:  # type: ignore[no-untyped-def]
    design_case, recipe, mates = make()
    part = answer.read_part(load_file(DEMO / f"{stem}.stl").mesh)
    assert part.soundness.sound and all(part.feature(h.feature) for h in design_case.fixtures)
    s = solving.strength(part, design_case, recipe, material("PETG"), 12_000)
    assert s.field.balance_error < 1e-3
    ranking = answer.orientations(part, design_case, s, (220.0, 220.0, 250.0), 200)
    assert len(ranking.orientations) >= 2 and len({w.letter for w in ranking.orientations}) == len(ranking.orientations)
    for w in ranking.orientations:
        assert w.reserve.low < w.reserve.value < w.reserve.high and w.footing.height > 0
        assert w.reason.endswith(".") and w.mode
    # What holds comes before what does not.
    holds = [w.holds for w in ranking.orientations]
    assert holds == sorted(holds, reverse=True) or not any(holds)
    log = answer.layer_log(part, s, ranking.orientations[0].direction)
    assert np.isfinite(log.paint).all() and log.area.max() > 0 and len(log.heights) == 80
    found, refused = correcting.corrections(part, mates, ranking.orientations[0].direction, ())
    assert not refused and len(
        correcting.apply_corrections(part, mates, found, (0.0, 0.0, 1.0), Recipe()).changes
    ) == len(mates)


def test_the_hinge_leaves_its_free_body_out_and_says_so() -> None:
    design_case, recipe, _ = design_cases.hinge()
    part = answer.read_part(load_file(DEMO / "vent-hinge.stl").mesh)
    s = solving.strength(part, design_case, recipe, material("PETG"), 6000)
    assert any("left out" in n for n in s.field.notes) and len(s.field.bodies) == 1


def test_jobs_on_disk_are_read_with_limits(tmp_path: Path) -> None:
    job = Job(mesh="x.stl", name="Arm", mates=(Mate(feature="hole-1", hardware="M5"),))
    (tmp_path / "a.json").write_text(write_job(job))
    assert read_job(tmp_path / "a.json") == job
    (tmp_path / "b.json").write_bytes(b"\xff\xfe\x00bad")
    (tmp_path / "c.json").write_text("[" * 100_000)
    for name, words in (("b.json", "not a text"), ("c.json", "JSON"), ("none.json", "could not be read")):
        with pytest.raises(Refused, match=words):
            read_job(tmp_path / name)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"held": []}, "Nothing holds"),
        ({"cases": []}, "Nothing pushes"),
        ({"material": "PLA", "surroundings": {"temperature_c": 150}}, "softens at 57"),
        ({"material": "cheese"}, "No material called"),
        ({"mesh": "gone.stl"}, "could not be read"),
        ({"held": [{"feature": "hole-44"}]}, "hole-44"),
        ({"cases": [{"name": "x", "loads": [{"at": [40, 15, 4], "force_N": [0, 0, 0]}]}]}, "zero"),
    ],
)
def test_rank_refuses_as_json_and_nothing_else(capsys, tmp_path: Path, change: dict, words: str) -> None:  # type: ignore[no-untyped-def]
    from knollside.core.mesh.write import stl_bytes

    (tmp_path / "plate.stl").write_bytes(stl_bytes(plate_with_hole()))
    base = {
        "mesh": "plate.stl",
        "held": [{"at": [0, 15, 4]}],
        "cases": [{"name": "tug", "loads": [{"at": [40, 15, 4], "force_N": [100, 0, 0]}]}],
    }
    (tmp_path / "job.json").write_text(json.dumps(base | change))
    assert main(["rank", str(tmp_path / "job.json"), "--json", "--cells", "1500"]) == 1
    out = capsys.readouterr().out
    assert words in json.loads(out)["refused"] and out.count("\n") == 1


def test_ten_kilonewtons_on_a_clip_is_answered_and_does_not_hold(capsys, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    from knollside.core.mesh.write import stl_bytes

    (tmp_path / "clip.stl").write_bytes(stl_bytes(box(40, 5, 3)))
    job = {
        "mesh": "clip.stl",
        "held": [{"at": [0, 2, 1]}],
        "cases": [{"name": "x", "loads": [{"at": [40, 2, 1], "force_N": [0, 0, "-10 kN"]}]}],
    }
    (tmp_path / "job.json").write_text(json.dumps(job))
    assert main(["rank", str(tmp_path / "job.json"), "--json", "--cells", "1500"]) == 0
    got = json.loads(capsys.readouterr().out)
    assert all(not w["holds"] and w["reserve"]["value"] < 0.1 for w in got["ways"])


def test_plain_output_reads_without_json(capsys) -> None:  # type: ignore[no-untyped-def]
    assert main(["check", str(DEMO / "m6-knob.stl")]) == 0
    assert "closed: True" in capsys.readouterr().out
    assert main(["check", "/nowhere/x.stl"]) == 1
    assert "x.stl" in capsys.readouterr().err


def test_the_simulated_workshop_is_its_own_and_repeatable() -> None:
    a, b = (np.random.default_rng(5) for _ in range(2))
    p = PRINTERS["Old Tom"]
    assert p.printed("hole", "upright", 5, a) == p.printed("hole", "upright", 5, b)
    many = [p.printed("hole", "lying", 5, a) for _ in range(400)]
    assert np.mean(many) == pytest.approx(5 + p.hole_shift + p.lying_extra, abs=0.01)
    assert np.std(many) == pytest.approx(p.scatter, rel=0.15)
    assert SimulatedCalliper().read(5.1234, a) == pytest.approx(5.12, abs=0.05)
    assert printer_named("Somebody's") == printer_named("Somebody's")
    assert Edited(box(1, 1, 1), ()).changes == ()
