"""A hold as it is said: what it is, and of a screw its head, whether it clamps, and how hard or with what play."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QWidget

from knollside.core.model import (
    Fixture,
    FixtureKind,
    ScrewFixture,
    ThreadFixture,
    WallFixture,
    bounds_of,
    fixed_as,
)
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, column, label, row

HELD: dict[str, FixtureKind] = {
    "fixed": "fixed",
    "slides along its face": "sliding",
    "under a screw's head": "screw",
    "a screw turned into it": "thread",
    "on a pin": "pin",
    "clamped at an edge": "edge",
    "rests on a wall": "wall",
}
Put = Callable[[Fixture, str], None]


def held_row(held: Fixture, hole: float | None, put: Put, remove: Callable[[], None]) -> QWidget:
    """A row for one hold, over a ``hole`` of so many mm where it is one; ``put`` takes the hold as changed and a name
    for undo."""
    name = (held.feature or "a point").replace("-", " ")
    kind = Dropdown(f"How {name} is held", HELD.items(), 11)
    kind.put(held.kind)
    kind.chose.connect(lambda k: put(fixed_as(held, k), f"{name} held: {k}"))
    gone = button("×", remove, plain=True, tip="No longer held")
    gone.setAccessibleName(f"{name} no longer held")
    gone.setFixedWidth(26)
    title = label(name.capitalize(), 14, 600)
    title.setFixedWidth(86)
    first = row(title, kind, gone, stretch=1, spacing=6)
    details = _details(held, hole, name, put)
    return column(first, row(*details, stretch=-2, spacing=6), spacing=2) if details else first


def _details(held: Fixture, hole: float | None, name: str, put: Put) -> list[QWidget]:
    match held:
        case ScrewFixture():
            return _screw(held, hole, name, put)
        case ThreadFixture():
            return _tightening(held, name, put)
        case WallFixture():
            box = QCheckBox("does not slide where it presses")
            box.setAccessibleName(f"{name} does not slide")
            box.setToolTip("Only where friction surely holds it: rubber, or a rough wall")
            box.setChecked(held.sticks)
            box.clicked.connect(
                lambda on: put(held.model_copy(update={"sticks": on}), f"{name} {'sticks' if on else 'may slide'}")
            )
            return [box]
    return []


def _screw(held: ScrewFixture, hole: float | None, name: str, put: Put) -> list[QWidget]:
    head = _length(f"Head over {name}", held.head(hole or 0.0), "head_mm")
    head.setToolTip("Across the head, or across the washer under it")
    head.entered.connect(lambda v: put(held.model_copy(update={"head_mm": v}), f"{name}: head {v:.1f} mm"))
    tight = Dropdown(f"Whether the screw in {name} clamps", [("tight", True), ("loose", False)], 5)
    tight.put(held.tight)
    tight.setToolTip("Plastic gives: where a clamp may not last, the screw is taken as loose, and it is said so above")
    tight.chose.connect(lambda on: put(held.model_copy(update={"tight": on}), f"{name}: {'tight' if on else 'loose'}"))
    rest = _tightening(held, name, put) if held.tight else _shank(held, hole, name, put)
    return [label("head", dim=True), head, tight, *rest]


def _shank(held: ScrewFixture, hole: float | None, name: str, put: Put) -> list[QWidget]:
    shank = _length(f"Shank in {name}", held.shank_mm or hole or 0.0, "shank_mm")
    shank.setToolTip("Across the screw in the hole; the hole is wider by the play")
    shank.entered.connect(lambda v: put(held.model_copy(update={"shank_mm": v}), f"{name}: shank {v:.1f} mm"))
    return [label("shank", dim=True), shank]


def _length(name: str, value: float, field: str) -> NumberField:
    out = NumberField(name, "length", "mm", 0.5, *bounds_of(ScrewFixture, field), 1, 74)
    out.put(value)
    return out


def _tightening(held: ScrewFixture | ThreadFixture, name: str, put: Put) -> list[QWidget]:
    force = NumberField(f"Tightening of {name}", "force", "N", 50, *bounds_of(type(held), "tightened_N"), 0, 66)
    force.put(held.tightened_N or 0.0)
    if held.tightened_N is None:
        force.line.setPlaceholderText("? N")
        force.line.clear()
    force.setToolTip("How hard it is tightened; where you do not know, what is typical by hand")
    force.entered.connect(
        lambda v: put(held.model_copy(update={"tightened_N": v or None}), f"{name}: tightened {v:.0f} N")
    )
    return [label("with", dim=True), force]
