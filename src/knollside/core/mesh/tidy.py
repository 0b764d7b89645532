"""What can be put right in a mesh without guessing: waste triangles, windings, shells turned outward."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.mesh.needles import without_needles
from knollside.core.mesh.shells import shells_of
from knollside.core.mesh.topology import Edges, bodies_of, edges_of
from knollside.core.mesh.weld import without_loose
from knollside.core.model import Ints, Mesh, Refused

_NOTHING = 1e-9  # of the cube of its size


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
    if (edges.turn[edges.pair_edge] != 0).any():
        from knollside.core.mesh.winding import wound_alike  # compiled code, which most files do without

        flipped = wound_alike(len(faces), edges)
        faces = np.where(flipped[:, None], faces[:, ::-1], faces)
        edges = edges_of(Mesh(mesh.vertices, faces))
        account.append(f"{_some(int(flipped.sum()), 'triangle')} turned to face as the neighbours do.")
    faces = _outward(Mesh(mesh.vertices, faces), edges, account)
    made = Mesh(mesh.vertices, faces)
    # What holds nothing is no part with some waste: it stays as it is, to be told as faulty.
    if not account or (closed(made) and abs(made.volume) < _NOTHING * float(mesh.size.max()) ** 3):
        return Tidied(mesh, ())
    return Tidied(without_loose(made), tuple(account))


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


def _outward(mesh: Mesh, edges: Edges, account: list[str]) -> Ints:
    if not closed(mesh, edges):
        return mesh.faces
    count, label = bodies_of(mesh, edges)
    shells = shells_of(mesh, label, count)
    if not shells.turned.any():
        return mesh.faces
    account.append(f"{_some(int(shells.turned.sum()), 'shell')} turned right side out, of {count}.")
    return np.where(shells.turned[label][:, None], mesh.faces[:, ::-1], mesh.faces)
