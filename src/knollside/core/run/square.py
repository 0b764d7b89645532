"""A frame's scale along X and Y and how far its axes are from square, from one printed square; and a mesh that prints
true on it.

Of a square drawn a by b, the sides of the print and both its diagonals: c2 - d2 = 4 a b sin(skew), exactly, whatever
the scales (the diagonals of a parallelogram).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from knollside.core.model import Array, Mesh, Range, Refused

SIGMA = 0.02  # mm of one reading of a usual calliper
OUTSIDE = Range(0.04, -0.09, 0.17)  # mm an outside comes out wider than drawn, whatever its size: typical
_MOST_SKEW, _MOST_SCALE = 5.0, 0.05
SEEN = 1.645  # so many sigma off nought before anything is said to be off


@dataclass(frozen=True)
class Square:
    """Readings of one piece, mm: drawn and printed sides along X and Y, and the diagonals from front left to back right
    (``rising``) and from front right to back left (``falling``)."""

    drawn_x: float
    drawn_y: float
    x: float
    y: float
    rising: float
    falling: float


@dataclass(frozen=True)
class Frame:
    """``scale_x``, ``scale_y``: printed over drawn; ``skew``: degrees by which Y leans towards X; each with nine in
    ten."""

    scale_x: Range
    scale_y: Range
    skew: Range

    @property
    def matrix(self) -> Array:
        """What becomes of a drawn place in the bed's plane (2, 2)."""
        lean = math.radians(self.skew.value)
        return np.array(
            [
                [self.scale_x.value, self.scale_y.value * math.sin(lean)],
                [0.0, self.scale_y.value * math.cos(lean)],
            ]
        )

    @property
    def skew_alone(self) -> Frame:
        """The same frame with true scales."""
        true = Range(1.0, 1.0, 1.0, "as read")
        return Frame(true, true, self.skew)

    @property
    def off(self) -> tuple[str, ...]:
        """In words, what is off by more than its doubt."""
        out = []
        for name, r in (("X", self.scale_x), ("Y", self.scale_y)):
            if not r.low <= 1 <= r.high:
                out.append(f"{name} prints {100 * (r.value - 1):+.2f} %")
        if not self.skew.low <= 0 <= self.skew.high:
            out.append(f"Y leans {abs(self.skew.value):.2f}° to the {'right' if self.skew.value > 0 else 'left'}")
        return tuple(out)


def frame_of(q: Square, sigma: float = SIGMA, outside: Range = OUTSIDE) -> Frame:
    """Scales and skew with their doubt: the calliper's ``sigma`` mm of each reading, and what outsides come out wider
    (``outside``, mm), which is no scale. Raises :class:`Refused` for readings that are no square's."""
    drawn = np.array([q.drawn_x, q.drawn_y])
    if (drawn < 20).any() or (drawn > 1000).any():
        raise Refused("The piece is 20 to 1000 mm along each side.")
    sides = np.array([q.x, q.y]) - outside.value
    far = math.hypot(*sides)
    for name, got, want in (("X", q.x, q.drawn_x), ("Y", q.y, q.drawn_y)):
        if abs(got / want - 1) > _MOST_SCALE:
            raise Refused(f"{name} reads {got:g} mm where {want:g} was drawn: not this piece, or not in mm.")
    # Corners are as far out as the sides are: a diagonal is longer by as much along either side.
    more = outside.value * float(sides.sum()) / far
    c, d = q.rising - more, q.falling - more
    sine = (c**2 - d**2) / (4 * float(sides.prod()))
    if abs(sine) > math.sin(math.radians(_MOST_SKEW)):
        raise Refused(
            "The diagonals differ by more than a frame leans; one of them was read wrong. Measure both again."
        )
    # Both diagonals together are told by the sides: what is left over is a slip of the hand.
    slack = (c**2 + d**2) / 2 - float((sides**2).sum())
    doubt = math.sqrt(2 * (far * sigma) ** 2 + 4 * float((sides**2).sum()) * sigma**2)
    if abs(slack) > 5 * doubt:
        raise Refused(
            f"These sides and diagonals do not belong together ({slack / 2 / far:+.2f} mm): measure them again, over "
            "the same corners."
        )
    wide = (outside.high - outside.low) / 2 / 1.6449
    scale = sides / drawn
    spread = 1.6449 * math.hypot(sigma, wide) / drawn
    lean = math.degrees(math.asin(sine))
    lean_spread = 1.6449 * math.degrees(2 * far * math.sqrt(2) * sigma / (4 * float(sides.prod())))
    return Frame(
        _about(float(scale[0]), float(spread[0])),
        _about(float(scale[1]), float(spread[1])),
        _about(lean, lean_spread),
    )


def _about(value: float, half: float) -> Range:
    return Range(value, value - half, value + half, "yours")


def printed_true(lying: Mesh, frame: Frame) -> tuple[Mesh, float]:
    """The mesh, as it lies on the bed, changed so that this frame prints it as it was drawn; and how far its farthest
    corner moved, mm. Scale and skew are those of the frame alone: a plastic's shrink that was learned apart from it
    stays."""
    back = np.linalg.inv(frame.matrix)
    middle = lying.bounds.mean(axis=0)[:2]
    vertices = lying.vertices.copy()
    vertices[:, :2] = (vertices[:, :2] - middle) @ back.T + middle
    return Mesh(vertices, lying.faces), float(np.linalg.norm(vertices - lying.vertices, axis=1).max())
