"""Growing a piece of skin over all triangles whose corners lie on one round surface."""

from __future__ import annotations

import numba
import numpy as np

from knollside.core.mesh.recognition.quadrics import Surface
from knollside.core.mesh.recognition.skin import Skin
from knollside.core.model import Ints


@numba.njit(cache=True, nogil=True)
def _off(form, s, p):  # type: ignore[no-untyped-def]
    """How far a point stands outside the surface."""
    q0, q1, q2 = p[0] - s[0], p[1] - s[1], p[2] - s[2]
    if form == 2:
        return np.sqrt(q0 * q0 + q1 * q1 + q2 * q2) - s[6]
    z = q0 * s[3] + q1 * s[4] + q2 * s[5]
    r = np.sqrt(max(q0 * q0 + q1 * q1 + q2 * q2 - z * z, 0.0))
    if form == 0:
        return r - s[6]
    return r * np.cos(s[7]) - z * np.sin(s[7])


@numba.njit(cache=True, nogil=True)
def _facing(form, s, p, n):  # type: ignore[no-untyped-def]
    """Cosine between a triangle's normal and the surface's own outward one at a point."""
    q0, q1, q2 = p[0] - s[0], p[1] - s[1], p[2] - s[2]
    if form < 2:
        z = q0 * s[3] + q1 * s[4] + q2 * s[5]
        q0, q1, q2 = q0 - z * s[3], q1 - z * s[4], q2 - z * s[5]
    r = np.sqrt(q0 * q0 + q1 * q1 + q2 * q2)
    if r < 1e-12:
        return 0.0
    dot = (q0 * n[0] + q1 * n[1] + q2 * n[2]) / r
    if form == 1:
        dot = dot * np.cos(s[7]) - (n[0] * s[3] + n[1] * s[4] + n[2] * s[5]) * np.sin(s[7])
    return dot


@numba.njit(cache=True, nogil=True)
def _chord(s, tol, sag, vertices, faces, start, by_patch, p):  # type: ignore[no-untyped-def]
    """Whether a flat piece is a facet: two of its corners on the cylinder, as far apart across the axis as a
    facet's two edges. One that is only tangent to it has its corners on one line."""
    if start[p + 1] - start[p] > 400:
        return False
    first = np.zeros(3)
    have = False
    far = 0.0
    for i in range(start[p], start[p + 1]):
        for k in range(3):
            v = vertices[faces[by_patch[i], k]]
            if abs(_off(0, s, v)) > tol:
                continue
            if not have:
                first[:] = v
                have = True
                continue
            d0, d1, d2 = v[0] - first[0], v[1] - first[1], v[2] - first[2]
            z = d0 * s[3] + d1 * s[4] + d2 * s[5]
            far = max(far, d0 * d0 + d1 * d1 + d2 * d2 - z * z)
    # A chord that sags by so much is 2 sqrt(2 r sag) wide.
    return far > 0.1 * 8.0 * s[6] * sag


@numba.njit(cache=True, nogil=True)
def _fits(form, s, sign, tol, sag, skin, t):  # type: ignore[no-untyped-def]
    """Whether a triangle is of the surface: its corners on it, or, cut into a facet by another shape, between the
    surface and the facets' middles."""
    vertices, faces, normals, middles, _, start, by_patch, of_face = skin
    n = normals[t]
    if n[0] == 0.0 and n[1] == 0.0 and n[2] == 0.0:
        exact = True
        for k in range(3):
            exact = exact and abs(_off(form, s, vertices[faces[t, k]])) <= tol
        return exact
    face = _facing(form, s, middles[t], n) * sign
    if face < (0.9 if form == 2 else 0.5):
        return False
    low, high = 1e300, -1e300
    for k in range(3):
        d = _off(form, s, vertices[faces[t, k]])
        low, high = min(low, d), max(high, d)
    if high > tol:
        return False
    if low >= -tol:
        return True
    if form != 0 or sag <= tol or low < -sag - tol or face < 0.9:
        return False
    along = n[0] * s[3] + n[1] * s[4] + n[2] * s[5]
    return abs(along) < 0.004 and _chord(s, tol, sag, vertices, faces, start, by_patch, of_face[t])


@numba.njit(cache=True, nogil=True)
def _grow(form, s, sign, tol, sag, seeds, skin, taken, seen, mark):  # type: ignore[no-untyped-def]
    beyond = skin[4]
    out = []
    for i in range(len(seeds)):
        t = seeds[i]
        if seen[t] == mark or taken[t] or not _fits(form, s, sign, tol, sag, skin, t):
            continue
        seen[t] = mark
        out.append(t)
    done = 0
    while done < len(out):
        t = out[done]
        done += 1
        for k in range(3):
            o = beyond[t, k]
            if o < 0 or seen[o] == mark or taken[o]:
                continue
            if _fits(form, s, sign, tol, sag, skin, o):
                seen[o] = mark
                out.append(o)
    got = np.empty(len(out), np.int64)
    for i in range(len(out)):
        got[i] = out[i]
    return got


class Grower:
    """Grows pieces of one skin; remembers what is taken already."""

    def __init__(self, skin: Skin) -> None:
        self.skin = skin
        self.taken = np.zeros(len(skin.mesh.faces), bool)
        self._seen = np.zeros(len(skin.mesh.faces), np.int64)
        self._mark = 0
        self._stamp = np.zeros(len(skin.mesh.vertices), np.int64)
        self._first = np.zeros(len(skin.mesh.vertices), np.int64)
        start, by_patch = skin.patches.members
        mesh = skin.mesh
        own = mesh.vertices, mesh.faces, skin.normals, skin.middles, skin.beyond
        self._skin = (*(np.ascontiguousarray(a) for a in own), start, by_patch, skin.patches.of_face)

    def grow(self, s: Surface, hollow: bool, seeds: Ints, sag: float = 0.0) -> Ints:
        """Triangles reached from ``seeds`` over those that fit ``s``; ``sag`` is how far the middle of a facet stands
        inside it."""
        self._mark += 1
        sign = -1.0 if hollow else 1.0
        at = int(s.form), s.numbers(), sign, self.skin.tolerance, sag, np.asarray(seeds, np.int64)
        return np.asarray(_grow(*at, self._skin, self.taken, self._seen, self._mark))

    def corners(self, faces: Ints) -> Ints:
        """Corners that some triangles have, each once."""
        self._mark += 1
        return np.asarray(_corners(self.skin.mesh.faces, faces, self._stamp, self._mark))

    def shared(self, faces: Ints) -> Ints:
        """Corners that two flat pieces among some triangles share: one cut into a strip by another shape lies on its
        flat, nearer to the axis."""
        self._mark += 1
        return np.asarray(
            _shared(self.skin.mesh.faces, faces, self.skin.patches.of_face, self._stamp, self._first, self._mark)
        )


@numba.njit(cache=True, nogil=True)
def _corners(faces, some, stamp, mark):  # type: ignore[no-untyped-def]
    out = np.empty(3 * len(some), np.int64)
    n = 0
    for i in range(len(some)):
        for k in range(3):
            c = faces[some[i], k]
            if stamp[c] != mark:
                stamp[c] = mark
                out[n] = c
                n += 1
    return out[:n]


@numba.njit(cache=True, nogil=True)
def _shared(faces, some, of_face, stamp, first, mark):  # type: ignore[no-untyped-def]
    out = np.empty(3 * len(some), np.int64)
    n = 0
    for i in range(len(some)):
        p = of_face[some[i]]
        for k in range(3):
            c = faces[some[i], k]
            if stamp[c] != mark:
                stamp[c] = mark
                first[c] = p
            elif first[c] >= 0 and first[c] != p:
                first[c] = -1
                out[n] = c
                n += 1
    return out[:n]
