"""The frozen records every room speaks in.

Records that a person's edit produces (duty, recipe, mates, measurements) are
pydantic models, so that reading a file checks them with a message naming the
field. Records that carry arrays are frozen dataclasses. Inside units: mm, N,
MPa, g, s, degrees C; the part's own frame unless said otherwise.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator

from knollside.core import units

Array = NDArray[Any]  # float64 unless a name says otherwise
Ints = NDArray[Any]  # whole numbers, any width


class Refused(Exception):
    """A computation declines to answer; the message says why and what would help."""


class Cancelled(Exception):
    """The person stopped a computation."""


def _quantity(kind: str) -> BeforeValidator:
    def read(value: Any) -> Any:
        return units.parse(value, kind) if isinstance(value, (str, int, float)) else value

    return BeforeValidator(read)


Length = Annotated[float, _quantity("length")]
Force = Annotated[float, _quantity("force")]
Degrees = Annotated[float, _quantity("temperature"), Field(ge=-60, le=400)]
Stress = Annotated[float, _quantity("stress")]
Share = Annotated[float, _quantity("share"), Field(ge=0, le=1)]
Vec3 = tuple[Length, Length, Length]
ForceVec = tuple[Force, Force, Force]


class Record(BaseModel):
    """Base of the checked records: frozen, no unknown fields, no NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class Purpose(StrEnum):
    FIT_CHECK = "fit check"
    WORKING = "working part"
    SHOW = "show piece"


class Danger(StrEnum):
    """If it lets go, who is hurt? Asked once; sets the needed reserve (METHODS 1.6)."""

    UNASKED = "not asked"
    NOBODY = "no one"
    BELOW = "someone may stand below"
    PERSON = "it carries a person, or is part of a vehicle, mains, gas or medical"


class Placed(Record):
    """Somewhere on the part: a feature's id, or the surface point nearest to ``at``."""

    feature: str | None = None
    at: Vec3 | None = None

    @model_validator(mode="after")
    def _one(self) -> Placed:
        if (self.feature is None) == (self.at is None):
            raise ValueError("give either a feature or a point 'at', not both and not neither")
        return self


HeldKind = Literal["fixed", "sliding", "screw", "pin", "edge"]
LoadKind = Literal["force", "weight", "torque", "pressure", "bearing", "deflection"]
GRAVITY = 9.80665  # m/s2, standard (CGPM 1901)


class Held(Placed):
    """A held place.

    *fixed* cannot move; *sliding* cannot move along its normal; *screw* is clamped over the ring under a
    screw's head (``head_mm`` across, twice the hole where not given) around a hole; *pin* is carried by a
    pin in the hole, which pushes but never pulls; *edge* is clamped along the sharp edge nearest to it.
    """

    kind: HeldKind = "fixed"
    head_mm: Length | None = Field(None, gt=0, le=200)


class Load(Placed):
    """Something that pushes at a place; which number counts depends on ``kind``.

    *force*: ``force_N`` spread over the face; *weight*: ``weight_g`` hanging, down being -Z of the part as
    drawn; *torque*: ``torque_Nmm`` about the feature's own axis, or ``axis`` (right-hand rule); *pressure*:
    ``pressure_MPa`` against the face; *bearing*: ``force_N`` from a pin in a hole, as the cosine of the angle;
    *deflection*: the face is moved by ``deflection_mm``, and the verdict is one of strain.
    """

    kind: LoadKind = "force"
    force_N: ForceVec = (0.0, 0.0, 0.0)
    weight_g: Annotated[float, _quantity("mass")] | None = Field(None, ge=0, le=1e7)
    torque_Nmm: Annotated[float, _quantity("torque")] | None = None
    pressure_MPa: Stress | None = None
    deflection_mm: Vec3 | None = None
    axis: tuple[float, float, float] | None = None

    @model_validator(mode="after")
    def _whole(self) -> Load:
        wanted = {
            "weight": self.weight_g,
            "torque": self.torque_Nmm,
            "pressure": self.pressure_MPa,
            "deflection": self.deflection_mm,
        }
        if self.kind in wanted and wanted[self.kind] is None:
            unit = {"weight": "weight_g", "torque": "torque_Nmm", "pressure": "pressure_MPa"}
            raise ValueError(f"a load of kind '{self.kind}' needs '{unit.get(self.kind, 'deflection_mm')}'")
        return self

    @property
    def vector(self) -> tuple[float, float, float]:
        """The force in the part's frame, N; nothing for torque, pressure and deflection."""
        if self.kind == "weight":
            return (0.0, 0.0, -(self.weight_g or 0.0) / 1000 * GRAVITY)
        return self.force_N if self.kind in ("force", "bearing") else (0.0, 0.0, 0.0)

    @property
    def newtons(self) -> float:
        return float(np.linalg.norm(self.vector))

    @property
    def nothing(self) -> bool:
        """Whether it pushes with nothing at all."""
        if self.kind == "deflection":
            return not np.any(self.deflection_mm)
        return {"torque": self.torque_Nmm, "pressure": self.pressure_MPa}.get(self.kind, self.newtons) == 0

    def times(self, factor: float) -> Load:
        """The same load, ``factor`` times as strong."""
        change: dict[str, Any] = {"force_N": tuple(factor * c for c in self.force_N)}
        for key in ("weight_g", "torque_Nmm", "pressure_MPa"):
            if getattr(self, key) is not None:
                change[key] = factor * getattr(self, key)
        if self.deflection_mm is not None:
            change["deflection_mm"] = tuple(factor * c for c in self.deflection_mm)
        return self.model_copy(update=change)


class LoadCase(Record):
    """Loads that act at the same time, and how they act; cases act in turn.

    ``cycles`` says how often a repeated one comes (about a thousand where not said).
    """

    name: str = Field(max_length=80)
    loads: tuple[Load, ...] = Field(max_length=40)
    repeated: bool = False
    permanent: bool = False
    knocked: bool = False
    cycles: float | None = Field(None, ge=1, le=1e9)

    @property
    def bends(self) -> bool:
        """Whether it moves something by a stated way, so that strain is judged."""
        return any(ld.kind == "deflection" for ld in self.loads)


class Surroundings(Record):
    """Where the part lives."""

    temperature_c: Degrees = 25.0
    sun: bool = False
    wet: bool = False
    chemicals: bool = False


class Recipe(Record):
    """What to set in the program that makes the toolpath."""

    layer_height: Length = Field(0.2, ge=0.04, le=1.2)
    line_width: Length = Field(0.45, ge=0.1, le=2.0)
    walls: int = Field(4, ge=1, le=20)
    infill: Share = 0.3
    pattern: Literal["grid", "gyroid", "triangles", "honeycomb", "cubic", "lines"] = "grid"
    tops: int = Field(5, ge=0, le=30)
    bottoms: int = Field(4, ge=0, le=30)
    nozzle_c: Degrees | None = None
    fan: Share | None = None


class Mate(Record):
    """A feature and what goes with it: hardware by name, a printed ``partner`` of the same part, or a thing of its
    own size with its sleeve (mm a side) and tolerance (mm, how much larger it may be).

    ``worn`` is what was logged of its clearance with use, (cycles, mm).
    ``side`` says which of two printed partners is corrected; ``window`` is a gap window of the person's own; ``shape``
    is how its roof is made to print where it lies, ``cover`` its lower end where it stands.
    """

    feature: str
    hardware: str = Field("as drawn", max_length=40)
    fit: Literal[
        "close",
        "medium",
        "coarse",
        "thread",
        "melt in",
        "press",
        "snug",
        "slide",
        "free",
        "print in place",
        "as drawn",
    ] = "medium"
    apply: bool = True
    partner: str | None = Field(None, max_length=80)
    side: Literal["hole", "pin", "both"] = "hole"
    size_mm: Length | None = Field(None, gt=0, le=400)
    sleeve_mm: Length = Field(0.0, ge=0, le=20)
    tolerance_mm: Length = Field(0.0, ge=0, le=5)
    window: tuple[Length, Length] | None = None
    finish: Literal["none", "primer", "paint", "primer and paint", "sanded"] = "none"
    finish_mm: Length | None = Field(None, ge=-1, le=1)
    shape: Literal["round", "sag", "teardrop", "flat top"] = "round"
    cover: Literal["none", "skin", "steps"] = "none"
    worn: tuple[tuple[Annotated[float, Field(ge=0, le=1e7)], Length], ...] = Field((), max_length=60)

    @model_validator(mode="after")
    def _ordered(self) -> Mate:
        if self.window is not None and not -3 <= self.window[0] < self.window[1] <= 5:
            raise ValueError("a window runs from its least to its most gap, between -3 and 5 mm")
        return self


class FaceMark(StrEnum):
    """What a person says of a feature on the stage."""

    HELD = "held"
    PUSHED = "pushed"
    MATES = "mates"
    SHOWN = "shown"
    HIDDEN = "hidden"
    FLEXES = "flexes"


class Duty(Record):
    """What the part must do.

    ``treads`` are the person's own factors of the strength stair, by its names; ``critical_mm`` the distance
    stress is averaged over at a peak (METHODS 1.2); ``weights`` the person's own in ordering the ways.
    """

    purpose: Purpose = Purpose.WORKING
    held: tuple[Held, ...] = Field((), max_length=60)
    cases: tuple[LoadCase, ...] = Field((), max_length=30)
    surroundings: Surroundings = Surroundings()
    danger: Danger = Danger.UNASKED
    marks: dict[str, FaceMark] = Field(default_factory=dict)
    treads: dict[str, Annotated[float, Field(gt=0, le=1.5)]] = Field(default_factory=dict)
    critical_mm: Length = Field(0.5, ge=0.1, le=2.0)
    weights: dict[Literal["strength", "overhang", "height", "contact"], Share] = Field(default_factory=dict)


class Holding(Record):
    """What holds up the places that rest on nothing, in one way to lie.

    ``school``: everything below the limit, only where it pays, or nothing; ``by_hand`` overrules it region by
    region. ``density`` share of a support's body, ``interface`` solid layers under the part, ``gap_mm`` left
    between them.
    """

    school: Literal["all", "pays", "none"] = "pays"
    style: Literal["plain", "tree"] = "plain"
    density: float = Field(0.15, ge=0.02, le=1.0)
    gap_mm: float = Field(0.2, ge=0.0, le=2.0)
    interface: int = Field(2, ge=0, le=10)
    by_hand: dict[Annotated[str, Field(max_length=80)], bool] = Field(default_factory=dict, max_length=200)


class Way(Record):
    """A way to lie: the build direction, a unit vector in the part's frame, and what holds it up there."""

    direction: tuple[float, float, float]
    reason: str = ""
    holding: Holding = Holding()

    @model_validator(mode="after")
    def _unit(self) -> Way:
        length = float(np.linalg.norm(self.direction))
        if length < 1e-9:
            raise ValueError("a build direction needs a length")
        if abs(length - 1) > 1e-9:
            x, y, z = (float(c) / length for c in self.direction)
            object.__setattr__(self, "direction", (x, y, z))
        return self


class Measurement(Record):
    """One calliper reading of one printed feature, both sizes as diameters (or widths) in mm.

    *foot*: the width of a first layer, whose flare it tells. "plumb" is a lying hole from top to bottom. ``printed``
    is the middle of ``repeats`` readings of the same place; nozzle and layer height are those of the print.
    """

    kind: Literal["hole", "pin", "foot"]
    axis: Literal["upright", "lying", "plumb"]
    drawn: Length = Field(gt=0, le=400)
    printed: Length = Field(gt=0, le=400)
    source: Literal["typed", "calliper", "simulated", "imported"] = "typed"
    left_out: bool = False
    nozzle_mm: Length | None = Field(None, gt=0, le=3)
    layer_height: Length | None = Field(None, gt=0, le=2)
    bar: str = Field("", max_length=60)
    repeats: int = Field(1, ge=1, le=100)


class GapTrial(Record):
    """Two bodies printed with a drawn gap a side, mm, and whether they came free of each other."""

    direction: Literal["in the layer", "across it"]
    drawn: Length = Field(gt=0, le=5)
    freed: bool
    layer_height: Length | None = Field(None, gt=0, le=2)
    source: Literal["typed", "simulated", "imported"] = "typed"


class BreakTest(Record):
    """A part or bar broken on purpose, or in use."""

    mode: Literal["along a layer", "across the layers", "did not break"]
    ratio: float | None = Field(None, gt=0.02, le=1.5)  # across over along, from a pair of pull bars
    load_N: Force | None = None
    predicted_N: Force | None = None
    place: str = Field("", max_length=200)


@dataclass(frozen=True)
class Range:
    """A value with its doubt: nine in ten lie between ``low`` and ``high``."""

    value: float
    low: float
    high: float
    source: str = "typical"

    def times(self, factor: float) -> Range:
        return Range(self.value * factor, self.low * factor, self.high * factor, self.source)

    def straddles(self, limit: float) -> bool:
        return self.low < limit <= self.high


@dataclass(frozen=True)
class Mesh:
    """A triangle mesh: ``vertices`` (n, 3) float64 mm, ``faces`` (m, 3) int64."""

    vertices: Array
    faces: Ints

    @property
    def triangles(self) -> Array:
        """Corner points, (m, 3, 3)."""
        return self.vertices[self.faces]

    @property
    def crosses(self) -> Array:
        """Outward normals times twice the triangle area, (m, 3)."""
        t = self.triangles
        return np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])

    @property
    def areas(self) -> Array:
        return np.asarray(np.linalg.norm(self.crosses, axis=1) / 2)

    @property
    def normals(self) -> Array:
        c = self.crosses
        n = np.linalg.norm(c, axis=1, keepdims=True)
        return np.divide(c, n, out=np.zeros_like(c), where=n > 0)

    @property
    def bounds(self) -> Array:
        """Corners of the bounding box, (2, 3)."""
        used = self.vertices[np.unique(self.faces)] if len(self.faces) else self.vertices
        return np.array([used.min(axis=0), used.max(axis=0)])

    @property
    def size(self) -> Array:
        return self.bounds[1] - self.bounds[0]

    @property
    def volume(self) -> float:
        """Signed volume by the divergence theorem; exact for a closed mesh."""
        t = self.triangles - self.vertices.mean(axis=0)
        return float(np.einsum("ij,ij->", t[:, 0], np.cross(t[:, 1], t[:, 2])) / 6)

    def turned(self, rotation: Array) -> Mesh:
        return Mesh(self.vertices @ rotation.T, self.faces)

    def fingerprint(self) -> str:
        digest = hashlib.sha256(np.ascontiguousarray(self.vertices).tobytes())
        digest.update(np.ascontiguousarray(self.faces).tobytes())
        return digest.hexdigest()


@dataclass(frozen=True)
class Feature:
    """A thing on the part a person would name.

    ``centre`` is the middle of the axis, ``axis`` a unit vector (the outward
    normal for a flat), ``faces`` the triangle numbers it is made of. ``readings``
    are a polygon's two diameters, with its corners or its flats on the circle.
    ``role`` and ``beside`` say what it is to others (a counterbore of hole-1).
    """

    id: str
    kind: str
    centre: tuple[float, float, float]
    axis: tuple[float, float, float]
    faces: Ints = field(repr=False)
    area: float = 0.0
    diameter: float | None = None
    length: float | None = None
    through: bool | None = None
    facets: int | None = None
    body: int = 0
    readings: tuple[float, float] | None = None
    role: str = ""
    beside: tuple[str, ...] = ()
    pitch: float | None = None
    inside: bool | None = None

    @property
    def title(self) -> str:
        number = self.id.rsplit("-", 1)[-1]
        name = self.role if self.role in ("counterbore", "countersink") else self.kind
        return f"{name.capitalize()} {number}"

    @property
    def relation(self) -> str:
        """What it is to others, in words; nothing where it stands alone."""
        if not self.role or not self.beside:
            return ""
        other = self.beside[0].replace("-", " ")
        return f"crosses {other}" if self.role == "crossing" else f"{self.role} of {other}"

    @property
    def size_text(self) -> str:
        if self.kind == "hexagon":
            return f"{self.diameter:.2f} mm across flats"
        if self.kind == "thread":
            return f"{self.diameter:.2f} mm, {self.pitch:.2f} mm a turn, {'inside' if self.inside else 'outside'}"
        if self.diameter is not None:
            deep = "" if self.length is None else f", {self.length:.1f} mm long"
            end = (
                ""
                if self.through is None or self.kind not in ("hole", "slot")
                else (", through" if self.through else ", blind")
            )
            return f"{self.diameter:.2f} mm across{deep}{end}"
        return f"{self.area / 100:.1f} cm² "


def square_to(axis: Array | tuple[float, float, float]) -> tuple[Array, Array]:
    """Two unit vectors square to a unit vector and to each other, right-handed with it."""
    n = np.asarray(axis, float)
    u = np.cross(n, [1.0, 0, 0] if abs(n[0]) < 0.9 else [0, 1.0, 0])
    u = u / np.linalg.norm(u)
    return u, np.cross(n, u)


def rotation_to_up(direction: Array | tuple[float, float, float]) -> Array:
    """The 3x3 rotation that turns ``direction`` to +Z by the shortest way."""
    n = np.asarray(direction, float) / np.linalg.norm(direction)
    z = np.array([0.0, 0.0, 1.0])
    c = float(n @ z)
    if c < -1 + 1e-12:
        return np.diag([1.0, -1.0, -1.0])
    v = np.cross(n, z)
    k = np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])
    return np.eye(3) + k + k @ k / (1 + c)
