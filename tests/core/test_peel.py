"""Force to take a support off: by hand, by integration of the same belief, and on printers of another law."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.stats import invgamma, norm

from knollside.core.lay.peel import Peel, learn_peel, newtons
from knollside.core.model import Range
from knollside.core.model.trials import SupportTrial
from knollside.sim.supports import some_supports


def felt(gap: float, force: float | None, **more: object) -> SupportTrial:
    told = {"gap_mm": gap, "outcome": "clean", "force_N": force, "roof_mm": (10.0, 20.0), "density": 0.15}
    return SupportTrial.model_validate(told | more)


def test_a_typical_support_is_peeled_by_its_front() -> None:
    """0.4 MPa over five deep and twelve wide, six tenths of it touching; half of it a tenth further off."""
    force = Peel().force(12 * 30, 12, 0.2, 0.15)
    assert force.value == pytest.approx(0.4 * 5 * 12 * 0.6) and force.source == "typical"
    assert Peel().force(12 * 30, 12, 0.3, 0.15).value == pytest.approx(force.value / 2)
    assert Peel().force(9.0, 3.0, 0.2, 0.5).value == pytest.approx(0.4 * 9)  # a spot smaller than its front
    assert Peel().force(400, 20, 0.0, 0.5).value <= 8 * 0.4 * 100 + 1e-9
    assert newtons(Range(33.8, 12.3, 338.0, "typical")) == "12 to 340 N (typical)"


def test_trials_move_level_and_fall_as_integration_says() -> None:
    """The same prior on a grid of level, fall and scatter, without the algebra of conjugates."""
    trials = [felt(0.14, 22.0), felt(0.2, 9.0), felt(0.3, 6.0)]
    front = 5 * 10 * 0.6
    level = np.linspace(-4, 1.5, 90)[:, None, None]
    fall = np.linspace(-2.2, 0.9, 80)[None, :, None]
    scatter2 = np.geomspace(0.01, 1.2, 60)[None, None, :]
    sd = np.sqrt(scatter2)
    log = invgamma.logpdf(scatter2, 2.0, scale=2.0 * 0.25**2) + np.log(scatter2)  # grid even in its log
    log = log + norm.logpdf(level, math.log(0.4), 0.45 / 0.25 * sd) + norm.logpdf(fall, -math.log(2), sd)
    for t in trials:
        assert t.force_N is not None
        log = log + norm.logpdf(math.log(t.force_N / front), level + fall * (t.gap_mm - 0.2) / 0.1, sd)
    w = np.exp(log - log.max())
    w /= w.sum()
    at = (level + fall * 0.6) * np.ones_like(w)
    middle = float((w * at).sum())
    peel = learn_peel(trials)
    assert peel.force(200, 10, 0.26, 0.15).value == pytest.approx(front * math.exp(middle), rel=0.01)
    # Nine in ten of the next one, without what another place adds: its spread is the grid's and the scatter's.
    spread = math.sqrt(float((w * (at - middle) ** 2).sum()) + float((w * scatter2).sum()))
    x = np.array([1.0, 0.6])
    told = peel.scatter * math.sqrt(1 + float(x @ np.array(peel.spread) @ x))
    told *= math.sqrt(peel.freedom / (peel.freedom - 2))
    assert peel.freedom == 7 and peel.trials == 3 and told == pytest.approx(spread, rel=0.02)


def test_what_cannot_tell_is_left_out() -> None:
    mute = [felt(0.2, None), felt(0.2, 300.0, outcome="welded"), felt(0.2, 5.0, roof_mm=None)]
    assert learn_peel(mute) == Peel()
    assert learn_peel([*mute, felt(0.2, 40.0)]).force(200, 10, 0.2, 0.15).source == "yours, 1 trial"


def held(rng: np.random.Generator, many: int, count: int) -> tuple[float, float, float]:
    """Of printers that obey another law: told within the range, above its high end, and its ends' ratio on average."""
    inside = above = wide = 0.0
    for _ in range(count):
        printer = some_supports(rng)
        roof = tuple(sorted(rng.uniform(8, 20, 2)))
        trials = [printer.tried(float(rng.uniform(0.1, 0.3)), rng, roof=roof) for _ in range(many)]
        short = float(rng.uniform(4, 40))
        long, gap, density = (
            short * float(rng.uniform(1, 3)),
            float(rng.uniform(0.12, 0.3)),
            float(rng.uniform(0.1, 0.3)),
        )
        force = learn_peel(trials).force(short * long, short, gap, density)
        true = printer.takes(gap, (short, long), density) * math.exp(0.25 * rng.standard_t(5))
        inside += force.low <= true <= force.high
        above += true > force.high
        wide += math.log(force.high / force.low)
    return inside / count, above / count, math.exp(wide / count)


def test_other_places_take_what_is_told_of_them_on_printers_of_another_law() -> None:
    """Width by a power, depth by a reach, halves or a power over the gap, heavy-tailed hands."""
    before, none = held(np.random.default_rng(1), 0, 300), held(np.random.default_rng(2), 4, 300)
    assert before[0] >= 0.86 and before[1] <= 0.05
    assert 0.87 <= none[0] <= 0.99 and none[1] <= 0.06
    assert none[2] < 0.6 * before[2]
