"""Threads of the part: how far each flank should give way on this printer, and the mesh with it done (F6)."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import shapely
from manifold3d import CrossSection
from manifold3d import Manifold as Solid

from knollside.core.fit.play import RUNNING_IN, across_of_flank
from knollside.core.fit.process import PrintSetting, learn
from knollside.core.mesh.helix import Profile, profile_of
from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.shells import CRUMB
from knollside.core.mesh.solid import mesh_of, solid_of
from knollside.core.mesh.topology import bodies_of, edges_of, stands_in
from knollside.core.model import Feature, Measurement, Mesh, Range, Refused

ALLOWANCE = Range(0.10, 0.05, 0.20)  # mm a flank between two printed partners, or against metal: typical
_HALF_ANGLE = 30.0
MOST_FLANK = 0.5
_INTO = 0.01  # mm


@dataclass(frozen=True)
class ThreadPlan:
    """Of one thread: mm a flank to give way by, of it what the printer takes and what the fit needs; how much the
    diameter changes; how much it will loosen with use; where the printer's share comes from."""

    feature: str
    flank: float
    for_printer: float
    for_fit: float
    across: float
    loosens: Range
    source: str


def plan_thread(
    f: Feature, readings: Iterable[Measurement], setting: PrintSetting | None = None, allowance: float = ALLOWANCE.value
) -> ThreadPlan:
    """What a thread's flanks need on this printer. ``allowance`` mm a flank is the play wanted in the end."""
    if f.kind != "thread" or f.diameter is None:
        raise Refused(f"{f.title} is no thread.")
    kind = "hole" if f.inside else "pin"
    shift = learn(readings, kind, "upright", f.diameter, setting)
    # A hole that closes by so much across closes each flank by that times the flank's lean.
    grows = -shift.value if f.inside else shift.value
    printer = grows / across_of_flank(1.0, _HALF_ANGLE)
    flank = printer + allowance
    return ThreadPlan(f.id, flank, printer, allowance, across_of_flank(flank, _HALF_ANGLE), RUNNING_IN, shift.source)


@dataclass(frozen=True)
class Threaded:
    """The mesh with one thread opened or closed, the volume change foretold and found, and the other corners, all kept
    to the bit."""

    mesh: Mesh
    feature: str
    flank: float
    predicted: float
    found: float
    kept: int


def move_flanks(mesh: Mesh, f: Feature, flank: float) -> Threaded:
    """Let every flank of a thread give way by ``flank`` mm, into the part, or come forward where it is negative, by an
    exact boolean with its own profile.

    Raises :class:`Refused` where faces would cut into each other or the volume not be as foretold.
    """
    if f.kind != "thread":
        raise Refused(f"{f.title} is no thread.")
    if not 0.01 <= abs(flank) <= MOST_FLANK:
        raise Refused(f"A flank moves by 0.01 to {MOST_FLANK:g} mm; {flank:g} is out of that.")
    profile, inside = profile_of(mesh, f), bool(f.inside)
    free = [_open(mesh, profile, end) for end in (0, 1)]
    # What is taken goes beyond a free end and stops short of what stands there, what is put on goes into it: no two
    # faces in one plane.
    if flank > 0:
        pads = [2 * flank + 0.05 if end else -_INTO for end in free]
    else:
        pads = [0.0 if end else _INTO for end in free]
    moved = profile.offset(flank if inside else -flank)
    longer, solid = moved.solid(pads[0] + 0.1, pads[1] + 0.1), solid_of(mesh)
    if flank < 0:
        within = _bounded(mesh, f, profile, -flank, pads)
        made = _whole(solid + (within - longer if inside else within ^ longer))
    else:
        # A wider tap takes an inside thread's flanks off; outside, all that lies beyond a narrower screw goes.
        made = _whole(solid - (moved.solid(pads[0], pads[1]) if inside else _round(profile, pads) - longer))
    if not (edges_of(made).count == 2).all() or bodies_of(made)[0] != bodies_of(mesh)[0]:
        raise Refused(f"{f.title}: moved by {flank:.2f} mm a flank, a body would be torn; take less.")
    predicted, found = -flank * float(mesh.areas[f.faces].sum()), made.volume - mesh.volume
    # A curved surface gains or loses a little more than area times distance: to the second order in the distance.
    room = math.pi * float(f.length or 1.0) * flank**2 + 0.12 * abs(predicted) + _chords(mesh, f, profile)
    if abs(found - predicted) > room:
        raise Refused(f"{f.title}: the volume would change by {found:.1f} mm³ where {predicted:.1f} was foretold.")
    others = np.setdiff1d(mesh.used, np.unique(mesh.faces[f.faces]))
    gone = others[~stands_in(mesh.vertices[others], made.vertices)]
    lost = sum(not _in_a_flat(mesh, int(v)) for v in gone)
    if lost:
        raise Refused(f"{f.title}: {lost} corners away from it would be lost; nothing was changed.")
    return Threaded(made, f.id, flank, predicted, found, len(others))


def _bounded(mesh: Mesh, f: Feature, profile: Profile, by: float, pads: list[float]) -> Solid:
    """Where a thread may gain: within its crests as they run over its length, a start that tapers included, raised by
    ``by``; of an inside thread the ring from there to behind its roots."""
    points = (mesh.vertices[np.unique(mesh.faces[f.faces])] - profile.centre) @ profile.turn.T
    r, z = np.hypot(points[:, 0], points[:, 1]), points[:, 2]
    far, low, high = float(r.max()) + 0.05, float(z.min()), float(z.max())
    # Crests stand on one line but where they taper towards an end: what is hollow of the hull is thread.
    hull = shapely.convex_hull(shapely.multipoints(np.c_[np.r_[r, far, far], np.r_[z, low, high]]))
    if not f.inside:
        hull = shapely.convex_hull(shapely.multipoints(np.c_[np.r_[r, 0, 0], np.r_[z, low, high]]))
    raised = shapely.buffer(hull, by, join_style="mitre")
    kept = shapely.intersection(raised, shapely.box(0.0, low - pads[0], far if f.inside else 2 * far, high + pads[1]))
    ring = np.asarray(shapely.orient_polygons(kept).exterior.coords)[:-1]
    made = Solid.revolve(CrossSection([ring]), 120)
    return made.transform(np.c_[profile.turn.T, profile.centre])


def _chords(mesh: Mesh, f: Feature, profile: Profile) -> float:
    """What lies between a thread's facets and its true surface, mm3: the new one has finer facets."""
    points = (mesh.vertices[mesh.faces[f.faces]] - profile.centre) @ profile.turn.T
    around = np.unwrap(np.arctan2(points[:, :, 1], points[:, :, 0]), axis=1)
    half = float(np.median(np.ptp(around, axis=1))) / 2
    return 2 / 3 * float(profile.radius.mean()) * (1 - math.cos(half)) * float(mesh.areas[f.faces].sum())


def _whole(solid: Solid) -> Mesh:
    """Without the crumbs that crests leave where they run out."""
    pieces = [p for p in solid.decompose() if abs(p.volume()) > CRUMB]
    return mesh_of(Solid.compose(pieces) if pieces else solid)


def _in_a_flat(mesh: Mesh, corner: int) -> bool:
    """Whether a corner lies inside a flat, which stays what it is without it."""
    normals = mesh.normals[(mesh.faces == corner).any(axis=1)]
    return bool(np.ptp(normals, axis=0).max() < 1e-6)


def _open(mesh: Mesh, profile: Profile, end: int) -> bool:
    """Whether there is nothing beyond an end of the thread, half-way up its flanks."""
    t = np.linspace(0, 2 * np.pi, 12, endpoint=False)
    r = float(profile.radius.mean())
    z = profile.low - 0.05 if end == 0 else profile.high + 0.05
    there = profile.centre + np.c_[r * np.cos(t), r * np.sin(t), np.full(12, z)] @ profile.turn
    return bool(points_inside(mesh, there).mean() < 0.5)


def _round(profile: Profile, pads: list[float]) -> Solid:
    """All that lies about an outside thread, over its length."""
    low, high = profile.low - pads[0], profile.high + pads[1]
    r = float(profile.radius.max()) + 0.5
    made = Solid.cylinder(high - low, r, circular_segments=96).translate((0, 0, low))
    return made.transform(np.c_[profile.turn.T, profile.centre])
