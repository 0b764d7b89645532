"""Breaks on purpose held against what was foretold: how far the model is off on this printer, and how it varies.

Log of the load it broke at over the foretold one: normal with unknown mean and spread (normal and inverse gamma, Gelman
et al., *Bayesian Data Analysis*, 3); what the next part breaks at is the posterior predictive, Student's t. The prior
is a bias of 0.20 and a scatter of 0.15, together the 0.25 that is typical. A part that held tells that its own ratio is
higher than what it was pushed with (censored, ibid. 8.7): the same posterior by quadrature.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.special import stdtrit
from scipy.stats import norm

from knollside.core.learning.bond import JUMP
from knollside.core.material.allowables import TYPICAL_MODEL, combine
from knollside.core.material.cards import Material
from knollside.core.model import BreakTest, Range

BIAS, SCATTER = 0.20, 0.15  # of the log: typical
_TELLS = math.log(0.5)  # a part that held less than half of what was foretold tells nothing
_WORTH = 3.0  # tests that the prior's scatter is worth
_ODD = 0.99  # chance outside which a break is named
ENOUGH = 3  # breaks from which the learned range stands alone
NEAR = 3.0  # mm within which a break is where it was foretold

MODES = ("along a layer", "across the layers")
_REASON = {
    ("along a layer", False): "layers bond less than the card says; cold, much fan or water. Pull bars would tell",
    ("along a layer", True): "layers bond better than the card says. Pull bars would make it yours",
    ("across the layers", False): "walls or flow are thinner than set, or the plastic is weaker. Weigh the part",
    ("across the layers", True): "the plastic is stronger than the card says. Lying bars would make it yours",
}


@dataclass(frozen=True)
class Model:
    """``factor`` by which parts break at more or less than foretold, nine in ten of the next one; of so many
    ``breaks`` and parts that ``held``; the numbers of breaks that fit nothing."""

    factor: Range
    breaks: int
    odd: tuple[int, ...] = ()
    held: int = 0


def bases_of(card: Material) -> tuple[float, float]:
    """MPa of the card's own strength that breaks are held against: along a layer, across the layers."""
    return card.pull.value * card.bond.value, card.pull.value


def log_ratio(test: BreakTest, basis: float) -> float | None:
    """Log of broke at over foretold, as it would be foretold now with a strength of ``basis`` MPa; None where a break
    has no load or nothing was foretold of it."""
    if not test.load_N or not test.predicted_N:
        return None
    then = test.basis if test.basis is not None else basis
    return math.log(test.load_N / test.predicted_N * then / basis)


def counted(tests: Sequence[BreakTest], mode: str, basis: float) -> list[tuple[int, float]]:
    """Breaks of a mode that count, by their places in the list, each with its :func:`log_ratio`."""
    told = ((k, log_ratio(t, basis)) for k, t in enumerate(tests) if t.mode == mode)
    return [(k, v) for k, v in told if v is not None]


def held(tests: Sequence[BreakTest], mode: str, basis: float) -> list[tuple[int, float]]:
    """Parts that held, of which it was foretold that they break in a mode, as in :func:`counted`: their own ratio is
    higher. One that was pushed with less than half of what was foretold tells nothing."""
    told = (
        (k, log_ratio(t, basis)) for k, t in enumerate(tests) if t.mode == "did not break" and t.foretold_mode == mode
    )
    return [(k, v) for k, v in told if v is not None and v > _TELLS]


def model_of(logs: Sequence[float], changes: Sequence[int] = (), above: Sequence[float] = ()) -> Model | None:
    """What breaks of one mode say, and parts that held (``above``: the logs that theirs are higher than); None without
    any. ``changes``: for each, how many changes of the printer came after it; where all are from before one, its jump
    is in the range."""
    n = len(logs)
    if not n and not above:
        return None
    low, value, high = _next(logs, above)
    jump = 1.645 * JUMP * math.sqrt(min(changes)) if changes else 0.0
    down, up = (math.hypot(v, jump) for v in (value - low, high - value))
    said = [f"{n} break{'s' if n > 1 else ''}"] if n else []
    said += [f"{len(above)} held"] if above else []
    factor = Range(math.exp(value), math.exp(value - down), math.exp(value + up), f"yours, {', '.join(said)}")
    odd = []
    for k in range(n if n > ENOUGH else 0):
        middle, _, free, wide = _predictive([v for j, v in enumerate(logs) if j != k])
        if abs(logs[k] - middle) > float(stdtrit(free, 0.5 + _ODD / 2)) * wide:
            odd.append(k)
    return Model(factor, n, tuple(odd), len(above))


def with_model(card: Material, tests: Sequence[BreakTest], changes: Sequence[int]) -> Material:
    """The card with what its breaks say of the model, along a layer and across the layers; under three breaks of a mode
    no narrower than what is typical of it."""
    made: list[Range | None] = []
    for mode, basis, parts in zip(MODES, bases_of(card), ((card.pull, card.bond), (card.pull,)), strict=True):
        logs, more = counted(tests, mode, basis), held(tests, mode, basis)
        ages = [changes[k] for k, _ in (*logs, *more)]
        model = model_of([v for _, v in logs], ages, [v for _, v in more])
        if model is not None and model.breaks < ENOUGH:
            _, low, high = combine([*parts, TYPICAL_MODEL])
            f = model.factor
            model = replace(
                model, factor=Range(f.value, min(f.low, f.value * low), max(f.high, f.value * high), f.source)
            )
        made.append(None if model is None else model.factor)
    return replace(card, model_along=made[0], model_across=made[1])


def disagreement(tests: Sequence[BreakTest], card: Material) -> tuple[str, ...]:
    """What breaks say against what was foretold, each with the likeliest reason; nothing while they agree.

    A mode disagrees where nine in ten of its next breaks leave out 1, or its middle is off by more than a fifth with
    three breaks or more; a place where it was missed by more than 3 mm in two of the last three."""
    out = []
    for mode, basis in zip(MODES, bases_of(card), strict=True):
        logs = counted(tests, mode, basis)
        model = model_of([v for _, v in logs], (), [v for _, v in held(tests, mode, basis)])
        if model is None or model.breaks < ENOUGH:
            continue
        f = model.factor
        if f.low > 1 or f.high < 1 or abs(math.log(f.value)) > math.log(1.2):
            out.append(f"Broken {mode}, parts hold {f.value:.2f} of what was foretold: {_REASON[mode, f.value > 1]}.")
        out += [
            f"A break at {tests[logs[k][0]].load_N:.0f} N fits nothing else: a flaw, a slip, or another load case?"
            for k in model.odd
        ]
    placed = [t.astray for t in tests if t.astray is not None][-3:]
    missed = [d for d in placed if d > NEAR]
    if len(missed) >= 2:
        out.append(
            f"It broke {max(missed):.0f} mm from the foretold place: a seam, a void or a notch there, or it is pushed "
            "elsewhere than Duty says."
        )
    return tuple(out)


def _next(logs: Sequence[float], above: Sequence[float]) -> tuple[float, float, float]:
    """Fifth, fiftieth and 95th percentile of the next log ratio."""
    if not above:
        value, half, _, _ = _predictive(logs)
        return value - half, value, value + half
    # Over the mean in sigmas of its prior and the log of sigma: the posterior's weights, and a mixture of normals.
    sigma = np.geomspace(0.02, 1.2, 60)[:, None]
    mean = np.linspace(-1.6, 1.6, 321)[None]
    told = -(_WORTH + 1) * np.log(sigma) - _WORTH * SCATTER**2 / (2 * sigma**2)  # inverse gamma, with d log sigma
    told = told + np.log(sigma) + norm.logpdf(mean, 0.0, sigma * BIAS / SCATTER)
    for v in logs:
        told = told + norm.logpdf(v, mean, sigma)
    for v in above:
        told = told + norm.logsf(v, mean, sigma)
    weight = np.exp(told - told.max())
    weight /= weight.sum()
    grid = np.linspace(-2.5, 2.5, 1001)
    below = np.array([float((weight * norm.cdf(g, mean, sigma)).sum()) for g in grid])
    low, value, high = (float(np.interp(q, below, grid)) for q in (0.05, 0.5, 0.95))
    return low, value, high


def _predictive(logs: Sequence[float]) -> tuple[float, float, float, float]:
    """Middle, half of nine in ten, degrees of freedom and scale of the next log ratio."""
    n, kappa = len(logs), (SCATTER / BIAS) ** 2
    mean = sum(logs) / n if n else 0.0
    worth, freedom = kappa + n, _WORTH + n
    value = n * mean / worth
    square = _WORTH * SCATTER**2 + sum((v - mean) ** 2 for v in logs) + kappa * n / worth * mean**2
    scale = math.sqrt(square / freedom * (1 + 1 / worth))
    return value, float(stdtrit(freedom, 0.95)) * scale, freedom, scale
