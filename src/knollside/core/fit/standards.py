"""Sizes of hardware that public standards give, mm unless said: what goes into pockets and onto pins besides screws.

Each table names its standard; (name of the thing, its size where it meets the part).
"""

from __future__ import annotations

INCH = 25.4
# Heads: outside diameter, ISO 7380-1 (button) and ISO 10642 (countersunk, to the sharp corner).
ISO_7380_HEAD = {"M3": 5.7, "M4": 7.6, "M5": 9.5, "M6": 10.5, "M8": 14.0, "M10": 17.5, "M12": 21.0, "M16": 28.0}
ISO_10642_HEAD = {"M3": 6.72, "M4": 8.96, "M5": 11.2, "M6": 13.44, "M8": 17.92, "M10": 22.4, "M12": 26.88, "M16": 33.6}
# Across flats: hexagon heads ISO 4014, nuts that do not come loose ISO 7040, older nuts DIN 934, square nuts DIN 562.
ISO_4014_FLATS = {"M5": 8.0, "M6": 10.0, "M8": 13.0, "M10": 16.0, "M12": 18.0, "M16": 24.0, "M20": 30.0}
ISO_7040_FLATS = {"M3": 5.5, "M4": 7.0, "M5": 8.0, "M6": 10.0, "M8": 13.0, "M10": 16.0, "M12": 18.0, "M16": 24.0}
DIN_934_FLATS = {"M8x1": 13.0, "M10x1": 17.0, "M10x1.25": 17.0, "M12x1.25": 19.0, "M12x1.5": 19.0, "M14x1.5": 22.0}
DIN_562_FLATS = {"M2.5": 5.0, "M3": 5.5, "M4": 7.0, "M5": 8.0, "M6": 10.0, "M8": 13.0}
# Washers: outside diameter, small ISO 7092 and large ISO 7093.
ISO_7092_OUTER = {
    "M2": 4.5,
    "M2.5": 5.0,
    "M3": 6.0,
    "M4": 8.0,
    "M5": 9.0,
    "M6": 11.0,
    "M8": 15.0,
    "M10": 18.0,
    "M12": 20.0,
}
ISO_7093_OUTER = {"M3": 9.0, "M4": 12.0, "M5": 15.0, "M6": 18.0, "M8": 24.0, "M10": 30.0, "M12": 37.0, "M16": 50.0}
# Fine threads: pitch, ISO 261; turns an inch, ASME B1.1 (UNF).
FINE_PITCH = {"M8x1": (8.0, 1.0), "M10x1": (10.0, 1.0), "M10x1.25": (10.0, 1.25), "M12x1.25": (12.0, 1.25)}
FINE_PITCH |= {"M12x1.5": (12.0, 1.5), "M14x1.5": (14.0, 1.5), "M16x1.5": (16.0, 1.5), "M20x1.5": (20.0, 1.5)}
UNF = {"#4": 48, "#6": 40, "#8": 36, "#10": 32, "1/4 in": 28, "5/16 in": 24, "3/8 in": 24, "7/16 in": 20, "1/2 in": 20}
# Nuts of inch screws, across flats in inches, ASME B18.2.2 and B18.6.3.
INCH_NUT_FLATS = {"#4": 1 / 4, "#6": 5 / 16, "#8": 11 / 32, "#10": 3 / 8, "1/4 in": 7 / 16, "5/16 in": 1 / 2}
INCH_NUT_FLATS |= {"3/8 in": 9 / 16, "7/16 in": 11 / 16, "1/2 in": 3 / 4}
# Slots of nuts that slide in a groove: width of their neck, DIN 508.
DIN_508_NECK = (5, 6, 8, 10, 12, 14, 18)
# Bearings, bore and outside: ISO 15; the small ones by their makers' common names.
BEARINGS: dict[str, tuple[float, float]] = {
    "608": (8, 22),
    "623": (3, 10),
    "624": (4, 13),
    "625": (5, 16),
    "626": (6, 19),
    "627": (7, 22),
    "628": (8, 24),
    "629": (9, 26),
    "688": (8, 16),
    "6000": (10, 26),
    "6001": (12, 28),
    "6002": (15, 32),
    "6003": (17, 35),
    "6004": (20, 42),
    "6200": (10, 30),
    "6201": (12, 32),
    "6202": (15, 35),
    "6203": (17, 40),
    "6204": (20, 47),
    "6800": (10, 19),
    "6801": (12, 21),
    "6802": (15, 24),
    "6803": (17, 26),
    "6804": (20, 32),
    "6805": (25, 37),
    "MR63": (3, 6),
    "MR83": (3, 8),
    "MR93": (3, 9),
    "MR74": (4, 7),
    "MR84": (4, 8),
    "MR104": (4, 10),
    "MR85": (5, 8),
    "MR95": (5, 9),
    "MR105": (5, 10),
    "MR115": (5, 11),
    "MR106": (6, 10),
    "MR126": (6, 12),
    "MR128": (8, 12),
}
# Ball bushings that run on a rod: bore and outside.
BUSHINGS = {"LM6UU": (6, 12), "LM8UU": (8, 15), "LM10UU": (10, 19), "LM12UU": (12, 21)}
# Pipe threads: outside and core diameter, ISO 228-1; outside of the pipe, ASME B1.20.1.
ISO_228 = {
    "G 1/8": (9.728, 8.566),
    "G 1/4": (13.157, 11.445),
    "G 3/8": (16.662, 14.950),
    "G 1/2": (20.955, 18.631),
    "G 3/4": (26.441, 24.117),
    "G 1": (33.249, 30.291),
    "G 1 1/4": (41.910, 38.952),
    "G 1 1/2": (47.803, 44.845),
}
NPT_PIPE = {"1/8 NPT": 10.287, "1/4 NPT": 13.716, "3/8 NPT": 17.145, "1/2 NPT": 21.336, "3/4 NPT": 26.670}
NPT_PIPE |= {"1 NPT": 33.401, "1 1/4 NPT": 42.164, "1 1/2 NPT": 48.260}
RODS = (1.5, 2, 2.5, 3, 4, 5, 6, 7, 8, 10, 12, 14, 15, 16, 20)
INCH_RODS = {"1/8": 1 / 8, "3/16": 3 / 16, "1/4": 1 / 4, "5/16": 5 / 16, "3/8": 3 / 8, "1/2": 1 / 2, "5/8": 5 / 8}
INCH_RODS |= {"3/4": 3 / 4, "1": 1.0}
TUBES = (4, 6, 8, 10, 12, 14, 15, 16, 18, 20, 22, 25, 28, 32, 40, 50)
MAGNETS = (3, 4, 5, 6, 8, 10, 12, 15, 20, 25)
