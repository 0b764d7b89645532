"""What can be put right in a mesh without guessing: waste triangles, windings, shells turned outward."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.mesh.needles import without_needles
from knollside.core.mesh.shells import shells_of
from knollside.core.mesh.topology import Edges, bodies_of, edges_of
from knollside.core.model import Ints, Mesh, Refused


@dataclass(frozen=True)
class Tidied:
    """The mesh put right, and what was done, with counts."""

    mesh: Mesh
    account: tuple[str, ...]


def tidied(mesh: Mesh) -> Tidied:
    """Drop triangles of no area and those there twice, wind neighbours alike, turn shells outward by what they contain.

    No corner moves and no hole is closed. Raises :class:`Refused` where nothing would be left.
    """
    account: list[str] = []
    faces = _without_waste(mesh, account)
    if len(faces) == 0:
        raise Refused("Nothing would be left: every triangle is without area.")
    edges = edges_of(Mesh(mesh.vertices, faces))
    flipped = wound_alike(len(faces), edges)
    if flipped.any():
        faces = np.where(flipped[:, None], faces[:, ::-1], faces)
        account.append(f"{_some(int(flipped.sum()), 'triangle')} turned to face as the neighbours do.")
    faces = _outward(Mesh(mesh.vertices, faces), account)
    if not account:
        return Tidied(mesh, ())
    made = Mesh(mesh.vertices, faces)
    used, new = made.used, np.full(len(mesh.vertices), -1, np.int64)
    new[used] = np.arange(len(used))
    return Tidied(Mesh(mesh.vertices[used], new[faces]), tuple(account))


def closed(mesh: Mesh, edges: Edges | None = None) -> bool:
    """Whether every edge has two triangles, wound alike."""
    edges = edges or edges_of(mesh)
    return bool((edges.count == 2).all() and (edges.turn == 0).all())


def _some(n: int, what: str) -> str:
    return f"{n:,} {what}{'' if n == 1 else 's'}"


def _without_waste(mesh: Mesh, account: list[str]) -> Ints:
    f = mesh.faces
    real = (f[:, 0] != f[:, 1]) & (f[:, 1] != f[:, 2]) & (f[:, 2] != f[:, 0])
    faces, laid = without_needles(mesh.vertices, f[real])
    flat = int((~real).sum()) + laid
    if flat:
        account.append(f"{_some(flat, 'triangle')} without area removed.")
    order = np.sort(faces, axis=1)
    _, first, which, times = np.unique(order, axis=0, return_index=True, return_inverse=True, return_counts=True)
    if (times > 1).any():
        # One that lies there twice goes once; two back to back part nothing from nothing, and both go.
        k = np.argmin(faces, axis=1)
        turn = faces[np.arange(len(faces)), (k + 1) % 3] < faces[np.arange(len(faces)), (k + 2) % 3]
        sense = np.bincount(which.ravel(), np.where(turn, 1, -1), minlength=len(first))
        keep = np.zeros(len(faces), bool)
        alone = first[(times == 1) | (sense != 0)]
        keep[alone] = True
        wanted = np.where(sense > 0, True, False)[which.ravel()]
        swap = keep & (times[which.ravel()] > 1) & (turn != wanted)
        faces = np.where(swap[:, None], faces[:, ::-1], faces)[keep]
        account.append(f"{_some(len(keep) - int(keep.sum()), 'triangle')} there twice removed.")
    return np.asarray(faces)


def _outward(mesh: Mesh, account: list[str]) -> Ints:
    edges = edges_of(mesh)
    if not closed(mesh, edges):
        return mesh.faces
    count, label = bodies_of(mesh, edges)
    shells = shells_of(mesh, label, count)
    if not shells.turned.any():
        return mesh.faces
    account.append(f"{_some(int(shells.turned.sum()), 'shell')} turned right side out, of {count}.")
    return np.where(shells.turned[label][:, None], mesh.faces[:, ::-1], mesh.faces)


def wound_alike(n: int, edges: Edges) -> np.ndarray:
    """Which of ``n`` triangles to turn so that paired neighbours agree; the larger party of each shell stays."""
    against = edges.turn[edges.pair_edge] != 0
    if not against.any():
        return np.zeros(n, bool)
    pair = edges.pair
    who = pair.T.ravel()
    order = np.argsort(who, kind="stable")
    start = np.r_[0, np.cumsum(np.bincount(who, minlength=n))]
    other = np.r_[pair[:, 1], pair[:, 0]][order]
    return np.asarray(_spread(start, other, np.r_[against, against][order]))


@numba.njit(cache=True, nogil=True)
def _spread(start, other, against):  # type: ignore[no-untyped-def]
    """Walks each shell from a triangle of it; a shell of which more than half was turned is turned back."""
    n = len(start) - 1
    flipped, seen, line = np.zeros(n, np.bool_), np.zeros(n, np.bool_), np.empty(n, np.int64)
    for root in range(n):
        if seen[root]:
            continue
        seen[root] = True
        line[0] = root
        end, done, turned = 1, 0, 0
        while done < end:
            t = line[done]
            done += 1
            for i in range(start[t], start[t + 1]):
                o = other[i]
                if not seen[o]:
                    seen[o] = True
                    flipped[o] = flipped[t] != against[i]
                    turned += flipped[o]
                    line[end] = o
                    end += 1
        if 2 * turned > end:
            for k in range(end):
                flipped[line[k]] = not flipped[line[k]]
    return flipped
