"""Materials ranked for this duty, place and printer; the rest with what rules them out."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QWidget

from knollside.core.job.questions.recipe import Building
from knollside.core.material.bond import BondShare, usual_fan, usual_nozzle
from knollside.core.material.cards import MATERIALS, Material
from knollside.core.model import Recipe, bounds_of
from knollside.core.recipe.choose import MaterialChoice, try_first
from knollside.gui.instruments.widgets import (
    Chip,
    Dropdown,
    NumberField,
    RangeBar,
    button,
    column,
    heading,
    label,
    reserve_tone,
    row,
    rule,
    times,
)
from knollside.gui.steps.page import Page, Same, line
from knollside.gui.theme.look import font, look


class MaterialsPage(Page):
    """Heat and fan of this print on top; then the materials, strongest first."""

    def __init__(self, take: Callable[[str], None], put: Callable[[str, object], None]) -> None:
        super().__init__()
        self._take = take
        self.heat = NumberField("Nozzle heat", "temperature", "°C", 5, *bounds_of(Recipe, "nozzle_c"), 0, 84)
        self.heat.entered.connect(lambda v: put("nozzle_c", v))
        self.fan = NumberField("Fan", "share", "%", 0.1, *bounds_of(Recipe, "fan"), 0, 70)
        self.fan.entered.connect(lambda v: put("fan", v))
        self.usual = button("As usual", lambda: put("usual", None), tip="The middle of the card's range, its usual fan")
        self.top(row(label("Nozzle", dim=True), self.heat, label("fan", dim=True), self.fan, self.usual, stretch=-2))

    def put(self, b: Building | None, card: Material, recipe: Recipe, place: str, bond: tuple[BondShare, ...]) -> None:
        """``card`` the part's material; ``bond`` what this recipe's heat, fan and nozzle take off it."""
        mine = card.name
        self.heat.put(usual_nozzle(card) if recipe.nozzle_c is None else recipe.nozzle_c)
        self.fan.put(usual_fan(card) if recipe.fan is None else recipe.fan)
        self.usual.setEnabled(recipe.nozzle_c is not None or recipe.fan is not None)
        if not self.fresh((Same(b), mine, place, bond, look.lamp)):
            return
        if b is None:
            pick = Dropdown("Material", [(n, n) for n in MATERIALS])
            pick.put(mine)
            pick.chose.connect(self._take)
            self.add(heading("Material", place), pick)
            return
        usable = [c for c in b.materials if not c.out]
        out = [c for c in b.materials if c.out]
        self.add(heading("Material", place))
        for share in bond:
            self.add(
                label(f"{share.name}, {share.why}: {share.left.value * 100:.0f} % of the bond (typical)", dim=True)
            )
        for c in usable:
            self.add(self._usable(c, b.board.target, mine))
        first = try_first(b.materials, mine)
        if first:
            self.add(rule(), line("Try the fit first", "", first, False))
        if out:
            self.add(heading("Out, and why", str(len(out))))
        for c in out:
            name = button(c.card.name, partial(self._take, c.card.name), plain=True)
            name.setFixedWidth(112)
            word = label(c.out, 13, 700)
            word.setStyleSheet(f"color: {look.colour('clay').name()};")
            self.add(row(name, label(c.why, dim=True, wrap=True), word, stretch=1))

    def _usable(self, c: MaterialChoice, target: float, mine: str) -> QWidget:
        assert c.reserve is not None
        chosen = c.card.name == mine
        tip = f"Take {c.card.name}: {c.card.density} g/cm³, softens at {c.card.softens:.0f} °C"
        name = button(c.card.name, partial(self._take, c.card.name), plain=True, tip=tip)
        name.setFont(font(14, 700))
        value = label(f"{times(c.reserve.value)}×", 18, 700)
        value.setStyleSheet(f"color: {look.colour(reserve_tone(c.reserve, target)).name()};")
        return column(
            row(name, Chip(c.card.bond.source), label("this part's" if chosen else "", dim=True), value, stretch=2),
            row(label(c.why, dim=True, wrap=True), RangeBar(c.reserve, target), stretch=0),
            spacing=0,
        )
