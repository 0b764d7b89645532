"""What an outline is: a slot, a D-bore, a keyed bore, a keyhole, a square, a hexagon, a round-cornered rectangle."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from knollside.core.mesh.recognition.joining import Round
from knollside.core.mesh.recognition.loops import Outline
from knollside.core.mesh.recognition.seek import WHOLE
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.mesh.recognition.splines import teeth_of
from knollside.core.model import Array, FeatureForm, FeatureKind, Ints, square_to

_PARALLEL = 0.9995
_HALF = np.radians(150.0), np.radians(212.0)
_QUARTER = np.radians(70.0), np.radians(110.0)
_ALIKE = 0.012  # of a size, or so many mm: sizes that are meant to be one
_SMOOTH = np.radians(25.0)
_TAIL = 95.0, 150.0  # degrees between a dovetail's floor and its flanks, by their normals
_TAIL_ALIKE = 3.0
_BLOCK = 20.0  # mm; a square peg wider than that is a block, and such a pocket a box


@dataclass(frozen=True)
class Profile:
    """A shape drawn out along an axis: ``across`` its size, ``span`` its longer one (a slot's between its ends'
    centres), ``flat`` from a D's flat or a key's floor to the wall facing it, ``corner`` the radius of its corners; mm.
    ``angle`` of a dovetail's flanks to its floor, degrees. ``middle`` lies across the axis (2,). ``rounds`` are those
    it is made of; ``whole`` the one it only forms."""

    kind: FeatureKind
    form: FeatureForm
    axis: Array
    middle: Array
    across: float
    faces: Ints
    hollow: bool
    rounds: tuple[int, ...] = ()
    whole: int = -1
    span: float | None = None
    flat: float | None = None
    corner: float | None = None
    sides: int | None = None
    angle: float | None = None


def profiles_of(skin: Skin, rounds: list[Round], o: Outline) -> list[Profile]:
    """What an outline is; none where it is nothing that has a name."""
    at = _Plane(skin, rounds, o)
    flats = [w for w in o.walls if w.round < 0]
    arcs = [w.round for w in o.walls if w.round >= 0]
    teeth = teeth_of(skin, o, at.frame)
    if teeth is not None:
        made = "spline", "", o.axis, teeth.middle, teeth.over, o.faces, teeth.hollow
        return [Profile(*made, span=teeth.between, sides=teeth.count)]  # type: ignore[arg-type]
    tails = _dovetails(at, o)
    if tails:
        return tails
    if o.closed and not arcs:
        return _polygon(at, o)
    found: Profile | None = None
    if o.closed and len(set(arcs)) == 1:
        found = _cut_round(at, o, arcs[0], len(arcs), len(flats))
    elif o.closed and len(arcs) == 2 and len(flats) == 2:
        found = _two_ended(at, o, arcs)
    elif o.closed and len(arcs) == 2 and not flats:
        return _merged(at, o, arcs)
    elif o.closed and len(arcs) == 4 and len(flats) == 4:
        found = _round_cornered(at, o, arcs)
    elif o.closed and len(arcs) == 4 and not flats:
        found = _curved(at, o, arcs)
    return [found] if found is not None else _open_slots(at, o)


class _Plane:
    """The rounds and flats of an outline, seen along its axis."""

    def __init__(self, skin: Skin, rounds: list[Round], o: Outline) -> None:
        self.skin, self.rounds = skin, rounds
        self.frame = np.stack(square_to(o.axis), axis=1)

    def centre(self, r: int) -> Array:
        return np.asarray(self.rounds[r].surface.point @ self.frame)

    def radius(self, r: int) -> float:
        return self.rounds[r].diameter / 2

    def normal(self, patch: int) -> Array:
        n = self.skin.patches.normal[patch] @ self.frame
        return np.asarray(n / np.linalg.norm(n))

    def depth(self, patch: int) -> float:
        """How far a flat's plane lies from the axis frame's origin, along its own normal."""
        return float(self.skin.patches.centre[patch] @ self.frame @ self.normal(patch))


def _same(a: float, b: float) -> bool:
    return abs(a - b) <= max(_ALIKE * max(abs(a), abs(b)), 0.004)


def _between(x: float, ends: tuple[float, float]) -> bool:
    return ends[0] <= x <= ends[1]


def _cut_round(at: _Plane, o: Outline, r: int, arcs: int, flats: int) -> Profile | None:
    """A round with flats cut into it (D, double D) or with a key."""
    whole, centre, radius = at.rounds[r], at.centre(r), at.radius(r)
    patches = [w.patch for w in o.walls if w.round < 0]
    sense = -1.0 if whole.hollow else 1.0
    reach = [sense * (at.depth(p) - float(centre @ at.normal(p))) for p in patches]
    made = {"axis": o.axis, "middle": centre, "across": whole.diameter, "faces": o.faces, "hollow": whole.hollow}
    kind: FeatureKind = "hole" if whole.hollow else "pin"
    if arcs == 1 and flats == 1 and whole.arcs.sweep > np.radians(150) and reach[0] > -0.5 * radius:
        return Profile(kind, "D", **made, whole=r, flat=radius + reach[0])  # type: ignore[arg-type]
    if arcs == 2 and flats == 2 and abs(float(at.normal(patches[0]) @ at.normal(patches[1]))) > _PARALLEL:
        return Profile(kind, "double D", **made, whole=r, flat=sum(reach))  # type: ignore[arg-type]
    if arcs == 1 and flats == 3 and whole.whole:
        n = [at.normal(p) for p in patches]
        if float(n[0] @ n[2]) < -_PARALLEL and abs(float(n[0] @ n[1])) < 0.02:
            wide = abs(at.depth(patches[0]) + at.depth(patches[2]))
            flat = radius + reach[1]
            return Profile(kind, "keyed", **made, whole=r, span=wide, flat=flat)  # type: ignore[arg-type]
    return None


def _two_ended(at: _Plane, o: Outline, arcs: list[int]) -> Profile | None:
    """A slot, or a keyhole where one end is wider than what leads to it."""
    a, b = arcs
    patches = [w.patch for w in o.walls if w.round < 0]
    if at.rounds[a].hollow != at.rounds[b].hollow or float(at.normal(patches[0]) @ at.normal(patches[1])) > -_PARALLEL:
        return None
    wide = abs(at.depth(patches[0]) + at.depth(patches[1]))
    hollow = at.rounds[a].hollow
    span = float(np.linalg.norm(at.centre(b) - at.centre(a)))
    first, second = at.rounds[a].arcs.sweep, at.rounds[b].arcs.sweep
    if _same(at.radius(a), at.radius(b)) and _between(first, _HALF) and _between(second, _HALF):
        if abs(wide - 2 * at.radius(a)) > 0.05 * wide + 0.02:
            return None
        middle = (at.centre(a) + at.centre(b)) / 2
        return Profile("slot", "", o.axis, middle, 2 * at.radius(a), o.faces, hollow, (a, b), span=span)
    big, small = (a, b) if first > second else (b, a)
    if at.rounds[big].whole and hollow and at.rounds[small].arcs.sweep < WHOLE + 0.1:
        across = at.rounds[big].diameter
        made = "hole", "keyhole", o.axis, at.centre(big), across, o.faces, hollow, (small,)
        return Profile(*made, whole=big, span=wide)  # type: ignore[arg-type]
    return None


def _merged(at: _Plane, o: Outline, arcs: list[int]) -> list[Profile]:
    """Two rounds that run into each other along their length."""
    if arcs[0] == arcs[1] or not all(at.rounds[r].arcs.sweep > np.radians(150) for r in arcs):
        return []
    out = []
    for r in arcs:
        f = at.rounds[r]
        kind: FeatureKind = "hole" if f.hollow else "pin"
        out.append(Profile(kind, "merged", o.axis, at.centre(r), f.diameter, f.faces, f.hollow, whole=r))
    return out


def _round_cornered(at: _Plane, o: Outline, arcs: list[int]) -> Profile | None:
    """A rectangle with round corners."""
    patches = [w.patch for w in o.walls if w.round < 0]
    alternate = all((p.round < 0) != (q.round < 0) for p, q in pairwise([*o.walls, o.walls[0]]))
    square = all(abs(float(at.normal(p) @ at.normal(q))) < 0.02 for p, q in pairwise(patches))
    alike = all(_same(at.radius(r), at.radius(arcs[0])) and _between(at.rounds[r].arcs.sweep, _QUARTER) for r in arcs)
    hollow = at.rounds[arcs[0]].hollow
    if not (alternate and square and alike and all(at.rounds[r].hollow == hollow for r in arcs)):
        return None
    sides = sorted(abs(at.depth(patches[k]) + at.depth(patches[k + 2])) for k in (0, 1))
    if not hollow and sides[1] > _BLOCK:
        return None
    middle = np.mean([at.centre(r) for r in arcs], axis=0)
    kind: FeatureKind = "square" if _same(*sides) else "rectangle"
    made = kind, "", o.axis, middle, sides[0], o.faces, hollow, tuple(arcs)
    return Profile(*made, span=sides[1], corner=at.radius(arcs[0]), sides=4)  # type: ignore[arg-type]


def _curved(at: _Plane, o: Outline, arcs: list[int]) -> Profile | None:
    """A slot along an arc: two half-round ends, and two walls about one centre."""
    for k in (0, 1):
        a, b, c, d = arcs[k], arcs[k - 3], arcs[k + 2], arcs[k - 1]
        ends, walls = (at.rounds[a], at.rounds[c]), (at.rounds[b], at.rounds[d])
        if not all(e.hollow and _between(e.arcs.sweep, _HALF) for e in ends) or not _same(at.radius(a), at.radius(c)):
            continue
        if walls[0].hollow == walls[1].hollow or np.linalg.norm(at.centre(b) - at.centre(d)) > 0.05:
            continue
        if not _same(abs(at.radius(b) - at.radius(d)), 2 * at.radius(a)):
            continue
        pivot = (at.centre(b) + at.centre(d)) / 2
        radius = (at.radius(b) + at.radius(d)) / 2
        made = "slot", "arc", o.axis, pivot, 2 * at.radius(a), o.faces, True, tuple(arcs)
        return Profile(*made, span=radius)  # type: ignore[arg-type]
    return None


def _polygon(at: _Plane, o: Outline) -> list[Profile]:
    """Flats only: a square, a rectangle, a regular polygon."""
    n = len(o.walls)
    bends = np.array([j.bend for j in o.joints])
    hollow = bool((bends < 0).all())
    if not 3 < n <= 12 or not (hollow or (bends > 0).all()):
        return []
    if np.abs(np.abs(bends) - 2 * np.pi / n).max() > np.radians(1.0):
        return []
    patches = [w.patch for w in o.walls]
    normals = np.array([at.normal(p) for p in patches])
    depths = np.array([at.depth(p) for p in patches])
    # The middle that all flats are equally far from: n . m - depth = r, r of one sign.
    answer = np.linalg.lstsq(np.c_[normals, np.ones(n)], depths, rcond=None)[0]
    radius = abs(float(answer[2]))
    off = normals @ answer[:2] + answer[2] - depths
    if np.abs(off).max() < max(0.002 * radius, 0.004):
        kind: FeatureKind = {4: "square", 6: "hexagon"}.get(n, "polygon")  # type: ignore[assignment]
        if n == 4 and 2 * radius > _BLOCK:
            return []
        return [Profile(kind, "", o.axis, answer[:2], 2 * radius, o.faces, hollow, sides=n, span=2 * radius)]
    if n != 4:
        return []
    sides = sorted(abs(float(depths[k] + depths[k + 2])) for k in (0, 1))
    if sides[0 if hollow else 1] > _BLOCK:
        return []
    middle = np.linalg.lstsq(normals[:2], (depths[:2] - depths[2:]) / 2, rcond=None)[0]
    return [Profile("rectangle", "", o.axis, middle, sides[0], o.faces, hollow, sides=4, span=sides[1])]


def _dovetails(at: _Plane, o: Outline) -> list[Profile]:
    """A flat between two flanks that lean back under it (a tail) or over it (its groove), alike on both sides."""
    n = len(o.walls)
    out: list[Profile] = []
    if n < 5 or not o.closed:
        return out
    for k in range(n):
        floor, before, after = o.walls[k], o.walls[k - 1], o.walls[(k + 1) % n]
        bends = np.degrees([o.joints[j % n].bend for j in (k - 2, k - 1, k, k + 1)])
        inner, outer = bends[1:3], bends[[0, 3]]
        if any(w.round >= 0 for w in (floor, before, after)) or abs(inner[0] - inner[1]) > _TAIL_ALIKE:
            continue
        lean = abs(float(inner.mean()))
        if not _TAIL[0] < lean < _TAIL[1] or np.abs(outer + inner.mean()).max() > _TAIL_ALIKE:
            continue
        ends = o.joints[k - 1].place, o.joints[k].place
        wide = float(np.linalg.norm(ends[1] - ends[0]))
        faces = np.concatenate([w.faces for w in (before, floor, after)])
        middle = (ends[0] + ends[1]) / 2
        hollow = bool(inner.mean() < 0)
        out.append(Profile("dovetail", "", o.axis, middle, wide, faces, hollow, angle=180.0 - lean))
    return out


def _open_slots(at: _Plane, o: Outline) -> list[Profile]:
    """Half-round ends between two parallel flats that lead out of the part."""
    n, out = len(o.walls), []
    for k, w in enumerate(o.walls):
        inner = o.closed or 0 < k < n - 1
        if w.round < 0 or not inner or n < 3:
            continue
        before, after = o.walls[k - 1], o.walls[(k + 1) % n]
        bends = (o.joints[k - 1].bend, o.joints[k % len(o.joints)].bend)
        r = at.rounds[w.round]
        if before.round >= 0 or after.round >= 0 or not r.hollow or not _between(r.arcs.sweep, _HALF):
            continue
        parallel = float(at.normal(before.patch) @ at.normal(after.patch)) < -_PARALLEL
        wide = abs(at.depth(before.patch) + at.depth(after.patch))
        if parallel and max(np.abs(bends)) < _SMOOTH and abs(wide - r.diameter) < 0.03 * wide + 0.01:
            faces = np.concatenate([before.faces, w.faces, after.faces])
            out.append(Profile("slot", "open", o.axis, at.centre(w.round), r.diameter, faces, True, (w.round,)))
    return out
