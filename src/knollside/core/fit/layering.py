"""Where one layer ends and the next begins, and how many of them a gap leaves empty."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from knollside.core.model import Array

# A toolpath program lays a layer where the part is at the layer's middle; an end nearer to it than that may go either
# way.
_EITHER = 0.005


@dataclass(frozen=True)
class Layering:
    """``height`` of a layer and of the ``first`` one on the bed, mm."""

    height: float
    first: float

    def middles(self, top: float) -> Array:
        """Heights of the middles of the layers from the bed up to ``top``, mm (k,)."""
        more = max(math.ceil((top - self.first) / self.height), 0)
        return np.asarray(np.r_[self.first / 2, self.first + (np.arange(more) + 0.5) * self.height])

    def middle(self, number: int) -> float:
        """Height of the middle of a layer, the first being 0, mm."""
        return self.first / 2 if number == 0 else self.first + (number - 0.5) * self.height

    def empty(self, low: Array, high: Array) -> Array:
        """How many layers between two heights lie empty for certain (n,)."""
        low, high = low + _EITHER, high - _EITHER
        above = np.maximum(np.ceil((low - self.first) / self.height - 0.5), 0)
        below = np.floor((high - self.first) / self.height - 0.5)
        first = (low < self.first / 2) & (self.first / 2 < high)
        return np.asarray(np.maximum(below - above + 1, 0).astype(np.int64) + first)

    def firsts(self, nozzle: float) -> Array:
        """First layers a nozzle of ``nozzle`` mm lays well, every 0.02 mm, this one the first."""
        other = np.arange(math.ceil(0.5 * nozzle / 0.02), math.floor(0.75 * nozzle / 0.02 + 1e-9) + 1) * 0.02
        return np.asarray(np.r_[self.first, other[np.argsort(np.abs(other - self.first), kind="stable")]])
