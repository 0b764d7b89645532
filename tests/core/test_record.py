"""The record of prints: what differs, what it is found by, tables and the story of a part."""

from __future__ import annotations

import csv
import io
import json
from datetime import datetime

from knollside.core.job.file import Job, Printed, parse_job, write_job
from knollside.core.job.record import Kept, differences, prints_csv, prints_json, words_of
from knollside.core.model import BreakTest, Recipe
from knollside.core.model.prints import PrintDetails
from knollside.report.story import Story, story_html
from knollside.store.search import PrintSearch, match_of


def kept(number: int = 1, **more: object) -> Kept:
    details = {"revision": 2, "recipe": Recipe(nozzle_c=250), "spool": "PETG green", "fit": "good"} | more
    faults = tuple(details.pop("wrong", ()))  # type: ignore[arg-type]
    printed = Printed(
        material="PETG",
        made=datetime(2026, 10, number, 9),
        estimate_hours=2.0,
        actual_hours=2.2,
        outcome="came out well",
        details=PrintDetails.model_validate(details),
    )
    return Kept(number, "Trellis clip", "Old Tom", printed, faults)


def test_what_differs_is_told_set_things_first_and_unknown_ones_as_unknown() -> None:
    first = kept(1, strength="bad")
    second = kept(2, recipe=Recipe(nozzle_c=238, walls=6), strength="good", lot="B7", next="fewer strings")
    found = [(d.what, d.first, d.second, d.outcome) for d in differences(first, second)]
    assert found == [
        ("lot", "not known", "B7", False),
        ("walls", "4", "6", False),
        ("nozzle", "250 °C", "238 °C", False),
        ("strength", "bad", "good", True),
    ]
    assert differences(first, first) == ()


def test_a_print_is_found_by_any_of_its_words_and_a_hostile_search_finds_nothing() -> None:
    index = PrintSearch()
    prints = [
        kept(1, why="As strong as 250 by 24 bars", recipe=Recipe(nozzle_c=238)),
        kept(2, wrong=("strings: the filament took up water, cured",)),
        kept(3, next="Outer wall slower", spool="Weißes Garn"),
    ]
    index.begin(1, ((k.number, words_of(k)) for k in prints))
    assert index.go_on(2) and index.find("238") == [1] and index.find("wall") == []
    assert not index.go_on(2)
    assert index.find("238") == [1] and index.find("strong bars") == [1]
    assert index.find("string") == [2] and index.find('"outer wall"') == [3] and index.find('"wall outer"') == []
    assert index.find("weiss") == [] and index.find("weiß") == [3] and index.find("") is None
    for odd in ('"', '""', "*", "a* OR", "NEAR(1 2)", "words:x", "-1", ")(", "'; DROP TABLE prints; --", '"a" AND NOT'):
        assert index.find(odd) is None or isinstance(index.find(odd), list)
    assert index.find("238 NOT 250") == [] and index.find("words:238") == []
    # Another key, other prints; the same key is not indexed anew.
    index.begin(2, [(9, "cane clip")])
    index.go_on()
    assert index.find("238") == [] and index.find("cane") == [9]
    index.begin(2, [(10, "238")])
    index.go_on()
    assert index.find("238") == []


def test_what_is_typed_never_becomes_the_indexs_own_language() -> None:
    assert match_of("a OR b") == '"a"* AND "OR"* AND "b"*'
    assert match_of('say "two words" NEAR*') == '"two words" AND "say"* AND "NEAR"*'
    assert match_of("***") == "" and len(match_of("x " * 500).split(" AND ")) == 24


def test_tables_say_all_and_run_nothing_in_a_spreadsheet() -> None:
    row = next(iter(csv.DictReader(io.StringIO(prints_csv([kept(1, why="=1+1", actual_g=31.5)])))))
    assert row["why"] == "'=1+1" and row["actual_g"] == "31.5" and row["part"] == "Trellis clip"
    assert row["nozzle_c"] == "250.0" and row["fit"] == "good" and row["look"] == ""
    told = json.loads(prints_json([kept(1, wrong=("blobs",))]))["prints"][0]
    assert told["details"]["recipe"]["nozzle_c"] == 250 and told["faults"] == ["blobs"]


def test_a_job_file_carries_the_details_of_its_prints() -> None:
    printed = kept(1, why="because").printed
    job = parse_job(write_job(Job(mesh="clip.stl", prints=(printed,))))
    assert job.prints[0].details == printed.details


def test_a_story_tells_every_print_and_runs_nothing() -> None:
    broke = BreakTest(mode="along a layer", load_N=120)
    one = kept(1, why="<script>alert(1)</script>", wrong=("strings",))
    one = Kept(1, one.part, one.printer, one.printed.model_copy(update={"broke": broke}), one.faults)
    html = story_html(Story("Clip & co", "Garden", ((1, "as made"), (2, "thicker arm")), (one,), {1: (b"\xff\xd8x",)}))
    assert "<script>" not in html and "&lt;script&gt;" in html and "Clip &amp; co" in html
    for words in ("thicker arm", "along a layer at 120 N", "strings", "PETG green", "data:image/jpeg;base64,/9h4"):
        assert words in html


def test_of_a_story_of_many_prints_the_newest_are_told_and_that_is_said() -> None:
    many = tuple(Kept(k, "Clip", "Tom", Printed(outcome=f"print number {k}")) for k in range(520))
    html = story_html(Story("Clip", "", (), many, {}))
    assert "The first 20 prints are left out." in html
    assert "print number 519" in html and "print number 19<" not in html
