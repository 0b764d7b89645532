"""A printer with hidden faults: how often each befalls it, what each then looks like, how its tests turn out.

It is not the program's own network: links are off by noise in their log-odds, odds by a factor, symptoms of one print
hang together by how bad it is, and people overlook or see amiss.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from knollside.core.learning.faultnet import CAUSES
from knollside.core.learning.faultstate import Known
from knollside.core.learning.faulttests import TESTS
from knollside.core.model.faults import Cause, FaultTest, Symptom
from knollside.core.model.running import FirstLayer

T = TypeVar("T")
_CAUSES = tuple(Cause)


@dataclass(frozen=True)
class Befallen:
    """The causes that were at work in one print, how bad it is, and what is ``there`` and ``seen`` of it."""

    causes: tuple[Cause, ...]
    bad: float
    there: tuple[Symptom, ...]
    seen: tuple[Symptom, ...]


class FaultyPrinter:
    """Odds off by up to ``factor`` each way, links by ``blur`` (log-odds, one sigma); ``overlooked`` of what is there
    is not told, ``amiss`` of what is not there is."""

    def __init__(
        self,
        rng: np.random.Generator,
        factor: float = 1.0,
        blur: float = 0.5,
        overlooked: float = 0.25,
        amiss: float = 0.015,
        two: float = 0.12,
    ) -> None:
        self.rng, self.two, self.overlooked, self.amiss = rng, two, overlooked, amiss
        odds = np.array([CAUSES[c].odds for c in _CAUSES]) * factor ** rng.uniform(-1, 1, len(_CAUSES))
        self.odds = odds / odds.sum()
        self.shows = {c: {s: self._off(w, blur) for s, w in CAUSES[c].shows.items()} for c in _CAUSES}
        self.says = {
            t: {a: {c: self._off(w, blur) for c, w in of.items()} for a, of in TESTS[t].answers.items()}
            for t in FaultTest
        }
        self.base = {t: self._off(TESTS[t].base, blur) for t in FaultTest}

    def _off(self, chance: float, blur: float) -> float:
        odds = np.log(chance / (1 - chance)) + blur * self.rng.standard_normal()
        return float(1 / (1 + np.exp(-odds)))

    def befall(self) -> Befallen:
        """One print that goes wrong so that something of it is noticed: else nobody asks."""
        rng = self.rng
        while True:
            many = 2 if rng.random() < self.two else 1
            causes = tuple(_CAUSES[k] for k in rng.choice(len(_CAUSES), many, replace=False, p=self.odds))
            bad = float(rng.normal(0, 0.5))
            there, seen = [], []
            for s in Symptom:
                no = 1.0
                for c in causes:
                    w = self.shows[c].get(s, 0.0)
                    if w > 0:
                        no *= 1 - 1 / (1 + np.exp(-np.log(w / (1 - w)) - bad))
                if rng.random() < 1 - no:
                    there.append(s)
                if rng.random() < ((1 - self.overlooked) if s in there else self.amiss):
                    seen.append(s)
            if set(seen) & set(there):
                return Befallen(causes, bad, tuple(there), tuple(seen))

    def answer(self, test: FaultTest, of: Befallen) -> str:
        """What a test says: each cause at work may give one of its answers, chance may give any."""
        rng, said = self.rng, self.says[test]
        told = []
        for c in of.causes:
            chances = [a.get(c, 0.0) for a in said.values()]
            k = rng.choice(len(chances) + 1, p=_with_rest(chances))
            if k < len(chances):
                told.append(list(said)[k])
        if not told and rng.random() < self.base[test]:
            told.append(str(rng.choice(list(said))))
        return str(rng.choice(told)) if told else TESTS[test].otherwise

    def looks(self, symptom: Symptom, of: Befallen) -> bool:
        """Whether a second, closer look finds it; wrong in one of thirty."""
        return bool((symptom in of.there) != (self.rng.random() < 1 / 30))

    def cured(self, cause: Cause, of: Befallen) -> bool:
        """Whether a print after this cure is well."""
        chance = 0.05 if cause not in of.causes else 0.9 if len(of.causes) == 1 else 0.45
        return bool(self.rng.random() < chance)


def _with_rest(chances: list[float]) -> list[float]:
    """Chances and what is left to one, scaled down where they are more than one."""
    total = sum(chances)
    scaled = [c / max(total, 1.0) for c in chances]
    return [*scaled, max(1 - sum(scaled), 0.0)]


# What a workshop would know: how often a reading points to a cause that is at work, and to one that is not.
_TELLS, _TELLS_FALSELY = 0.75, 0.15


def some_known(rng: np.random.Generator, of: Befallen) -> Known:
    """What the workshop happens to know of a print: half of its readings are there, and they point to a cause at work
    more often than to another."""

    def points(*causes: Cause) -> bool:
        return bool(rng.random() < (_TELLS if set(causes) & set(of.causes) else _TELLS_FALSELY))

    def known(value: T) -> T | None:
        return value if rng.random() < 0.5 else None

    wet, worn = points(Cause.WET), points(Cause.WORN)
    hot, cold = points(Cause.HOT), points(Cause.COLD)
    pairs: tuple[tuple[FirstLayer, Cause], ...] = (("too high", Cause.HIGH_START), ("too low", Cause.LOW_START))
    starts = [s for s, c in pairs if c in of.causes and points(c)]
    hanging = of.causes and set(of.causes) & {Cause.NEAR_SUPPORT, Cause.FAR_SUPPORT, Cause.SUPPORT_FOOT}
    return Known(
        water=known(float(rng.uniform(1.0, 2.5) if wet else rng.uniform(0.1, 0.9))),
        nozzle_hours=known(float(rng.uniform(400, 900) if worn else rng.uniform(10, 390))),
        first_layer=known(starts[0] if starts else "right") or "",
        fan=known(0.2 if points(Cause.LITTLE_FAN) else 0.9 if points(Cause.MUCH_FAN) else 0.5),
        degrees_off=known(10.0 if hot and not cold else -10.0 if cold and not hot else 0.0),
        warps=known(0.7 if points(Cause.DRAUGHT) else 0.1),
        chamber=False,
        layer_s=known(6.0 if points(Cause.SHORT_LAYERS) else float(rng.uniform(10, 60))),
        hangs=known(points(Cause.STEEP)),
        supported=known(bool(hanging) or rng.random() < 0.4),
        roof_mm=known(0.6 if points(Cause.THIN_ROOF) else 1.0),
    )


def printer_with_faults(name: str) -> FaultyPrinter:
    """The hidden faults of a printer, the same every time; then one print after another goes wrong."""
    return FaultyPrinter(np.random.default_rng(sum(name.encode()) + 23), factor=2.0)
