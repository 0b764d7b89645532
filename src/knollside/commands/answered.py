"""What each command answers: the questions the window asks, of a job file, as plain values."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from knollside.commands import bench, pulls, run
from knollside.commands.opened import OpenJob, chosen, lying, mesh_of, open_job, rated, settled_ways, strength_asked
from knollside.commands.told import (
    Said,
    between_told,
    buckling_told,
    change_told,
    dot_told,
    feature_told,
    finite,
    orientation_told,
    place_told,
    probes_told,
    quality_told,
    range_told,
    recipe_told,
)
from knollside.core.job import answer
from knollside.core.job.asked import (
    ask_board,
    ask_corrected,
    ask_fits,
    ask_gaps,
    ask_orientations,
    ask_proof,
)
from knollside.core.job.questions.detail import Detail, Why
from knollside.core.job.questions.gaps import TravelsOf
from knollside.core.job.questions.settling import Proved, layered_way, prove_printed
from knollside.core.job.slicedcheck import Plan, check_sliced
from knollside.core.job.stated import Stated
from knollside.core.material.cards import Material
from knollside.core.mesh.check import UNIT_TO_MM, check
from knollside.core.mesh.features import find_features
from knollside.core.mesh.recognition.pointed import feature_pointed_at
from knollside.core.mesh.repair import repair
from knollside.core.mesh.write import stl_bytes
from knollside.core.model import Mesh, Range, Recipe, Refused
from knollside.foreign.reading import read_toolpath
from knollside.report.export import write_whole


def _check(args: argparse.Namespace) -> Said:
    loaded, mesh = mesh_of(args)
    account: tuple[str, ...] = ()
    if args.mend is not None:
        if args.mend.suffix.lower() != ".stl":
            raise Refused("--mend writes an STL file; give it a name that ends in .stl.")
        mended = repair(mesh, args.unite)
        mesh, account = mended.mesh, mended.account
        # Where the file had it, so that what else was drawn about it still fits.
        back = np.asarray(loaded.away) * UNIT_TO_MM[args.unit]
        write_whole(args.mend, stl_bytes(Mesh(mesh.vertices + back, mesh.faces), loaded.name))
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
        "mended": list(account),
    }


def _features(args: argparse.Namespace) -> Said:
    _, mesh = mesh_of(args)
    said = [feature_pointed_at(mesh, kind, places) for kind, places in args.point]
    told = {"features": [feature_told(f) for f in find_features(mesh)]}
    return told | ({"pointed_at": [feature_told(f) for f in said]} if said else {})


def _rank(args: argparse.Namespace) -> Said:
    o = open_job(args)
    r = rated(o, args)
    out = {"ways": [orientation_told(w) for w in r.ranking.orientations], **quality_told(r)}
    if args.probe:
        out["probes"] = probes_told(r.strength.field, args.probe)
    return out


def _strength(args: argparse.Namespace) -> Said:
    """One way in full: the layered re-solve, the places that would go first, and the layer log."""
    o = open_job(args)
    r = rated(o, args)
    orientation, s = chosen(o, r, args), r.strength
    plain = o.ask(r.question.plain()) if r.grid is not None else s
    held = o.ask(r.question.hold).of(o.stated.design_case)
    at = o.facts, held, plain, s, orientation.direction
    layered = layered_way(*at, lambda share, text: None)
    detail = o.ask(Detail(r.question, o.stated.printer.bed_mm, orientation.direction))
    log = detail.log
    out = {
        "way": orientation_told(orientation),
        "layered": {
            "reserve": range_told(layered.reserve),
            "mode": layered.mode,
            "place_mm": list(layered.place),
            "greatest_movement_mm": layered.movement,
            "quick_over_layered": 1 + layered.off,
        },
        "places": [place_told(p) for p in detail.places],
        "watched": [place_told(p) for p in detail.watched],
        "reactions": [
            {"case": c.name, "held": [{"feature": n, "force_N": list(f)} for n, f in c.reactions]}
            for c in s.field.cases
        ],
        "log": {
            "height_mm": finite(log.heights),
            "reserve_nominal": finite(log.nominal),
            "reserve_peak": finite(log.peak),
            "area_mm2": finite(log.area),
            "overhang_mm2": finite(log.overhang),
            "balance": log.balance,
        },
        **quality_told(r),
    }
    if args.probe:
        out["probes"] = probes_told(s.field, args.probe)
    return out


def _board(args: argparse.Namespace) -> Said:
    """The trade board of one way: every recipe priced, materials ranked, and the job's own recipe solved."""
    o = open_job(args)
    r = rated(o, args)
    orientation = chosen(o, r, args)
    built = o.ask(ask_board(r.question, o.stated, orientation.direction, r.doubt(orientation.direction), args.checked))
    out: Said = {
        "way": orientation_told(orientation),
        "target": built.board.target,
        "checked_by_solves": built.board.checked,
        "recipes": [dot_told(d) for d in built.board.dots],
        "materials": [
            {
                "name": c.card.name,
                "reserve": None if c.reserve is None else range_told(c.reserve),
                "out": c.out,
                "why": c.why,
            }
            for c in built.materials
        ],
    }
    if args.solve:
        own = o.stated.orientation is not None and args.way is None
        proved = o.ask(ask_proof(strength_asked(o, args), o.stated if own else lying(o.stated, orientation)))
        out["solved"] = {
            "recipe": recipe_told(o.stated.recipe),
            "reserve": range_told(proved.solved),
            "buckling": buckling_told(proved.stability),
            "movement_mm": range_told(proved.movement.mm),
            "moves_far": proved.moves_far,
        }
    return out


def _fit(args: argparse.Namespace) -> Said:
    o = open_job(args)
    o.facts.changeable()
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
                "caution": c.caution,
            }
            for c in found.corrections
        ],
        "not_corrected": list(found.refused),
        "together": [
            {
                "pairs": [list(p) for p in t.pairs],
                "bodies": [b + 1 for b in t.bodies],
                "all_go_in_as_drawn": t.now,
                "all_go_in": t.then,
                "tightest_alone": t.alone,
                "position_scatter_mm": range_told(t.position),
            }
            for t in found.together
        ],
        "between": _between(o),
    }


def _between(o: OpenJob) -> list[Said]:
    """What lies between the bodies, and how the joints move."""
    if o.facts.soundness.bodies < 2:
        return []
    travels = o.ask(TravelsOf(o.part))
    moves = dict(travels)
    return [between_told(f, moves.get(f.gap.bodies)) for f in o.ask(ask_gaps(o.part, o.stated))]


@dataclass(frozen=True)
class _SheetStrength:
    """What a sheet says of strength and lie: what is stated with the way it lies, that way's title and reasons, the
    solved reserve, and how it was come by."""

    stated: Stated
    title: str = "as the file has it"
    reasons: tuple[str, ...] = ()
    reserve: Range | None = None
    said: str = ""


def _sheet_strength(o: OpenJob, args: argparse.Namespace) -> _SheetStrength:
    from knollside.report.export import reasons_of

    stated = o.stated
    if not stated.loaded:
        return _SheetStrength(stated)
    question = strength_asked(o, args)
    if stated.orientation is not None:
        lies = o.ask(Why(question, stated.printer.bed_mm, stated.direction))
    else:
        found = settled_ways(o, question, ask_orientations(question, stated), bool(args.cells))
        lies = found.ranking.orientations[0]
        stated = lying(stated, lies)
    reasons = reasons_of(o.job.orientation, lies)
    proved = o.ask(ask_proof(question, stated))
    return _SheetStrength(stated, lies.title, reasons, proved.solved, "Solved with this shell and core.")


def _export(args: argparse.Namespace) -> Said:
    from knollside.report.export import SheetInputs, make_sheet, write_all

    o = open_job(args)
    o.facts.changeable()
    found = _sheet_strength(o, args)
    stated = found.stated
    corrected = ask_corrected(o.part, stated)
    fitting = o.ask(corrected.fits)
    edited, name = o.ask(corrected), o.job.name or Path(o.job.mesh).stem
    left = [*fitting.refused, *(why for _, why in edited.refused)]
    if left and not args.partly:
        raise Refused(
            f"{' '.join(left)} Nothing was written. With --partly the rest is corrected and written, and these are "
            "listed."
        )
    told = SheetInputs(
        name,
        args.path.stem,
        "",
        fitting.corrections,
        stated.design_case,
        stated.recipe,
        stated.card,
        stated.direction,
        found.title,
        found.reserve,
        found.said,
        found.reasons,
        stated.printer,
        o.job.spool.grams_left if o.job.spool is not None else None,
        stated.factor,
        frame=stated.frame,
        supports=stated.support_settings if stated.orientation is not None else None,
    )
    files = write_all(
        args.out or args.path.parent, name, edited, stated.direction, make_sheet(told, edited), stated.frame
    )
    return {
        "files": [str(f) for f in files],
        "direction": list(stated.direction),
        "reserve": None if found.reserve is None else range_told(found.reserve),
        "changes": [change_told(c) for c in edited.changes],
        "not_corrected": left,
    }


def _sliced(args: argparse.Namespace) -> Said:
    """What a toolpath would print, and how it departs from the job's recipe."""
    o = open_job(args)
    s, moves = o.stated, read_toolpath(args.file)

    def prove(recipe: Recipe, card: Material) -> Proved:
        cells, exactly = args.cells or answer.CELLS, bool(args.cells)
        return o.ask(prove_printed(o.part, s.design_case, recipe, card, s.direction, cells, exactly))

    c = check_sliced(moves, args.file.name, Plan(o.facts, s.design_case, s.recipe, s.card, s.direction), prove)
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
        "reserve": range_told(c.reserve) if c.reserve is not None else None,
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
    "plan": run.plan,
    "week": run.week,
    "pulls": pulls.pulls,
    "faults": bench.faults,
    "breaks": bench.breaks,
}
