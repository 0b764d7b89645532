"""What the steps put on the stage: marks, arrows and the place that goes first."""

from __future__ import annotations

import numpy as np

from knollside.core.mesh.features import feature_at
from knollside.core.model import (
    POLYGONS,
    WEBS,
    Array,
    BearingLoad,
    DeflectionLoad,
    FaceMark,
    Feature,
    ForceLoad,
    Load,
    PressureLoad,
    TorqueLoad,
)
from knollside.gui.session import Session
from knollside.gui.steps.loadcard import words_of
from knollside.gui.viewport.raster import CHOSEN, KIND, KINDS, MARKS
from knollside.gui.viewport.scene import Arrow, Scene


def face_marks(session: Session, only: set[FaceMark] | None = None) -> Array:
    """Mark code of each drawn face: what was said of features, and the one under discussion."""
    view = session.view
    look, facts, part = view.look, view.facts, view.part
    if look is None or facts is None:
        return np.zeros(0 if look is None else len(look.mesh.faces), np.int64)
    code = np.zeros(len(facts.mesh.faces), np.int64)
    said = dict(part.marks)
    if only is not None and FaceMark.MATES in only:
        # The step that speaks of mates shows them before all else.
        said |= {name: FaceMark.MATES for m in part.mates for name in (m.feature, m.partner) if name}
    for name, mark in said.items():
        f = facts.feature(name)
        if f is not None and (only is None or mark in only):
            code[f.faces] = MARKS[mark.value]
    chosen = session.feature(session.picked)
    if chosen is not None:
        code[chosen.faces] += CHOSEN
    return np.asarray(code[look.original])


_OF_KIND: dict[str, str] = {
    "hole": "hole",
    "pin": "pin",
    **dict.fromkeys(("slot", "spline", "dovetail", *POLYGONS), "slot or pocket"),
    **dict.fromkeys(("taper", "cone"), "cone"),
    "ball": "ball",
    "thread": "thread",
    "lettering": "lettering",
    **dict.fromkeys(("round", "fillet"), "rounding"),
}


def kind_marks(session: Session) -> tuple[Array, tuple[str, ...]]:
    """Kind code of each drawn face, with the one under discussion, and the kinds that occur. Flats stay plain."""
    view = session.view
    look, facts = view.look, view.facts
    if look is None or facts is None:
        return np.zeros(0 if look is None else len(look.mesh.faces), np.int64), ()
    unnamed = len(KINDS)
    code = np.full(len(facts.mesh.faces), unnamed, np.int64)
    for f in facts.features:
        # The walls of a square pocket are flats besides: there the pocket is told.
        code[f.faces] = np.where(code[f.faces] % unnamed, code[f.faces], 0) if f.kind == "flat" else 0
        kind = "hinge or snap" if f.role in WEBS else _OF_KIND.get(f.kind)
        if kind is not None:
            code[f.faces] = KINDS.index(kind) + 1
    there = tuple(KINDS[k - 1] for k in np.unique(code) if k)
    code = code * KIND
    chosen = session.feature(session.picked)
    if chosen is not None:
        code[chosen.faces] += CHOSEN
    return np.asarray(code[look.original]), there


def load_arrows(session: Session, handles: bool = False) -> tuple[Arrow, ...]:
    """One clay arrow per load, at its face; with ``handles`` it can be turned by its tail."""
    view = session.view
    facts, out = view.facts, []
    if facts is None:
        return ()
    ranked = view.ranked.fresh
    taken = {c.name: dict(c.reactions) for c in ranked.strength.field.cases} if ranked is not None else {}
    for i, case in enumerate(view.part.design_case.cases):
        for j, load in enumerate(case.loads):
            f = facts.feature(load.feature) if load.feature else None
            if f is None and load.at is not None:
                f = feature_at(facts.mesh, facts.features, load.at)
            if f is not None and load.at is None:
                at = facts.mesh.triangles[f.faces].mean(axis=1).mean(axis=0)
            elif load.at is not None:
                at = np.asarray(load.at)
            else:
                continue
            x, y, z = (float(v) for v in at)
            words = f"{words_of(load)}, {case.name}"
            back = taken.get(case.name, {}).get(f.id if f is not None else load.feature or "")
            if isinstance(load, DeflectionLoad) and back is not None:
                words = f"{words_of(load)}: takes {float(np.linalg.norm(back)):.0f} N"
            turns = isinstance(load, ForceLoad | BearingLoad | DeflectionLoad)
            out.append(Arrow((x, y, z), _along(load, f), words, handle=(i, j) if turns and handles else None))
    return tuple(out)


def _along(load: Load, f: Feature | None) -> tuple[float, float, float]:
    """Which way a load's arrow points: pressure against the face, torque along its axis."""
    if isinstance(load, DeflectionLoad):
        return load.deflection_mm
    if isinstance(load, TorqueLoad | PressureLoad) and f is not None:
        sign = -1.0 if isinstance(load, PressureLoad) else 1.0
        x, y, z = (sign * c for c in f.axis)
        return x, y, z
    return load.vector


def reaction_arrows(session: Session) -> tuple[Arrow, ...]:
    """What each held place gives back under the largest load, in spring, once the solve is there."""
    ranked, facts, out = session.view.ranked.fresh, session.view.facts, []
    if ranked is None or facts is None:
        return ()
    case = max(ranked.strength.field.cases, key=lambda c: c.pushing)
    fixtures = {h.feature for h in session.view.part.design_case.fixtures}
    for name, force in case.reactions:
        f = facts.feature(name) if name in fixtures else None
        newtons = float(np.linalg.norm(force))
        if f is None or newtons < 0.5:
            continue
        x, y, z = f.centre
        out.append(Arrow((x, y, z), force, f"{newtons:.0f} N", "spring"))
    return tuple(out)


def base_scene(session: Session, laid: bool, title: str, subtitle: str, **more: object) -> Scene:
    """The part with its marks, as drawn or as it lies."""
    part = session.view.part
    bed = part.printer.bed_mm
    values: dict[str, object] = {
        "look": session.view.look,
        "direction": part.direction if laid else None,
        "marks": face_marks(session),
        "bed": (bed[0], bed[1]),
        "title": title,
        "subtitle": subtitle,
        "layer": part.recipe.layer_height,
    }
    values.update(more)
    return Scene(**values)  # type: ignore[arg-type]
