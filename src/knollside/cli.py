"""The same core without a window: ``knollside check | features | rank | strength | fit | sliced | export``."""

from __future__ import annotations

import argparse
import json
import os
import sys
from pathlib import Path
from typing import Any

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from knollside.core.model import Refused, Way


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="knollside", description="Without a command, opens the window.")
    parser.add_argument("--workshop", type=Path, help="workshop file to use")
    parser.add_argument("--demo", action="store_true", help="open the demonstration workshop")
    sub = parser.add_subparsers(dest="command")
    for name, what, text in (
        ("check", "file", "is a mesh sound"),
        ("features", "file", "what is on it"),
        ("rank", "job", "ways to lie, best first"),
        ("strength", "job", "one way in full: places, layers, what backs the number"),
        ("fit", "job", "corrections of holes and pins"),
        ("sliced", "job", "hold a sliced file against the plan"),
        ("export", "job", "write the turned, corrected part and its sheet"),
    ):
        p = sub.add_parser(name, help=text)
        p.add_argument("path", metavar=what.upper(), type=Path)
        p.add_argument("--json", action="store_true", help="answer as JSON on standard output")
        if what == "file":
            p.add_argument("--unit", choices=("mm", "cm", "inch", "metre"), default="mm")
        if name in ("rank", "strength", "export"):
            p.add_argument("--cells", type=int, default=None, help="about how many cells to solve with")
        if name in ("rank", "strength"):
            p.add_argument("--directions", type=int, default=None, help="how many directions to rate")
            p.add_argument(
                "--probe", type=_point, action="append", default=[], metavar="X,Y,Z", help="read this place besides"
            )
        if name == "strength":
            p.add_argument("--way", type=int, default=None, help="number in the list of rank, 1 the best")
        if name == "sliced":
            p.add_argument("file", metavar="FILE", type=Path, help="plain G-code of this part")
            p.add_argument("--cells", type=int, default=None, help="about how many cells to solve with")
        if name == "export":
            p.add_argument("--out", type=Path, default=None, help="folder to write to (default: beside the job)")
    return parser


def _point(text: str) -> tuple[float, float, float]:
    numbers = [float(t) for t in text.split(",")]
    if len(numbers) != 3 or not all(abs(v) < 1e6 for v in numbers):
        raise ValueError(text)
    return numbers[0], numbers[1], numbers[2]


def main(argv: list[str] | None = None) -> int:
    """Exit code 0 answered, 1 refused, 2 misuse."""
    args = _parser().parse_args(argv)
    if args.command is None:
        from knollside.desk.main import run

        return run(args.workshop, args.demo)
    try:
        answer = _ANSWERS[args.command](args)
    except Refused as refusal:
        if args.json:
            print(json.dumps({"refused": str(refusal)}, ensure_ascii=False))
        else:
            print(refusal, file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 1
    if args.json:
        print(json.dumps(answer, ensure_ascii=False, allow_nan=False))
    else:
        _plain(answer)
    return 0


def _part(path: Path, unit: str):  # type: ignore[no-untyped-def]
    from knollside.core.job.answer import read_part
    from knollside.core.mesh.load import load_file

    loaded = load_file(path)
    return loaded, read_part(loaded.mesh, unit)


def _check(args: argparse.Namespace) -> dict[str, Any]:
    from knollside.core.mesh.check import UNIT_TO_MM, check
    from knollside.core.mesh.load import load_file
    from knollside.core.model import Mesh

    loaded = load_file(args.path)
    s = check(Mesh(loaded.mesh.vertices * UNIT_TO_MM[args.unit], loaded.mesh.faces))
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


def _features(args: argparse.Namespace) -> dict[str, Any]:
    from knollside.core.mesh.check import UNIT_TO_MM
    from knollside.core.mesh.features import find_features
    from knollside.core.mesh.load import load_file
    from knollside.core.model import Mesh

    mesh = load_file(args.path).mesh
    found = find_features(Mesh(mesh.vertices * UNIT_TO_MM[args.unit], mesh.faces))
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
            for f in found
        ]
    }


def _job(args: argparse.Namespace):  # type: ignore[no-untyped-def]
    from knollside.core.bench.bond import learn_bond
    from knollside.core.job.answer import card_for
    from knollside.core.job.file import read_job
    from knollside.core.material.bond import Setting, with_setting
    from knollside.core.material.cards import material

    job = read_job(args.path)
    mesh_path = Path(job.mesh)
    if not mesh_path.is_absolute():
        mesh_path = args.path.parent / mesh_path
    _, part = _part(mesh_path, job.unit)
    typical = material(job.material).bond
    bond = learn_bond(job.breaks, typical)
    hard = job.printer.hard_nozzle and not job.breaks  # own trials were printed with it
    r, over = job.recipe, job.recipe.layer_height / job.printer.nozzle_mm
    return job, part, with_setting(card_for(job.material, bond), Setting(r.nozzle_c, r.fan, None, hard, over))


def _solved(args: argparse.Namespace):  # type: ignore[no-untyped-def]
    """Job, part, duty, strength and ranking for the commands that rate ways."""
    import numpy as np

    from knollside.core.job import answer

    job, part, card = _job(args)
    if args.cells is not None and not 100 <= args.cells <= 2_000_000:
        raise Refused("--cells takes 100 to 2,000,000.")
    if args.directions is not None and not 10 <= args.directions <= 100_000:
        raise Refused("--directions takes 10 to 100,000.")
    duty = job.duty()
    probes = np.array(args.probe) if args.probe else None
    s = answer.strength(
        part, duty, job.recipe, card, args.cells or answer.CELLS, probes=probes, exactly=bool(args.cells)
    )
    if s.withheld:
        raise Refused(s.withheld)
    ranking = answer.ways(part, duty, s, job.printer.bed_mm, args.directions or answer.NET_DIRECTIONS)
    return job, part, duty, s, ranking


def _range(r) -> dict[str, float]:  # type: ignore[no-untyped-def]
    return {"value": r.value, "low": r.low, "high": r.high}


def _way(w) -> dict[str, Any]:  # type: ignore[no-untyped-def]
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


def _quality(s) -> dict[str, Any]:  # type: ignore[no-untyped-def]
    return {
        "target": s.target,
        "allowables_MPa": [
            {
                "case": c.name,
                "apart": a.apart,
                "shear": a.shear,
                "pull": a.pull,
                "press": a.press,
                "steps": [{"name": t.name, "factor": t.factor.value, "source": t.factor.source} for t in a.steps],
            }
            for c, a in zip(s.field.cases, s.limits)
        ],
        "solve": {
            "cells": s.field.cells,
            "seconds": round(s.field.seconds, 3),
            "balance_error": s.field.balance_error,
            "cell_mm": s.field.cell,
            "cells_chosen": s.fineness.why if s.fineness is not None else "as asked",
            "iterations": s.field.iterations,
            "greatest_movement_mm": s.field.greatest_movement,
            "notes": list(s.field.notes),
        },
    }


def _probes(field, asked) -> list[dict[str, Any]]:  # type: ignore[no-untyped-def]
    return [
        {
            "asked_mm": list(asked[i]),
            "at_mm": [float(v) for v in field.probes[i]],
            "cases": [
                {
                    "case": c.name,
                    "displacement_mm": [float(v) for v in field.probed[k, i, :3]],
                    "stress_MPa": dict(zip(("xx", "yy", "zz", "yz", "zx", "xy"), map(float, field.probed[k, i, 3:]))),
                }
                for k, c in enumerate(field.cases)
            ],
        }
        for i in range(len(field.probes))
    ]


def _rank(args: argparse.Namespace) -> dict[str, Any]:
    _, _, _, s, ranking = _solved(args)
    out = {"ways": [_way(w) for w in ranking.ways], **_quality(s)}
    if args.probe:
        out["probes"] = _probes(s.field, args.probe)
    return out


def _strength(args: argparse.Namespace) -> dict[str, Any]:
    """One way in full: the layered re-solve, the places that would go first, and the layer log."""
    import numpy as np

    from knollside.core.job import answer
    from knollside.core.strength.places import weak_places
    from knollside.core.strength.trust import solve_layered

    job, part, duty, s, ranking = _solved(args)
    if args.way is not None and not 1 <= args.way <= len(ranking.ways):
        raise Refused(f"--way takes 1 to {len(ranking.ways)}, the numbers of rank's list.")
    if args.way is None and job.way is not None:
        way = answer.one_way(part, s, job.printer.bed_mm, Way(direction=job.way).direction)
    else:
        way = ranking.ways[(args.way or 1) - 1]
    layered, _ = solve_layered(
        part.mesh, part.features, duty, s.field, s.limits, s.recipe, way.direction, lambda share, text: None
    )
    log = answer.layer_log(part, s, way.direction)

    def clean(a) -> list[float | None]:  # type: ignore[no-untyped-def]
        return [float(v) if np.isfinite(v) else None for v in a]

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
            {
                "at_mm": list(p.at),
                "reserve": p.reserve,
                "mode": p.mode,
                "case": p.case,
                "at_support": p.at_support,
            }
            for p in weak_places(s.field, s.limits, np.asarray(way.direction))
        ],
        "reactions": [
            {"case": c.name, "held": [{"feature": n, "force_N": list(f)} for n, f in c.reactions]}
            for c in s.field.cases
        ],
        "log": {
            "height_mm": clean(log.heights),
            "reserve_nominal": clean(log.nominal),
            "reserve_peak": clean(log.peak),
            "area_mm2": clean(log.area),
            "overhang_mm2": clean(log.overhang),
            "balance": log.balance,
        },
        **_quality(s),
    }
    if args.probe:
        out["probes"] = _probes(s.field, args.probe)
    return out


def _known(job):  # type: ignore[no-untyped-def]
    """What readings must share with the job, and its material's class windows."""
    from knollside.core.fit.process import setting_of
    from knollside.core.fit.windows import windows_for

    return setting_of(job.recipe, job.printer.nozzle_mm), windows_for(job.material)


def _fit(args: argparse.Namespace) -> dict[str, Any]:
    from knollside.core.job import correcting

    job, part, _ = _job(args)
    direction = Way(direction=job.way or (0.0, 0.0, 1.0)).direction
    found, refused = correcting.corrections(part, job.mates, direction, job.measurements, *_known(job))
    if job.mates and not found:
        raise Refused(" ".join(refused))
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
            for c in found
        ],
        "not_corrected": list(refused),
    }


def _export(args: argparse.Namespace) -> dict[str, Any]:
    from knollside.core.build.price import time_factor
    from knollside.core.job import answer, correcting
    from knollside.report.export import make_sheet, write_all

    job, part, card = _job(args)
    duty = job.duty()
    title, reserve, reasons = "as the file has it", None, ()
    direction = job.way
    if duty.held and duty.cases:
        s = answer.strength(part, duty, job.recipe, card, args.cells or answer.CELLS, exactly=bool(args.cells))
        way = (
            answer.one_way(part, s, job.printer.bed_mm, direction)
            if direction
            else answer.ways(part, duty, s, job.printer.bed_mm).ways[0]
        )
        direction, title, reserve, reasons = way.direction, way.title, way.reserve, (way.reason, way.gives_up)
    direction = Way(direction=direction or (0.0, 0.0, 1.0)).direction
    found, refused = correcting.corrections(part, job.mates, direction, job.measurements, *_known(job))
    if refused:
        raise Refused(" ".join(refused))
    sag = correcting.sag_of(job.measurements, 5.0, _known(job)[0])
    edited = correcting.apply_corrections(part, job.mates, found, direction, job.recipe, sag)
    name = job.name or Path(job.mesh).stem
    sheet = make_sheet(
        name,
        args.path.stem,
        "",
        part,
        edited,
        found,
        duty,
        job.recipe,
        card,
        direction,
        title,
        reserve,
        reasons,
        job.printer,
        None,
        time_factor([]),
    )
    files = write_all(args.out or args.path.parent, name, edited, direction, sheet)
    return {
        "files": [str(f) for f in files],
        "direction": list(direction),
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


def _sliced(args: argparse.Namespace) -> dict[str, Any]:
    """What a toolpath would print, and how it departs from the job's recipe."""
    from knollside.core.job import answer
    from knollside.core.job.slicedcheck import check_sliced

    job, part, card = _job(args)
    way = Way(direction=job.way or (0.0, 0.0, 1.0))
    c = check_sliced(args.file, part, job.duty(), job.recipe, card, way, cells=args.cells or answer.CELLS)
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


_ANSWERS = {
    "sliced": _sliced,
    "check": _check,
    "features": _features,
    "rank": _rank,
    "strength": _strength,
    "fit": _fit,
    "export": _export,
}


def _plain(answer: dict[str, Any]) -> None:
    """Readable lines: one per entry, lists indented."""
    for key, value in answer.items():
        if isinstance(value, list) and value and isinstance(value[0], dict):
            print(f"{key}:")
            for row in value:
                print("  " + ", ".join(f"{k} {_short(v)}" for k, v in row.items() if v is not None))
        else:
            print(f"{key}: {_short(value)}")


def _short(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:.4g}"
    if isinstance(value, list):
        return "(" + ", ".join(_short(v) for v in value) + ")"
    if isinstance(value, dict):
        return ", ".join(f"{k} {_short(v)}" for k, v in value.items())
    return str(value)


if __name__ == "__main__":
    sys.exit(main())
