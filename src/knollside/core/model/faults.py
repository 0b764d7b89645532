"""What is kept of a print that went wrong: what it looked like and where, what was tried, what helped."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from knollside.core.model.base import Length, Place, Record, When


class Symptom(StrEnum):
    """What a person sees, hears or feels, in the words it is stored and shown under."""

    MATTE = "matte and rough"
    STRINGS = "strings"
    CORNER = "lifted corner"
    LOOSE = "came loose"
    MELTED = "melted tip"
    ROOF = "rough roof"
    ROOF_GAPS = "gaps in the top"
    THIN = "thin walls"
    WEAK = "weak along layers"
    SEAM_SPLIT = "split on a seam"
    BLOBS = "blobs"
    SHIFTED = "shifted"
    BANDS = "bands across walls"
    RINGING = "ripples after corners"
    FLARED = "foot flared"
    FIRST_GAPS = "gaps in the first layer"
    HOLES = "holes small"
    SKEWED = "skewed"
    JAM = "jam"
    GRINDING = "grinding"
    BRIDGE = "sagged bridge"
    CURLED = "curled underside"
    WELDED = "supports welded"
    FELL = "supports fell"
    STARVED = "starved after a rest"
    CRACKLE = "wet crackle"
    WARPED = "warped long part"
    OVERSIZE = "too large all round"


class Cause(StrEnum):
    """What may lie behind it, in the words it is stored under."""

    WET = "wet filament"
    HOT = "nozzle too hot"
    COLD = "nozzle too cold"
    HIGH_START = "first layer too high"
    LOW_START = "first layer too low"
    GREASE = "greasy sheet"
    COLD_BED = "bed too cool"
    HOT_BED = "bed too hot"
    DRAUGHT = "draught or cold room"
    SMALL_FOOT = "too little foot"
    LITTLE_FAN = "too little fan"
    MUCH_FAN = "too much fan"
    SHORT_LAYERS = "layers too short"
    LITTLE_PULL_BACK = "too little pull-back"
    MUCH_PULL_BACK = "too much pull-back"
    LITTLE_FLOW = "flow too low"
    MUCH_FLOW = "flow too high"
    CLOG = "part-clogged nozzle"
    WORN = "worn nozzle"
    LEAK = "loose nozzle"
    SLIP = "slipping drive"
    DRAG = "spool drags"
    UNEVEN = "uneven filament"
    SLACK = "slack belts"
    CROOKED = "frame out of square"
    STRUCK = "head struck the part"
    STALL = "motor lost steps"
    SCREW = "height screw binds"
    THIN_ROOF = "roof too thin"
    NARROW = "walls narrower than lines"
    NEAR_SUPPORT = "support too near"
    FAR_SUPPORT = "support too far"
    SUPPORT_FOOT = "support's foot too small"
    STEEP = "overhang too flat"
    SEAM = "seam in the wrong place"
    FAST = "faster than it melts"
    JERKY = "too jerky"
    OOZE = "oozes while it waits"


class FaultTest(StrEnum):
    """What can be tried or looked at to tell causes apart."""

    LISTEN = "listen while it purges"
    DRY = "dry the spool, print again"
    PUSH = "push filament by hand"
    WALL = "measure a single wall"
    GEAR = "look at the drive gear"
    BELTS = "pluck the belts"
    SQUARE = "measure a square"
    PAPER = "slide paper under the nozzle"
    WIPE = "wash the sheet"
    FILAMENT = "measure the filament"
    SPOOL = "turn the spool by hand"
    HOTTER = "print 10 °C hotter"
    COOLER = "print 10 °C cooler"
    SLOWER = "print at half speed"
    TWO = "print two side by side"
    FAN = "look at the fan"
    PULL_BACK = "pull back 0.5 mm more"
    TIP = "look at the nozzle's tip"
    SCREW = "turn the height screw by hand"
    MOTOR = "feel the motors"
    PREVIEW = "look at the layers of the file"
    ROOM = "keep the draught off"
    MARKS = "look for a mark where it struck"
    SUPPORTS = "print a support 0.06 mm farther off"
    BRIM = "print it with a brim"
    HOTTER_BED = "bed 8 °C hotter"
    COOLER_BED = "bed 8 °C cooler after the start"
    SEAM = "look where the seam runs"
    FOOT = "look at the support's foot"
    WAIT = "watch it after a rest"
    UNDERSIDE = "look at the underside"
    STEPS = "measure the bands"
    GENTLER = "half the acceleration"
    SETTINGS = "compare with the spool's label"
    PLACE = "look where the printer stands"
    CONTACT = "look under the face that hung"
    LESS_FAN = "half the fan"
    LESS_PULL_BACK = "half the pull-back"


class Answered(Record):
    """A test that was made, and its answer, in the words it has for it; other words tell nothing."""

    test: FaultTest
    answer: str = Field(max_length=40)
    at: When | None = None


class Cured(Record):
    """What was done about a cause, and whether it helped (None: not known yet); ``back``: when it went wrong again for
    all that, from which on it tells nothing."""

    cause: Cause
    at: When
    helped: bool | None = None
    back: When | None = None


class TopTried(Record):
    """A top printed at a ``flow`` (times what it is), and whether it closed."""

    flow: float = Field(ge=0.5, le=1.5)
    closed: bool


WallReading = Annotated[Length, Field(gt=0, le=10)]


class FaultCase(Record):
    """One print that went wrong. ``place``: on the part, in its own frame; ``height`` over the bed as it lay, mm.
    ``lacking``: what was looked for and is not there. ``walls_mm``: what a single wall measured; ``tops`` by flow."""

    part: int | None = Field(None, ge=1)
    printer: int = Field(ge=0)
    material: str = Field(max_length=40)
    opened: When
    place: tuple[Place, Place, Place] | None = None
    height: Length | None = None
    seen: tuple[Symptom, ...] = Field((), max_length=40)
    lacking: tuple[Symptom, ...] = Field((), max_length=40)
    answers: tuple[Answered, ...] = Field((), max_length=100)
    cures: tuple[Cured, ...] = Field((), max_length=100)
    walls_mm: tuple[WallReading, ...] = Field((), max_length=200)
    tops: tuple[TopTried, ...] = Field((), max_length=60)
    closed: bool = False

    @property
    def helped(self) -> Cause | None:
        """The cause whose cure helped, the last one, for good."""
        return next((c.cause for c in reversed(self.cures) if c.helped and c.back is None), None)

    @property
    def came_back(self) -> Cured | None:
        """What helped for a while, the last one."""
        return next((c for c in reversed(self.cures) if c.back is not None), None)
