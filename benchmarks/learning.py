"""Rows of the table that are about what trials teach: pull tests, the support gap, the end of a print."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

Row = Callable[..., None]


def report(row: Row) -> None:
    _pulls(row)
    _gap(row)
    _peel(row)
    _dry_fits(row)
    _ends(row)
    _faults(row)
    _revisions(row)
    _search(row)


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


def _peel(row: Row) -> None:
    """Force of supports at other places than tried, on printers of another law; before trials and after four."""
    from core.test_peel import held

    told = [held(np.random.default_rng(22), many, 1000) for many in (0, 4)]
    row(
        "force to take a support off held, before any trial and after four; over the high end; ends apart",
        "; ".join(f"{100 * a:.0f} % ({100 * b:.1f} %, {c:.1f} times)" for a, b, c in told),
        "90 %",
    )


def _dry_fits(row: Row) -> None:
    """Prints that fit, aimed at the window before and after so many dry fits, by hands that want another one."""
    from core.test_dryfits import fitting

    words = []
    for off in (0.08, 0.15, 0.0):
        made = [fitting(np.random.default_rng(23), many, off, 200) for many in (3, 6)]
        shares = ", ".join(f"{100 * after:.0f}" for _, after in made)
        words.append(f"{100 * made[0][0]:.0f} › {shares} %")
    row("prints that fit before and after 3, 6 dry fits; window 0.08, 0.15, 0 mm elsewhere", "; ".join(words), "–")


def _ends(row: Row) -> None:
    from core.test_watching import foretold

    words = []
    for share in (0.15, 0.4, 0.7):
        held, off, _ = foretold(np.random.default_rng(13), share, 2000)
        words.append(f"{100 * np.mean(held):.0f} % ({100 * np.mean(off):.1f} % off)")
    row("a print's end held, after 15, 40 and 70 % of it", ", ".join(words), "90 %")


def _faults(row: Row) -> None:
    """Printers whose links and odds are not the program's; what the workshop knows in half of the cases."""
    from core.test_faults import diagnosed

    for factor, words in ((1.0, "as usual"), (3.0, "off by up to three")):
        hits, told = diagnosed(np.random.default_rng(21), factor, 4000)
        shares = np.array(told)
        off = []
        for low in (0.05, 0.2, 0.4, 0.6, 0.8):
            mine = shares[(shares[:, 0] >= low) & (shares[:, 0] < low + 0.2)]
            off.append(100 * (mine[:, 1].mean() - mine[:, 0].mean()))
        row(
            f"the cause among the first two after three questions, odds {words}; odds off by, in fifths from 5 %",
            f"{100 * hits / 4000:.0f} %; {', '.join(f'{v:+.1f}' for v in off)} points",
            "85 %; 5 points",
        )


def _revisions(row: Row) -> None:
    from revisions import score

    total, right, wrong, _ = score(30, 31)
    row(
        "features of 30 pairs of revised parts carried right; to a wrong face",
        f"{100 * right / total:.1f} %; {wrong}",
        "95 %; 0",
    )


def _search(row: Row) -> None:
    """5,000 prints with words of their own; the slowest of many searches, against looking through every print."""
    import time

    from core.test_record import kept

    from knollside.core.job.record import words_of
    from knollside.store.search import PrintSearch

    rng = np.random.default_rng(5)
    words = ["".join(rng.choice(list("abcdefghijklmnopqrstuvwxyz"), 7)) for _ in range(3000)]
    rows = [(k, words_of(kept(1 + k % 28, why=" ".join(rng.choice(words, 30)))) + f" n{k}") for k in range(5000)]
    index = PrintSearch()
    begun = time.perf_counter()
    index.begin(0, rows)
    index.go_on()
    made = time.perf_counter() - begun
    slowest = peer = 0.0
    for typed in (*words[:60], "trellis", "238 petg", '"old tom"', "good", "a"):
        begun = time.perf_counter()
        index.find(typed)
        slowest = max(slowest, time.perf_counter() - begun)
        begun = time.perf_counter()
        want = typed.lower().replace('"', "").split()
        [k for k, text in rows if all(w in text.lower() for w in want)]
        peer = max(peer, time.perf_counter() - begun)
    row(
        "slowest search of 5,000 prints; a plain look through all; making the index",
        f"{1000 * slowest:.0f} ms; {1000 * peer:.0f} ms; {1000 * made:.0f} ms",
        "50 ms",
    )
