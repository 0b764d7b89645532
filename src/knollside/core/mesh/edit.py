"""Changing the size of chosen holes and pins, and nothing else.

The corners of a feature's own wall move radially, which is exact wherever every
neighbouring face is square to the axis, and is refused elsewhere. Each edit is
guarded: still closed, untouched corners bit-identical, volume as predicted, no
new crossing, and two lines of wall left.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from knollside.core.mesh.crossing import crosses_in
from knollside.core.mesh.features import find_features
from knollside.core.mesh.topology import edges_of
from knollside.core.mesh.unfold import unfold
from knollside.core.model import Array, Feature, Mesh, Refused

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


@dataclass(frozen=True)
class Edited:
    mesh: Mesh
    changes: tuple[Change, ...]


def resize(mesh: Mesh, features: tuple[Feature, ...], wanted: dict[str, float], line_width: float = 0.45) -> Edited:
    """Bring each feature in ``wanted`` (id to new drawn diameter, mm) to its size.

    Moves only the corners of the feature's own wall, radially. Raises
    :class:`Refused` naming the feature when a neighbour is not square to the
    axis, when two corrected features meet, or when less than two lines of wall
    would be left. Nothing is half-applied.
    """
    by_id = {f.id: f for f in features}
    vertices = mesh.vertices.copy()
    touched = np.zeros(len(vertices), bool)
    changes: list[Change] = []
    for name, to in wanted.items():
        f = by_id.get(name)
        if f is None or f.diameter is None or f.kind not in ("hole", "pin", "hexagon"):
            raise Refused(f"{name} is not a round hole, pin or hexagon of this part.")
        if not 0.2 <= to <= 10 * f.diameter:
            raise Refused(f"{f.title}: {to:.2f} mm is not a usable size for a {f.diameter:.2f} mm {f.kind}.")
        own = np.unique(mesh.faces[f.faces])
        if touched[own].any():
            raise Refused(f"{f.title} meets another corrected feature; correct one of them in the model.")
        _square_neighbours(mesh, f, own)
        axis, centre = np.asarray(f.axis), np.asarray(f.centre)
        offset = mesh.vertices[own] - centre
        along = np.outer(offset @ axis, axis)
        moved = centre + along + (offset - along) * (to / f.diameter)
        before = Mesh(vertices, mesh.faces).volume
        vertices[own] = moved
        touched[own] = True
        predicted = _prism_change(mesh, f, to)
        changes.append(Change(name, f.diameter, to, predicted, Mesh(vertices, mesh.faces).volume - before, len(own)))
    faces, folded = unfold(mesh, vertices, touched)
    result = Mesh(vertices, faces)
    _guard(mesh, result, features, wanted, touched, changes, LINES_LEFT * line_width)
    if folded:
        raise Refused("The corrected faces would cut into a neighbour: a flat beside them would fold over.")
    return Edited(result, tuple(changes))


def can_move(mesh: Mesh, f: Feature) -> bool:
    """Whether the feature's wall can be moved alone: all its neighbours are square to it."""
    try:
        _square_neighbours(mesh, f, np.unique(mesh.faces[f.faces]))
    except Refused:
        return False
    return True


def _square_neighbours(mesh: Mesh, f: Feature, own: Array) -> None:
    """Every other face at the feature's corners must be a flat square to the axis."""
    at = np.asarray(np.isin(mesh.faces, own).any(axis=1))
    at[f.faces] = False
    lean = np.abs(mesh.normals[at] @ np.asarray(f.axis))
    solid = mesh.areas[at] > 1e-9
    if (lean[solid] < 0.9995).any():
        raise Refused(
            f"{f.title} runs into a face that is not square to it (a countersink, a slope or another "
            "hole), so its wall cannot be moved alone. Change its size in the model."
        )


def _prism_change(mesh: Mesh, f: Feature, to: float) -> float:
    """Volume the part gains when the feature's own polygon, over its own length, is rescaled.

    The wall's share of the divergence integral is one third of flux times
    radius: for a prism with ends square to its axis, area times length.
    """
    tri = mesh.triangles[f.faces]
    axis, centre = np.asarray(f.axis), np.asarray(f.centre)
    radial = tri.mean(axis=1) - centre
    radial -= np.outer(radial @ axis, axis)
    cross = np.cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0]) / 2
    prism = float(np.einsum("ij,ij->", radial, cross)) / 2  # signed: negative for a hole
    assert f.diameter is not None
    return prism * ((to / f.diameter) ** 2 - 1)


def _guard(
    before: Mesh,
    after: Mesh,
    features: tuple[Feature, ...],
    wanted: dict[str, float],
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
    changed = [f for f in features if f.id in wanted]
    for f in changed:
        wall = _wall_left(after, f, wanted[f.id])
        if wall < least_wall:
            raise Refused(
                f"{f.title} at {wanted[f.id]:.2f} mm would leave {max(wall, 0):.2f} mm of wall; "
                f"two lines are {least_wall:.2f} mm."
            )
    boxes = _moved_boxes(after, touched)
    if crosses_in(after, boxes) and not crosses_in(before, boxes):
        raise Refused("The corrected faces would cut into a neighbour.")


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


def _wall_left(mesh: Mesh, f: Feature, diameter: float) -> float:
    """Smallest distance from the wall to any other face it does not touch, across the axis, mm.

    For a pin the material is inside, so it is the diameter itself.
    """
    if f.kind == "pin":
        return diameter
    axis, centre = np.asarray(f.axis), np.asarray(f.centre)
    own = np.unique(mesh.faces[f.faces])
    other = np.ones(len(mesh.faces), bool)
    other[f.faces] = False
    square = np.abs(mesh.normals @ axis) > 0.9995
    other &= ~square
    other &= ~np.isin(mesh.faces, own).any(axis=1)
    if not other.any():
        return float("inf")
    half = (f.length or 0) / 2
    tri = mesh.triangles[other]
    along = (tri - centre) @ axis
    level = (along.max(axis=1) > -half + 1e-6) & (along.min(axis=1) < half - 1e-6)
    tri = tri[level]
    if len(tri) == 0:
        return float("inf")
    flat = tri - centre
    flat = flat - ((flat @ axis)[..., None]) * axis
    # Distance from the axis to each edge of each face, seen along the axis.
    a, b = flat, np.roll(flat, -1, axis=1)
    d = b - a
    t = np.clip(-(a * d).sum(-1) / np.maximum((d * d).sum(-1), 1e-18), 0, 1)
    nearest = np.linalg.norm(a + d * t[..., None], axis=-1).min()
    return float(nearest) - diameter / 2


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
