"""What is left on a spool, by weighing and by what prints took; whether it lasts; and which spool takes which plate."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from scipy.special import ndtr

from knollside.core.model import Range, Refused

_NEW = 0.01  # share by which a new spool's filament is off what is printed on it, two sigma
_PRINT = 0.06  # share by which a print's grams are off the estimate, two sigma
_SAME_WAY = 0.03  # of that, what all prints of a workshop share
_TARE = 30.0  # g; two sigma of a spool's own weight where nobody weighed it
_USUAL_TARE = 220.0  # g, typical
_SCALE = 2.0  # g; two sigma of one weighing, the spool hung or laid as it comes
ENOUGH = 0.95  # chance of lasting from which a spool is called long enough
_APART = 3.0  # sigma between both ways of knowing from which they contradict each other


@dataclass(frozen=True)
class Known:
    """What is known of a spool, grams: ``net`` of filament when it was new (or first spoken of), ``tare`` empty (None:
    not weighed), ``gross`` at the last weighing (None: never), what prints ``took`` since it was new and ``since`` that
    weighing, by their estimates, oldest first. ``doubt``: two sigma of the net, where it is no new spool's."""

    net: float
    tare: float | None
    gross: float | None
    took: tuple[float, ...] = ()
    since: tuple[float, ...] = ()
    doubt: float | None = None


@dataclass(frozen=True)
class Left:
    """Grams left, from both ways where there are two; in words what is wrong where they cannot both be right."""

    grams: Range
    contradicts: str = ""


def left_on(k: Known) -> Left:
    """Grams left and their doubt. Raises :class:`Refused` for a spool lighter than its own tare."""
    if k.tare is not None and k.gross is not None and k.gross < k.tare - _SCALE:
        raise Refused(
            f"It weighed {k.gross:.0f} g, less than the empty spool's {k.tare:.0f} g. Weigh both again, or put the "
            "tare right."
        )
    counted = k.net - sum(k.took)
    of_net = k.net * _NEW if k.doubt is None else k.doubt
    spread = math.hypot(max(of_net, 1.0) / 2, math.sqrt(_together(k.took, k.took)))
    if k.gross is None:
        return Left(_range(counted, spread, "counted"))
    tare, doubt = (k.tare, _SCALE / 2) if k.tare is not None else (_USUAL_TARE, _TARE / 2)
    weighed = k.gross - tare - sum(k.since)
    other = math.sqrt(doubt**2 + (_SCALE / 2) ** 2 + _together(k.since, k.since))
    shared = _together(k.took, k.since)  # what was printed since the weighing is in both
    a, b = other**2 - shared, spread**2 - shared
    value = (a * counted + b * weighed) / (a + b)
    sigma = math.sqrt(a**2 * spread**2 + b**2 * other**2 + 2 * a * b * shared) / (a + b)
    if abs(counted - weighed) <= _APART * math.sqrt(spread**2 + other**2 - 2 * shared):
        return Left(_range(value, sigma, "weighed and counted"))
    said = (
        f"By weight {max(weighed, 0):.0f} g are left, by its prints {max(counted, 0):.0f}: a print is missing here, or "
        "the scale or the tare is off."
    )
    # What was weighed is nearer to the truth.
    return Left(_range(weighed, max(other, abs(counted - weighed) / 4), "weighed"), said)


def _range(value: float, sigma: float, source: str) -> Range:
    low, high = (max(value + z * sigma, 0.0) for z in (-1.6449, 1.6449))
    return Range(max(value, 0.0), low, high, source)


def _together(some: Sequence[float], others: Sequence[float]) -> float:
    """Covariance of what two rows of prints took, the second the last ones of the first, g2: each print's own share,
    and one that all have in common."""
    own = (_PRINT**2 - _SAME_WAY**2) / 4
    return own * sum(g**2 for g in others) + _SAME_WAY**2 / 4 * sum(some) * sum(others)


def lasts(left: Range, grams: float) -> float:
    """The chance that a spool lasts for a print of so many grams by its estimate."""
    sigma = math.hypot((left.high - left.low) / 2 / 1.6449, math.sqrt(_together([grams], [grams])))
    return float(ndtr((left.value - grams) / max(sigma, 1e-9)))


@dataclass(frozen=True)
class Need:
    """A plate: its filament (material and colour) and grams; the ``spool`` it was tied to, if any."""

    key: str
    title: str
    filament: str
    grams: float
    spool: str = ""


@dataclass(frozen=True)
class OnShelf:
    """A spool with its filament and grams left."""

    key: str
    title: str
    filament: str
    left: Range


@dataclass(frozen=True)
class Given:
    """Which spool each plate takes, by key; the chance that each spool lasts for all it is given; in words what is
    short."""

    spool_of: dict[str, str]
    lasts: dict[str, float]
    short: tuple[str, ...]


def shared_out(needs: Iterable[Need], shelf: Iterable[OnShelf]) -> Given:
    """Large plates first, each on the spool with least left that still lasts for it with all it has: so small prints
    use up ends and whole spools stay whole. What was tied to a spool takes it, and is told where it will not last."""
    spools = list(shelf)
    on: dict[str, list[Need]] = {s.key: [] for s in spools}
    spool_of: dict[str, str] = {}
    short = []
    needs = list(needs)
    for need in (n for n in needs if n.spool in on):
        own = next(s for s in spools if s.key == need.spool)
        on[own.key].append(need)
        spool_of[need.key] = own.key
        lasting = _lasts_all(own, on[own.key])
        if lasting < ENOUGH:
            short.append(f"{need.title} is tied to {own.title}: {100 * lasting:.0f} % that it lasts.")
    for need in sorted((n for n in needs if n.key not in spool_of), key=lambda n: (-n.grams, n.key)):
        fits = [s for s in spools if s.filament == need.filament and _lasts_all(s, [*on[s.key], need]) >= ENOUGH]
        if not fits:
            short.append(_short(need, spools, on))
            continue
        best = min(fits, key=lambda s: (s.left.value - sum(n.grams for n in on[s.key]), s.key))
        on[best.key].append(need)
        spool_of[need.key] = best.key
    chance = {s.key: _lasts_all(s, on[s.key]) for s in spools if on[s.key]}
    return Given(spool_of, chance, tuple(short))


def _lasts_all(s: OnShelf, needs: list[Need]) -> float:
    grams = [n.grams for n in needs]
    sigma = math.hypot((s.left.high - s.left.low) / 2 / 1.6449, math.sqrt(_together(grams, grams)))
    return float(ndtr((s.left.value - sum(grams)) / max(sigma, 1e-9)))


def _short(need: Need, spools: list[OnShelf], on: dict[str, list[Need]]) -> str:
    alike = [s for s in spools if s.filament == need.filament]
    if not alike:
        return f"{need.title} needs {need.grams:.0f} g of {need.filament}; there is no such spool."
    best = max(alike, key=lambda s: s.left.value - sum(n.grams for n in on[s.key]))
    rest = best.left.value - sum(n.grams for n in on[best.key])
    return (
        f"{need.title} needs {need.grams:.0f} g of {need.filament}; {best.title} has about {max(rest, 0):.0f} g to "
        f"spare ({100 * _lasts_all(best, [*on[best.key], need]):.0f} % that it lasts)."
    )
