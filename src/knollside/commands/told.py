"""Answers as plain values, for JSON."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from knollside.commands.opened import Rated
from knollside.core.fit.clearance import Freedom
from knollside.core.fit.moving import Travel
from knollside.core.lay.orientations import RatedOrientation
from knollside.core.material.allowables import KnockDown
from knollside.core.mesh.edit import Change
from knollside.core.model import Array, Feature, Range
from knollside.core.recipe.board import Dot
from knollside.core.strength.buckling import FAR
from knollside.core.strength.field import StressField
from knollside.core.strength.hot_spots import HotSpot
from knollside.core.strength.stability import Stability

Said = dict[str, Any]
Vec = tuple[float, float, float]


def range_told(r: Range) -> Said:
    return {"value": r.value, "low": r.low, "high": r.high}


def orientation_told(w: RatedOrientation) -> Said:
    return {
        "direction": list(w.direction),
        "reserve": range_told(w.reserve),
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


def quality_told(r: Rated) -> Said:
    s, g = r.strength, r.grid
    checked = g is not None and not g.assumed
    return {
        "grid": {
            "checked": checked,
            "change": r.unseen,
            "looked_closely": g is not None and g.close is not None,
            "other_cells": g.other_cells if g is not None else 0,
            "why_not": "" if checked else g.assumed if g is not None else "The cells were asked for as they are.",
        },
        "buckling": buckling_told(r.stability),
        "target": s.target,
        "rated_with": recipe_told(s.recipe) | {"material": s.card.name},
        "allowables_MPa": [
            {
                "case": c.name,
                "apart": a.interlayer,
                "shear": a.shear,
                "pull": a.tension,
                "press": a.compression,
                "steps": steps_told(a.knock_downs),
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
            "movement_mm": None if s.movement is None else range_told(s.movement.mm),
            "moves_far": r.moves_far,
            "screws": s.loosened,
            "notes": list(s.field.notes),
        },
    }


def steps_told(steps: tuple[KnockDown, ...]) -> list[Said]:
    return [{"name": t.name, "factor": t.factor.value, "source": t.factor.source} for t in steps]


def buckling_told(s: Stability | None) -> Said | None:
    """What buckles first; None where it was not looked for."""
    if s is None:
        return None
    return {
        "factor": s.factor if s.factor < FAR else None,
        "reserve": range_told(s.reserve),
        "case": s.case,
        "place_mm": list(s.place),
        "steps": steps_told(s.steps),
    }


def recipe_told(r: Any) -> Said:
    return {k: v for k, v in r.model_dump(mode="json").items() if v is not None}


def place_told(p: HotSpot) -> Said:
    """A place that would let go, and by how much."""
    return {
        "at_mm": list(p.at),
        "reserve": p.reserve,
        "mode": p.mode,
        "case": p.case,
        "at_support": p.at_support,
        "grid_doubt": None if math.isnan(p.doubt) else p.doubt,
    }


def probes_told(field: StressField, asked: list[Vec]) -> list[Said]:
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


def finite(a: Array) -> list[float | None]:
    return [float(v) if np.isfinite(v) else None for v in a]


def dot_told(d: Dot) -> Said:
    return {
        "recipe": recipe_told(d.recipe),
        "reserve": range_told(d.reserve),
        "grams": d.price.grams,
        "hours": range_told(d.price.hours),
        "cost": d.price.cost,
        "school": d.preset,
        "frontier": d.frontier,
    }


def change_told(c: Change) -> Said:
    return {
        "feature": c.feature,
        "from_mm": c.from_mm,
        "to_mm": c.to_mm,
        "volume_predicted_mm3": c.volume_predicted,
        "volume_found_mm3": c.volume_found,
        "moved_corners": c.moved,
        "how": c.how,
    }


def between_told(f: Freedom, moves: Travel | None) -> Said:
    g = f.gap
    over = (g.bears or g.anywhere).across
    return {
        "bodies": [b + 1 for b in g.bodies],
        "joint": g.joint.title if g.joint is not None else None,
        "gap_mm": g.size,
        "least_mm": g.smallest,
        "printed_mm": range_told(f.printed),
        "welds": f.welds,
        "turns": f.turns,
        "rattles": f.rattles,
        "why": f.why,
        "cure": f.cure,
        "across_layers": None
        if over is None
        else {
            "mm": over.drawn,
            "from_mm": over.starts,
            "empty": over.layers,
            "at_best": over.most,
            "first_layer_for_that_mm": over.first or over.layering.first,
        },
        "moves": moves.words if moves is not None else None,
        "captive": moves.captive if moves is not None else None,
    }


def feature_told(f: Feature) -> Said:
    return {
        "id": f.id,
        "kind": f.kind,
        "diameter_mm": f.diameter,
        "centre_mm": list(f.centre),
        "axis": list(f.axis),
        "length_mm": f.length,
        "through": f.through,
        "facets": f.facets,
        "form": f.form,
        "role": f.role,
        "inside": f.inside,
        "sweep_deg": f.sweep,
        "half_angle_deg": f.angle,
        "span_mm": f.span,
        "flat_mm": f.flat,
        "corner_mm": f.corner,
        "off_mm": f.residual,
        "area_mm2": f.area,
        "body": f.body,
    }
