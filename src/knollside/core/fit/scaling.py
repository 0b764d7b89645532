"""Scaling a part while chosen holes, pockets and gaps keep their true size (docs/methods.md 7.14)."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from knollside.core.fit.clearance import split_bodies
from knollside.core.fit.opening import set_gap, thicken, wall_behind
from knollside.core.mesh.check import check
from knollside.core.mesh.distance import shortest
from knollside.core.mesh.edit import resize
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Feature, Mesh, Refused

LEAST, MOST = 0.1, 10.0
_NEAR = 3.0  # mm; bodies farther apart than this have no gap to keep


@dataclass(frozen=True)
class KeptSize:
    """A hole, pin or pocket: its size as drawn, what plain scaling makes of it, and what it is now."""

    feature: str
    drawn: float
    plain: float
    now: float


@dataclass(frozen=True)
class KeptGap:
    """Two bodies: their least gap as drawn, by plain scaling, and now; how many corners were moved for it."""

    bodies: tuple[int, int]
    drawn: float
    plain: float
    now: float
    moved: int


@dataclass(frozen=True)
class Scaled:
    mesh: Mesh
    factor: float
    sizes: tuple[KeptSize, ...]
    gaps: tuple[KeptGap, ...]
    walls: tuple[str, ...] = ()
    threads: tuple[str, ...] = ()


def scale_keeping(
    mesh: Mesh,
    features: tuple[Feature, ...],
    factor: float,
    keep: tuple[str, ...] = (),
    keep_gaps: bool = False,
    line_width: float = 0.45,
    walls: tuple[str, ...] = (),
    only: int | None = None,
) -> Scaled:
    """Scale by ``factor`` about the middle of the underside. Features named in ``keep`` and, if asked, the gaps
    between bodies come out at their drawn size. Depths and places scale. Walls whose near flats are named in ``walls``
    keep their drawn thickness (their far side moves); ``only`` scales one body and leaves the others.

    Raises :class:`Refused`, with nothing half-done, for a factor out of 0.1 to 10, a feature that cannot be kept, or
    a gap that would not come out true.
    """
    if not LEAST <= factor <= MOST:
        raise Refused(f"Scaling takes {LEAST:g} to {MOST:g}; {factor:g} is out of that.")
    low, high = mesh.bounds
    foot = np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, low[2]])
    plain, grown = _plain(mesh, features, foot, factor, only)
    by_id = {f.id: f for f in features}
    for name in keep:
        f = by_id.get(name)
        if f is None or f.diameter is None or f.kind not in ("hole", "pin", "hexagon"):
            raise Refused(f"{name} is no hole, pin or hexagon of this part, so its size cannot be kept.")
    wanted = {n: float(by_id[n].diameter or 0.0) for n in keep if only in (None, by_id[n].body)}
    made = resize(plain, grown, wanted, line_width).mesh if wanted and factor != 1 else plain
    sizes = tuple(KeptSize(n, d, d * factor, d) for n, d in wanted.items())
    kept = [wall_behind(mesh, features, name) for name in walls] if factor != 1 else []
    for wall in kept:
        made = thicken(
            made, grown, replace(wall, thick=wall.thick * factor), wall.thick * (1 - factor), "far", False
        ).mesh
    gaps, made = _keep_gaps(mesh, made, factor) if keep_gaps and factor != 1 else ((), made)
    if check(mesh).sound and not check(made).sound:
        raise Refused("Scaled so, faces would cut into each other; nothing was changed.")
    threads = tuple(
        f"{f.title} is {f.pitch:.2f} mm a turn; scaled to {f.pitch * factor:.2f} it fits no other thread."
        for f in features
        if f.kind == "thread" and f.pitch and factor != 1 and only in (None, f.body)
    )
    return Scaled(made, factor, sizes, gaps, tuple(w.near for w in kept), threads)


def _plain(
    mesh: Mesh, features: tuple[Feature, ...], foot: np.ndarray, factor: float, only: int | None
) -> tuple[Mesh, tuple[Feature, ...]]:
    """Everything, or one body, scaled as it is."""
    vertices = foot + (mesh.vertices - foot) * factor
    if only is None:
        return Mesh(vertices, mesh.faces), tuple(_scaled(f, foot, factor) for f in features)
    count, label = bodies_of(mesh)
    if not 0 <= only < count:
        raise Refused(f"There is no body {only + 1}; this part has {count}.")
    own = np.unique(mesh.faces[label == only])
    # About its own middle, so that it stays in its place among the others.
    middle = (mesh.vertices[own].min(axis=0) + mesh.vertices[own].max(axis=0)) / 2
    vertices = mesh.vertices.copy()
    vertices[own] = middle + (vertices[own] - middle) * factor
    return Mesh(vertices, mesh.faces), tuple(_scaled(f, middle, factor) if f.body == only else f for f in features)


def plain_gaps(mesh: Mesh) -> tuple[tuple[tuple[int, int], float], ...]:
    """Pairs of bodies with their least gap, mm, as drawn; only those nearer than 3 mm."""
    parts = split_bodies(mesh)
    out = []
    for i in range(len(parts)):
        for j in range(i + 1, len(parts)):
            distance = shortest(parts[i], parts[j]).distance
            if distance <= _NEAR:
                out.append(((i, j), distance))
    return tuple(out)


def _scaled(f: Feature, foot: np.ndarray, factor: float) -> Feature:
    x, y, z = (float(v) for v in foot + (np.asarray(f.centre) - foot) * factor)
    return replace(
        f,
        centre=(x, y, z),
        area=f.area * factor**2,
        diameter=None if f.diameter is None else f.diameter * factor,
        length=None if f.length is None else f.length * factor,
    )


def _keep_gaps(drawn: Mesh, plain: Mesh, factor: float) -> tuple[tuple[KeptGap, ...], Mesh]:
    """Every gap as drawn again, by moving the facing faces of the later body of each pair."""
    made, out = plain, []
    for pair, gap in plain_gaps(drawn):
        done = set_gap(made, pair, gap, gap * factor)
        made = done.mesh
        out.append(KeptGap(pair, gap, gap * factor, done.now, done.moved))
    return tuple(out), made
