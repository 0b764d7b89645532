"""What one hole or pin should be drawn as, and the odds that it binds, fits or rattles before and after."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np
from scipy.special import stdtr

from knollside.core.fit.finish import Coat, coat_of
from knollside.core.fit.process import PrintSetting, Shift, learn
from knollside.core.fit.windows import Target, Windows, gap_window, target
from knollside.core.model import Feature, Mate, Measurement, Refused

_ROUND = ("hole", "pin", "hexagon")


@dataclass(frozen=True)
class Correction:
    """What one feature should be drawn as, and the odds before and after.

    ``target`` is the printed size wanted, bare, before any finish; ``sigma`` the spread of one print with the shift's
    doubt (and the partner's, where that is printed too). ``chance_now`` and ``chance_then`` are (binds, fits, rattles)
    as drawn and as corrected. ``partner`` names the printed feature it goes with, if it does.
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
    freedom: float
    chance_now: tuple[float, float, float]
    chance_then: tuple[float, float, float]
    partner: str = ""
    coat: Coat | None = None


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
    if feature.kind not in _ROUND or feature.diameter is None:
        raise Refused(f"{feature.title} is not a round hole or pin; only those are corrected.")
    taken = tuple(readings)
    inside = _inside(feature)
    kind, axis = ("hole" if inside else "pin"), axis_of(feature, direction)
    drawn = feature.diameter
    coat = coat_of(mate)
    shift = learn(taken, kind, axis, drawn, setting)
    # A lying hole left round is tighter from top to bottom than across; any other roof is made not to hang.
    drop = 0.0
    if inside and axis == "lying" and mate.shape == "round":
        drop = max(shift.value - learn(taken, kind, "plumb", drawn, setting).value, 0.0)
    if partner is not None:
        known = _Known(shift, axis, shift.sigma, coat)
        return _printed_pair(feature, mate, partner, direction, taken, setting, windows, known)
    want = target(mate, inside, drawn, windows)
    bare = want.moved((1 if inside else -1) * 2 * coat.mm) if coat is not None else want
    # So its two sizes lie to either side of what is wanted.
    printed = bare.size + drop / 2
    to = _drawn_for(printed, taken, kind, axis, drawn, setting)
    sigma = math.hypot(shift.sigma, 2 * coat.sigma if coat is not None else 0.0)
    return _made(feature, to, printed, bare, _Known(shift, axis, sigma, coat, drop))


@dataclass(frozen=True)
class _Known:
    """How one feature prints: its shift on its axis, the doubt of one more print (``sigma``), its coat of paint, and
    how much less a lying hole measures from top to bottom (``drop``)."""

    shift: Shift
    axis: str
    sigma: float
    coat: Coat | None
    drop: float = 0.0


def _inside(f: Feature) -> bool:
    """Whether something goes into it, as into a hole or a pocket."""
    return f.kind != "pin" and f.inside is not False


def _drawn_for(
    size: float, taken: tuple[Measurement, ...], kind: str, axis: str, drawn: float, setting: PrintSetting | None
) -> float:
    """The drawn size that prints at ``size``: the shift is that of the corrected size, found in two rounds."""
    to = drawn
    for _ in range(3):
        to = size - learn(taken, kind, axis, to, setting).value
    return to


def _made(f: Feature, to: float, then: float, want: Target, known: _Known, partner: str = "") -> Correction:
    inside, drawn = _inside(f), float(f.diameter or 0.0)
    shift, sigma, drop = known.shift, known.sigma, known.drop
    return Correction(
        f.id,
        drawn,
        to,
        to - shift.half,
        to + shift.half,
        shift.source,
        drawn + shift.value,
        then,
        want,
        shift,
        known.axis,
        sigma,
        shift.freedom,
        odds(want, drawn + shift.value, sigma, shift.freedom, inside, drop),
        odds(want, then, sigma, shift.freedom, inside, drop),
        partner,
        known.coat,
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
    shift, coat = known.shift, known.coat
    if partner.diameter is None or (f.kind == "pin") == (partner.kind == "pin"):
        raise Refused(f"{f.title} and {partner.title} are not a hole and a pin; one must go into the other.")
    inside = _inside(f)
    other = learn(taken, "pin" if inside else "hole", axis_of(partner, direction), partner.diameter, setting)
    printed_other = partner.diameter + other.value
    low, high = gap_window(mate, windows)
    paint = 4 * coat.mm if coat is not None else 0.0  # both partners are painted, on both sides of the diameter
    # Gap = hole - pin; seen from this feature the window is one of its own size.
    edges = sorted(printed_other + (1 if inside else -1) * (w + paint) for w in (low, high))
    middle = sum(edges) / 2
    words = f"{partner.title.lower()}, {mate.fit}"
    want = Target(middle, edges[0], edges[1], printed_other, words)
    share = {"hole": 1.0 if inside else 0.0, "pin": 0.0 if inside else 1.0, "both": 0.5}[mate.side]
    whole = middle - (float(f.diameter or 0.0) + shift.value)
    sigma = math.hypot(math.hypot(shift.sigma, other.sigma), 4 * coat.sigma if coat is not None else 0.0)
    to = float(f.diameter or 0.0) + whole * share
    made = _made(f, to, to + shift.value, want, replace(known, sigma=sigma), partner.id)
    if share == 1.0:
        return made
    # The partner takes its own share, so that afterwards the gap, not this side alone, is in the middle.
    then = odds(want, middle, sigma, shift.freedom, inside)
    return replace(made, chance_then=then)


def odds(
    want: Target, printed: float, sigma: float, freedom: float, inside: bool, drop: float = 0.0
) -> tuple[float, float, float]:
    """(binds, fits, rattles) of one more print expected at ``printed``: Student's t, scatter and doubt together.
    ``drop``: how much less a hole measures from top to bottom, mm."""
    small = float(stdtr(freedom, (want.low - printed + drop) / sigma))
    large = float(stdtr(freedom, (printed - want.high) / sigma))
    middle = max(0.0, 1 - small - large)
    return (small, middle, large) if inside else (large, middle, small)
