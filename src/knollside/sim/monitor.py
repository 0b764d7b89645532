"""A simulated printer that tells of its print: its own pace, its own noise, and now and then something goes wrong."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from enum import StrEnum

import numpy as np

from knollside.core.run.watching import Reading

STEP = 20.0  # s between readings
AMBIENT = 21.0


class Mishap(StrEnum):
    """What a simulated print may meet with."""

    NONE = "nothing"
    HEATER = "heater fails"
    RUNAWAY = "heater runs away"
    BED = "bed goes cold"
    EMPTY = "filament runs out"
    TANGLE = "spool tangles"
    HANG = "it hangs"
    QUIET = "it goes quiet"
    LOOSE = "a part comes loose"


class SimulatedMonitor:
    """One print: ``layers`` with the ``pace`` of its plan, told to take ``hours``. Its truth differs: a factor, layers
    that take longer or shorter than planned for a while, minutes to heat up. The same ``name`` is the same print."""

    def __init__(
        self,
        name: str,
        layers: int,
        pace: Sequence[float],
        hours: float,
        temperatures: tuple[float, float],
        mishap: Mishap | None = None,
    ) -> None:
        self.seed, self.layers, self.set = zlib.crc32(name.encode()), max(layers, 1), temperatures
        rng = np.random.default_rng(self.seed)
        pick = list(Mishap)[1:]
        drawn = pick[int(rng.integers(len(pick)))] if rng.random() < 0.15 else Mishap.NONE
        self.mishap = drawn if mishap is None else mishap
        share = np.interp(np.linspace(0, 1, self.layers + 1), np.linspace(0, 1, len(pace)), pace)
        planned = np.diff(share) * hours * 3600
        # Off for some tens of layers at a time.
        off, walk = np.empty(self.layers), float(rng.normal(0, 0.15))
        for k in range(self.layers):
            walk = 0.96 * walk + float(rng.normal(0, 0.04))
            off[k] = walk
        self.heating = float(rng.uniform(150, 420))
        self.factor = float(rng.lognormal(0.0, 0.1))
        self.ends = self.heating + np.cumsum(planned * np.exp(off) * self.factor)
        self.total = float(self.ends[-1])
        self.strikes = float(rng.uniform(0.15, 0.85)) * self.total
        self.first_layer = str(rng.choice(["right", "right", "right", "too high", "too low"]))

    @property
    def stops(self) -> bool:
        """Whether what it meets with keeps it from going on."""
        return self.mishap in (Mishap.EMPTY, Mishap.HANG)

    def readings(self, elapsed: float) -> tuple[Reading, ...]:
        """All it said in so many seconds since it was begun."""
        at = np.arange(0.0, max(elapsed, 0.0) + 1e-9, STEP)
        if self.mishap is Mishap.QUIET:
            at = at[at < self.strikes]
        held = np.minimum(at, self.strikes) if self.stops else at
        layer = np.searchsorted(self.ends, held, side="right") + (held >= self.heating)
        layer = np.minimum(layer, self.layers)
        noise = np.random.default_rng(self.seed + 1).normal(0, 0.6, (len(at), 2))
        warming = np.clip(at / self.heating, 0, 1)
        nozzle = AMBIENT + (self.set[0] - AMBIENT) * warming + noise[:, 0]
        bed = AMBIENT + (self.set[1] - AMBIENT) * warming + 0.4 * noise[:, 1]
        since = np.maximum(at - self.strikes, 0.0)
        if self.mishap is Mishap.HEATER:
            nozzle -= (self.set[0] - AMBIENT) * (1 - np.exp(-since / 200))
        elif self.mishap is Mishap.RUNAWAY:
            nozzle += np.minimum(since * 0.6, 70)
        elif self.mishap is Mishap.BED:
            bed -= (self.set[1] - AMBIENT) * (1 - np.exp(-since / 600))
        stuck = (since > 0) & (self.mishap is Mishap.TANGLE)
        empty = (since > 0) & (self.mishap is Mishap.EMPTY)
        moves = ~stuck & ~empty
        # What is not told to feed cannot be seen not to.
        idle = (at < self.heating) | ((since > 0) & (self.mishap is Mishap.HANG))
        done = held >= self.total
        return tuple(
            Reading(
                float(t),
                int(n),
                round(float(a), 1),
                self.set[0],
                round(float(b), 1),
                self.set[1],
                None if i or d else bool(m),
                not bool(e),
                bool(d),
            )
            for t, n, a, b, m, i, e, d in zip(at, layer, nozzle, bed, moves, idle, empty, done, strict=True)
        )
