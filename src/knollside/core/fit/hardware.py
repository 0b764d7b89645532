"""Hardware that goes into holes and pockets, from public standards (mm).

Clearance holes: ISO 273:1979. Nuts, width across flats: ISO 4032 (M6 is 10 mm).
Head diameters: ISO 4762. Rods and canes are as named.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from knollside.core.model import Refused

# thread: (nominal, close, medium, coarse clearance hole)
ISO_273: dict[str, tuple[float, float, float, float]] = {
    "M1.6": (1.6, 1.7, 1.8, 2.0),
    "M2": (2.0, 2.2, 2.4, 2.6),
    "M2.5": (2.5, 2.7, 2.9, 3.1),
    "M3": (3.0, 3.2, 3.4, 3.6),
    "M4": (4.0, 4.3, 4.5, 4.8),
    "M5": (5.0, 5.3, 5.5, 5.8),
    "M6": (6.0, 6.4, 6.6, 7.0),
    "M8": (8.0, 8.4, 9.0, 10.0),
    "M10": (10.0, 10.5, 11.0, 12.0),
    "M12": (12.0, 13.0, 13.5, 14.5),
    "M14": (14.0, 15.0, 15.5, 16.5),
    "M16": (16.0, 17.0, 17.5, 18.5),
    "M18": (18.0, 19.0, 20.0, 21.0),
    "M20": (20.0, 21.0, 22.0, 24.0),
}
ISO_4032_FLATS = {
    "M1.6": 3.2,
    "M2": 4.0,
    "M2.5": 5.0,
    "M3": 5.5,
    "M4": 7.0,
    "M5": 8.0,
    "M6": 10.0,
    "M8": 13.0,
    "M10": 16.0,
    "M12": 18.0,
    "M16": 24.0,
    "M20": 30.0,
}
ISO_4762_HEAD = {
    "M1.6": 3.0,
    "M2": 3.8,
    "M2.5": 4.5,
    "M3": 5.5,
    "M4": 7.0,
    "M5": 8.5,
    "M6": 10.0,
    "M8": 13.0,
    "M10": 16.0,
    "M12": 18.0,
    "M16": 24.0,
    "M20": 30.0,
}

# Diametral windows of the fit classes, hole minus pin, mm (METHODS 4; typical, editable).
CLASSES: dict[str, tuple[float, float]] = {
    "press": (-0.10, 0.00),
    "snug": (0.00, 0.15),
    "slide": (0.15, 0.35),
    "free": (0.35, 0.60),
}
_ISO_CLASS = {"close": 1, "medium": 2, "coarse": 3}
_PLAIN = re.compile(r"^(?:rod|pin|tube|cane)?\s*(\d+(?:[.,]\d+)?)\s*(?:mm)?$", re.IGNORECASE)


@dataclass(frozen=True)
class Target:
    """What the printed size should be, with the window that still counts as fitting.

    ``partner`` is the hardware's own size; ``low`` and ``high`` bound the printed diameter.
    """

    size: float
    low: float
    high: float
    partner: float
    words: str


def names() -> list[str]:
    """Hardware offered in lists: bolts, then plain rods."""
    return [*ISO_273, "rod 3 mm", "rod 4 mm", "rod 5 mm", "rod 6 mm", "rod 8 mm", "rod 10 mm", "rod 12 mm"]


def target(hardware: str, fit: str, hole: bool, drawn: float) -> Target:
    """Printed size wanted of a hole (or a pin) for hardware and fit; raises :class:`Refused`.

    ISO 273 classes give the clearance hole itself, the window reaching half-way
    to the neighbouring classes; other classes add the middle of their window.
    """
    if fit == "as drawn" or hardware in ("", "as drawn", "none"):
        return Target(drawn, drawn - 0.1, drawn + 0.1, drawn, "as drawn")
    nominal = _nominal(hardware)
    if fit in _ISO_CLASS:
        if not hole:
            raise Refused(f"'{fit}' is a class of clearance holes (ISO 273), not of pins; choose press to free.")
        row = ISO_273.get(hardware.upper())
        if row is None:
            raise Refused(f"ISO 273 has no '{hardware}'. It has {', '.join(ISO_273)}.")
        k = _ISO_CLASS[fit]
        low = (row[k - 1] + row[k]) / 2
        high = (row[k] + row[k + 1]) / 2 if k < 3 else row[k] + (row[k] - row[k - 1]) / 2
        return Target(row[k], low, high, nominal, f"{hardware.upper()}, ISO 273 {fit}")
    window = CLASSES.get(fit)
    if window is None:
        raise Refused(f"No fit class '{fit}'. There are: {', '.join([*_ISO_CLASS, *CLASSES])}.")
    sign = 1 if hole else -1
    edges = sorted(nominal + sign * w for w in window)
    return Target(sum(edges) / 2, edges[0], edges[1], nominal, f"{hardware}, {fit}")


def _nominal(hardware: str) -> float:
    row = ISO_273.get(hardware.upper().strip())
    if row is not None:
        return row[0]
    match = _PLAIN.match(hardware.strip())
    if match is None:
        raise Refused(
            f"'{hardware}' is neither a metric bolt ({next(iter(ISO_273))} to M20) nor a size like 'rod 8 mm'."
        )
    return float(match[1].replace(",", "."))


def suggestion(diameter: float) -> tuple[str, str]:
    """The bolt and class a hole of this drawn size is most likely meant for."""
    best = min(((abs(row[k] - diameter), name, fit) for name, row in ISO_273.items() for fit, k in _ISO_CLASS.items()))
    return (best[1], best[2]) if best[0] < 0.25 else ("as drawn", "as drawn")
