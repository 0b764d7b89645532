"""What every record is made of: checked types with their bounds, a value with its doubt, and the two ways to decline.

Records that a person's edit produces are pydantic models, so that reading a file checks them with a message naming
the field; every number has bounds, and the window's fields take theirs from the same place. Inside units: mm, N, MPa,
g, s, degrees C; the part's own frame unless said otherwise.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Annotated, Any, get_args

import annotated_types
import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from knollside.core import units

Array = NDArray[Any]  # float64 unless a name says otherwise
Ints = NDArray[Any]  # whole numbers, any width

MOST_MM = 1e5  # a hundred metres is no part of a desktop printer
MOST_N = 1e6


class Refused(Exception):
    """A computation declines to answer; the message says why and what would help."""


class Cancelled(Exception):
    """The person stopped a computation."""


def _quantity(kind: str) -> BeforeValidator:
    def read(value: Any) -> Any:
        return units.parse(value, kind) if isinstance(value, (str, int, float)) else value

    return BeforeValidator(read)


def _one_way(v: tuple[float, float, float]) -> tuple[float, float, float]:
    length = float(np.linalg.norm(v))
    if length < 1e-9:
        raise ValueError("a direction needs a length")
    if abs(length - 1) <= 1e-9:
        return v
    x, y, z = (float(c) / length for c in v)
    return x, y, z


Length = Annotated[float, _quantity("length")]
Place = Annotated[float, _quantity("length"), Field(ge=-MOST_MM, le=MOST_MM)]
Force = Annotated[float, _quantity("force"), Field(ge=-MOST_N, le=MOST_N)]
Degrees = Annotated[float, _quantity("temperature"), Field(ge=-60, le=400)]
Stress = Annotated[float, _quantity("stress"), Field(ge=-1e4, le=1e4)]
Share = Annotated[float, _quantity("share"), Field(ge=0, le=1)]
Torque = Annotated[float, _quantity("torque"), Field(ge=-1e9, le=1e9)]
Mass = Annotated[float, _quantity("mass"), Field(ge=0, le=1e7)]
Component = Annotated[float, Field(ge=-1e6, le=1e6)]
Vec3 = tuple[Place, Place, Place]
ForceVec = tuple[Force, Force, Force]
Direction = Annotated[tuple[Component, Component, Component], AfterValidator(_one_way)]


_FIRST_YEAR, _LAST_YEAR = 1970, 2199  # a week before and after still has a date


def _in_years(v: Any) -> Any:
    if not _FIRST_YEAR <= v.year <= _LAST_YEAR:
        raise ValueError(f"a date lies in the years {_FIRST_YEAR} to {_LAST_YEAR}")
    return v


When = Annotated[datetime, AfterValidator(_in_years)]
Day = Annotated[date, AfterValidator(_in_years)]


class Record(BaseModel):
    """Base of the checked records: frozen, no unknown fields, no NaN. A field with an alias is called that in a job
    file, and was in records stored before 2026-11-28; it is read by either name."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False, populate_by_name=True)


def bounds_of(record: type[Record], name: str) -> tuple[float, float]:
    """The least and most a record's number may be, as its own field says; raises :class:`KeyError` without bounds."""
    return _ends(_metadata(record, name), f"{record.__name__}.{name}")


def ends_of(kind: Any) -> tuple[float, float]:
    """The least and most of a number's own type; raises :class:`KeyError` without bounds."""
    found = [m for told in get_args(kind)[1:] for m in (told, *getattr(told, "metadata", ()))]
    return _ends(found, str(kind))


def most_kept(record: type[Record], name: str) -> int:
    """How many a record's list may hold, as its own field says; raises :class:`KeyError` without a bound."""
    for m in _metadata(record, name):
        if isinstance(m, annotated_types.MaxLen):
            return m.max_length
    raise KeyError(f"{record.__name__}.{name} has no bound")


def _ends(metadata: list[Any], what: str) -> tuple[float, float]:
    low, high = -np.inf, np.inf  # a field may narrow what its type allows
    for m in metadata:
        if isinstance(m, annotated_types.Ge | annotated_types.Gt):
            low = max(low, float(m.ge if isinstance(m, annotated_types.Ge) else m.gt))  # type: ignore[arg-type]
        elif isinstance(m, annotated_types.Le | annotated_types.Lt):
            high = min(high, float(m.le if isinstance(m, annotated_types.Le) else m.lt))  # type: ignore[arg-type]
    if not np.isfinite([low, high]).all():
        raise KeyError(f"{what} has no bounds")
    return low, high


def _metadata(record: type[Record], name: str) -> list[Any]:
    info = record.model_fields[name]
    out: list[Any] = list(info.metadata)
    for arg in getattr(info.annotation, "__args__", ()):
        out += getattr(arg, "__metadata__", ())
    # A field that stands for others keeps its own constraints beside them.
    for m in list(out):
        out += getattr(m, "metadata", ())
    return out


@dataclass(frozen=True)
class Range:
    """A value with its doubt: nine in ten lie between ``low`` and ``high``."""

    value: float
    low: float
    high: float
    source: str = "typical"

    def times(self, factor: float) -> Range:
        """The range with middle and ends times ``factor`` (a share), its source kept."""
        return Range(self.value * factor, self.low * factor, self.high * factor, self.source)

    def words(self, decimals: int, between: str = " to ") -> str:
        """Low to high, or one number where both are told alike.

        >>> Range(2.0, 1.64, 2.5).words(1), Range(0.41, 0.38, 0.43).words(1)
        ('1.6 to 2.5', '0.4')
        """
        low, high = f"{self.low:.{decimals}f}", f"{self.high:.{decimals}f}"
        return low if low == high else f"{low}{between}{high}"

    def straddles(self, limit: float) -> bool:
        return self.low < limit <= self.high


def fault_of(error: ValidationError, whole: str = "the whole") -> str:
    """The first thing that is wrong with a record, and where, as "held > 0 > feature: what"; ``whole`` stands for the
    record itself."""
    first = error.errors()[0]
    where = " > ".join(str(p) for p in first["loc"]) or whole
    return f"{where}: {str(first['msg']).removeprefix('Value error, ')}"
