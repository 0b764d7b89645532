"""Putting it together: in which order what goes with a part is tried dry, and what each moving mate should do.

Slides by itself: on a slope of angle a, weight x sin a against friction x weight x cos a and a sticking force that does
not depend on weight (docs/methods.md 8.9); so from atan(mu) on, later where it is light. A guided part jams when its
guided length is under 2 mu times its breadth (the drawer rule). Friction of printed pairs is typical.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

from knollside.core.fit.hardware import item
from knollside.core.model import Mate, Range, Refused

FRICTION = Range(0.30, 0.20, 0.40, "typical")
STICKS = Range(0.06, 0.02, 0.15, "typical")  # N that burrs, strings and static hold by, whatever it weighs
GRAVITY = 9.81e-3  # N per gram

# First what must come free of itself, then what goes in easily, what is pressed last: it does not come out again.
_ORDER = {
    "print in place": 0,
    "free": 1,
    "slide": 2,
    "snug": 3,
    "close": 4,
    "medium": 4,
    "coarse": 4,
    "as drawn": 4,
    "thread": 5,
    "melt in": 6,
    "press": 7,
}
Moves = Literal["by itself", "with a push", "not at all"]


@dataclass(frozen=True)
class Between:
    """Two bodies printed in place: their numbers; the drawn gap a side in the layer, mm (None: they share none), and
    whether it is ``alone``, with nothing across the layers that could hold them as well; grams of the lighter one,
    whether they ``slide`` or turn, and the chances that they weld and rattle."""

    bodies: tuple[int, int]
    gap: float | None
    alone: bool
    grams: float
    slides: bool
    welds: float
    rattles: float

    @property
    def key(self) -> str:
        return f"bodies {self.bodies[0] + 1} and {self.bodies[1] + 1}"


@dataclass(frozen=True)
class Try:
    """Mates that are tried dry in the same way: what to do, what each should do, and what to do where it does not."""

    mates: tuple[Mate, ...]
    do: str
    should: str
    otherwise: str
    moving: bool
    between: Between | None = None

    @property
    def key(self) -> str:
        """What a check of it is kept under."""
        return self.mates[0].feature if self.between is None else self.between.key


@dataclass(frozen=True)
class Slides:
    """``angle`` in degrees from which a part slides by itself (middle, nine in ten; 90 and more: it does not), and
    whether it may ``jam``."""

    angle: Range
    jams: bool

    @property
    def drops(self) -> bool | None:
        """Held upright it drops: surely, surely not, or None where that is open."""
        if self.jams or self.angle.low >= 90:
            return False
        return True if self.angle.high < 90 else None


def slides(grams: float, guided: float | None = None, breadth: float | None = None) -> Slides:
    """When a part of so many grams slides by itself in a guide of ``guided`` length and ``breadth``, mm."""
    if not grams > 0:
        raise Refused("A part without weight does not drop.")
    weight = grams * GRAVITY

    def angle(mu: float, sticks: float) -> float:
        # weight sin a = mu weight cos a + sticks, so sin(a - atan mu) = sticks cos(atan mu) / weight
        lean = math.atan(mu)
        share = sticks * math.cos(lean) / weight
        return math.degrees(lean + math.asin(share)) if share < 1 else 180.0

    f, s = FRICTION, STICKS
    told = Range(angle(f.value, s.value), angle(f.low, s.low), angle(f.high, s.high), "typical")
    short = bool(guided and breadth) and guided / breadth < 2 * f.high  # type: ignore[operator]
    return Slides(told, short)


def tries(
    mates: Sequence[Mate],
    grams: float,
    chances: dict[str, tuple[float, float, float]],
    between: Sequence[Between] = (),
    torques: dict[str, Range] | None = None,
) -> tuple[Try, ...]:
    """Every pair of bodies, then every mate, in the order of a dry fit. ``grams`` of what moves in a mate; ``chances``
    (binds, fits, rattles) and ``torques`` that printed threads stand, N mm, by feature."""
    ordered = sorted(mates, key=lambda m: (_ORDER.get(m.fit, 4), m.feature))
    out = [_freed(b) for b in between]
    for t in (_try(m, grams, chances.get(m.feature), (torques or {}).get(m.feature)) for m in ordered):
        last = out[-1] if out else None
        if last is not None and last.mates and not t.moving and replace(t, mates=last.mates) == last:
            out[-1] = replace(last, mates=(*last.mates, *t.mates))
        else:
            out.append(t)
    return tuple(out)


def _freed(b: Between) -> Try:
    """A pair printed in place: worked free first, then it moves by its own weight, or does not."""
    odds = f"Foretold: {100 * b.welds:.0f} of 100 weld, {100 * b.rattles:.0f} rattle."
    told = slides(max(b.grams, 0.1))
    how = _sliding(told) if b.slides else _turning(b.grams)
    do = "Work it free: a firm push to and fro, a thin blade where a strand holds; then hold it upright."
    return Try((), do, f"{how} {odds}", "A wider gap at Fits; what was tried here is counted there.", True, b)


def _try(m: Mate, grams: float, chance: tuple[float, float, float] | None, torque: Range | None) -> Try:
    odds = "" if chance is None else f" Foretold: {100 * chance[0]:.0f} of 100 bind, {100 * chance[2]:.0f} rattle."
    what = m.hardware if m.partner is None else m.partner.replace("-", " ")
    if m.fit == "print in place":
        do = "Work it free: a firm turn to and fro, then with a blade where a strand holds."
        return Try((m,), do, f"{_turning(grams)}{odds}", "Wider gap at Fits, or warmer to work it free.", True)
    if m.fit in ("free", "slide") or m.partner is not None:
        told = slides(max(grams, 0.1))
        do = f"Put {what} in dry and hold it upright."
        return Try((m,), do, f"{_sliding(told)}{odds}", "Look for burrs, then Fits.", True)
    if m.fit == "thread":
        do = f"Turn {what} in by hand, half a turn back for each turn."
        most = ""
        if torque is not None:
            most = (
                f" No tighter than {torque.low / 1000:.2g} N m: its thread strips at {torque.value / 1000:.2g} "
                f"({torque.low / 1000:.2g} to {torque.high / 1000:.2g}, typical)."
            )
        return Try((m,), do, f"It should go by two fingers.{most}", "Chase it with a screw of metal.", False)
    if m.fit in ("press", "melt in"):
        do = f"Last: {what}. It does not come out again." + (" Hot iron: mind your hands." * (m.fit == "melt in"))
        return Try((m,), do, f"It should stay when pulled by hand.{odds}", "Glue, or a smaller hole at Fits.", False)
    if _screw(m.hardware):
        do = f"Put {what} through; tighten what moves only until it just still moves."
        return Try((m,), do, f"It should go in by hand.{odds}", "Drill it, see Clean up.", False)
    return Try((m,), f"Put {what} in.", f"It should go in by hand.{odds}", "Look for burrs, then Fits.", False)


def _sliding(s: Slides) -> str:
    if s.jams:
        return "It may jam askew: its guide is short for its breadth."
    if s.drops is None:
        return f"It may need a push: light as it is, {s.angle.low:.0f}° of slope might do, or none."
    if not s.drops:
        return "It is too light to drop by itself: a push must do."
    return f"It should slide by itself from {s.angle.low:.0f} to {s.angle.high:.0f}° of slope, typical."


def _turning(grams: float) -> str:
    return "It should swing by its own weight." if slides(max(grams, 0.1)).drops else "It should turn with one finger."


def _screw(name: str) -> bool:
    try:
        return item(name).group == "bolt"
    except Refused:
        return False


def highest_torque(bore: float, engaged: float, head: float | None, pull: Range, bond: Range) -> Range:
    """N mm that a screw in a printed hole stands before its thread strips or its head sinks in, whichever comes first.

    ``bore`` and ``engaged`` length of the thread, mm; ``head`` across, mm (None: a headless one). Thread: shear of half
    the cylinder round the bore, at 0.577 of the strength between layers (von Mises); head: that strength in bearing on
    its ring. Torque is K d F, K 0.2 to 0.35 typical of steel on plastic. The low end takes the low of each.
    """
    if not (bore > 0 and engaged > 0):
        raise Refused("A thread needs a bore and a length.")
    area = 0.5 * math.pi * bore * engaged
    ring = math.pi / 4 * (head**2 - bore**2) if head is not None and head > bore else math.inf

    def torque(k: float, strength: float) -> float:
        return k * bore * min(0.577 * strength * area, strength * ring)

    return Range(
        torque(0.27, pull.value * bond.value),
        torque(0.20, pull.low * bond.low),
        torque(0.35, pull.high * bond.high),
        "typical",
    )
