"""What would cure a reserve that is too small: each remedy with its gain and its price."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from knollside.core.job.answer import LayerLog, PartFacts
from knollside.core.lay.orientations import Ranking, RatedOrientation
from knollside.core.material.allowables import ROOM, limits_of
from knollside.core.model import DesignCase, Refused
from knollside.core.recipe.board import Board
from knollside.core.recipe.choose import MaterialChoice
from knollside.core.strength.rating import rate
from knollside.core.strength.strength import Strength


@dataclass(frozen=True)
class Remedy:
    """One remedy: ``kind`` (way, thicken, fillet, material, recipe, place, load), what to do, the reserve it
    would give (None where it is set to give just what is needed), and what it costs."""

    kind: Literal["way", "thicken", "fillet", "material", "recipe", "place", "load"]
    title: str
    reserve: float | None
    price: str


def remedies(
    part: PartFacts,
    design_case: DesignCase,
    s: Strength,
    ranking: Ranking,
    orientation: RatedOrientation,
    log: LayerLog | None,
    board: Board | None = None,
    choices: tuple[MaterialChoice, ...] = (),
) -> tuple[Remedy, ...]:
    """Remedies for one way, likeliest first. Nothing is drawn into the mesh: it says what to change in the model."""
    have, need = orientation.reserve.value, s.target
    out: list[Remedy] = []
    better = [w for w in ranking.orientations if w.reserve.value > 1.1 * have and w.footing.stands and w.footing.fits]
    if better:
        best = max(better, key=lambda w: w.reserve.value)
        more = (best.overhang - orientation.overhang) / 100
        price = f"{best.footing.height - orientation.footing.height:+.0f} mm high, {more:+.0f} cm² leaning too far"
        out.append(Remedy("way", f"Lie it as {best.letter}, {best.title.lower()}", best.reserve.value, price))
    if have < need:
        out += _thicken(part, s, orientation, log, need / have)
    for c in choices:
        if c.reserve is not None and not c.out and c.card.name != s.card.name and c.reserve.value > 1.05 * have:
            extra = c.card.price_per_kg / s.card.price_per_kg
            price = f"{extra:.1f} times the price a kilogram; {c.card.note}"
            out.append(Remedy("material", f"Print it in {c.card.name}", c.reserve.value, price))
            break
    if board is not None:
        out += _recipe(board, have, need)
    cool = _cooler(design_case, s, orientation, need)
    if cool is not None:
        out.append(cool)
    if 0.1 * need < have < need:
        share = have / need
        out.append(
            Remedy(
                "load",
                f"Load it with {share * 100:.0f} % of what is stated",
                None,
                "the duty is smaller, the part the same",
            )
        )
    return tuple(out)


def _thicken(
    part: PartFacts, s: Strength, orientation: RatedOrientation, log: LayerLog | None, short: float
) -> list[Remedy]:
    """How much more section, or which fillet, from the resultants at the weak height.

    A bent section gains with the square of its depth; a peak over the nominal stress falls with the corner's
    radius about as 1 + sqrt(depth / radius) / 2 (shoulder fillets in bending, after Peterson 1974).
    """
    deeper = math.sqrt(short) - 1
    if deeper > 1.2:
        return [
            Remedy(
                "thicken", "No sensible thickening will do: shape it anew", None, "it is short by more than fourfold"
            )
        ]
    out = [
        Remedy(
            "thicken",
            f"Make it {deeper * 100:.0f} % deeper at {orientation.place_height:.0f} mm, {orientation.place_name}",
            None,
            "in the model; about as much more filament there",
        )
    ]
    if log is None or not len(log.nominal):
        return out
    k = int(np.argmin(np.abs(log.heights - orientation.place_height)))
    nominal, peak = float(log.nominal[k]), orientation.reserve.value
    if not (np.isfinite(nominal) and nominal > 1.25 * peak):
        return out
    depth = math.sqrt(max(float(log.area[k]), 1.0))
    now, wanted = nominal / peak, nominal / (peak * short)
    if wanted > 1.08:
        radius = depth * (0.5 / (wanted - 1)) ** 2
        if 0.5 <= radius <= depth:
            out.insert(
                0,
                Remedy(
                    "fillet",
                    f"Round the inner corner {orientation.place_name} to about {radius:.{0 if radius > 3 else 1}f} mm",
                    None,
                    f"in the model; the corner now carries {now:.1f} times the plain stress",
                ),
            )
    return out


def _recipe(board: Board, have: float, need: float) -> list[Remedy]:
    holds = [d for d in board.dots if d.reserve.low >= need]
    if holds:
        d = min(holds, key=lambda d: d.price.grams)
    else:
        d = max(board.dots, key=lambda d: d.reserve.low)
    if d.reserve.value <= 1.05 * have:
        return []
    fill = "solid" if d.recipe.infill >= 1 else f"{d.recipe.infill * 100:.0f} % infill"
    price = f"{d.price.grams:.0f} g, {d.price.hours.value:.1f} h"
    return [Remedy("recipe", f"Print {d.recipe.walls} walls, {fill}", d.reserve.value, price)]


def _cooler(design_case: DesignCase, s: Strength, orientation: RatedOrientation, need: float) -> Remedy | None:
    """The warmest place that would still give what is needed, or what room heat gives."""
    now = design_case.surroundings.temperature_c
    if now <= ROOM + 5:
        return None

    def at(celsius: float) -> float:
        place = design_case.surroundings.model_copy(update={"temperature_c": celsius})
        limits = limits_of(design_case.model_copy(update={"surroundings": place}), s.card)
        return float(rate(s.field, limits, np.array([orientation.direction])).reserve[0])

    try:
        best = at(ROOM)
        if best <= 1.08 * orientation.reserve.value or best < 0.5 * need:
            return None
        sure = orientation.reserve.low / orientation.reserve.value  # the low end decides at any heat
        warmest = next((c for c in range(int(now), int(ROOM), -1) if at(c) * sure >= need), int(ROOM))
    except Refused:
        return None
    return Remedy("place", f"Keep it below {warmest} °C", at(float(warmest)), "shade, or another spot")
