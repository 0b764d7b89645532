"""Typed quantities and the job file."""

import json

import pytest

from knollside.core import units
from knollside.core.job.file import Job, parse_job, write_job
from knollside.core.model import Refused


@pytest.mark.parametrize(
    ("text", "kind", "value"),
    [
        ("12", "length", 12.0),
        ("5/8 in", "length", 15.875),
        ("12+0.2", "length", 12.2),
        ("12,5", "length", 12.5),
        ("1 m 20 cm", "length", 1200.0),
        ("9 kgf", "force", 9 * 9.80665),
        ("9 kg", "force", 9 * 9.80665),
        ("20 lbf", "force", 88.9644323),
        ("113 degF", "temperature", 45.0),
        ("30 %", "share", 0.3),
        ("0.5 in", "length", 12.7),
    ],
)
def test_quantities_are_read_in_any_unit(text: str, kind: str, value: float) -> None:
    assert units.parse(text, kind) == pytest.approx(value, rel=1e-7)


@pytest.mark.parametrize(
    "text", ["", "abc", "5 5", "1/0", "1,2,3", "9**9", "5 kg", "nan", "__import__('os')", "1" * 99]
)
def test_what_is_no_length_is_refused_with_words(text: str) -> None:
    with pytest.raises(units.QuantityError) as caught:
        units.parse(text, "length")
    assert len(str(caught.value)) > 8


def test_numbers_show_no_more_digits_than_their_doubt() -> None:
    assert units.round_to_doubt(2.6381, 0.75) == "2.6"
    assert units.round_to_doubt(26.381, 7.5) == "26"


JOB = {
    "mesh": "arm.stl",
    "unit": "mm",
    "material": "PETG",
    "recipe": {"layer_height": 0.2, "line_width": 0.45, "walls": 4, "infill": 1.0},
    "held": [{"at": [0, 10, 5], "kind": "fixed"}],
    "cases": [{"name": "hose", "loads": [{"at": [120, 0, 40], "force_N": [0, 0, "-9 kgf"]}]}],
    "mates": [{"feature": "hole-1", "hardware": "M5", "fit": "slide"}],
}


def test_a_job_reads_with_units_and_comes_back_the_same() -> None:
    job = parse_job(json.dumps(JOB))
    assert job.design_case.cases[0].loads[0].force_N[2] == pytest.approx(-88.25985)
    assert parse_job(write_job(job)) == job


@pytest.mark.parametrize(
    ("change", "word"),
    [
        ({"recipe": {"walls": 0}}, "walls"),
        ({"unknown": 1}, "unknown"),
        ({"mates": [{"feature": 5, "hardware": "M5"}]}, "feature"),
        ({"held": [{"at": [0, 0, 0], "feature": "hole-1"}]}, "held"),
        ({"cases": [{"name": "x", "loads": [{"at": [0, 0], "force_N": [1, 0, 0]}]}]}, "at"),
    ],
)
def test_a_wrong_job_is_refused_naming_the_field(change: dict, word: str) -> None:
    with pytest.raises(Refused, match=word):
        parse_job(json.dumps(JOB | change))
    with pytest.raises(Refused, match="JSON"):
        parse_job("{")


def test_a_job_has_defaults_for_all_but_the_mesh() -> None:
    assert Job(mesh="a.stl").recipe.walls == 4
