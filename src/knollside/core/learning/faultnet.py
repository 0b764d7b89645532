"""What is typically behind what goes wrong: causes with their odds, what each looks like, and its cure.

Odds and links are *typical*: of what people report of filament printers, rounded; a printer's own cases move them
(:mod:`knollside.core.learning.faults`). A link is the chance that a symptom shows when the cause is there.
"""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.model.faults import Cause as C
from knollside.core.model.faults import Symptom as S


@dataclass(frozen=True)
class CauseFacts:
    """``odds``: how often among prints that went wrong, relative; ``shows``: symptom to chance; what to do, and how
    many minutes of the person that takes."""

    odds: float
    shows: dict[S, float]
    words: str
    cure: str
    minutes: float


CAUSES: dict[C, CauseFacts] = {
    C.WET: CauseFacts(
        7,
        {S.STRINGS: 0.75, S.MATTE: 0.7, S.CRACKLE: 0.65, S.WEAK: 0.4, S.BLOBS: 0.3, S.BRIDGE: 0.2, S.STARVED: 0.15},
        "The filament took up water",
        "Dry the spool as Workshop says, keep it in a box with desiccant, print again.",
        10,
    ),
    C.HOT: CauseFacts(
        4,
        {S.STRINGS: 0.65, S.MELTED: 0.45, S.BRIDGE: 0.45, S.CURLED: 0.4, S.BLOBS: 0.35, S.STARVED: 0.25},
        "The nozzle is too hot",
        "Print 10 °C cooler; look at Pull tests how far the bond allows it.",
        3,
    ),
    C.COLD: CauseFacts(
        4,
        {S.WEAK: 0.75, S.MATTE: 0.4, S.GRINDING: 0.35, S.ROOF_GAPS: 0.3, S.THIN: 0.25, S.JAM: 0.2},
        "The nozzle is too cold",
        "Print 10 °C hotter; a hardened nozzle asks for more.",
        3,
    ),
    C.HIGH_START: CauseFacts(
        6,
        {S.LOOSE: 0.65, S.FIRST_GAPS: 0.8, S.CORNER: 0.35, S.STRINGS: 0.05},
        "The first layer lies too high",
        "Bring the nozzle 0.05 mm nearer; watch the first layer at Run.",
        5,
    ),
    C.LOW_START: CauseFacts(
        3,
        {S.FLARED: 0.75, S.GRINDING: 0.35, S.HOLES: 0.3, S.MATTE: 0.1, S.JAM: 0.15},
        "The first layer lies too low",
        "Raise the nozzle 0.05 mm; watch the first layer at Run.",
        5,
    ),
    C.GREASE: CauseFacts(
        7,
        {S.LOOSE: 0.75, S.CORNER: 0.55, S.FIRST_GAPS: 0.25, S.FELL: 0.3},
        "The sheet is greasy or worn",
        "Wash it with warm water and dish soap, dry, do not touch it again.",
        8,
    ),
    C.COLD_BED: CauseFacts(
        3,
        {S.CORNER: 0.65, S.LOOSE: 0.5, S.WARPED: 0.45},
        "The bed is too cool",
        "Bed 5 to 10 °C hotter; let it soak ten minutes first.",
        3,
    ),
    C.HOT_BED: CauseFacts(
        2,
        {S.FLARED: 0.65, S.MATTE: 0.05, S.CURLED: 0.1},
        "The bed is too hot",
        "Bed 5 to 10 °C cooler after the first layer.",
        3,
    ),
    C.DRAUGHT: CauseFacts(
        5,
        {S.CORNER: 0.7, S.WARPED: 0.75, S.WEAK: 0.4, S.LOOSE: 0.3},
        "A draught or a cold room",
        "Shut the window, put a box round it, print the material where it is warm.",
        5,
    ),
    C.SMALL_FOOT: CauseFacts(
        4,
        {S.LOOSE: 0.6, S.CORNER: 0.45, S.WARPED: 0.4, S.SHIFTED: 0.05},
        "It stands on too little",
        "A brim, ears at the corners, or another way to lie: see Lay.",
        4,
    ),
    C.LITTLE_FAN: CauseFacts(
        4,
        {S.CURLED: 0.7, S.BRIDGE: 0.65, S.MELTED: 0.5, S.ROOF: 0.35, S.STRINGS: 0.15},
        "The fan blows too little",
        "More fan, or clean it: a slow fan leaves soft overhangs.",
        5,
    ),
    C.MUCH_FAN: CauseFacts(
        3,
        {S.WEAK: 0.75, S.CORNER: 0.3, S.WARPED: 0.35, S.MATTE: 0.15},
        "The fan blows too much",
        "Less fan; none for the layers that carry.",
        3,
    ),
    C.SHORT_LAYERS: CauseFacts(
        5,
        {S.MELTED: 0.85, S.CURLED: 0.3, S.BLOBS: 0.2},
        "Its small layers get no time to set",
        "Ten seconds a layer at least, or two side by side.",
        3,
    ),
    C.LITTLE_PULL_BACK: CauseFacts(
        5,
        {S.STRINGS: 0.85, S.BLOBS: 0.4, S.STARVED: 0.1},
        "The filament is pulled back too little",
        "Pull back 0.5 mm more, or faster; travel inside the part.",
        3,
    ),
    C.MUCH_PULL_BACK: CauseFacts(
        2,
        {S.GRINDING: 0.5, S.JAM: 0.5, S.STARVED: 0.5, S.THIN: 0.2},
        "The filament is pulled back too far",
        "Half of it; long pulls carry heat up and bite the strand.",
        3,
    ),
    C.LITTLE_FLOW: CauseFacts(
        4,
        {S.ROOF_GAPS: 0.8, S.THIN: 0.65, S.WEAK: 0.3, S.FIRST_GAPS: 0.3, S.ROOF: 0.3},
        "The flow is set too low",
        "Measure a single wall: it tells the flow.",
        5,
    ),
    C.MUCH_FLOW: CauseFacts(
        4,
        {S.HOLES: 0.65, S.OVERSIZE: 0.65, S.ROOF: 0.45, S.BLOBS: 0.4, S.WELDED: 0.3, S.FLARED: 0.25},
        "The flow is set too high",
        "Measure a single wall: it tells the flow.",
        5,
    ),
    C.CLOG: CauseFacts(
        5,
        {S.THIN: 0.6, S.ROOF_GAPS: 0.5, S.GRINDING: 0.5, S.JAM: 0.45, S.STARVED: 0.3, S.MATTE: 0.25, S.WEAK: 0.3},
        "The nozzle is partly clogged",
        "Pull it clean: heat, push, cool to about 90 °C, pull; else another nozzle. Hot parts: mind your hands.",
        20,
    ),
    C.WORN: CauseFacts(
        2,
        {S.STRINGS: 0.3, S.ROOF: 0.45, S.HOLES: 0.4, S.MATTE: 0.4, S.OVERSIZE: 0.2, S.THIN: 0.15},
        "The nozzle is worn wide",
        "A new nozzle; tighten it hot, then set the first layer's height anew.",
        20,
    ),
    C.LEAK: CauseFacts(
        2,
        {S.BLOBS: 0.75, S.STRINGS: 0.2, S.MATTE: 0.1, S.THIN: 0.15},
        "The nozzle sits loose and leaks",
        "Clean it and tighten it hot, held by the block. Hot parts: mind your hands.",
        20,
    ),
    C.SLIP: CauseFacts(
        4,
        {S.GRINDING: 0.8, S.THIN: 0.45, S.ROOF_GAPS: 0.35, S.JAM: 0.35, S.BANDS: 0.2},
        "The drive slips on the filament",
        "Brush the gear clean and set its pressure anew.",
        10,
    ),
    C.DRAG: CauseFacts(
        3,
        {S.GRINDING: 0.45, S.THIN: 0.4, S.BANDS: 0.3, S.STARVED: 0.25, S.JAM: 0.35, S.SHIFTED: 0.2},
        "The spool drags or is tangled",
        "Free the strand and let the spool turn by itself.",
        3,
    ),
    C.UNEVEN: CauseFacts(
        2,
        {S.BANDS: 0.6, S.ROOF_GAPS: 0.3, S.THIN: 0.3, S.JAM: 0.15},
        "The filament's thickness is uneven",
        "Another spool, or its mean thickness in the settings.",
        4,
    ),
    C.SLACK: CauseFacts(
        4,
        {S.RINGING: 0.6, S.SHIFTED: 0.45, S.HOLES: 0.3, S.BANDS: 0.15},
        "A belt is slack",
        "Tighten it until it sounds like its fellow; measure a bar anew.",
        10,
    ),
    C.CROOKED: CauseFacts(
        2,
        {S.SKEWED: 0.9},
        "The frame is out of square",
        "Measure a square at Run, set the frame or let corrected meshes take it out.",
        20,
    ),
    C.STRUCK: CauseFacts(
        4,
        {S.SHIFTED: 0.7, S.CURLED: 0.45, S.LOOSE: 0.35, S.FELL: 0.35},
        "The head struck a curled edge",
        "Cure the curling first; let the head hop where it travels.",
        5,
    ),
    C.STALL: CauseFacts(
        2,
        {S.SHIFTED: 0.85, S.GRINDING: 0.1},
        "A motor lost steps",
        "Slower and gentler; let the motor's driver cool. It should be warm, not hot.",
        10,
    ),
    C.SCREW: CauseFacts(
        2,
        {S.BANDS: 0.8, S.ROOF_GAPS: 0.1, S.GRINDING: 0.05},
        "The height screw binds",
        "Clean and grease it; loosen its nut until it finds its place.",
        15,
    ),
    C.THIN_ROOF: CauseFacts(
        5,
        {S.ROOF: 0.75, S.ROOF_GAPS: 0.65},
        "The roof has too few layers or rests on too little",
        "Five layers or 0.8 mm, and denser infill below: see Build.",
        3,
    ),
    C.NARROW: CauseFacts(
        3,
        {S.THIN: 0.8, S.WEAK: 0.2},
        "Walls are narrower than whole lines",
        "Make them a whole number of lines wide: see Build.",
        4,
    ),
    C.NEAR_SUPPORT: CauseFacts(
        4,
        {S.WELDED: 0.9},
        "The support lies too near",
        "0.04 to 0.06 mm more: settle it at Support gap.",
        4,
    ),
    C.FAR_SUPPORT: CauseFacts(
        3,
        {S.CURLED: 0.6, S.BRIDGE: 0.45, S.FELL: 0.05},
        "The support lies too far off",
        "0.04 mm less: settle it at Support gap.",
        4,
    ),
    C.SUPPORT_FOOT: CauseFacts(
        3,
        {S.FELL: 0.9, S.CURLED: 0.25, S.STRINGS: 0.1},
        "The support stands on too little",
        "A wider foot or denser supports: see Lay.",
        3,
    ),
    C.STEEP: CauseFacts(
        4,
        {S.CURLED: 0.8, S.BRIDGE: 0.3, S.MATTE: 0.05},
        "An overhang is flatter than prints by itself",
        "A support, thinner layers, or another way to lie: see Lay.",
        4,
    ),
    C.SEAM: CauseFacts(
        3,
        {S.SEAM_SPLIT: 0.8, S.BLOBS: 0.35, S.HOLES: 0.2},
        "The seam lies where it carries or fits",
        "Put the seam on the side that Lay names.",
        3,
    ),
    C.FAST: CauseFacts(
        4,
        {S.THIN: 0.45, S.WEAK: 0.5, S.ROOF_GAPS: 0.4, S.GRINDING: 0.45, S.MATTE: 0.45},
        "It is laid faster than the nozzle melts",
        "Two thirds of the speed, or hotter by 5 °C.",
        3,
    ),
    C.JERKY: CauseFacts(
        3,
        {S.RINGING: 0.85, S.SHIFTED: 0.2},
        "It turns corners too hard",
        "Half the acceleration for outer walls.",
        3,
    ),
    C.OOZE: CauseFacts(
        2,
        {S.STARVED: 0.85, S.BLOBS: 0.3, S.SEAM_SPLIT: 0.1},
        "The nozzle runs empty while it waits",
        "Wipe and prime after a rest; a tower to prime at where colours change.",
        5,
    ),
}
TOTAL = sum(c.odds for c in CAUSES.values())

# Who sees a symptom where none of these causes is, and how often a symptom that is there is noticed and told.
UNCALLED = 0.02
TOLD = 0.75
OTHER = 0.03  # prints that went wrong by something that is not in this list
OTHER_SHOWS = 0.12  # of each symptom, then
PAIRS = 0.15  # cases with two causes at once
