"""Round surfaces through points: cylinders, cones and balls fitted by least squares.

Cylinders and cones by Gauss-Newton on the points' distances (Shakarji 1998, *Least-squares fitting algorithms of the
NIST algorithm testing system*), balls linearly (Coope 1993).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

import numba
import numpy as np

from knollside.core.model import Array, square_to


class Form(IntEnum):
    """What kind of surface; the numbers are those that the growing kernel knows."""

    CYLINDER = 0
    CONE = 1
    BALL = 2


@dataclass(frozen=True)
class Surface:
    """A round surface: ``point`` on the axis (a cone's apex, a ball's centre), unit ``axis`` (from a cone's apex into
    it), ``radius`` mm (0 for a cone) and ``angle`` (a cone's half angle, rad)."""

    form: Form
    point: Array
    axis: Array
    radius: float
    angle: float = 0.0

    def numbers(self) -> Array:
        """In one row, as the growing kernel takes them (8,)."""
        return np.array([*self.point, *self.axis, self.radius, self.angle], float)

    def off(self, points: Array) -> Array:
        """How far points (n, 3) stand outside it, mm; negative within."""
        q = points - self.point
        if self.form is Form.BALL:
            return np.asarray(np.linalg.norm(q, axis=1) - self.radius)
        z = q @ self.axis
        r = np.linalg.norm(q - z[:, None] * self.axis, axis=1)
        if self.form is Form.CYLINDER:
            return np.asarray(r - self.radius)
        return np.asarray(r * np.cos(self.angle) - z * np.sin(self.angle))


@numba.njit(cache=True, nogil=True)
def least_axis(normals, weight, about_mean=False):  # type: ignore[no-untyped-def]
    """The direction that unit ``normals`` (n, 3) turn about: of a cylinder least present in them, of a cone
    (``about_mean``) least present in how they differ."""
    total = weight.sum()
    mean = np.zeros(3)
    if about_mean:
        for i in range(len(normals)):
            mean += weight[i] * normals[i] / total
    square = np.zeros((3, 3))
    for i in range(len(normals)):
        n = normals[i] - mean
        for j in range(3):
            for k in range(3):
                square[j, k] += weight[i] * n[j] * n[k]
    axis = np.linalg.eigh(square)[1][:, 0].copy()
    return axis if axis[np.argmax(np.abs(axis))] > 0 else -axis


@numba.njit(cache=True, nogil=True)
def centred(p):  # type: ignore[no-untyped-def]
    """Centre and radius of the circle or ball nearest to points (n, m), linearly (Coope 1993)."""
    n, m = p.shape
    middle = np.zeros(m)
    for i in range(n):
        middle += p[i] / n
    scale = np.abs(p - middle).max()
    if scale == 0.0:
        return middle, 0.0
    a, b = np.ones((n, m + 1)), np.zeros(n)
    for i in range(n):
        for k in range(m):
            q = (p[i, k] - middle[k]) / scale
            a[i, k] = 2 * q
            b[i] += q * q
    x = np.linalg.lstsq(a, b)[0]
    square = x[m]
    for k in range(m):
        square += x[k] * x[k]
    return x[:m] * scale + middle, np.sqrt(max(square, 0.0)) * scale


def circle(points: Array) -> tuple[Array, float]:
    """Least-squares circle through (n, 2) points: centre and radius."""
    centre, radius = centred(np.ascontiguousarray(points))
    return np.asarray(centre), float(radius)


def cylinder_along(axis: Array, points: Array) -> Surface:
    """The cylinder of a known ``axis`` through points (n, 3)."""
    u, v = square_to(axis)
    centre, radius = circle(points @ np.c_[u, v])
    return Surface(Form.CYLINDER, u * centre[0] + v * centre[1], axis, radius)


def cylinder(points: Array, start: Surface) -> Surface:
    """The cylinder nearest to points (n, 3), from a near one."""
    at, axis, size = nearest_round(0, np.ascontiguousarray(points), start.point, start.axis, start.radius)
    return Surface(Form.CYLINDER, at, axis, float(size))


def cone(points: Array, start: Surface) -> Surface:
    """The cone nearest to points (n, 3), from a near one."""
    points = np.ascontiguousarray(points)
    at, axis, size = nearest_round(1, points, tip(start.point, points), start.axis, start.angle)
    return Surface(Form.CONE, at, axis, 0.0, float(np.clip(size, 1e-5, np.pi / 2 - 1e-5)))


@numba.njit(cache=True, nogil=True)
def tip(apex, points):  # type: ignore[no-untyped-def]
    """The apex, or the one corner that stands there by itself."""
    n = len(points)
    middle = np.zeros(3)
    for i in range(n):
        middle += points[i] / n
    square, near, next_near, which = 0.0, 1e300, 1e300, 0
    for i in range(n):
        d = points[i] - middle
        square += (d * d).sum() / n
        q = points[i] - apex
        far = np.sqrt((q * q).sum())
        if far < near:
            near, next_near, which = far, near, i
        elif far < next_near:
            next_near = far
    reach = np.sqrt(square)
    return points[which].copy() if near < 0.2 * reach and next_near > 5 * near + 0.05 * reach else apex


@numba.njit(cache=True, nogil=True)
def nearest_round(form, points, at, axis, size):  # type: ignore[no-untyped-def]
    """Gauss-Newton on the distances to a cylinder (``size`` its radius) or a cone (its half angle): point, axis, size.
    Unknown are the point's shift across (and a cone's along), the axis's lean, and the size."""
    n = len(points)
    m = 5 + form
    middle = np.zeros(3)
    for i in range(n):
        middle += points[i] / n
    at, axis = at.copy(), axis.copy()
    if form == 0:
        at = at + axis * ((middle - at) @ axis)
    jac, off = np.zeros((3 * n, m)), np.zeros(3 * n)
    reach = np.sqrt(((points - middle) ** 2).sum() / n)
    last, stuck = 1e300, 0
    for _ in range(40):
        jac[:], off[:] = 0.0, 0.0
        k = 0 if abs(axis[0]) < 0.9 else 1
        e = np.zeros(3)
        e[k] = 1.0
        u = np.cross(axis, e)
        u /= np.sqrt((u * u).sum())
        v = np.cross(axis, u)
        c, t = (1.0, 0.0) if form == 0 else (np.cos(size), np.sin(size))
        for i in range(n):
            q = points[i] - at
            x, y, z = q @ u, q @ v, q @ axis
            r = max(np.sqrt(x * x + y * y), 1e-12)
            if form == 1 and r + abs(z) < 1e-4 * reach:
                # A corner at the apex: there the distance has no slope, so it is held by its place.
                off[i], off[n + i], off[2 * n + i] = x, y, z
                jac[i, 0], jac[n + i, 1], jac[2 * n + i, 4] = -1.0, -1.0, -1.0
                continue
            off[i] = r * c - z * t - (size if form == 0 else 0.0)
            lean = (-z * c - r * t) / r
            jac[i, 0], jac[i, 1] = -x / r * c, -y / r * c
            jac[i, 2], jac[i, 3] = lean * x / reach, lean * y / reach
            if form == 0:
                jac[i, 4] = -1.0
            else:
                jac[i, 4], jac[i, 5] = t, (-r * t - z * c) / reach
        # What no longer comes nearer is no round; the fit is not worth the rest of its steps.
        now = (off * off).sum()
        stuck = stuck + 1 if now > 0.98 * last and now > 1e-12 * reach * reach * n else 0
        last = min(last, now)
        if stuck >= 4:
            break
        square = jac.T @ jac
        most = 0.0
        for i in range(m):
            most = max(most, square[i, i])
        for i in range(m):
            square[i, i] += 1e-13 * most + 1e-300
        step = np.linalg.solve(square, -(jac.T @ off))
        small = np.abs(step).max()
        if not small < 1e6:
            break
        at = at + step[0] * u + step[1] * v
        axis = axis + (step[2] * u + step[3] * v) / reach
        axis /= np.sqrt((axis * axis).sum())
        if form == 0:
            size += step[4]
            at = at + axis * ((middle - at) @ axis)
        else:
            at = at + step[4] * axis
            size += step[5] / reach
        if small < 1e-12 * max(1.0, reach):
            break
    return at, axis, size


def plane(points: Array) -> tuple[Array, Array, float]:
    """The plane nearest to points (n, 3): their middle, its normal either way, and how far they stand off it, in the
    mean of squares, mm."""
    middle = points.mean(axis=0)
    value, axes = np.linalg.eigh((points - middle).T @ (points - middle))
    return middle, axes[:, 0], float(np.sqrt(max(value[0], 0.0) / len(points)))


def ball(points: Array) -> Surface:
    """The ball nearest to points (n, 3)."""
    centre, radius = centred(np.ascontiguousarray(points))
    return Surface(Form.BALL, np.asarray(centre), np.array([0.0, 0.0, 1.0]), float(radius))
