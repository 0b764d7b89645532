"""What goes with a feature: hardware, a printed partner, or a thing of its own size."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from knollside.core.model.base import Length, Record, most_kept

Cycles = Annotated[float, Field(ge=0, le=1e7)]
WornGap = Annotated[Length, Field(ge=-5, le=20)]
WindowEnd = Annotated[Length, Field(ge=-3, le=5)]


class Mate(Record):
    """A feature and what goes with it: hardware by name, a printed ``partner`` of the same part, or a thing of its
    own size with its sleeve (mm a side) and tolerance (mm, how much larger it may be).

    ``worn`` is what was logged of its clearance with use, (cycles, mm).
    ``side`` says which of two printed partners is corrected; ``window`` is a gap window of the person's own; ``shape``
    is how its roof is made to print where it lies, ``cover`` its lower end where it stands.
    """

    feature: str = Field(min_length=1, max_length=80)
    hardware: str = Field("as drawn", max_length=40)
    fit: Literal[
        "close",
        "medium",
        "coarse",
        "thread",
        "melt in",
        "press",
        "snug",
        "slide",
        "free",
        "print in place",
        "as drawn",
    ] = "medium"
    apply: bool = True
    partner: str | None = Field(None, max_length=80)
    side: Literal["hole", "pin", "both"] = "hole"
    size_mm: Length | None = Field(None, gt=0, le=400)
    sleeve_mm: Length = Field(0.0, ge=0, le=20)
    tolerance_mm: Length = Field(0.0, ge=0, le=5)
    window: tuple[WindowEnd, WindowEnd] | None = None
    finish: Literal["none", "primer", "paint", "primer and paint", "sanded"] = "none"
    finish_mm: Length | None = Field(None, ge=-1, le=1)
    shape: Literal["round", "sag", "teardrop", "flat top"] = "round"
    cover: Literal["none", "skin", "steps"] = "none"
    worn: tuple[tuple[Cycles, WornGap], ...] = Field((), max_length=60)

    def with_worn(self, cycles: float, gap: float) -> Mate:
        """The mate with its clearance logged once more, mm; the oldest go where there is no more room."""
        kept = (*self.worn, (cycles, gap))[-most_kept(Mate, "worn") :]
        return self.model_copy(update={"worn": kept})

    @model_validator(mode="after")
    def _ordered(self) -> Mate:
        if self.window is not None and not -3 <= self.window[0] < self.window[1] <= 5:
            raise ValueError("a window runs from its least to its most gap, between -3 and 5 mm")
        return self
