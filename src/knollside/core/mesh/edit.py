"""Changing the size of chosen holes, pins, slots and pockets, and nothing else.

The corners of a feature's own wall move (:mod:`wallmoves`), which is exact wherever they can stay in the planes of
all that meets the wall, and is refused elsewhere. Each edit is guarded: still closed, untouched corners bit-identical,
volume as predicted, no new crossing, and two lines of wall left where a wall gets thinner.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import shapely

from knollside.core.mesh.crossing import crosses_in
from knollside.core.mesh.features import find_features
from knollside.core.mesh.patches import patches_of
from knollside.core.mesh.topology import bodies_of, edges_of
from knollside.core.mesh.unfold import unfold
from knollside.core.mesh.wallmoves import Sizes, moves_of, swept
from knollside.core.model import SIZED, Array, Feature, Ints, Mesh, Refused, square_to

LINES_LEFT = 2  # a correction must leave at least this many line widths of wall


@dataclass(frozen=True)
class Change:
    """One feature's change, as asked and as found afterwards; ``how`` it was made."""

    feature: str
    from_mm: float
    to_mm: float
    volume_predicted: float
    volume_found: float
    moved: int
    how: str = "wall moved"
    along: float | None = None  # the second size afterwards, where it has one


@dataclass(frozen=True)
class Edited:
    """The mesh, what was changed, and why what else was asked for was not: (feature, reason)."""

    mesh: Mesh
    changes: tuple[Change, ...]
    refused: tuple[tuple[str, str], ...] = ()


Wanted = Mapping[str, float | Sizes]


def resize(mesh: Mesh, features: tuple[Feature, ...], wanted: Wanted, line_width: float = 0.45) -> Edited:
    """Bring each feature in ``wanted`` (id to new drawn diameter or sizes, mm) to its size.

    Moves only the corners of the feature's own wall. Raises :class:`Refused` naming the feature when what meets the
    wall cannot stay the plane it is, when two corrected features meet, or when less than two lines of wall would be
    left. Nothing is half-applied.
    """
    by_id = {f.id: f for f in features}
    vertices = mesh.vertices.copy()
    touched = np.zeros(len(vertices), bool)
    changes: list[Change] = []
    for name, told in wanted.items():
        f = by_id.get(name)
        if f is None or f.diameter is None or f.kind not in SIZED:
            raise Refused(f"{name} is not a hole, pin, slot or pocket of this part.")
        to = sizes_of(told)
        if not 0.2 <= to.across <= 10 * f.diameter:
            raise Refused(f"{f.title}: {to.across:.2f} mm is not a usable size for a {f.diameter:.2f} mm {f.kind}.")
        moves = moves_of(mesh, f, to)
        if touched[moves.own].any():
            raise Refused(f"{f.title} meets another corrected feature; correct one of them in the model.")
        if not moves.plain:
            raise Refused(
                f"{f.title} runs into a face that is not flat there (a countersink, a curve or another "
                "hole), so its wall cannot be moved alone. Change its size in the model."
            )
        before = Mesh(vertices, mesh.faces).volume
        vertices[moves.own] = mesh.vertices[moves.own] + moves.by
        touched[moves.own] = True
        found = Mesh(vertices, mesh.faces).volume - before
        changes.append(
            Change(name, f.diameter, to.across, swept(mesh, f.faces, moves), found, len(moves.own), along=to.along)
        )
    faces, folded = unfold(mesh, vertices, touched)
    result = Mesh(vertices, faces)
    _guard(mesh, result, features, wanted, touched, changes, LINES_LEFT * line_width)
    if folded:
        raise Refused("The corrected faces would cut into a neighbour: a flat beside them would fold over.")
    return Edited(result, tuple(changes))


def sizes_of(told: float | Sizes) -> Sizes:
    return told if isinstance(told, Sizes) else Sizes(float(told))


def can_move(mesh: Mesh, f: Feature, to: Sizes) -> bool:
    """Whether the feature's wall can be moved alone: all that meets it stays the plane it is."""
    return f.kind in SIZED and moves_of(mesh, f, to).plain


def _guard(
    before: Mesh,
    after: Mesh,
    features: tuple[Feature, ...],
    wanted: Wanted,
    touched: np.ndarray,
    changes: list[Change],
    least_wall: float,
) -> None:
    if not np.array_equal(before.vertices[~touched], after.vertices[~touched]):
        raise Refused("The correction would move corners outside the chosen features.")
    edges = edges_of(after)
    if (edges.count == 2).all() != (edges_of(before).count == 2).all():
        raise Refused("The corrected mesh would not be closed.")
    for c in changes:
        if abs(c.volume_found - c.volume_predicted) > 1e-4 * abs(c.volume_predicted) + 1e-6:
            raise Refused(
                f"{c.feature}: the volume would change by {c.volume_found:.2f} mm³ where "
                f"{c.volume_predicted:.2f} mm³ was expected; the wall is not a plain round."
            )
    thinner = {c.feature for c in changes if c.volume_predicted < 0}
    if thinner:
        _guard_walls(after, [f for f in features if f.id in thinner], wanted, least_wall)
    boxes = _moved_boxes(after, touched)
    if crosses_in(after, boxes) and not crosses_in(before, boxes):
        raise Refused("The corrected faces would cut into a neighbour.")


def _guard_walls(after: Mesh, thinner: list[Feature], wanted: Wanted, least_wall: float) -> None:
    label, patch = bodies_of(after)[1], patches_of(after).of_face
    for f in thinner:
        wall, across = wall_left(after, f, label, patch), sizes_of(wanted[f.id]).across
        if wall < least_wall:
            raise Refused(
                f"{f.title} at {across:.2f} mm would leave {max(wall, 0):.2f} mm of wall; "
                f"two lines are {least_wall:.2f} mm."
            )


def _moved_boxes(mesh: Mesh, touched: np.ndarray) -> list[Array]:
    """Boxes round the moved triangles, one for each cell of a coarse grid, so that far features stay apart."""
    moved = np.flatnonzero(touched[mesh.faces].any(axis=1))
    tri = mesh.triangles[moved]
    low, high = tri.min(axis=1), tri.max(axis=1)
    cell = np.floor((low - mesh.vertices.min(axis=0)) / (mesh.size.max() / 12 + 1e-9)).astype(np.int64)
    _, group = np.unique(cell, axis=0, return_inverse=True)
    group = group.ravel()
    return [
        np.array([low[group == k].min(axis=0), high[group == k].max(axis=0)]) for k in range(group.max(initial=-1) + 1)
    ]


def wall_left(mesh: Mesh, f: Feature, label: Ints, patch: Ints) -> float:
    """Smallest distance from the wall of a feature to any other face of its body that it does not touch, across the
    axis, mm; of what stands, its own least breadth. ``label`` and ``patch`` number each triangle's body and flat."""
    axis, centre = np.asarray(f.axis), np.asarray(f.centre)
    frame = np.stack(square_to(axis), axis=1)
    own = np.unique(mesh.faces[f.faces])
    ring = shapely.MultiPoint((mesh.vertices[own] - centre) @ frame).convex_hull
    if f.kind == "pin" or f.inside is False:
        return float(2 * shapely.minimum_bounding_radius(ring)) if f.kind == "pin" else float(f.diameter or 0.0)
    other = np.ones(len(mesh.faces), bool)
    other[f.faces] = False
    other &= np.abs(mesh.normals @ axis) <= 0.9995
    # What ends it leans perhaps, and then runs out to an edge at its rim, however thick the wall.
    meets = np.isin(mesh.faces, own).any(axis=1)
    other &= ~meets & ~np.isin(patch, patch[meets])
    other &= label == label[f.faces[0]]  # what another body leaves free is no wall
    span = (mesh.vertices[own] - centre) @ axis
    tri = mesh.triangles[other] - centre
    along = tri @ axis
    tri = tri[(along.max(axis=1) > span.min() + 1e-6) & (along.min(axis=1) < span.max() - 1e-6)]
    if len(tri) == 0:
        return float("inf")
    flat = tri @ frame
    shapes = shapely.linestrings(flat[:, [0, 1, 2, 0]])
    return float(shapely.distance(shapes, ring).min())


def sizes_found(mesh: Mesh, names: list[str], old: tuple[Feature, ...]) -> dict[str, float]:
    """Read the edited features back from the mesh alone, matched by place."""
    fresh = [f for f in find_features(mesh) if f.diameter is not None]
    out: dict[str, float] = {}
    for f in old:
        if f.id in names:
            same = [g for g in fresh if g.kind == f.kind and np.linalg.norm(np.subtract(g.centre, f.centre)) < 0.05]
            if same and same[0].diameter is not None:
                out[f.id] = same[0].diameter
    return out
