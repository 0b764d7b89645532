"""What a mesh is, what its features are called, and what it looks like."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from knollside.core.job.answer import PartFacts, read_part
from knollside.core.job.ask import Answerer, MeshKey, Question
from knollside.core.mesh.appearance import Appearance, appearance_of
from knollside.core.mesh.facemap import Motion
from knollside.core.mesh.features import feature_of_face
from knollside.core.mesh.identity import Names, first_names, follow, named, with_patch
from knollside.core.mesh.recognition.pointed import feature_pointed_at
from knollside.core.mesh.repair import Repair, repair
from knollside.core.model import Feature, Mesh, Refused

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class MeshFacts:
    """A mesh checked, its features as they were found (numbered, not named), and what a picture of it needs."""

    facts: PartFacts
    look: Appearance


@dataclass(frozen=True, eq=False)
class ReadMesh(Question[MeshFacts]):
    """Check a mesh and find what is on it."""

    mesh: MeshKey
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> MeshFacts:
        facts = read_part(ask.mesh(self.mesh), tick=ask.tick)
        ask.tick(0.8, "drawing it")
        return MeshFacts(facts, appearance_of(facts.mesh))


@dataclass(frozen=True, eq=False)
class Part(Question[PartFacts]):
    """A mesh with its features under their lasting names."""

    mesh: MeshKey
    names: Names
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> PartFacts:
        return with_names(ask(ReadMesh(self.mesh)).facts, self.names)


def with_names(found: PartFacts, names: Names) -> PartFacts:
    """Facts of a mesh with its features under lasting names; those of ``names`` that it has not are ``lost``."""
    given = named(found.mesh, found.features, names)
    return PartFacts(found.mesh, found.soundness, given.features, given.names.lost)


@dataclass(frozen=True, eq=False)
class FollowNames(Question[Names]):
    """Names carried from one mesh of a part to the next; ``motion`` None where it was drawn anew."""

    before: Part
    mesh: MeshKey
    motion: Motion | None
    kept: ClassVar[int] = 2

    def answer(self, ask: Answerer) -> Names:
        old, found = ask(self.before, 0.0, 0.4), ask(ReadMesh(self.mesh), 0.4, 0.9).facts
        ask.tick(0.9, "following what was said of it")
        before = named(old.mesh, ask(ReadMesh(self.before.mesh)).facts.features, self.before.names)
        made = follow(old.mesh, before, found.mesh, found.features, self.mesh.fingerprint, self.motion)
        return made.names


def names_of_new(mesh: MeshKey, found: PartFacts) -> Names:
    """Names of a mesh that comes without any."""
    return first_names(mesh.fingerprint, found.features)


def naming(names: Names, part: PartFacts, wanted: set[str]) -> Names:
    """Names with those unnamed patches added that are spoken of for the first time."""
    for name in sorted(wanted):
        kind, _, number = name.rpartition("-")
        if kind == "patch" and number.isdigit() and names.entry(name) is None and int(number) < len(part.mesh.faces):
            names = with_patch(names, feature_of_face(part.mesh, part.features, int(number)))
    return names


def feature_named(part: PartFacts, name: str) -> Feature | None:
    """A feature by its id, or the unnamed patch that was just pointed at."""
    found = part.feature(name)
    kind, _, number = name.rpartition("-")
    if found is None and kind == "patch" and number.isdigit() and int(number) < len(part.mesh.faces):
        if all(e.id != name for e in part.lost):
            return feature_of_face(part.mesh, part.features, int(number))
    return found


@dataclass(frozen=True, eq=False)
class PointedAt(Question[Feature]):
    """What a person says is at some places of the part's surface, fitted there; it has no id yet."""

    part: Part
    kind: str
    points: tuple[Vec, ...]
    kept: ClassVar[int] = 1

    def answer(self, ask: Answerer) -> Feature:
        part = ask(self.part, 0.0, 0.3)
        ask.tick(0.3, "fitting it")
        made = feature_pointed_at(part.mesh, self.kind, self.points)
        same = next((f for f in part.features if f.kind == made.kind and _same_walls(part.mesh, f, made)), None)
        if same is not None:
            raise Refused(f"That is {same.title.lower()} already, {same.size_text}.")
        return made


def _same_walls(mesh: Mesh, f: Feature, made: Feature) -> bool:
    """Whether two features share most of the smaller one's surface."""
    areas, both = mesh.areas, np.intersect1d(f.faces, made.faces)
    return float(areas[both].sum()) > 0.6 * min(float(areas[f.faces].sum()), float(areas[made.faces].sum()))


@dataclass(frozen=True, eq=False)
class Mend(Question[Repair]):
    """A mesh mended, with an account of it; with ``unite``, its overlapping bodies made one."""

    mesh: MeshKey
    unite: bool = False
    kept: ClassVar[int] = 1

    def answer(self, ask: Answerer) -> Repair:
        ask.tick(0.2, "mending")
        return repair(ask.mesh(self.mesh), self.unite)
