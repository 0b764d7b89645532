"""What holds a part: one record for each kind of fixture, told apart by ``kind``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Discriminator, Field, Tag, TypeAdapter

from knollside.core.model.base import Length
from knollside.core.model.placed import Kinded, kind_in

FixtureKind = Literal["fixed", "sliding", "screw", "pin", "edge", "wall"]


class _FixtureBase(Kinded):
    numbers = frozenset({"head_mm"})
    one_way: ClassVar[bool] = False  # pushes where the part comes towards it, and never pulls


class FixedFixture(_FixtureBase):
    """A face that cannot move."""

    kind: Literal["fixed"] = "fixed"


class SlidingFixture(_FixtureBase):
    """A face that cannot move along its normal."""

    kind: Literal["sliding"] = "sliding"


class ScrewFixture(_FixtureBase):
    """Clamped over the ring under a screw's head (``head_mm`` across, twice the hole where not given) around a
    hole."""

    kind: Literal["screw"] = "screw"
    head_mm: Length | None = Field(None, gt=0, le=200)

    def head(self, hole: float) -> float:
        """Its head over a hole of so many mm, mm across."""
        return self.head_mm or 2 * hole


class PinFixture(_FixtureBase):
    """Carried by a pin in the hole, which pushes but never pulls."""

    kind: Literal["pin"] = "pin"
    one_way = True


class EdgeFixture(_FixtureBase):
    """Clamped along the sharp edge nearest to it."""

    kind: Literal["edge"] = "edge"


class WallFixture(_FixtureBase):
    """A face that rests against something rigid: pushed back where it presses, free to lift off and to slide."""

    kind: Literal["wall"] = "wall"
    one_way = True


Fixture = Annotated[
    Annotated[FixedFixture, Tag("fixed")]
    | Annotated[SlidingFixture, Tag("sliding")]
    | Annotated[ScrewFixture, Tag("screw")]
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
