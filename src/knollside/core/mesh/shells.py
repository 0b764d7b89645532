"""Shells of a mesh: how much each holds, which lies in which, and which way round each should be."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from knollside.core.model import Array, Ints, Mesh

CRUMB = 1e-3  # mm3; a shell that holds less is a crumb of some boolean, no body
_NO_BODY = 1e-6  # mm3


class Place(Enum):
    """What a shell is to those round it."""

    BODY = "a body"
    HOLLOW = "a hollow in a body"
    WITHIN = "a body within another"


@dataclass(frozen=True)
class Shells:
    """Per shell (s,): the ``volume`` it holds as it is wound, mm3; how many others it lies ``deep`` in; whether it must
    be ``turned`` over; and its ``place`` afterwards."""

    label: Ints
    volume: Array
    deep: Ints
    turned: np.ndarray
    place: tuple[Place, ...]

    @property
    def bodies(self) -> int:
        """Shells that are bodies of their own; crumbs are none."""
        return sum(p is not Place.HOLLOW and abs(v) > _NO_BODY for p, v in zip(self.place, self.volume.tolist()))


def shell_volumes(mesh: Mesh, label: Ints, count: int) -> Array:
    """Volume within each of ``count`` shells by the divergence theorem, mm3 (count,); negative where turned inside
    out."""
    t = mesh.triangles - mesh.bounds.mean(axis=0)
    each = np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])) / 6
    return np.bincount(label, each, minlength=count)


def shells_of(mesh: Mesh, label: Ints, count: int) -> Shells:
    """The shells of a closed mesh wound one way.

    A shell in nothing faces outward, and so does one in a hollow. One in solid is a hollow and faces inward, also in a
    file that is inside out as a whole; only where both face outward may a body within a body be meant, and that is
    left as it is.
    """
    volume = shell_volumes(mesh, label, count)
    around = _around(mesh, label, count, volume)
    deep = np.array([len(a) for a in around], np.int64)
    inside = np.zeros(count, np.int64)  # how many times solid it is within each, once turned
    turned = np.zeros(count, bool)
    place = [Place.BODY] * count
    for s in np.argsort(deep, kind="stable"):
        parent = max(around[s], key=lambda o: deep[o], default=-1)
        beyond = int(inside[parent]) if parent >= 0 else 0
        out = volume[s] >= 0
        if beyond <= 0:
            turned[s] = not out
        else:
            place[s] = Place.WITHIN if out and not turned[parent] else Place.HOLLOW
            turned[s] = out and place[s] is Place.HOLLOW
        inside[s] = beyond + (1 if out != turned[s] else -1)
    return Shells(label, volume, deep, turned, tuple(place))


def _around(mesh: Mesh, label: Ints, count: int, volume: Array) -> list[list[int]]:
    """Per shell those it lies in."""
    out: list[list[int]] = [[] for _ in range(count)]
    if count == 1:
        return out
    from knollside.core.mesh.inside import points_inside  # compiled code, which a single shell does without

    tri = mesh.triangles
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    np.minimum.at(low, label, tri.min(axis=1))
    np.maximum.at(high, label, tri.max(axis=1))
    first = np.full(count, len(label), np.int64)
    np.minimum.at(first, label, np.arange(len(label)))
    order = np.argsort(label, kind="stable")
    start = np.r_[0, np.cumsum(np.bincount(label, minlength=count))]
    for o in range(count):
        if abs(volume[o]) < _NO_BODY:
            continue
        inner = np.flatnonzero((low >= low[o]).all(axis=1) & (high <= high[o]).all(axis=1))
        inner = inner[inner != o]
        if len(inner):
            shell = Mesh(mesh.vertices, mesh.faces[order[start[o] : start[o + 1]]])
            for s in inner[points_inside(shell, tri[first[inner]].mean(axis=1))]:
                out[s].append(int(o))
    return out
