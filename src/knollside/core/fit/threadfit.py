"""Threads of the part: how far each flank should give way on this printer, and the mesh with it done (F6)."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from manifold3d import Manifold as Solid

from knollside.core.fit.play import RUNNING_IN, across_of_flank
from knollside.core.fit.process import PrintSetting, learn
from knollside.core.mesh.helix import Profile, profile_of
from knollside.core.mesh.inside import points_inside
from knollside.core.mesh.solid import mesh_of, solid_of
from knollside.core.mesh.topology import bodies_of, edges_of, stands_in
from knollside.core.model import Feature, Measurement, Mesh, Range, Refused

ALLOWANCE = Range(0.10, 0.05, 0.20)  # mm a flank between two printed partners, or against metal: typical
_HALF_ANGLE = 30.0
MOST_FLANK = 0.5


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
    """The mesh with one thread opened, the volume change foretold and found, and other corners, all kept to the bit."""

    mesh: Mesh
    feature: str
    flank: float
    predicted: float
    found: float
    kept: int


def open_flanks(mesh: Mesh, f: Feature, flank: float) -> Threaded:
    """Let every flank of a thread give way by ``flank`` mm, into the part, by an exact boolean with its own profile.

    Raises :class:`Refused` where faces would cut into each other or the volume not be as foretold.
    """
    if f.kind != "thread":
        raise Refused(f"{f.title} is no thread.")
    if not 0.01 <= flank <= MOST_FLANK:
        raise Refused(f"A flank gives way by 0.01 to {MOST_FLANK:g} mm; {flank:g} is out of that.")
    profile = profile_of(mesh, f)
    pads = [2 * abs(flank) + 0.05 if _open(mesh, profile, end) else 0.0 for end in (0, 1)]
    solid, inside = solid_of(mesh), bool(f.inside)
    screw = profile.offset(flank if inside else -flank).solid(pads[0], pads[1])
    # A wider tap takes an inside thread's flanks off; outside, all that lies beyond a narrower screw goes.
    made = mesh_of(solid - screw if inside else solid - (_round(profile, pads) - screw))
    if not (edges_of(made).count == 2).all() or bodies_of(made)[0] != bodies_of(mesh)[0]:
        raise Refused(f"{f.title}: moved by {flank:.2f} mm a flank, a body would be torn; take less.")
    predicted, found = -abs(flank) * float(mesh.areas[f.faces].sum()), made.volume - mesh.volume
    # A curved surface gains or loses a little more than area times distance: to the second order in the distance.
    room = math.pi * float(f.length or 1.0) * flank**2 + 0.12 * abs(predicted)
    if abs(found - predicted) > room:
        raise Refused(f"{f.title}: the volume would change by {found:.1f} mm³ where {predicted:.1f} was foretold.")
    others = np.setdiff1d(mesh.used, np.unique(mesh.faces[f.faces]))
    lost = int((~stands_in(mesh.vertices[others], made.vertices)).sum())
    if lost:
        raise Refused(f"{f.title}: {lost} corners away from it would be lost; nothing was changed.")
    return Threaded(made, f.id, flank, predicted, found, len(others))


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
