"""What lies straight above what: heights at which two meshes are entered and left along a raster of upright lines."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from knollside.core.model import Array, Mesh

_MOST = 1_000_000  # lines
# Lines stand off round numbers, where the edges of drawn parts are.
_OFF = (0.31830988618, 0.27182818285)


@dataclass(frozen=True)
class Facing:
    """Where nothing lies between the two: ``x`` and ``y`` of each line, the height ``low`` at which the lower one ends
    and ``high`` at which the upper one begins (n,) mm; ``cell`` the area a line stands for, mm2."""

    x: Array
    y: Array
    low: Array
    high: Array
    cell: float


@numba.njit(cache=True, nogil=True)
def _crossings(
    p: np.ndarray,
    whose: int,
    x0: float,
    y0: float,
    pitch: float,
    nx: int,
    ny: int,
    at: np.ndarray,
    z: np.ndarray,
    up: np.ndarray,
    of: np.ndarray,
) -> None:
    """Count (``z`` empty) or write the heights at which each line meets a triangle, whether it leaves there, and
    ``whose`` triangle it is."""
    counting = z.shape[0] == 0
    for t in range(p.shape[0]):
        ax, ay, bx, by, cx, cy = p[t, 0, 0], p[t, 0, 1], p[t, 1, 0], p[t, 1, 1], p[t, 2, 0], p[t, 2, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        i0 = max(0, int(np.ceil((min(ax, bx, cx) - x0) / pitch)))
        i1 = min(nx - 1, int(np.floor((max(ax, bx, cx) - x0) / pitch)))
        j0 = max(0, int(np.ceil((min(ay, by, cy) - y0) / pitch)))
        j1 = min(ny - 1, int(np.floor((max(ay, by, cy) - y0) / pitch)))
        for i in range(i0, i1 + 1):
            x = x0 + i * pitch
            for j in range(j0, j1 + 1):
                y = y0 + j * pitch
                u = ((bx - x) * (cy - y) - (by - y) * (cx - x)) / area
                v = ((cx - x) * (ay - y) - (cy - y) * (ax - x)) / area
                w = 1.0 - u - v
                if u < 0.0 or v < 0.0 or w < 0.0:
                    continue
                line = i * ny + j
                if not counting:
                    z[at[line]] = u * p[t, 0, 2] + v * p[t, 1, 2] + w * p[t, 2, 2]
                    up[at[line]] = area > 0.0
                    of[at[line]] = whose
                at[line] += 1


@numba.njit(cache=True, nogil=True)
def _facing(start: np.ndarray, z: np.ndarray, up: np.ndarray, of: np.ndarray, out: np.ndarray, line: np.ndarray) -> int:
    found = 0
    for c in range(start.shape[0] - 1):
        a, b = start[c], start[c + 1]
        order = np.argsort(z[a:b])
        for k in range(b - a - 1):
            one, two = a + order[k], a + order[k + 1]
            if up[one] and not up[two] and of[one] != of[two]:
                out[found, 0], out[found, 1] = z[one], z[two]
                line[found] = c
                found += 1
    return found


def facing_up(a: Mesh, b: Mesh, pitch: float) -> Facing:
    """Where one of two closed meshes lies straight over the other with nothing between, on lines ``pitch`` mm apart
    (farther where that were over a million)."""
    low = np.maximum(a.bounds[0], b.bounds[0])[:2]
    size = np.minimum(a.bounds[1], b.bounds[1])[:2] - low
    nothing = np.zeros(0)
    if (size <= 0).any():
        return Facing(nothing, nothing, nothing, nothing, pitch**2)
    pitch = max(pitch, float(np.sqrt(size.prod() / _MOST)))
    nx, ny = (int(n) + 1 for n in size / pitch)
    x0, y0 = (float(v) for v in low + np.array(_OFF) * pitch)
    both = [np.ascontiguousarray(m.triangles) for m in (a, b)]
    raster = x0, y0, pitch, nx, ny

    def meet(at: Array, z: Array, up: Array, of: Array) -> None:
        for whose, triangles in enumerate(both):
            _crossings(triangles, whose, *raster, at, z, up, of)

    count = np.zeros(nx * ny, np.int64)
    meet(count, nothing, np.zeros(0, np.bool_), np.zeros(0, np.int8))
    start = np.r_[0, np.cumsum(count)]
    z, up, mesh = np.zeros(start[-1]), np.zeros(start[-1], np.bool_), np.zeros(start[-1], np.int8)
    meet(start[:-1].copy(), z, up, mesh)
    out, line = np.zeros((len(z), 2)), np.zeros(len(z), np.int64)
    n = _facing(start, z, up, mesh, out, line)
    i, j = np.divmod(line[:n], ny)
    return Facing(x0 + i * pitch, y0 + j * pitch, out[:n, 0], out[:n, 1], pitch**2)
