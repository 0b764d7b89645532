"""Scaling a part while chosen holes, pockets and the gaps between its bodies keep their true size (P4)."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from knollside.core.fit.clearance import split_bodies
from knollside.core.mesh.check import check
from knollside.core.mesh.distance import shortest
from knollside.core.mesh.edit import resize
from knollside.core.mesh.facing import facing, move_faces
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


def scale_keeping(
    mesh: Mesh,
    features: tuple[Feature, ...],
    factor: float,
    keep: tuple[str, ...] = (),
    keep_gaps: bool = False,
    line_width: float = 0.45,
) -> Scaled:
    """Scale by ``factor`` about the middle of the underside. Features named in ``keep`` and, if asked, the gaps
    between bodies come out at their drawn size. Depths and places scale.

    Raises :class:`Refused`, with nothing half-done, for a factor out of 0.1 to 10, a feature that cannot be kept, or
    a gap that would not come out true.
    """
    if not LEAST <= factor <= MOST:
        raise Refused(f"Scaling takes {LEAST:g} to {MOST:g}; {factor:g} is out of that.")
    low, high = mesh.bounds
    foot = np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, low[2]])
    plain = Mesh(foot + (mesh.vertices - foot) * factor, mesh.faces)
    grown = tuple(_scaled(f, foot, factor) for f in features)
    by_id = {f.id: f for f in features}
    for name in keep:
        f = by_id.get(name)
        if f is None or f.diameter is None or f.kind not in ("hole", "pin", "hexagon"):
            raise Refused(f"{name} is no hole, pin or hexagon of this part, so its size cannot be kept.")
    wanted = {name: float(by_id[name].diameter or 0.0) for name in keep}
    made = resize(plain, grown, wanted, line_width).mesh if wanted and factor != 1 else plain
    sizes = tuple(KeptSize(n, d, d * factor, d) for n, d in wanted.items())
    gaps, made = _keep_gaps(mesh, made, factor) if keep_gaps and factor != 1 else ((), made)
    if check(mesh).sound and not check(made).sound:
        raise Refused("Scaled so, faces would cut into each other; nothing was changed.")
    return Scaled(made, factor, sizes, gaps)


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
    """Move the facing faces of the later body of each pair so that the gap is as drawn again."""
    label = bodies_of(drawn)[1]
    made, out = plain, []
    for (i, j), gap in plain_gaps(drawn):
        mine, other = np.flatnonzero(label == j), np.flatnonzero(label == i)
        wide = gap * factor
        faces = facing(made, mine, other, max(2.5 * wide, wide + 0.3), wide)
        if len(faces) == 0:
            raise Refused(f"No faces of body {j + 1} look at body {i + 1}; its gap cannot be kept.")
        made = move_faces(made, faces, gap * (factor - 1))
        a, b = (Mesh(made.vertices, made.faces[label == k]) for k in (i, j))
        now = shortest(a, b).distance
        if abs(now - gap) > 0.06 * gap + 0.01:
            raise Refused(
                f"Bodies {i + 1} and {j + 1} would come out {now:.2f} mm apart where {gap:.2f} was drawn: their faces "
                "do not follow each other. Scale them one by one in the model."
            )
        out.append(KeptGap((i, j), gap, gap * factor, now, len(np.unique(made.faces[faces]))))
    return tuple(out), made
