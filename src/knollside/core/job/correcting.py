"""From mates to a corrected mesh: what each feature should be drawn as, and the edit that makes it so."""

from __future__ import annotations

import numpy as np

from knollside.core.fit.correction import Correction, axis_of, correct
from knollside.core.fit.process import PrintSetting, learn
from knollside.core.fit.windows import Windows
from knollside.core.job.answer import PartFacts
from knollside.core.mesh.bore import Cut, Piece, carve_all, grown, shrunk
from knollside.core.mesh.edit import LINES_LEFT, Change, Edited, can_move, resize
from knollside.core.mesh.trueshapes import cover
from knollside.core.model import Feature, Mate, Measurement, Mesh, Recipe, Refused

_SAME = 5e-4  # mm; a change under this is none


def corrections(
    part: PartFacts,
    mates: tuple[Mate, ...],
    direction: tuple[float, float, float],
    readings: tuple[Measurement, ...],
    setting: PrintSetting | None = None,
    windows: Windows | None = None,
) -> tuple[tuple[Correction, ...], tuple[str, ...]]:
    """Every mate's correction, and a sentence for each that cannot be given."""
    good: list[Correction] = []
    refused = []
    for mate in mates:
        f = part.feature(mate.feature)
        try:
            if f is None:
                raise Refused(f"There is no feature '{mate.feature}' on this part.")
            other = part.feature(mate.partner) if mate.partner else None
            if mate.partner and other is None:
                raise Refused(f"{f.title} goes with '{mate.partner}', which is not on this part.")
            good.append(correct(f, mate, direction, readings, other, setting, windows))
            alone = mate.side == ("pin" if f.kind == "pin" else "hole")
            if other is not None and not alone:
                turned = mate.model_copy(update={"feature": other.id, "partner": f.id})
                good.append(correct(other, turned, direction, readings, f, setting, windows))
        except Refused as refusal:
            refused.append(str(refusal))
    return tuple(good), tuple(refused)


def sag_of(readings: tuple[Measurement, ...], drawn: float, setting: PrintSetting | None = None) -> float:
    """How far the roof of a lying hole sags, mm: across less top to bottom, as learned (typical until measured)."""
    level, plumb = (learn(readings, "hole", axis, drawn, setting).value for axis in ("lying", "plumb"))
    return max(level - plumb, 0.0)


def apply_corrections(
    part: PartFacts,
    mates: tuple[Mate, ...],
    found: tuple[Correction, ...],
    direction: tuple[float, float, float],
    recipe: Recipe,
    sag: float = 0.0,
) -> Edited:
    """The mesh with the chosen corrections and shapes made, exactly there and nowhere else.

    A wall whose neighbours are square to it is moved; any other hole is cut anew. Raises :class:`Refused`, naming the
    feature, with nothing half-done.
    """
    part.changeable()
    chosen = {name: m for m in mates if m.apply for name in (m.feature, m.partner) if name}
    wanted = {c.feature: c.to_mm for c in found if c.feature in chosen and abs(c.to_mm - c.from_mm) > _SAME}
    shaped = {m.feature: m for m in _as_laid(part, mates, direction) if m.shape != "round" or m.cover != "none"}
    by_id = {f.id: f for f in part.features}
    least = LINES_LEFT * recipe.line_width
    # Roofs are cut together with the growth of their hole, so only what stays round is moved.
    movable = {
        n: to
        for n, to in wanted.items()
        if can_move(part.mesh, by_id[n]) and not (n in shaped and shaped[n].shape != "round" and to > _size(by_id[n]))
    }
    made = resize(part.mesh, part.features, movable, recipe.line_width) if movable else Edited(part.mesh, ())
    changes, mesh = list(made.changes), made.mesh
    cuts: list[tuple[str, list[Cut], str, float]] = []
    for name in sorted((set(wanted) - set(movable)) | set(shaped)):
        f, mate = by_id[name], shaped.get(name)
        to = wanted.get(name, _size(f)) if name not in movable else _size(f)
        cuts += _cuts_of(mesh, f, mate, to, part.features, direction, recipe, sag)
    if cuts:
        lines = {"cut anew", "lined"}
        pieces = [Piece(by_id[n].title, several, least if how in lines else 0.0) for n, several, how, _ in cuts]
        mesh, volumes = carve_all(mesh, pieces)
        for (name, several, how, to), found_volume in zip(cuts, volumes, strict=True):
            foretold = sum(c.predicted for c in several)
            changes.append(Change(name, _size(by_id[name]), to, foretold, found_volume, 0, how))
    return Edited(mesh, tuple(changes))


def _as_laid(part: PartFacts, mates: tuple[Mate, ...], direction: tuple[float, float, float]) -> list[Mate]:
    """Chosen mates with only what matters the way the part lies: roofs of lying holes, lower ends of upright ones."""
    out = []
    for m in mates:
        f = part.feature(m.feature)
        if m.apply and f is not None:
            lies = axis_of(f, direction) == "lying"
            out.append(m.model_copy(update={"cover": "none"} if lies else {"shape": "round"}))
    return out


def _size(f: Feature) -> float:
    return float(f.diameter or 0.0)


def _cuts_of(
    mesh: Mesh,
    f: Feature,
    mate: Mate | None,
    to: float,
    features: tuple[Feature, ...],
    direction: tuple[float, float, float],
    recipe: Recipe,
    sag: float,
) -> list[tuple[str, list[Cut], str, float]]:
    if f.kind == "pin":
        raise Refused(f"{f.title} runs into a face that is not square to it; change its size in the model.")
    out: list[tuple[str, list[Cut], str, float]] = []
    shape = mate.shape if mate is not None else "round"
    up = np.asarray(direction) if shape != "round" else None
    if to < _size(f) - _SAME:
        if shape != "round":
            raise Refused(f"{f.title}: it gets narrower and a roof at once; change its size in the model first.")
        out.append((f.id, [shrunk(mesh, f, to)], "lined", to))
    elif to > _size(f) + _SAME or shape != "round":
        how = "cut anew" if shape == "round" else shape
        out.append((f.id, [grown(mesh, f, to, up, shape, sag)], how, to))
    if mate is not None and mate.cover != "none":
        covers = cover(mesh, f, to, features, direction, mate.cover, recipe.layer_height)
        out.append((f.id, covers, "shut by a skin" if mate.cover == "skin" else "stepped up to", to))
    return out
