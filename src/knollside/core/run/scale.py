"""What a scale sends, line by line, until it has settled."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence

from knollside.core.model import Refused

AGREE = 3  # readings in a row
WITHIN = 1.0  # g
PATIENCE = 15  # readings after which a scale that still moves is told
_GRAMS = {"": 1.0, "g": 1.0, "kg": 1000.0, "oz": 28.349523125, "lb": 453.59237}
_LINE = re.compile(r"^[^\d+-]*([+-]?\s*\d{1,6}(?:[.,]\d{1,4})?)\s*([a-zA-Z]*)\s*$")


def grams_in(text: str) -> float:
    """Grams of a line such as ``+ 812.4 g`` or ``0.8124 kg``. Raises :class:`Refused` for any other.

    >>> grams_in("ST,GS, 0.8124 kg"), grams_in("812,4")
    (812.4, 812.4)
    """
    found = _LINE.match(text.strip())
    unit = found.group(2).lower() if found else ""
    if found is None or unit not in _GRAMS:
        raise Refused(f"The scale sent “{text.strip()[:30]}”; that is no weight.")
    grams = float(found.group(1).replace(",", ".").replace(" ", "")) * _GRAMS[unit]
    if not math.isfinite(grams) or not 0 <= grams <= 20_000:
        raise Refused(f"The scale sent {grams:g} g; that is no spool.")
    return round(grams, 4)


def settled(readings: Sequence[float]) -> float | None:
    """The mean of the last readings once so many agree; None while it still moves. Raises :class:`Refused` where it
    moves on for too long: it drifts, or something touches it."""
    last = list(readings[-AGREE:])
    if len(last) == AGREE and max(last) - min(last) <= WITHIN:
        return sum(last) / AGREE
    if len(readings) >= PATIENCE:
        raise Refused(
            f"The scale does not settle: {readings[-3]:.0f}, {readings[-2]:.0f}, {readings[-1]:.0f} g. Nothing was "
            "kept. Set it on firm ground, let it warm up, take the spool off, set it to zero and try again."
        )
    return None
