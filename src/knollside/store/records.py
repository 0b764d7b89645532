"""What goes into the workshop and comes out of it: records, no rows."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum

from knollside.core.job.ask import MeshKey
from knollside.core.job.file import Printed
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.identity import Names
from knollside.core.model import BreakTest, DesignCase, Mate, Orientation, Recipe
from knollside.core.model.prints import PrintDetails


class Kind(StrEnum):
    """The documents of a part, by the words they are stored under."""

    DESIGN_CASE = "duty"
    RECIPE = "recipe"
    ORIENTATION = "way"
    MATES = "mates"
    MATERIAL = "material"

    @property
    def field(self) -> str:
        """What a part's records call it."""
        return self.name.lower()


@dataclass(frozen=True)
class PartName:
    id: int
    job_id: int
    job: str
    name: str


@dataclass(frozen=True)
class Spool:
    id: int
    name: str
    material: str
    grams_left: float
    dry: bool


@dataclass(frozen=True)
class Revision:
    """One state of a part's mesh: its number, what it was made for, the mesh, the names of its features (None until
    they are known), and how far its edit can have moved things (None: drawn anew)."""

    number: int
    note: str
    mesh_hash: str
    names: Names | None
    motion: Motion | None

    @property
    def mesh_key(self) -> MeshKey:
        return MeshKey(self.mesh_hash)


@dataclass(frozen=True)
class PartDoc:
    """A part as stored: every edited record, its newest revision and the one ``before`` it. ``troubles`` are
    sentences of what could not be read and was set aside."""

    id: int
    job: str
    name: str
    newest: Revision
    before: Revision | None
    design_case: DesignCase
    recipe: Recipe
    orientation: Orientation | None
    mates: tuple[Mate, ...]
    material: str
    printer_id: int | None
    spool_id: int | None
    troubles: tuple[str, ...] = field(default=())

    @property
    def revision(self) -> int:
        return self.newest.number

    @property
    def revision_note(self) -> str:
        return self.newest.note

    @property
    def mesh_hash(self) -> str:
        return self.newest.mesh_hash


@dataclass(frozen=True)
class PrintRecord:
    id: int
    part_id: int | None
    printer_id: int
    material: str
    made: datetime
    estimate_hours: float | None
    actual_hours: float | None
    outcome: str
    broke: BreakTest | None
    details: PrintDetails | None = None

    @property
    def printed(self) -> Printed:
        """What a job file says of it, and all that answers rest on."""
        hours = self.estimate_hours, self.actual_hours
        return Printed(
            material=self.material,
            made=self.made,
            estimate_hours=hours[0],
            actual_hours=hours[1],
            outcome=self.outcome,
            broke=self.broke,
            details=self.details,
        )


@dataclass(frozen=True)
class Photo:
    """A picture of a print, and a small one of it, as JPEG."""

    id: int
    print_id: int
    picture: bytes
    thumb: bytes


@dataclass(frozen=True)
class SetAside:
    """Something that could not be read, as it was."""

    what: str
    why: str
    body: str
    noticed: datetime
