"""A simulated scale and hygrometer, and spools with a truth of their own that the program is never told."""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field

import numpy as np

from knollside.core.model import Refused


@dataclass(frozen=True)
class SimulatedSpool:
    """Its empty spool and filament, grams; ``water`` mass % of it."""

    tare: float
    filament: float
    water: float


def spool_named(name: str, grams: float) -> SimulatedSpool:
    """The truth behind a spool of that name, of about so many grams: the same every time."""
    rng = np.random.default_rng(zlib.crc32(name.encode()))
    return SimulatedSpool(
        float(rng.uniform(190, 245)), grams * float(rng.normal(1.0, 0.03)), float(rng.uniform(0.02, 0.3))
    )


@dataclass
class SimulatedScale:
    """Reads to a gram with half a gram of noise; ``drift`` g a reading; unplugged after so many readings."""

    drift: float = 0.0
    unplugged_after: int | None = None
    rng: np.random.Generator = field(default_factory=lambda: np.random.default_rng(11))
    count: int = 0

    def read(self, spool: SimulatedSpool) -> float:
        """Grams with the spool. Raises :class:`Refused` when it is unplugged in the middle of a reading."""
        self.count += 1
        if self.unplugged_after is not None and self.count > self.unplugged_after:
            raise Refused("The scale went away while it was read; nothing was kept. Plug it in and read it again.")
        true = spool.tare + spool.filament * (1 + spool.water / 100)
        return float(round(true + self.drift * self.count + float(self.rng.normal(0, 0.5))))


@dataclass
class SimulatedHygrometer:
    """Relative humidity about a box with fresh desiccant, or of the room, a share."""

    rng: np.random.Generator = field(default_factory=lambda: np.random.default_rng(12))

    def read(self, where: str) -> float:
        about = 0.18 if where == "box" else 0.52
        return round(float(np.clip(self.rng.normal(about, 0.02), 0.05, 0.95)), 2)
