"""What was measured, tried and broken."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from knollside.core.model.base import Force, Length, Record


class Measurement(Record):
    """One calliper reading of one printed feature, both sizes as diameters (or widths) in mm.

    *foot*: the width of a first layer, whose flare it tells. "plumb" is a lying hole from top to bottom. ``printed``
    is the middle of ``repeats`` readings of the same place; nozzle and layer height are those of the print.
    """

    kind: Literal["hole", "pin", "foot"]
    axis: Literal["upright", "lying", "plumb"]
    drawn: Length = Field(ge=0.05, le=400)
    printed: Length = Field(ge=0.01, le=400)
    source: Literal["typed", "calliper", "simulated", "imported"] = "typed"
    left_out: bool = False
    nozzle_mm: Length | None = Field(None, ge=0.05, le=3)
    layer_height: Length | None = Field(None, ge=0.01, le=2)
    bar: str = Field("", max_length=60)
    repeats: int = Field(1, ge=1, le=100)


class GapTrial(Record):
    """Two bodies printed with a drawn gap a side, mm, and whether they came free of each other."""

    direction: Literal["in the layer", "across it"]
    drawn: Length = Field(ge=0.005, le=5)
    freed: bool
    layer_height: Length | None = Field(None, ge=0.01, le=2)
    source: Literal["typed", "simulated", "imported"] = "typed"


class BreakTest(Record):
    """A part or bar broken on purpose, or in use."""

    mode: Literal["along a layer", "across the layers", "did not break"]
    ratio: float | None = Field(None, gt=0.02, le=1.5)  # across over along, from a pair of pull bars
    load_N: Force | None = Field(None, ge=0)
    predicted_N: Force | None = Field(None, ge=0)
    place: str = Field("", max_length=200)
