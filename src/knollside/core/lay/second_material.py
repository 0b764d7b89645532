"""What a soluble or second material for the supports would cost: changes, hours, filament flushed.

With one nozzle every layer that holds both materials takes two changes. Typical figures, to be replaced by the
person's own.
"""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.lay.supports import Region, held
from knollside.core.model import SupportSettings

CHANGE_MIN = 1.5  # minutes a change with a feeder; by hand it is more like three
FLUSH_G = 0.5  # filament flushed at each change
FAILS = 0.002  # chance that a change spoils the print


@dataclass(frozen=True)
class Second:
    """For supports wholly in a second material, or their touching layers only: ``changes``, ``minutes`` more,
    ``flushed`` g, and the ``risk`` that one of the changes spoils the print (a share)."""

    changes: int
    minutes: float
    flushed: float
    risk: float


def second_material(found: tuple[Region, ...], support_settings: SupportSettings) -> tuple[Second, Second]:
    """(whole supports, touching layers only) of the places that are held; layers shared by several count once."""
    whole: set[int] = set()
    touching: set[int] = set()
    for r in found:
        if held(r, support_settings):
            first, last = r.layers
            whole.update(range(first, last + 1))
            # Under a slope the support touches all the way up.
            touching.update(range(max(min(r.touches, last + 1) - max(support_settings.interface, 1), first), last + 1))
    return _cost(whole), _cost(touching)


def _cost(layers: set[int]) -> Second:
    n = 2 * len(layers)
    return Second(n, n * CHANGE_MIN, n * FLUSH_G, 1 - (1 - FAILS) ** n)
