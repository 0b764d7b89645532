"""From mates to a corrected mesh: what each feature should be drawn as, and the edit that makes it so."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.fit.correction import Correction, axis_of, correct
from knollside.core.fit.process import PrintSetting, learn
from knollside.core.fit.windows import Windows
from knollside.core.job.answer import PartFacts
from knollside.core.mesh.bore import Cut, Piece, carve_all, grown, moved_walls
from knollside.core.mesh.edit import LINES_LEFT, Change, Edited, can_move, resize
from knollside.core.mesh.rough import rough_wall
from knollside.core.mesh.trueshapes import cover
from knollside.core.mesh.wallmoves import Sizes
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

    A wall that can stay in the planes of all that meets it is moved; any other is cut anew or lined. What cannot be
    done is left as drawn and told in ``refused``, with its reason; the rest is done. Raises :class:`Refused` where the
    mesh may not be changed at all.
    """
    part.changeable()
    chosen = {name: m for m in mates if m.apply for name in (m.feature, m.partner) if name}
    wanted = {c.feature: Sizes(c.to_mm, c.along_mm) for c in found if c.feature in chosen and _changes(c)}
    shaped = {m.feature: m for m in _as_laid(part, mates, direction) if m.shape != "round" or m.cover != "none"}
    by_id = {f.id: f for f in part.features}
    # Roofs are cut together with the growth of their hole, so only what stays round is moved.
    roofed = {n for n, m in shaped.items() if m.shape != "round" and n in wanted and wanted[n].across > _size(by_id[n])}
    refused: dict[str, str] = {}
    movable = {
        n: to
        for n, to in wanted.items()
        if n not in roofed and not by_id[n].rough and can_move(part.mesh, by_id[n], to)
    }
    made = _moved(part, movable, recipe.line_width)
    moved = {c.feature for c in made.changes}
    mesh, changes = made.mesh, list(made.changes)
    work = Cutting(made.mesh, part.features, direction, recipe, sag)
    # All cuts are worked out on the mesh whose triangles the features name, then made one after another.
    plans: list[tuple[Feature, Sizes, Steps]] = []
    for name in sorted((set(wanted) - moved) | set(shaped)):
        f, mate = by_id[name], shaped.get(name)
        to = Sizes(_size(f)) if name in moved or name not in wanted else wanted[name]
        try:
            plans.append((f, to, work.steps(f, mate, to)))
        except Refused as refusal:
            refused[name] = dict(made.refused).get(name, str(refusal))
    for f, to, steps in plans:
        try:
            mesh, more = carved(mesh, f, to, steps, recipe)
            changes += more
        except Refused as refusal:
            refused[f.id] = dict(made.refused).get(f.id, str(refusal))
    # However they were made, told in the order they were asked for.
    order = {c.feature: k for k, c in enumerate(found)}
    changes.sort(key=lambda c: order.get(c.feature, 0))
    return Edited(mesh, tuple(changes), tuple(sorted(refused.items(), key=lambda r: order.get(r[0], 0))))


def _changes(c: Correction) -> bool:
    return abs(c.to_mm - c.from_mm) > _SAME or (
        c.along_mm is not None and c.along_from_mm is not None and abs(c.along_mm - c.along_from_mm) > _SAME
    )


def _moved(part: PartFacts, wanted: dict[str, Sizes], line_width: float) -> Edited:
    """All walls moved at once; where one of them cannot be, each by itself, and why."""
    if not wanted:
        return Edited(part.mesh, ())
    try:
        return resize(part.mesh, part.features, wanted, line_width)
    except Refused as refusal:
        if len(wanted) == 1:
            return Edited(part.mesh, (), tuple((n, str(refusal)) for n in wanted))
    mesh = part.mesh
    changes: list[Change] = []
    refused: list[tuple[str, str]] = []
    for name, to in wanted.items():
        try:
            made = resize(mesh, part.features, {name: to}, line_width)
            mesh, changes = made.mesh, [*changes, *made.changes]
        except Refused as refusal:
            refused.append((name, str(refusal)))
    return Edited(mesh, tuple(changes), tuple(refused))


_LEANS = 1e-4


# What is done to a feature, step by step; of each step the ways it may be done, the first first, with its name.
Steps = list[list[tuple[list[Cut], str]]]


@dataclass(frozen=True)
class Cutting:
    """Changes made by exact solids, worked out on the ``mesh`` whose triangles the features name."""

    mesh: Mesh
    features: tuple[Feature, ...]
    direction: tuple[float, float, float]
    recipe: Recipe
    sag: float

    def steps(self, f: Feature, mate: Mate | None, to: Sizes) -> Steps:
        """What changes one feature. Raises :class:`Refused` where nothing can."""
        shape = mate.shape if mate is not None else "round"
        smaller, larger = to.across < _size(f) - _SAME, to.across > _size(f) + _SAME
        if smaller and shape != "round":
            raise Refused(f"{f.title}: it gets narrower and a roof at once; change its size in the model first.")
        out: Steps = []
        if shape != "round":
            out.append([([grown(self.mesh, f, to.across, np.asarray(self.direction), shape, self.sag)], shape)])
        elif smaller or larger or to.along is not None:
            out.append(self._resized(f, to, larger))
        if mate is not None and mate.cover != "none":
            layer = self.recipe.layer_height
            covers = cover(self.mesh, f, to.across, self.features, self.direction, mate.cover, layer)
            out.append([(covers, "shut by a skin" if mate.cover == "skin" else "stepped up to")])
        return out

    def _resized(self, f: Feature, to: Sizes, larger: bool) -> list[tuple[list[Cut], str]]:
        """By the solid between the wall and where it goes; where that fails, a plain hole that grows by its own
        polygon."""
        if f.rough:
            cuts = rough_wall(self.mesh, f, to)
            return [(cuts, "lined" if cuts[0].adds else "cut anew")]
        ways: list[tuple[list[Cut], str]] = []
        why: Refused | None = None
        try:
            made = moved_walls(self.mesh, f, to, self.features)
            ways += [([c], "lined" if c.adds else "cut anew") for c in made]
        except Refused as refusal:
            why = refusal
        if f.kind in ("hole", "hexagon") and not f.form and to.along is None and larger:
            plain: tuple[list[Cut], str] = ([grown(self.mesh, f, to.across)], "cut anew")
            # Facets that lean from one mouth's corners to the other's would be cut off at new mouths between corners.
            ways.insert(0 if _leaning(self.mesh, f) else len(ways), plain)
        if not ways:
            raise why or Refused(f"{f.title}: its size cannot be changed.")
        return ways


def _leaning(mesh: Mesh, f: Feature) -> bool:
    """Whether the facets of a wall do not run along its axis."""
    return bool((np.abs(mesh.normals[f.faces] @ np.asarray(f.axis)) > _LEANS).any())


def carved(mesh: Mesh, f: Feature, to: Sizes, steps: Steps, recipe: Recipe) -> tuple[Mesh, list[Change]]:
    """The mesh with one feature's steps made. Raises :class:`Refused`, with nothing changed, where one cannot be."""
    changes: list[Change] = []
    for ways in steps:
        why: Refused | None = None
        for cuts, how in ways:
            # A wall that gets thicker, or a hole that gets a roof or a floor, is not refused for being thin.
            least = LINES_LEFT * recipe.line_width if how == "cut anew" else 0.0
            try:
                mesh, volumes = carve_all(mesh, [Piece(f.title, cuts, least)])
            except Refused as refusal:
                why = why or refusal
                continue
            foretold = sum(c.predicted for c in cuts)
            changes.append(Change(f.id, _size(f), to.across, foretold, volumes[0], 0, how, to.along))
            break
        else:
            raise why or Refused(f"{f.title}: it cannot be changed.")
    return mesh, changes


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
