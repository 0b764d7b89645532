"""A job file opened with its part, and its ways rated as the window rates them."""

from __future__ import annotations

import argparse
from dataclasses import dataclass, replace
from pathlib import Path

from knollside.core.job import answer
from knollside.core.job.answer import PartFacts
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import (
    ask_orientations,
    ask_strength,
    part_of,
    stated_of,
)
from knollside.core.job.file import Job
from knollside.core.job.questions.detail import Why
from knollside.core.job.questions.part import Part
from knollside.core.job.questions.settling import Settle, unsettled
from knollside.core.job.questions.strength import Rank, StrengthOf
from knollside.core.job.stated import Stated
from knollside.core.lay.orientations import (
    NET_DIRECTIONS,
    Ranking,
    RatedOrientation,
    held_to,
    in_own_order,
    listed_orientation,
)
from knollside.core.mesh.check import in_millimetres
from knollside.core.mesh.load import Loaded
from knollside.core.mesh.repair import repair
from knollside.core.model import Mesh, Orientation, Refused
from knollside.core.strength.discretisation import GridDoubt
from knollside.core.strength.stability import Stability
from knollside.core.strength.strength import Strength
from knollside.foreign.reading import read_job_file, read_mesh

Vec = tuple[float, float, float]


@dataclass(frozen=True)
class OpenJob:
    """A job with its part, what is stated, and the answerer that holds its mesh."""

    job: Job
    stated: Stated
    part: Part
    facts: PartFacts
    ask: Answerer


def mesh_of(args: argparse.Namespace) -> tuple[Loaded, Mesh]:
    loaded = read_mesh(args.path)
    return loaded, in_millimetres(loaded.mesh, args.unit)


def open_job(args: argparse.Namespace) -> OpenJob:
    return opened(args.path, Answerer(), getattr(args, "mend", False))


def opened(path: Path, ask: Answerer, mend: bool = False) -> OpenJob:
    """A job file with its part, whose mesh ``ask`` then holds."""
    job = read_job_file(path)
    of = Path(job.mesh)
    mesh = read_mesh(of if of.is_absolute() else path.parent / of, exactly=job.fingerprint).mesh
    mesh = in_millimetres(mesh, job.unit)
    if mend:
        mesh = repair(mesh).mesh
    part = part_of(job, ask.meshes.put(mesh))
    return OpenJob(job, stated_of(job), part, ask(part), ask)


@dataclass(frozen=True)
class Rated:
    """A job's strength with its ways, on the grid they are told of; ``grid`` None where that one was asked for as it
    is, and no other was tried."""

    question: StrengthOf
    strength: Strength
    ranking: Ranking
    grid: GridDoubt | None
    unseen: float
    moves_far: str
    stability: Stability | None = None

    def doubt(self, direction: Vec) -> float:
        return self.unseen if self.grid is None else self.grid.share(direction)


def strength_asked(o: OpenJob, args: argparse.Namespace, probes: tuple[Vec, ...] = ()) -> StrengthOf:
    """The job's question of strength, on about as many cells as the window takes or on those asked for."""
    return ask_strength(o.part, o.stated, args.cells or answer.CELLS, None, bool(args.cells), probes)


def rated(o: OpenJob, args: argparse.Namespace) -> Rated:
    """Strength and ranking for the commands that rate ways."""
    directions = getattr(args, "directions", None)
    if args.cells is not None and not 100 <= args.cells <= 2_000_000:
        raise Refused("--cells takes 100 to 2,000,000.")
    if directions is not None and not 10 <= directions <= 100_000:
        raise Refused("--directions takes 10 to 100,000.")
    probes = tuple(getattr(args, "probe", ()))
    question = strength_asked(o, args, probes)
    strength = o.ask(question)
    if strength.withheld:
        raise Refused(strength.withheld)
    return settled_ways(
        o, question, ask_orientations(question, o.stated, directions or NET_DIRECTIONS), bool(args.cells)
    )


def settled_ways(o: OpenJob, question: StrengthOf, orientations: Rank, as_it_is: bool) -> Rated:
    """The ways as the window tells them: checked on another grid, unless one was asked for, in the person's order."""
    if as_it_is:
        ranked, grid, stability = unsettled(o.ask(orientations)), None, None
        unseen = ranked.unseen
    else:
        settled = o.ask(Settle(orientations))
        ranked, grid, stability = settled.ranked, settled.grid, settled.stability
        question, unseen = question.upon(grid), grid.change
    ranking = in_own_order(ranked.ranking, o.stated.design_case.weights)
    return Rated(question, ranked.strength, ranking, grid, unseen, ranked.moves_far, stability)


def chosen(o: OpenJob, r: Rated, args: argparse.Namespace) -> RatedOrientation:
    """The way of the list that was asked for, else the job's own, else the first."""
    if args.way is not None and not 1 <= args.way <= len(r.ranking.orientations):
        raise Refused(f"--way takes 1 to {len(r.ranking.orientations)}, the numbers of rank's list.")
    if args.way is None and o.stated.orientation is not None:
        up = o.stated.direction
        listed = listed_orientation(r.ranking.orientations, up)
        if listed is not None:
            return listed
        asked = o.ask(Why(r.question, o.stated.printer.bed_mm, up, r.doubt(up)))
        return held_to(o.facts.mesh, o.facts.features, asked, r.stability)
    return r.ranking.orientations[(args.way or 1) - 1]


def lying(stated: Stated, orientation: RatedOrientation) -> Stated:
    """What is stated, lying a way that was not."""
    return replace(stated, orientation=Orientation(direction=orientation.direction))
