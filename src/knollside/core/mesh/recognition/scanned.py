"""Rounds and flats of a scanned mesh, whose corners scatter about the surface.

The same growth and fits as for drawn meshes, on normals smoothed within faces (a bilateral mean: Tomasi and Manduchi
1998), with a tolerance by the scatter and larger seeds; a seed counts only where it bulges by more than the scatter
could make it. Flats grow on what the rounds leave.
"""

from __future__ import annotations

from dataclasses import replace

import numba
import numpy as np

from knollside.core.mesh.recognition.growth import Grower
from knollside.core.mesh.recognition.joining import Round, joined
from knollside.core.mesh.recognition.quadrics import Form, Surface, cylinder, cylinder_along, plane
from knollside.core.mesh.recognition.seek import Piece, hollow_of, judged, refined
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.mesh.recognition.through import through
from knollside.core.model import Array, Ints, Mesh

_ROUNDS = 5  # of smoothing
_KEEPS = 2 * np.radians(30.0) ** 2  # normals farther apart than that hardly mix
_WIDE, _MOST = 3.5, 2.0  # scatters that the worst and three quarters of a seed's corners may stand off
_BULGES = 4.0  # scatters that a seed must rise over its chord
_SEEDS = (1.0, 2.0, 4.0, 8.0)  # mm; how far a seed reaches
_BEND = np.radians(40.0)  # between neighbours in a seed
_FEWEST = 40  # corners of a seed
_ENOUGH = 1500  # triangles: more make no seed better
_TELL = 200  # corners of a seed that are fitted to
_PATIENCE = 300
_FITS = 1.5  # scatters that all corners of a surface may stand off by, in the mean of squares
_LEVEL = 0.5  # cosine: slivers' normals are far off
_COVERED = 0.5  # of the surface that a piece spans must be there
_ALONG = np.cos(np.radians(20.0))  # most normals are within that of the surface's own
_HARDLY = np.radians(3.0)
_LEAST_FLAT = 40  # triangles


def scanned_skin(skin: Skin, scatter: float) -> Skin:
    """The skin with smoothed normals, and tolerances of a mesh whose corners stand off by ``scatter`` mm."""
    areas = np.ascontiguousarray(skin.areas)
    normals = _round_corners(skin.mesh, skin.normals * areas[:, None])
    for _ in range(_ROUNDS):
        normals = _smoothed(normals, areas, skin.beyond)
    bend = np.zeros_like(skin.bend)
    _bends(normals, np.ascontiguousarray(skin.middles), skin.beyond, bend)
    return replace(skin, normals=normals, bend=bend, tolerance=_WIDE * scatter, strict=_MOST * scatter)


def _round_corners(mesh: Mesh, weighted: Array) -> Array:
    """Per triangle the mean over all that share a corner with it: a sliver's own normal is worth nothing."""
    n, own = len(mesh.vertices), mesh.faces.ravel()
    corner = np.stack([np.bincount(own, np.repeat(weighted[:, k], 3), n) for k in range(3)], axis=1)
    mean = corner[mesh.faces].sum(axis=1)
    return np.asarray(mean / np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-12))


@numba.njit(cache=True, nogil=True)
def _smoothed(normals, areas, beyond):  # type: ignore[no-untyped-def]
    out = np.empty_like(normals)
    for t in range(len(normals)):
        total = areas[t] * normals[t]
        for k in range(3):
            o = beyond[t, k]
            if o < 0:
                continue
            angle = np.arccos(min(1.0, max(-1.0, (normals[t] * normals[o]).sum())))
            total = total + areas[o] * np.exp(-angle * angle / _KEEPS) * normals[o]
        size = np.sqrt((total * total).sum())
        out[t] = total / size if size > 0 else normals[t]
    return out


@numba.njit(cache=True, nogil=True)
def _bends(normals, middles, beyond, bend):  # type: ignore[no-untyped-def]
    for t in range(len(normals)):
        for k in range(3):
            o = beyond[t, k]
            if o < 0:
                continue
            angle = np.arccos(min(1.0, max(-1.0, (normals[t] * normals[o]).sum())))
            bend[t, k] = angle if (normals[t] * (middles[o] - middles[t])).sum() <= 0 else -angle


def scanned_rounds(skin: Skin, body: Ints, scatter: float) -> tuple[Grower, list[Round], list[Piece]]:
    """Cylinders, joined, and all cones and balls of a skin made by :func:`scanned_skin`; the grower knows what they
    have taken."""
    grower = Grower(skin)
    pieces: list[Piece] = []
    args = np.ascontiguousarray(skin.middles), skin.beyond, skin.bend
    for reach in _SEEDS:
        spent, failed = grower.taken.copy(), 0
        for t in np.random.default_rng(1).permutation(np.flatnonzero(~spent)):
            if spent[t] or grower.taken[t]:
                continue
            near = round_about(t, reach, *args, grower.taken)
            inner = np.linalg.norm(skin.middles[near] - skin.middles[t], axis=1) < reach / 2
            spent[near[inner]] = True
            points = skin.mesh.vertices[grower.corners(near)]
            if len(points) < _FEWEST or _rise(points) < _BULGES * scatter:
                continue
            piece = _of_seed(grower, near, points, scatter)
            if piece is None:
                failed += 1
                if failed > _PATIENCE:
                    break
                continue
            failed = 0
            grower.taken[piece.faces] = True
            spent[piece.faces] = True
            pieces.append(piece)
    rounds = joined(grower, pieces, body, 0.5 * scatter)
    return grower, rounds, [p for p in pieces if p.surface.form is not Form.CYLINDER]


@numba.njit(cache=True, nogil=True)
def round_about(t, reach, middles, beyond, bends, taken):  # type: ignore[no-untyped-def]
    """Triangles joined to one within ``reach`` of it, over edges that bend little."""
    out = [t]
    known = {t}
    done = 0
    while done < len(out) and len(out) < _ENOUGH:
        a = out[done]
        done += 1
        for k in range(3):
            o = beyond[a, k]
            if o < 0 or taken[o] or abs(bends[a, k]) > _BEND or o in known:
                continue
            if ((middles[o] - middles[t]) ** 2).sum() < reach * reach:
                known.add(o)
                out.append(o)
    got = np.empty(len(out), np.int64)
    for i in range(len(out)):
        got[i] = out[i]
    return got


def _of_seed(grower: Grower, near: Ints, points: Array, scatter: float) -> Piece | None:
    """The surface through a seed's corners that grows the farthest; None where none fits."""
    skin = grower.skin
    best: Piece | None = None
    areas = np.maximum(skin.areas[near], 1e-12)
    points = points[:: max(1, len(points) // _TELL)]
    for s in through(points, skin.normals[near], skin.middles[near], areas, skin.tolerance, skin.strict):
        hollow = hollow_of(skin, s, near)
        piece = None if hollow is None else settled(grower, s, hollow, near, scatter)
        # What is a cylinder is a cone, too: the simplest, unless another grows much farther.
        if piece is not None and (best is None or len(piece.faces) > 1.15 * len(best.faces)):
            best = piece
    if best is None or len(best.faces) < 0.8 * len(near):
        return None
    return _or_cylinder(grower, best, scatter) if best.surface.form is Form.CONE else best


def _or_cylinder(grower: Grower, cone: Piece, scatter: float) -> Piece:
    """The cylinder that a cone of hardly any angle is."""
    if cone.surface.angle > _HARDLY:
        return cone
    corners = grower.skin.mesh.vertices[grower.corners(cone.faces)]
    s = cylinder(corners, cylinder_along(cone.surface.axis, corners))
    piece = settled(grower, s, cone.hollow, cone.faces, scatter)
    return piece if piece is not None and len(piece.faces) > 0.9 * len(cone.faces) else cone


def _rise(points: Array) -> float:
    """How thick a cloud of points is across its least direction, by nine tenths of it, mm."""
    middle, least, _ = plane(points)
    low, high = np.quantile((points - middle) @ least, [0.05, 0.95])
    return float(high - low)


def settled(grower: Grower, s: Surface, hollow: bool, seed: Ints, scatter: float) -> Piece | None:
    """What :func:`grown` makes of it; None where it is no whole stretch of its surface."""
    piece = grown(grower, s, hollow, seed, scatter, 12)
    return piece if piece is not None and _covers(grower.skin, piece) else None


def grown(grower: Grower, s: Surface, hollow: bool, seed: Ints, scatter: float, fewest: int) -> Piece | None:
    """Grow, fit, and grow again until it stays, over ``fewest`` triangles or more; None where its corners scatter more
    about it than the mesh does."""
    faces = grower.grow(s, hollow, seed)
    for _ in range(8):
        better = refined(grower, s, faces) if len(faces) >= fewest else None
        if better is None:
            return None
        again = grower.grow(better, hollow, faces)
        done = abs(len(again) - len(faces)) <= 0.002 * len(faces)
        s, faces = better, again
        if done:
            break
    if len(faces) < fewest:
        return None
    off = s.off(grower.skin.mesh.vertices[grower.corners(faces)])
    return judged(grower, s, hollow, faces) if np.sqrt(np.mean(off**2)) <= _FITS * scatter else None


def _covers(skin: Skin, piece: Piece) -> bool:
    """Whether it is one whole stretch of its surface, and looks as that does."""
    s, faces = piece.surface, piece.faces
    q = skin.middles[faces] - s.point
    if s.form is Form.BALL:
        outward = q
    else:
        z = q @ s.axis
        outward = q - z[:, None] * s.axis
    outward = outward / np.maximum(np.linalg.norm(outward, axis=1, keepdims=True), 1e-12)
    if s.form is Form.CONE:
        outward = outward * np.cos(s.angle) - s.axis * np.sin(s.angle)
    areas = skin.areas[faces]
    along = np.abs(np.einsum("ij,ij->i", outward, skin.normals[faces])) > _ALONG
    if areas[along].sum() < 0.8 * areas.sum():
        return False
    if s.form is Form.BALL:
        return bool(areas.sum() > 0.02 * 4 * np.pi * s.radius**2)
    radius = s.radius if s.form is Form.CYLINDER else (piece.low + piece.high) / 2 * np.tan(s.angle)
    whole = piece.arcs.sweep * radius * piece.length / np.cos(s.angle)
    return bool(areas.sum() > _COVERED * whole)


def scanned_flats(grower: Grower, scatter: float) -> list[tuple[Ints, Array]]:
    """Flats on what is not taken, the largest first: triangles and outward normal."""
    skin = grower.skin
    mesh, out = skin.mesh, []
    seen = np.zeros(len(mesh.faces), np.int64)
    spent = grower.taken.copy()
    for t in np.random.default_rng(2).permutation(np.flatnonzero(~spent)):
        if spent[t]:
            continue
        spent[t] = True
        faces, normal = flat_from(grower, int(t), seen)
        if len(faces) < _LEAST_FLAT:
            continue
        if plane(mesh.vertices[np.unique(mesh.faces[faces])])[2] > _FITS * scatter:
            continue
        spent[faces] = True
        grower.taken[faces] = True
        out.append((faces, normal))
    return sorted(out, key=lambda f: -float(skin.areas[f[0]].sum()))


def flat_from(grower: Grower, t: int, seen: Ints | None = None) -> tuple[Ints, Array]:
    """The flat that grows from one triangle, fitted as it grows: triangles and outward normal. ``seen`` is for use
    again and again on one skin."""
    skin = grower.skin
    mesh = skin.mesh
    if seen is None:
        seen = np.zeros(len(mesh.faces), np.int64)
    args = np.ascontiguousarray(mesh.vertices), mesh.faces, skin.normals, skin.beyond
    mark = int(seen.max())
    point, normal, faces = skin.middles[t], skin.normals[t], np.array([t])
    for k in range(4):
        reach = skin.tolerance * (3.0 if k == 0 else 1.0)
        faces = _flat(*args, grower.taken, seen, mark + 1 + k, t, point, normal, reach)
        corners = mesh.vertices[np.unique(mesh.faces[faces])]
        if len(corners) < 4:
            break
        point, normal, _ = plane(corners)
        normal = normal * np.sign(float(normal @ (skin.normals[faces] * skin.areas[faces, None]).sum(axis=0)))
    return faces, normal


@numba.njit(cache=True, nogil=True)
def _flat(vertices, faces, normals, beyond, taken, seen, mark, t, point, normal, reach):  # type: ignore[no-untyped-def]
    """Triangles joined to one over those whose corners lie near a plane and that face as it does."""
    out = [t]
    seen[t] = mark
    done = 0
    while done < len(out):
        a = out[done]
        done += 1
        for k in range(3):
            o = beyond[a, k]
            if o < 0 or taken[o] or seen[o] == mark or (normals[o] * normal).sum() < _LEVEL:
                continue
            near = True
            for c in range(3):
                near = near and abs(((vertices[faces[o, c]] - point) * normal).sum()) <= reach
            if near:
                seen[o] = mark
                out.append(o)
    got = np.empty(len(out), np.int64)
    for i in range(len(out)):
        got[i] = out[i]
    return got
