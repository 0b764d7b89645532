"""What pushes a part: one record for each kind of load, told apart by ``kind``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal, Self, get_args

import numpy as np
from pydantic import Discriminator, Tag, TypeAdapter

from knollside.core.model.base import (
    Direction,
    ForceVec,
    Mass,
    Record,
    Stress,
    Torque,
    Vec3,
    bounds_of,
    ends_of,
)
from knollside.core.model.placed import Kinded, kind_in

LoadKind = Literal["force", "weight", "torque", "pressure", "bearing", "deflection"]
GRAVITY = 9.80665  # m/s2, standard (CGPM 1901)
MOST_MOVED = 500.0  # mm; a snap that moves farther is no snap
Vec = tuple[float, float, float]
_DOWN = (0.0, 0.0, -1.0)


class _LoadBase(Kinded):
    """What all loads have."""

    numbers = frozenset({"force_N", "weight_g", "torque_Nmm", "pressure_MPa", "deflection_mm", "axis"})

    @property
    def vector(self) -> Vec:
        """The force in the part's frame, N; nothing for torque, pressure and deflection."""
        return (0.0, 0.0, 0.0)

    @property
    def newtons(self) -> float:
        return float(np.linalg.norm(self.vector))

    @property
    def size(self) -> float:
        """The load's own number in its inside unit (N, g, N mm, MPa or mm)."""
        raise NotImplementedError

    def sized(self, value: float) -> Self:
        """The same load with its number set to ``value``; direction and place stay."""
        raise NotImplementedError

    @property
    def toward(self) -> Vec:
        """Which way it pushes or is moved, a unit vector; straight down where it has no direction of its own."""
        return _DOWN

    @property
    def nothing(self) -> bool:
        """Whether it pushes with nothing at all."""
        return self.size == 0

    def times(self, factor: float) -> Self:
        """The same load, ``factor`` times as strong."""
        return self._with(self._number, _scaled(getattr(self, self._number), factor))

    @property
    def _number(self) -> str:
        return _NUMBER[self.kind]  # type: ignore[attr-defined]

    def _with(self, name: str, value: object) -> Self:
        return type(self).model_validate(self.model_dump() | {name: value})


class _Scalar(_LoadBase):
    """A load that is one number."""

    @property
    def size(self) -> float:
        return float(getattr(self, self._number))

    def sized(self, value: float) -> Self:
        return self._with(self._number, value)


class _Vector(_LoadBase):
    """A load that is a vector, and can be turned."""

    @property
    def _own(self) -> Vec:
        own: Vec = getattr(self, self._number)
        return own

    @property
    def size(self) -> float:
        return float(np.linalg.norm(self._own))

    def sized(self, value: float) -> Self:
        return self._with(self._number, _scaled(self.toward, value))

    @property
    def toward(self) -> Vec:
        length = self.size
        return _DOWN if length < 1e-12 else _scaled(self._own, 1 / length)

    def aimed(self, way: Vec) -> Self:
        """The same load turned to a direction (a unit vector), as strong as it was."""
        return self._with(self._number, _scaled(way, self.size))


class _Newtons(_Vector):
    """A load that is a force, ``force_N``."""

    force_N: ForceVec = (0.0, 0.0, 0.0)

    @property
    def vector(self) -> Vec:
        return self.force_N


class ForceLoad(_Newtons):
    """``force_N`` spread evenly over the face."""

    kind: Literal["force"] = "force"


class WeightLoad(_Scalar):
    """``weight_g`` hanging, down being -Z of the part as drawn."""

    kind: Literal["weight"] = "weight"
    weight_g: Mass

    @property
    def vector(self) -> Vec:
        return (0.0, 0.0, -self.weight_g / 1000 * GRAVITY)


class TorqueLoad(_Scalar):
    """``torque_Nmm`` about ``axis`` or the feature's own (right-hand rule)."""

    kind: Literal["torque"] = "torque"
    torque_Nmm: Torque
    axis: Direction | None = None


class PressureLoad(_Scalar):
    """``pressure_MPa`` against the face."""

    kind: Literal["pressure"] = "pressure"
    pressure_MPa: Stress


class BearingLoad(_Newtons):
    """``force_N`` from a pin in a hole, as the cosine of the angle."""

    kind: Literal["bearing"] = "bearing"


class DeflectionLoad(_Vector):
    """The face is moved by ``deflection_mm`` on average, free to turn and to give; the verdict is one of strain."""

    kind: Literal["deflection"] = "deflection"
    deflection_mm: Vec3


Load = Annotated[
    Annotated[ForceLoad, Tag("force")]
    | Annotated[WeightLoad, Tag("weight")]
    | Annotated[TorqueLoad, Tag("torque")]
    | Annotated[PressureLoad, Tag("pressure")]
    | Annotated[BearingLoad, Tag("bearing")]
    | Annotated[DeflectionLoad, Tag("deflection")],
    Discriminator(lambda told: kind_in(told, "force")),
]
LOADS: TypeAdapter[Load] = TypeAdapter(Load)
# The field of each kind that says how strong it is.
_NUMBER: dict[LoadKind, str] = {
    "force": "force_N",
    "weight": "weight_g",
    "torque": "torque_Nmm",
    "pressure": "pressure_MPa",
    "bearing": "force_N",
    "deflection": "deflection_mm",
}


def load_of(told: Mapping[str, Any]) -> Load:
    """A load from its fields; raises :class:`pydantic.ValidationError` naming the one that is wrong.

    >>> load_of({"feature": "hole-1", "kind": "weight", "weight_g": "2 kg"}).weight_g
    2000.0
    """
    return LOADS.validate_python(told)


def turned_into(load: Load, kind: LoadKind, newtons: float) -> Load:
    """The load as another ``kind``, keeping its place and direction; ``newtons`` strong where it is a force.

    >>> push = ForceLoad(feature="flat-1", force_N=(0, 30, 0))
    >>> turned_into(push, "bearing", push.newtons).vector
    (0.0, 30.0, 0.0)
    """
    number: object
    match kind:
        case "force" | "bearing":
            number = _scaled(load.toward, newtons)
        case "weight":
            number = newtons / GRAVITY * 1000
        case "torque":
            number = 1000.0
        case "pressure":
            number = 0.1
        case "deflection":
            number = load.toward
    return load_of({"kind": kind, "feature": load.feature, "at": load.at, _NUMBER[kind]: number})


def most_of(kind: LoadKind) -> float:
    """The greatest size a load of a kind may have, in its inside unit, as its record bounds it."""
    if kind == "deflection":
        return MOST_MOVED
    if kind in ("force", "bearing"):
        return ends_of(get_args(ForceVec)[0])[1]
    scalar: dict[str, type[Record]] = {"weight": WeightLoad, "torque": TorqueLoad, "pressure": PressureLoad}
    return bounds_of(scalar[kind], _NUMBER[kind])[1]


def _scaled(number: Any, factor: float) -> Any:
    """A number or a vector, ``factor`` times as large."""
    if isinstance(number, tuple):
        return tuple(float(factor * c) for c in number)
    return float(factor * number)
