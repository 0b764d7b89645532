"""Gaps between bodies made wider or narrower, and walls thickened with their partners following (F5, B6)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.mesh.check import check
from knollside.core.mesh.distance import shortest
from knollside.core.mesh.facing import facing, move_faces
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Feature, Ints, Mesh, Refused, square_to

_PART = 0.02  # share of a surface that must look for it to be moved in the second round
MOST_MOVED = 5.0  # mm a wall is moved at most


@dataclass(frozen=True)
class OpenedGap:
    """The mesh with one gap changed: the pair, the gap before and as found now, and how many corners moved."""

    mesh: Mesh
    bodies: tuple[int, int]
    before: float
    now: float
    moved: int


def set_gap(mesh: Mesh, bodies: tuple[int, int], to: float, before: float | None = None) -> OpenedGap:
    """Bring the least gap of two bodies to ``to`` mm by moving the faces of the later body that look at the other.

    Raises :class:`Refused` where no face looks at it, or the gap does not come out true.
    """
    i, j = bodies
    count, label = bodies_of(mesh)
    if i == j or not (0 <= i < count and 0 <= j < count):
        raise Refused(f"There are no two bodies {i + 1} and {j + 1}; the part has {count}.")
    if before is None:
        before = _gap(mesh, label, i, j)
    if before <= 0:
        raise Refused(f"Bodies {i + 1} and {j + 1} touch; there is no gap to open. Part them in the model.")
    mine, other = np.flatnonzero(label == j), np.flatnonzero(label == i)
    faces = facing(mesh, mine, other, max(2.5 * before, before + 0.3), before)
    if len(faces) == 0:
        raise Refused(f"No faces of body {j + 1} look at body {i + 1}; its gap cannot be set.")
    made = move_faces(mesh, faces, before - to)
    now, moved = _gap(made, label, i, j), [faces]
    if to > before and now < to - 0.02:
        # A surface that looks in part only, as a peg in a slot does, is the next to hold the gap narrow.
        rest = np.setdiff1d(facing(made, mine, other, to - 0.005, now, _PART), faces)
        if len(rest):
            made = move_faces(made, rest, now - to)
            now = _gap(made, label, i, j)
            moved.append(rest)
    if abs(now - to) > 0.06 * to + 0.01:
        raise Refused(
            f"Bodies {i + 1} and {j + 1} would come out {now:.2f} mm apart where {to:.2f} was wanted: their faces do "
            "not follow each other. Set the gap in the model."
        )
    if check(mesh).sound and not check(made).sound:
        raise Refused("Opened so, faces would cut into each other; nothing was changed.")
    return OpenedGap(made, bodies, before, now, len(np.unique(made.faces[np.concatenate(moved)])))


def _gap(mesh: Mesh, label: Ints, i: int, j: int) -> float:
    a, b = (Mesh(mesh.vertices, mesh.faces[label == k]) for k in (i, j))
    return float(shortest(a, b).distance)


@dataclass(frozen=True)
class MovedWall:
    """A flat and the one behind it: how thick the wall between them is, mm."""

    near: str
    far: str
    thick: float


def wall_behind(mesh: Mesh, features: tuple[Feature, ...], name: str) -> MovedWall:
    """The wall that a flat is one side of. Raises :class:`Refused` where nothing parallel lies behind it."""
    f = next((g for g in features if g.id == name and g.kind == "flat"), None)
    if f is None:
        raise Refused("Take a flat face of the wall on the stage first.")
    n, c = np.asarray(f.axis), np.asarray(f.centre)
    best: MovedWall | None = None
    own = mesh.vertices[np.unique(mesh.faces[f.faces])]
    for g in features:
        if g.kind != "flat" or g.body != f.body or float(np.dot(g.axis, n)) > -0.999:
            continue
        thick = float((c - np.asarray(g.centre)) @ n)
        other = mesh.vertices[np.unique(mesh.faces[g.faces])]
        if thick > 0.05 and _over(own, other, n) and (best is None or thick < best.thick):
            best = MovedWall(f.id, g.id, thick)
    if best is None:
        raise Refused(f"{f.title} has no parallel face behind it; it is no plain wall.")
    return best


def _over(a: np.ndarray, b: np.ndarray, n: np.ndarray) -> bool:
    """Whether two flats lie over each other, seen along ``n``: their boxes across it meet."""
    frame = np.stack(square_to(n), axis=1)
    p, q = a @ frame, b @ frame
    return bool((np.minimum(p.max(axis=0), q.max(axis=0)) - np.maximum(p.min(axis=0), q.min(axis=0)) > 0.2).all())


@dataclass(frozen=True)
class Thickened:
    """The mesh with a wall moved: which faces by how much, the partners that followed, the volume change, and what the
    person must do to a partner that is another part."""

    mesh: Mesh
    moved: tuple[tuple[str, float], ...]
    followed: int
    volume: float
    advice: str


def thicken(
    mesh: Mesh, features: tuple[Feature, ...], wall: MovedWall, by: float, side: str, follow: bool
) -> Thickened:
    """Make a wall ``by`` mm thicker (thinner where negative). ``side``: 'near', 'far' or 'both' faces move.

    With ``follow``, faces of other bodies that look at a moved face step back by as much, so that the gap returns.
    """
    if not 0 < abs(by) <= MOST_MOVED:
        raise Refused(f"A wall is moved by up to {MOST_MOVED:g} mm; {by:g} is out of that.")
    if wall.thick + by < 0.3:
        raise Refused(f"The wall is {wall.thick:.2f} mm; {-by:.2f} mm less would leave none that prints.")
    shares = {"near": (by, 0.0), "far": (0.0, by), "both": (by / 2, by / 2)}[side]
    by_id = {f.id: f for f in features}
    label = bodies_of(mesh)[1]
    made, followed, moved = mesh, 0, []
    for name, share in zip((wall.near, wall.far), shares, strict=True):
        if share == 0.0:
            continue
        f = by_id[name]
        partners = _looking(made, f, label) if follow else np.zeros(0, np.int64)
        made = move_faces(made, f.faces, share)
        if len(partners):
            made = move_faces(made, partners, -share)
            followed += len(np.unique(made.faces[partners]))
        moved.append((name, share))
    if check(mesh).sound and not check(made).sound:
        raise Refused("Moved so, faces would cut into each other; nothing was changed.")
    words = "; ".join(f"{by_id[n].title.lower()} out by {s:.2f} mm" for n, s in moved)
    advice = f"{words[:1].upper()}{words[1:]}. A partner printed by itself gives way by as much on that side."
    return Thickened(made, tuple(moved), followed, made.volume - mesh.volume, advice)


def _looking(mesh: Mesh, f: Feature, label: Ints) -> Ints:
    """Triangles of other bodies that look at a feature within 2 mm."""
    others = np.flatnonzero(label != f.body)
    if not len(others):
        return others
    return facing(mesh, others, f.faces, 2.0, 0.5)
