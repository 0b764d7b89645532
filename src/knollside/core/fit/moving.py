"""How far a joint moves before its bodies meet, as drawn: along its axis, round it, or leaning out of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import manifold3d as m3
import numpy as np

from knollside.core.fit.joints import Joint
from knollside.core.mesh.solid import solid_of
from knollside.core.mesh.topology import bodies_of
from knollside.core.model import Array, Mesh, square_to

_TOUCH = 0.01  # mm3 that two bodies may share and count as free: facets graze
_STEP = 5.0  # degrees
_FINE = 0.25  # degrees
_ALL = 180.0
_FAR = 100.0  # mm: what slides so far comes out
_WAYS = 8  # ways a ball leans

Tick = Callable[[float], None]


@dataclass(frozen=True)
class Travel:
    """``turns`` degrees the one way and the other until the bodies meet (180: they never do), ``slides`` mm along the
    axis the one way and the other (100: it comes out), ``leans`` degrees of a ball, the least and the most of eight
    ways round; None where it is not asked of this joint."""

    turns: tuple[float, float] | None = None
    slides: tuple[float, float] | None = None
    leans: tuple[float, float] | None = None

    @property
    def captive(self) -> bool | None:
        """Whether it cannot come out along its axis."""
        return None if self.slides is None else max(self.slides) < _FAR

    @property
    def words(self) -> str:
        """In a sentence or two."""
        said = []
        if self.turns is not None:
            said.append(f"Turns {_either(self.turns, _turn)}.")
        if self.slides is not None:
            said.append(f"Slides {_either(self.slides, _way)} along its axis.")
        if self.leans is not None:
            low, high = self.leans
            lean = f"{low:.0f}°" if high - low < 1.0 else f"{low:.0f}° to {high:.0f}°, by the way it leans,"
            said.append("Leans right over." if low >= _ALL else f"Leans {lean} until it meets its socket.")
        return f"{' '.join(said)} As drawn."


def travel(mesh: Mesh, joint: Joint, bodies: tuple[int, int], tick: Tick | None = None) -> Travel:
    """Move the second body about the first by exact solids: steps of 5 degrees, then halves; the drawn shapes.

    A place thinner than a step of 5 degrees covers may be passed over.
    """
    label = bodies_of(mesh)[1]
    centre = np.asarray(joint.centre)
    still, moved = (solid_of(Mesh(mesh.vertices - centre, mesh.faces[label == k])) for k in (bodies[0], bodies[1]))
    tick = tick or (lambda share: None)
    if joint.kind == "ball":
        leans = []
        neck = _neck(moved, still)
        u, v = square_to(neck)
        for k in range(_WAYS):
            tick(k / _WAYS)
            t = 2 * np.pi * k / _WAYS
            leans.append(_until(still, moved, np.cos(t) * u + np.sin(t) * v))
        return Travel(leans=(min(leans), max(leans)))
    axis = np.asarray(joint.axis)
    turns = []
    for k, sign in enumerate((1.0, -1.0)):
        tick(0.4 * k)
        turns.append(_until(still, moved, sign * axis))
    tick(0.8)
    slides = [_slide(still, moved, sign * axis) for sign in (1.0, -1.0)]
    return Travel((turns[0], turns[1]), (slides[0], slides[1]))


def _turn(degrees: float) -> str:
    return "right round" if degrees >= _ALL else f"{degrees:.0f}°"


def _way(by: float) -> str:
    return "out of it" if by >= _FAR else f"{by:.2f} mm"


def _either(both: tuple[float, float], said: Callable[[float], str]) -> str:
    """Two ways in words, once where they are alike."""
    one, other = (said(v) for v in both)
    return f"{one} either way" if one == other else f"{one} one way and {other} the other"


def _about(axis: Array, degrees: float) -> Array:
    a = np.radians(degrees)
    k = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    return np.asarray(np.eye(3) + np.sin(a) * k + (1 - np.cos(a)) * k @ k)


def _meets(still: m3.Manifold, moved: m3.Manifold) -> bool:
    return bool((still ^ moved).volume() > _TOUCH)


def _until(still: m3.Manifold, moved: m3.Manifold, axis: Array) -> float:
    """Degrees about an axis through the origin until they meet."""

    def meets(angle: float) -> bool:
        return _meets(still, moved.transform(np.column_stack([_about(axis, angle), np.zeros(3)])))

    free = 0.0
    while free < _ALL:
        if meets(free + _STEP):
            low, high = free, free + _STEP
            while high - low > _FINE:
                middle = (low + high) / 2
                low, high = (low, middle) if meets(middle) else (middle, high)
            return low
        free += _STEP
    return _ALL


def _slide(still: m3.Manifold, moved: m3.Manifold, way: Array) -> float:
    """mm along a way until they meet, to a hundredth; 100 where they do not."""

    def meets(by: float) -> bool:
        return _meets(still, moved.translate(tuple(float(c) for c in way * by)))

    free, step = 0.0, 0.1
    while free < _FAR:
        if meets(free + step):
            low, high = free, free + step
            while high - low > 0.01:
                middle = (low + high) / 2
                low, high = (low, middle) if meets(middle) else (middle, high)
            return low
        free += step
        step = min(1.3 * step, 2.0)
    return _FAR


def _neck(moved: m3.Manifold, still: m3.Manifold) -> Array:
    """The way from a ball's middle, the origin, to what it carries: from the lighter of the two by their boxes."""

    def off(s: m3.Manifold) -> Array:
        low, high = np.asarray(s.bounding_box()).reshape(2, 3)
        return np.asarray((low + high) / 2)

    out = off(moved) - off(still)
    size = float(np.linalg.norm(out))
    return np.array([0.0, 0.0, 1.0]) if size < 1e-6 else np.asarray(out / size)
