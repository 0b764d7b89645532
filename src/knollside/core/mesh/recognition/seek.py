"""Finding round surfaces: seeds, growth, refinement, and whether what has grown is one."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.mesh.recognition import quadrics
from knollside.core.mesh.recognition.arcs import Arcs, spans, union
from knollside.core.mesh.recognition.growth import Grower
from knollside.core.mesh.recognition.quadrics import Form, Surface
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.mesh.recognition.strips import StripSeeds, strip_seeds
from knollside.core.mesh.recognition.through import through
from knollside.core.model import Array, Ints

WHOLE = np.radians(190.0)  # from here on a hole or a pin
LEAST = np.radians(19.0)  # less of a round is none
_TRIES = 3
_WIDE = 1.8  # facets wider than that many usual ones are flats that only touch
_WIDER = np.radians(20.0)  # and by so much
_EXACT = 0.5  # of its corners stand on a round, whatever has cut into its facets
_COARSE_RING = 0.5  # rad; of coarser facets a chamfer looks like a ring of a ball
_COARSE_PART = np.radians(31.0)  # facets of a partial round that three of are enough
_FEW_SIDES = 14  # up to which a round's facets must be alike
_GATHER = ((12, 16.0), (16, 33.0), (40, 33.0), (16, 62.0))  # triangles round a seed, over bends up to so many degrees
_PATIENCE = 150  # patches in a row that were of nothing
_BROAD = 6  # triangles of a flat piece that is no facet


@dataclass(frozen=True)
class Piece:
    """A connected piece of a round surface. ``residual``: farthest that a corner stands off it, mm; ``low`` and
    ``high``: its ends along the axis, from the surface's point."""

    surface: Surface
    hollow: bool
    faces: Ints
    arcs: Arcs
    low: float
    high: float
    residual: float
    strips: bool

    @property
    def length(self) -> float:
        return self.high - self.low


def find_pieces(grower: Grower) -> list[Piece]:
    """Cylinders, then cones and balls, each triangle in one piece at most."""
    found, part = _by_strips(grower)
    found += _by_patches(grower)
    found += _partial(grower, part)
    return found


# --- from strips ---------------------------------------------------------------------------------------------------


def _by_strips(grower: Grower) -> tuple[list[Piece], list[Piece]]:
    """Whole rounds, taken; and partial ones, not yet: strips of a cone look like those of a coarse fillet."""
    skin = grower.skin
    seeds = strip_seeds(skin)
    spent = np.zeros(skin.patches.count, np.int32)
    found: list[Piece] = []
    part: list[Piece] = []
    of_face = skin.patches.of_face
    for k, (p, q) in enumerate(seeds.pair.tolist()):
        if spent[p] >= _TRIES and spent[q] >= _TRIES:
            continue
        piece, faces = _grown(grower, seeds, k)
        if piece is not None and piece.arcs.sweep >= WHOLE:
            grower.taken[piece.faces] = True
            spent[of_face[piece.faces]] = _TRIES
            found.append(piece)
            continue
        spent[[p, q]] += 1
        spent[np.unique(of_face[faces])] += 1
        if piece is not None:
            part.append(piece)
    return found, part


def _partial(grower: Grower, part: list[Piece]) -> list[Piece]:
    """Of partial rounds those still free, the longest way round first."""
    found = []
    for piece in sorted(part, key=lambda x: -x.arcs.sweep * len(x.faces)):
        free = piece.faces[~grower.taken[piece.faces]]
        if len(free) < len(piece.faces):
            if len(free) < 4:
                continue
            again = _settled(grower, piece.surface, piece.hollow, free, piece.arcs.facet)[0]
            if again is None:
                continue
            piece = again
        grower.taken[piece.faces] = True
        found.append(piece)
    return found


def _grown(grower: Grower, seeds: StripSeeds, k: int) -> tuple[Piece | None, Ints]:
    s = Surface(Form.CYLINDER, seeds.centre[k], seeds.axis[k], float(seeds.radius[k]))
    return _settled(grower, s, bool(seeds.hollow[k]), seeds.first(k), float(seeds.facet[k]))


def _settled(grower: Grower, s: Surface, hollow: bool, seed: Ints, facet: float) -> tuple[Piece | None, Ints]:
    """Grow, fit to what has grown, grow again; None where it is no round, and how far it grew."""
    faces = grower.grow(s, hollow, seed, _sag(s, facet))
    for _ in range(2):
        better = refined(grower, s, faces) if len(faces) >= 4 else None
        if better is None:
            return None, faces
        again = grower.grow(better, hollow, faces, _sag(better, facet))
        done = len(again) == len(faces)
        s, faces = better, again
        if done:
            break
    return (judged(grower, s, hollow, faces) if len(faces) >= 4 else None), faces


def _sag(s: Surface, facet: float) -> float:
    return s.radius * (1 - np.cos(min(facet, 1.1) * 1.06 / 2)) if s.form is Form.CYLINDER else 0.0


def refined(grower: Grower, s: Surface, faces: Ints) -> Surface | None:
    """The same surface fitted to the corners of all its triangles."""
    skin = grower.skin
    points = skin.mesh.vertices[grower.corners(faces)]
    if s.form is Form.BALL:
        return quadrics.ball(points)
    if s.form is Form.CONE:
        return quadrics.cone(points, s)
    near = s
    if is_strips(skin, faces, s):
        shared = grower.shared(faces)
        if len(shared) >= 4:
            points = skin.mesh.vertices[shared]
            axis = quadrics.least_axis(skin.normals[faces], skin.areas[faces])
            near = quadrics.cylinder_along(axis, points)
            # Facets that twist a little along the axis tell it only nearly; their corners tell it truly.
            if float(np.abs(near.off(points)).max()) < 0.1 * skin.tolerance or len(points) < 8:
                return near
    exact = points[np.abs(s.off(points)) <= skin.tolerance]
    if len(exact) < 7:
        return near if near is not s else None
    fine = quadrics.cylinder(exact, near)
    return fine if np.isfinite(fine.numbers()).all() else None


def is_strips(skin: Skin, faces: Ints, s: Surface) -> bool:
    """Whether the triangles lie along the axis as strips do."""
    lean = np.abs(skin.normals[faces] @ s.axis)
    return bool(np.average(lean, weights=skin.areas[faces]) < 2e-3)


def judged(grower: Grower, s: Surface, hollow: bool, faces: Ints) -> Piece | None:
    """The piece, less flats that only touch it; None where it is no round."""
    skin = grower.skin
    strips = is_strips(skin, faces, s)
    if s.form is Form.BALL:
        off = np.abs(s.off(skin.mesh.vertices[grower.corners(faces)]))
        return Piece(s, hollow, faces, Arcs(0.0, 0.0, 0.0), -s.radius, s.radius, float(off.max()), False)
    group = skin.patches.of_face[faces] if strips or s.form is Form.CONE else np.arange(len(faces))
    low, high = spans(skin.mesh, faces, group, s.point, s.axis)
    widths = high - low
    usual = float(np.quantile(widths, 0.8))
    wide = widths > max(_WIDE * usual, usual + _WIDER)
    if wide.any():
        inverse = np.unique(group, return_inverse=True)[1].ravel()
        faces = faces[~wide[inverse]]
        low, high = low[~wide], high[~wide]
        if len(faces) < 4:
            return None
    arcs = union(low, high)
    if arcs.sweep < LEAST or len(low) < 3:
        return None
    if strips and not _even(arcs, high - low):
        return None
    corners = skin.mesh.vertices[grower.corners(faces)]
    # A facet that something else was cut into has corners along its ends that say nothing of the round.
    shared = grower.shared(faces) if strips else corners
    off = np.abs(s.off(skin.mesh.vertices[shared] if strips and len(shared) >= 4 else corners))
    if (off <= skin.strict).mean() < _EXACT:
        return None
    along = (corners - s.point) @ s.axis
    bottom, top = float(along.min()), float(along.max())
    across = 2 * float(np.linalg.norm(corners - s.point - along[:, None] * s.axis, axis=1).max())
    if top - bottom < 0.01 * across:
        return None
    piece = Piece(s, hollow, faces, arcs, bottom, top, float(off.max()), strips)
    return None if _ring_of_other(skin, piece, across) else piece


def _even(arcs: Arcs, widths: Array) -> bool:
    """Whether a coarse round's facets are alike; of a partial one there must be four, too."""
    alike = float(np.ptp(widths)) <= 0.06 * arcs.facet + 0.01
    if arcs.sweep >= WHOLE:
        return alike or arcs.sides > _FEW_SIDES
    return arcs.facet < _COARSE_PART or (alike and len(widths) >= 4)


def _ring_of_other(skin: Skin, piece: Piece, across: float) -> bool:
    """Whether it is one ring of facets on a ball or a torus: short, and both its ends go on smoothly."""
    facet = piece.arcs.facet
    tall = piece.length / max(float(np.cos(piece.surface.angle)), 0.05)
    if facet > _COARSE_RING or tall > 1.7 * across / 2 * facet:
        return False
    rim = skin.rim(piece.faces)
    at, axis = piece.surface.point, piece.surface.axis
    z, other = ((skin.middles[t] - at) @ axis for t in (rim.inner, rim.outer))
    middle = (piece.low + piece.high) / 2
    smooth = []
    for here in (other > np.maximum(z, middle), other < np.minimum(z, middle)):
        smooth.append(bool(here.any() and np.median(np.abs(rim.bend[here])) < 1.7 * facet + 0.01))
    return all(smooth)


# --- from patches --------------------------------------------------------------------------------------------------


def _by_patches(grower: Grower) -> list[Piece]:
    skin = grower.skin
    count = np.diff(skin.patches.members[0])
    broad = count[skin.patches.of_face] > _BROAD
    found: list[Piece] = []
    for most, bend in _GATHER:
        spent = grower.taken | broad
        failed = 0
        # In no order of place, so that a free surface that comes first does not use up all patience.
        for t in np.random.default_rng(1).permutation(np.flatnonzero(~spent)):
            if spent[t] or grower.taken[t]:
                continue
            near = _gathered(t, most, np.radians(bend), skin.beyond, skin.bend, grower.taken, broad)
            spent[near] = True
            piece = _of_patch(grower, near) if len(near) >= 8 else None
            if piece is not None:
                grower.taken[piece.faces] = True
                spent[piece.faces] = True
                found.append(piece)
                failed = 0
            elif len(near) >= 8:
                failed += 1
                if failed > _PATIENCE:
                    break
    return found


@numba.njit(cache=True, nogil=True)
def _gathered(t, most, bend, beyond, bends, taken, broad):  # type: ignore[no-untyped-def]
    """Triangles round one, breadth first, over edges that bend no more."""
    out = np.empty(most, np.int64)
    out[0] = t
    n, done = 1, 0
    while done < n and n < most:
        a = out[done]
        done += 1
        for k in range(3):
            o = beyond[a, k]
            if o < 0 or taken[o] or broad[o] or abs(bends[a, k]) > bend:
                continue
            known = False
            for i in range(n):
                known = known or out[i] == o
            if not known and n < most:
                out[n] = o
                n += 1
    return out[:n]


def _of_patch(grower: Grower, near: Ints) -> Piece | None:
    """The first of cylinder, cone and ball that goes through a patch's corners and grows beyond it."""
    skin = grower.skin
    points = skin.mesh.vertices[grower.corners(near)]
    normals, areas = skin.normals[near], np.maximum(skin.areas[near], 1e-12)
    if len(points) < 7:
        return None
    for fine in through(points, normals, skin.middles[near], areas, skin.tolerance, skin.strict):
        hollow = hollow_of(skin, fine, near)
        if hollow is None:
            continue
        piece = _settled(grower, fine, hollow, near, 0.0)[0]
        if piece is not None and piece.surface.form is Form.BALL:
            piece = _or_ruled(grower, piece) or piece
        if piece is not None and _enough(piece, near):
            return piece
    return None


def hollow_of(skin: Skin, s: Surface, faces: Ints) -> bool | None:
    """Whether its triangles look at the axis; None where they do not agree."""
    q = skin.middles[faces] - s.point
    if s.form is not Form.BALL:
        q = q - (q @ s.axis)[:, None] * s.axis
    out = np.einsum("ij,ij->i", q, skin.normals[faces])
    inward = float((skin.areas[faces] * (out < 0)).sum() / skin.areas[faces].sum())
    return None if 0.02 < inward < 0.98 else inward > 0.5


def _or_ruled(grower: Grower, piece: Piece) -> Piece | None:
    """The cylinder or cone that a ball's corners also lie on, as two rings of one do."""
    skin, faces = grower.skin, piece.faces
    points = skin.mesh.vertices[grower.corners(faces)]
    areas = np.maximum(skin.areas[faces], 1e-12)
    for s in through(points, skin.normals[faces], skin.middles[faces], areas, skin.tolerance, skin.strict):
        if s.form is not Form.BALL:
            return _settled(grower, s, piece.hollow, faces, 0.0)[0]
    return None


def _enough(piece: Piece, near: Ints) -> bool:
    """Whether it has grown beyond the patch it was fitted to, so that the fit is no accident."""
    return len(piece.faces) >= len(near) + (2 if piece.surface.form is Form.CYLINDER else 4)


def ends_shut(skin: Skin, faces: Ints, axis: Array, low: float, high: float) -> tuple[bool, bool]:
    """Whether a floor meets the low and the high end in a concave edge. Judged at the rim, so that a counterbore with a
    smaller hole in its floor is shut."""
    rim = skin.rim(faces)
    across = np.abs(rim.edge @ axis) <= 0.9 * rim.length
    place = skin.middles[rim.outer] @ axis
    say = np.where(rim.bend < 0, 1.0, -1.0) * rim.length * across
    middle = (low + high) / 2
    return bool(say[place < middle].sum() > 0), bool(say[place >= middle].sum() > 0)
