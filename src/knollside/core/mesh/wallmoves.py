"""The wall of a hole, pin, slot or pocket moved square to itself: how each of its corners goes, and the solid between.

A corner goes by the least-squares solution of n . d = delta over the flats that meet there; on a round it goes straight
away from the axis. At the wall's ends it stays in the plane of what meets it there, so that mouths and floors, sloping
ones too, stay the planes they are.
"""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d as m3
import numpy as np
import shapely
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.patches import patches_of
from knollside.core.mesh.recognition.quadrics import circle
from knollside.core.mesh.solid import solid_of
from knollside.core.mesh.topology import edges_of
from knollside.core.model import POLYGONS, Array, Feature, Ints, Mesh, Refused, square_to

_ROUND = ("hole", "pin", "round")
_SAME = 0.9998  # cosine of flats that are one
_BROAD = 1.8  # a flat so much wider than the usual one is no facet
_LEANS = 0.1  # cosine between the way out of a wall and its axis, from which it is out along the axis
_STEEP = 0.25  # of the axis in a mouth's normal; less, and the wall runs along it
_PAST = 0.05  # mm a cut reaches past a mouth
_GRIP = 0.2  # mm a solid reaches beyond the wall it starts from


@dataclass(frozen=True)
class Moves:
    """Corners ``own`` (n,) of a wall, how they go across the axis (n, 3), and how far along it for a move of one mm
    that is to stay in the plane they end on (n, 3) in whole. ``plain``: whether every one can stay in the planes of all
    that meets it; ``mouth`` (n,) is 1 or -1 where it ends at an open mouth up or down the axis."""

    own: Ints
    by: Array
    plain: bool
    mouth: Array


@dataclass(frozen=True)
class Sizes:
    """What a feature becomes: ``across`` its diameter or width, ``along`` its whole second size where it has one."""

    across: float
    along: float | None = None


def second_size(f: Feature) -> float | None:
    """The whole length of a slot, the longer side of a rectangle, mm; None for what has one size."""
    if f.span is None or f.diameter is None:
        return None
    if f.kind == "slot" and f.form == "":
        return f.span + f.diameter
    return f.span if f.kind == "rectangle" else None


def moves_of(mesh: Mesh, f: Feature, to: Sizes) -> Moves:
    """How the corners of a feature's wall go. Raises :class:`Refused` where it has no size."""
    if f.diameter is None:
        raise Refused(f"{f.title} has no size to change.")
    axis, centre = np.asarray(f.axis, float), np.asarray(f.centre, float)
    own, of = np.unique(mesh.faces[f.faces], return_inverse=True)
    offset = mesh.vertices[own] - centre
    across = offset - np.outer(offset @ axis, axis)
    if f.kind in _ROUND and f.form in ("", "merged"):
        by = across * (to.across / f.diameter - 1)
    elif f.kind == "taper":
        by = across / np.linalg.norm(across, axis=1, keepdims=True) * (to.across - f.diameter) / 2
    elif f.form == "arc":
        by = _along_arc(f, across, axis, to.across)
    else:
        by = _by_flats(mesh, f, to, own, of.reshape(-1, 3), axis)
    return _ended(mesh, f, own, by, axis)


def _along_arc(f: Feature, across: Array, axis: Array, to: float) -> Array:
    """Corners of a slot along an arc, about whose middle they are ``across`` the axis: its two long walls go along
    their spokes, its two round ends along those about their own middles."""
    size, middle_line = float(f.diameter or 0.0), float(f.span or 0.0)
    radius = np.linalg.norm(across, axis=1)
    spoke = across / np.maximum(radius, 1e-12)[:, None]
    slack = 1e-3 + 2e-5 * middle_line
    outer, inner = (np.abs(radius - middle_line + s * size / 2) < slack for s in (-1.0, 1.0))
    by = spoke * ((outer * 1.0 - inner) * (to - size) / 2)[:, None]
    ends = np.flatnonzero(~outer & ~inner)
    frame = np.stack(square_to(axis), axis=1)
    mean = spoke.mean(axis=0)
    side = spoke[ends] @ np.cross(axis, mean) > 0
    for mine in (ends[side], ends[~side]):
        if len(mine) < 3:
            raise Refused(f"{f.title}: an end of it is too coarse to be moved; change its size in the model.")
        flat = across[mine] @ frame
        centre, r = circle(flat)
        if abs(2 * r - size) > 2e-3 + 1e-3 * size:
            raise Refused(f"{f.title}: an end of it is not round; change its size in the model.")
        by[mine] = ((flat - centre) * ((to - size) / 2 / r)) @ frame.T
    return np.asarray(by)


def _outward(f: Feature) -> float:
    """+1 where the wall looks away from what is in it, as a pin's does."""
    return 1.0 if f.kind == "pin" or f.inside is False else -1.0


def _by_flats(mesh: Mesh, f: Feature, to: Sizes, own: Ints, of: Ints, axis: Array) -> Array:
    """Each corner's way over the flats of the wall that meet there."""
    sign, frame = _outward(f), np.stack(square_to(axis), axis=1)
    normals = mesh.normals[f.faces] @ frame * sign
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
    patch = patches_of(mesh).of_face[f.faces]
    wide = _widths(mesh.vertices[own] @ frame, of, patch, normals)
    wide_one = _BROAD * float(np.median(list(wide.values())))
    size = float(f.diameter or 0.0)
    delta = (to.across - size) / 2
    whole = second_size(f)
    extra = (to.along - whole) / 2 - delta if to.along is not None and whole is not None else 0.0
    flat = mesh.vertices[own] @ frame
    middle_of = np.asarray(f.centre) @ frame
    sharp_only = f.kind in POLYGONS and not f.corner
    broad = np.array([sharp_only or wide[int(p)] > wide_one for p in patch])
    if f.kind in _ROUND:
        off = np.abs(np.linalg.norm(flat - middle_of, axis=1) - size / 2) > 1e-3 + 2e-5 * size
        broad |= off[of].any(axis=1)
    centre, turn = _arcs(flat, of, normals, broad)
    at: list[list[int]] = [[] for _ in own]
    for t, corners in enumerate(of):
        for c in corners:
            at[c].append(t)
    by = np.zeros((len(own), 2))
    for c, faces in enumerate(at):
        flats = {int(patch[t]): normals[t] for t in faces if broad[t]}
        ns = _distinct(np.array(list(flats.values()))) if flats else np.zeros((0, 2))
        if len(ns) >= 2 or (len(ns) == 1 and turn[c] == 0):
            by[c] = np.linalg.lstsq(ns, np.full(len(ns), delta), rcond=None)[0]
        elif turn[c] != 0:
            by[c] = _on_circle(flat[c] - centre[c], ns[:1], delta, turn[c])
        else:
            by[c] = delta * _halfway(f, normals[faces])
    if extra:
        # Each end goes as a whole, so that a round one stays round.
        long_way = _long_way(flat)
        by += extra * np.sign((flat - middle_of) @ long_way)[:, None] * long_way
    return np.asarray(by @ frame.T)


def _halfway(f: Feature, normals: Array) -> Array:
    """The way square to a line of facets where two of them meet, whatever curve they follow: on a round, its spoke."""
    some = _distinct(normals)
    total = some.sum(axis=0)
    if len(some) > 2 or float(np.linalg.norm(total)) < 0.8 * len(some):
        raise Refused(f"{f.title}: its wall is neither flat nor round there; change its size in the model.")
    return np.asarray(total / np.linalg.norm(total))


def _arcs(flat: Array, of: Ints, normals: Array, broad: np.ndarray) -> tuple[Array, Array]:
    """Of each corner of facets the middle of the round they are of (n, 2), and whether its wall looks away from it (1),
    to it (-1), or there is none (0)."""
    n = len(flat)
    centre, turn = np.zeros((n, 2)), np.zeros(n)
    facets = of[~broad]
    if not len(facets):
        return centre, turn
    rows, columns = facets.ravel(), np.repeat(np.arange(len(facets)), 3)
    graph = coo_matrix((np.ones(len(rows)), (columns, rows)), shape=(len(facets), n)).tocsr()
    _, label = connected_components(graph @ graph.T)
    for k in range(label.max() + 1):
        mine = label == k
        corners = np.unique(facets[mine])
        if len(corners) < 3:
            continue
        middle, radius = circle(flat[corners])
        spokes = flat[corners] - middle
        if np.abs(np.linalg.norm(spokes, axis=1) - radius).max() > 1e-3 + 2e-5 * radius:
            continue
        out = flat[facets[mine]].mean(axis=1) - middle
        centre[corners] = middle
        turn[corners] = 1.0 if float(np.einsum("ij,ij->", out, normals[~broad][mine])) > 0 else -1.0
    return centre, turn


def _on_circle(spoke: Array, flat: Array, delta: float, turn: float) -> Array:
    """How a corner on a round goes: along its spoke, or, where a flat cuts the round, to where both meet anew."""
    radius = float(np.linalg.norm(spoke))
    if not len(flat) or abs(float(spoke @ flat[0])) > 0.9998 * radius:  # where a flat goes over into it, too
        return np.asarray(spoke / radius * turn * delta)
    n = flat[0]
    depth, side = float(spoke @ n) + delta, spoke - n * float(spoke @ n)
    left = (radius + turn * delta) ** 2 - depth**2
    if left <= 0:
        return np.asarray(n * delta)
    return np.asarray(n * depth + side / np.linalg.norm(side) * np.sqrt(left) - spoke)


def _widths(flat: Array, of: Ints, patch: Ints, normals: Array) -> dict[int, float]:
    """How wide each flat piece of the wall is across the axis, mm."""
    out: dict[int, float] = {}
    for p in np.unique(patch):
        t = np.flatnonzero(patch == p)
        n = normals[t[0]]
        across = flat[of[t].ravel()] @ np.array([-n[1], n[0]])
        out[int(p)] = float(np.ptp(across))
    return out


def _long_way(flat: Array) -> Array:
    """The direction of the outline's longer side (2,)."""
    ring = np.asarray(shapely.MultiPoint(flat).minimum_rotated_rectangle.exterior.coords)
    sides = np.diff(ring[:3], axis=0)
    longest = sides[int(np.argmax(np.linalg.norm(sides, axis=1)))]
    return np.asarray(longest / np.linalg.norm(longest))


def _distinct(ns: Array) -> Array:
    kept: list[Array] = []
    for n in ns:
        if not any(float(n @ k) > _SAME for k in kept):
            kept.append(n)
    return np.array(kept)


def _ended(mesh: Mesh, f: Feature, own: Ints, by: Array, axis: Array) -> Moves:
    """Keep the ends of the wall in the planes that meet it there."""
    inside = np.zeros(len(mesh.faces), bool)
    inside[f.faces] = True
    place = np.full(len(mesh.vertices), -1, np.int64)
    place[own] = np.arange(len(own))
    near = np.flatnonzero(~inside & (place[mesh.faces] >= 0).any(axis=1) & (mesh.areas > 1e-9))
    planes: list[list[Array]] = [[] for _ in own]
    for t in near:
        for c in mesh.faces[t]:
            k = place[c]
            if k >= 0 and not any(float(mesh.normals[t] @ n) > 0.999999 for n in planes[k]):
                planes[k].append(mesh.normals[t])
    middle = float(np.mean(mesh.vertices[own] @ axis))
    by, mouth, plain = by.copy(), np.zeros(len(own)), True
    for k, normals in enumerate(planes):
        if not normals:
            continue
        ns = np.array(normals)
        lean = ns @ axis
        mean = ns.mean(axis=0)
        best = ns[int(np.argmax(np.abs(lean)))] if len(ns) > 1 and np.abs(lean).max() > 0.9995 else mean
        if abs(float(best @ axis)) > _STEEP:
            by[k] = by[k] - axis * float(best @ by[k]) / float(best @ axis)
            up = 1.0 if float(mesh.vertices[own[k]] @ axis) > middle else -1.0
            mouth[k] = up if float(best @ axis) * up > 0 else 0.0
        plain &= bool(np.abs(ns @ by[k]).max() < 1e-9 + 1e-6 * float(np.linalg.norm(by[k])))
    return Moves(own, by, plain, mouth)


def swept(mesh: Mesh, faces: Ints, moves: Moves) -> float:
    """Volume that a wall gains for the part as it goes, mm3: exact, the area of a moving triangle being of second
    degree in time (Simpson's rule)."""
    place = np.full(len(mesh.vertices), -1, np.int64)
    place[moves.own] = np.arange(len(moves.own))
    tri, by = mesh.triangles[faces], moves.by[place[mesh.faces[faces]]]
    total = 0.0
    for s, weight in ((0.0, 1 / 6), (0.5, 4 / 6), (1.0, 1 / 6)):
        now = tri + s * by
        cross = np.cross(now[:, 1] - now[:, 0], now[:, 2] - now[:, 0]) / 2
        total += weight * float(np.einsum("ij,ij->", cross, by.mean(axis=1)))
    return total


def _band(rim: Ints, one: int, two: int) -> Ints:
    """Triangles between two rings of corners, numbered from ``one`` and ``two``, along directed edges."""
    a, b = rim[:, 0], rim[:, 1]
    return np.vstack([np.c_[b + one, a + one, a + two], np.c_[b + one, a + two, b + two]])


def _aside(mesh: Mesh, f: Feature, moves: Moves) -> Array:
    """Of each corner the way on along the axis and out of the wall (unit, or nought), where a bore or the like ends it
    in a sharp edge: there a solid that follows the wall's rim would leave a fin or a notch. (n, 3)."""
    place = np.full(len(mesh.vertices), -1, np.int64)
    place[moves.own] = np.arange(len(moves.own))
    inside = np.zeros(len(mesh.faces), bool)
    inside[f.faces] = True
    pair = edges_of(mesh).pair
    rim = pair[inside[pair[:, 0]] != inside[pair[:, 1]]]
    own = np.where(inside[rim[:, 0]], rim[:, 0], rim[:, 1])
    other = np.where(inside[rim[:, 0]], rim[:, 1], rim[:, 0])
    out = np.zeros((len(moves.own), 3))
    middles = mesh.triangles.mean(axis=1)
    for t, o in zip(own, other, strict=True):
        shared = np.intersect1d(mesh.faces[t], mesh.faces[o])
        a, b = mesh.vertices[shared[:2]]
        if (
            len(shared) != 2
            or float((middles[o] - a) @ mesh.normals[t]) >= 0
            or (moves.mouth[place[shared]] != 0).any()
        ):
            continue
        way = np.cross(b - a, mesh.normals[t])
        way *= np.sign(float((a - middles[t]) @ way)) / max(float(np.linalg.norm(way)), 1e-12)
        out[place[shared]] += way
    # Along the axis only, so that every facet stays in its plane.
    along = out @ np.asarray(f.axis, float)
    told = np.abs(along) > _LEANS * np.linalg.norm(out, axis=1)
    return np.asarray(np.where(told, np.sign(along), 0.0)[:, None] * np.asarray(f.axis, float))


def between(mesh: Mesh, f: Feature, moves: Moves) -> tuple[m3.Manifold, bool]:
    """The solid between a wall and where it goes, reaching a little beyond the wall it starts from, and whether it is
    to be added. Raises :class:`Refused` where it is no solid."""
    axis = np.asarray(f.axis, float)
    adds = swept(mesh, f.faces, moves) > 0
    length = np.linalg.norm(moves.by, axis=1, keepdims=True)
    usual = float(np.median(length[length[:, 0] > 1e-12])) if (length > 1e-12).any() else 0.0
    if usual < 1e-9:
        raise Refused(f"{f.title}: nothing to change.")
    start, end = mesh.vertices[moves.own], mesh.vertices[moves.own] + moves.by
    # What is added starts in the wall, what is taken away in the void: past a mouth, and back from one.
    back = -moves.by / usual * _GRIP
    start = start + back
    aside = _aside(mesh, f, moves) * (usual + _PAST)
    start, end = start + aside, end + aside
    if adds:
        start -= axis * np.sign(moves.mouth)[:, None] * _PAST
    else:
        past = axis * moves.mouth[:, None] * (_PAST + _GRIP)
        start, end = start + past, end + past
    place = np.full(len(mesh.vertices), -1, np.int64)
    place[moves.own] = np.arange(len(moves.own))
    wall = place[mesh.faces[f.faces]]
    n = len(moves.own)
    outer = wall if adds else wall[:, ::-1]
    inner = outer[:, ::-1] + n
    edges = outer[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2)
    known = {(int(a), int(b)) for a, b in edges}
    rim = np.array([e for e in known if (e[1], e[0]) not in known], np.int64).reshape(-1, 2)
    # What is added follows its mouth from the wall's own rim on, and only behind that draws back into the wall.
    at_rim = mesh.vertices[moves.own] + aside if adds else (start + end) / 2
    sides = np.vstack([_band(rim, 0, 2 * n), _band(rim, 2 * n, n)])
    made = Mesh(np.vstack([end, start, at_rim]), np.vstack([outer, inner, sides]))
    solid = solid_of(made)
    if solid.status() != m3.Error.NoError or solid.is_empty() or solid.volume() <= 0:
        raise Refused(f"{f.title}: its wall cannot be moved so far; it would pass through itself.")
    return solid, adds
