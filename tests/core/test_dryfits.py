"""Windows of fit classes moved by dry fits: by drawing at random, and by hands and printers that are not the model."""

from __future__ import annotations

import math
from datetime import datetime

import numpy as np
import pytest
from scipy.stats import norm

from knollside.core.fit.correction import correct
from knollside.core.fit.dryfit import Guide, Try, tries
from knollside.core.fit.dryfits import foretold_gap, learn_windows
from knollside.core.fit.windows import CLASSES
from knollside.core.model import Feature, Mate, Measurement
from knollside.core.model.fitchecks import FitCheck

AT = datetime(2026, 11, 29)
WINDOW = CLASSES["slide"]


def check(told: str, gap: float, **more: object) -> FitCheck:
    told_ = {"mate": "hole-1", "at": AT, "moved": "by itself", "told": told, "fit": "slide", "gap_mm": gap}
    return FitCheck.model_validate(told_ | more)


def test_one_that_bound_moves_the_lower_edge_as_bayes_rule_says() -> None:
    """Drawn at random instead of on a grid: both edges, what is common to the printer's gaps, one measured gap."""
    checks = [check("binds", 0.24), check("fits", 0.3, doubt_mm=0.04), check("binds", 0.9, measured_mm=0.2)]
    rng = np.random.default_rng(5)
    n = 400_000
    both = rng.multivariate_normal([0, 0], [[1, 0.5], [0.5, 1]], n) * 0.10 + np.array(WINDOW)
    low, high = both[:, 0], both[:, 1]
    z = rng.standard_normal(n)
    weight = (high - low >= 0.03).astype(float)
    for told, gap, common, own in (
        ("b", 0.24, 0.05, 0.05),
        ("f", 0.3, 0.04, 0.04),
        ("b", 0.2, 0.0, 0.03 * math.sqrt(2)),
    ):
        sd = math.hypot(own / math.sqrt(2), 0.02)
        at = gap + z * common / math.sqrt(2)
        below = norm.cdf((low - at) / sd)
        of = below if told == "b" else np.maximum(norm.cdf((high - at) / sd) - below, 0)
        weight = weight * (0.94 * of + 0.02)
    learned = learn_windows(CLASSES, (), checks)["slide"]
    assert learned.low.value == pytest.approx(float(np.average(low, weights=weight)), abs=0.003)
    assert learned.high.value == pytest.approx(float(np.average(high, weights=weight)), abs=0.003)
    assert learned.low.value > WINDOW[0] + 0.02 and learned.low.source == "yours, 3 dry fits"


def test_a_typed_window_stays_and_what_tells_nothing_is_left_out() -> None:
    bound = [check("binds", 0.3)] * 4
    assert learn_windows(CLASSES, ("slide",), bound) == {}
    mute = [check("", 0.3), check("binds", 0.3, fit=""), check("binds", 0.3).model_copy(update={"gap_mm": None})]
    assert learn_windows(CLASSES, (), mute) == {}
    assert set(learn_windows(CLASSES, (), [*bound, check("fits", 0.5, fit="free")])) == {"slide", "free"}


def test_thousands_of_dry_fits_that_disagree_still_give_a_window() -> None:
    many = [check(told, gap) for told in ("binds", "fits", "rattles") for gap in (0.1, 0.25, 0.4)] * 220
    learned = learn_windows({"slide": WINDOW}, (), many)["slide"]
    assert 0 < learned.ends[0] < learned.ends[1] < 0.7 and learned.tried == len(many)


def fitting(rng: np.random.Generator, many: int, off: float, count: int) -> tuple[float, float]:
    """The share of prints aimed at the window's middle that fit, before and after so many dry fits. Hands want another
    window, up to ``off`` elsewhere; a printer's gaps are off together; one of twenty is told at random."""
    before = after = 0.0
    for _ in range(count):
        low = WINDOW[0] + float(rng.uniform(-off, off))
        high = low + float(rng.uniform(0.1, 0.3)) if off else WINDOW[1]
        bias, checks, aim = float(rng.normal(0, 0.035)), [], sum(WINDOW) / 2
        for _ in range(many):
            mid = aim if rng.random() < 0.6 else float(rng.uniform(0.05, 0.45))
            gap = mid + bias + float(rng.normal(0, 0.035)) + float(rng.logistic(0, 0.012))
            told = "binds" if gap < low else "rattles" if gap > high else "fits"
            if rng.random() < 0.05:
                told = str(rng.choice(["binds", "fits", "rattles"]))
            checks.append(check(told, mid))
            aim = sum(learn_windows({"slide": WINDOW}, (), checks)["slide"].ends) / 2
        prints = bias + rng.normal(0, 0.035, 100)
        for share, at in ((0, sum(WINDOW) / 2), (1, aim)):
            fits = float(((at + prints > low) & (at + prints < high)).mean())
            before, after = (before + fits, after) if share == 0 else (before, after + fits)
    return before / count, after / count


def test_dry_fits_make_the_next_print_fit_where_hands_want_another_window() -> None:
    before, after = fitting(np.random.default_rng(1), 4, 0.08, 80)
    assert after > before + 0.06 and after > 0.85
    # Where the typical window is right they do no harm.
    before, after = fitting(np.random.default_rng(2), 4, 0.0, 60)
    assert after > before - 0.02


def hole(d: float) -> Feature:
    return Feature("hole-1", "hole", (0, 0, 0), (0, 0, 1), np.zeros(0, int), diameter=d, length=10, sweep=360)


def test_the_foretold_gap_is_on_the_scale_of_the_window() -> None:
    """A rod of 8 in a hole drawn 8.4 by a printer that makes holes 0.2 small: 0.2 of gap, or 0.25 once corrected."""
    readings = [Measurement(kind="hole", drawn=d, printed=d - 0.2, axis="upright") for d in (4, 6, 8, 10, 12, 20)] * 3
    m = Mate(feature="hole-1", hardware="rod 8 mm", fit="slide")
    c = correct(hole(8.4), m, (0, 0, 1), readings)
    assert foretold_gap(c, m, CLASSES, False) == pytest.approx(0.2, abs=0.01)
    assert foretold_gap(c, m, CLASSES, True) == pytest.approx(0.25, abs=0.01)
    thing = Mate(feature="hole-1", size_mm=7.8, tolerance_mm=0.1, fit="slide")
    c = correct(hole(8.4), thing, (0, 0, 1), readings)
    assert foretold_gap(c, thing, CLASSES, False) == pytest.approx(8.2 - 7.9, abs=0.01)
    # A peg of 8 in a hole of 40 is no fit at all, and is not kept as one.
    far = correct(hole(40.0), m, (0, 0, 1), readings)
    assert foretold_gap(far, m, CLASSES, False) is None
    lying = correct(hole(8.4), m, (1, 0, 0), readings)
    assert foretold_gap(lying, m, CLASSES, False) is None
    screw = Mate(feature="hole-1", hardware="M8")
    assert foretold_gap(correct(hole(8.4), screw, (0, 0, 1), readings), screw, CLASSES, False) is None


def tried(fit: str, grams: float) -> Try:
    m = Mate(feature="hole-1", hardware="rod 8 mm", fit=fit)  # type: ignore[arg-type]
    return tries((m,), {"hole-1": Guide(grams)}, {})[0]


def test_what_it_did_says_where_its_gap_lies() -> None:
    heavy, light, slide = tried("free", 400.0), tried("free", 1.0), tried("slide", 400.0)
    assert [heavy.told(how) for how in heavy.outcomes] == ["fits", "binds", "binds", "rattles"]
    # Too light to drop whatever its gap, a push says nothing against it.
    assert light.told("with a push") == slide.told("with a push") == "fits"
    assert tries((Mate(feature="h", hardware="M5"),), {}, {})[0].told("not at all") == ""
