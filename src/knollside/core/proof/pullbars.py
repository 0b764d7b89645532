"""Bars to be pulled until they break: standing, with fillers that keep every layer's area and time alike, or lying."""

from __future__ import annotations

import numpy as np
from manifold3d import CrossSection
from manifold3d import Manifold as Solid

from knollside.core.model import Refused
from knollside.core.proof.piece import TestPiece, notches, placed
from knollside.core.proof.pullplan import MOST_BARS, places

HEAD, GAUGE, THICK = 12.0, 4.0, 6.0  # mm: widths of head and neck, and how thick a bar is
LONG = 56.0
_HEAD_LONG, _TAPER = 13.0, 9.0
_LEAST = 3.0  # mm, the narrowest a filler gets
_PITCH = 18.0
AREA = GAUGE * THICK  # mm2 where it breaks


def _widths() -> list[tuple[float, float]]:
    """Half widths of a bar over its length from one end: (place, half width), mm."""
    neck = _HEAD_LONG + _TAPER
    half = [(0.0, HEAD / 2), (_HEAD_LONG, HEAD / 2), (neck, GAUGE / 2)]
    return [*half, *((LONG - at, w) for at, w in reversed(half))]


def _extruded(profile: list[tuple[float, float]]) -> Solid:
    """A shape of these half widths, standing along Z, ``THICK`` deep, its middle on the Z axis."""
    outline = [(w, at) for at, w in profile] + [(-w, at) for at, w in reversed(profile)]
    flat = CrossSection([np.array(outline)])
    # Drawn in X and Z: turned up so that its length stands.
    return Solid.extrude(flat, THICK).rotate((90, 0, 0)).translate((0, THICK / 2, 0))


def bar() -> Solid:
    """One bar, standing on a head."""
    return _extruded(_widths())


def filler() -> Solid:
    """What a bar lacks of its head's width at every height, so that both together are as large at all heights."""
    return _extruded([(at, _LEAST / 2 + HEAD / 2 - w) for at, w in _widths()])


def pull_bars(count: int, standing: bool = True, lot: int = 0) -> TestPiece:
    """``count`` bars, each with its number in notches on the head that is up (or at one end, lying), in places drawn by
    ``lot`` (0: in order). Standing ones have a filler each behind them. Raises :class:`Refused` for none or many."""
    if not 1 <= count <= MOST_BARS:
        raise Refused("One to eight bars go side by side.")
    bodies = []
    order = places(count, lot)
    for place, number in enumerate(order):
        x, k = place * _PITCH, number - 1
        made = bar().translate((x, 0, 0))
        for cut in notches(number, x - 0.8 * k, THICK / 2, LONG - 5, LONG - 1):
            made = made - cut
        if standing:
            bodies += [made, filler().translate((x, THICK + 8, 0))]
        else:
            bodies.append(made.rotate((90, 0, 0)))
    how = "standing" if standing else "lying"
    drawn = f" From the left: {' '.join(map(str, order))}, drawn by lot." if lot else ""
    return TestPiece(
        "pull" if standing else "pull lying",
        f"Pull bars, {how}",
        placed(*bodies),
        (),
        (),
        f"{count} bars, {AREA:.0f} mm² where they break.{drawn} Pull each by its heads until it breaks. "
        + ("The fillers behind keep layer times alike; throw them away." if standing else "Pulled along the layers."),
        "It cannot tell: how a notch or a sharp corner holds.",
    )
