"""What is on the part: holes, pins, hexagons, slots, threads, cones, lettering, fillets, flats."""

from __future__ import annotations

from dataclasses import replace
from typing import get_args

import numpy as np

from knollside.core.mesh.feature_relations import related
from knollside.core.mesh.lettering import DEPTH, find_lettering
from knollside.core.mesh.noise import scatter_of
from knollside.core.mesh.patches import Patches, patches_of
from knollside.core.mesh.recognition.blends import with_blends
from knollside.core.mesh.recognition.joining import Round
from knollside.core.mesh.recognition.skin import skin_of
from knollside.core.mesh.recognition.sorting import find_scanned, find_shapes, triple
from knollside.core.mesh.rounding import rounding_of
from knollside.core.mesh.threads import Thread, find_threads
from knollside.core.mesh.topology import bodies_of
from knollside.core.mesh.webs import with_webs
from knollside.core.model import POLYGONS, Array, Feature, FeatureKind, Ints, Mesh, Refused

SMALLEST_FLAT = 0.002  # share of the whole surface
_RANK = get_args(FeatureKind)
_CAP = float(np.cos(np.radians(30)))  # of a ball, round the point that is meant
_LOOKED_AT = 400  # triangles that tell whether a round is one of strips


def find_features(mesh: Mesh) -> tuple[Feature, ...]:
    """The features of :func:`read_features`.

    Of a plate 40 x 30 x 8 mm with a hole of 5 mm:

    >>> [(f.id, round(f.diameter, 3), f.through) for f in find_features(plate) if f.kind == "hole"]
    [('hole-1', 5.0, True)]
    """
    return read_features(mesh)[0]


def read_features(mesh: Mesh) -> tuple[tuple[Feature, ...], float]:
    """Named features, biggest flats and holes first; ids are stable for the same mesh.

    Diameters have the polygon effect taken out: a round hole in a mesh is a
    polygon whose corners (or, for some exports, mid-flats) lie on the circle.
    Both readings are kept; for a coarse polygon the rounder number is believed. Besides, how far the corners of a
    scanned mesh scatter, mm; 0 for a drawn one.
    """
    middle = mesh.bounds.mean(axis=0)  # recentre: keeps circle fits exact far from the origin
    skin = skin_of(Mesh(mesh.vertices - middle, mesh.faces), rounding_of(mesh))
    local, patches = skin.mesh, skin.patches
    label = bodies_of(mesh, skin.edges)[1]
    scatter = scatter_of(local, skin.normals, skin.edges)
    if scatter > 0:
        scanned = _numbered(find_scanned(skin, label, scatter).features, skin.areas, middle, label)
        return tuple(related(scanned, scatter)), scatter
    shapes = find_shapes(skin, label)
    # The walls of a square pocket are pressed on and moved one by one, so they are flats besides.
    taken = shapes.taken.copy()
    for f in shapes.features:
        if f.is_pocket_of_flats:
            taken[f.faces] = False
    flats = _flats(local, patches, taken)
    grounds = [int(patches.of_face[f.faces[0]]) for f in flats]
    plain = np.zeros(len(mesh.faces), bool)
    for f in shapes.features:
        if f.kind != "fillet" and _level_ends(local, patches, f):
            plain[f.faces] = True
    letters = find_lettering(skin, grounds)
    free = ~np.isin(patches.of_face, grounds) & ~plain
    for _, faces in letters:
        free[faces] = False
    threads = find_threads(skin, free, _directions(flats, shapes.rounds))
    grouped = np.zeros(len(mesh.faces), bool)
    for faces in (*(f for _, f in letters), *(t.faces for t in threads)):
        grouped[faces] = True

    counters = _counters(shapes.features, flats)
    raw = [replace(f, kind="lettering") if k in counters else f for k, f in enumerate(shapes.features)]
    raw = [f for f in (*raw, *flats) if not grouped[f.faces].all()]
    raw += [_letters(local, patches, p, faces) for p, faces in letters]
    raw += [_thread(t) for t in threads]
    raw = with_blends(skin, raw)

    return tuple(with_webs(mesh, related(_numbered(raw, skin.areas, middle, label)))), 0.0


def _numbered(raw: list[Feature], areas: Array, middle: np.ndarray, label: np.ndarray) -> list[Feature]:
    """Features in their order with their ids, at their place in the part (found about ``middle``) and in their body."""
    number: dict[str, int] = {}
    named = []
    for f in sorted(raw, key=lambda f: (_RANK.index(f.kind), -round(f.area, 3), tuple(np.round(f.centre, 3)))):
        number[f.kind] = number.get(f.kind, 0) + 1
        x, y, z = (float(c) for c in np.asarray(f.centre) + middle)
        named.append(
            replace(
                f,
                id=f"{f.kind}-{number[f.kind]}",
                centre=(x, y, z),
                area=float(areas[f.faces].sum()),
                body=int(label[f.faces[0]]),
            )
        )
    return named


def feature_at(mesh: Mesh, features: tuple[Feature, ...], point: Array | tuple[float, float, float]) -> Feature:
    """The feature whose surface is nearest to ``point``; a patch of its own where none is named.

    Raises :class:`Refused` when the point is farther from the part than a tenth of its size.
    """
    from knollside.core.mesh.nearest import nearest_face

    face, distance = nearest_face(mesh, np.asarray(point, float))
    limit = max(1.0, 0.1 * float(mesh.size.max()))
    if distance > limit:
        raise Refused(
            f"The point ({point[0]:g}, {point[1]:g}, {point[2]:g}) is {distance:.1f} mm from the part; "
            "nothing is there."
        )
    found = feature_of_face(mesh, features, face)
    return _cap(mesh, found, face) if found.kind == "ball" else found


def _cap(mesh: Mesh, ball: Feature, face: int) -> Feature:
    """The part of a ball round a triangle: who points at a ball means that side of it, not all."""
    out = mesh.vertices[mesh.faces[ball.faces]].mean(axis=1) - np.asarray(ball.centre)
    out /= np.linalg.norm(out, axis=1, keepdims=True)
    at = out[int(np.flatnonzero(ball.faces == face)[0])]
    near = ball.faces[out @ at > _CAP]
    x, y, z = np.asarray(ball.centre) + at * (ball.diameter or 0.0) / 2
    return Feature(f"patch-{face}", "patch", (float(x), float(y), float(z)), triple(at), near)


def feature_of_face(mesh: Mesh, features: tuple[Feature, ...], face: int) -> Feature:
    """The feature a triangle belongs to, or the smooth patch around it."""
    for f in features:
        if face in f.faces:
            return f
    patches = patches_of(mesh)
    patch = patches.of_face[face]
    faces = np.flatnonzero(patches.of_face == patch)
    return _flat_feature(mesh, patches, int(patch), faces, f"patch-{face}", "patch")


def _flat_feature(mesh: Mesh, patches: Patches, p: int, faces: Ints, name: str, kind: FeatureKind) -> Feature:
    return Feature(name, kind, triple(patches.centre[p]), triple(patches.normal[p]), faces, float(patches.area[p]))


def _flats(mesh: Mesh, patches: Patches, taken: np.ndarray) -> list[Feature]:
    least = max(SMALLEST_FLAT * float(patches.area.sum()), 1.0)
    used = np.zeros(patches.count, bool)
    used[patches.of_face[taken]] = True
    start, order = patches.members
    return [
        _flat_feature(mesh, patches, int(p), order[start[p] : start[p + 1]], "", "flat")
        for p in np.flatnonzero(~used & (patches.area >= least))
    ]


def _letters(mesh: Mesh, patches: Patches, ground: int, faces: Ints) -> Feature:
    points = mesh.vertices[np.unique(mesh.faces[faces])]
    normal = patches.normal[ground]
    height = (points - patches.centre[ground]) @ normal
    return Feature("", "lettering", triple(points.mean(axis=0)), triple(normal), faces, length=float(np.ptp(height)))


def _thread(t: Thread) -> Feature:
    diameter = t.major if not t.inside else t.minor
    return Feature(
        "",
        "thread",
        triple(t.centre),
        triple(t.axis),
        t.faces,
        diameter=diameter,
        length=t.length,
        pitch=t.pitch,
        inside=t.inside,
        readings=(t.major, t.minor),
    )


def _directions(flats: list[Feature], rounds: list[Round]) -> Array:
    """Axes of the part, each once: whole rounds', then flats' from the largest on."""
    axes = [np.asarray(r.axis) for r in rounds if r.whole]
    axes += [np.asarray(f.axis) for f in sorted(flats, key=lambda f: -f.area)[:12]]
    out: list[Array] = []
    for a in axes:
        if all(abs(float(a @ b)) < 1 - 1e-9 for b in out):
            out.append(a)
    return np.array(out).reshape(-1, 3)


def _level_ends(mesh: Mesh, patches: Patches, f: Feature) -> bool:
    """Whether all strips of a round begin and end at one height, as those of a thread's crest do not."""
    if f.kind not in ("hole", "pin"):
        return f.kind in ("ball", "taper", "spline", "dovetail", *POLYGONS)
    faces = f.faces[:_LOOKED_AT]
    along = mesh.vertices[mesh.faces[faces]] @ np.asarray(f.axis)
    order = np.argsort(patches.of_face[faces], kind="stable")
    starts = np.flatnonzero(np.r_[True, np.diff(patches.of_face[faces][order]) != 0])
    low = np.minimum.reduceat(along.min(axis=1)[order], starts)
    high = np.maximum.reduceat(along.max(axis=1)[order], starts)
    length = f.length or 0.0
    if len(starts) > 0.8 * len(faces):
        # Triangles by themselves, of another mesher than those that make threads of strips.
        return bool(length > 0.5 * (f.diameter or 0.0)) or bool(np.ptp(low) > 0.3 * length)
    return bool(np.median(np.abs(low - np.median(low)) + np.abs(high - np.median(high))) < 0.02 * length + 1e-6)


def _counters(shapes: list[Feature], flats: list[Feature]) -> set[int]:
    """Shallow shut rounds whose floor is level with a larger face: counters of raised characters."""
    marked: set[int] = set()
    for k, r in enumerate(shapes):
        if r.kind != "hole" or r.length is None or r.length > DEPTH or r.through is not False or r.diameter is None:
            continue
        axis, centre = np.asarray(r.axis), np.asarray(r.centre)
        # "Larger elsewhere": an own floor disc would have the round's own area.
        own = np.pi * r.diameter**2 / 4
        for f in flats:
            off = abs(float((np.asarray(f.centre) - centre) @ axis)) - r.length / 2
            if abs(float(np.asarray(f.axis) @ axis)) > 0.999 and f.area > 3 * own and abs(off) < 0.02:
                # A floor looks into the hole; the face round its mouth looks away from it.
                if float(np.dot(f.axis, axis)) * float((np.asarray(f.centre) - centre) @ axis) < 0:
                    marked.add(k)
                    break
    return marked
