"""What holds a part: one record for each kind of fixture, told apart by ``kind``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Discriminator, Field, Tag, TypeAdapter

from knollside.core.model.base import Force, Length
from knollside.core.model.placed import Kinded, kind_in

FixtureKind = Literal["fixed", "sliding", "screw", "thread", "pin", "edge", "wall"]


class _FixtureBase(Kinded):
    numbers = frozenset({"head_mm"})

    @property
    def one_way(self) -> bool:
        """Whether it pushes where the part comes towards it, and never pulls."""
        return False


class FixedFixture(_FixtureBase):
    """A face that cannot move."""

    kind: Literal["fixed"] = "fixed"


class SlidingFixture(_FixtureBase):
    """A face that cannot move along its normal."""

    kind: Literal["sliding"] = "sliding"


class ScrewFixture(_FixtureBase):
    """A screw through a hole: ``head_mm`` across its head or washer, twice the hole where not given.

    A ``tight`` one clamps the ring under its head, tightened with ``tightened_N`` where that is known. A loose one
    pushes back on that ring only, and with its shank, ``shank_mm`` across (as wide as the hole where not given), on the
    hole's wall once the play is gone.
    """

    kind: Literal["screw"] = "screw"
    head_mm: Length | None = Field(None, gt=0, le=200)
    shank_mm: Length | None = Field(None, gt=0, le=200)
    tight: bool = True
    tightened_N: Force | None = Field(None, ge=0)

    @property
    def one_way(self) -> bool:
        return not self.tight

    def head(self, hole: float) -> float:
        """Its head over a hole of so many mm, mm across."""
        return self.head_mm or 2 * hole

    def play(self, hole: float) -> float:
        """How far a hole of so many mm may move sideways before the shank bears, mm."""
        return max(hole - self.shank_mm, 0.0) / 2 if self.shank_mm is not None else 0.0


class ThreadFixture(_FixtureBase):
    """A screw turned into the hole: its thread, or that of an insert melted in, holds the hole's wall; tightened with
    ``tightened_N`` where that is known."""

    kind: Literal["thread"] = "thread"
    tightened_N: Force | None = Field(None, ge=0)


class PinFixture(_FixtureBase):
    """Carried by a pin in the hole, which pushes but never pulls."""

    kind: Literal["pin"] = "pin"

    @property
    def one_way(self) -> bool:
        return True


class EdgeFixture(_FixtureBase):
    """Clamped along the sharp edge nearest to it."""

    kind: Literal["edge"] = "edge"


class WallFixture(_FixtureBase):
    """A face that rests against something rigid: pushed back where it presses, free to lift off; one that ``sticks``
    does not slide where it presses."""

    kind: Literal["wall"] = "wall"
    sticks: bool = False

    @property
    def one_way(self) -> bool:
        return True


Fixture = Annotated[
    Annotated[FixedFixture, Tag("fixed")]
    | Annotated[SlidingFixture, Tag("sliding")]
    | Annotated[ScrewFixture, Tag("screw")]
    | Annotated[ThreadFixture, Tag("thread")]
    | Annotated[PinFixture, Tag("pin")]
    | Annotated[EdgeFixture, Tag("edge")]
    | Annotated[WallFixture, Tag("wall")],
    Discriminator(lambda told: kind_in(told, "fixed")),
]
FIXTURES: TypeAdapter[Fixture] = TypeAdapter(Fixture)


def fixture_of(told: Mapping[str, Any]) -> Fixture:
    """A fixture from its fields; raises :class:`pydantic.ValidationError` naming the one that is wrong."""
    return FIXTURES.validate_python(told)


def fixed_as(fixture: Fixture, kind: FixtureKind) -> Fixture:
    """The same place held in another way; a screw's head goes with the screw."""
    return fixture_of({"kind": kind, "feature": fixture.feature, "at": fixture.at})
