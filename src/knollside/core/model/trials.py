"""What is kept of trials on the bench: bars that were pulled, supports that were taken off."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Literal

from pydantic import Field

from knollside.core.model.base import Force, Length, Record, Share

Varies = Literal["nozzle temperature", "fan", "layer height", "nozzle kind", "material lot"]
UNITS: dict[Varies, str] = {
    "nozzle temperature": "°C",
    "fan": "%",
    "layer height": "mm",
    "nozzle kind": "",
    "material lot": "",
}


class Pull(Record):
    """One bar pulled: its level of what varies, load and narrowest area, the print run it came from, whether it stood
    (pulled across its layers) or lay, where it broke, and whether the grip slipped."""

    level: float = Field(ge=-1000, le=10_000)
    load_N: Force = Field(gt=0, le=1e6)
    area_mm2: float = Field(gt=0, le=10_000)
    run: int = Field(1, ge=1, le=1000)
    standing: bool = True
    mode: Literal["along a layer", "across the layers"] = "along a layer"
    slipped: bool = False
    source: Literal["typed", "scale", "simulated"] = "typed"

    @property
    def strength(self) -> float:
        """MPa."""
        return self.load_N / self.area_mm2


PlannedLevel = Annotated[float, Field(ge=-1000, le=10_000)]


class PullStudy(Record):
    """Bars of one printer (its number) and material over levels of what ``varies``; ``against``: the level all are held
    against (None: the strongest). ``levels`` are those planned, with ``each`` so many bars; none where nothing is."""

    name: str = Field("Pull tests", min_length=1, max_length=80)
    printer: int = Field(ge=0)
    material: str = Field(max_length=40)
    varies: Varies = "nozzle temperature"
    margin: float = Field(0.10, ge=0.01, le=0.5)
    against: float | None = Field(None, ge=-1000, le=10_000)
    hard_nozzle: bool = False
    levels: tuple[PlannedLevel, ...] = Field((), max_length=8)
    each: int = Field(6, ge=2, le=60)
    pulls: tuple[Pull, ...] = Field((), max_length=2000)


Outcome = Literal["lifted", "clean", "welded"]
RoofSide = Annotated[Length, Field(ge=1, le=400)]
RoofPattern = Literal["lines", "grid", "solid"]


class SupportTrial(Record):
    """One support taken off: the ``gap_mm`` under the part, the ``fan`` while its roof was laid, whether that went
    slow, the ``pattern`` of the support's own roof, how it came off and how hard that was; ``roof_mm``, the short and
    long side of what it held, and its ``density``, by which that force speaks for other places."""

    gap_mm: float = Field(ge=0, le=2)
    fan: Share = 0.5
    slow: bool = False
    pattern: RoofPattern = "lines"
    outcome: Outcome
    force_N: Force | None = None
    roof_mm: tuple[RoofSide, RoofSide] | None = None
    density: float = Field(0.15, ge=0.02, le=1.0)
    source: Literal["typed", "simulated"] = "typed"


def support_trials_of(studies: Mapping[int, SupportStudy], printer: int, material: str) -> tuple[SupportTrial, ...]:
    """All trials of a printer (its number) and material."""
    mine = (s for s in studies.values() if (s.printer, s.material) == (printer, material))
    return tuple(t for s in mine for t in s.trials)


class SupportStudy(Record):
    """Trials of one printer (its number) and material."""

    printer: int = Field(ge=0)
    material: str = Field(max_length=40)
    trials: tuple[SupportTrial, ...] = Field((), max_length=500)
