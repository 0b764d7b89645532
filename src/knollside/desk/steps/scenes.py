"""What the steps put on the stage: marks, arrows and the place that goes first."""

from __future__ import annotations

import numpy as np

from knollside.core.mesh.features import feature_at
from knollside.core.model import Array, FaceMark, Feature, Load
from knollside.desk.stage.raster import CHOSEN, MARKS
from knollside.desk.stage.scene import Arrow, Scene
from knollside.desk.state import State
from knollside.desk.steps.loadcard import words_of


def face_marks(state: State, only: set[FaceMark] | None = None) -> Array:
    """Mark code of each drawn face: what was said of features, and the one under discussion."""
    opened = state.answers.get("opened")
    if opened is None or state.doc is None:
        return np.zeros(0, np.int64)
    code = np.zeros(len(opened.facts.mesh.faces), np.int64)
    said = dict(state.doc.duty.marks)
    for m in state.doc.mates:
        if only is not None and FaceMark.MATES in only:
            said[m.feature] = FaceMark.MATES  # the step that speaks of mates shows them before all else
        else:
            said.setdefault(m.feature, FaceMark.MATES)
    for name, mark in said.items():
        faces = faces_of(state, name)
        if faces is not None and (only is None or mark in only):
            code[faces] = MARKS[mark.value]
    chosen = faces_of(state, state.picked)
    if chosen is not None:
        code[chosen] += CHOSEN
    return np.asarray(code[opened.look.original])


def faces_of(state: State, name: str) -> Array | None:
    """Triangle numbers of a feature by its id, or of an unnamed patch."""
    facts = state.facts
    if facts is None or not name:
        return None
    f = facts.feature(name)
    if f is not None:
        return f.faces
    if name.startswith("patch-"):
        from knollside.core.mesh.features import feature_of_face

        return feature_of_face(facts.mesh, facts.features, int(name[6:])).faces
    return None


def load_arrows(state: State, handles: bool = False) -> tuple[Arrow, ...]:
    """One clay arrow per load, at its face; with ``handles`` it can be turned by its tail."""
    facts, out = state.facts, []
    if facts is None or state.doc is None:
        return ()
    laying = state.fresh_laying
    taken = {c.name: dict(c.reactions) for c in laying.strength.field.cases} if laying is not None else {}
    for i, case in enumerate(state.doc.duty.cases):
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
            if load.kind == "deflection" and back is not None:
                words = f"{words_of(load)}: takes {float(np.linalg.norm(back)):.0f} N"
            turns = load.kind in ("force", "bearing", "deflection")
            out.append(Arrow((x, y, z), _along(load, f), words, handle=(i, j) if turns and handles else None))
    return tuple(out)


def _along(load: Load, f: Feature | None) -> tuple[float, float, float]:
    """Which way a load's arrow points: pressure against the face, torque along its axis."""
    if load.kind == "deflection" and load.deflection_mm is not None:
        return load.deflection_mm
    if load.kind in ("torque", "pressure") and f is not None:
        sign = -1.0 if load.kind == "pressure" else 1.0
        x, y, z = (sign * c for c in f.axis)
        return x, y, z
    return load.vector


def reaction_arrows(state: State) -> tuple[Arrow, ...]:
    """What each held place gives back under the largest load, in spring, once the solve is there."""
    laying = state.fresh_laying
    facts, out = state.facts, []
    if laying is None or facts is None:
        return ()
    case = max(laying.strength.field.cases, key=lambda c: c.pushing)
    holding = {h.feature for h in state.doc.duty.held} if state.doc is not None else set()
    for name, force in case.reactions:
        f = facts.feature(name) if name in holding else None
        newtons = float(np.linalg.norm(force))
        if f is None or newtons < 0.5:
            continue
        x, y, z = f.centre
        out.append(Arrow((x, y, z), force, f"{newtons:.0f} N", "spring"))
    return tuple(out)


def base_scene(state: State, laid: bool, title: str, subtitle: str, **more: object) -> Scene:
    """The part with its marks, as drawn or as it lies."""
    opened = state.answers.get("opened")
    bed = state.printer.bed_mm
    values: dict[str, object] = {
        "look": opened.look if opened is not None else None,
        "direction": state.way if laid else None,
        "marks": face_marks(state),
        "bed": (bed[0], bed[1]),
        "title": title,
        "subtitle": subtitle,
        "layer": state.doc.recipe.layer_height if state.doc else 0.2,
    }
    values.update(more)
    return Scene(**values)  # type: ignore[arg-type]
