"""Triangles of no area, whose one corner lies on their longest edge."""

from __future__ import annotations

import numpy as np

from knollside.core.model import Array, Ints, Mesh

_NO_AREA = 2e-8  # of the longest edge squared
_ROUNDS = 6


def without_needles(vertices: Array, faces: Ints) -> tuple[Ints, int]:
    """Needles given to the neighbour across their longest edge, both cut the other way, so that no corner moves and
    nothing opens; and how many there were. They stand where rims of two cuts lie in one plane."""
    faces = faces.copy()
    laid = 0
    for _ in range(_ROUNDS):
        mesh = Mesh(vertices, faces)
        long = np.linalg.norm(np.roll(mesh.triangles, -1, axis=1) - mesh.triangles, axis=2)
        needles = np.flatnonzero(mesh.areas <= _NO_AREA * long.max(axis=1) ** 2)
        if not len(needles):
            break
        at = {
            (int(a), int(b)): int(t) for t, row in enumerate(faces) for a, b in zip(row, np.roll(row, -1), strict=True)
        }
        touched: set[int] = set()
        loose: list[int] = []
        for t in needles:
            e = int(np.argmax(long[t]))
            i, j, k = (int(faces[t, (e + q) % 3]) for q in range(3))
            other = at.get((j, i))
            if other is None:
                loose.append(int(t))
                continue
            if t in touched or other in touched:
                continue
            far = next(int(v) for v in faces[other] if v not in (i, j))
            # An edge there already would become one of four triangles.
            if far == k or (k, far) in at or (far, k) in at:
                continue
            faces[t], faces[other] = (i, far, k), (far, j, k)
            at[far, k], at[k, far] = int(t), int(other)
            touched |= {int(t), other}
        laid += len(touched) // 2 + len(loose)
        if loose:
            # Nothing lies beyond its longest edge: what it leaves open was open.
            faces = np.delete(faces, loose, axis=0)
        if not touched and not loose:
            break
    return faces, laid
