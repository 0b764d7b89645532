"""Triangles that pass through one another, found by a grid of cells and exact-side tests."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Array, Ints, Mesh

_STOP_AFTER = 1000  # enough to report; counting further helps nobody


_MOST_CELLS = 8_000_000
_MOST_LOOKS = 40_000_000
_FEW_PAIRS = 100  # candidate pairs a triangle below which a finer grid gains nothing
_HUB = 32  # triangles at a corner from which on they are told apart from all others as a fan


@numba.njit(cache=True, nogil=True)
def _edge_hit(p, q, a, b, t, n, eps, x):  # type: ignore[no-untyped-def]
    """Whether segment p-q, whose ends lie ``a`` and ``b`` off triangle t's plane with unit normal n, passes through t
    from one side to the other (not merely touches it); ``x`` is where."""
    if not ((a > eps and b < -eps) or (a < -eps and b > eps)):
        return False
    f = a / (a - b)
    for d in range(3):
        x[d] = p[d] + (q[d] - p[d]) * f
    for k in range(3):
        c, e = t[k], t[(k + 1) % 3]
        d0, d1, d2 = e[0] - c[0], e[1] - c[1], e[2] - c[2]
        w0, w1, w2 = n[1] * d2 - n[2] * d1, n[2] * d0 - n[0] * d2, n[0] * d1 - n[1] * d0  # inward
        # The rim counts: two faces meeting there may share the hit, and neither must drop it.
        reach = w0 * (x[0] - c[0]) + w1 * (x[1] - c[1]) + w2 * (x[2] - c[2])
        if reach < -eps * np.sqrt(w0 * w0 + w1 * w1 + w2 * w2):
            return False
    return True


@numba.njit(cache=True, nogil=True)
def _passes(tri, normal, a, b, eps, off, x):  # type: ignore[no-untyped-def]
    """Whether an edge of triangle b passes through triangle a; ``x`` is where."""
    n, c = normal[a], tri[a, 0]
    above = below = False
    for k in range(3):
        off[k] = n[0] * (tri[b, k, 0] - c[0]) + n[1] * (tri[b, k, 1] - c[1]) + n[2] * (tri[b, k, 2] - c[2])
        above = above or off[k] > eps
        below = below or off[k] < -eps
    if not (above and below):
        return False
    for k in range(3):
        m = (k + 1) % 3
        if _edge_hit(tri[b, k], tri[b, m], off[k], off[m], tri[a], n, eps, x):
            return True
    return False


@numba.njit(cache=True, nogil=True)
def _neighbours(faces, a, b):  # type: ignore[no-untyped-def]
    for k in range(3):
        for m in range(3):
            if faces[a, k] == faces[b, m]:
                return True
    return False


@numba.njit(cache=True, nogil=True)
def _partners(i, end, of, members, hub):  # type: ignore[no-untyped-def]
    """Where the partners of member ``i`` begin in its cell: past its own fan, whose triangles are all neighbours.
    ``of`` is where they began for the member before."""
    h = hub[members[i]]
    if h < 0:
        return i + 1
    if of > i + 1 and hub[members[i - 1]] == h:
        return of
    j = i + 1
    while j < end and hub[members[j]] == h:
        j += 1
    return j


@numba.njit(cache=True, nogil=True)
def _crowd(start, members, hub):  # type: ignore[no-untyped-def]
    """How many pairs a scan has to look at."""
    pairs = 0
    for cell in range(len(start) - 1):
        of = 0
        for i in range(start[cell], start[cell + 1]):
            of = _partners(i, start[cell + 1], of, members, hub)
            pairs += start[cell + 1] - of
    return pairs


@numba.njit(cache=True, nogil=True)
def _scan(tri, normal, box, faces, hub, start, members, low, size, dims, eps, out):  # type: ignore[no-untyped-def]
    """Pairs of one cell after the other; a pair that meets counts in the cell where it meets."""
    found = 0
    off, x = np.empty(3), np.empty(3)
    for cell in range(len(start) - 1):
        of = 0
        for i in range(start[cell], start[cell + 1]):
            a = members[i]
            of = _partners(i, start[cell + 1], of, members, hub)
            for j in range(of, start[cell + 1]):
                b = members[j]
                apart = False
                for k in range(3):
                    apart = apart or box[a, 0, k] > box[b, 1, k] or box[b, 0, k] > box[a, 1, k]
                if apart or _neighbours(faces, a, b):
                    continue
                if not (_passes(tri, normal, a, b, eps, off, x) or _passes(tri, normal, b, a, eps, off, x)):
                    continue
                home, mult = 0, 1
                for k in range(3):
                    home += mult * min(max(int((x[k] - low[k]) / size), 0), dims[k] - 1)
                    mult *= dims[k]
                if home != cell:
                    continue
                out[found, 0], out[found, 1] = a, b
                found += 1
                if found == len(out):
                    return found
    return found


@numba.njit(cache=True, nogil=True)
def _sides(tri, normal, t, sides):  # type: ignore[no-untyped-def]
    """Four planes (4, 4) a cell must not lie beyond: the triangle's own, and one upright on each of its edges."""
    n = normal[t]
    for k in range(4):
        c = tri[t, k % 3]
        if k == 3:
            sides[k, :3] = n
        else:
            e = tri[t, (k + 1) % 3] - c
            sides[k, 0], sides[k, 1] = e[1] * n[2] - e[2] * n[1], e[2] * n[0] - e[0] * n[2]
            sides[k, 2] = e[0] * n[1] - e[1] * n[0]
            sides[k, :3] /= max(np.sqrt((sides[k, :3] ** 2).sum()), 1e-300)
        sides[k, 3] = (sides[k, :3] * c).sum()


@numba.njit(cache=True, nogil=True)
def _meets(sides, x, y, z, half):  # type: ignore[no-untyped-def]
    """Whether the cell around a place may hold something of the triangle; never wrongly no."""
    for k in range(4):
        u, v, w = sides[k, 0], sides[k, 1], sides[k, 2]
        off, room = u * x + v * y + w * z - sides[k, 3], half * (abs(u) + abs(v) + abs(w))
        if off > room or (k == 3 and off < -room):
            return False
    return True


@numba.njit(cache=True, nogil=True)
def _bins(lo, hi, tri, normal, low, size, dims, count_only, start, members):  # type: ignore[no-untyped-def]
    """Cells that each triangle reaches into; ``start`` counts them, or is where the next one goes."""
    sides = np.empty((4, 4))
    for t in range(len(lo)):
        _sides(tri, normal, t, sides)
        for z in range(lo[t, 2], hi[t, 2] + 1):
            for y in range(lo[t, 1], hi[t, 1] + 1):
                for x in range(lo[t, 0], hi[t, 0] + 1):
                    a, b, c = low[0] + (x + 0.5) * size, low[1] + (y + 0.5) * size, low[2] + (z + 0.5) * size
                    if not _meets(sides, a, b, c, 0.501 * size):
                        continue
                    at = x + dims[0] * (y + dims[1] * z)
                    if count_only:
                        start[at + 1] += 1
                    else:
                        members[start[at]] = t
                        start[at] += 1


def crossing_pairs(mesh: Mesh) -> Ints:
    """Pairs (k, 2) of triangles that pass through each other; neighbours sharing a corner are skipped."""
    hub = _hubs(mesh)
    order = np.argsort(hub, kind="stable")  # a fan's triangles stand together in every cell
    hub, faces = hub[order], np.ascontiguousarray(mesh.faces[order])
    tri = np.ascontiguousarray(mesh.triangles[order])
    box = np.ascontiguousarray(np.stack([tri.min(axis=1), tri.max(axis=1)], axis=1))
    normal = np.cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    cells = _cells(mesh, tri, normal, box, hub)
    out, eps = np.empty((_STOP_AFTER, 2), np.int64), float(mesh.size.max()) * 1e-7
    at = cells.low, cells.size, cells.dims
    found = _scan(tri, normal, box, faces, hub, cells.start, cells.members, *at, eps, out)
    return np.sort(order[out[:found]], axis=1)


def _hubs(mesh: Mesh) -> Ints:
    """The most shared corner (n,) of each triangle where it is the middle of a fan, else -1."""
    shared = np.bincount(mesh.faces.ravel(), minlength=len(mesh.vertices))[mesh.faces]
    most = shared.argmax(axis=1)
    rows = np.arange(len(most))
    return np.where(shared[rows, most] >= _HUB, mesh.faces[rows, most], -1)


@dataclass(frozen=True)
class _Cells:
    """Cells of one size: low corner, side, how many each way, and each one's triangles."""

    low: Array
    size: float
    dims: Ints
    start: Ints
    members: Ints


def _reach(box: Array, low: Array, size: float, dims: Ints) -> tuple[Ints, Ints]:
    """The cells (n, 3) that boxes reach from and to, with a hair of room for rounding."""
    hair = 1e-6 * size
    lo = np.clip(((box[:, 0] - hair - low) / size).astype(np.int64), 0, dims - 1)
    return lo, np.clip(((box[:, 1] + hair - low) / size).astype(np.int64), 0, dims - 1)


def _cells(mesh: Mesh, tri: Array, normal: Array, box: Array, hub: Ints) -> _Cells:
    """Long slivers crowd in cells as wide as they are long: then finer cells are tried, and the least crowded taken."""
    low, span = mesh.bounds[0], float(mesh.size.max())
    edge = float(np.median((box[:, 1] - box[:, 0]).max(axis=1)))
    size, best, fewest = max(edge * 1.5, span / 160, 1e-9), None, 0
    while True:
        dims = np.maximum(np.ceil(mesh.size / size).astype(np.int64), 1)
        lo, hi = _reach(box, low, size, dims)
        looked_at = float((hi - lo + 1).prod(axis=1).sum())
        if best is not None and (int(dims.prod()) > _MOST_CELLS or looked_at > _MOST_LOOKS):
            return best
        start = np.zeros(int(dims.prod()) + 1, np.int64)
        _bins(lo, hi, tri, normal, low, size, dims, True, start, np.empty(0, np.int64))
        start = np.cumsum(start)
        members = np.empty(int(start[-1]), np.int64)
        _bins(lo, hi, tri, normal, low, size, dims, False, start.copy(), members)
        pairs = _crowd(start, members, hub)
        if best is None or pairs < fewest:
            best, fewest = _Cells(low, size, dims, start, members), pairs
        if pairs < _FEW_PAIRS * len(tri):
            return best
        size /= 2


def crosses_in(mesh: Mesh, boxes: list[Array]) -> bool:
    """Whether triangles that reach into any of some boxes, each (2, 3), pass through each other."""
    tri = mesh.triangles
    low, high = tri.min(axis=1), tri.max(axis=1)
    near = np.zeros(len(tri), bool)
    for a, b in boxes:
        near |= ((low <= b + 1e-6) & (high >= a - 1e-6)).all(axis=1)
    return bool(near.any()) and len(crossing_pairs(Mesh(mesh.vertices, mesh.faces[near]))) > 0
