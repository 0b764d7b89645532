"""What mates did when they were tried dry, and how often they were moved since."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from knollside.core.model.base import Length, Record, When
from knollside.core.model.mates import Cycles, WornGap

Moved = Literal["by itself", "with a push", "not at all", "it rattles", "clicks", "does not click", "it broke"]


class FitCheck(Record):
    """A mate by its feature: how it moved, in which revision, after so many ``cycles``.

    ``told``: where its gap lay in the window of its class ``fit`` in ``material``, nothing where it cannot say. The gap
    was foretold as ``gap_mm`` within ``doubt_mm`` (one sigma), or ``measured_mm``. ``printed_mm`` is the size it was
    expected to be printed.
    """

    mate: str = Field(min_length=1, max_length=80)
    at: When
    moved: Moved
    revision: int = Field(1, ge=1)
    printed_mm: Length | None = None
    cycles: Cycles = 0.0
    told: Literal["", "binds", "fits", "rattles"] = ""
    fit: str = Field("", max_length=40)
    material: str = Field("", max_length=40)
    gap_mm: WornGap | None = None
    doubt_mm: float = Field(0.05, ge=0, le=2)
    measured_mm: WornGap | None = None

    @property
    def did(self) -> str:
        """What it did, in words: "moves with a push after 30 times, gap 0.24 mm"."""
        did = {"by itself": "moves by itself", "with a push": "moves with a push", "not at all": "does not move"}
        times = f" after {self.cycles:.0f} times" if self.cycles else ""
        gap = f", gap {self.measured_mm:.2f} mm" if self.measured_mm is not None else ""
        return f"{did.get(self.moved, self.moved)}{times}{gap}"

    @property
    def gap(self) -> float | None:
        """The gap it had, mm: measured, else as foretold."""
        return self.gap_mm if self.measured_mm is None else self.measured_mm


class FitChecks(Record):
    """All of one part."""

    checks: tuple[FitCheck, ...] = Field((), max_length=2000)
