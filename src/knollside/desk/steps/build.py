"""Build: walls or infill, layer height, material; every combination priced at once."""

from __future__ import annotations

import math
from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from knollside.core.build.board import Dot
from knollside.core.build.choose import Choice as MaterialChoice
from knollside.core.job.answer import Verified
from knollside.core.material.cards import MATERIALS
from knollside.core.model import Range, Recipe
from knollside.desk import tasks
from knollside.desk.instruments.strips import WeakCut
from knollside.desk.instruments.tradeboard import TradeBoard, recipe_words
from knollside.desk.instruments.widgets import (
    Chip,
    Choice,
    NumberField,
    RangeBar,
    button,
    clear,
    column,
    heading,
    label,
    reserve_tone,
    row,
    rule,
    scrolled,
    times,
)
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.theme.look import font, look


class BuildStep(Step):
    name = "Build"
    stage = "own"
    strip_height = 190

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.board = TradeBoard()
        self.board.picked.connect(self._pick)
        self.by = Choice("Price by", [("grams", False), ("hours", True)])
        self.by.setParent(self.board)
        self.by.chose.connect(lambda _: self.refresh())
        self.own = self.board
        self.strip = self.cut = WeakCut()
        self.tried: Recipe | None = None
        self.school = Choice("School of practice", letters=15)
        self.school.chose.connect(lambda r: self._pick(r) if r is not None else None)
        fields = (
            ("walls", "Walls", "share", "", 1, 1, 20, 0),
            ("infill", "Infill", "share", "%", 0.05, 0, 1, 0),
            ("layer_height", "Layer, mm", "length", "mm", 0.04, 0.04, 1.2, 2),
            ("tops", "Tops", "share", "", 1, 0, 30, 0),
        )
        self.fields: dict[str, NumberField] = {}
        line = QWidget()
        lay = QHBoxLayout(line)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(6)
        for key, words, kind, unit, step, low, high, decimals in fields:
            f = NumberField(words, kind if unit else "length", unit, step, low, high, decimals, 78)
            f.entered.connect(partial(self._typed, key))
            self.fields[key] = f
            lay.addWidget(column(f, label(words, dim=True), spacing=1))
        lay.addStretch(1)
        self.price = label("", 14, 700)
        self.price_note = label("", dim=True, wrap=True)
        self.roofs = label("", 13, wrap=True)
        self.roofs.setAccessibleName("Roofs")
        self.materials = QVBoxLayout()
        self.materials.setSpacing(4)
        self.place = label("", dim=True)
        inner = QWidget()
        inner.setObjectName("paper")
        inner.setLayout(self.materials)
        self.materials.setContentsMargins(0, 0, 6, 0)
        area = scrolled(inner)
        self.panel = column(
            heading("Recipe", self.school),
            line,
            self.price,
            self.price_note,
            self.roofs,
            rule(),
            heading("Material", self.place),
            area,
            spacing=5,
            margins=(16, 10, 10, 0),
        )
        self.panel.layout().setStretch(7, 1)  # type: ignore[union-attr]
        self._shown: object = None

    # Choosing

    @property
    def building(self) -> tasks.Building | None:
        return self.state.answers.get("build")

    @property
    def old(self) -> bool:
        return self.state.answers.key("build") != self.state.build_key

    @property
    def recipe(self) -> Recipe:
        """The recipe under discussion: tried on the board, else the stored one."""
        return self.tried or (self.state.doc.recipe if self.state.doc else Recipe())

    def _pick(self, recipe: Recipe) -> None:
        self.tried = recipe
        self.state.changed.emit()

    def _typed(self, key: str, value: float) -> None:
        if self.state.doc is None:
            return
        whole = round(value) if key in ("walls", "tops") else value
        change: dict[str, object] = {key: whole}
        if key == "tops":
            change["bottoms"] = max(int(whole) - 1, 0)
        self.tried = None
        recipe = Recipe.model_validate(self.recipe.model_dump() | change)
        self.state.edit("recipe", recipe, f"recipe: {key.replace('_', ' ')} {value:g}")

    def _use(self) -> None:
        if self.tried is not None:
            self.state.edit("recipe", self.tried, f"recipe: {recipe_words(self.tried)}")
            self.tried = None
        dot = self._dot(self.recipe)
        self.state.request_prove(dot.reserve if dot else Range(0, 0, 0))
        self.state.changed.emit()

    def _take_material(self, name: str) -> None:
        self.state.edit("material", name, f"material {name}")

    def _dot(self, recipe: Recipe) -> Dot | None:
        b = self.building
        if b is None:
            return None
        same = [
            d
            for d in b.board.dots
            if d.recipe.walls == recipe.walls
            and abs(d.recipe.infill - recipe.infill) < 1e-6
            and d.recipe.tops == recipe.tops
            and abs(d.recipe.layer_height - recipe.layer_height) < 1e-6
        ]
        return same[0] if same else None

    def enter(self) -> None:
        self.tried = None
        if self.state.doc is not None and self.old:
            if self.state.answers.fresh("lay", self.state.lay_key) is not None:
                self.state.request_build()
            elif (
                self.state.doc.duty.held
                and self.state.doc.duty.cases
                and not self.state.answers.refusal("lay", self.state.lay_key)
            ):
                self.state.request_lay()

    # Showing

    def _tell_roofs(self, recipe: Recipe) -> None:
        """Roofs that would not close with this recipe, and what would close them."""
        state = self.state
        key = state.roofs_key(recipe)
        found = state.answers.fresh("roofs", key)
        if found is None:
            refused = state.answers.refusal("roofs", key)
            self.roofs.setText(refused or "Looking at the roofs …")
            if not refused and state.facts is not None and not state.work.waiting("roofs"):
                state.request_roofs(recipe)
            return
        open_ = [r for r in found if not r.closes]
        if not found:
            self.roofs.setText("No roof over sparse infill." if recipe.infill < 1 else "Solid: nothing to close.")
        elif not open_:
            self.roofs.setText(f"All {len(found)} roofs close, spans up to {max(r.span for r in found):.0f} mm.")
        else:
            r = open_[0]
            how = f"hangs out {r.span:.1f} mm" if r.one_sided else f"spans {r.span:.0f} mm"
            self.roofs.setText(
                f"{len(open_)} of {len(found)} roofs would not close: the one at {r.height:.0f} mm, "
                f"{r.area / 100:.1f} cm², {how}. {math.ceil(100 * r.infill):.0f} % infill under it, a rib, or lying "
                "another way would close it."
            )

    def refresh(self) -> None:
        doc = self.state.doc
        if doc is None:
            return
        r, b = self.recipe, self.building
        for key, f in self.fields.items():
            f.put(float(getattr(r, key)))
        dot = self._dot(r)
        self.by.move(self.board.width() - self.by.width() - 18, 12)
        self.by.raise_()
        self.by.show()
        self.board.put(b.board if b else None, r, dot, bool(self.by.currentData()), self.old)
        if dot is not None:
            h = dot.price.hours
            self.price.setText(f"{dot.price.grams:.0f} g, {h.low:.1f} to {h.high:.1f} h, cost {dot.price.cost:.2f}")
            over = round(100 * (self.state.factor.value - 1))
            runs = (
                f"Your printer runs {abs(over)} % {'over' if over >= 0 else 'under'}"
                if "yours" in h.source
                else "Typical pace"
            )
            self.price_note.setText(f"{runs} ({h.source}). Without supports. Cost from a typical price a kilogram.")
        else:
            self.price.setText(recipe_words(r))
            self.price_note.setText(
                "Not one of the combinations on the board; take “Use this recipe” to work it out." if b else ""
            )
        self._tell_roofs(r)
        words = f"{b.board.cut_at[2]:.0f} mm up in the part's own frame" if b else ""
        self.cut.put(b.board.weak_outline if b else None, r, words)
        self.school.blockSignals(True)
        self.school.clear()
        self.school.addItem("Schools", None)
        for d in b.board.dots if b else ():
            if d.school:
                self.school.addItem(d.school, d.recipe)
        if dot is not None and dot.school:
            self.school.setCurrentText(dot.school)
        self.school.blockSignals(False)
        place = doc.duty.surroundings
        self.place.setText(
            ", ".join(
                [f"{place.temperature_c:.0f} °C", *(w for w, on in (("sun", place.sun), ("rain", place.wet)) if on)]
            )
        )
        key = (id(b), doc.material, look.lamp, doc.printer_id)
        if key != self._shown:
            self._shown = key
            clear(self.materials)
            self._list_materials(b)

    def _list_materials(self, b: tasks.Building | None) -> None:
        doc = self.state.doc
        assert doc is not None
        if b is None:
            pick = Choice("Material", [(n, n) for n in MATERIALS])
            pick.put(doc.material)
            pick.chose.connect(self._take_material)
            self.materials.addWidget(pick)
            self.materials.addStretch(1)
            return
        target = b.board.target
        usable = [c for c in b.materials if not c.out]
        out = [c for c in b.materials if c.out]
        for c in usable:
            self.materials.addWidget(self._material(c, target))
        if out:
            self.materials.addWidget(heading("Out, and why", str(len(out))))
        for c in out:
            name = button(c.card.name, partial(self._take_material, c.card.name), plain=True)
            name.setFixedWidth(112)
            why = label(c.why, dim=True, wrap=True)
            word = label(c.out, 13, 700)
            word.setStyleSheet(f"color: {look.colour('clay').name()};")
            self.materials.addWidget(row(name, why, word, stretch=1))
        self.materials.addStretch(1)

    def _material(self, c: MaterialChoice, target: float) -> QWidget:
        assert self.state.doc is not None and c.reserve is not None
        mine = c.card.name == self.state.doc.material
        name = button(
            c.card.name,
            partial(self._take_material, c.card.name),
            plain=True,
            tip=f"Take {c.card.name}: {c.card.density} g/cm³, softens at {c.card.softens:.0f} °C (typical)",
        )
        name.setFont(font(14, 700))
        value = label(f"{times(c.reserve.value)}×", 18, 700)
        value.setStyleSheet(f"color: {look.colour(reserve_tone(c.reserve, target)).name()};")
        box = column(
            row(name, Chip(c.card.bond.source), label("this part's" if mine else "", dim=True), value, stretch=2),
            row(label(c.why, dim=True, wrap=True), RangeBar(c.reserve, target), stretch=0),
            spacing=0,
        )
        return box

    def standing(self) -> Standing:
        doc = self.state.doc
        if doc is None:
            return Standing(Mark.OPEN, "Nothing chosen.")
        words = recipe_words(doc.recipe).capitalize() + f", {doc.material}."
        proved: Verified | None = self.state.answers.get("prove")
        if proved is None:
            return Standing(Mark.HALF if self.building else Mark.OPEN, words)
        if self.state.answers.key("prove") != self.state.prove_key:
            return Standing(Mark.CRACK, words + " Made for what was before.")
        holds = proved.solved.low >= proved.strength.target
        return Standing(Mark.FULL if holds else Mark.HALF, words + f" Holds {times(proved.solved.value)}.")

    def verdict(self) -> Verdict:
        doc, b = self.state.doc, self.building
        if doc is None:
            return Verdict("Open a part first.")
        use = Act("Use this recipe", self._use, doc.way is not None)
        if doc.way is None:
            return Verdict(
                "Choose a way to lie first.",
                "Walls and infill are judged for the way it lies.",
                acts=(Act("Back to Lay", lambda: self.go("Lay")),),
            )
        if not (doc.duty.held and doc.duty.cases):
            return Verdict(
                "No load, so no reserve.",
                f"{recipe_words(doc.recipe)}, {doc.material}.",
                acts=(Act("Go on to Fits", lambda: self.go("Fits")),),
            )
        if b is None or self.old:
            refused = self.state.answers.refusal("build", self.state.build_key) or self.state.answers.refusal(
                "lay", self.state.lay_key
            )
            return Verdict(
                "It cannot be priced."
                if refused
                else "Pricing every recipe."
                if self.state.work.busy_with
                else "The duty or the way changed.",
                refused or "The board follows the way to lie.",
                acts=(Act("Price them again", self._again),),
            )
        proved: Verified | None = self.state.answers.fresh("prove", self.state.prove_key)
        target = b.board.target
        if self.tried is None and proved is not None:
            v = proved.solved
            tone = reserve_tone(v, target)
            off = abs(v.value / proved.quick.value - 1) * 100 if proved.quick.value else 0
            words = {"moss": "It holds.", "straw ink": "Too close to call.", "clay": "It does not hold."}[tone]
            far = f" The board's estimate was {off:.0f} % off." if proved.quick.value else ""
            return Verdict(
                words,
                f"Solved again with this shell and core; it gives {proved.movement:.1f} mm under the load.{far}",
                number=times(v.value),
                unit="×",
                under=(f"{times(v.low)} to {times(v.high)}", f"needed {target:g}"),
                tone=tone,
                source=f"Bond: {proved.strength.card.bond.source}. Infill: typical.",
                acts=(Act("Correct the fits", lambda: self.go("Fits")), Act("Solve again", self._use)),
            )
        dot = self._dot(self.recipe)
        if dot is None:
            return Verdict("Not on the board.", recipe_words(self.recipe), acts=(use,))
        tone = reserve_tone(dot.reserve, target)
        lightest = b.board.school("Lightest that holds")
        words = {"moss": "would hold", "straw ink": "is too close to call", "clay": "would not hold"}[tone]
        body = "An estimate; “Use this recipe” solves it."
        if lightest is not None and lightest.recipe != dot.recipe:
            body = f"Lightest that holds: {recipe_words(lightest.recipe)}, {lightest.price.grams:.0f} g. " + body
        return Verdict(
            f"{recipe_words(dot.recipe).capitalize()} {words}.",
            body,
            number=times(dot.reserve.value),
            unit="×",
            under=(f"{times(dot.reserve.low)} to {times(dot.reserve.high)}", f"needed {target:g}"),
            tone=tone,
            source=f"Bond: {self.state.card.bond.source}. Hours: {dot.price.hours.source}. Infill: typical.",
            acts=(
                use,
                Act(
                    "Lightest that holds",
                    lambda: self._pick(lightest.recipe) if lightest else None,
                    lightest is not None,
                ),
            ),
        )

    def _again(self) -> None:
        if self.state.answers.fresh("lay", self.state.lay_key) is not None:
            self.state.request_build()
        else:
            self.state.request_lay()
