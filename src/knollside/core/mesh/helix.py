"""Screw threads as solids, and the profile of a thread that is on a mesh."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely
from manifold3d import Manifold as Solid

from knollside.core.mesh.solid import solid_of
from knollside.core.model import Array, Feature, Mesh, Refused, rotation_to_up

AROUND, ROWS = 60, 14  # corners round, and rows a turn
_PHASES = 96


def helical(radius: Callable[[np.ndarray], np.ndarray], pitch: float, high: float, around: int = AROUND) -> Solid:
    """A right-handed screw along +Z whose radius at angle t and height z is radius(z / pitch - t / turn).

    Corners stand above each other: an extrusion that twists would pull its sides in between its slices.
    """
    rows = max(round(high / pitch * ROWS), 2) + 1
    t, z = np.arange(around) / around, np.linspace(0, high, rows)
    r = radius(z[:, None] / pitch - t[None])
    turn = 2 * np.pi * t[None]
    side = np.stack([r * np.cos(turn), r * np.sin(turn), np.broadcast_to(z[:, None], r.shape)], axis=2).reshape(-1, 3)
    vertices = np.concatenate([side, np.array([[0.0, 0.0, 0.0], [0.0, 0.0, high]])])
    k, j = np.meshgrid(np.arange(rows - 1), np.arange(around), indexing="ij")
    a, b = k * around + j, k * around + (j + 1) % around
    sides = np.stack([np.stack([a, b, b + around], axis=2), np.stack([a, b + around, a + around], axis=2)])
    ring, low, top = np.arange(around), len(side), len(side) + 1
    after, up = (ring + 1) % around, (rows - 1) * around
    bottom = np.stack([after, ring, np.full(around, low)], axis=1)
    lid = np.stack([ring + up, after + up, np.full(around, top)], axis=1)
    return solid_of(Mesh(vertices, np.vstack([sides.reshape(-1, 3), bottom, lid]).astype(np.int64)))


@dataclass(frozen=True)
class Profile:
    """A thread's radius over its phase, evenly sampled (mm); ``hand`` +1 right, -1 left; rows of ``turn`` with
    ``centre`` its own frame, along Z from ``low`` to ``high``."""

    radius: Array
    hand: int
    turn: Array
    centre: Array
    low: float
    high: float
    pitch: float

    def at(self, phase: Array) -> Array:
        """Radius at phases of the turn (n,), mm (n,)."""
        n = len(self.radius)
        return np.interp(phase % 1.0, (np.arange(n) + 0.5) / n, self.radius, period=1.0)

    def offset(self, by: float) -> Profile:
        """The same thread with its surface moved ``by`` mm square to itself, away from the axis."""
        n = len(self.radius)
        z = np.arange(-n, 2 * n) / n * self.pitch  # three turns, of which the middle one is kept
        outline = np.c_[z, np.tile(self.radius, 3)]
        under = shapely.Polygon([(z[0], 0.0), *outline, (z[-1], 0.0)])
        grown = shapely.buffer(under, by, join_style="mitre")
        top = float(self.radius.max()) + 2 * abs(by) + 1.0
        rays = shapely.linestrings([[(x, 0.3 * self.radius.min()), (x, top)] for x in z[n : 2 * n]])
        hit = shapely.get_coordinates(shapely.intersection(rays, grown), return_index=True)
        radius = np.zeros(n)
        np.maximum.at(radius, hit[1], hit[0][:, 1])
        return Profile(radius, self.hand, self.turn, self.centre, self.low, self.high, self.pitch)

    def solid(self, before: float, beyond: float, around: int = 2 * AROUND) -> Solid:
        """The screw of this profile, longer by so much at either end, in the part's frame."""
        z0 = self.low - before
        made = helical(lambda p: self.at(p + z0 / self.pitch), self.pitch, self.high + beyond - z0, around)
        if self.hand < 0:
            made = made.mirror((0, 1, 0))
        return made.translate((0, 0, z0)).transform(np.c_[self.turn.T, self.centre])


def profile_of(mesh: Mesh, f: Feature) -> Profile:
    """Read a thread's profile off its corners, which lie on the true surface; raises :class:`Refused` where they do not
    repeat along a helix."""
    if f.kind != "thread" or f.pitch is None:
        raise Refused(f"{f.title} is no thread.")
    turn, centre = rotation_to_up(f.axis), np.asarray(f.centre)
    points = (mesh.vertices[np.unique(mesh.faces[f.faces])] - centre) @ turn.T
    r, around, z = (
        np.hypot(points[:, 0], points[:, 1]),
        np.arctan2(points[:, 1], points[:, 0]) / (2 * np.pi),
        points[:, 2],
    )
    low, high = float(z.min()), float(z.max())
    # Turns that taper towards an end do not speak for the others.
    if high - low > 4 * f.pitch:
        whole = (z > low + f.pitch) & (z < high - f.pitch)
        r, around, z = r[whole], around[whole], z[whole]
    best: tuple[float, int, float, Array] | None = None
    for hand in (1, -1):
        for pitch in f.pitch * np.linspace(0.99, 1.01, 41):
            at = np.floor(((z / pitch - hand * around) % 1.0) * _PHASES).astype(np.int64) % _PHASES
            count = np.bincount(at, minlength=_PHASES)
            mean = np.bincount(at, r, minlength=_PHASES) / np.maximum(count, 1)
            off = float(((r - mean[at]) ** 2).mean())
            if best is None or off < best[0]:
                filled = np.interp(np.arange(_PHASES), np.flatnonzero(count), mean[count > 0], period=_PHASES)
                best = (off, hand, float(pitch), filled)
    assert best is not None
    if best[0] > (0.25 * np.ptp(best[3])) ** 2:
        raise Refused(f"{f.title} does not repeat along its turns; open it in the model.")
    return Profile(best[3], best[1], turn, centre, low, high, best[2])
