"""Features, or what is kept of them, as arrays: for all that holds many against many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np

from knollside.core.model import POLYGONS, Array, Ints

AXIS = 0.995  # cosine from which two look the same way
# Kinds whose axis says a line and no side of it.
ROUND = ("hole", "pin", "slot", *POLYGONS, "spline", "dovetail", "thread", "fillet", "round", "cone", "taper", "ball")


class Known(Protocol):
    """What a feature is told by (a feature, or its signature, see :mod:`identity`)."""

    @property
    def kind(self) -> str: ...
    @property
    def centre(self) -> tuple[float, float, float]: ...
    @property
    def axis(self) -> tuple[float, float, float]: ...
    @property
    def diameter(self) -> float | None: ...
    @property
    def length(self) -> float | None: ...
    @property
    def area(self) -> float: ...


@dataclass(frozen=True)
class FeatureTable:
    """Row by row, mm and mm2; a diameter or length that there is none of is 0."""

    kind: np.ndarray
    round: np.ndarray
    centre: Array
    axis: Array
    diameter: Array
    length: Array
    area: Array

    @classmethod
    def of(cls, rows: Sequence[Known]) -> FeatureTable:
        return cls(
            np.array([r.kind for r in rows], dtype=object),
            np.array([r.kind in ROUND for r in rows], dtype=bool),
            np.array([r.centre for r in rows], float).reshape(-1, 3),
            np.array([r.axis for r in rows], float).reshape(-1, 3),
            np.array([r.diameter or 0.0 for r in rows], float),
            np.array([r.length or 0.0 for r in rows], float),
            np.array([r.area for r in rows], float),
        )

    @property
    def flat(self) -> np.ndarray:
        return np.asarray(self.kind == "flat", bool)

    @property
    def size(self) -> Array:
        """A diameter, or the side of a square as large, mm."""
        return np.where(self.diameter > 0, self.diameter, np.sqrt(self.area))

    def some(self, rows: Sequence[int] | Ints) -> FeatureTable:
        """Some of them, in that order."""
        at = np.asarray(rows, np.int64)
        return FeatureTable(
            *(a[at] for a in (self.kind, self.round, self.centre, self.axis, self.diameter, self.length, self.area))
        )

    def turned(self, turn: Array, move: Array) -> FeatureTable:
        """The same, turned and moved."""
        return replace(self, centre=self.centre @ turn.T + move, axis=self.axis @ turn.T)

    def alike(self, other: FeatureTable) -> np.ndarray:
        """Pairs of one kind that look the same way; (n, m)."""
        along = self.axis @ other.axis.T
        along = np.where(self.round[:, None], np.abs(along), along)
        return np.asarray((self.kind[:, None] == other.kind[None, :]) & (along > AXIS))
