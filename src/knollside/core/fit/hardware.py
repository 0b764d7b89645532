"""Hardware that goes into holes and pockets or onto pins, from public standards (mm).

Clearance holes: ISO 273:1979 and, for inch screws, ASME B18.2.8. Nuts, width across flats: ISO 4032 and ASME B18.2.2
(M6 is 10 mm). Heads: ISO 4762. Washers: ISO 7089. Bearings: ISO 15. Pitch: ISO 261 and ASME B1.1. Bores of melted-in
inserts have no standard: they are typical, the maker's sheet comes first.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from functools import cache

from knollside.core.fit import standards as std
from knollside.core.fit.writtenas import read_as
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
_INSERT_BORES = {"M2": 3.2, "M2.5": 3.6, "M3": 4.0, "M4": 5.6, "M5": 6.4, "M6": 8.0}
_PLAIN = re.compile(r"^(?:rod|pin|tube|cane|magnet)?\s*(\d+(?:[.,]\d+)?)\s*(?:mm)?$", re.IGNORECASE)
_LONG_INSERT = re.compile(r"^insert\s*M\s*(\d(?:\.\d)?)\s*[x×]\s*(\d+(?:[.,]\d+)?)\s*(?:mm)?$", re.IGNORECASE)
AHEAD = 1.0  # mm of hole beyond an insert for what it pushes ahead: typical
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
    length: float | None = None  # mm; of an insert, where it is told

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
    out += _screws_more()
    out += _flats_and_heads()
    for name, (bore, outer) in std.BEARINGS.items():
        out.append(Item(f"bearing {name}", "bearing", outer, {}, ("press", "snug"), "ISO 15"))
        out.append(Item(f"bore of {name}", "bearing bore", bore, {}, ("snug", "press", "slide"), "ISO 15"))
    for name, (bore, outer) in std.BUSHINGS.items():
        out.append(Item(name, "bearing", outer, {}, ("press", "snug"), "as makers name it"))
        out.append(Item(f"bore of {name}", "bearing bore", bore, {}, ("snug", "slide"), "as makers name it"))
    for name, wide in _INSERT_BORES.items():
        window = {"melt in": (wide - 0.1, wide, wide + 0.1)}
        out.append(Item(f"insert {name}", "insert", wide, window, (), "typical; the maker's sheet comes first"))
    out += [Item(f"magnet {d} mm", "magnet", d, {}, ("press", "snug"), "as named") for d in std.MAGNETS]
    out += [Item(f"rod {d:g} mm", "rod", d, {}, _BY_CLASS, "as named") for d in std.RODS]
    out += [Item(f"rod {n} in", "rod", d * std.INCH, {}, _BY_CLASS, "as named") for n, d in std.INCH_RODS.items()]
    out += [Item(f"tube {d} mm", "tube", d, {}, _BY_CLASS, "as named") for d in std.TUBES]
    for name, (major, root) in std.ISO_228.items():
        bores = {"thread": (root, root + 0.1, root + 0.4)}
        out.append(Item(name, "pipe thread", major, bores, ("free", "slide"), "ISO 228-1"))
    out += [Item(n, "pipe thread", d, {}, ("free", "slide"), "ASME B1.20.1") for n, d in std.NPT_PIPE.items()]
    return {i.name: i for i in out}


def _screws_more() -> list[Item]:
    """Screws of fine threads: the holes they pass are those of the coarse ones."""
    out = []
    for name, (nominal, pitch) in std.FINE_PITCH.items():
        row = ISO_273[f"M{nominal:g}"]
        out.append(Item(name, "bolt", nominal, _clearance(row) | _core(nominal, pitch), _BY_CLASS, "ISO 273"))
    for name, turns in std.UNF.items():
        a, b, c, d = (v * std.INCH for v in ASME_B18_2_8[name])
        made = _clearance((a, b, c, d)) | _core(a, std.INCH / turns)
        out.append(Item(f"{name.removesuffix(' in')}-{turns}", "bolt", a, made, _BY_CLASS, "ASME B18.2.8"))
    return out


def _flats_and_heads() -> list[Item]:
    """Nuts, heads and washers, each with the standard its size is from."""
    pocket, loose = ("press", "snug", "slide"), ("free", "slide")
    inch_nuts = {n: v * std.INCH for n, v in std.INCH_NUT_FLATS.items()}
    tables: tuple[tuple[str, str, dict[str, float], tuple[str, ...], str], ...] = (
        ("nut {}", "nut", ISO_4032_FLATS, pocket, "ISO 4032"),
        ("nut {}", "nut", inch_nuts, pocket, "ASME B18.2.2"),
        ("nut {}, self-locking", "nut", std.ISO_7040_FLATS, pocket, "ISO 7040"),
        ("nut {}", "nut", std.DIN_934_FLATS, pocket, "DIN 934"),
        ("square nut {}", "square nut", std.DIN_562_FLATS, pocket, "DIN 562"),
        ("slot nut {}", "slot nut", {f"{a} mm": float(a) for a in std.DIN_508_NECK}, loose, "DIN 508"),
        ("head {}", "head", ISO_4762_HEAD, loose, "ISO 4762"),
        ("button head {}", "head", std.ISO_7380_HEAD, loose, "ISO 7380-1"),
        ("countersunk head {}", "head", std.ISO_10642_HEAD, loose, "ISO 10642"),
        ("hexagon head {}", "nut", std.ISO_4014_FLATS, pocket, "ISO 4014"),
        ("washer {}", "washer", ISO_7089_OUTER, loose, "ISO 7089"),
        ("small washer {}", "washer", std.ISO_7092_OUTER, loose, "ISO 7092"),
        ("large washer {}", "washer", std.ISO_7093_OUTER, loose, "ISO 7093"),
    )
    return [
        Item(form.format(n), group, v, {}, classes, source)
        for form, group, table, classes, source in tables
        for n, v in table.items()
    ]


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
    long = _LONG_INSERT.match(clean)
    if long is not None:
        insert, length = known.get(f"insert M{float(long[1]):g}"), float(long[2].replace(",", "."))
        if insert is None or not 1 <= length <= 40:
            raise Refused(f"'{clean}' is not known: inserts are of M2 to M6, 1 to 40 mm long, as 'insert M3 x 5.7'.")
        return replace(insert, name=f"{insert.name} x {length:g}", length=length)
    match = _PLAIN.match(clean)
    if match is not None:
        return Item(clean, "rod", float(match[1].replace(",", ".")), {}, _BY_CLASS, "as named")
    meant = read_as(clean, frozenset(known))
    if meant in known:
        return known[meant]
    plain = _PLAIN.match(meant or "")
    if plain is None:
        raise Refused(
            f"'{name}' is not known: name a screw (M1.6 to M20, #0 to 1/2 in), nut, head, washer, bearing, insert, "
            "pipe thread or magnet from the list, or a size like 'rod 8 mm' or 'rod 1/4 in'."
        )
    return Item(meant or clean, "rod", float(plain[1]), {}, _BY_CLASS, "as named")


_WORD = {
    "hexagon": ("nut",),
    "square": ("square nut",),
    "rectangle": ("square nut", "slot nut"),
    "slot": ("bolt", "slot nut", "rod", "head"),
    "pin": ("bearing bore", "rod", "tube"),
}
_INTO_HOLES = ("bolt", "head", "washer", "bearing", "insert", "magnet", "rod", "tube", "pipe thread")


def names(kind: str = "hole", near: float | None = None) -> list[str]:
    """Hardware offered for a 'hole', 'pin' or 'hexagon'; with ``near``, only what is about that size, mm."""
    groups = _WORD.get(kind, _INTO_HOLES)
    return [
        i.name
        for i in catalogue().values()
        if i.group in groups and (near is None or 0.62 * near - 0.4 <= i.size <= 1.3 * near + 0.4)
    ]


@dataclass(frozen=True)
class Suggestion:
    """What a size is likely meant for: hardware, class, and how far the drawn size is off the one it names, mm."""

    name: str
    fit: str
    off: float


# Of things that a size names as exactly, the one that is met more often first.
_OFTEN = ("nut", "bolt", "bearing", "rod", "insert", "bearing bore", "magnet", "square nut", "slot nut", "tube", "head")
_RIVALS = ("bolt", "bearing", "rod")  # of a hole that goes through; inserts go into blind ones
_PRECISE = 0.02  # mm; sizes drawn on purpose
_NEAR = 0.25


def suggestions(diameter: float, kind: str = "hole", most: int = 3) -> tuple[Suggestion, ...]:
    """The likeliest hardware for a drawn size, exact sizes first, one for each thing. To be asked, not taken.

    A hole of 22 mm is a 608's pocket or passes an M20; one of 6 mm takes a rod, or was drawn for an M6 thread:

    >>> [s.name for s in suggestions(22.0)][:2], [s.name for s in suggestions(6.0)][:2]
    (['bearing 608', 'M20'], ['rod 6 mm', 'M6'])
    """
    groups = _WORD.get(kind, _INTO_HOLES)
    found: list[tuple[int, float, int, int, Suggestion]] = []
    for k, i in enumerate(catalogue().values()):
        if i.group not in groups:
            continue
        ways = [(fit, size) for fit, (_, size, _) in i.bores.items()]
        if i.group == "bolt":
            ways.append(("thread", i.size))  # drawn at the thread's own size
        elif not ways or i.group == "pipe thread":
            ways.append((i.classes[0] if i.group in ("bearing", "magnet") else "snug", i.size))
        fit, size = min(ways, key=lambda w: (abs(w[1] - diameter), w[0] == "coarse"))
        off = abs(size - diameter)
        limit = 0.45 if kind == "hexagon" else _NEAR
        if off < limit:
            rank = (0 if off <= _PRECISE else 1, 0.0 if off <= _PRECISE else round(off, 2), _seldom(i, fit), k)
            found.append((*rank, Suggestion(i.name, fit if fit in i.fits else i.fits[0], off)))
    out: dict[str, Suggestion] = {}
    for *_, s in sorted(found, key=lambda f: f[:4]):
        out.setdefault(catalogue()[s.name].group, s)  # of each sort of thing the likeliest
    return tuple(out.values())[:most]


def _seldom(i: Item, fit: str) -> int:
    """How seldom such a thing is met where its size is as exact."""
    rank = 10 * (_OFTEN.index(i.group) if i.group in _OFTEN else len(_OFTEN))
    if i.group == "bolt" and fit == "thread":
        rank += 25  # a hole drawn at a thread's own size: after the rod of that size
    if i.group == "bolt" and i.size > 12:
        rank += 15  # seldom in printed parts; a bearing's pocket of that size is not
    if i.name.startswith("bearing MR"):
        rank += 30
    if i.group == "bolt" and i.name not in ISO_273:
        rank += 5
    return rank


def suggestion(diameter: float, kind: str = "hole") -> tuple[str, str]:
    """The hardware and class a hole or hexagon of this drawn size is offered with at first: a screw or nut.

    >>> suggestion(5.5), suggestion(8.0, "hexagon")
    (('M5', 'medium'), ('nut M5', 'snug'))
    """
    if kind == "hexagon":
        best = min((abs(v - diameter), n) for n, v in ISO_4032_FLATS.items())
        return (f"nut {best[1]}", "snug") if best[0] < 0.45 else ("as drawn", "as drawn")
    fits = ("close", "medium", "coarse")
    near = min((abs(row[k + 1] - diameter), name, fit) for name, row in ISO_273.items() for k, fit in enumerate(fits))
    return (near[1], near[2]) if near[0] < 0.25 else ("as drawn", "as drawn")


def sure(diameter: float, kind: str = "hole") -> tuple[str, str]:
    """As :func:`suggestion`, but 'as drawn' where the size names several things as well, or none exactly: what many
    through holes at once may be given without asking."""
    if kind == "hexagon":
        return suggestion(diameter, kind)
    exact = [s for s in suggestions(diameter, kind, 9) if s.off <= _PRECISE]
    rivals = [s for s in exact if catalogue()[s.name].group in _RIVALS and not s.name.startswith("bearing MR")]
    if len(rivals) != 1 or rivals[0].name not in ISO_273 or rivals[0].fit == "thread":
        return "as drawn", "as drawn"
    return rivals[0].name, rivals[0].fit
