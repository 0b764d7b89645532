"""The job file: one open JSON document that the window and the command line share.

A job is composed of the stored records themselves; docs/job-format.md says what each field means. Format 1, which had
the fields of the duty side by side, is still read.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from knollside.core.material.own import OwnCard
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.identity import Signature
from knollside.core.model import (
    BreakTest,
    DesignCase,
    GapTrial,
    Mate,
    Measurement,
    Orientation,
    PrinterFacts,
    Recipe,
    Record,
    Refused,
    fault_of,
)
from knollside.core.model.base import Day, When
from knollside.core.model.fitchecks import FitCheck
from knollside.core.model.prints import PrintDetails
from knollside.core.model.running import SquareSize
from knollside.core.model.trials import SupportTrial
from knollside.core.textfile import text_of

MAX_BYTES = 32 * 1024 * 1024
_MOST_READINGS = 20_000
Unit = Literal["mm", "cm", "inch", "metre"]
FeatureName = Annotated[str, Field(min_length=1, max_length=80)]
Hours = Annotated[float, Field(ge=0, le=10_000)]


class Printed(Record):
    """One print made: estimate and actual hours, how it came out, a break if there was one, and its details."""

    material: str = Field("PETG", max_length=40)
    made: When | None = None
    estimate_hours: Hours | None = None
    actual_hours: Hours | None = None
    outcome: str = Field("", max_length=200)
    broke: BreakTest | None = None
    details: PrintDetails | None = None


class OlderMesh(Record):
    """An earlier revision: its number, what it was made for, its mesh file, its features' names, and its motion."""

    number: int = Field(ge=1, le=100_000)
    note: str = Field("", max_length=2000)
    mesh: str = Field(max_length=1000)
    fingerprint: str = Field("", max_length=64)
    features: dict[FeatureName, Signature] = Field(default_factory=dict, max_length=20_000)
    motion: Motion | None = None


class Spooled(Record):
    """The spool that is on the printer."""

    name: str = Field(max_length=60)
    material: str = Field(max_length=40)
    grams_left: float = Field(ge=0, le=100_000)
    dry: bool = True


class Job(Record):
    """A part with all that is stated of it. ``features`` are the signatures of its features by their lasting ids; with
    ``fingerprint`` the mesh file is taken just as it is, corner by corner."""

    format: Literal["knollside-job-2"] = "knollside-job-2"
    name: str = Field("", max_length=120)
    mesh: str = Field(max_length=1000)
    fingerprint: str = Field("", max_length=64)
    unit: Unit = "mm"
    revision_note: str = Field("", max_length=2000)
    features: dict[FeatureName, Signature] = Field(default_factory=dict, max_length=20_000)
    lost: dict[FeatureName, Signature] = Field(default_factory=dict, max_length=20_000)
    design_case: DesignCase = Field(DesignCase(), alias="duty")
    recipe: Recipe = Recipe()
    orientation: Orientation | None = Field(None, alias="way")
    mates: tuple[Mate, ...] = Field((), max_length=400)
    material: str = Field("PETG", max_length=40)
    own_cards: dict[str, OwnCard] = Field(default_factory=dict, max_length=100)
    readings: tuple[Measurement, ...] = Field((), max_length=_MOST_READINGS)
    gap_trials: tuple[GapTrial, ...] = Field((), max_length=5_000)
    support_trials: tuple[SupportTrial, ...] = Field((), max_length=500)
    dry_fits: tuple[FitCheck, ...] = Field((), max_length=5_000)
    prints: tuple[Printed, ...] = Field((), max_length=10_000)
    printer: PrinterFacts = PrinterFacts()
    printer_changed: tuple[Day, ...] = Field((), max_length=5_000)
    bond_changed: tuple[When, ...] = Field((), max_length=5_000)
    square_mm: SquareSize | None = None
    spool: Spooled | None = None
    revisions: tuple[OlderMesh, ...] = Field((), max_length=500)


def read_job(path: str | Path) -> Job:
    """Read and check a job file; raises :class:`Refused` naming the field that is wrong."""
    path = Path(path)
    return parse_job(text_of(path, MAX_BYTES, "job file"), path.name)


def parse_job(text: str, name: str = "job") -> Job:
    """A job from its text, of either format; raises :class:`Refused` naming the field that is wrong.

    >>> parse_job('{"mesh": "arm.stl", "recipe": {"walls": 4}}').recipe.walls
    4
    >>> parse_job('{"mesh": "arm.stl", "recipe": {"walls": "many"}}')
    Traceback (most recent call last):
    ...
    knollside.core.model.base.Refused: job: recipe > walls: Input should be a valid integer, unable to parse string
    as an integer.
    """
    try:
        told = json.loads(text)
        if not isinstance(told, dict):
            raise Refused(f"{name} is no job: it is a {type(told).__name__}.")
        if told.get("format", "knollside-job-1") == "knollside-job-1":
            told = _from_first(told)
        return Job.model_validate(told)
    except (json.JSONDecodeError, RecursionError) as error:
        raise Refused(f"{name} is not valid JSON: {error}.") from None
    except ValidationError as error:
        more = "" if error.error_count() == 1 else f" ({error.error_count() - 1} more)"
        raise Refused(f"{name}: {fault_of(error)}{more}.") from None


_OF_DESIGN_CASE = tuple(f.alias or name for name, f in DesignCase.model_fields.items())
_TOLD_BY_OTHERS = ("held", "pushed", "mates")


def _from_first(told: dict[str, Any]) -> dict[str, Any]:
    """The first format's fields where the second has them; what is wrong in them is found afterwards."""
    out = {k: v for k, v in told.items() if k not in (*_OF_DESIGN_CASE, "format", "way", "measurements", "breaks")}
    design_case = {k: told[k] for k in _OF_DESIGN_CASE if k in told}
    if isinstance(design_case.get("marks"), dict):
        design_case["marks"] = {k: v for k, v in design_case["marks"].items() if v not in _TOLD_BY_OTHERS}
    out["duty"] = design_case
    if told.get("way") is not None:
        out["way"] = {"direction": told["way"]}
    out["readings"] = told.get("measurements", ())
    material = told.get("material", "PETG")
    breaks = told.get("breaks", ())
    out["prints"] = [{"material": material, "broke": b} for b in breaks] if isinstance(breaks, list | tuple) else breaks
    return out


def write_job(job: Job) -> str:
    """The job as JSON text, readable by :func:`parse_job`."""
    return (
        json.dumps(job.model_dump(mode="json", exclude_defaults=True, by_alias=True) | {"format": job.format}, indent=1)
        + "\n"
    )
