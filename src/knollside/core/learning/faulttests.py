"""What can be tried to tell causes apart: how long it takes, what to look for, and what each answer says.

An answer's number is the chance of it where the cause is there (typical); ``ELSE`` where none of its causes is.
"""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.model.faults import Cause as C
from knollside.core.model.faults import FaultTest as T

ELSE = 0.05
NO = "no"


@dataclass(frozen=True)
class TestFacts:
    """``do`` says how, ``ask`` what is asked; ``answers`` in words, each with the chance of it by cause; ``otherwise``
    is the one that is left. ``minutes`` are the person's; ``base`` the chance of all answers but the last where none
    of the causes is there."""

    __test__ = False
    minutes: float
    do: str
    ask: str
    answers: dict[str, dict[C, float]]
    otherwise: str = NO
    base: float = ELSE

    @property
    def words(self) -> tuple[str, ...]:
        """All answers, the one that is left last."""
        return (*self.answers, self.otherwise)


TESTS: dict[T, TestFacts] = {
    T.LISTEN: TestFacts(
        3,
        "Push 30 mm of filament into the air at print heat and listen.",
        "Does it crackle or steam, or are there bubbles in the strand?",
        {"yes": {C.WET: 0.85}},
    ),
    T.DRY: TestFacts(
        15,
        "Dry the spool as Workshop says and print the same again.",
        "Is it better?",
        {"yes": {C.WET: 0.9}},
        base=0.08,
    ),
    T.PUSH: TestFacts(
        5,
        "Heat the nozzle, free the drive and push the filament by hand. Hot parts: mind your fingers.",
        "How does it come out?",
        {"thin or crooked": {C.CLOG: 0.85, C.WORN: 0.1}, "only with force": {C.COLD: 0.5, C.CLOG: 0.1, C.FAST: 0.1}},
        "freely",
    ),
    T.WALL: TestFacts(
        25,
        "Print the single wall from Proof and measure it at eight places.",
        "Against its drawn thickness it is",
        {
            "thinner": {C.LITTLE_FLOW: 0.9, C.CLOG: 0.6, C.SLIP: 0.5, C.DRAG: 0.35, C.FAST: 0.25, C.UNEVEN: 0.25},
            "thicker": {C.MUCH_FLOW: 0.9, C.WORN: 0.4, C.UNEVEN: 0.25},
        },
        "within 3 %",
        0.08,
    ),
    T.GEAR: TestFacts(
        3,
        "Look at the drive gear and at the filament just below it.",
        "What is there?",
        {
            "dust, smooth filament": {C.SLIP: 0.85, C.CLOG: 0.15},
            "bitten at one place": {C.CLOG: 0.45, C.MUCH_PULL_BACK: 0.55, C.DRAG: 0.35, C.COLD: 0.2, C.FAST: 0.2},
        },
        "clean",
    ),
    T.BELTS: TestFacts(
        2,
        "Power off. Pluck both belts like strings.",
        "Is one slack or much duller than the other?",
        {"yes": {C.SLACK: 0.88}},
        base=0.07,
    ),
    T.SQUARE: TestFacts(
        10,
        "Measure both diagonals of the square from Proof.",
        "Do they differ by more than 0.3 mm in 100?",
        {"yes": {C.CROOKED: 0.92, C.SLACK: 0.1}},
    ),
    T.PAPER: TestFacts(
        5,
        "Heat bed and nozzle, slide paper under the nozzle at four corners.",
        "How does it slide?",
        {"without any drag": {C.HIGH_START: 0.85}, "not at all": {C.LOW_START: 0.85}},
        "with a little drag",
        0.07,
    ),
    T.UNDERSIDE: TestFacts(
        1,
        "Look at the underside of what was printed, or at what is left on the sheet.",
        "How do its lines lie?",
        {
            "with gaps between": {C.HIGH_START: 0.82, C.LITTLE_FLOW: 0.25},
            "squashed to ridges": {C.LOW_START: 0.8, C.MUCH_FLOW: 0.3, C.HOT_BED: 0.15},
            "even, and yet it let go": {C.GREASE: 0.75, C.COLD_BED: 0.6, C.SMALL_FOOT: 0.6, C.DRAUGHT: 0.5},
        },
        "even, and it held",
        0.08,
    ),
    T.WIPE: TestFacts(
        10,
        "Wash the sheet with dish soap, dry it, print a first layer only.",
        "Does it hold now where it did not?",
        {"yes": {C.GREASE: 0.9, C.HIGH_START: 0.08, C.COLD_BED: 0.15}},
    ),
    T.FILAMENT: TestFacts(
        3,
        "Measure the filament at six places along a metre.",
        "Do they differ by more than 0.06 mm?",
        {"yes": {C.UNEVEN: 0.9}},
    ),
    T.SPOOL: TestFacts(
        1,
        "Pull half a metre off the spool by hand.",
        "Does it snag or pull hard?",
        {"yes": {C.DRAG: 0.88}},
    ),
    T.HOTTER: TestFacts(
        20,
        "Print the place again 10 °C hotter.",
        "It is",
        {
            "better": {C.COLD: 0.88, C.FAST: 0.55, C.CLOG: 0.2, C.MUCH_FAN: 0.35},
            "worse": {C.HOT: 0.65, C.WET: 0.35, C.LITTLE_PULL_BACK: 0.3, C.SHORT_LAYERS: 0.35, C.LITTLE_FAN: 0.3},
        },
        "the same",
        0.08,
    ),
    T.COOLER: TestFacts(
        20,
        "Print the place again 10 °C cooler.",
        "It is",
        {
            "better": {C.HOT: 0.88, C.SHORT_LAYERS: 0.3, C.LITTLE_FAN: 0.35, C.LITTLE_PULL_BACK: 0.3, C.STEEP: 0.15},
            "worse": {C.COLD: 0.65, C.FAST: 0.45, C.CLOG: 0.3, C.MUCH_FAN: 0.3},
        },
        "the same",
        0.08,
    ),
    T.SLOWER: TestFacts(
        20,
        "Print the place again at half the speed.",
        "Is it better?",
        {"yes": {C.FAST: 0.9, C.JERKY: 0.6, C.SHORT_LAYERS: 0.5, C.CLOG: 0.3, C.COLD: 0.35, C.STALL: 0.5}},
        base=0.07,
    ),
    T.GENTLER: TestFacts(
        10,
        "Print a corner again at half the acceleration.",
        "Are the ripples or the shift less?",
        {"yes": {C.JERKY: 0.88, C.SLACK: 0.3, C.STALL: 0.5}},
    ),
    T.TWO: TestFacts(
        15,
        "Print two of it side by side.",
        "Is the small top better?",
        {"yes": {C.SHORT_LAYERS: 0.92, C.LITTLE_FAN: 0.4, C.HOT: 0.3}},
    ),
    T.FAN: TestFacts(
        2,
        "Set the fan full; hold a strip of paper before its mouth, look for hairs and dust.",
        "Does it blow weakly, to one side, or not at all?",
        {"yes": {C.LITTLE_FAN: 0.78}},
    ),
    T.LESS_FAN: TestFacts(
        15,
        "Print the place again with half the fan.",
        "Do its layers hold, its corners stay down?",
        {"yes": {C.MUCH_FAN: 0.88, C.COLD: 0.25, C.DRAUGHT: 0.2}},
    ),
    T.PULL_BACK: TestFacts(
        15,
        "Print two posts with 0.5 mm more pull-back.",
        "Are there fewer strings or blobs?",
        {"yes": {C.LITTLE_PULL_BACK: 0.9, C.HOT: 0.25, C.WET: 0.15, C.OOZE: 0.3}},
    ),
    T.LESS_PULL_BACK: TestFacts(
        10,
        "Print the place again with half the pull-back.",
        "Does the grinding or starving stop?",
        {"yes": {C.MUCH_PULL_BACK: 0.88, C.SLIP: 0.1, C.CLOG: 0.1}},
    ),
    T.TIP: TestFacts(
        2,
        "Look at the nozzle from below, cold, with a lens.",
        "What is there?",
        {
            "a wide or crooked mouth": {C.WORN: 0.82},
            "plastic crept out above": {C.LEAK: 0.9},
            "burnt crumbs": {C.CLOG: 0.4},
        },
        "nothing",
        0.07,
    ),
    T.SCREW: TestFacts(
        3,
        "Power off. Turn the height screw by hand over its whole length.",
        "Does it bind somewhere?",
        {"yes": {C.SCREW: 0.88}},
    ),
    T.STEPS: TestFacts(
        3,
        "Measure from band to band, up the wall.",
        "They come",
        {"evenly": {C.SCREW: 0.8, C.SLIP: 0.1}, "unevenly": {C.UNEVEN: 0.7, C.SLIP: 0.5, C.DRAG: 0.6}},
        "not at all",
        0.08,
    ),
    T.MOTOR: TestFacts(
        2,
        "After an hour of printing hold a finger near, then on the motors. They can be hot.",
        "Is one too hot to keep a finger on?",
        {"yes": {C.STALL: 0.78}},
    ),
    T.MARKS: TestFacts(
        2,
        "Look at the layer where it shifted or fell, at its edges.",
        "What is there?",
        {
            "a bent edge or a scrape": {C.STRUCK: 0.88, C.STEEP: 0.15},
            "a clean step": {C.STALL: 0.8, C.SLACK: 0.5, C.DRAG: 0.2},
        },
        "neither",
        0.07,
    ),
    T.PREVIEW: TestFacts(
        3,
        "Look at the sliced file's layers at that height.",
        "What is there?",
        {
            "a roof under 0.8 mm": {C.THIN_ROOF: 0.85},
            "a wall of no whole lines": {C.NARROW: 0.85},
            "lines that hang in the air": {C.STEEP: 0.75, C.SUPPORT_FOOT: 0.05},
            "the seam": {C.SEAM: 0.85},
        },
        "none of these",
        0.10,
    ),
    T.ROOM: TestFacts(
        15,
        "Put a box round the printer and print again.",
        "Do its corners stay down, its layers hold?",
        {"yes": {C.DRAUGHT: 0.88, C.MUCH_FAN: 0.15, C.COLD_BED: 0.3, C.SMALL_FOOT: 0.15}},
    ),
    T.SUPPORTS: TestFacts(
        15,
        "Print a small supported piece with 0.06 mm more gap.",
        "Against the old one it is",
        {
            "easier off, as good": {C.NEAR_SUPPORT: 0.9, C.MUCH_FLOW: 0.3},
            "sagging more": {C.FAR_SUPPORT: 0.85, C.STEEP: 0.2},
        },
        "the same",
    ),
    T.BRIM: TestFacts(
        10,
        "Print it again with a brim of 8 mm.",
        "Does it stay down?",
        {"yes": {C.SMALL_FOOT: 0.9, C.GREASE: 0.4, C.COLD_BED: 0.4, C.DRAUGHT: 0.4, C.HIGH_START: 0.25}},
    ),
    T.HOTTER_BED: TestFacts(
        10,
        "Bed 8 °C hotter, soaked ten minutes; print the first layers.",
        "Does it stay down?",
        {"yes": {C.COLD_BED: 0.88, C.GREASE: 0.2, C.DRAUGHT: 0.25, C.SMALL_FOOT: 0.15}},
    ),
    T.COOLER_BED: TestFacts(
        10,
        "Print ten layers with the bed 8 °C cooler after the first.",
        "Is the foot narrower?",
        {"yes": {C.HOT_BED: 0.88, C.LOW_START: 0.12}},
    ),
    T.SEAM: TestFacts(
        1,
        "Look at the place: does the upright line of starts and ends run there?",
        "Does it run through it?",
        {"yes": {C.SEAM: 0.92}},
        base=0.10,
    ),
    T.FOOT: TestFacts(
        1,
        "Look at what is left of the support on the sheet.",
        "What became of its foot?",
        {"small, it tipped": {C.SUPPORT_FOOT: 0.88}, "came off the sheet whole": {C.GREASE: 0.5, C.HIGH_START: 0.3}},
        "it stood",
        0.07,
    ),
    T.WAIT: TestFacts(
        5,
        "Let it wait a minute at heat, then lay a line.",
        "Does the line begin late or thin?",
        {"yes": {C.OOZE: 0.9, C.WET: 0.25, C.HOT: 0.3, C.LITTLE_PULL_BACK: 0.2, C.MUCH_PULL_BACK: 0.2}},
    ),
    T.SETTINGS: TestFacts(
        3,
        "Hold heat, fan and speed of the sliced file against the spool's label or what you use at other times.",
        "What differs?",
        {
            "it is hotter": {C.HOT: 0.65},
            "it is cooler": {C.COLD: 0.65},
            "more fan": {C.MUCH_FAN: 0.65},
            "less fan": {C.LITTLE_FAN: 0.45},
            "faster": {C.FAST: 0.65, C.JERKY: 0.35},
        },
        "nothing",
        0.12,
    ),
    T.PLACE: TestFacts(
        1,
        "Look where the printer stands while it prints.",
        "Is there an open window, a fan, a door, or less than 18 °C?",
        {"yes": {C.DRAUGHT: 0.8}},
        base=0.08,
    ),
    T.CONTACT: TestFacts(
        1,
        "Look at the face that hung in the air, and at what held it.",
        "What is there?",
        {
            "strands sag onto the support": {C.FAR_SUPPORT: 0.82, C.LITTLE_FAN: 0.15},
            "the support is grown into it": {C.NEAR_SUPPORT: 0.85, C.MUCH_FLOW: 0.15},
            "nothing held it there": {C.STEEP: 0.75, C.LITTLE_FAN: 0.3},
        },
        "it is as it should be",
        0.08,
    ),
}
