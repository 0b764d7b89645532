"""The job file: one open JSON document that the window and the command line share."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, ValidationError

from knollside.core.model import (
    BreakTest,
    Danger,
    Degrees,
    Duty,
    FaceMark,
    GapTrial,
    Held,
    Length,
    LoadCase,
    Mate,
    Measurement,
    Purpose,
    Recipe,
    Record,
    Refused,
    Share,
    Surroundings,
)

MAX_BYTES = 4 * 1024 * 1024
Unit = Literal["mm", "cm", "inch", "metre"]


class PrinterFacts(Record):
    """What a job needs to know of the printer."""

    name: str = Field("Printer", max_length=60)
    bed_mm: tuple[Length, Length, Length] = (220.0, 220.0, 250.0)
    nozzle_mm: Length = 0.4
    nozzle_max_c: Degrees = 260.0
    bed_max_c: Degrees = 100.0
    enclosed: bool = False
    hard_nozzle: bool = False


class Job(Record):
    """A part with its duty, recipe, mates and what was measured. Schema in docs/job-format.md."""

    format: Literal["knollside-job-1"] = "knollside-job-1"
    name: str = Field("", max_length=120)
    mesh: str = Field(max_length=1000)
    unit: Unit = "mm"
    material: str = Field("PETG", max_length=40)
    recipe: Recipe = Recipe()
    purpose: Purpose = Purpose.WORKING
    held: tuple[Held, ...] = Field((), max_length=60)
    cases: tuple[LoadCase, ...] = Field((), max_length=30)
    surroundings: Surroundings = Surroundings()
    danger: Danger = Danger.UNASKED
    marks: dict[str, FaceMark] = Field(default_factory=dict)
    treads: dict[str, Annotated[float, Field(gt=0, le=1.5)]] = Field(default_factory=dict)
    critical_mm: Length = Field(0.5, ge=0.1, le=2.0)
    weights: dict[Literal["strength", "overhang", "height", "contact"], Share] = Field(default_factory=dict)
    way: tuple[float, float, float] | None = None
    mates: tuple[Mate, ...] = Field((), max_length=400)
    measurements: tuple[Measurement, ...] = Field((), max_length=20_000)
    gap_trials: tuple[GapTrial, ...] = Field((), max_length=5_000)
    breaks: tuple[BreakTest, ...] = Field((), max_length=5_000)
    printer: PrinterFacts = PrinterFacts()

    def duty(self) -> Duty:
        return Duty(
            purpose=self.purpose,
            held=self.held,
            cases=self.cases,
            surroundings=self.surroundings,
            danger=self.danger,
            marks=self.marks,
            treads=self.treads,
            critical_mm=self.critical_mm,
            weights=self.weights,
        )


def read_job(path: str | Path) -> Job:
    """Read and check a job file; raises :class:`Refused` naming the field that is wrong."""
    path = Path(path)
    try:
        if path.stat().st_size > MAX_BYTES:
            raise Refused(f"{path.name} is over {MAX_BYTES // 2**20} MB; that is no job file.")
        text = path.read_text("utf-8")
    except OSError as error:
        raise Refused(f"{path.name} could not be read: {error.strerror or error}.") from None
    except UnicodeDecodeError:
        raise Refused(f"{path.name} is not a text file.") from None
    return parse_job(text, path.name)


def parse_job(text: str, name: str = "job") -> Job:
    try:
        return Job.model_validate(json.loads(text))
    except (json.JSONDecodeError, RecursionError) as error:
        raise Refused(f"{name} is not valid JSON: {error}.") from None
    except ValidationError as error:
        first = error.errors()[0]
        where = " > ".join(str(p) for p in first["loc"]) or "the whole"
        more = "" if error.error_count() == 1 else f" ({error.error_count() - 1} more)"
        raise Refused(f"{name}: {where}: {first['msg']}{more}.") from None


def write_job(job: Job) -> str:
    """The job as JSON text, readable by :func:`parse_job`."""
    return json.dumps(job.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"
