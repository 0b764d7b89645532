"""Gauges: things of known size that go into a hole (or over an outside) or do not, and which one to try next.

For small holes they tell more than a calliper, whose jaws rest on a chord of the hole: lands of 0.5 mm read a hole of
3 mm 0.04 mm too small. The two neighbours that disagree bound the size; half-way between is what is kept.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from knollside.core.fit.posterior import Foretold
from knollside.core.model import Refused


class GaugeSet(StrEnum):
    """Sets of things of known size that people have at hand."""

    DRILLS_TENTH = "drills by 0.1 mm"
    DRILLS_HALF = "drills by 0.5 mm"
    PINS = "gauge pins by 0.02 mm"
    FEELERS = "feeler strips by 0.05 mm"


_SETS: Mapping[GaugeSet, tuple[int, int, int]] = {
    # least, most and step in hundredths of a millimetre
    GaugeSet.DRILLS_TENTH: (100, 1300, 10),
    GaugeSet.DRILLS_HALF: (100, 1300, 50),
    GaugeSet.PINS: (100, 1000, 2),
    GaugeSet.FEELERS: (5, 100, 5),
}


def sizes(of: GaugeSet) -> tuple[float, ...]:
    """Sizes of a set, rising, mm."""
    least, most, step = _SETS[of]
    return tuple(k / 100 for k in range(least, most + 1, step))


@dataclass(frozen=True)
class Tried:
    """Gauges tried so far in one hole: the largest that went in and the smallest that did not, mm."""

    of: GaugeSet
    went_in: float | None = None
    did_not: float | None = None

    def told(self, size: float, went_in: bool) -> Tried:
        """With one more try. Raises :class:`Refused` where it contradicts an earlier one."""
        if went_in and self.did_not is not None and size >= self.did_not:
            raise Refused(
                f"{size:g} mm went in, but {self.did_not:g} mm did not: one of the two is wrong. Try both again."
            )
        if not went_in and self.went_in is not None and size <= self.went_in:
            raise Refused(
                f"{size:g} mm did not go in, but {self.went_in:g} mm did: one of the two is wrong. Try both again."
            )
        if went_in:
            return Tried(self.of, max(size, self.went_in or 0.0), self.did_not)
        return Tried(self.of, self.went_in, min(size, self.did_not or 1e9))

    @property
    def between(self) -> tuple[float, float] | None:
        """The two neighbours of the set that disagree, once they are found."""
        if self.went_in is None or self.did_not is None or self._left():
            return None
        return self.went_in, self.did_not

    def _left(self) -> list[float]:
        low, high = self.went_in or 0.0, self.did_not or 1e9
        return [s for s in sizes(self.of) if low + 1e-9 < s < high - 1e-9]

    def next(self, expected: Foretold) -> float:
        """The gauge that halves what is likely. Raises :class:`Refused` where the set has none left on that side."""
        left = self._left()
        if not left:
            side = "smaller" if self.went_in is None else "larger"
            raise Refused(f"The set has nothing {side}: take another set, or the calliper.")
        low = expected.below(self.went_in) if self.went_in is not None else 0.0
        high = expected.below(self.did_not) if self.did_not is not None else 1.0
        return min(left, key=lambda s: abs(expected.below(s) - (low + high) / 2))
