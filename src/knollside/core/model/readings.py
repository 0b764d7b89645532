"""What was measured, tried and broken."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field, model_validator

from knollside.core.model.base import Day, Force, Length, Place, Record


class Measurement(Record):
    """One reading of one printed feature, both sizes as diameters (or widths) in mm.

    *foot*: the width of a first layer, whose flare it tells. *known hole* and *known outside*: a thing of known size
    (``drawn``: a ring, a bearing, a gauge block), read to tell what the calliper is off by; they say nothing of a
    printer. "plumb" is a lying hole from top to bottom. ``printed`` is the middle of ``repeats`` readings of the same
    place; nozzle and layer height are those of the print. ``between`` is what gauges told: a hole (an outside) is no
    smaller than the first and no larger than the second, and ``printed`` is the middle of the two.

    ``bar`` and ``on`` name the print: readings of one bar, printed on one day, share what that print was off by.
    ``place`` names the spot on it; two readings of one place share how that place came out. ``across`` is the axis of
    the printer that was measured along, where a round standing upright was.
    """

    kind: Literal["hole", "pin", "foot", "known hole", "known outside"]
    axis: Literal["upright", "lying", "plumb"]
    drawn: Length = Field(ge=0.05, le=400)
    printed: Length = Field(ge=0.01, le=400)
    source: Literal["typed", "calliper", "simulated", "imported"] = "typed"
    left_out: bool = False
    nozzle_mm: Length | None = Field(None, ge=0.05, le=3)
    layer_height: Length | None = Field(None, ge=0.01, le=2)
    bar: str = Field("", max_length=60)
    repeats: int = Field(1, ge=1, le=100)
    between: tuple[Length, Length] | None = None
    on: Day | None = None
    place: str = Field("", max_length=60)
    across: Literal["", "x", "y"] = ""
    lot: str = Field("", max_length=60)
    sheet: str = Field("", max_length=60)
    nozzle_hours: float | None = Field(None, ge=0, le=1e5)

    @model_validator(mode="after")
    def _gauged(self) -> Measurement:
        if self.between is not None:
            least, most = self.between
            if not 0.01 <= least < most <= 400:
                raise ValueError(
                    f"a gauge of {least:g} mm cannot go in where one of {most:g} mm does not; the first is the smaller"
                )
            if not least <= self.printed <= most:
                raise ValueError("the size lies outside what the gauges told")
        return self


class GapTrial(Record):
    """Two bodies printed with a drawn gap a side, mm, and whether they came free of each other."""

    direction: Literal["in the layer", "across it"]
    drawn: Length = Field(ge=0.005, le=5)
    freed: bool
    layer_height: Length | None = Field(None, ge=0.01, le=2)
    source: Literal["typed", "simulated", "imported"] = "typed"


class BreakTest(Record):
    """A part or bar broken on purpose, or in use; one that did not break held ``load_N``, and ``foretold_mode`` says
    how it was to break first. ``at``: where, as it was clicked; ``foretold_at``: where it was to break first (both in
    the part's frame, mm)."""

    mode: Literal["along a layer", "across the layers", "did not break"]
    ratio: float | None = Field(None, gt=0.02, le=1.5)  # across over along, from a pair of pull bars
    load_N: Force | None = Field(None, ge=0)
    predicted_N: Force | None = Field(None, ge=0)
    foretold_mode: Literal["along a layer", "across the layers"] | None = None
    basis: float | None = Field(None, gt=0, le=2000)  # MPa it was foretold with, before this recipe's heat and fan
    place: str = Field("", max_length=200)
    at: tuple[Place, Place, Place] | None = None
    foretold_at: tuple[Place, Place, Place] | None = None

    @property
    def astray(self) -> float | None:
        """How far from the foretold place it broke, mm; None where either is not known."""
        return None if self.at is None or self.foretold_at is None else math.dist(self.at, self.foretold_at)
