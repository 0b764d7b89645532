"""What lies behind a print that went wrong: the odds of each cause, and the test that tells most for its minutes.

Noisy-OR from causes to symptoms (Pearl 1988), every single cause and every pair of two enumerated, and one more that
stands for whatever is not in the list. Odds are typical, moved by what is known of the workshop, and by the printer's
own cases (counts on top of the typical ones). A test is worth, per minute, the expected drop in entropy and how far it
is expected to bring the right cause among the first two.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from knollside.core.learning.faultnet import CAUSES, OTHER, OTHER_SHOWS, PAIRS, TOLD, UNCALLED
from knollside.core.learning.faulttests import TESTS
from knollside.core.model import Array
from knollside.core.model.faults import Cause, FaultCase, FaultTest, Symptom

AS_CASES = 20.0  # cases of its own after which a printer's odds count as much as the typical ones
BEGIN = 10.0  # minutes to begin any test
CURES, CURES_HALF, CURES_NOT = 0.85, 0.5, 0.08  # a cure helps: its cause alone, one of two, another cause
ENOUGH = 0.8
FIRST_TWO = 10.0  # bits that it is worth to have the right cause among the first two
LOOK = 2.0  # minutes to look at a print again
AT_ONCE = 5  # symptoms to look for in one look
AMISS = 0.03  # of closer looks see what is not there, or not what is

Look = tuple[Symptom, ...]  # a closer look whether these are there
Ask = FaultTest | Look

_CAUSES, _SYMPTOMS = tuple(Cause), tuple(Symptom)
_N = len(_CAUSES)


@dataclass(frozen=True)
class Believed:
    """``causes`` with their odds (shares, the greatest first; two at once count in both); ``other``: none of them;
    ``pair``: the likeliest two at once with its share; ``asks``: tests not made yet and a closer
    look, with what they are worth per minute, the best first."""

    causes: tuple[tuple[Cause, float], ...]
    other: float
    pair: tuple[Cause, Cause, float] | None
    asks: tuple[tuple[Ask, float], ...]

    @property
    def best(self) -> tuple[Cause, float]:
        return self.causes[0]

    @property
    def settled(self) -> bool:
        return self.causes[0][1] >= ENOUGH

    def share(self, cause: Cause) -> float:
        return dict(self.causes)[cause]


@lru_cache(maxsize=1)
def _sets() -> Array:
    """Every set of causes believed in, (h, n): none of the list, one, two."""
    i, j = np.triu_indices(_N, 1)
    out = np.zeros((1 + _N + len(i), _N))
    out[1 + np.arange(_N), np.arange(_N)] = 1
    rows = 1 + _N + np.arange(len(i))
    out[rows, i] = out[rows, j] = 1
    return out


@lru_cache(maxsize=1)
def _shows() -> Array:
    """Chance that a symptom is there, for every set of causes, (h, symptoms)."""
    link = np.array([[CAUSES[c].shows.get(s, 0.0) for s in _SYMPTOMS] for c in _CAUSES])
    out = 1 - (1 - UNCALLED) * np.exp(_sets() @ np.log1p(-link))
    out[0] = OTHER_SHOWS
    return np.asarray(out)


@lru_cache(maxsize=64)
def _said(test: FaultTest) -> Array:
    """Chance of each answer of a test, the one that is left last, for every set of causes, (h, answers).

    Whatever tells something first: no answer but the last where neither a cause of the set nor chance gives one; else
    in proportion to what each of them gives."""
    facts = TESTS[test]
    link = np.array([[a.get(c, 0.0) for a in facts.answers.values()] for c in _CAUSES])
    base = np.full(link.shape[1], facts.base / link.shape[1])
    none = (1 - facts.base) * np.exp(_sets() @ np.log1p(-np.minimum(link.sum(axis=1), 0.98)))
    each = _sets() @ link + base
    each = each / each.sum(axis=1, keepdims=True)
    return np.asarray(np.column_stack([(1 - none)[:, None] * each, none]))


def odds_of(cases: Iterable[FaultCase]) -> dict[Cause, float]:
    """Shares of causes for a printer: the typical ones, and its own closed cases where a cure helped."""
    counts = dict.fromkeys(_CAUSES, 0)
    for case in cases:
        if case.helped is not None:
            counts[case.helped] += 1
    n, total = sum(counts.values()), sum(CAUSES[c].odds for c in _CAUSES)
    return {c: (AS_CASES * CAUSES[c].odds / total + counts[c]) / (AS_CASES + n) for c in _CAUSES}


def _prior(odds: Mapping[Cause, float]) -> Array:
    """Of every set, (h,): two at once as often as their odds say, together in PAIRS of cases."""
    p = np.array([max(odds[c], 1e-9) for c in _CAUSES])
    p = p / p.sum()
    i, j = np.triu_indices(_N, 1)
    two = p[i] * p[j]
    two = PAIRS * two / two.sum()
    return np.asarray(np.concatenate([[OTHER], (1 - PAIRS) * (1 - OTHER) * p, (1 - OTHER) * two]))


def _posterior(case: FaultCase, odds: Mapping[Cause, float]) -> Array:
    log = np.log(_prior(odds))
    shows, sets = _shows(), _sets()
    seen = np.zeros(len(log))
    for k, s in enumerate(_SYMPTOMS):
        if s in case.lacking:
            seen += np.log(1 - _close(shows[:, k]))
        elif s in case.seen:
            seen += np.log(shows[:, k])
        else:
            seen += np.log(1 - TOLD * shows[:, k])
    # A test that was made twice tells what it told last.
    for test, answer in {a.test: a.answer for a in case.answers}.items():
        words = TESTS[test].words
        if answer in words:
            seen += np.log(_said(test)[:, words.index(answer)])
    for cause, helped in {c.cause: c.helped for c in case.cures if c.back is None}.items():
        if helped is not None:
            has, many = sets[:, _CAUSES.index(cause)] > 0, sets.sum(axis=1) > 1
            p = np.where(has, np.where(many, CURES_HALF, CURES), CURES_NOT)
            seen += np.log(p if helped else 1 - p)
    log = log + seen
    out = np.exp(log - log.max())
    return np.asarray(out / out.sum())


def believed(case: FaultCase, odds: Mapping[Cause, float] | None = None) -> Believed:
    """What is believed of a case with these odds of causes (see :func:`odds_of`; typical where None)."""
    p = _posterior(case, odds_of(()) if odds is None else odds)
    one = p @ _sets()
    order = np.argsort(-one, kind="stable")
    pairs = p[1 + _N :]
    i, j = np.triu_indices(_N, 1)
    k = int(np.argmax(pairs))
    pair = (_CAUSES[i[k]], _CAUSES[j[k]], float(pairs[k])) if pairs[k] > 0.05 else None
    return Believed(tuple((_CAUSES[n], float(one[n])) for n in order), float(p[0]), pair, tuple(_worth(p, case)))


def _worth(p: Array, case: FaultCase) -> list[tuple[Ask, float]]:
    """Bits that each question not asked yet is expected to tell, per minute with its beginning, the best first."""
    made = {a.test for a in case.answers}
    out: list[tuple[Ask, float]] = [
        (t, _tells(p, _said(t)) / (TESTS[t].minutes + BEGIN)) for t in FaultTest if t not in made
    ]
    look = _look(p, case)
    if look is not None:
        out.append((look[0], look[1] / (LOOK + BEGIN)))
    return sorted(out, key=lambda a: -a[1])


def _close(there: Array) -> Array:
    """Chance that a closer look sees what is there with this chance."""
    return AMISS + (1 - 2 * AMISS) * there


def _look(p: Array, case: FaultCase) -> tuple[Look, float] | None:
    """The symptoms that are worth a closer look together, and the bits it tells."""
    shows, found = _shows(), []
    for k, s in enumerate(_SYMPTOMS):
        if s not in case.seen and s not in case.lacking:
            there = _close(shows[:, k] * (1 - TOLD) / (1 - TOLD * shows[:, k]))
            found.append((_tells(p, np.column_stack([there, 1 - there])), s, there))
    found = sorted(found, key=lambda f: -f[0])[:AT_ONCE]
    if not found:
        return None
    joint = np.ones((len(p), 1))
    for _, _, there in found:
        joint = np.column_stack([joint * there[:, None], joint * (1 - there[:, None])])
    return tuple(s for _, s, _ in found), _tells(p, joint)


def _tells(p: Array, answers: Array) -> float:
    """What an answer with these chances (h, k) is worth to odds ``p`` (h,): the expected drop of their entropy in bits,
    and the expected rise of what the two first causes have."""
    each, joint, sets = p @ answers, p[:, None] * answers, _sets()
    after = each * _entropy(joint / np.maximum(each, 1e-300))
    first = np.sort(joint.T @ sets, axis=1)[:, -2:].sum() - np.sort(p @ sets)[-2:].sum()
    return float(_entropy(p[:, None])[0] - after.sum() + FIRST_TWO * first)


def _entropy(p: Array) -> Array:
    """Bits, of each column."""
    return np.asarray(-(p * np.log2(np.maximum(p, 1e-300))).sum(axis=0))
