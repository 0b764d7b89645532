"""Is the mesh sound? Closed, wound one way, right side out, no waste triangles."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np

from knollside.core.mesh.crossing import crossing_pairs
from knollside.core.mesh.shells import Place, Shells, shells_of
from knollside.core.mesh.topology import Edges, bodies_of, edges_of
from knollside.core.model import Ints, Mesh

CROSSING_LIMIT = 400_000  # triangles; above it the self-crossing test is left out, and said so


ProblemKind = Literal[
    "open", "non-manifold", "winding", "zero-area", "duplicate", "inside-out", "nested", "self-crossing"
]


@dataclass(frozen=True)
class Problem:
    """One kind of fault, how often, and a sentence for the person."""

    kind: ProblemKind
    count: int
    message: str


@dataclass(frozen=True)
class Soundness:
    closed: bool
    bodies: int
    triangles: int
    volume_mm3: float
    size_mm: tuple[float, float, float]
    problems: tuple[Problem, ...]
    unit_suspicion: str | None
    body_of_face: Ints
    notes: tuple[str, ...] = ()

    @property
    def sound(self) -> bool:
        """Whether nothing is wrong with it: closed, wound one way, no crossing."""
        return not self.problems


def overlapping(s: Soundness) -> bool:
    """Whether all that is wrong is that bodies lie in one another, so that uniting them mends it."""
    return s.bodies > 1 and bool(s.problems) and {p.kind for p in s.problems} <= {"self-crossing", "nested"}


def in_millimetres(mesh: Mesh, unit: str) -> Mesh:
    """A mesh drawn in ``unit``, as millimetres."""
    return mesh if unit == "mm" else Mesh(mesh.vertices * UNIT_TO_MM[unit], mesh.faces)


def check(mesh: Mesh, crossing: bool = True) -> Soundness:
    """Look the mesh over; changes nothing. Volume is signed (negative when inside out).

    ``crossing`` asks whether triangles pass through each other, the slowest of the questions.

    Of a plate 40 x 30 x 8 mm:

    >>> found = check(plate)
    >>> found.closed, found.bodies, found.problems
    (True, 1, ())
    """
    edges = edges_of(mesh)
    count, label = bodies_of(mesh, edges)
    problems = [*_edge_problems(mesh, edges), *_triangle_problems(mesh)]
    kinds = {p.kind for p in problems}
    closed = not kinds & {"open", "non-manifold"}
    outward = closed and "winding" not in kinds
    shells = shells_of(mesh, label, count) if outward else None
    if shells is not None:
        problems += _shell_problems(shells)
    notes: list[str] = []
    if crossing and len(mesh.faces) <= CROSSING_LIMIT:
        pairs = crossing_pairs(mesh)
        if len(pairs):
            at = mesh.triangles[pairs[0, 0]].mean(axis=0)
            words = f"{len(pairs)} pairs of triangles pass through each other; one is at {_point(at)}."
            problems.append(Problem("self-crossing", len(pairs), words))
    elif crossing:
        notes.append(f"Self-crossing not tested above {CROSSING_LIMIT:,} triangles.")
    x, y, z = (float(s) for s in mesh.size)
    # A cavity is a shell of its own but belongs to the body around it; a crumb is no body.
    return Soundness(
        closed,
        shells.bodies if shells is not None else count,
        len(mesh.faces),
        mesh.volume,
        (x, y, z),
        tuple(problems),
        unit_suspicion((x, y, z)),
        label,
        tuple(notes),
    )


def _edge_problems(mesh: Mesh, edges: Edges) -> Iterator[Problem]:
    """Open edges, crowded ones, and neighbours that face opposite ways."""
    open_edges = int((edges.count == 1).sum())
    if open_edges:
        at = mesh.vertices[edges.corners[edges.count == 1]].mean(axis=1)[0]
        words = f"{open_edges} edges have a triangle on one side only, so it is not closed; one is at {_point(at)}."
        yield Problem("open", open_edges, words)
    crowded = int((edges.count > 2).sum())
    if crowded:
        at = mesh.vertices[edges.corners[edges.count > 2]].mean(axis=1)[0]
        words = f"{crowded} edges are shared by more than two triangles; one is at {_point(at)}."
        yield Problem("non-manifold", crowded, words)
    turned = int(((edges.count == 2) & (edges.turn != 0)).sum())
    if turned:
        yield Problem("winding", turned, f"{turned} neighbouring triangles face opposite ways.")


def _shell_problems(shells: Shells) -> Iterator[Problem]:
    """Shells that face inward, and bodies that lie in bodies."""
    wrong, count = int(shells.turned.sum()), len(shells.volume)
    if wrong:
        words = f"{wrong} of {count} shells are inside out: their surface faces inward."
        yield Problem("inside-out", wrong, words)
    nested = sum(p is Place.WITHIN for p in shells.place)
    if nested:
        bodies = "1 body lies" if nested == 1 else f"{nested} bodies lie"
        yield Problem("nested", nested, f"{bodies} wholly within another, solid in solid; unite them.")


def _triangle_problems(mesh: Mesh) -> Iterator[Problem]:
    """Triangles without an area, and those that are there twice."""
    longest = np.linalg.norm(np.diff(mesh.triangles[:, [0, 1, 2, 0]], axis=1), axis=2).max(axis=1)
    flat = int((mesh.areas <= 1e-9 * np.maximum(longest, 1e-12) ** 2 * 10).sum())
    if flat:
        yield Problem("zero-area", flat, f"{flat} triangles have no area.")
    same = len(mesh.faces) - len(np.unique(np.sort(mesh.faces, axis=1), axis=0))
    if same:
        yield Problem("duplicate", same, f"{same} triangles are there twice.")


def unit_suspicion(size: tuple[float, float, float]) -> str | None:
    """'metre' or 'inch' when the size in mm makes no sense for a printed part, else None."""
    longest = max(size)
    if longest < 0.7:
        return "metre"
    if longest < 12.0:
        return "inch"
    return None


UNIT_TO_MM = {"mm": 1.0, "cm": 10.0, "inch": 25.4, "metre": 1000.0}


def _point(p: np.ndarray) -> str:
    return f"({p[0]:.1f}, {p[1]:.1f}, {p[2]:.1f}) mm"
