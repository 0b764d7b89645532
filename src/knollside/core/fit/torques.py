"""How tight a screw may be turned before the print gives: its thread, the ring under its head, or its insert.

Torque is K d F (Shigley, *Mechanical Engineering Design*, 8), K 0.2 to 0.35 typical of steel on plastic. A thread
shears half the cylinder round its bore at 0.577 of the strength between layers (von Mises); a head bears on its ring
with that strength; an insert shears half its cylinder (its knurls), pulled out along it or turned. The low end takes
the low of each: a short time, cool and dry.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from knollside.core.fit.hardware import ISO_4762_HEAD, item
from knollside.core.model import Feature, Mate, Range, Refused

K = Range(0.27, 0.20, 0.35, "typical")
_SHEAR = 0.577
_HALF = 0.5  # of a cylinder that threads or knurls hold


@dataclass(frozen=True)
class Torque:
    """N mm that it stands, and in words what gives first."""

    most: Range
    gives: str

    @property
    def words(self) -> str:
        """In a sentence, for a person with a screwdriver."""
        low, middle, high = (f"{v / 1000:.2g}" for v in (self.most.low, self.most.value, self.most.high))
        return f"No tighter than {low} N m: {self.gives} at {middle} ({low} to {high}, typical)."


def torque_of(mate: Mate, f: Feature, pull: Range, bond: Range) -> Torque | None:
    """What a mate's screw stands; None where nothing is tightened there, or its size is not known."""
    if not f.diameter:
        return None
    if mate.fit == "thread" and f.length:
        return Torque(thread_torque(f.diameter, f.length, pull, bond), "its thread strips")
    if mate.fit == "melt in" and f.length:
        screw = _screw_in(mate.hardware)
        if screw is not None:
            return Torque(insert_torque(screw, f.diameter, f.length, pull, bond), "its insert turns or comes out")
    head = _head_over(mate.hardware)
    if mate.fit in ("close", "medium", "coarse") and head is not None and head[1] > f.diameter:
        return Torque(head_torque(*head, f.diameter, pull, bond), "its head sinks in")
    return None


def thread_torque(bore: float, engaged: float, pull: Range, bond: Range) -> Range:
    """N mm that strip a thread of ``engaged`` length in a printed bore, mm."""
    _sizes(bore, engaged)
    return _torque(bore, _SHEAR * _HALF * math.pi * bore * engaged, pull, bond)


def head_torque(screw: float, head: float, bore: float, pull: Range, bond: Range) -> Range:
    """N mm at which the head of a screw sinks into the ring round its hole, mm."""
    _sizes(screw, head - bore)
    return _torque(screw, math.pi / 4 * (head**2 - bore**2), pull, bond)


def insert_torque(screw: float, outer: float, long: float, pull: Range, bond: Range) -> Range:
    """N mm at which an insert comes out along its hole or turns in it, whichever is less."""
    _sizes(screw, outer, long)
    along = _SHEAR * _HALF * math.pi * outer * long
    out, twist = _torque(screw, along, pull, bond), _strength(pull, bond).times(along * outer / 2)
    return Range(min(out.value, twist.value), min(out.low, twist.low), min(out.high, twist.high), "typical")


def _torque(d: float, area: float, pull: Range, bond: Range) -> Range:
    """K d F where F is the strength between layers over an area, mm2."""
    force = _strength(pull, bond).times(area)
    return Range(K.value * d * force.value, K.low * d * force.low, K.high * d * force.high, "typical")


def _strength(pull: Range, bond: Range) -> Range:
    """Between layers, MPa."""
    return Range(pull.value * bond.value, pull.low * bond.low, pull.high * bond.high, "typical")


def _sizes(*mm: float) -> None:
    if not all(v > 0 for v in mm):
        raise Refused("A tightened screw needs sizes above nought: its bore, its length, a head wider than its hole.")


def _screw_in(insert: str) -> float | None:
    """Across the screw that an insert of this name takes, mm."""
    try:
        return item(insert.split()[1]).size
    except (IndexError, Refused):
        return None


def _head_over(screw: str) -> tuple[float, float] | None:
    """Across a screw and its cylinder head, mm (ISO 4762, the least of common heads)."""
    try:
        found = item(screw)
    except Refused:
        return None
    head = ISO_4762_HEAD.get(found.name)
    return (found.size, head) if found.group == "bolt" and head is not None else None
