"""Rounds that belong together: counterbores over their holes, stepped holes, countersinks, holes that cross."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from knollside.core.model import Feature, FeatureRole

_COAXIAL = 0.05  # mm off one axis
_TOUCHING = 0.06  # mm between their ends


def related(features: list[Feature], scatter: float = 0.0) -> list[Feature]:
    """The same features with what they are to each other: ``role`` and the ids ``beside`` them.

    Of two holes on one axis that meet end to end the wider is the *counterbore*; of three or more all but the narrowest
    are *steps*. A hollow cone that meets a hole is its *countersink*. Holes whose axes pass through each other *cross*.
    Ends may be off by some ``scatter`` of the corners, mm.
    """
    slack = _TOUCHING + 6 * scatter
    out = {f.id: f for f in features}
    holes = [f for f in features if f.kind == "hole" and f.diameter]
    lines = {f.id: _line(f) for f in features if f.kind in ("hole", "cone")}
    chains: list[set[str]] = []
    for i, j in _near(holes):
        a, b = holes[i], holes[j]
        if a.body == b.body and _meet(lines[a.id], lines[b.id], slack):
            joined = [c for c in chains if a.id in c or b.id in c]
            chains = [c for c in chains if c not in joined] + [set().union({a.id, b.id}, *joined)]
        elif a.body == b.body and _cross(a, b):
            for one, other in ((a, b), (b, a)):
                f = out[one.id]
                out[one.id] = replace(f, role=f.role or "crossing", beside=(*f.beside, other.id))
    for chain in chains:
        by_size = sorted(chain, key=lambda n: out[n].diameter or 0.0)
        for name in by_size[1:]:
            role: FeatureRole = "counterbore" if len(chain) == 2 else "step"
            out[name] = replace(out[name], role=role, beside=(by_size[0],))
        first = out[by_size[0]]
        out[by_size[0]] = replace(first, beside=(*first.beside, *by_size[1:]))
    for c in features:
        if c.kind != "cone" or not c.inside:
            continue
        for h in holes:
            if h.body == c.body and _meet(lines[c.id], lines[h.id], slack):
                out[c.id] = replace(out[c.id], role="countersink", beside=(h.id,))
                out[h.id] = replace(out[h.id], beside=(*out[h.id].beside, c.id))
                break
    return [out[f.id] for f in features]


def _near(holes: list[Feature]) -> list[tuple[int, int]]:
    """Pairs close enough to have to do with each other."""
    if len(holes) < 2:
        return []
    centre = np.array([f.centre for f in holes])
    reach = np.array([math.hypot(f.length or 0.0, f.diameter or 0.0) / 2 for f in holes]) + _COAXIAL
    apart = np.linalg.norm(centre[:, None] - centre[None], axis=2)
    i, j = np.nonzero(np.triu(apart <= reach[:, None] + reach[None], 1))
    return list(zip(i.tolist(), j.tolist(), strict=True))


_Line = tuple[np.ndarray, np.ndarray, float, float]


def _line(f: Feature) -> _Line:
    axis, centre = np.asarray(f.axis), np.asarray(f.centre)
    at, half = float(axis @ centre), (f.length or 0.0) / 2
    return axis, centre, at - half, at + half


def _meet(a: _Line, b: _Line, slack: float) -> bool:
    """On one axis and end to end, within some ``slack``, mm."""
    if abs(float(a[0] @ b[0])) < (0.9995 if slack <= _TOUCHING else 0.998):
        return False
    apart = b[1] - a[1]
    off = apart - a[0] * float(apart @ a[0])
    if float(np.linalg.norm(off)) > _COAXIAL:
        return False
    flip = float(np.sign(a[0] @ b[0]))
    low, high = sorted((flip * b[2], flip * b[3]))
    return min(abs(low - a[3]), abs(high - a[2])) < slack


def _cross(a: Feature, b: Feature) -> bool:
    """Whether two holes' axes pass within their radii of each other, inside both."""
    u, v = np.asarray(a.axis), np.asarray(b.axis)
    normal = np.cross(u, v)
    size = float(np.linalg.norm(normal))
    if size < 0.1:
        return False
    apart = np.asarray(b.centre) - np.asarray(a.centre)
    if abs(float(apart @ normal)) / size > ((a.diameter or 0) + (b.diameter or 0)) / 2:
        return False
    s, t, _ = np.linalg.solve(np.stack([u, -v, normal], axis=1), apart)
    reach = 0.05 + max(a.diameter or 0.0, b.diameter or 0.0) / 2
    return bool(abs(s) <= (a.length or 0) / 2 + reach and abs(t) <= (b.length or 0) / 2 + reach)
