"""Breaks against what was foretold: the next one held, on printers that are not the prior's; what it does to limits."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from knollside.core.job.file import Printed
from knollside.core.job.stated import Stated, learned_cards
from knollside.core.learning.breaks import BIAS, ENOUGH, MODES, SCATTER, counted, held, log_ratio, model_of
from knollside.core.material.allowables import MODEL_DOUBT, allowables, as_printed, combine
from knollside.core.material.cards import material
from knollside.core.model import BreakTest, DeflectionLoad, ForceLoad, LoadCase, Range, Surroundings

PLAIN = LoadCase(name="push", loads=(ForceLoad(at=(0, 0, 0), force_N=(0, 0, -10)),))


def test_the_predictive_is_students_t_by_integration() -> None:
    """The posterior over mean and spread summed on a grid, another way than the closed form."""
    logs = np.array([-0.2, -0.05, -0.31, -0.12])
    mean, sigma = np.meshgrid(np.linspace(-1.5, 1.2, 500), np.geomspace(0.02, 1.5, 500), indexing="ij")
    square = sigma**2
    kappa = (SCATTER / BIAS) ** 2
    log = stats.norm.logpdf(mean, 0, sigma / math.sqrt(kappa))
    log += stats.invgamma.logpdf(square, 1.5, scale=1.5 * SCATTER**2) + np.log(square)  # even steps of log sigma
    for v in logs:
        log += stats.norm.logpdf(v, mean, sigma)
    weight = np.exp(log - log.max())
    weight /= weight.sum()
    factor = model_of(logs).factor
    for end, share in ((factor.low, 0.05), (factor.value, 0.5), (factor.high, 0.95)):
        assert float((weight * stats.norm.cdf(math.log(end), mean, sigma)).sum()) == pytest.approx(share, abs=0.004)


@pytest.mark.parametrize(("bias", "scatter"), [("normal", (0.15, 0.15)), ("even", (0.06, 0.25)), ("low", (0.1, 0.2))])
def test_the_next_break_is_in_the_range_in_nine_of_ten_after_six(bias: str, scatter: tuple[float, float]) -> None:
    rng, held = np.random.default_rng(6), []
    for _ in range(1500):
        of = {"normal": rng.normal(0, 0.2), "even": rng.uniform(-0.4, 0.3), "low": rng.normal(-0.25, 0.1)}[bias]
        spread, heavy = rng.uniform(*scatter), rng.random() < 0.3
        x = of + spread * (rng.standard_t(4, 7) / 1.41 if heavy else rng.normal(0, 1, 7))
        f = model_of(list(x[:6])).factor
        held.append(math.log(f.low) <= x[6] <= math.log(f.high))
    assert 0.87 <= np.mean(held) <= 0.94


def broke(load: float, predicted: float = 100.0, mode: str = "along a layer", basis: float | None = None) -> BreakTest:
    return BreakTest.model_validate({"mode": mode, "load_N": load, "predicted_N": predicted, "basis": basis})


def test_a_break_foretold_with_another_strength_counts_as_it_would_be_foretold_now() -> None:
    assert log_ratio(broke(80), 20.0) == pytest.approx(math.log(0.8))
    # Foretold with 30 MPa, now 20 would be used: 100 N would have been 67, and 80 is more than that.
    assert log_ratio(broke(80, basis=30.0), 20.0) == pytest.approx(math.log(80 / (100 * 20 / 30)))
    unbroken = [BreakTest(mode="did not break", load_N=50.0, predicted_N=40.0)]
    assert not any(f(unbroken, mode, 20.0) for f in (counted, held) for mode in MODES)
    assert log_ratio(BreakTest(mode="along a layer", load_N=50.0), 20.0) is None


def test_limits_are_what_breaks_leave_of_them() -> None:
    typical = learned_cards({}, ())["PETG"]
    prints = tuple(Printed(material="PETG", broke=broke(v)) for v in (78.0, 84.0, 80.0, 83.0, 79.0, 82.0))
    card = learned_cards({}, prints)["PETG"]
    before, after = (allowables(c, Surroundings(), PLAIN) for c in (typical, card))
    model = model_of([math.log(v / 100) for v in (78, 84, 80, 83, 79, 82)]).factor
    assert after.interlayer == pytest.approx(before.interlayer * model.value)
    assert after.interlayer_spread == pytest.approx((model.low / model.value, model.high / model.value))
    assert after.interlayer_spread[0] > before.interlayer_spread[0]  # six that agree narrow it
    assert (after.tension, after.in_plane_spread) == (before.tension, before.in_plane_spread)
    assert card.basis[0] == pytest.approx(typical.basis[0] * model.value) and card.basis[1] == typical.basis[1]
    # Heat and time come on top of it, and off again for a break now.
    hot = allowables(card, Surroundings(temperature_c=45), PLAIN)
    steps = [s.factor for s in hot.knock_downs]
    assert hot.interlayer_spread == pytest.approx(combine([model, *steps])[1:])
    assert as_printed(hot).interlayer == pytest.approx(after.interlayer)
    # Judged by strain, breaks under a load say nothing.
    snap = LoadCase(name="snap", loads=(DeflectionLoad(at=(0, 0, 0), deflection_mm=(0, 0, 1)),))
    assert snap.bends and allowables(card, Surroundings(), snap).model_along is None


def test_one_break_moves_the_middle_and_narrows_nothing() -> None:
    typical = material("PETG")
    one = learned_cards({}, (Printed(material="PETG", broke=broke(60.0)),))["PETG"].model_along
    _, low, high = combine([typical.pull, typical.bond, Range(1.0, 1 - MODEL_DOUBT, 1 + MODEL_DOUBT)])
    assert 0.6 < one.value < 1 and one.low <= one.value * low + 1e-12 and one.high >= one.value * high - 1e-12
    across = learned_cards({}, (Printed(material="PETG", broke=broke(60.0, mode="across the layers")),))["PETG"]
    assert across.model_along is None and across.model_across is not None


def test_a_break_that_fits_nothing_is_named_and_a_change_widens() -> None:
    logs = [-0.1, -0.05, -0.12, -0.08, 0.9]
    assert model_of(logs).odd == (4,) and model_of(logs[:4]).odd == () and ENOUGH == 3
    plain, changed = model_of(logs[:4]).factor, model_of(logs[:4], [1] * 4).factor
    assert changed.low < plain.low and changed.value == plain.value
    assert model_of(logs[:4], [1, 1, 1, 0]).factor == plain and model_of([]) is None


def test_the_record_of_a_printer_reaches_the_card() -> None:
    prints = tuple(Printed(material="PETG", broke=broke(v)) for v in (70.0, 72.0, 69.0))
    assert Stated(prints=prints).card.model_along.source == "yours, 3 breaks"
    assert Stated(prints=prints, material="PLA").card.model_along is None


def test_a_part_that_held_without_a_word_changes_nothing_and_one_that_held_much_does() -> None:
    """The quadrature against the closed form (one that held nothing to speak of), and against sampling (SciPy)."""
    logs = [-0.2, -0.05, -0.3]
    plain, with_one = model_of(logs).factor, model_of(logs, (), [-6.0]).factor
    assert with_one.source == "yours, 3 breaks, 1 held"
    for end in ("low", "value", "high"):
        assert getattr(with_one, end) == pytest.approx(getattr(plain, end), rel=0.01)
    # By weighted draws from the prior: sigma squared inverse gamma, mean normal given it, one held at 1.3 times.
    rng = np.random.default_rng(1)
    sigma = np.sqrt(stats.invgamma.rvs(1.5, scale=1.5 * SCATTER**2, size=2_000_000, random_state=rng))
    mean = rng.normal(0, sigma * BIAS / SCATTER)
    weight = np.prod([stats.norm.pdf(v, mean, sigma) for v in logs], axis=0) * stats.norm.sf(math.log(1.3), mean, sigma)
    drawn = rng.choice(len(mean), 60_000, p=weight / weight.sum())
    low, middle, high = np.exp(np.quantile(rng.normal(mean[drawn], sigma[drawn]), (0.05, 0.5, 0.95)))
    made = model_of(logs, (), [math.log(1.3)]).factor
    assert (made.low, made.value, made.high) == pytest.approx((low, middle, high), rel=0.02)


def test_parts_that_held_are_counted_where_only_the_weak_ones_break() -> None:
    """Pushed up to 0.95 of what was foretold: only the weaker ones break. Leaving out those that held, the middle comes
    out near a tenth too low; with them it is true, and nine in ten of the next hold. Truths have heavy tails."""
    rng = np.random.default_rng(5)
    off, off_with, inside, n = [], [], 0, 0
    for _ in range(150):
        bias, scatter = rng.uniform(-0.25, 0.25), rng.uniform(0.06, 0.2)
        true = bias + scatter * rng.standard_t(5, 9) * 0.77
        broke_at, held_at = [v for v in true[:8] if v < -0.05], [-0.05 for v in true[:8] if v >= -0.05]
        if not broke_at or not held_at:
            continue
        made = model_of(broke_at, (), held_at).factor
        off.append(math.log(model_of(broke_at).factor.value) - bias)
        off_with.append(math.log(made.value) - bias)
        inside += made.low <= math.exp(true[8]) <= made.high
        n += 1
    assert np.mean(off) < -0.07 and abs(np.mean(off_with)) < 0.03 and 0.86 <= inside / n <= 0.98


def test_what_held_reaches_the_card_in_the_mode_that_was_foretold() -> None:
    held_ = BreakTest(mode="did not break", load_N=150.0, predicted_N=100.0, foretold_mode="along a layer")
    card = learned_cards({}, tuple(Printed(material="PETG", broke=held_) for _ in range(3)))["PETG"]
    assert card.model_along.value > 1.2 and card.model_along.source == "yours, 3 held" and card.model_across is None
    # Pushed with less than half of it, or with no word of how it was to break, it tells nothing.
    for change in ({"load_N": 40.0}, {"foretold_mode": None}):
        quiet = Printed(material="PETG", broke=held_.model_copy(update=change))
        assert learned_cards({}, (quiet,))["PETG"].model_along is None
