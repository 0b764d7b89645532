"""What mates did when they were tried dry, and how often they were moved since."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from knollside.core.model.base import Length, Record


class FitCheck(Record):
    """A mate by its feature: how it moved, in which revision, the size it was expected to be printed, mm."""

    mate: str = Field(min_length=1, max_length=80)
    at: datetime
    moved: Literal["by itself", "with a push", "not at all"]
    revision: int = Field(1, ge=1)
    printed_mm: Length | None = None


class FitChecks(Record):
    """All of one part."""

    checks: tuple[FitCheck, ...] = Field((), max_length=2000)
