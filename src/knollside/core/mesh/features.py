"""What is on the part: holes, pins, hexagons, slots, threads, cones, lettering, fillets, flats."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from knollside.core.mesh.cones import find_cones
from knollside.core.mesh.feature_relations import related
from knollside.core.mesh.lettering import DEPTH, find_lettering
from knollside.core.mesh.patches import Patches, patches_of
from knollside.core.mesh.rounds import Round, find_rounds
from knollside.core.mesh.threads import Thread, find_threads
from knollside.core.mesh.topology import bodies_of, edges_of
from knollside.core.model import Array, Feature, FeatureKind, Ints, Mesh, Refused

SMALLEST_FLAT = 0.002  # share of the whole surface


def find_features(mesh: Mesh) -> tuple[Feature, ...]:
    """Named features, biggest flats and holes first; ids are stable for the same mesh.

    Diameters have the polygon effect taken out: a round hole in a mesh is a
    polygon whose corners (or, for some exports, mid-flats) lie on the circle.
    Both readings are kept; for a coarse polygon the rounder number is believed.

    Of a plate 40 x 30 x 8 mm with a hole of 5 mm:

    >>> [(f.id, round(f.diameter, 3), f.through) for f in find_features(plate) if f.kind == "hole"]
    [('hole-1', 5.0, True)]
    """
    middle = mesh.bounds.mean(axis=0)  # recentre: keeps circle fits exact far from the origin
    local = Mesh(mesh.vertices - middle, mesh.faces)
    edges = edges_of(local)
    patches = patches_of(local, edges)
    rounds = find_rounds(local, patches)
    label = bodies_of(mesh, edges)[1]
    used = np.zeros(patches.count, bool)
    for r in rounds:
        used[r.patches] = True
    flats = _flats(local, patches, used)
    grounds = [int(patches.of_face[f.faces[0]]) for f in flats]
    plain = np.full(len(mesh.faces), -1, np.int64)
    for i, r in enumerate(rounds):
        if r.whole and _level_ends(local, patches, r):
            plain[r.faces] = i
    letters = find_lettering(local, patches, edges, grounds)
    free = ~np.isin(patches.of_face, grounds) & (plain < 0)
    for _, faces in letters:
        free[faces] = False
    threads = find_threads(local, edges, free, _directions(flats, rounds))
    grouped = np.zeros(len(mesh.faces), bool)
    for faces in (*(f for _, f in letters), *(t.faces for t in threads)):
        grouped[faces] = True

    raw = _of_rounds(rounds, flats, grouped)
    raw += [c for c in find_cones(local, patches, used) if not grouped[c.faces].all()]
    raw += [f for f in flats if not grouped[f.faces].all()]
    raw += [_letters(local, patches, p, faces) for p, faces in letters]
    raw += [_thread(t) for t in threads]

    return tuple(related(_numbered(raw, mesh, middle, label)))


def _of_rounds(rounds: list[Round], flats: list[Feature], grouped: np.ndarray) -> list[Feature]:
    """Holes, pins, hexagons, slots and fillets, of the rounds whose faces are not all of a group (letters, threads)."""
    raw: list[Feature] = []
    partial: list[Round] = []
    counters = _counters(rounds, flats)
    for i, r in enumerate(rounds):
        if grouped[r.faces].all():
            continue
        if r.sides == 6 and r.whole:
            raw.append(_feature("hexagon", r, r.flat_diameter))
        elif r.sides < 8:
            continue
        elif i in counters:
            raw.append(_feature("lettering", r, r.diameter))
        elif r.whole:
            raw.append(_feature("hole" if r.hollow else "pin", r, r.diameter))
        else:
            partial.append(r)
    slots, fillets = _pair_slots(partial)
    return [*raw, *slots, *(_feature("fillet", r, r.diameter) for r in fillets)]


def _numbered(raw: list[Feature], mesh: Mesh, middle: np.ndarray, label: np.ndarray) -> list[Feature]:
    """Features in their order with their ids, at their place in the part (found about ``middle``) and in their body."""
    areas = mesh.areas
    number: dict[str, int] = {}
    named = []
    rank = ["hole", "pin", "hexagon", "slot", "thread", "cone", "lettering", "fillet", "flat"]
    for f in sorted(raw, key=lambda f: (rank.index(f.kind), -round(f.area, 3), tuple(np.round(f.centre, 3)))):
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
    return feature_of_face(mesh, features, face)


def feature_of_face(mesh: Mesh, features: tuple[Feature, ...], face: int) -> Feature:
    """The feature a triangle belongs to, or the smooth patch around it."""
    for f in features:
        if face in f.faces:
            return f
    patches = patches_of(mesh)
    patch = patches.of_face[face]
    faces = np.flatnonzero(patches.of_face == patch)
    return _flat_feature(mesh, patches, int(patch), faces, f"patch-{face}", "patch")


def _feature(kind: FeatureKind, r: Round, diameter: float) -> Feature:
    ends = r.closed_ends
    through = None if kind in ("pin", "fillet") else not (ends[0] or ends[1])
    readings = (r.corner_diameter, r.flat_diameter)
    return Feature(
        "",
        kind,
        _triple(r.centre),
        _triple(r.axis),
        r.faces,
        0.0,
        float(diameter),
        r.length,
        through,
        r.sides,
        readings=readings,
        inside=r.hollow,
    )


def _triple(v: Array) -> tuple[float, float, float]:
    x, y, z = (float(c) for c in v)
    return x, y, z


def _flat_feature(mesh: Mesh, patches: Patches, p: int, faces: Ints, name: str, kind: FeatureKind) -> Feature:
    return Feature(name, kind, _triple(patches.centre[p]), _triple(patches.normal[p]), faces, float(patches.area[p]))


def _flats(mesh: Mesh, patches: Patches, used: np.ndarray) -> list[Feature]:
    least = max(SMALLEST_FLAT * float(patches.area.sum()), 1.0)
    return [
        _flat_feature(mesh, patches, int(p), np.flatnonzero(patches.of_face == p), "", "flat")
        for p in np.flatnonzero(~used & (patches.area >= least))
    ]


def _letters(mesh: Mesh, patches: Patches, ground: int, faces: Ints) -> Feature:
    points = mesh.vertices[np.unique(mesh.faces[faces])]
    normal = patches.normal[ground]
    height = (points - patches.centre[ground]) @ normal
    return Feature("", "lettering", _triple(points.mean(axis=0)), _triple(normal), faces, length=float(np.ptp(height)))


def _thread(t: Thread) -> Feature:
    diameter = t.major if not t.inside else t.minor
    return Feature(
        "",
        "thread",
        _triple(t.centre),
        _triple(t.axis),
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


def _level_ends(mesh: Mesh, patches: Patches, r: Round) -> bool:
    """Whether all strips of a round begin and end at one height, as those of a thread's crest do not."""
    along = mesh.vertices[mesh.faces[r.faces]] @ r.axis
    order = np.argsort(patches.of_face[r.faces], kind="stable")
    starts = np.flatnonzero(np.r_[True, np.diff(patches.of_face[r.faces][order]) != 0])
    low = np.minimum.reduceat(along.min(axis=1)[order], starts)
    high = np.maximum.reduceat(along.max(axis=1)[order], starts)
    return bool(np.median(np.abs(low - np.median(low)) + np.abs(high - np.median(high))) < 0.02 * r.length + 1e-6)


def _counters(rounds: list[Round], flats: list[Feature]) -> set[int]:
    """Shallow shut rounds whose floor is level with a larger face: counters of raised characters."""
    marked: set[int] = set()
    for i, r in enumerate(rounds):
        if r.length > DEPTH or not r.whole or not r.hollow:
            continue
        shut_low, shut_high = r.closed_ends
        if shut_low == shut_high:
            continue
        floor = float(r.centre @ r.axis) + (-0.5 if shut_low else 0.5) * r.length
        for f in flats:
            normal = np.asarray(f.axis)
            level = abs(float(normal @ r.axis)) > 0.999
            # "Larger elsewhere": an own floor disc would have the round's own area.
            own = np.pi * r.diameter**2 / 4
            if level and f.area > 3 * own and abs(float(np.asarray(f.centre) @ r.axis) - floor) < 0.02:
                marked.add(i)
                break
    return marked


def _pair_slots(partial: list[Round]) -> tuple[list[Feature], list[Round]]:
    """Two facing half-rounds of one radius make a slot; the rest are fillets."""
    half = [i for i, r in enumerate(partial) if r.hollow and abs(r.turn - np.pi) < np.radians(40)]
    slots: list[Feature] = []
    paired: set[int] = set()
    for n, i in enumerate(half):
        for j in half[n + 1 :]:
            a, b = partial[i], partial[j]
            if i in paired or j in paired:
                continue
            apart = b.centre - a.centre
            apart = apart - a.axis * float(apart @ a.axis)
            if (
                abs(float(a.axis @ b.axis)) > 0.999
                and abs(a.diameter - b.diameter) < 0.02
                and abs(a.length - b.length) < 0.05
                and 0.05 < np.linalg.norm(apart) < 12 * a.diameter
            ):
                paired |= {i, j}
                shut = a.closed_ends[0] or a.closed_ends[1]
                slots.append(
                    Feature(
                        "",
                        "slot",
                        _triple((a.centre + b.centre) / 2),
                        _triple(a.axis),
                        np.concatenate([a.faces, b.faces]),
                        0.0,
                        a.diameter,
                        a.length,
                        not shut,
                        a.sides,
                    )
                )
    return slots, [r for i, r in enumerate(partial) if i not in paired]
