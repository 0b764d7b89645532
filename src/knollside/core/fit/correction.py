"""What one hole or pin should be drawn as, and the odds that it binds, fits or rattles before and after."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from knollside.core.fit.finish import Coat, coat_of
from knollside.core.fit.hardware import AHEAD, item
from knollside.core.fit.posterior import Foretold
from knollside.core.fit.process import PrintSetting, Process, Shift, learn, process_of
from knollside.core.fit.windows import Target, Windows, gap_window, target
from knollside.core.mesh.wallmoves import second_size
from knollside.core.model import SIZED, Feature, Mate, Measurement, Refused


@dataclass(frozen=True)
class Correction:
    """What one feature should be drawn as, and the odds before and after.

    ``target`` is the printed size wanted, bare, before any finish; ``sigma`` the spread of one print with the shift's
    doubt (and the partner's, where that is printed too). ``chance_now`` and ``chance_then`` are (binds, fits, rattles)
    as drawn and as corrected. ``partner`` names the printed feature it goes with, if it does. ``along_mm``: what the
    whole length of a slot, or a rectangle's longer side, should be drawn as, so that it keeps the travel (and the play)
    of its width. ``caution``: what its size cannot mend, in words.
    """

    feature: str
    from_mm: float
    to_mm: float
    low: float
    high: float
    source: str
    printed_now: float
    printed_then: float
    target: Target
    shift: Shift
    axis: str
    sigma: float
    chance_now: tuple[float, float, float]
    chance_then: tuple[float, float, float]
    partner: str = ""
    coat: Coat | None = None
    along_from_mm: float | None = None
    along_mm: float | None = None
    caution: str = ""


def axis_of(feature: Feature, direction: tuple[float, float, float]) -> str:
    """'upright' when the round's axis stands along the build direction, else 'lying'."""
    return "upright" if abs(float(np.dot(feature.axis, direction))) > math.cos(math.radians(30)) else "lying"


def correct(
    feature: Feature,
    mate: Mate,
    direction: tuple[float, float, float],
    readings: Iterable[Measurement],
    partner: Feature | None = None,
    setting: PrintSetting | None = None,
    windows: Windows | None = None,
) -> Correction:
    """The drawn diameter that prints at the size the mate wants. Diameters throughout, mm.

    With a ``partner``, a printed pin or hole, the window is one of the gap, and ``mate.side`` says how much of the
    change this feature takes: all of it, none of it, or half. Raises :class:`Refused`.
    """
    if feature.kind not in SIZED or feature.diameter is None:
        raise Refused(f"{feature.title} has no size that goes with another; holes, pins, slots and pockets have.")
    taken = tuple(readings)
    inside = _inside(feature)
    kind, axis = ("hole" if inside else "pin"), axis_of(feature, direction)
    drawn = feature.diameter
    process = process_of(taken, axis, setting)
    known = _Known(process, process.shift(kind, drawn), coat_of(mate))
    if partner is not None:
        return _printed_pair(feature, mate, partner, direction, taken, setting, windows, known)
    # A lying hole left round is tighter from top to bottom than across; any other roof is made not to hang.
    drop = 0.0
    if inside and axis == "lying" and mate.shape == "round":
        drop = max(known.shift.value - learn(taken, kind, "plumb", drawn, setting).value, 0.0)
    coat = known.coat
    want = target(mate, inside, drawn, windows)
    bare = want.moved((1 if inside else -1) * 2 * coat.mm) if coat is not None else want
    # So its two sizes lie to either side of what is wanted.
    printed = bare.size + drop / 2
    to = _drawn_for(printed, process, kind, drawn)
    more = 2 * coat.sigma if coat is not None else 0.0
    now, then = (process.shift(kind, d).one.moved(d, more) for d in (drawn, to))
    chances = odds(bare, now, inside, drop), odds(bare, then, inside, drop)
    return replace(_made(feature, to, bare, known, then.sigma, chances), caution=_too_short(feature, mate))


def _too_short(f: Feature, mate: Mate) -> str:
    """Whether an insert of a told length stands out of its hole, in words."""
    if not mate.hardware.lower().startswith("insert") or mate.size_mm is not None or f.length is None:
        return ""
    long = item(mate.hardware).length
    if long is None:
        return ""
    need = long if f.through else long + AHEAD
    if f.length >= need - 0.01:
        return ""
    beyond = "" if f.through else f", with {AHEAD:g} mm for what it pushes ahead (typical)"
    return f"{f.title} is {f.length:.1f} mm deep; an insert {long:g} mm long wants {need:.1f}{beyond}."


@dataclass(frozen=True)
class _Known:
    """How one feature prints: its axis of the printer, its shift as drawn, and its coat of paint."""

    process: Process
    shift: Shift
    coat: Coat | None


def _inside(f: Feature) -> bool:
    """Whether something goes into it, as into a hole or a pocket."""
    return f.kind != "pin" and f.inside is not False


def _drawn_for(size: float, process: Process, kind: str, drawn: float) -> float:
    """The drawn size that prints at ``size``: the shift is that of the corrected size, found in a few rounds."""
    to = drawn
    for _ in range(8):
        before, to = to, max(size - process.shift(kind, to).value, 0.05)
        if abs(to - before) < 1e-7:
            break
    return to


Chances = tuple[float, float, float]


def _made(
    f: Feature,
    to: float,
    want: Target,
    known: _Known,
    sigma: float,
    chances: tuple[Chances, Chances],
    partner: str = "",
) -> Correction:
    shift, drawn = known.shift, float(f.diameter or 0.0)
    whole = second_size(f)
    along = None
    if whole is not None:
        # Printed as much wider than drawn as its width is wanted to be.
        printed = whole + to + known.process.shift(shift.kind, to).value - drawn
        along = _drawn_for(printed, known.process, shift.kind, whole)
    return Correction(
        f.id,
        drawn,
        to,
        to - shift.doubt,
        to + shift.doubt,
        shift.source,
        drawn + shift.value,
        to + known.process.shift(shift.kind, to).value,
        want,
        shift,
        known.process.axis,
        sigma,
        *chances,
        partner,
        known.coat,
        whole,
        along,
    )


def _printed_pair(
    f: Feature,
    mate: Mate,
    partner: Feature,
    direction: tuple[float, float, float],
    taken: tuple[Measurement, ...],
    setting: PrintSetting | None,
    windows: Windows | None,
    known: _Known,
) -> Correction:
    """The gap of two printed partners, from their joint distribution: one print, one shrink, one offset."""
    coat = known.coat
    if partner.diameter is None or f.diameter is None or (f.kind == "pin") == (partner.kind == "pin"):
        raise Refused(f"{f.title} and {partner.title} are not a hole and a pin; one must go into the other.")
    inside = _inside(f)
    kind, other_kind = ("hole", "pin") if inside else ("pin", "hole")
    other = process_of(taken, axis_of(partner, direction), setting)
    low, high = gap_window(mate, windows)
    paint = 4 * coat.mm if coat is not None else 0.0  # both partners are painted, on both sides of the diameter
    printed_other = partner.diameter + other.shift(other_kind, partner.diameter).value
    # Gap = hole - pin; seen from this feature the window is one of its own size.
    edges = sorted(printed_other + (1 if inside else -1) * (w + paint) for w in (low, high))
    want = Target(sum(edges) / 2, edges[0], edges[1], printed_other, f"{partner.title.lower()}, {mate.fit}")
    share = {"hole": 1.0 if inside else 0.0, "pin": 0.0 if inside else 1.0, "both": 0.5}[mate.side]
    # Drawn so that the gap comes to the middle of the window; each takes its share of the change.
    alone = _drawn_for(want.size, known.process, kind, f.diameter)
    to = f.diameter + share * (alone - f.diameter)
    printed = f.diameter + known.shift.value
    its = printed - (1 if inside else -1) * ((low + high) / 2 + paint)
    its_alone = _drawn_for(its, other, other_kind, partner.diameter)
    partner_to = partner.diameter + (1 - share) * (its_alone - partner.diameter)
    more = 4 * coat.sigma if coat is not None else 0.0
    sides = (known.process, other) if inside else (other, known.process)

    def chances(mine: float, theirs: float) -> tuple[Foretold, Chances]:
        hole, pin = (mine, theirs) if inside else (theirs, mine)
        gap = gap_of(sides[0], hole, sides[1], pin).moved(0.0, more)
        return gap, odds(Target(0.0, low + paint, high + paint, 0.0, ""), gap, True)

    then = chances(to, partner_to)
    return _made(f, to, want, known, then[0].sigma, (chances(f.diameter, partner.diameter)[1], then[1]), partner.id)


def gap_of(of_hole: Process, hole: float, of_pin: Process, pin: float) -> Foretold:
    """The printed gap of a hole and a pin drawn at these diameters, mm, from one print."""
    if of_hole.axis == of_pin.axis:
        return of_hole.gap(hole, pin).moved(hole - pin)
    one, two = of_hole.shift("hole", hole).one, of_pin.shift("pin", pin).one
    shared = math.sqrt(of_hole.print_to_print * of_pin.print_to_print)
    return one.less(two, shared).moved(hole - pin)


def odds(want: Target, printed: Foretold, inside: bool, drop: float = 0.0) -> Chances:
    """(binds, fits, rattles) of one more print: the foretold size against the window. ``drop``: how much less a hole
    measures from top to bottom, mm."""
    small, large = printed.below(want.low + drop), 1 - printed.below(want.high)
    middle = max(0.0, 1 - small - large)
    return (small, middle, large) if inside else (large, middle, small)
