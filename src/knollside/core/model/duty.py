"""What a part must do: what holds it, what pushes it, where it lives, and who is hurt if it lets go."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from knollside.core.model.base import (
    Degrees,
    Direction,
    ForceVec,
    Length,
    Mass,
    Record,
    Share,
    Stress,
    Torque,
    Vec3,
)


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


Name = Annotated[str, Field(min_length=1, max_length=80)]


# What ways to lie are weighed by against each other.
Weighed = Literal["strength", "overhang", "height", "contact"]


class Placed(Record):
    """Somewhere on the part: a feature's id, or the surface point nearest to ``at``."""

    feature: Name | None = None
    at: Vec3 | None = None

    @model_validator(mode="after")
    def _one(self) -> Placed:
        if (self.feature is None) == (self.at is None):
            raise ValueError("give either a feature or a point 'at', not both and not neither")
        return self


HeldKind = Literal["fixed", "sliding", "screw", "pin", "edge"]
LoadKind = Literal["force", "weight", "torque", "pressure", "bearing", "deflection"]
GRAVITY = 9.80665  # m/s2, standard (CGPM 1901)


class Held(Placed):
    """A held place.

    *fixed* cannot move; *sliding* cannot move along its normal; *screw* is clamped over the ring under a
    screw's head (``head_mm`` across, twice the hole where not given) around a hole; *pin* is carried by a
    pin in the hole, which pushes but never pulls; *edge* is clamped along the sharp edge nearest to it.
    """

    kind: HeldKind = "fixed"
    head_mm: Length | None = Field(None, gt=0, le=200)


class Load(Placed):
    """Something that pushes at a place; which number counts depends on ``kind``.

    *force*: ``force_N`` spread over the face; *weight*: ``weight_g`` hanging, down being -Z of the part as
    drawn; *torque*: ``torque_Nmm`` about the feature's own axis, or ``axis`` (right-hand rule); *pressure*:
    ``pressure_MPa`` against the face; *bearing*: ``force_N`` from a pin in a hole, as the cosine of the angle;
    *deflection*: the face is moved by ``deflection_mm``, and the verdict is one of strain.
    """

    kind: LoadKind = "force"
    force_N: ForceVec = (0.0, 0.0, 0.0)
    weight_g: Mass | None = None
    torque_Nmm: Torque | None = None
    pressure_MPa: Stress | None = None
    deflection_mm: Vec3 | None = None
    axis: Direction | None = None

    @model_validator(mode="after")
    def _whole(self) -> Load:
        wanted = {
            "weight": self.weight_g,
            "torque": self.torque_Nmm,
            "pressure": self.pressure_MPa,
            "deflection": self.deflection_mm,
        }
        if self.kind in wanted and wanted[self.kind] is None:
            unit = {"weight": "weight_g", "torque": "torque_Nmm", "pressure": "pressure_MPa"}
            raise ValueError(f"a load of kind '{self.kind}' needs '{unit.get(self.kind, 'deflection_mm')}'")
        return self

    @property
    def vector(self) -> tuple[float, float, float]:
        """The force in the part's frame, N; nothing for torque, pressure and deflection."""
        if self.kind == "weight":
            return (0.0, 0.0, -(self.weight_g or 0.0) / 1000 * GRAVITY)
        return self.force_N if self.kind in ("force", "bearing") else (0.0, 0.0, 0.0)

    @property
    def newtons(self) -> float:
        return float(np.linalg.norm(self.vector))

    @property
    def nothing(self) -> bool:
        """Whether it pushes with nothing at all."""
        if self.kind == "deflection":
            return not np.any(self.deflection_mm)
        return {"torque": self.torque_Nmm, "pressure": self.pressure_MPa}.get(self.kind, self.newtons) == 0

    def times(self, factor: float) -> Load:
        """The same load, ``factor`` times as strong."""
        change: dict[str, Any] = {"force_N": tuple(factor * c for c in self.force_N)}
        for key in ("weight_g", "torque_Nmm", "pressure_MPa"):
            if getattr(self, key) is not None:
                change[key] = factor * getattr(self, key)
        if self.deflection_mm is not None:
            change["deflection_mm"] = tuple(factor * c for c in self.deflection_mm)
        return self.model_copy(update=change)


class LoadCase(Record):
    """Loads that act at the same time, and how they act; cases act in turn.

    ``cycles`` says how often a repeated one comes (about a thousand where not said).
    """

    name: str = Field(max_length=80)
    loads: tuple[Load, ...] = Field(max_length=40)
    repeated: bool = False
    permanent: bool = False
    knocked: bool = False
    cycles: float | None = Field(None, ge=1, le=1e9)

    @property
    def bends(self) -> bool:
        """Whether it moves something by a stated way, so that strain is judged."""
        return any(ld.kind == "deflection" for ld in self.loads)


class Surroundings(Record):
    """Where the part lives."""

    temperature_c: Degrees = 25.0
    sun: bool = False
    wet: bool = False
    chemicals: bool = False


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


class Duty(Record):
    """What the part must do.

    ``treads`` are the person's own factors of the strength stair, by its names; ``critical_mm`` the distance
    stress is averaged over at a peak (docs/methods.md 1.10); ``weights`` the person's own in ordering the ways.
    """

    purpose: Purpose = Purpose.WORKING
    held: tuple[Held, ...] = Field((), max_length=60)
    cases: tuple[LoadCase, ...] = Field((), max_length=30)
    surroundings: Surroundings = Surroundings()
    danger: Danger = Danger.UNASKED
    marks: dict[Name, SurfaceMark] = Field(default_factory=dict, max_length=400)
    treads: dict[Name, Annotated[float, Field(ge=0.01, le=1.5)]] = Field(default_factory=dict, max_length=20)
    critical_mm: Length = Field(0.5, ge=0.1, le=2.0)
    weights: dict[Weighed, Share] = Field(default_factory=dict)
