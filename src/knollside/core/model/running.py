"""What is kept of running: spools' and printers' logs, hours somebody is in, and runs with their plates."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from knollside.core.model.base import Day, Degrees, Length, Mass, Record, Share, When

Clock = Annotated[str, Field(pattern=r"^([01]\d|2[0-3]):[0-5]\d$|^24:00$")]
Stretches = tuple[tuple[Clock, Clock], ...]
PlateState = Literal["waiting", "printing", "printed", "failed"]
SchoolName = Literal["never alone", "ends watched", "overnight"]
GoalName = Literal["soonest", "fewest changes", "due first"]
FirstLayer = Literal["", "right", "too high", "too low", "lifting"]
MonitorName = Literal["none", "simulated"]
SquareSize = tuple[Length, Length, Length, Length, Length, Length]
_Reach = Annotated[float, Field(ge=1, le=400)]
HeadSize = tuple[_Reach, _Reach, _Reach, _Reach, Annotated[float, Field(ge=0.5, le=200)], _Reach]
TurnsName = Literal["free", "quarter", "none"]
EventKind = Literal[
    "nozzle", "sheet", "belt", "firmware", "moved", "cleaned", "levelled", "adhesive", "square", "first use"
]


class Weighing(Record):
    """A spool on the scale, grams with the spool; ``drying``: hours in the drier by then, where it was in it."""

    at: When
    gross_g: Mass
    drying: float | None = Field(None, ge=0, le=200)
    source: Literal["typed", "scale", "simulated"] = "typed"


class Stay(Record):
    """How a spool was kept from a day on: in the open or in a box with desiccant; the humidity there if measured."""

    since: When
    where: Literal["open", "box"] = "open"
    humidity: Share | None = None


class Dried(Record):
    at: When
    hours: float = Field(gt=0, le=200)
    celsius: Degrees = 50.0


class Took(Record):
    """A print that took filament: grams by its estimate, and whether it came out matte and stringy."""

    at: When
    grams: Mass
    title: str = Field("", max_length=120)
    stringy: bool | None = None


class SpoolLog(Record):
    """What is known of a spool besides its name and material. ``net_g`` when it was new, or when it was first spoken
    of; then ``net_doubt_g`` is two sigma of that. ``drying_since``: it has been in the drier from then on."""

    colour: str = Field("", max_length=40)
    lot: str = Field("", max_length=60)
    opened: Day | None = None
    net_g: Mass = 1000.0
    net_doubt_g: Mass | None = None
    tare_g: Mass | None = None
    weighings: tuple[Weighing, ...] = Field((), max_length=2000)
    stays: tuple[Stay, ...] = Field((), max_length=2000)
    dried: tuple[Dried, ...] = Field((), max_length=2000)
    took: tuple[Took, ...] = Field((), max_length=20_000)
    drying_since: When | None = None


class PrinterEvent(Record):
    """What was done to a printer. ``held``: whether an adhesive held, ``hot`` or cold; ``square``: a measured piece
    (drawn X, drawn Y, X, Y, rising, falling), mm."""

    kind: EventKind
    at: When
    note: str = Field("", max_length=400)
    held: bool | None = None
    hot: bool | None = None
    square: SquareSize | None = None


class Tick(Record):
    """A line of the list before a print: done, or skipped with a reason."""

    line: str = Field(max_length=200)
    at: When
    skipped: str = Field("", max_length=400)


class PrinterLog(Record):
    """What a printer went through, the ``spool`` on it (0: none that is on the shelf; then ``loaded`` says what), and
    minutes for a change of spool and to cool and clear.
    ``true_up``: whether what its frame is off, by the last square measured, is taken out of exported meshes;
    ``monitor``: what tells of its prints; ``head``: how far it reaches from the nozzle to the left, right, front and
    back, above which height, and how high its bar hangs, mm (core/run/sequence.py)."""

    events: tuple[PrinterEvent, ...] = Field((), max_length=5000)
    ticks: tuple[Tick, ...] = Field((), max_length=20_000)
    spool: int = Field(0, ge=0)
    loaded: str = Field("", max_length=80)
    change_minutes: float = Field(10, ge=0, le=240)
    clear_minutes: float = Field(20, ge=0, le=600)
    true_up: bool = False
    monitor: MonitorName = "none"
    head: HeadSize | None = None

    @property
    def squared(self) -> PrinterEvent | None:
        """When a square was measured last, with what it read."""
        return next((e for e in reversed(self.events) if e.square is not None), None)


class Presence(Record):
    """When somebody is in and awake: by weekday, and days by date that differ; in a time zone. No days: the usual
    ones; a day not named among some has nobody in."""

    zone: str = Field("UTC", max_length=60)
    days: dict[str, Stretches] = Field(default_factory=dict, max_length=7)
    other: dict[Day, Stretches] = Field(default_factory=dict, max_length=400)


class RunPiece(Record):
    """A part of the workshop in a run: how many copies, by when, how it may be turned."""

    part: int = Field(ge=1)
    copies: int = Field(1, ge=1, le=200)
    due: When | None = None
    turns: TurnsName = "quarter"


class Held(Record):
    """A copy that stays where it was put: of a part, on a plate of its group, mm and degrees."""

    part: int = Field(ge=1)
    copy_number: int = Field(ge=1, le=200)
    plate: int = Field(ge=0, le=200)
    x: float = Field(ge=-2000, le=2000)
    y: float = Field(ge=-2000, le=2000)
    angle: float = Field(0.0, ge=-360, le=360)


class Seen(Record):
    """Layers that were laid at an hour, as the person read them off."""

    at: When
    layer: int = Field(ge=0, le=200_000)


class PlateDone(Record):
    """How far a plate is, by what is on it: (part, copy) pairs; when it was begun and ended (or is to end). What it was
    of: filament, the number of its spool (0: none given), grams and hours by the plain estimate; ``expected`` hours,
    low and high, before it began; its ``layers`` and their ``pace`` (core/run/watching.py). What was ``seen``, how its
    first layer lay, ``why`` it failed. ``ahead``: hours by which a simulated print runs before the clock."""

    pieces: tuple[tuple[int, int], ...] = Field(min_length=1, max_length=400)
    state: PlateState
    printer: str = Field("", max_length=60)
    begun: When | None = None
    ended: When | None = None
    title: str = Field("", max_length=200)
    filament: str = Field("", max_length=80)
    material: str = Field("", max_length=40)
    spool: int = Field(0, ge=0)
    grams: Mass = 0.0
    hours: float = Field(0.0, ge=0, le=2000)
    expected: tuple[float, float, float] | None = None
    layers: int = Field(0, ge=0, le=200_000)
    pace: tuple[Share, ...] = Field((), max_length=100)
    seen: tuple[Seen, ...] = Field((), max_length=400)
    first_layer: FirstLayer = ""
    why: str = Field("", max_length=400)
    ahead: float = Field(0.0, ge=0, le=2000)


class PlateNote(Record):
    """What was said of the plate that holds most of these pieces, (part, copy): its name, the spool (0: any) and the
    printer it is to take."""

    pieces: tuple[tuple[int, int], ...] = Field(min_length=1, max_length=400)
    name: str = Field("", max_length=60)
    spool: int = Field(0, ge=0)
    printer: str = Field("", max_length=60)


class Run(Record):
    """Parts that are printed together, and how."""

    name: str = Field("Run", min_length=1, max_length=80)
    pieces: tuple[RunPiece, ...] = Field((), max_length=200)
    held: tuple[Held, ...] = Field((), max_length=2000)
    done: tuple[PlateDone, ...] = Field((), max_length=400)
    notes: tuple[PlateNote, ...] = Field((), max_length=400)
    clearance: Length = Field(3.0, ge=0, le=60)
    edge: Length = Field(4.0, ge=0, le=60)
    one_after_another: bool = False
    school: SchoolName = "ends watched"
    goal: GoalName = "soonest"
    days: int = Field(14, ge=1, le=60)
