"""Sizes of rounds and slots whose wall is rough, scanned or smoothed: the wall is made anew, true to size.

A hole that grows is cut with a true round; one that shrinks is lined first, from within its rough wall, and then cut. A
pin the other way about. Volumes are foretold by the common part of the solids.
"""

from __future__ import annotations

import manifold3d as m3
import numpy as np
import shapely

from knollside.core.mesh.bore import Bore, Cut
from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.solid import solid_of
from knollside.core.mesh.wallmoves import Sizes
from knollside.core.model import Array, Feature, Mesh, Refused, square_to

_SIDES = 96
_PAST = 0.5  # mm that a cutter reaches out of an open end
_GRIP = 0.3  # mm that a lining reaches into its wall beyond the roughest place
KINDS = ("hole", "pin", "slot")


def rough_wall(mesh: Mesh, f: Feature, to: Sizes) -> list[Cut]:
    """The cuts that bring a rough hole, pin or slot to size. Raises :class:`Refused` for anything else."""
    if f.kind not in KINDS or f.form or f.diameter is None:
        raise Refused(f"{f.title} is rough, and no plain hole, pin or slot: change its size in the model.")
    axis, v = np.asarray(f.axis), _up(mesh, f)
    turn = np.stack([np.cross(v, axis), v, axis])
    low, high = _ends(mesh, f)
    rough = _GRIP + (f.residual or 0.0)
    grows = to.across > f.diameter
    wanted = _profile(f, to.across, to.along)
    wider = shapely.buffer(_profile(f, max(to.across, f.diameter), to.along), rough)
    open_low, open_high = (_open(mesh, f, turn, z) for z in (low - 0.3, high + 0.3))
    ring = np.asarray(wanted.exterior.coords)[:-1]
    b = Bore(turn, np.asarray(f.centre), ring, low, high, open_low, open_high, float(np.abs(ring).max()))
    through = low - _PAST * open_low, high + _PAST * open_high
    if f.kind == "pin":
        if grows:
            return _told(mesh, b, wanted, [(b.placed(wanted, low, high), True)])
        about = b.placed(wider, low, high + _PAST) - b.placed(wanted, low - 1, high + 1)
        return _told(mesh, b, wanted, [(about, False)])
    if grows:
        return _told(mesh, b, wanted, [(b.placed(wanted, *through), False)])
    return _told(mesh, b, wanted, [(b.placed(wider, low, high), True), (b.placed(wanted, *through), False)])


def _told(mesh: Mesh, b: Bore, profile: shapely.Polygon, solids: list[tuple[m3.Manifold, bool]]) -> list[Cut]:
    """The cuts with what each changes, one after the other."""
    now, out = solid_of(mesh), []
    for solid, adds in solids:
        shared = float((now ^ solid).volume())
        predicted = float(solid.volume()) - shared if adds else -shared
        out.append(Cut(solid, adds, predicted, b, profile))
        now = now + solid if adds else now - solid
    return out


def _up(mesh: Mesh, f: Feature) -> Array:
    """The second direction of its frame: along a slot, else any across the axis."""
    axis = np.asarray(f.axis)
    if not f.span:
        return square_to(axis)[0]
    off = mesh.vertices[np.unique(mesh.faces[f.faces])] - np.asarray(f.centre)
    across = off - np.outer(off @ axis, axis)
    along = np.linalg.eigh(across.T @ across)[1][:, -1]
    along = along - axis * (along @ axis)
    return np.asarray(along / np.linalg.norm(along))


def _profile(f: Feature, across: float, along: float | None) -> shapely.Polygon:
    """A true round of that size, or a slot along the second direction; corners on the true line."""
    turns = 2 * np.pi * np.arange(_SIDES) / _SIDES
    ring = across / 2 * np.stack([np.cos(turns), np.sin(turns)], axis=1)
    if not f.span:
        return shapely.Polygon(ring)
    half = f.span / 2 if along is None else max((along - across) / 2, 0.0)
    ends = np.concatenate([ring + np.array([0, half]), ring - np.array([0, half])])
    hull = shapely.convex_hull(shapely.MultiPoint(ends))
    assert isinstance(hull, shapely.Polygon)
    return hull


def _ends(mesh: Mesh, f: Feature) -> tuple[float, float]:
    """Where its wall ends along the axis, from its centre: the middle of each rough rim."""
    axis, own = np.asarray(f.axis), np.unique(mesh.faces[f.faces])
    inside = np.zeros(len(mesh.faces), bool)
    inside[f.faces] = True
    beside = np.unique(mesh.faces[~inside & np.isin(mesh.faces, own).any(axis=1)])
    rim = (mesh.vertices[np.intersect1d(own, beside)] - np.asarray(f.centre)) @ axis
    half = (f.length or 0.0) / 2
    low, high = rim[rim < -0.5 * half], rim[rim > 0.5 * half]
    return (float(np.median(low)) if len(low) else -half), (float(np.median(high)) if len(high) else half)


def _open(mesh: Mesh, f: Feature, turn: Array, z: float) -> bool:
    """Whether nothing closes it at a height."""
    turns = np.arange(8) * np.pi / 4
    spots = 0.35 * (f.diameter or 0.0) * np.stack([np.cos(turns), np.sin(turns), np.zeros(8)], axis=1)
    spots[:, 2] = z
    return bool(points_inside(mesh, np.asarray(f.centre) + spots @ turn).mean() < 0.5)
