"""Pull tests over levels of one setting: which level is as strong as the best, by how much it may be weaker.

Logs of strength in a linear model with a term for each level and one for each print run, where the runs join the
levels; variance of a contrast by HC2 (MacKinnon and White 1985; of two levels in one run it is Welch's), degrees of
freedom after Bell and McCaffrey (2002). Where no run joins two levels, what prints differ by anyway is added. As strong
as: lower bound of the ratio over 1 - margin, all levels together at one in twenty (Holm 1979). Weaker: by the range of
so many means that are alike (Tukey's, with each pair's own variance: Games and Howell 1976), since the level that came
out best was picked for that; against a level that was named before the bars were pulled, by Holm's order.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache

import numpy as np
from scipy.special import nctdtr, stdtr, stdtrit
from scipy.stats import studentized_range

from knollside.core.model import Array, Range, Refused
from knollside.core.model.trials import Pull

ALPHA = 0.05
WEAKER = 0.025  # half of that: slips that nobody noticed and heavy tails double it, measured
RUN = 0.05  # spread of the log from print run to print run: typical
POWER = 0.8
_DRAWN = 3000
_SLIP = 3.5  # robust sigma under the level's middle from which a bar counts as slipped


_Found = tuple[int, float, float, float, float]


class Verdict(Enum):
    AS_STRONG = "as strong"
    WEAKER = "weaker"
    OPEN = "open"


@dataclass(frozen=True)
class Level:
    """Standing bars of one level: strengths MPa, their mean with nine in ten, spread (a share); runs they come from."""

    value: float
    strengths: tuple[float, ...]
    mean: Range
    spread: float
    runs: int


@dataclass(frozen=True)
class Claim:
    """A level against the reference: ratio with nine in ten, chance of erring when it is called as strong (Holm), what
    may be said, and for an open one how many more bars of each would settle it (None: no number likely does)."""

    level: float
    ratio: Range
    p: float
    verdict: Verdict
    more: int | None = None


@dataclass(frozen=True)
class Studied:
    """``levels`` by value; ``reference`` the one all are held against; ``lowest`` value as strong (the reference itself
    where none is); bars left out as slipped, by their number; in words what weakens it."""

    levels: tuple[Level, ...]
    reference: float
    claims: tuple[Claim, ...]
    lowest: float
    slips: tuple[int, ...]
    notes: tuple[str, ...]
    margin: float


def studied(pulls: Sequence[Pull], margin: float = 0.10, reference: float | None = None) -> Studied:
    """What the bars say. Raises :class:`Refused` where they can say nothing."""
    bars = [(k, p) for k, p in enumerate(pulls) if p.standing and not p.slipped]
    values = sorted({p.level for _, p in bars})
    if len(values) < 2:
        raise Refused("Bars of one level compare with nothing: pull at least two bars each of two levels.")
    thin = [v for v in values if sum(p.level == v for _, p in bars) < 2]
    if thin:
        raise Refused(f"One bar of {thin[0]:g} tells nothing of its spread: pull at least two of each level.")
    logs = np.array([np.log(p.strength) for _, p in bars])
    level = np.array([values.index(p.level) for _, p in bars])
    run = np.unique([p.run for _, p in bars], return_inverse=True)[1]
    slips = _slips(logs, level)
    means = np.array([np.mean(logs[(level == k) & ~slips]) for k in range(len(values))])
    best = int(np.argmax(means)) if reference is None else _at(values, reference)
    # A slip of the reference would make others look strong: it is left out there, and counted against all others.
    keep = ~(slips & (level == best))
    claims, joined = _claims(logs[keep], level[keep], run[keep], slips[keep], values, best, margin, reference is None)
    strong = [c.level for c in claims if c.verdict is Verdict.AS_STRONG]
    notes = _notes(joined, run, slips)
    levels = tuple(_level(values[k], logs[level == k], run[level == k]) for k in range(len(values)))
    out = tuple(bars[k][0] for k in np.flatnonzero(slips))
    return Studied(levels, values[best], claims, min([*strong, values[best]]), out, notes, margin)


def _at(values: list[float], reference: float) -> int:
    if reference not in values:
        raise Refused(f"No bar was pulled at {reference:g}, against which all are to be held.")
    return values.index(reference)


def _slips(logs: Array, level: Array) -> np.ndarray:
    """Bars far under the others of their level."""
    out = np.zeros(len(logs), bool)
    for k in np.unique(level):
        at = np.flatnonzero(level == k)
        if len(at) >= 4:
            middle = np.median(logs[at])
            sigma = max(1.4826 * float(np.median(np.abs(logs[at] - middle))), 0.02)
            out[at] = logs[at] < middle - _SLIP * sigma
    return out


def _design(level: Array, run: Array, levels: int) -> Array:
    columns = [level == k for k in range(levels)]
    columns += [run == r for r in range(1, int(run.max()) + 1)]
    return np.array(columns, float).T


def _contrast(x: Array, y: Array, c: Array) -> tuple[float, float, float] | None:
    """Estimate, standard error (HC2) and degrees of freedom of a contrast; None where it cannot be estimated."""
    inverse = np.linalg.pinv(x.T @ x)
    if not np.allclose(c @ inverse @ (x.T @ x), c, atol=1e-8):
        return None
    w = x @ inverse @ c  # the contrast is w . y
    hat = x @ inverse @ x.T
    rest = y - hat @ y
    free = 1 - np.diag(hat)
    used = np.abs(w) > 1e-12
    if np.any(free[used] < 1e-9):
        return None
    scale = np.where(used, w**2 / np.maximum(free, 1e-9), 0.0)
    variance = float((scale * rest**2).sum())
    m = np.eye(len(y)) - hat
    a = (m * scale) @ m
    trace = float(np.trace(a))
    freedom = trace**2 / max(float((a * a.T).sum()), 1e-300)
    return float(w @ y), float(np.sqrt(variance)), float(freedom)


def _compared(y: Array, level: Array, run: Array, n: int, best: int, margin: float) -> tuple[list[_Found], bool]:
    """Of every level but the best: its number, difference of logs, standard error, degrees of freedom and the chance of
    erring when it is called as strong; and whether runs join them all."""
    with_runs = _design(level, run, n)
    plain, single = with_runs[:, :n], len(np.unique(run)) == 1
    found, joined = list[_Found](), True
    for k in (k for k in range(n) if k != best):
        c = np.zeros(with_runs.shape[1])
        c[k], c[best] = 1.0, -1.0
        got = _contrast(with_runs, y, c)
        extra = 0.0
        if got is None or got[2] < 1.5:
            got = _contrast(plain, y, c[:n])
            assert got is not None
            if not single:
                joined = False
                extra = RUN**2 * (1 / len(np.unique(run[level == k])) + 1 / len(np.unique(run[level == best])))
        difference, error, freedom = got
        whole = float(np.hypot(error, np.sqrt(extra)))
        p = float(stdtr(freedom, (np.log(1 - margin) - difference) / max(whole, 1e-9)))
        found.append((k, difference, whole, freedom, p))
    return found, joined


def _weaker(found: Sequence[_Found], picked: bool) -> list[float]:
    """Chance of erring when each is called weaker, told of all at once."""
    t = [(difference / max(whole, 1e-9), freedom) for _, difference, whole, freedom, _ in found]
    alone = [float(stdtr(f, v)) for v, f in t]
    if not picked:
        return _holm(alone)
    many = len(found) + 1
    # What is open by itself is open among others; the range's chance takes a while.
    return [
        p if p >= ALPHA else float(studentized_range.sf(np.sqrt(2) * abs(v), many, f))
        for p, (v, f) in zip(alone, t, strict=True)
    ]


def _claims(
    y: Array,
    level: Array,
    run: Array,
    slips: np.ndarray,
    values: list[float],
    best: int,
    margin: float,
    picked: bool,
) -> tuple[tuple[Claim, ...], bool]:
    """Every other level held against the best (``picked``: because it came out so); and whether runs join them all.
    ``slips`` of the others count against them as strong, not for them as weaker: a grip that slips is no weakness."""
    found, joined = _compared(y, level, run, len(values), best, margin)
    order = sorted(range(len(found)), key=lambda j: found[j][4])
    adjusted = _holm([f[4] for f in found])
    fair = found
    if slips.any():
        fair, _ = _compared(y[~slips], level[~slips], run[~slips], len(values), best, margin)
    weaker = _weaker(fair, picked)
    claims = []
    for j, ((k, difference, whole, freedom, _), p) in enumerate(zip(found, adjusted, strict=True)):
        half = float(stdtrit(freedom, 1 - ALPHA)) * whole
        value, low, high = (float(np.exp(v)) for v in (difference, difference - half, difference + half))
        ratio = Range(value, low, high, "yours")
        verdict = Verdict.AS_STRONG if p < ALPHA else Verdict.WEAKER if weaker[j] < WEAKER else Verdict.OPEN
        # As it stands in the order, so many are asked at once with it.
        alpha = ALPHA / (len(found) - order.index(j))
        more = _more(y, level, k, best, difference, margin, alpha) if verdict is Verdict.OPEN else None
        claims.append(Claim(values[k], ratio, float(p), verdict, more))
    return tuple(claims), joined


def _holm(p: Sequence[float]) -> list[float]:
    """Chances of erring, told of all at once (Holm 1979)."""
    out, worst = [0.0] * len(p), 0.0
    for i, j in enumerate(sorted(range(len(p)), key=lambda j: p[j])):
        worst = max(worst, min((len(p) - i) * p[j], 1.0))
        out[j] = worst
    return out


def _more(y: Array, level: Array, k: int, best: int, difference: float, margin: float, alpha: float) -> int | None:
    """Bars more of either level until a ratio as seen (at most one) is told as strong in four of five."""
    room = min(difference, 0.0) - np.log(1 - margin)
    if room <= 0.01:
        return None
    spread = max(float(np.hypot(y[level == k].std(ddof=1), y[level == best].std(ddof=1))) / np.sqrt(2), 0.02)
    have = min(int((level == k).sum()), int((level == best).sum()))
    needed = bars_for(spread, room, alpha)
    return None if needed is None else max(needed - have, 1)


@lru_cache(maxsize=64)
def bars_for_study(levels: int, spread: float, room: float, most: int = 120) -> int | None:
    """Bars of each of so many ``levels``, truly alike, so that one that is not taken as the best is told as strong in
    four of five. The best is the one whose mean came out highest, and all the others are asked at once (Holm): drawn
    3,000 times with the same seed, since no closed form has both.

    >>> bars_for_study(2, 0.08, 0.105), bars_for_study(4, 0.08, 0.105)
    (11, 15)
    """
    if _told_strong(levels, most, spread, room) < POWER:
        return None
    low, high = 1, most  # not enough, enough
    while high - low > 1:
        n = (low + high) // 2
        low, high = (low, n) if _told_strong(levels, n, spread, room) >= POWER else (n, high)
    return high


def _told_strong(levels: int, n: int, spread: float, room: float) -> float:
    """Share of alike levels that are told as strong, of ``n`` bars each."""
    rng = np.random.default_rng(20261129)
    shape = (_DRAWN, levels)
    mean = rng.normal(0, spread / np.sqrt(n), shape)
    error = spread**2 * rng.chisquare(n - 1, shape) / (n - 1) / n  # squared, of each mean
    best, rows = mean.argmax(axis=1), np.arange(_DRAWN)
    of_best = error[rows, best][:, None]
    freedom = (error + of_best) ** 2 * (n - 1) / (error**2 + of_best**2)
    p = stdtr(freedom, (-room - mean + mean[rows, best][:, None]) / np.sqrt(error + of_best))
    p[rows, best] = np.inf
    others = levels - 1
    holm = np.sort(p, axis=1)[:, :others] * (others - np.arange(others))
    return float((np.maximum.accumulate(holm, axis=1) < ALPHA).mean())


def bars_for(spread: float, room: float, alpha: float = ALPHA, most: int = 120) -> int | None:
    """Bars of either of two levels so that, both alike but for ``room`` (log), the bound at ``alpha`` passes in four of
    five: noncentral t.

    >>> bars_for(0.08, 0.105), bars_for(0.2, 0.105)
    (8, 46)
    """
    for n in range(2, most):
        freedom = 2 * n - 2
        t = float(stdtrit(freedom, 1 - alpha))
        if 1 - float(nctdtr(freedom, room / (spread * np.sqrt(2 / n)), t)) >= POWER:
            return n
    return None


def _level(value: float, logs: Array, run: Array) -> Level:
    n = len(logs)
    middle, spread = float(logs.mean()), float(logs.std(ddof=1))
    half = float(stdtrit(n - 1, 0.95)) * spread / np.sqrt(n)
    runs = len(np.unique(run))
    if runs == 1:
        half = float(np.hypot(half, 1.645 * RUN))
    mean, low, high = (float(np.exp(middle + d)) for d in (0.0, -half, half))
    return Level(value, tuple(float(np.exp(v)) for v in logs), Range(mean, low, high), spread, runs)


def _notes(joined: bool, run: Array, slips: np.ndarray) -> tuple[str, ...]:
    out = []
    if len(np.unique(run)) == 1:
        out.append("All bars come from one print; another may differ by 5 % (typical), all levels alike.")
    elif not joined:
        out.append(
            "No print holds bars of all levels: what prints differ by (5 %, typical) is counted in. Spread each level "
            "over all prints, and fewer bars do."
        )
    lost = int(slips.sum())
    if lost:
        out.append(
            f"{lost} bar{'s' if lost > 1 else ''} far under the others: did the grip slip? Say so, or pull again."
        )
    return tuple(out)


def advice(s: Studied, unit: str) -> str:
    """In one sentence or two, what is as strong, what is not, and what would settle the rest."""

    def named(values: list[float]) -> str:
        words = [f"{v:g}" for v in values]
        return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"

    by = {v: [c for c in s.claims if c.verdict is v] for v in Verdict}
    u = f" {unit}" if unit else ""
    out = []
    for v, words in ((Verdict.AS_STRONG, "as strong as"), (Verdict.WEAKER, "weaker than")):
        if by[v]:
            many = "are" if len(by[v]) > 1 else "is"
            within = f" (within {100 * s.margin:.0f} %)" if v is Verdict.AS_STRONG else ""
            out.append(f"{named([c.level for c in by[v]])}{u} {many} {words} {s.reference:g}{within}.")
    for c in by[Verdict.OPEN]:
        more = (
            f"{c.more} more bar{'s' if c.more != 1 else ''} of each would settle it in four of five"
            if c.more is not None
            else "it looks weaker, by too little to be sure"
            if c.ratio.value < 1.01 * (1 - s.margin)
            else "its bars differ too much for any number that one pulls"
        )
        out.append(f"{c.level:g}{u} is open ({100 * c.ratio.low:.0f} to {100 * c.ratio.high:.0f} %): {more}.")
    return " ".join(out)
