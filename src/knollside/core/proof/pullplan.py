"""Which bars to print, in which order and places, so that levels differ by nothing but their level.

Randomised complete blocks (Fisher 1935, *The Design of Experiments*): in each round every level is printed once, in an
order drawn by lot, and the bars of a plate stand in places drawn by lot; what the day, the spool's water or a place of
the bed does then falls on all levels alike.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from knollside.core.model import Refused, bounds_of
from knollside.core.model.trials import Pull, PullStudy

MOST_BARS = 8  # on a plate
MOST_LEVELS = 8
_ROUNDS = 3
_WHERE = re.compile(r"[,;\s]+")


@dataclass(frozen=True)
class PlannedPlate:
    """One print: its ``number`` in the order of printing, the ``round`` it belongs to, which bars record as their
    print, its level, how many bars, standing or lying, and the ``lot`` their places are drawn by."""

    number: int
    round: int
    level: float
    bars: int
    standing: bool
    lot: int


def levels_of(text: str) -> tuple[float, ...]:
    """Levels as a person writes them, "226, 238 250". Raises :class:`Refused`."""
    found = []
    low, high = bounds_of(Pull, "level")
    for word in (w for w in _WHERE.split(text.strip()) if w):
        try:
            value = float(word)
        except ValueError:
            raise Refused(f"“{word}” is no level: write numbers with commas between, as 226, 238, 250.") from None
        if not low <= value <= high:
            raise Refused(f"{word} is no level: {low:g} to {high:g}.")
        found.append(value)
    made = tuple(sorted(set(found)))
    if not 2 <= len(made) <= MOST_LEVELS:
        raise Refused(f"A study compares two to {MOST_LEVELS} levels; these are {len(made)}.")
    return made


def planned(study: PullStudy, seed: int) -> tuple[PlannedPlate, ...]:
    """The plates of a study with levels, the same for the same ``seed`` (its number): rounds of every level, and of
    lying bars at the level all are held against, else the middle one. Nothing without levels."""
    if not study.levels:
        return ()
    rng = np.random.default_rng([seed, study.each, len(study.levels)])
    rounds = max(min(_ROUNDS, study.each), -(-study.each // MOST_BARS))
    lies = study.against if study.against in study.levels else study.levels[len(study.levels) // 2]
    out: list[PlannedPlate] = []
    for r in range(rounds):
        bars = study.each // rounds + (r < study.each % rounds)
        order = [(v, True) for v in study.levels] + [(float(lies or 0.0), False)]
        for k in rng.permutation(len(order)):
            level, standing = order[int(k)]
            out.append(PlannedPlate(len(out) + 1, r + 1, level, bars, standing, int(rng.integers(1, 1000))))
    return tuple(out)


def awaited(plates: Sequence[PlannedPlate], pulls: Sequence[Pull]) -> tuple[PlannedPlate, int] | None:
    """The first plate whose bars are not all recorded, with how many are; None once all are."""
    for p in plates:
        done = sum((q.run, q.level, q.standing) == (p.round, p.level, p.standing) for q in pulls)
        if done < p.bars:
            return p, done
    return None


def places(count: int, lot: int) -> tuple[int, ...]:
    """Which bar stands in each place from the left, drawn by ``lot``; in order for lot 0."""
    if lot == 0:
        return tuple(range(1, count + 1))
    return tuple(int(k) + 1 for k in np.random.default_rng(lot).permutation(count))
