"""Mend what can be mended without guessing, and give an honest account of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import breadth_first_order, connected_components

from knollside.core.mesh.check import check, nesting, shell_volumes
from knollside.core.mesh.topology import bodies_of, edges_of
from knollside.core.model import Mesh, Refused


@dataclass(frozen=True)
class Tally:
    """What a mesh comes to: triangles, shells, and volume (of a closed one; None otherwise), mm3."""

    triangles: int
    shells: int
    volume: float | None

    @property
    def words(self) -> str:
        solid = f"{self.volume:,.1f} mm³" if self.volume is not None else "not closed, so no volume"
        return f"{self.triangles:,} triangles, {self.shells} {'shell' if self.shells == 1 else 'shells'}, {solid}"


@dataclass(frozen=True)
class Repair:
    """The mended mesh, step by step what was done, and what it came to before and after."""

    mesh: Mesh
    account: tuple[str, ...]
    before: Tally
    after: Tally


def tally(mesh: Mesh) -> Tally:
    return Tally(len(mesh.faces), bodies_of(mesh)[0], abs(mesh.volume) if check_closed(mesh) else None)


def repair(mesh: Mesh) -> Repair:
    """Drop waste triangles, wind neighbours alike, turn inside-out shells. Never closes holes.

    Refuses (raises :class:`Refused`) when a step would lose a body or change the
    volume of a sound shell; an open mesh stays open and is said to be.
    """
    account: list[str] = []
    before = tally(mesh)
    bodies_before = before.shells

    keep = mesh.areas > 1e-12
    order = np.sort(mesh.faces, axis=1)
    first = np.zeros(len(order), bool)
    first[np.unique(order, axis=0, return_index=True)[1]] = True
    if not keep.all():
        account.append(f"Removed {int((~keep).sum())} triangles without area.")
    if not first.all():
        account.append(f"Removed {int((~first).sum())} triangles that were there twice.")
    mesh = Mesh(mesh.vertices, mesh.faces[keep & first])
    if len(mesh.faces) == 0:
        raise Refused("Nothing would be left: every triangle is without area.")

    faces = mesh.faces.copy()
    edges = edges_of(mesh)
    flipped = _wind_alike(len(faces), edges.pair, edges.turn[edges.pair_edge] != 0)
    if flipped.any():
        faces[flipped] = faces[flipped][:, ::-1]
        account.append(f"Turned {int(flipped.sum())} triangles to face as their neighbours do.")
    mesh = Mesh(mesh.vertices, faces)

    count, label = bodies_of(mesh)
    if check_closed(mesh):
        volumes = shell_volumes(mesh, label, count)
        wrong = (volumes < 0) != (nesting(mesh, label, count) % 2 == 1)
        if wrong.any():
            faces = mesh.faces.copy()
            turn = wrong[label]
            faces[turn] = faces[turn][:, ::-1]
            mesh = Mesh(mesh.vertices, faces)
            account.append(f"Turned {int(wrong.sum())} inside-out shells right side out.")
    if bodies_of(mesh)[0] != bodies_before:
        raise Refused(
            f"Mending would change the number of shells from {bodies_before} to {bodies_of(mesh)[0]}; "
            "mend it in the program it came from."
        )
    left, after = check(mesh), tally(mesh)
    if not account and not left.problems:
        return Repair(mesh, ("Nothing needed mending.",), before, after)
    account += [f"Before: {before.words}.", f"After: {after.words}."]
    account += [f"Left: {p.message}" for p in left.problems]
    return Repair(mesh, tuple(account), before, after)


def check_closed(mesh: Mesh) -> bool:
    edges = edges_of(mesh)
    return bool((edges.count == 2).all() and (edges.turn == 0).all())


def _wind_alike(n: int, pair: np.ndarray, against: np.ndarray) -> np.ndarray:
    """Which triangles to turn so that paired neighbours agree; the larger party of each shell stays."""
    flipped = np.zeros(n, bool)
    if not against.any():
        return flipped
    weight = np.where(against, 2.0, 1.0)
    graph = coo_matrix(
        (np.r_[weight, weight], (np.r_[pair[:, 0], pair[:, 1]], np.r_[pair[:, 1], pair[:, 0]])), shape=(n, n)
    ).tocsr()
    count, label = connected_components(graph, directed=False)
    for shell in range(count):
        root = int(np.argmax(label == shell))
        order, before = breadth_first_order(graph, root, directed=False)
        for t in order[1:]:
            flipped[t] = flipped[before[t]] ^ (graph[before[t], t] == 2.0)
        if flipped[order].sum() > len(order) / 2:
            flipped[order] ^= True
    return flipped
