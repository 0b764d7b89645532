"""The list to go through before a print, and the cautions that belong to it."""

from __future__ import annotations

from dataclasses import dataclass

from knollside.core.material.cards import Material
from knollside.core.model import Danger, DesignCase, Recipe


@dataclass(frozen=True)
class Check:
    """One thing to tick, with the number that belongs to it."""

    text: str
    detail: str = ""


@dataclass(frozen=True)
class Caution:
    title: str
    text: str


def preflight(
    card: Material, recipe: Recipe, grams: float | None, spool_left: float | None, height: float, room: float
) -> tuple[Check, ...]:
    """What to check for this job, in the order one walks round the printer."""
    low, high = card.nozzle
    checks = [
        Check("Sheet clean, nothing left on the bed"),
        Check("First-layer height set for this nozzle"),
        Check(
            f"Nozzle {'hardened, ' if card.hard_nozzle else ''}{low} to {high} °C, "
            f"bed {card.bed[0]} to {card.bed[1]} °C",
            "typical",
        ),
        Check(f"Line {recipe.line_width:g} mm, layer {recipe.layer_height:g} mm"),
    ]
    if card.dry is not None:
        checks.append(Check(f"{card.name} dry, else {card.dry[0]} °C for {card.dry[1]} h", "typical"))
    if spool_left is not None and grams is not None:
        short = spool_left < grams * 1.05
        checks.append(
            Check(
                "Enough filament" if not short else "Not enough filament on this spool",
                f"{spool_left:.0f} g for {grams:.0f} g",
            )
        )
    if card.enclosed:
        checks.append(Check("Chamber closed and warm"))
    checks.append(Check("Clear above and behind", f"{height:.0f} of {room:.0f} mm high"))
    checks.append(Check("Mains selector matches the wall, leads cool"))
    checks.append(Check("Stay for the first layer"))
    return tuple(checks)


def cautions(card: Material, design_case: DesignCase) -> tuple[Caution, ...]:
    """The usual cautions of this print and this part."""
    out = [
        Caution("Never unattended", "Someone in and awake until it ends; smoke alarm tested."),
        Caution("Hot end and bed", f"Up to {card.nozzle[1]} °C: keep fingers, sleeves and children away."),
    ]
    if card.fumes:
        out.append(Caution("Fumes", f"{card.name} gives off styrene: window open or filter on."))
    if card.hard_nozzle:
        out.append(Caution("Dust", "Carbon fibre dust when sanding: mask, wet sanding, gloves."))
    if design_case.danger is Danger.BELOW:
        out.append(
            Caution(
                "Someone may stand below",
                "Test with twice the load, from the side, before trusting it; look it over each season.",
            )
        )
    if design_case.danger is Danger.PERSON:
        out.append(Caution("No verdict", "A person's safety hangs on it: use tested hardware, ask licensed practice."))
    out.append(
        Caution(
            "Limits", "Not for climbing, lifting people, vehicles, gas, mains or medical use. Local rules come first."
        )
    )
    return tuple(out)
