"""Walls that run along one axis and follow one another round it: the outline of a pocket or a peg, wall by wall."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from knollside.core.mesh.recognition.joining import Round
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Array, Ints, square_to

_ALONG = 0.9995  # an edge along the axis
_SQUARE = 5e-3  # a flat's normal against the axis
_LONG = 0.2  # of an element's own length along the axis: shorter shared edges are corners
_MOST = 1200  # elements of an outline
_LEDGE = 0.03  # mm
_SAME_LINE = 0.02  # mm


@dataclass(frozen=True)
class Wall:
    """One element of an outline: a part of a round (``round`` its number), or a flat (``patch`` its number)."""

    faces: Ints
    round: int = -1
    patch: int = -1


@dataclass(frozen=True)
class Joint:
    """Where two walls meet: ``bend`` (rad, convex positive) and the ``place`` of the edge across the axis (2,)."""

    one: int
    two: int
    bend: float
    place: Array


@dataclass(frozen=True)
class Outline:
    """Walls in their order round ``axis`` with the joints between them; ``closed`` where the last meets the first."""

    axis: Array
    walls: tuple[Wall, ...]
    joints: tuple[Joint, ...]
    closed: bool

    @property
    def faces(self) -> Ints:
        return np.concatenate([w.faces for w in self.walls])


def outlines(skin: Skin, rounds: list[Round]) -> list[Outline]:
    """All outlines of a part, along each axis that a partial round or a sharp corner has."""
    found: list[Outline] = []
    free = np.ones(len(skin.mesh.faces), bool)
    for r in rounds:
        free[r.faces] = False
    for axis in _axes(skin, rounds):
        walls = _walls(skin, rounds, axis, free)
        if len(walls) > 1:
            found += _followed(walls, _joints(skin, walls, axis), axis)
    return found


def _axes(skin: Skin, rounds: list[Round]) -> list[Array]:
    p = skin.patches
    some = [r.axis for r in rounds if r.arcs.gap > 0.05]
    sharp = (np.abs(p.angle) > np.radians(29)) & (np.abs(p.angle) < np.radians(125))
    big = (p.area[p.pair].min(axis=1) > max(0.2, 2e-5 * float(p.area.sum()))) & p.striplike[p.pair].all(axis=1)
    edges = np.flatnonzero(sharp & big)
    some += list(p.along[edges[np.argsort(-p.length[edges])][:400]])
    out: list[Array] = []
    for a in some:
        if not any(abs(float(a @ b)) > 1 - 2e-6 for b in out):
            out.append(a)
        if len(out) >= 40:
            break
    return out


def _walls(skin: Skin, rounds: list[Round], axis: Array, free: np.ndarray) -> list[Wall]:
    """Rounds along the axis, and flats along it."""
    p = skin.patches
    walls = [
        Wall(part, round=k)
        for k, r in enumerate(rounds)
        if abs(float(r.axis @ axis)) > 1 - 2e-6 and r.arcs.gap > 1e-3
        for part in _apart(skin, r.faces)
    ]
    upright = (np.abs(p.normal @ axis) < _SQUARE) & (p.area > 1e-4)
    faces = np.flatnonzero(upright[p.of_face] & free)
    if len(faces):
        order = faces[np.argsort(p.of_face[faces], kind="stable")]
        cuts = np.flatnonzero(np.diff(p.of_face[order])) + 1
        walls += [Wall(part, patch=int(p.of_face[part[0]])) for part in np.split(order, cuts)]
    return walls


def _apart(skin: Skin, faces: Ints) -> list[Ints]:
    """Pieces of some triangles that do not touch along an edge."""
    place = np.full(len(skin.mesh.faces), -1, np.int64)
    place[faces] = np.arange(len(faces))
    beyond = skin.beyond[faces]
    to = np.where(beyond >= 0, place[np.maximum(beyond, 0)], -1)
    row, side = np.nonzero(to >= 0)
    n = len(faces)
    graph = coo_matrix((np.ones(len(row), np.int8), (row, to[row, side])), shape=(n, n))
    count, label = connected_components(graph, directed=False)
    return [faces] if count == 1 else [faces[label == k] for k in range(count)]


def _joints(skin: Skin, walls: list[Wall], axis: Array) -> list[Joint]:
    """Edges along the axis that two walls share."""
    owner = np.full(len(skin.mesh.faces), -1, np.int64)
    for k, w in enumerate(walls):
        owner[w.faces] = k
    e = skin.edges
    a, b = owner[e.pair[:, 0]], owner[e.pair[:, 1]]
    use = np.flatnonzero((a >= 0) & (b >= 0) & (a != b))
    ends = skin.mesh.vertices[e.corners[e.pair_edge[use]]]
    way = ends[:, 1] - ends[:, 0]
    length = np.linalg.norm(way, axis=1)
    along = np.abs(way @ axis) > _ALONG * length
    use, ends, length = use[along], ends[along], length[along]
    if not len(use):
        return []
    place = ends.mean(axis=1) @ np.stack(square_to(axis), axis=1)
    low, high = np.minimum(a[use], b[use]), np.maximum(a[use], b[use])
    height = np.array([float(np.ptp(skin.mesh.vertices[skin.mesh.faces[w.faces]] @ axis)) for w in walls])
    side = np.argmax(skin.beyond[e.pair[use, 0]] == e.pair[use, 1][:, None], axis=1)
    bend = skin.bend[e.pair[use, 0], side]
    out = []
    key = low * len(walls) + high
    order = np.argsort(key, kind="stable")
    for mine in np.split(order, np.flatnonzero(np.diff(key[order])) + 1):
        i, j = int(low[mine[0]]), int(high[mine[0]])
        # Two walls may meet along two lines, as the halves of a ring do.
        left = mine
        while len(left):
            near = np.linalg.norm(place[left] - place[left[0]], axis=1) < _SAME_LINE
            here, left = left[near], left[~near]
            if length[here].sum() > _LONG * min(height[i], height[j]):
                out.append(Joint(i, j, float(bend[here[0]]), place[here[0]]))
    return out


def _followed(walls: list[Wall], joints: list[Joint], axis: Array) -> list[Outline]:
    """Joints chained to outlines; a wall that more than two others meet begins and ends them."""
    at: list[list[int]] = [[] for _ in walls]
    for k, j in enumerate(joints):
        at[j.one].append(k)
        at[j.two].append(k)
    plain = np.array([len(a) <= 2 for a in at])
    ok = [j for j in joints if plain[j.one] and plain[j.two]]
    if not ok:
        return []
    n = len(walls)
    pair = np.array([(j.one, j.two) for j in ok])
    graph = coo_matrix((np.ones(len(ok), np.int8), (pair[:, 0], pair[:, 1])), shape=(n, n))
    label = connected_components(graph, directed=False)[1]
    out = []
    for k in np.unique(label[pair[:, 0]]):
        mine = np.flatnonzero(label == k)
        own = [j for j in ok if label[j.one] == k]
        if len(mine) <= _MOST:
            out.append(_ordered(walls, own, axis))
    return out


def _ordered(walls: list[Wall], joints: list[Joint], axis: Array) -> Outline:
    """Walls and joints of one chain in their order."""
    count: dict[int, int] = {}
    for j in joints:
        count[j.one] = count.get(j.one, 0) + 1
        count[j.two] = count.get(j.two, 0) + 1
    start = next((w for w, n in count.items() if n == 1), joints[0].one)
    order, line, left, now = [start], [], list(joints), start
    while left:
        step = next((j for j in left if now in (j.one, j.two)), None)
        if step is None:
            break
        left.remove(step)
        line.append(step)
        now = step.two if step.one == now else step.one
        order.append(now)
    closed = len(line) > 1 and order[-1] == order[0]
    if closed:
        order = order[:-1]
    return Outline(axis, tuple(walls[w] for w in order), tuple(line), closed)


def mended(o: Outline, rounds: list[Round]) -> Outline:
    """The outline less what a mesh of facets leaves in it: ledges no wider than a hair where a round's facets do not
    meet a tangent flat, and the piece of a facet that ends a round, which is of the round."""
    walls, joints = list(o.walls), list(o.joints)
    if not o.closed:
        return o
    k = 0
    while k < len(walls) and len(walls) > 2:
        before, after = joints[k - 1], joints[k]
        wide = float(np.linalg.norm(after.place - before.place))
        beside = [n for n in (k - 1, (k + 1) % len(walls)) if walls[n].round >= 0]
        near = next((n for n in beside if _facet_of(o, rounds[walls[n].round], k)), None)
        if walls[k].round >= 0 or (wide >= _LEDGE and near is None):
            k += 1
            continue
        near = next(iter(beside), None) if near is None else near
        if near is not None:
            w = walls[near]
            walls[near] = Wall(np.r_[w.faces, walls[k].faces], w.round)
        kept = after if near == k - 1 else before
        joints[k] = Joint(0, 0, kept.bend, kept.place)
        walls.pop(k)
        joints.pop(k - 1)
        o = Outline(o.axis, tuple(walls), tuple(joints), True)
        k = max(k - 1, 0)
    return o


def _facet_of(o: Outline, r: Round, k: int) -> bool:
    """Whether flat ``k`` is a piece of a facet of a round: its edges lie between the round and its facets' middles."""
    u, v = square_to(o.axis)
    centre = np.array([float(r.surface.point @ u), float(r.surface.point @ v)])
    off = np.array([float(np.linalg.norm(o.joints[n].place - centre)) for n in (k - 1, k)]) - r.surface.radius
    sag = r.surface.radius * (1 - np.cos(r.arcs.facet / 2)) * 1.1 + 1e-3
    wide = float(np.linalg.norm(o.joints[k].place - o.joints[k - 1].place))
    return bool((np.abs(off) <= sag).all() and wide < 2.1 * r.surface.radius * np.sin(r.arcs.facet / 2))
