"""Where to cut a part in two so that each piece lies well, and what the joint then has to carry.

One stress field serves: glued, the part carries as before, so each piece is rated by its own points for its own
best way to lie. The joint is judged by the resultants through the cut (docs/methods.md 1.20) against typical glue and
screws, with the knock-downs of the duty.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import manifold3d as m3
import numpy as np

from knollside.core.job.answer import PartFacts
from knollside.core.lay.candidates import candidates
from knollside.core.lay.orientations import RatedOrientation
from knollside.core.lay.stability import fitting, standing
from knollside.core.mesh.slicer import Section
from knollside.core.mesh.solid import mesh_of, solid_of
from knollside.core.model import Array, Mesh, Refused, rotation_to_up
from knollside.core.strength.rating import rate
from knollside.core.strength.resultants import Resultants, nominal_reserve, resultants
from knollside.core.strength.strength import Strength

GLUE_MPA = (6.0, 3.0, 10.0)  # pulled, sanded faces, two-part epoxy: typical middle, low, high
SCREW_N = 400.0  # one M4 in a melted-in insert, pulled; typical
_SCREW_ROOM = 90.0  # mm2 of joint that one takes
_LEVELS = 14
_LEAST_AREA = 20.0  # mm2
_WORTH = 0.12  # a smaller gain is not worth a joint
_JOINT = 0.1  # of a gain that the widest joint costs


@dataclass(frozen=True)
class Half:
    """One piece: which way it lies, its reserve that way, what leans too far (mm2), its height and grams' share."""

    direction: tuple[float, float, float]
    reserve: float
    overhang: float
    height: float
    share: float
    fits: bool


@dataclass(frozen=True)
class CutPlan:
    """A plane square to ``normal`` through ``at`` (part's frame), its ``area`` mm2, the two pieces, the reserve of a
    glued joint with its (low, high), and how many M4 screws would do instead (None: no room for them)."""

    normal: tuple[float, float, float]
    at: tuple[float, float, float]
    area: float
    pieces: tuple[Half, Half]
    glued: float
    glued_range: tuple[float, float]
    screws: int | None

    @property
    def reserve(self) -> float:
        """The least of pieces and joint."""
        return min(self.glued, *(p.reserve for p in self.pieces))

    @property
    def overhang(self) -> float:
        """What leans too far of both pieces, mm2."""
        return sum(p.overhang for p in self.pieces)


def cut_plans(
    part: PartFacts,
    s: Strength,
    whole: RatedOrientation,
    bed: tuple[float, float, float],
    most: int = 3,
    tick: Callable[[float, str], None] | None = None,
) -> tuple[CutPlan, ...]:
    """The cuts that gain most against the part ``whole`` as it lies; none where no cut gains.

    Refuses a part of several bodies. Planes square to the part's own flats and to the three axes are tried.
    """
    if part.soundness.bodies != 1:
        raise Refused("It is in several bodies already; a cut is worked out for one at a time.")
    say = tick or (lambda share, text: None)
    solid = solid_of(part.mesh)
    normals = _normals(part)
    found: list[CutPlan] = []
    for i, n in enumerate(normals):
        say(i / len(normals), "trying cuts")
        res = resultants(part.mesh, s.field, n, _LEVELS)
        glued = _glued(res, s)
        for k in range(len(res.heights)):
            if res.sections[k].area >= _LEAST_AREA:
                plan = _plan(part, s, solid, n, res, k, glued[:, k], bed)
                if plan is not None:
                    found.append(plan)
    widest = max((p.area for p in found), default=1.0)
    worth = [(_gain(p, whole, s.target), p) for p in found]
    # Of two that gain alike the smaller joint: less to glue and to make flat.
    gains = [
        p for _, p in sorted(((_JOINT * p.area / widest - g, p) for g, p in worth if g > _WORTH), key=lambda w: w[0])
    ]
    out: list[CutPlan] = []
    for p in gains:
        # One of each direction says more than three neighbours.
        if all(abs(float(np.dot(p.normal, o.normal))) < 0.9 for o in out):
            out.append(p)
    return tuple(out[:most])


def _gain(p: CutPlan, whole: RatedOrientation, target: float) -> float:
    """What a cut gains: strength up to twice the need, less leaning, room on the bed; a weak joint spoils it."""
    before = min(whole.reserve.value / target, 2.0) / 2
    after = min(p.reserve / target, 2.0) / 2
    saved = (whole.overhang - p.overhang) / max(whole.overhang, 300.0)
    room = 1.0 if not whole.footing.fits and all(h.fits for h in p.pieces) else 0.0
    spoiled = 1.0 if p.reserve < min(target, 0.9 * whole.reserve.value) else 0.0
    return 0.6 * (after - before) + 0.4 * saved + room - spoiled


def _normals(part: PartFacts) -> list[Array]:
    out = [np.eye(3)[i] for i in range(3)]
    for f in sorted((f for f in part.features if f.kind == "flat"), key=lambda f: -f.area)[:8]:
        n = np.asarray(f.axis, float)
        if all(abs(float(n @ o)) < 0.98 for o in out) and len(out) < 5:
            out.append(n / np.linalg.norm(n))
    return out


def _glued(res: Resultants, s: Strength) -> Array:
    """Reserve of a glued joint at every level, (3, k): typical, low, high."""
    rows = []
    for strength in GLUE_MPA:
        # The duty's knock-downs (heat, creep, wear) are taken as the plastic's own.
        limits = tuple(
            replace(a, interlayer=strength * a.tension / a.table.value, shear=strength * a.tension / a.table.value)
            for a in s.limits
        )
        rows.append(nominal_reserve(res, limits))
    return np.array(rows)


def _plan(
    part: PartFacts,
    s: Strength,
    solid: m3.Manifold,
    n: Array,
    res: Resultants,
    k: int,
    glued: Array,
    bed: tuple[float, float, float],
) -> CutPlan | None:
    level = res.base + float(res.heights[k])
    halves = solid.split_by_plane(tuple(float(c) for c in n), level)
    if any(h.num_tri() == 0 or len(h.decompose()) != 1 for h in halves):
        return None
    side = s.field.points @ n > level
    pieces = []
    for solid_half, mine, down in ((halves[0], side, n), (halves[1], ~side, -n)):
        piece = _half(mesh_of(solid_half), s, mine, down, part.mesh.volume, bed)
        if piece is None:
            return None
        pieces.append(piece)
    section = res.sections[k]
    x, y, z = (float(v) for v in _middle(n, section, level))
    a, b, c = (float(v) for v in n)
    screws = _screws(res, k, section, s)
    return CutPlan(
        (a, b, c),
        (x, y, z),
        section.area,
        (pieces[0], pieces[1]),
        float(glued[0]),
        (float(glued[1]), float(glued[2])),
        screws,
    )


def _half(
    mesh: Mesh, s: Strength, mine: np.ndarray, cut_face: Array, volume: float, bed: tuple[float, float, float]
) -> Half | None:
    """The best way of one piece: strength first, then what leans. ``cut_face`` up means the cut lies on the bed."""
    points = mine & ~s.field.excluded
    if not points.any():
        return None
    orientations = np.array([cut_face, *candidates(mesh, (), s.recipe)])
    rated = rate(s.field, s.limits, orientations, points=points)
    shape = standing(mesh, orientations, s.recipe)
    fits = fitting(mesh, orientations, bed)
    surface = float(mesh.areas.sum())
    held = np.minimum(rated.reserve / s.target, 2.0) / 2
    score = 0.6 * held - 0.4 * shape.overhang / surface * 4 + 0.1 * (shape.contact > 50) - 2.0 * ~fits
    best = int(np.argmax(score))
    x, y, z = (float(v) for v in orientations[best])
    return Half(
        (x, y, z),
        float(rated.reserve[best]),
        float(shape.overhang[best]),
        float(shape.height[best]),
        mesh.volume / volume,
        bool(fits[best]),
    )


def _screws(res: Resultants, k: int, section: Section, s: Strength) -> int | None:
    """M4 screws that would hold the joint: what pulls it open, by force and by lever over the section's depth."""
    most = 0.0
    depth = 0.8 * math.sqrt(section.area)
    for c in range(res.force.shape[0]):
        pull = max(float(res.force[c, k, 2]), 0.0)
        bend = float(np.hypot(res.moment[c, k, 0], res.moment[c, k, 1]))
        slide = float(np.hypot(res.force[c, k, 0], res.force[c, k, 1]))
        most = max(most, pull + bend / depth + slide)
    count = max(2, math.ceil(most * s.target / SCREW_N))
    return count if count * _SCREW_ROOM <= section.area else None


def _middle(n: Array, section: Section, level: float) -> Array:
    return np.asarray(rotation_to_up(n).T @ np.array([*section.centroid, level]))
