"""How far each edit of a mesh can have moved its surface, so that names can follow it."""

from __future__ import annotations

from dataclasses import replace
from functools import singledispatch

from knollside.core.fit.opening import OpenedGap, Thickened
from knollside.core.fit.scaling import Scaled
from knollside.core.fit.threadfit import Threaded
from knollside.core.mesh.edit import Edited
from knollside.core.mesh.facemap import Motion, farthest, same_triangles
from knollside.core.mesh.flare import Relieved
from knollside.core.mesh.repair import Repair
from knollside.core.model import Mesh

_ROOFED = 0.5  # of a hole's radius: how far a teardrop's or a flat top's roof goes beyond the round


@singledispatch
def motion_of(made: object, before: Mesh) -> Motion:
    """The motion of an edit's result; ``before`` is the mesh it was made from. mm."""
    raise TypeError(f"{type(made).__name__} is no edit of a mesh")


@motion_of.register
def _corrected(made: Edited, before: Mesh) -> Motion:
    plain = {"wall moved", "cut anew", "lined"}
    far = [abs(c.to_mm - c.from_mm) / 2 + (0 if c.how in plain else _ROOFED * c.to_mm / 2) for c in made.changes]
    return Motion(by=max(far, default=0.0) + 0.02)


@motion_of.register
def _relieved(made: Relieved, before: Mesh) -> Motion:
    return Motion(by=made.by)


@motion_of.register
def _opened(made: OpenedGap, before: Mesh) -> Motion:
    return _of_corners(before, made.mesh, Motion(by=abs(made.now - made.before) + 0.02))


@motion_of.register
def _thickened(made: Thickened, before: Mesh) -> Motion:
    return _of_corners(before, made.mesh, Motion(by=max((abs(by) for _, by in made.moved), default=0.0)))


@motion_of.register
def _threaded(made: Threaded, before: Mesh) -> Motion:
    return Motion(by=2 * abs(made.flank))


@motion_of.register
def _mended(made: Repair, before: Mesh) -> Motion:
    return Motion(by=1e-3)


@motion_of.register
def _scaled(made: Scaled, before: Mesh) -> Motion:
    low, high = before.bounds
    about = (float(low[0] + high[0]) / 2, float(low[1] + high[1]) / 2, float(low[2]))
    kept = [abs(s.plain - s.now) / 2 for s in made.sizes] + [abs(g.plain - g.now) for g in made.gaps]
    return _of_corners(before, made.mesh, Motion(max(kept, default=0.0), made.factor, about))


def _of_corners(before: Mesh, after: Mesh, motion: Motion) -> Motion:
    """A motion that covers what the corners really did, where the triangles are the same."""
    if not same_triangles(before, after):
        return motion
    return replace(motion, by=max(motion.by, farthest(before, after, motion)))
