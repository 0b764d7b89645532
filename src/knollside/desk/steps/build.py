"""Build: walls or infill, layer height, material; every combination priced at once."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from knollside.core.build.board import Dot
from knollside.core.job.answer import Verified
from knollside.core.material.bond import shares
from knollside.core.material.cards import material
from knollside.core.material.infill import PATTERNS
from knollside.core.model import Range, Recipe
from knollside.desk.buildtasks import Building, Buys
from knollside.desk.instruments.strips import WeakCut
from knollside.desk.instruments.tradeboard import TradeBoard, recipe_words
from knollside.desk.instruments.widgets import (
    Choice,
    NumberField,
    button,
    column,
    heading,
    label,
    reserve_tone,
    row,
    times,
)
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.buildpages import BuysPage, PinnedPage, RoofsPage, SpiralPage
from knollside.desk.steps.materialspage import MaterialsPage
from knollside.desk.steps.tabs import Tabs

MATERIAL, ROOFS, BUYS, SPIRAL, PINNED = range(5)
_MOST_PINNED = 4
# key, words, kind, unit, step, low, high, decimals
_FIELDS = (
    ("walls", "Walls", "share", "", 1, 1, 20, 0),
    ("infill", "Infill", "share", "%", 0.05, 0, 1, 0),
    ("layer_height", "Layer, mm", "length", "mm", 0.04, 0.04, 1.2, 2),
    ("tops", "Tops", "share", "", 1, 0, 30, 0),
)


class BuildStep(Step):
    name = "Build"
    stage = "own"
    strip_height = 190

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.board = TradeBoard()
        self.board.picked.connect(self._pick)
        self.by = Choice("Price by", [("grams", "grams"), ("hours", "hours"), ("cost", "cost")])
        self.by.setParent(self.board)
        self.by.chose.connect(lambda _: self.refresh())
        self.own = self.board
        self.strip = self.cut = WeakCut()
        self.tried: Recipe | None = None
        self.pinned: tuple[Dot, ...] = ()
        self._pinned_of: object = None
        self.school = Choice("School of practice", letters=15)
        self.school.chose.connect(lambda r: self._pick(r) if r is not None else None)
        self.fields: dict[str, NumberField] = {}
        line = QWidget()
        lay = QHBoxLayout(line)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(6)
        for key, words, kind, unit, step, low, high, decimals in _FIELDS:
            f = NumberField(words, kind if unit else "length", unit, step, low, high, decimals, 78)
            f.entered.connect(partial(self._typed, key))
            self.fields[key] = f
            lay.addWidget(column(f, label(words, dim=True), spacing=1))
        lay.addStretch(1)
        self.pattern = Choice("Infill pattern", [(n.capitalize(), n) for n in PATTERNS], 10)
        self.pattern.chose.connect(lambda p: self._change("pattern", p))
        self.pin = button("Pin it", self._pin, tip="Keep this recipe to compare it with others")
        self.price = label("", 14, 700)
        self.price_note = label("", dim=True, wrap=True)
        self.materials = MaterialsPage(self._take_material, self._change)
        self.roofs, self.buys = RoofsPage(), BuysPage(self._pick)
        self.spiral = SpiralPage(lambda: self.go("Fits"))
        self.spiral.changed.connect(self.refresh)
        self.pins = PinnedPage(self._pick, self._drop)
        pages = (("Material", self.materials), ("Roofs", self.roofs), ("What it buys", self.buys))
        self.tabs = Tabs((*pages, ("Spiral", self.spiral), ("Pinned", self.pins)), 3, (0, 2, 0, 2))
        self.tabs.turned.connect(lambda _: self.refresh())
        self.check = button(
            "Check the board",
            self.state.request_check_board,
            tip="Solve six recipes whole and put the estimates right between them; takes a minute or more",
        )
        self.tabs.strip.addWidget(self.check, 1, 2)
        for page in (self.materials, self.roofs, self.buys, self.spiral, self.pins):
            page.margins(0, 10)
        self.panel = column(
            heading("Recipe", self.school),
            line,
            row(self.pattern, self.pin, stretch=0),
            self.price,
            self.price_note,
            self.tabs,
            self.tabs.pages,
            spacing=5,
            margins=(16, 10, 8, 0),
        )
        self.panel.layout().setStretch(6, 1)  # type: ignore[union-attr]

    def turn_to(self, page: int) -> None:
        """Bring a page to the front: material, roofs, what it buys, spiral, pinned."""
        self.tabs.turn_to(page)

    # Choosing

    @property
    def building(self) -> Building | None:
        """The board, fresh or old; none for a part without a load."""
        return self.state.answers.get("build") if self.state.loaded else None

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
        self._change(key, round(value) if key in ("walls", "tops") else value)

    def _change(self, key: str, value: object) -> None:
        if self.state.doc is None:
            return
        change: dict[str, object] = {"nozzle_c": None, "fan": None} if key == "usual" else {key: value}
        if key == "tops":
            change["bottoms"] = max(int(str(value)) - 1, 0)
        recipe = Recipe.model_validate(self.recipe.model_dump() | change)
        self.tried = None
        said = f"{value:g}" if isinstance(value, int | float) else str(value)
        named = {"nozzle_c": f"nozzle at {said} °C", "usual": "usual heat and fan"}
        words = named.get(key, f"{key.replace('_', ' ')} {said}")
        self.state.edit("recipe", recipe, f"recipe: {words}")

    def _pin(self) -> None:
        dot = self._dot(self.recipe)
        if dot is not None and all(d.recipe != dot.recipe for d in self.pinned):
            self.pinned = (*self.pinned, dot)[-_MOST_PINNED:]
        self.turn_to(PINNED)

    def _drop(self, recipe: Recipe) -> None:
        self.pinned = tuple(d for d in self.pinned if d.recipe != recipe)
        self.refresh()

    def _keep(self) -> None:
        if self.tried is not None:
            kept, self.tried = self.tried, None
            self.state.edit("recipe", kept, f"recipe: {recipe_words(kept)}")

    def _use(self) -> None:
        self._keep()
        dot = self._dot(self.recipe)
        self.state.request_prove(dot.reserve if dot else Range(0, 0, 0))
        self.state.changed.emit()

    def _take_material(self, name: str) -> None:
        self.state.edit("material", name, f"material {name}")

    @property
    def around(self) -> Buys | None:
        """What lies round the recipe under discussion, once it is priced."""
        found: Buys | None = self.state.answers.fresh("buys", self.state.buys_key(self.recipe))
        return found

    def _dot(self, recipe: Recipe) -> Dot | None:
        """The recipe's price: off the board, or priced by itself where the board has it not."""
        b = self.building
        on_board = b.board.dot(recipe) if b is not None else None
        if on_board is None and self.around is not None and self.around.dot.recipe == recipe:
            return self.around.dot
        return on_board

    def enter(self) -> None:
        self.tried = None
        if self.state.doc is None:
            return
        if self._pinned_of != self.state.doc.id:
            self.pinned, self._pinned_of = (), self.state.doc.id
        self._ask_board()

    def _ask_board(self) -> None:
        doc = self.state.doc
        if doc is not None and self.state.loaded and self.old:
            if self.state.answers.fresh("lay", self.state.lay_key) is not None:
                self.state.request_build()
            elif not self.state.answers.refusal("lay", self.state.lay_key):
                self.state.request_lay()

    # Showing

    def _fill_pages(self, recipe: Recipe) -> None:
        """A page is worked out when it is turned to."""
        state, page = self.state, self.tabs.front
        doc, b = state.doc, self.building
        if doc is None or state.facts is None:
            return
        target = b.board.target if b is not None else 2.0
        place = doc.duty.surroundings
        words = [f"{place.temperature_c:.0f} °C", *(w for w, on in (("sun", place.sun), ("rain", place.wet)) if on)]
        card = state.cards[material(doc.material).name]
        self.materials.put(b, card, doc.recipe, ", ".join(words), shares(card, state.setting))
        self.pins.put(self.pinned, target)
        if page == ROOFS:
            refused = state.missing("roofs", state.roofs_key(recipe), lambda: state.request_roofs(recipe))
            roofing = state.answers.fresh("roofs", state.roofs_key(recipe))
            if roofing is not None:
                state.missing("even", state.even_key(recipe), lambda: state.request_even(recipe))
            self.roofs.put(roofing, state.answers.fresh("even", state.even_key(recipe)), recipe, refused)
        unpriced = not state.loaded or (b is not None and not self.old and b.board.dot(recipe) is None)
        if unpriced or (page in (BUYS, SPIRAL) and not self.old and b is not None):
            refused = state.missing("buys", state.buys_key(recipe), lambda: state.request_buys(recipe))
            found = self.around
            self.buys.put(found, recipe, target, refused)
            mates = tuple(m.feature for m in doc.mates)
            self.spiral.put(found.spiral if found is not None else None, mates, target, refused)

    def refresh(self) -> None:
        doc = self.state.doc
        if doc is None:
            return
        r, b = self.recipe, self.building
        for key, f in self.fields.items():
            f.put(float(getattr(r, key)))
        self.pattern.put(r.pattern)
        self._fill_pages(r)
        dot = self._dot(r)
        self.pin.setEnabled(dot is not None)
        self.check.setEnabled(b is not None and not self.old and not b.board.checked)
        self.check.setText("Board checked" if b is not None and b.board.checked else "Check the board")
        self.by.move(self.board.width() - self.by.width() - 18, 12)
        self.by.raise_()
        self.by.show()
        if not self.state.loaded:
            self.board.empty = "No load is stated: recipes are priced by grams and hours at “What it buys”."
        elif doc.way is None:
            self.board.empty = "Choose a way to lie first; then every recipe is priced."
        else:
            self.board.empty = "Every recipe is being priced."
        self.board.put(b.board if b else None, r, dot, str(self.by.currentData()), self.old)
        if dot is not None:
            h = dot.price.hours
            self.price.setText(f"{dot.price.grams:.0f} g, {h.low:.1f} to {h.high:.1f} h, cost {dot.price.cost:.2f}")
            over = round(100 * (self.state.factor.value - 1))
            runs = (
                f"Your printer runs {abs(over)} % {'over' if over >= 0 else 'under'}"
                if "yours" in h.source
                else "Typical pace"
            )
            priced = "yours" if "price_per_kg" in self.state.own_values else "typical"
            self.price_note.setText(f"{runs} ({h.source}). Without supports. Price a kilogram: {priced}.")
        else:
            self.price.setText(recipe_words(r))
            self.price_note.setText("Pricing this recipe …" if not self.state.loaded or (b and not self.old) else "")
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
        if self.panel.isVisible() and self.old and not self.state.work.busy_with:
            self._ask_board()

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
            keep = Act("Use this recipe", self._keep, self.tried is not None)
            words = f"{recipe_words(self.recipe).capitalize()}, {doc.material}."
            return Verdict(
                "No load, so no reserve.",
                f"{words} Choose by look, hours and grams at “What it buys”.",
                acts=(keep if self.tried is not None else Act("Go on to Fits", lambda: self.go("Fits")),),
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
            return Verdict("Pricing this recipe.", recipe_words(self.recipe), acts=(use,))
        tone = reserve_tone(dot.reserve, target)
        lightest = b.board.school("Lightest that holds")
        words = {"moss": "would hold", "straw ink": "is too close to call", "clay": "would not hold"}[tone]
        held = "Put right by full solves of six recipes" if b.board.checked else "An estimate"
        body = f"{held}; “Use this recipe” solves it."
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
