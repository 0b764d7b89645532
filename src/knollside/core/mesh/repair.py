"""Mend what can be mended without guessing, and give an honest account of it."""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d as m3
import numpy as np

from knollside.core.mesh.check import check
from knollside.core.mesh.shells import CRUMB, Place, shell_volumes, shells_of
from knollside.core.mesh.solid import mesh_of, solid_of
from knollside.core.mesh.tidy import closed, tidied
from knollside.core.mesh.topology import bodies_of
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
    return Tally(len(mesh.faces), bodies_of(mesh)[0], abs(mesh.volume) if closed(mesh) else None)


def repair(mesh: Mesh, unite: bool = False) -> Repair:
    """Drop waste triangles and crumbs, wind neighbours alike, turn inside-out shells; with ``unite``, make bodies that
    overlap one. Never closes holes.

    Refuses (raises :class:`Refused`) when a body would be lost; an open mesh stays open and is said to be.
    """
    before = tally(mesh)
    done = tidied(mesh)
    account = list(done.account)
    made = _without_crumbs(done.mesh, account)
    if unite:
        made = _united(made, account)
    left, after = check(made), tally(made)
    if not account and not left.problems:
        return Repair(made, ("Nothing needed mending.",), before, after)
    account += [f"Before: {before.words}.", f"After: {after.words}."]
    account += [f"Left: {p.message}" for p in left.problems]
    return Repair(made, tuple(account), before, after)


def _without_crumbs(mesh: Mesh, account: list[str]) -> Mesh:
    """The mesh less closed shells that hold next to nothing; a body is one by what it holds, however small a part."""
    if not closed(mesh):
        return mesh
    count, label = bodies_of(mesh)
    crumb = np.abs(shell_volumes(mesh, label, count)) < CRUMB
    if not crumb.any() or crumb.all():
        return mesh
    account.append(f"{int(crumb.sum())} crumbs that hold under {CRUMB:g} mm³ removed.")
    return Mesh(mesh.vertices, mesh.faces[~crumb[label]])


def _united(mesh: Mesh, account: list[str]) -> Mesh:
    """Bodies that overlap made one, by an exact boolean; hollows stay with the body round them."""
    if not closed(mesh):
        raise Refused("Only closed bodies can be united; this mesh is open.")
    count, label = bodies_of(mesh)
    shells = shells_of(mesh, label, count)
    solids = [
        solid_of(Mesh(mesh.vertices, mesh.faces[label == s]))
        for s in range(count)
        if shells.place[s] is not Place.HOLLOW
    ]
    hollows = [
        solid_of(Mesh(mesh.vertices, mesh.faces[label == s][:, ::-1]))
        for s in range(count)
        if shells.place[s] is Place.HOLLOW
    ]
    if len(solids) < 2:
        raise Refused("There are no two bodies to unite: what crosses is one shell. Mend it where it was made.")
    if hollows:
        raise Refused("One of the bodies has a hollow in it; which of the two is meant there cannot be told.")
    whole = m3.Manifold.batch_boolean(solids, m3.OpType.Add)
    parts = len(whole.decompose())
    account.append(f"{len(solids)} bodies united to {parts}.")
    return mesh_of(whole)
