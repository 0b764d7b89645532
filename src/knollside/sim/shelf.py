"""A simulated scale, hygrometer and drier, and spools with a truth of their own that the program is never told."""

from __future__ import annotations

import math
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
    fast: float = 1.5
    slow: float = 7.0
    keeps: float = 0.12

    def dried(self, hours: float) -> float:
        """Water after so many hours in the drier, mass %: the outer turns give theirs off soon, the inner ones late,
        and some stays (hidden ``fast`` and ``slow`` hours, a share it ``keeps``)."""
        gone = 0.55 * math.exp(-hours / self.fast) + 0.45 * math.exp(-hours / self.slow)
        return self.water * (self.keeps + (1 - self.keeps) * gone)

    def gross(self, hours: float = 0.0) -> float:
        """Grams on the scale, ``hours`` after it was put in the drier."""
        return self.tare + self.filament * (1 + self.dried(hours) / 100)


def spool_named(name: str, grams: float) -> SimulatedSpool:
    """The truth behind a spool of that name, of about so many grams: the same every time."""
    rng = np.random.default_rng(zlib.crc32(name.encode()))
    tare, share, water = float(rng.uniform(190, 245)), float(rng.normal(1.0, 0.03)), float(rng.uniform(0.02, 0.3))
    hours = float(rng.uniform(0.8, 2.5)), float(rng.uniform(4, 9)), float(rng.uniform(0.05, 0.2))
    return SimulatedSpool(tare, grams * share, water * (10 if "nylon" in name.lower() else 1), *hours)


@dataclass
class SimulatedScale:
    """Reads to a gram with half a gram of noise; a ``fine`` one to a tenth; ``drift`` g a reading; unplugged after so
    many readings."""

    drift: float = 0.0
    unplugged_after: int | None = None
    rng: np.random.Generator = field(default_factory=lambda: np.random.default_rng(11))
    count: int = 0
    fine: bool = False

    def read(self, spool: SimulatedSpool, hours: float = 0.0) -> float:
        """Grams with the spool, ``hours`` after it was put in the drier. Raises :class:`Refused` when it is unplugged
        in the middle of a reading."""
        self.count += 1
        if self.unplugged_after is not None and self.count > self.unplugged_after:
            raise Refused("The scale went away while it was read; nothing was kept. Plug it in and read it again.")
        true = spool.gross(hours) + self.drift * self.count
        noise = float(self.rng.normal(0, 0.05 if self.fine else 0.5))
        return round(true + noise, 1 if self.fine else 0)


@dataclass
class SimulatedHygrometer:
    """Relative humidity about a box with fresh desiccant, or of the room, a share."""

    rng: np.random.Generator = field(default_factory=lambda: np.random.default_rng(12))

    def read(self, where: str) -> float:
        about = 0.18 if where == "box" else 0.52
        return round(float(np.clip(self.rng.normal(about, 0.02), 0.05, 0.95)), 2)
