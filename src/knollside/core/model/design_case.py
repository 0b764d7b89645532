"""What a part must do: what holds it, what pushes it, where it lives, and who is hurt if it lets go."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from knollside.core.model.base import Degrees, Length, Record, Share, Vec3
from knollside.core.model.fixtures import Fixture
from knollside.core.model.loads import DeflectionLoad, Load, WeightLoad
from knollside.core.model.placed import Name


class Purpose(StrEnum):
    FIT_CHECK = "fit check"
    WORKING = "working part"
    SHOW = "show piece"


class Danger(StrEnum):
    """If it lets go, who is hurt? Asked once; sets the needed reserve (docs/methods.md 2.5)."""

    UNASKED = "not asked"
    NOBODY = "no one"
    BELOW = "someone may stand below"
    PERSON = "it carries a person, or is part of a vehicle, mains, gas or medical"


YEAR = 8760.0  # hours
TEN_YEARS = 10 * YEAR
WATCHED = 8  # places at most

# What ways to lie are weighed by against each other.
Weighed = Literal["strength", "overhang", "height", "contact"]


class LoadCase(Record):
    """Loads that act at the same time, and how they act; cases act in turn.

    ``cycles`` says how often a repeated one comes (about a thousand where not said) and ``stress_ratio`` what share of
    the load is there between (nothing where it goes fully, -1 where it swings back as strong); ``hours`` how long a
    permanent one lasts (ten years where not said); ``drop_mm`` from how high the weights of a knocked one fall;
    ``own_weight`` whether the part's own weight acts besides, down being -Z as drawn.
    """

    name: str = Field(max_length=80)
    loads: tuple[Load, ...] = Field(max_length=40)
    repeated: bool = False
    permanent: bool = False
    knocked: bool = False
    cycles: float | None = Field(None, ge=1, le=1e9)
    stress_ratio: float = Field(0.0, ge=-1, le=0.95)
    drop_mm: Length | None = Field(None, gt=0, le=10_000)
    own_weight: bool = False
    hours: float | None = Field(None, ge=0.1, le=1e6)

    @model_validator(mode="after")
    def _weights_fall(self) -> Self:
        if self.drop_mm is not None and not self.only_weights:
            raise ValueError("only a hanging weight can fall: drop_mm is for cases of weights alone")
        return self

    @property
    def only_weights(self) -> bool:
        """Whether it has loads, and all of them are weights."""
        return bool(self.loads) and all(isinstance(ld, WeightLoad) for ld in self.loads)

    @property
    def falls_mm(self) -> float:
        """From how high its weights fall, mm; nothing where they hang."""
        return self.drop_mm or 0.0 if self.knocked and self.only_weights else 0.0

    @property
    def lasting_h(self) -> float:
        """How long a permanent load lasts, hours."""
        return TEN_YEARS if self.hours is None else self.hours

    @property
    def bends(self) -> bool:
        """Whether it moves something by a stated way, so that strain is judged."""
        return any(isinstance(ld, DeflectionLoad) for ld in self.loads)


class Surroundings(Record):
    """Where the part lives, at its warmest and its coldest."""

    temperature_c: Degrees = 25.0
    coldest_c: Degrees = 15.0
    sun: bool = False
    wet: bool = False
    chemicals: bool = False

    @property
    def cold(self) -> float:
        """The coldest it gets, also where even the warmest is colder than is said, degrees C."""
        return min(self.coldest_c, self.temperature_c)


class SurfaceMark(StrEnum):
    """What is stored of a face besides what holds, pushes or meets it."""

    SHOWN = "shown"
    HIDDEN = "hidden"
    FLEXES = "flexes"


class FaceMark(StrEnum):
    """What a person says of a feature on the stage."""

    HELD = "held"
    PUSHED = "pushed"
    MATES = "mates"
    SHOWN = "shown"
    HIDDEN = "hidden"
    FLEXES = "flexes"


class DesignCase(Record):
    """What the part must do.

    ``own_knock_downs`` are the person's own factors in place of typical ones, by their names; ``critical_mm`` the
    distance stress is averaged over at a peak (docs/methods.md 1.10); ``weights`` the person's own in ordering the
    ways; ``watched`` places that are looked at closely whatever a first look makes of them.
    """

    purpose: Purpose = Purpose.WORKING
    fixtures: tuple[Fixture, ...] = Field((), max_length=60, alias="held")
    cases: tuple[LoadCase, ...] = Field((), max_length=30)
    surroundings: Surroundings = Surroundings()
    danger: Danger = Danger.UNASKED
    marks: dict[Name, SurfaceMark] = Field(default_factory=dict, max_length=400)
    own_knock_downs: dict[Name, Annotated[float, Field(ge=0.01, le=1.5)]] = Field(
        default_factory=dict, max_length=20, alias="treads"
    )
    critical_mm: Length = Field(0.5, ge=0.1, le=2.0)
    weights: dict[Weighed, Share] = Field(default_factory=dict)
    watched: tuple[Vec3, ...] = Field((), max_length=WATCHED)

    @property
    def loaded(self) -> tuple[LoadCase, ...]:
        """The cases that have loads: those a stress has answers for, in the same order."""
        return tuple(c for c in self.cases if c.loads)
