"""Questions about files: reading what comes from elsewhere, and writing what a finished job hands over."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import ClassVar

from knollside.core.job.ask import Answerer, Question
from knollside.core.job.file import Job
from knollside.core.job.questions.fits import Correct
from knollside.core.job.questions.part import Part, ReadMesh
from knollside.core.job.questions.plates import Plates
from knollside.core.job.questions.settling import Proved, prove_printed
from knollside.core.job.revising import in_place_of, moved_places
from knollside.core.job.slicedcheck import Plan, SlicedCheck, check_sliced
from knollside.core.material.cards import Material
from knollside.core.mesh.check import in_millimetres
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.load import Loaded
from knollside.core.model import DesignCase, Measurement, Recipe
from knollside.foreign.reading import read_job_file, read_mesh, read_photo, read_table, read_toolpath, read_whole
from knollside.report.export import SheetInputs, make_sheet, write_all, write_whole
from knollside.report.plates import WrittenPlates, write_plates
from knollside.report.story import Story, story_html, story_pdf
from knollside.store.copies import backup
from knollside.store.meshes import PackedMesh, pack
from knollside.store.whole import Whole, fill, whole_bytes
from knollside.store.workshop import Workshop

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class ReadIn:
    """A mesh from a file, packed as the workshop keeps it; of a revision, what ``moved`` bare places are called."""

    loaded: Loaded
    packed: PackedMesh
    moved: Mapping[Vec, str] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class LoadFile(Question[ReadIn]):
    """Read a mesh file, in the reading process."""

    path: Path
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> ReadIn:
        ask.tick(0.1, "reading the file")
        found = read_mesh(self.path, lambda: ask.tick(0.3, "reading the file"))
        ask.tick(0.8, "packing it")
        ask.meshes.put(found.mesh)
        return ReadIn(found, pack(found.mesh))


@dataclass(frozen=True, eq=False)
class LoadRevision(Question[ReadIn]):
    """Read a newer mesh of a part, put where the part was: turned or moved back, if it was drawn elsewhere, and said.
    Refuses one that fits in more than one way, or has nothing of the part."""

    path: Path
    before: Part
    places: tuple[Vec, ...]
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> ReadIn:
        ask.tick(0.1, "reading the file")
        found = read_mesh(self.path, lambda: ask.tick(0.2, "reading the file"))
        # Asked as the window will ask: where the mesh stays as it is, it is read once.
        now = ask(ReadMesh(ask.meshes.put(found.mesh)), 0.3, 0.8).facts
        before = ask(self.before)
        mesh, note = in_place_of(before, now)
        key = ask.meshes.put(mesh)
        moved, lost = dict[Vec, str](), tuple[str, ...]()
        if self.places:
            moved, lost = moved_places(before, ask(ReadMesh(key), 0.8, 0.9).facts, self.places)
        ask.tick(0.9, "packing it")
        return ReadIn(replace(found, mesh=mesh, notes=(*found.notes, *note, *lost)), pack(mesh), moved)


@dataclass(frozen=True, eq=False)
class WritePlates(Question[WrittenPlates]):
    """A 3MF and a page of each plate, in a folder. ``titles`` by the part's key."""

    folder: Path
    plates: Plates
    titles: tuple[tuple[str, str], ...]
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> WrittenPlates:
        laid = ask(self.plates, 0.0, 0.7)
        there = {p.item.part for plate in laid.plates for p in plate.placed}
        taken = {w.key: ask(w.taken) for w in self.plates.wanted if w.key in there}
        told = taken, dict(self.titles)
        return write_plates(self.folder, self.plates, laid, *told, lambda k: ask.tick(0.7 + 0.3 * k, "writing"))


@dataclass(frozen=True)
class JobIn:
    """A job file with its mesh in millimetres, packed."""

    name: str
    job: Job
    packed: PackedMesh


@dataclass(frozen=True, eq=False)
class LoadJob(Question[JobIn]):
    """Read a job file and the mesh it names, both in the reading process."""

    path: Path
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> JobIn:
        ask.tick(0.1, "reading the job")
        job = read_job_file(self.path, lambda: ask.tick(0.2, "reading the job"))
        beat = lambda: ask.tick(0.4, "reading its mesh")  # noqa: E731
        found = read_mesh(self.path.parent / job.mesh, beat, job.fingerprint)
        ask.tick(0.7, "packing it")
        mesh = in_millimetres(found.mesh, job.unit)
        ask.meshes.put(mesh)
        return JobIn(self.path.stem, job, pack(mesh))


@dataclass(frozen=True, eq=False)
class LoadPhoto(Question[tuple[bytes, bytes]]):
    """Read a photo, in the reading process: the picture made small, and its thumbnail."""

    path: Path
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> tuple[bytes, bytes]:
        ask.tick(0.2, "reading the photo")
        return read_photo(self.path, lambda: ask.tick(0.4, "reading the photo"))


@dataclass(frozen=True, eq=False)
class WriteStory(Question[Path]):
    """A part's story as a page, or as PDF where the path says so."""

    path: Path
    story: Story
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> Path:
        ask.tick(0.3, "writing the story")
        pdf = self.path.suffix.lower() == ".pdf"
        return write_whole(self.path, story_pdf(self.story) if pdf else story_html(self.story).encode())


@dataclass(frozen=True, eq=False)
class LoadTable(Question[tuple[Measurement, ...]]):
    """Read a table of readings, in the reading process."""

    path: Path
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> tuple[Measurement, ...]:
        return read_table(self.path, lambda: ask.tick(0.2, "reading the table"))


@dataclass(frozen=True, eq=False)
class CheckSliced(Question[SlicedCheck]):
    """A sliced file held against the plan; ``stamp`` (time, size) tells when it was written anew."""

    path: Path
    stamp: tuple[int, int]
    part: Part
    design_case: DesignCase
    recipe: Recipe
    card: Material
    direction: Vec
    weak: tuple[Vec, ...]
    cells: int

    def answer(self, ask: Answerer) -> SlicedCheck:
        moves = read_toolpath(self.path, lambda: ask.tick(0.1, "reading the file"))
        plan = Plan(ask(self.part, 0.1, 0.2), self.design_case, self.recipe, self.card, self.direction)
        ask.tick(0.2, "finding layers, walls and seams")

        def prove(recipe: Recipe, card: Material) -> Proved:
            return ask(prove_printed(self.part, self.design_case, recipe, card, self.direction, self.cells), 0.4, 1.0)

        return check_sliced(moves, self.path.name, plan, prove, self.weak)


@dataclass(frozen=True, eq=False)
class Export(Question[tuple[Path, ...]]):
    """Write 3MF, STL, HTML and PDF; ``correct`` None writes the part as drawn."""

    folder: Path
    stem: str
    part: Part
    correct: Correct | None
    sheet: SheetInputs
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> tuple[Path, ...]:
        part = ask(self.part, 0.0, 0.1)
        edited = ask(self.correct, 0.1, 0.3) if self.correct is not None else Edited(part.mesh, ())
        ask.tick(0.3, "writing the sheet")
        sheet = make_sheet(self.sheet, edited)
        ask.tick(0.6, "writing the mesh")
        return tuple(write_all(self.folder, self.stem, edited, self.sheet.direction, sheet, self.sheet.frame))


@dataclass(frozen=True, eq=False)
class WriteWhole(Question[Path]):
    """Write all of a workshop as it is now into one open file; it is read from a copy, which goes again."""

    workshop: Path
    target: Path
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> Path:
        ask.tick(0.1, "copying the workshop")
        with tempfile.TemporaryDirectory() as folder:
            copy = Path(folder) / "copy.sqlite"
            backup(self.workshop, copy)
            shop = Workshop(copy)
            try:
                ask.tick(0.4, "gathering everything")
                data = whole_bytes(shop)
            finally:
                shop.close()
        ask.tick(0.9, "writing it")
        return write_whole(self.target, data)


@dataclass(frozen=True, eq=False)
class LoadWhole(Question[Path]):
    """Read a whole workshop in the reading process, and make a workshop file of it beside the open one."""

    path: Path
    beside: Path
    kept: ClassVar[int] = 0

    def answer(self, ask: Answerer) -> Path:
        ask.tick(0.1, "reading the workshop")
        text, raw = read_whole(self.path, lambda: ask.tick(0.3, "reading the workshop"))
        ask.tick(0.7, "putting it together")
        made = self.beside.with_name(f".taken-in-{self.beside.name}")
        made.unlink(missing_ok=True)
        fill(made, Whole.model_validate_json(text), raw)
        return made


def stamp_of(path: Path) -> tuple[int, int]:
    """What tells a file from the same file written anew; nothing where it is not there."""
    try:
        state = path.stat()
    except OSError:
        return (0, 0)
    return (state.st_mtime_ns, state.st_size)
