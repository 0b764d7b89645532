"""What is on the part: holes, pins, hexagons, slots, cones, fillets, flats, lettering."""

from __future__ import annotations

import numpy as np

from knollside.core.mesh.patches import Patches, patches_of
from knollside.core.mesh.rounds import Round, find_rounds
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Array, Feature, Ints, Mesh, Refused

SMALLEST_FLAT = 0.002  # share of the whole surface
LETTERING_DEPTH = 1.5


def find_features(mesh: Mesh) -> tuple[Feature, ...]:
    """Named features, biggest flats and holes first; ids are stable for the same mesh.

    Diameters have the polygon effect taken out: a round hole in a mesh is a
    polygon whose corners (or, for some exports, mid-flats) lie on the circle.
    """
    middle = mesh.bounds.mean(axis=0)  # recentre: keeps circle fits exact far from the origin
    local = Mesh(mesh.vertices - middle, mesh.faces)
    patches = patches_of(local)
    rounds = find_rounds(local, patches)
    label = bodies_of(mesh)[1]
    used = np.zeros(patches.count, bool)
    for r in rounds:
        used[r.patches] = True
    flats = _flats(local, patches, used)
    raw: list[Feature] = []
    partial: list[Round] = []
    lettering = _lettering(local, patches, rounds, flats)
    for i, r in enumerate(rounds):
        if r.sides == 6 and r.whole:
            raw.append(_feature("hexagon", r, r.flat_diameter))
        elif r.sides < 8:
            continue
        elif i in lettering:
            raw.append(_feature("lettering", r, r.diameter))
        elif r.whole:
            raw.append(_feature("hole" if r.hollow else "pin", r, r.diameter))
        else:
            partial.append(r)
    slots, fillets = _pair_slots(partial)
    raw += slots
    raw += [_feature("fillet", r, r.diameter) for r in fillets]
    raw += _cones(local, patches, used)
    raw += flats

    areas = mesh.areas
    number: dict[str, int] = {}
    named = []
    rank = ["hole", "pin", "hexagon", "slot", "cone", "lettering", "fillet", "flat"]
    for f in sorted(raw, key=lambda f: (rank.index(f.kind), -round(f.area, 3), tuple(np.round(f.centre, 3)))):
        number[f.kind] = number.get(f.kind, 0) + 1
        x, y, z = (float(c) for c in np.asarray(f.centre) + middle)
        named.append(
            Feature(
                f"{f.kind}-{number[f.kind]}",
                f.kind,
                (x, y, z),
                f.axis,
                f.faces,
                float(areas[f.faces].sum()),
                f.diameter,
                f.length,
                f.through,
                f.facets,
                int(label[f.faces[0]]),
            )
        )
    return tuple(named)


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


def _feature(kind: str, r: Round, diameter: float) -> Feature:
    ends = r.closed_ends
    through = None if kind in ("pin", "fillet") else not (ends[0] or ends[1])
    return Feature(
        "", kind, _triple(r.centre), _triple(r.axis), r.faces, 0.0, float(diameter), r.length, through, r.sides
    )


def _triple(v: Array) -> tuple[float, float, float]:
    x, y, z = (float(c) for c in v)
    return x, y, z


def _flat_feature(mesh: Mesh, patches: Patches, p: int, faces: Ints, name: str, kind: str) -> Feature:
    return Feature(name, kind, _triple(patches.centre[p]), _triple(patches.normal[p]), faces, float(patches.area[p]))


def _flats(mesh: Mesh, patches: Patches, used: np.ndarray) -> list[Feature]:
    least = max(SMALLEST_FLAT * float(patches.area.sum()), 1.0)
    return [
        _flat_feature(mesh, patches, int(p), np.flatnonzero(patches.of_face == p), "", "flat")
        for p in np.flatnonzero(~used & (patches.area >= least))
    ]


def _lettering(mesh: Mesh, patches: Patches, rounds: list[Round], flats: list[Feature]) -> set[int]:
    """Shallow shut rounds whose floor is level with a larger face: counters of raised characters.

    Small outward rounds of the same height standing on such a face are strokes of them.
    """
    marked: set[int] = set()
    for i, r in enumerate(rounds):
        if r.length > LETTERING_DEPTH or not r.whole:
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


def _cones(mesh: Mesh, patches: Patches, used: np.ndarray) -> list[Feature]:
    """Rings of strips whose normals make one angle with an axis: countersinks and cone points."""
    bend = np.abs(patches.angle)
    link = (bend > np.radians(0.5)) & (bend < np.radians(50)) & ~used[patches.pair].any(axis=1)
    big = max(SMALLEST_FLAT * float(patches.area.sum()) * 4, 1.0)
    link &= (patches.area[patches.pair] < big).all(axis=1)
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    pair = patches.pair[link]
    if len(pair) == 0:
        return []
    n, label = connected_components(
        coo_matrix((np.ones(len(pair)), (pair[:, 0], pair[:, 1])), shape=(patches.count,) * 2), directed=False
    )
    out = []
    size = np.bincount(label, minlength=n)
    for c in np.flatnonzero(size >= 8):
        members = np.flatnonzero(label == c)
        clear = members[patches.area[members] > 0.05 * np.median(patches.area[members])]
        normals = patches.normal[clear]
        middle = normals.mean(axis=0)
        axis = np.linalg.svd(normals - middle, full_matrices=False)[2][-1]
        lean = normals @ axis
        if np.ptp(lean) > 0.02 or not 0.1 < abs(lean.mean()) < 0.98:
            continue
        faces = np.flatnonzero(np.isin(patches.of_face, members))
        points = mesh.vertices[np.unique(mesh.faces[faces])]
        u = np.cross(axis, [1.0, 0, 0] if abs(axis[0]) < 0.9 else [0, 1.0, 0])
        u /= np.linalg.norm(u)
        v = np.cross(axis, u)
        radial = normals @ np.c_[u, v]
        if abs(np.linalg.norm(radial.mean(axis=0))) > 0.2:
            continue  # not all round
        along = points @ axis
        top = points[np.abs(along - along.max()) < 1e-3 + 0.02 * np.ptp(along)] @ np.c_[u, v]
        low = points[np.abs(along - along.min()) < 1e-3 + 0.02 * np.ptp(along)] @ np.c_[u, v]
        centre2 = points @ np.c_[u, v]
        mid = centre2.mean(axis=0) if len(points) < 3 else (centre2.max(axis=0) + centre2.min(axis=0)) / 2
        widest = 2 * max(float(np.linalg.norm(t - mid, axis=1).max()) for t in (top, low))
        centre = u * mid[0] + v * mid[1] + axis * (along.max() + along.min()) / 2
        axis = axis * (1 if axis[np.argmax(np.abs(axis))] > 0 else -1)
        out.append(
            Feature(
                "", "cone", _triple(centre), _triple(axis), faces, 0.0, widest, float(np.ptp(along)), None, len(members)
            )
        )
    return out
