"""A workshop that always opens: damage, kills, locks, copies, and all of it as one file."""

import multiprocessing
import os
import shutil
import sqlite3
from datetime import datetime, timedelta
from pathlib import Path

import killing
import numpy as np
import pytest
from conftest import box, plate_with_hole

from knollside.core.job.asked import stated_of
from knollside.core.job.file import parse_job, write_job
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.features import find_features
from knollside.core.mesh.identity import first_names
from knollside.core.model import DesignCase, FixedFixture, Mate, Measurement, PrinterFacts, Recipe, Refused
from knollside.demo.fill import fill_demo
from knollside.foreign.reading import read_whole
from knollside.store.copies import KEPT, copies_of, folder_of, keep_daily
from knollside.store.jobs import put_job
from knollside.store.meshes import pack
from knollside.store.records import Kind
from knollside.store.whole import Whole, fill, gathered, whole_bytes
from knollside.store.workshop import Workshop


def filled(path: Path, parts: int = 3) -> list[int]:
    """A workshop of a few parts; their numbers."""
    shop = Workshop(path)
    with shop.together():
        printer, job = shop.machines.add_printer(PrinterFacts(name="P")), shop.parts.add_job("J")
        made = []
        for k in range(parts):
            part = shop.parts.add(job, f"Part {k}", box(10 + k, 20, 30), "as made", printer)
            shop.parts.put(part, Kind.DESIGN_CASE, DesignCase(fixtures=(FixedFixture(feature=f"flat-{k + 1}"),)))
            shop.parts.put(part, Kind.RECIPE, Recipe(walls=3 + k))
            made.append(part)
        readings = [Measurement(kind="hole", axis="upright", drawn=5, printed=4.8 + 0.01 * k) for k in range(12)]
        shop.learned.add_measurements(printer, "PETG", datetime(2026, 1, 2), readings)
    shop.close()
    return made


def healthy(shop: Workshop) -> dict[str, tuple[DesignCase, Recipe, float]]:
    """What can be read of each part, by its name."""
    out = {}
    for p in shop.parts.names():
        try:
            doc = shop.parts.get(p.id)
            out[doc.name] = (doc.design_case, doc.recipe, shop.parts.mesh(doc.mesh_hash).volume)
        except Refused:
            continue
    return out


@pytest.mark.parametrize("seed", range(4))
def test_damaged_byte_by_byte_it_opens_and_nothing_false_is_shown(tmp_path: Path, seed: int) -> None:
    """Fifty damaged workshops a seed, 200 in all: each opens, and what it shows is what was stored or nothing."""
    whole = tmp_path / "whole.sqlite"
    filled(whole)
    shop = Workshop(whole)
    true = healthy(shop)
    shop.close()
    data, rng = whole.read_bytes(), np.random.default_rng(seed)
    complete = 0
    for trial in range(50):
        path = tmp_path / f"d{trial}" / "w.sqlite"
        path.parent.mkdir()
        shutil.copytree(folder_of(whole), folder_of(path))
        torn = bytearray(data)
        for at in rng.integers(0, len(torn), rng.integers(1, 9)):
            torn[at] = rng.integers(0, 256)
        if trial % 10 == 0:
            n = int(rng.integers(1, 100))
            torn[:n] = bytes(n)
        path.write_bytes(torn)
        shop = Workshop(path)
        found = healthy(shop)
        for name, (design_case, recipe, volume) in found.items():
            if name in true:
                assert design_case in (true[name][0], DesignCase()) and recipe in (true[name][1], Recipe()), name
                assert volume == true[name][2]
        for numbers in [shop.learned.measurements(n, "PETG") for n in shop.machines.printers()]:
            assert {m.printed for _, _, m in numbers} <= {4.8 + 0.01 * k for k in range(12)}
        complete += sum(found.get(n) == v for n, v in true.items())
        shop.parts.add_job("it can be written to")
        shop.close()
    assert complete > 0.9 * 50 * len(true), f"only {complete} of {50 * len(true)} parts came through whole"


def test_damage_without_a_copy_saves_the_rows_that_can_be_read(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    filled(path)
    data = bytearray(path.read_bytes())
    data[:100] = b"\0" * 100
    path.write_bytes(data)
    shop = Workshop(path)
    assert sorted(healthy(shop)) == ["Part 0", "Part 1", "Part 2"]
    assert "damaged" in shop.told[0] and list(tmp_path.glob("w.sqlite.damaged *"))
    shop.close()


def test_a_value_out_of_its_bounds_closes_nothing(tmp_path: Path) -> None:
    """One bad value, in a printer, a recipe, a duty, a reading, a material: the rest opens, and it is told what."""
    path = tmp_path / "w.sqlite"
    parts = filled(path)
    with sqlite3.connect(path) as raw:
        raw.execute(
            "UPDATE documents SET body = '{\"layer_height\": 99}', seal = NULL WHERE kind='recipe' AND part_id=1"
        )
        raw.execute("UPDATE documents SET body = '{\"held\": 5', seal = NULL WHERE kind='duty' AND part_id=2")
        raw.execute("INSERT INTO documents VALUES (3, 'material', 'Unobtainium', NULL)")
        raw.execute("UPDATE printers SET facts = '{\"nozzle_mm\": 0}', seal = NULL")
        raw.execute("UPDATE measurements SET body = '{}', seal = NULL WHERE id = 1")
    raw.close()
    shop = Workshop(path)
    docs = [shop.parts.get(p) for p in parts]
    assert docs[0].recipe == Recipe() and docs[0].design_case.fixtures[0].feature == "flat-1"
    assert docs[1].design_case == DesignCase() and docs[1].recipe.walls == 4 and docs[2].material == "PETG"
    (printer,) = shop.machines.printers().values()
    assert printer.name == "P" and printer.nozzle_mm == 0.4
    assert len(shop.learned.measurements(1, "PETG")) == 11
    told = " ".join(shop.told)
    assert "Part 0, its recipe" in told and "Part 1, what it must do" in told and "printer P" in told
    assert len(shop.aside) == 5 and any("99" in a.body for a in shop.aside), "what was there is kept as it was"
    shop.parts.get(parts[0])
    assert len(shop.aside) == 5, "set aside once"
    shop.close()


def test_a_changed_digit_is_no_value(tmp_path: Path) -> None:
    """A flipped byte that still reads as a number would be a false load: the seal tells."""
    path = tmp_path / "w.sqlite"
    parts = filled(path)
    with sqlite3.connect(path) as raw:
        raw.execute("UPDATE documents SET body = replace(body, '\"walls\":3', '\"walls\":8') WHERE part_id = 1")
    raw.close()
    shop = Workshop(path)
    assert shop.parts.get(parts[0]).recipe == Recipe() and "changed since it was written" in shop.told[0]
    shop.close()


@pytest.mark.parametrize("how", ["link", "hard link", "query", "percent", "dots", "no lock file"])
def test_two_windows_on_one_file_are_refused_by_whatever_name(tmp_path: Path, how: str) -> None:
    name = {"query": "w?mode=ro.sqlite", "percent": "w%41%2f.sqlite"}.get(how, "w.sqlite")
    path = tmp_path / name
    shop = Workshop(path)
    job = shop.parts.add_job("J")
    other = path
    if how == "link":
        other = tmp_path / "link.sqlite"
        other.symlink_to(path)
    elif how == "hard link":
        other = tmp_path / "hard.sqlite"
        other.hardlink_to(path)
    elif how == "dots":
        (tmp_path / "a").mkdir()
        other = tmp_path / "a" / ".." / name
    elif how == "no lock file":
        for f in tmp_path.glob("*.lock"):
            f.unlink()
    with pytest.raises(Refused, match="already open in another window"):
        Workshop(other)
    assert shop.parts.add_job("still works") == job + 1
    assert sorted(p.name for p in tmp_path.glob("w*") if p.is_file()) == sorted({name, f"{name}-wal", f"{name}-shm"})
    shop.close()


def test_a_file_replaced_or_removed_under_the_window_is_noticed_before_the_next_edit(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    parts = filled(path)
    other = tmp_path / "other.sqlite"
    filled(other, 1)
    shop = Workshop(path)
    os.replace(other, path)
    with pytest.raises(Refused, match="replaced by another program"):
        shop.parts.put(parts[0], Kind.RECIPE, Recipe(walls=9))
    path.unlink()
    with pytest.raises(Refused, match="is gone"):
        shop.parts.put(parts[0], Kind.RECIPE, Recipe(walls=9))
    shop.close()


def test_only_the_person_reads_their_workshop(tmp_path: Path) -> None:
    path = tmp_path / "new" / "w.sqlite"
    shop = Workshop(path)
    shop.parts.add_job("J")
    shop.keep_copy()
    modes = {p: p.stat().st_mode & 0o777 for p in path.parent.rglob("*")}
    assert all(m == (0o700 if p.is_dir() else 0o600) for p, m in modes.items()), modes
    assert path.parent.stat().st_mode & 0o777 == 0o700
    shop.close()


def _killed(path: Path, what: str, at: int) -> bool:
    """Make an edit in a process that is gone at its ``at``-th statement; whether it came to its end."""
    # Not forked off this process: it has threads, and a lock one of them holds would be held for ever.
    process = multiprocessing.get_context("forkserver").Process(target=killing.edit_until, args=(path, what, at))
    process.start()
    process.join(120)
    assert process.exitcode in (0, killing.GONE), f"{what} at statement {at}: {process.exitcode}"
    return process.exitcode == 0


def _state(path: Path) -> tuple[object, ...]:
    shop = Workshop(path)
    try:
        return (
            tuple((p.name, shop.parts.get(p.id).revision, shop.parts.get(p.id).printer_id) for p in shop.parts.names()),
            tuple(p.name for p in shop.machines.printers().values()),
            tuple(len(shop.learned.measurements(n, "PETG")) for n in shop.machines.printers()),
        )
    finally:
        shop.close()


@pytest.mark.parametrize("what", ["readings", "set", "job", "printer"])
def test_killed_at_any_statement_it_is_all_or_nothing(tmp_path: Path, what: str) -> None:
    source = tmp_path / "source.sqlite"
    filled(source)
    before = _state(source)
    whole = tmp_path / "whole.sqlite"
    shutil.copy(source, whole)
    shop = Workshop(whole)
    killing.edit(shop, what)
    shop.close()
    after, ended, at = _state(whole), False, 1
    while not ended and at < 5000:
        path = tmp_path / f"{at}.sqlite"
        shutil.copy(source, path)
        ended = _killed(path, what, at)
        found = _state(path)
        assert found in (before, after), f"half of it was kept at statement {at}"
        assert found == after or not ended
        at += max(at // 12, 1)
    assert ended and at > 8


def test_copies_are_kept_daily_ten_of_them_and_one_comes_back(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    parts = filled(path)
    folder = folder_of(path)
    for c in copies_of(path):
        c.path.unlink()
    for k in range(14):
        day = datetime.now() - timedelta(days=k + 1)
        folder.mkdir(exist_ok=True)
        shutil.copy(path, folder / f"{day:%Y-%m-%d %H.%M.%S}, daily.sqlite")
    keep_daily(path)
    kept = copies_of(path)
    assert len(kept) == KEPT and kept[0].made.date() == datetime.now().date()
    shop = Workshop(path)
    shop.parts.put(parts[0], Kind.RECIPE, Recipe(walls=17))
    aside = shop.restore(shop.copies()[0])
    assert shop.parts.get(parts[0]).recipe.walls == 3
    shop.parts.add_job("it goes on")
    with pytest.raises(Refused, match="another window"):
        Workshop(path)
    shop.close()
    was = Workshop(aside)
    assert was.parts.get(parts[0]).recipe.walls == 17, "what was there is set aside, not lost"
    was.close()


def test_a_failed_restore_leaves_the_workshop_as_it_was(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    parts = filled(path)
    shop = Workshop(path)
    copy = shop.copies()[0]
    copy.path.unlink()
    with pytest.raises(Refused, match="is gone"):
        shop.restore(copy)
    assert shop.parts.get(parts[0]).recipe.walls == 3
    shop.close()


def test_a_whole_workshop_leaves_and_returns_the_same(tmp_path: Path) -> None:
    shop = Workshop(tmp_path / "w.sqlite")
    fill_demo(shop)
    mesh = plate_with_hole()
    names = first_names(mesh.fingerprint(), find_features(mesh))
    shop.parts.add_revision(1, mesh, "another", Motion(by=0.5), names)
    before = gathered(shop)
    out = tmp_path / "all.zip"
    out.write_bytes(whole_bytes(shop))
    shop.close()
    text, raw = read_whole(out)
    told = Whole.model_validate_json(text)
    assert told == before[0] and raw == before[1]
    fill(tmp_path / "again.sqlite", told, raw)
    again = Workshop(tmp_path / "again.sqlite")
    assert gathered(again) == before and again.parts.get(1).newest.motion == Motion(by=0.5)
    again.close()
    torn = bytearray(out.read_bytes())
    torn[len(torn) // 2] ^= 255
    out.write_bytes(torn)
    with pytest.raises(Refused):
        read_whole(out)


def test_a_job_brings_its_printer_and_readings_once(tmp_path: Path) -> None:
    """Taken in twice, the printer with the same records is used again, so nothing is counted double."""
    shop = Workshop(tmp_path / "w.sqlite")
    told = {
        "mesh": "x.ply",
        "printer": {"name": "Tall One", "bed_mm": [200, 200, 300]},
        "readings": [{"kind": "hole", "axis": "upright", "drawn": 5, "printed": 4.8}],
        "prints": [{"material": "PETG", "estimate_hours": 2, "actual_hours": 2.5}],
        "mates": [{"feature": "hole-1", "hardware": "M5"}],
        "own_cards": {"PETG": {"values": {"pull": {"value": 50, "low": 45, "high": 55}}}},
        "format": "knollside-job-2",
    }
    import json

    job = parse_job(json.dumps(told))
    assert parse_job(write_job(job)) == job
    first, said = put_job(shop, shop.parts.add_job("J"), job, "j", pack(plate_with_hole()))
    second, _ = put_job(shop, 1, job, "j", pack(plate_with_hole()))
    docs = [shop.parts.get(p) for p in (first, second)]
    assert docs[0].printer_id == docs[1].printer_id and not said
    assert len(shop.machines.printers()) == 1 and len(shop.learned.measurements(1, "PETG")) == 1
    assert docs[0].mates == (Mate(feature="hole-1", hardware="M5"),)
    other = job.model_copy(update={"own_cards": {"PETG": job.own_cards["PETG"].model_copy(update={"values": {}})}})
    assert "yours were kept" in put_job(shop, 1, other, "j", pack(plate_with_hole()))[1][0]
    assert stated_of(job).card.pull.value == 50
    shop.close()
