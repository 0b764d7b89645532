"""What is kept of one print besides its hours: what it was printed as, how it came out, what to change next."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from knollside.core.model.base import Direction, Mass, Record
from knollside.core.model.recipe import Recipe

Judged = Literal["", "good", "so-so", "bad"]
JUDGEMENTS: tuple[Judged, ...] = ("good", "so-so", "bad")
ASPECTS = ("fit", "strength", "look", "ease")
Text = Annotated[str, Field(max_length=2000)]


class PartPrint(Record):
    """One of several parts on a plate: its number, and what it was printed as."""

    part: int = Field(ge=1)
    revision: int | None = Field(None, ge=1, le=100_000)
    recipe: Recipe | None = None
    direction: Direction | None = None


class PrintDetails(Record):
    """``revision`` of the part; its ``recipe`` and ``direction`` as printed; ``spool`` and its ``lot``, ``plate`` by
    their names; grams foretold and weighed; four judgements; numbers of ``faults``, and of the ``parts`` on its plate
    where they were several, with what ``each`` was printed as; ``why`` it was printed so, and what to change ``next``.
    """

    revision: int | None = Field(None, ge=1, le=100_000)
    recipe: Recipe | None = None
    direction: Direction | None = None
    spool: str = Field("", max_length=60)
    lot: str = Field("", max_length=60)
    plate: str = Field("", max_length=200)
    estimate_g: Mass | None = None
    actual_g: Mass | None = None
    fit: Judged = ""
    strength: Judged = ""
    look: Judged = ""
    ease: Judged = ""
    faults: tuple[int, ...] = Field((), max_length=100)
    parts: tuple[int, ...] = Field((), max_length=400)
    each: tuple[PartPrint, ...] = Field((), max_length=400)
    why: Text = ""
    next: Text = ""

    def of_part(self, part: int) -> PrintDetails:
        """As far as one of several parts on the plate goes: its own revision, recipe and direction."""
        mine = next((e for e in self.each if e.part == part), None)
        if mine is None or self.recipe is not None:
            return self
        told = {"revision": mine.revision, "recipe": mine.recipe, "direction": mine.direction}
        return self.model_copy(update=told)

    @property
    def judged(self) -> tuple[tuple[str, Judged], ...]:
        """What was judged of it, by aspect."""
        told: tuple[tuple[str, Judged], ...] = (
            ("fit", self.fit),
            ("strength", self.strength),
            ("look", self.look),
            ("ease", self.ease),
        )
        return tuple((a, v) for a, v in told if v)
