"""Which bars of a study to print next: its levels, how many of each, and the plate whose bars are awaited."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QLineEdit, QWidget

from knollside.core.model import Refused, bounds_of
from knollside.core.model.trials import UNITS, PullStudy
from knollside.core.proof.pullplan import PlannedPlate, awaited, levels_of, places, planned
from knollside.gui.instruments.widgets import NumberField, button, label, named, row

Changed = Callable[[dict[str, object], str], None]


def plan_of(
    study: PullStudy,
    number: int,
    need: int | None,
    changed: Changed,
    said: Callable[[str], None],
    make: Callable[[PlannedPlate], None],
) -> tuple[QWidget, ...]:
    """Fields and words of the plan. ``need``: bars of each that the margin asks for."""
    unit = UNITS[study.varies]
    levels = QLineEdit(", ".join(f"{v:g}" for v in study.levels))
    levels.setAccessibleName("Levels")
    levels.setPlaceholderText(f"levels, {unit}" if unit else "levels as numbers")
    levels.editingFinished.connect(partial(_typed, levels, study, changed, said))
    each = NumberField("Bars of each level", "share", "", 1, *bounds_of(PullStudy, "each"), 0, 56)
    each.plain = True
    each.put(study.each)
    each.entered.connect(lambda v: changed({"each": round(v)}, f"{v:.0f} bars of each"))
    fields = row(
        named(f"levels{', ' * bool(unit)}{unit}", levels),
        named("bars of each", each),
        spacing=6,
    )
    plates = planned(study, number)
    if not plates:
        return (fields,)
    few = f" {need} show it in four of five." if need is not None and study.each < need else ""
    at = awaited(plates, study.pulls)
    if at is None:
        return (fields, label(f"All {len(plates)} plates are pulled.{few}", dim=True, wrap=True))
    plate, done = at
    how = "standing" if plate.standing else "lying"
    value = f"{plate.level:g} {unit}".strip()
    words = (
        f"Plate {plate.number} of {len(plates)}, round {plate.round}: {plate.bars} bars {how} at {value}, "
        f"from the left {' '.join(map(str, places(plate.bars, plate.lot)))}. {done} of them recorded.{few}"
    )
    proof = button("Make this plate at Proof", partial(make, plate))
    return fields, label(words, 13, wrap=True), row(proof, stretch=-2)


def _typed(levels: QLineEdit, study: PullStudy, changed: Changed, said: Callable[[str], None]) -> None:
    """Levels as typed; what is none is said, and the last ones stay."""
    text = levels.text()
    if text.strip() == ", ".join(f"{v:g}" for v in study.levels):
        return
    try:
        made = levels_of(text) if text.strip() else ()
    except Refused as refusal:
        said(str(refusal))
        return
    if made != study.levels:
        changed({"levels": made}, f"{len(made)} levels planned" if made else "no levels planned")
