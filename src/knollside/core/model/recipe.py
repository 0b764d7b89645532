"""What to set in the program that makes the toolpath, how the part lies, what holds it up there, and the printer."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from knollside.core.model.base import Degrees, Direction, Length, Record, Share

BedLength = Annotated[Length, Field(ge=40, le=1000)]


class Recipe(Record):
    """What to set in the program that makes the toolpath."""

    layer_height: Length = Field(0.2, ge=0.04, le=1.2)
    line_width: Length = Field(0.45, ge=0.1, le=2.0)
    walls: int = Field(4, ge=1, le=20)
    infill: Share = 0.3
    pattern: Literal["grid", "gyroid", "triangles", "honeycomb", "cubic", "lines"] = "grid"
    tops: int = Field(5, ge=0, le=30)
    bottoms: int = Field(4, ge=0, le=30)
    nozzle_c: Degrees | None = None
    fan: Share | None = None
    first_layer: Length | None = Field(None, ge=0.04, le=1.5)  # mm; None as advised

    def first_mm(self, nozzle: float) -> float:
        """Height of the first layer, mm: the person's own, or what is advised for a ``nozzle`` of so many mm, which
        forgives an uneven sheet."""
        if self.first_layer is not None:
            return self.first_layer
        return round(min(max(self.layer_height, 0.5 * nozzle), 0.75 * nozzle), 2)


class SupportSettings(Record):
    """What holds up the places that rest on nothing, in one way to lie.

    ``preset``: everything below the limit, only where it pays, or nothing; ``by_hand`` overrules it region by
    region. ``density`` share of a support's body, ``interface`` solid layers under the part, ``gap_mm`` left
    between them.
    """

    preset: Literal["all", "pays", "none"] = Field("pays", alias="school")
    style: Literal["plain", "tree"] = "plain"
    density: float = Field(0.15, ge=0.02, le=1.0)
    gap_mm: float = Field(0.2, ge=0.0, le=2.0)
    interface: int = Field(2, ge=0, le=10)
    by_hand: dict[Annotated[str, Field(max_length=80)], bool] = Field(default_factory=dict, max_length=200)


class Orientation(Record):
    """A way to lie: the build direction, a unit vector in the part's frame, the person's own ``reason`` for it (what
    the machine says of it is worked out anew each time), and what holds it up there."""

    direction: Direction
    reason: str = Field("", max_length=400)
    support_settings: SupportSettings = Field(SupportSettings(), alias="holding")


class PrinterFacts(Record):
    """What a job needs to know of the printer."""

    name: str = Field("Printer", min_length=1, max_length=60)
    bed_mm: tuple[BedLength, BedLength, BedLength] = (220.0, 220.0, 250.0)
    nozzle_mm: Length = Field(0.4, ge=0.1, le=2.0)
    nozzle_max_c: Degrees = Field(260.0, ge=150, le=400)
    bed_max_c: Degrees = Field(100.0, ge=0, le=200)
    enclosed: bool = False
    hard_nozzle: bool = False
