"""Readers keep to their limits, name them, and end without a traceback."""

from __future__ import annotations

import json
import zipfile
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from knollside.cli import _plain_json
from knollside.core.model import Refused
from knollside.core.model.running import SpoolLog, Weighing
from knollside.core.run.spoollog import drying_now, water_now
from knollside.foreign.reading import limits_of, read_mesh, read_whole


def test_a_small_archive_of_millions_of_records_is_counted_before_it_is_built(tmp_path: Path) -> None:
    path = tmp_path / "all.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("workshop.json", '{"readings":[' + ",".join(["{}"] * 3_000_000) + "]}")
    assert path.stat().st_size < 2**20
    with pytest.raises(Refused, match="more than the limit of 400,000 records"):
        read_whole(path)


def test_a_package_of_too_many_triangles_is_counted_before_it_is_built(tmp_path: Path) -> None:
    path = tmp_path / "many.3mf"
    corner = '<vertex x="0" y="0" z="0"/>' * 3
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
        rows = '<triangle v1="0" v2="1" v3="2"/>' * 5_100_000
        inside = f"<mesh><vertices>{corner}</vertices><triangles>{rows}</triangles></mesh>"
        z.writestr("3D/3dmodel.model", f'<model><resources><object id="1">{inside}</object></resources></model>')
    with pytest.raises(Refused, match="more than 5,000,000 triangles"):
        read_mesh(path)


def test_a_step_file_and_a_workshop_have_twenty_seconds_and_two_gigabytes(monkeypatch: pytest.MonkeyPatch) -> None:
    for kind in ("step", "workshop"):
        assert (limits_of(kind).seconds, limits_of(kind).memory_mb) == (20, 2000)
    monkeypatch.setenv("KNOLLSIDE_READ_SECONDS", "90")
    monkeypatch.setenv("KNOLLSIDE_READ_MB", "100")
    assert (limits_of("step").seconds, limits_of("step").memory_mb) == (90, 2000), "raised, never lowered"


def test_a_reader_that_takes_too_much_names_the_limit(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    from dataclasses import replace

    from knollside.foreign import reading

    path = tmp_path / "block.step"
    path.write_bytes((Path(__file__).parent / "block.step").read_bytes())
    for change, words in (({"seconds": 0}, "the limit of 0 s"), ({"memory_mb": 300}, "the limit of 300 MB")):
        monkeypatch.setitem(reading.LIMITS, "step", replace(limits_of("step"), **change))
        with pytest.raises(Refused, match=words):
            read_mesh(path)
        monkeypatch.undo()


def test_what_is_no_number_leaves_as_none() -> None:
    import numpy as np

    told = {"a": [float("nan"), np.float64(2.5), np.int64(3), True], "b": (float("inf"), None, "x"), 3: Path("p")}
    assert json.loads(json.dumps(_plain_json(told), allow_nan=False)) == {
        "a": [None, 2.5, 3, True],
        "b": [None, None, "x"],
        "3": "p",
    }


def test_weighings_that_contradict_teach_nothing_and_say_why() -> None:
    """A spool heavier after drying than before: typical hours stay, with the reason, where a page would have fallen."""
    at = datetime(2026, 11, 1, 9)
    heavier = tuple(Weighing(at=at + timedelta(hours=h), gross_g=1200 + 2 * h, drying=h) for h in (0.0, 1.0, 2.0))
    plain, odd = SpoolLog(opened=at.date()), SpoolLog(opened=at.date(), weighings=heavier)
    now = at + timedelta(days=20)
    water = water_now("Nylon", plain, now)
    assert water is not None
    usual, found = drying_now("Nylon", plain, water, 500), drying_now("Nylon", odd, water, 500)
    assert "more after drying than before" in found.trouble and not usual.trouble
    assert found.hours.high == pytest.approx(usual.hours.high, rel=0.2) and found.learned == 0
