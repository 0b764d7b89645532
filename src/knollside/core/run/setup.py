"""A new printer set up: what to look at by hand, in order, before anything is printed."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from knollside.core.model import PrinterFacts, Range
from knollside.core.model.running import Tick

MARK = "set up: "  # before a tick's line, so that the list before a print does not take it for its own


@dataclass(frozen=True)
class SetUpStep:
    """One thing to do; ``key`` is what its tick is kept under. ``hours`` and ``grams`` of what is printed for it."""

    key: str
    words: str
    how: str
    hours: Range | None = None
    grams: float | None = None


def by_hand(facts: PrinterFacts) -> tuple[SetUpStep, ...]:
    """What is done before anything is printed; what can hurt comes first."""
    wide, deep, _ = facts.bed_mm
    hot = " Its hard nozzle conducts worse: 5 to 10 °C more." if facts.hard_nozzle else ""
    return (
        SetUpStep(
            "selector",
            "Mains selector to this wall's voltage",
            "Unplugged, before it is switched on for the first time. Look that the earth pin is there and leads are "
            "whole; wiring beyond that is for somebody licensed.",
        ),
        SetUpStep(
            "room",
            "A place of its own",
            f"Level, firm, nothing that burns within half a metre, a smoke alarm in the room. Push the bed "
            f"({wide:.0f} × {deep:.0f} mm) to its ends by hand: 30 mm free behind and before it, leads too.",
        ),
        SetUpStep(
            "frame",
            "Frame square, bolts tight",
            "A try square at both uprights, from the front and from the side; then every bolt once round. What is left "
            "over is measured by the square below.",
        ),
        SetUpStep("belts", "Belts and wheels", "Belts hum low and alike; nothing rocks or binds over its way."),
        SetUpStep(
            "nozzle",
            "Nozzle tightened hot",
            f"At its printing heat, with the block held by a second key. Burns: gloves, no loose sleeves.{hot}",
        ),
        SetUpStep(
            "level",
            "Bed level",
            "At printing heat: paper drags alike under the nozzle at all corners and in the middle.",
        ),
        SetUpStep(
            "height",
            "First-layer height",
            "Print one layer and look at it as Watch shows it: flat lines that touch. Set it in steps of 0.05 mm.",
        ),
    )


def ticked(ticks: Iterable[Tick]) -> frozenset[str]:
    """Keys of the steps that are done."""
    return frozenset(t.line.removeprefix(MARK) for t in ticks if t.line.startswith(MARK))
