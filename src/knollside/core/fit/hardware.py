"""Hardware that goes into holes and pockets or onto pins, from public standards (mm).

Clearance holes: ISO 273:1979 and, for inch screws, ASME B18.2.8. Nuts, width across flats: ISO 4032 and ASME B18.2.2
(M6 is 10 mm). Heads: ISO 4762. Washers: ISO 7089. Bearings: ISO 15. Pitch: ISO 261 and ASME B1.1. Bores of melted-in
inserts have no standard: they are typical, the maker's sheet comes first.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache

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
# The same for inch screws, in inches.
ASME_B18_2_8: dict[str, tuple[float, float, float, float]] = {
    "#0": (0.060, 0.067, 0.076, 0.094),
    "#1": (0.073, 0.081, 0.089, 0.104),
    "#2": (0.086, 0.094, 0.102, 0.116),
    "#3": (0.099, 0.106, 0.116, 0.128),
    "#4": (0.112, 0.120, 0.128, 0.144),
    "#5": (0.125, 0.141, 0.156, 0.172),
    "#6": (0.138, 0.154, 0.170, 0.185),
    "#8": (0.164, 0.180, 0.196, 0.213),
    "#10": (0.190, 0.206, 0.221, 0.238),
    "1/4 in": (0.2500, 0.266, 0.281, 0.297),
    "5/16 in": (0.3125, 0.328, 0.344, 0.359),
    "3/8 in": (0.3750, 0.391, 0.406, 0.422),
    "7/16 in": (0.4375, 0.453, 0.469, 0.484),
    "1/2 in": (0.5000, 0.531, 0.562, 0.609),
}
_THREADS_PER_INCH = {
    "#0": 80,
    "#1": 64,
    "#2": 56,
    "#3": 48,
    "#4": 40,
    "#5": 40,
    "#6": 32,
    "#8": 32,
    "#10": 24,
    "1/4 in": 20,
    "5/16 in": 18,
    "3/8 in": 16,
    "7/16 in": 14,
    "1/2 in": 13,
}
_PITCH = dict(zip(ISO_273, (0.35, 0.4, 0.45, 0.5, 0.7, 0.8, 1.0, 1.25, 1.5, 1.75, 2.0, 2.0, 2.5, 2.5), strict=True))
_TWELVE = ("M1.6", "M2", "M2.5", "M3", "M4", "M5", "M6", "M8", "M10", "M12", "M16", "M20")
ISO_4032_FLATS = dict(zip(_TWELVE, (3.2, 4.0, 5.0, 5.5, 7.0, 8.0, 10.0, 13.0, 16.0, 18.0, 24.0, 30.0), strict=True))
ISO_4762_HEAD = dict(zip(_TWELVE, (3.0, 3.8, 4.5, 5.5, 7.0, 8.5, 10.0, 13.0, 16.0, 18.0, 24.0, 30.0), strict=True))
ISO_7089_OUTER = dict(zip(_TWELVE, (4.0, 5.0, 6.0, 7.0, 9.0, 10.0, 12.0, 16.0, 20.0, 24.0, 30.0, 37.0), strict=True))
_INCH_NUT_FLATS = {"#6": 5 / 16, "#8": 11 / 32, "#10": 3 / 8, "1/4 in": 7 / 16, "5/16 in": 1 / 2, "3/8 in": 9 / 16}
# ISO 15: bore, outside
_BEARINGS = {
    "623": (3, 10),
    "624": (4, 13),
    "625": (5, 16),
    "626": (6, 19),
    "608": (8, 22),
    "688": (8, 16),
    "6000": (10, 26),
    "6001": (12, 28),
    "6002": (15, 32),
    "6200": (10, 30),
    "6201": (12, 32),
    "6202": (15, 35),
}
_INSERT_BORES = {"M2": 3.2, "M2.5": 3.6, "M3": 4.0, "M4": 5.6, "M5": 6.4, "M6": 8.0}
_RODS = (2, 3, 4, 5, 6, 8, 10, 12, 16)
_TUBES = (12, 15, 16, 18, 20, 22, 25, 28, 32)
_MAGNETS = (5, 6, 8, 10, 12, 15, 20)
_PLAIN = re.compile(r"^(?:rod|pin|tube|cane|magnet)?\s*(\d+(?:[.,]\d+)?)\s*(?:mm)?$", re.IGNORECASE)
_BY_CLASS = ("press", "snug", "slide", "free")


@dataclass(frozen=True)
class Item:
    """A piece of hardware. ``size``: its own size where it meets the part, mm; ``bores``: printed sizes of holes for
    it that a standard (or the maker) names, as (least, wanted, most); ``classes``: the fit classes that suit it."""

    name: str
    group: str
    size: float
    bores: dict[str, tuple[float, float, float]]
    classes: tuple[str, ...]
    source: str

    @property
    def fits(self) -> tuple[str, ...]:
        """Every class it can be asked for."""
        return (*self.bores, *self.classes)


@cache
def catalogue() -> dict[str, Item]:
    """All that is known by name."""
    out: list[Item] = []
    for name, row in ISO_273.items():
        out.append(Item(name, "bolt", row[0], _clearance(row) | _core(row[0], _PITCH[name]), _BY_CLASS, "ISO 273"))
    for name, inches in ASME_B18_2_8.items():
        a, b, c, d = (v * 25.4 for v in inches)
        core = _core(a, 25.4 / _THREADS_PER_INCH[name])
        out.append(Item(name, "bolt", a, _clearance((a, b, c, d)) | core, _BY_CLASS, "ASME B18.2.8"))
    out += [Item(f"nut {n}", "nut", v, {}, ("press", "snug", "slide"), "ISO 4032") for n, v in ISO_4032_FLATS.items()]
    out += [
        Item(f"nut {n}", "nut", v * 25.4, {}, ("press", "snug", "slide"), "ASME B18.2.2")
        for n, v in _INCH_NUT_FLATS.items()
    ]
    out += [Item(f"head {n}", "head", v, {}, ("free", "slide"), "ISO 4762") for n, v in ISO_4762_HEAD.items()]
    out += [Item(f"washer {n}", "washer", v, {}, ("free", "slide"), "ISO 7089") for n, v in ISO_7089_OUTER.items()]
    for name, (bore, outer) in _BEARINGS.items():
        out.append(Item(f"bearing {name}", "bearing", outer, {}, ("press", "snug"), "ISO 15"))
        out.append(Item(f"bore of {name}", "bearing bore", bore, {}, ("snug", "press", "slide"), "ISO 15"))
    for name, wide in _INSERT_BORES.items():
        window = {"melt in": (wide - 0.1, wide, wide + 0.1)}
        out.append(Item(f"insert {name}", "insert", wide, window, (), "typical; the maker's sheet comes first"))
    out += [Item(f"magnet {d} mm", "magnet", d, {}, ("press", "snug"), "as named") for d in _MAGNETS]
    out += [Item(f"rod {d} mm", "rod", d, {}, _BY_CLASS, "as named") for d in _RODS]
    out += [Item(f"tube {d} mm", "tube", d, {}, _BY_CLASS, "as named") for d in _TUBES]
    return {i.name: i for i in out}


def _clearance(row: tuple[float, float, float, float]) -> dict[str, tuple[float, float, float]]:
    """The three classes, each window reaching half-way to its neighbours."""
    _, close, medium, coarse = row
    first, second = (close + medium) / 2, (medium + coarse) / 2
    return {
        "close": ((row[0] + close) / 2, close, first),
        "medium": (first, medium, second),
        "coarse": (second, coarse, coarse + (coarse - medium) / 2),
    }


def _core(nominal: float, pitch: float) -> dict[str, tuple[float, float, float]]:
    """A hole the screw cuts its own thread into: nominal less pitch, a quarter of the pitch either way."""
    core = nominal - pitch
    return {"thread": (core - 0.25 * pitch, core, core + 0.25 * pitch)}


def item(name: str) -> Item:
    """The piece of that name, or a plain size like 'rod 7.5 mm'. Raises :class:`Refused`."""
    clean = name.strip()
    known = catalogue()
    for key in (clean, clean.upper(), clean.lower()):
        if key in known:
            return known[key]
    match = _PLAIN.match(clean)
    if match is None:
        raise Refused(
            f"'{name}' is not known: name a screw (M1.6 to M20, #0 to 1/2 in), nut, head, washer, bearing, insert or "
            "magnet from the list, or a size like 'rod 8 mm'."
        )
    return Item(clean, "rod", float(match[1].replace(",", ".")), {}, _BY_CLASS, "as named")


_WORD = {"hexagon": ("nut",), "pin": ("bearing bore", "rod", "tube")}
_INTO_HOLES = ("bolt", "head", "washer", "bearing", "insert", "magnet", "rod", "tube")


def names(kind: str = "hole", near: float | None = None) -> list[str]:
    """Hardware offered for a 'hole', 'pin' or 'hexagon'; with ``near``, only what is about that size, mm."""
    groups = _WORD.get(kind, _INTO_HOLES)
    return [
        i.name
        for i in catalogue().values()
        if i.group in groups and (near is None or 0.62 * near - 0.4 <= i.size <= 1.3 * near + 0.4)
    ]


def suggestion(diameter: float, kind: str = "hole") -> tuple[str, str]:
    """The hardware and class a hole or hexagon of this drawn size is most likely meant for.

    >>> suggestion(5.5), suggestion(8.0, "hexagon")
    (('M5', 'medium'), ('nut M5', 'snug'))
    """
    if kind == "hexagon":
        best = min((abs(v - diameter), n) for n, v in ISO_4032_FLATS.items())
        return (f"nut {best[1]}", "snug") if best[0] < 0.45 else ("as drawn", "as drawn")
    fits = ("close", "medium", "coarse")
    near = min((abs(row[k + 1] - diameter), name, fit) for name, row in ISO_273.items() for k, fit in enumerate(fits))
    return (near[1], near[2]) if near[0] < 0.25 else ("as drawn", "as drawn")
