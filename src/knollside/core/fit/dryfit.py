"""Putting it together: in which order what goes with a part is tried dry, and what each moving mate should do.

Slides by itself: on a slope of angle a, weight x sin a against friction x weight x cos a and a sticking force that does
not depend on weight (docs/methods.md 8.9); so from atan(mu) on, later where it is light. What hangs off its guide by an
arm jams where it is guided over less than 2 mu times that arm (the drawer rule: the guide's ends are pressed by weight
x arm / length each). Friction of printed pairs is typical. A snap arm's strain in passing is a cantilever's.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from knollside.core.fit.hardware import item
from knollside.core.fit.torques import Torque
from knollside.core.fit.windows import CLASSES
from knollside.core.model import Feature, Mate, Range, Refused
from knollside.core.model.fitchecks import Moved

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
MOVING: tuple[Moved, ...] = ("by itself", "with a push", "not at all", "it rattles")
SNAPPING: tuple[Moved, ...] = ("clicks", "does not click", "it broke")


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
    """Mates that are tried dry in the same way: what to do, what each should do, and what to do where it does not.
    ``between`` two bodies printed in place, or a snap ``arm`` instead; ``drops``: whether it should by itself."""

    mates: tuple[Mate, ...]
    do: str
    should: str
    otherwise: str
    moving: bool
    between: Between | None = None
    arm: str = ""
    drops: bool | None = None

    @property
    def key(self) -> str:
        """What a check of it is kept under."""
        return self.arm or (self.mates[0].feature if self.between is None else self.between.key)

    @property
    def outcomes(self) -> tuple[Moved, ...]:
        """What it may do; nothing where that is not asked."""
        return SNAPPING if self.arm else MOVING if self.moving else ()

    def told(self, moved: Moved) -> Literal["", "binds", "fits", "rattles"]:
        """What an outcome says of the gap in the window of its class; nothing where it is of no class."""
        if self.between is not None or not self.mates or self.mates[0].fit not in CLASSES:
            return ""
        if moved == "with a push":
            # A free fit that is heavy enough to drop and does not is too tight; a slide is meant to be pushed.
            return "binds" if self.mates[0].fit != "slide" and self.drops is True else "fits"
        return {"not at all": "binds", "by itself": "fits", "it rattles": "rattles"}.get(moved, "")  # type: ignore


@dataclass(frozen=True)
class Guide:
    """What moves in a mate: its ``grams``, and where it is guided by a printed partner the ``length`` of that and the
    ``arm`` that its weight acts at beside it, mm."""

    grams: float
    length: float | None = None
    arm: float | None = None


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


def slides(guide: Guide) -> Slides:
    """When what moves slides by itself. Raises :class:`Refused` for one without weight."""
    if not guide.grams > 0:
        raise Refused("A part without weight does not drop.")
    weight = guide.grams * GRAVITY

    def angle(mu: float, sticks: float) -> float:
        # weight sin a = mu weight cos a + sticks, so sin(a - atan mu) = sticks cos(atan mu) / weight
        lean = math.atan(mu)
        share = sticks * math.cos(lean) / weight
        return math.degrees(lean + math.asin(share)) if share < 1 else 180.0

    f, s = FRICTION, STICKS
    told = Range(angle(f.value, s.value), angle(f.low, s.low), angle(f.high, s.high), "typical")
    length, arm = guide.length, guide.arm
    return Slides(told, length is not None and arm is not None and length < 2 * f.high * arm)


def tries(
    mates: Sequence[Mate],
    guides: Mapping[str, Guide],
    chances: Mapping[str, tuple[float, float, float]],
    between: Sequence[Between] = (),
    torques: Mapping[str, Torque] | None = None,
    arms: Sequence[Try] = (),
) -> tuple[Try, ...]:
    """Every pair of bodies, then every mate, snap ``arms`` before what is pressed for good, in the order of a dry fit.
    ``guides`` of what moves, ``chances`` (binds, fits, rattles) and ``torques`` by feature."""
    ordered = sorted(mates, key=lambda m: (_ORDER.get(m.fit, 4), m.feature))
    last = [m for m in ordered if m.fit in ("press", "melt in")]
    out = [_freed(b) for b in between]
    told: list[Mate | Try] = [*(m for m in ordered if m not in last), *arms, *last]
    for t in (m if isinstance(m, Try) else _try(m, guides.get(m.feature), chances, torques or {}) for m in told):
        before = out[-1] if out else None
        if before is not None and before.mates and not t.moving and replace(t, mates=before.mates) == before:
            out[-1] = replace(before, mates=(*before.mates, *t.mates))
        else:
            out.append(t)
    return tuple(out)


def _freed(b: Between) -> Try:
    """A pair printed in place: worked free first, then it moves by its own weight, or does not."""
    odds = f"Foretold: {100 * b.welds:.0f} of 100 weld, {100 * b.rattles:.0f} rattle."
    told = slides(Guide(max(b.grams, 0.1)))
    how = _sliding(told) if b.slides else _turning(told)
    do = "Work it free: a firm push to and fro, a thin blade where a strand holds; then hold it upright."
    return Try((), do, f"{how} {odds}", "A wider gap at Fits; what was tried here is counted there.", True, b)


def snap(arm: Feature, strain: Range) -> Try:
    """A snap arm, pushed over its catch: what that strains it, % of its length, against what one snap may."""
    told = arm.passing_strain
    may = f"it strains {told:.1f} %, one snap may {strain.low:g} to {strain.high:g} % ({strain.source})."
    if told >= strain.high:
        should = f"It will likely break: {may}"
    else:
        should = f"It may break: {may}" if told >= strain.low else f"It should click and hold a pull by hand: {may}"
    do = "Push it over its catch once, slowly, glasses on; then pull."
    return Try((), do, should, "Longer or thinner, or a lower catch; then again.", False, arm=arm.id)


def _try(
    m: Mate,
    guide: Guide | None,
    chances: Mapping[str, tuple[float, float, float]],
    torques: Mapping[str, Torque],
) -> Try:
    chance, torque, guide = chances.get(m.feature), torques.get(m.feature), guide or Guide(0.1)
    told = slides(replace(guide, grams=max(guide.grams, 0.1)))
    tight = f" {torque.words}" if torque is not None else ""
    odds = "" if chance is None else f" Foretold: {100 * chance[0]:.0f} of 100 bind, {100 * chance[2]:.0f} rattle."
    what = m.hardware if m.partner is None else m.partner.replace("-", " ")
    what = f"the thing of {m.size_mm:g} mm" if m.size_mm is not None else what
    if m.fit == "print in place":
        do = "Work it free: a firm turn to and fro, then with a blade where a strand holds."
        wider = "Wider gap at Fits, or warmer to work it free."
        return Try((m,), do, f"{_turning(told)}{odds}", wider, True, drops=told.drops)
    if m.fit in ("free", "slide") or m.partner is not None:
        do = f"Put {what} in dry and hold it upright."
        return Try((m,), do, f"{_sliding(told)}{odds}", "Look for burrs, then Fits.", True, drops=told.drops)
    if m.fit == "thread":
        do = f"Turn {what} in by hand, half a turn back for each turn."
        return Try((m,), do, f"It should go by two fingers.{tight}", "Chase it with a screw of metal.", False)
    if m.fit in ("press", "melt in"):
        do = f"Last: {what}. It does not come out again." + (" Hot iron: mind your hands." * (m.fit == "melt in"))
        stays = f"It should stay when pulled by hand.{odds}{tight}"
        return Try((m,), do, stays, "Glue, or a smaller hole at Fits.", False)
    if _screw(m.hardware):
        do = f"Put {what} through; tighten what moves only until it just still moves."
        return Try((m,), do, f"It should go in by hand.{odds}{tight}", "Drill it, see Clean up.", False)
    return Try((m,), f"Put {what} in.", f"It should go in by hand.{odds}", "Look for burrs, then Fits.", False)


def _sliding(s: Slides) -> str:
    if s.jams:
        return "It may jam askew: its weight hangs far off so short a guide. Push it close to the guide."
    if s.drops is None:
        return f"It may need a push: light as it is, {s.angle.low:.0f}° of slope might do, or none."
    if not s.drops:
        return "It is too light to drop by itself: a push must do."
    return f"It should slide by itself from {s.angle.low:.0f} to {s.angle.high:.0f}° of slope, typical."


def _turning(s: Slides) -> str:
    return "It should swing by its own weight." if s.drops else "It should turn with one finger."


def _screw(name: str) -> bool:
    try:
        return item(name).group == "bolt"
    except Refused:
        return False
