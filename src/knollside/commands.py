"""What each command answers: the questions the window asks, of a job file, as plain values."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from knollside.core.job import answer
from knollside.core.job.answer import PartFacts, Strength
from knollside.core.job.ask import Answerer
from knollside.core.job.asked import (
    ask_board,
    ask_corrected,
    ask_fits,
    ask_proof,
    ask_strength,
    ask_ways,
    part_of,
    stated_of,
)
from knollside.core.job.file import Job
from knollside.core.job.questions.part import Part, in_millimetres
from knollside.core.job.questions.strength import (
    Detail,
    Proved,
    Rank,
    Settle,
    StrengthOf,
    Why,
    prove_printed,
    unsettled,
)
from knollside.core.job.slicedcheck import check_sliced
from knollside.core.job.stated import Stated
from knollside.core.lay.ways import NET_DIRECTIONS, Ranking, RatedWay, in_own_order, listed_way
from knollside.core.material.cards import Material
from knollside.core.mesh.check import UNIT_TO_MM, check
from knollside.core.mesh.features import find_features
from knollside.core.mesh.load import Loaded
from knollside.core.model import Array, Mesh, Range, Recipe, Refused, Way
from knollside.core.recipe.board import Dot
from knollside.core.strength.discretisation import UNCHECKED, GridDoubt, solve_layered
from knollside.core.strength.field import StressField
from knollside.foreign.reading import read_job_file, read_mesh, read_toolpath

Said = dict[str, Any]
Vec = tuple[float, float, float]


@dataclass(frozen=True)
class Opened:
    """A job with its part, what is stated, and the answerer that holds its mesh."""

    job: Job
    stated: Stated
    part: Part
    facts: PartFacts
    ask: Answerer


def _mesh(args: argparse.Namespace) -> tuple[Loaded, Mesh]:
    loaded = read_mesh(args.path)
    return loaded, in_millimetres(loaded.mesh, UNIT_TO_MM[args.unit]) if args.unit != "mm" else loaded.mesh


def _check(args: argparse.Namespace) -> Said:
    loaded, mesh = _mesh(args)
    s = check(mesh)
    return {
        "closed": s.closed,
        "bodies": s.bodies,
        "triangles": s.triangles,
        "volume_mm3": s.volume_mm3,
        "size_mm": list(s.size_mm),
        "problems": [{"kind": p.kind, "count": p.count, "message": p.message} for p in s.problems],
        "unit_suspicion": s.unit_suspicion,
        "notes": [*loaded.notes, *s.notes],
    }


def _features(args: argparse.Namespace) -> Said:
    _, mesh = _mesh(args)
    return {
        "features": [
            {
                "id": f.id,
                "kind": f.kind,
                "diameter_mm": f.diameter,
                "centre_mm": list(f.centre),
                "axis": list(f.axis),
                "length_mm": f.length,
                "through": f.through,
                "facets": f.facets,
                "area_mm2": f.area,
                "body": f.body,
            }
            for f in find_features(mesh)
        ]
    }


def _open(args: argparse.Namespace) -> Opened:
    job = read_job_file(args.path)
    path = Path(job.mesh)
    mesh = read_mesh(path if path.is_absolute() else args.path.parent / path, exactly=job.fingerprint).mesh
    if job.unit != "mm":
        mesh = in_millimetres(mesh, UNIT_TO_MM[job.unit])
    ask = Answerer()
    part = part_of(job, ask.meshes.put(mesh))
    return Opened(job, stated_of(job), part, ask(part), ask)


@dataclass(frozen=True)
class Rated:
    """A job's strength with its ways, on the grid they are told of; ``grid`` None where that one was asked for as it
    is, and no other was tried."""

    question: StrengthOf
    strength: Strength
    ranking: Ranking
    grid: GridDoubt | None

    def doubt(self, direction: Vec) -> float:
        return UNCHECKED if self.grid is None else self.grid.share(direction)


def _asked(o: Opened, args: argparse.Namespace, probes: tuple[Vec, ...] = ()) -> StrengthOf:
    """The job's question of strength, on about as many cells as the window takes or on those asked for."""
    return ask_strength(o.part, o.stated, args.cells or answer.CELLS, None, bool(args.cells), probes)


def _rated(o: Opened, args: argparse.Namespace) -> Rated:
    """Strength and ranking for the commands that rate ways."""
    directions = getattr(args, "directions", None)
    if args.cells is not None and not 100 <= args.cells <= 2_000_000:
        raise Refused("--cells takes 100 to 2,000,000.")
    if directions is not None and not 10 <= directions <= 100_000:
        raise Refused("--directions takes 10 to 100,000.")
    probes = tuple(getattr(args, "probe", ()))
    question = _asked(o, args, probes)
    strength = o.ask(question)
    if strength.withheld:
        raise Refused(strength.withheld)
    return _settled(o, question, ask_ways(question, o.stated, directions or NET_DIRECTIONS), bool(args.cells))


def _settled(o: Opened, question: StrengthOf, ways: Rank, as_it_is: bool) -> Rated:
    """The ways as the window tells them: checked on another grid, unless one was asked for, in the person's order."""
    if as_it_is:
        laying, grid = unsettled(o.ask(ways)), None
    else:
        settled = o.ask(Settle(ways))
        laying, grid = settled.laying, settled.grid
        question = question if grid.cell_mm is None else question.on(grid.cell_mm)
    return Rated(question, laying.strength, in_own_order(laying.ranking, o.stated.duty.weights), grid)


def _range(r: Range) -> Said:
    return {"value": r.value, "low": r.low, "high": r.high}


def _way(w: RatedWay) -> Said:
    return {
        "direction": list(w.direction),
        "reserve": _range(w.reserve),
        "mode": w.mode,
        "place_mm": list(w.place),
        "place": w.place_name,
        "contact_mm2": w.footing.contact,
        "overhang_mm2": w.overhang,
        "height_mm": w.footing.height,
        "layers": w.footing.layers,
        "fits": w.footing.fits,
        "stands": w.footing.stands,
        "holds": w.holds,
        "title": w.title,
        "reason": w.reason,
        "gives_up": w.gives_up,
    }


def _quality(r: Rated) -> Said:
    s, g = r.strength, r.grid
    checked = g is not None and not g.assumed
    return {
        "grid": {
            "checked": checked,
            "change": g.change if g is not None else UNCHECKED,
            "other_cells": g.other_cells if g is not None else 0,
            "why_not": "" if checked else g.assumed if g is not None else "The cells were asked for as they are.",
        },
        "target": s.target,
        "rated_with": _recipe(s.recipe) | {"material": s.card.name},
        "allowables_MPa": [
            {
                "case": c.name,
                "apart": a.apart,
                "shear": a.shear,
                "pull": a.pull,
                "press": a.press,
                "steps": [{"name": t.name, "factor": t.factor.value, "source": t.factor.source} for t in a.steps],
            }
            for c, a in zip(s.field.cases, s.limits, strict=True)
        ],
        "solve": {
            "cells": s.field.cells,
            "seconds": round(s.field.seconds, 3),
            "balance_error": s.field.balance_error,
            "cell_mm": s.field.cell,
            "cells_chosen": s.mesh_size.why if s.mesh_size is not None else "as asked",
            "iterations": s.field.iterations,
            "greatest_movement_mm": s.field.greatest_movement,
            "notes": list(s.field.notes),
        },
    }


def _recipe(r: Any) -> Said:
    return {k: v for k, v in r.model_dump(mode="json").items() if v is not None}


def _probes(field: StressField, asked: list[Vec]) -> list[Said]:
    names = ("xx", "yy", "zz", "yz", "zx", "xy")
    return [
        {
            "asked_mm": list(asked[i]),
            "at_mm": [float(v) for v in field.probes[i]],
            "cases": [
                {
                    "case": c.name,
                    "displacement_mm": [float(v) for v in field.probed[k, i, :3]],
                    "stress_MPa": dict(zip(names, map(float, field.probed[k, i, 3:]), strict=True)),
                }
                for k, c in enumerate(field.cases)
            ],
        }
        for i in range(len(field.probes))
    ]


def _rank(args: argparse.Namespace) -> Said:
    o = _open(args)
    r = _rated(o, args)
    out = {"ways": [_way(w) for w in r.ranking.ways], **_quality(r)}
    if args.probe:
        out["probes"] = _probes(r.strength.field, args.probe)
    return out


def _chosen(o: Opened, r: Rated, args: argparse.Namespace) -> RatedWay:
    """The way of the list that was asked for, else the job's own, else the first."""
    if args.way is not None and not 1 <= args.way <= len(r.ranking.ways):
        raise Refused(f"--way takes 1 to {len(r.ranking.ways)}, the numbers of rank's list.")
    if args.way is None and o.stated.way is not None:
        up = o.stated.direction
        return listed_way(r.ranking.ways, up) or o.ask(Why(r.question, o.stated.printer.bed_mm, up, r.doubt(up)))
    return r.ranking.ways[(args.way or 1) - 1]


def _clean(a: Array) -> list[float | None]:
    return [float(v) if np.isfinite(v) else None for v in a]


def _strength(args: argparse.Namespace) -> Said:
    """One way in full: the layered re-solve, the places that would go first, and the layer log."""
    o = _open(args)
    r = _rated(o, args)
    way, s = _chosen(o, r, args), r.strength
    at = o.facts.mesh, o.facts.features, o.stated.duty, s.field, s.limits, s.recipe, way.direction
    layered, _ = solve_layered(*at, lambda share, text: None)
    detail = o.ask(Detail(r.question, o.stated.printer.bed_mm, way.direction))
    log = detail.log
    out = {
        "way": _way(way),
        "layered": {
            "reserve": _range(layered.reserve),
            "mode": layered.mode,
            "place_mm": list(layered.place),
            "greatest_movement_mm": layered.movement,
            "quick_over_layered": 1 + layered.off,
        },
        "places": [
            {"at_mm": list(p.at), "reserve": p.reserve, "mode": p.mode, "case": p.case, "at_support": p.at_support}
            for p in detail.places
        ],
        "reactions": [
            {"case": c.name, "held": [{"feature": n, "force_N": list(f)} for n, f in c.reactions]}
            for c in s.field.cases
        ],
        "log": {
            "height_mm": _clean(log.heights),
            "reserve_nominal": _clean(log.nominal),
            "reserve_peak": _clean(log.peak),
            "area_mm2": _clean(log.area),
            "overhang_mm2": _clean(log.overhang),
            "balance": log.balance,
        },
        **_quality(r),
    }
    if args.probe:
        out["probes"] = _probes(s.field, args.probe)
    return out


def _dot(d: Dot) -> Said:
    return {
        "recipe": _recipe(d.recipe),
        "reserve": _range(d.reserve),
        "grams": d.price.grams,
        "hours": _range(d.price.hours),
        "cost": d.price.cost,
        "school": d.school,
        "frontier": d.frontier,
    }


def _board(args: argparse.Namespace) -> Said:
    """The trade board of one way: every recipe priced, materials ranked, and the job's own recipe solved."""
    o = _open(args)
    r = _rated(o, args)
    way = _chosen(o, r, args)
    built = o.ask(ask_board(r.question, o.stated, way.direction, r.doubt(way.direction), args.checked))
    out: Said = {
        "way": _way(way),
        "target": built.board.target,
        "checked_by_solves": built.board.checked,
        "recipes": [_dot(d) for d in built.board.dots],
        "materials": [
            {
                "name": c.card.name,
                "reserve": None if c.reserve is None else _range(c.reserve),
                "out": c.out,
                "why": c.why,
            }
            for c in built.materials
        ],
    }
    if args.solve:
        own = o.stated.way is not None and args.way is None
        proved = o.ask(ask_proof(_asked(o, args), o.stated if own else _lying(o.stated, way)))
        out["solved"] = {
            "recipe": _recipe(o.stated.recipe),
            "reserve": _range(proved.solved),
            "movement_mm": proved.movement,
        }
    return out


def _lying(stated: Stated, way: RatedWay) -> Stated:
    """What is stated, lying a way that was not."""
    return replace(stated, way=Way(direction=way.direction))


def _fit(args: argparse.Namespace) -> Said:
    o = _open(args)
    found = o.ask(ask_fits(o.part, o.stated))
    if o.stated.mates and not found.corrections:
        raise Refused(" ".join(found.refused))
    return {
        "corrections": [
            {
                "feature": c.feature,
                "from_mm": c.from_mm,
                "to_mm": c.to_mm,
                "low": c.low,
                "high": c.high,
                "source": c.source,
                "axis": c.axis,
                "for": c.target.words,
                "printed_mm": c.target.size,
                "chance_to_fit": c.chance_then[1],
            }
            for c in found.corrections
        ],
        "not_corrected": list(found.refused),
    }


def _export(args: argparse.Namespace) -> Said:
    from knollside.report.export import SheetInputs, make_sheet, write_all

    o = _open(args)
    stated, title, reserve, said = o.stated, "as the file has it", None, ""
    reasons: tuple[str, ...] = ()
    if stated.loaded:
        question = _asked(o, args)
        if stated.way is not None:
            way = o.ask(Why(question, stated.printer.bed_mm, stated.direction, UNCHECKED))
        else:
            way = _settled(o, question, ask_ways(question, stated), bool(args.cells)).ranking.ways[0]
            stated = _lying(stated, way)
        own = (f"Your reason: {o.job.way.reason}",) if o.job.way is not None and o.job.way.reason else ()
        title, reasons = way.title, (*own, way.reason, way.gives_up)
        reserve, said = o.ask(ask_proof(question, stated)).solved, "Solved with this shell and core."
    corrected = ask_corrected(o.part, stated)
    fitting = o.ask(corrected.fits)
    if fitting.refused:
        raise Refused(" ".join(fitting.refused))
    edited, name = o.ask(corrected), o.job.name or Path(o.job.mesh).stem
    spool = o.job.spool.grams_left if o.job.spool is not None else None
    told = SheetInputs(
        name,
        args.path.stem,
        "",
        fitting.corrections,
        stated.duty,
        stated.recipe,
        stated.card,
        stated.direction,
        title,
        reserve,
        said,
        reasons,
        stated.printer,
        spool,
        stated.factor,
    )
    files = write_all(args.out or args.path.parent, name, edited, stated.direction, make_sheet(told, edited))
    return {
        "files": [str(f) for f in files],
        "direction": list(stated.direction),
        "reserve": None if reserve is None else _range(reserve),
        "changes": [
            {
                "feature": c.feature,
                "from_mm": c.from_mm,
                "to_mm": c.to_mm,
                "volume_predicted_mm3": c.volume_predicted,
                "volume_found_mm3": c.volume_found,
                "moved_corners": c.moved,
                "how": c.how,
            }
            for c in edited.changes
        ],
    }


def _sliced(args: argparse.Namespace) -> Said:
    """What a toolpath would print, and how it departs from the job's recipe."""
    o = _open(args)
    s, moves = o.stated, read_toolpath(args.file)

    def prove(recipe: Recipe, card: Material) -> Proved:
        cells, exactly = args.cells or answer.CELLS, bool(args.cells)
        return o.ask(prove_printed(o.part, s.duty, recipe, card, s.direction, cells, exactly))

    at = o.facts, s.duty, s.recipe, s.card, Way(direction=s.direction), prove
    c = check_sliced(moves, args.file.name, *at)
    f = c.found
    return {
        "found": {
            "layers": len(f.layers),
            "layer_height_mm": f.layer_height,
            "line_width_mm": f.line_width,
            "walls": f.walls,
            "infill": f.infill,
            "size_mm": list(f.size),
            "hours": f.hours,
            "grams": c.grams,
            "nozzle_c": f.nozzle_c,
            "bed_c": f.bed_c,
        },
        "differences": [{"harm": d.harm, "title": d.title, "detail": d.detail} for d in c.differences],
        "reserve": _range(c.reserve) if c.reserve is not None else None,
        "why_no_reserve": c.why,
        "notes": list(f.notes),
    }


COMMANDS: dict[str, Callable[[argparse.Namespace], Said]] = {
    "sliced": _sliced,
    "check": _check,
    "features": _features,
    "rank": _rank,
    "strength": _strength,
    "board": _board,
    "fit": _fit,
    "export": _export,
}
