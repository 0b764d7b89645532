"""Rows of the table that are about what trials teach: pull tests, the support gap, the end of a print."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

Row = Callable[..., None]


def report(row: Row) -> None:
    _pulls(row)
    _gap(row)
    _ends(row)


def _pulls(row: Row) -> None:
    from core.test_pulls import study

    from knollside.core.learning.pulls import Verdict, studied

    for design, words in (("spread", "bars spread over four prints"), ("each", "a print for each level")):
        rng, wrong, right, fair, count = np.random.default_rng(11), 0, 0, 0, 500
        for k in range(count):
            true = np.array([1.0, *rng.choice([0.899, 0.88, 0.85, 0.95, 1.0], 3)])
            s = studied(study(rng, true, design, (4, 8, 12, 16)[k % 4]))
            at = {230 + 5 * j: v / max(true) for j, v in enumerate(true)}
            best = at[s.reference]
            wrong += any(c.verdict is Verdict.AS_STRONG and at[c.level] < 0.9 * best for c in s.claims)
            alike = [c for c in s.claims if at[c.level] >= 0.97 * best]
            fair += len(alike)
            right += sum(c.verdict is Verdict.AS_STRONG for c in alike)
        row(
            f"pull tests, {words}: studies with a wrong “as strong”; alike told so",
            f"{100 * wrong / count:.1f} %; {100 * right / fair:.0f} %",
            "at most 5 %",
        )


def _gap(row: Row) -> None:
    from core.test_supportgap import within_four

    count = 500
    within, wrong, tried = within_four(np.random.default_rng(12), count)
    row(
        "support gap settled within four trials; of all, truly under 0.7; trials on average",
        f"{100 * within / count:.0f} %; {100 * wrong / count:.0f} %; {tried / count:.1f}",
        "80 %",
    )


def _ends(row: Row) -> None:
    from core.test_watching import foretold

    words = []
    for share in (0.15, 0.4, 0.7):
        held, off, _ = foretold(np.random.default_rng(13), share, 2000)
        words.append(f"{100 * np.mean(held):.0f} % ({100 * np.mean(off):.1f} % off)")
    row("a print's end held, after 15, 40 and 70 % of it", ", ".join(words), "90 %")
