"""Build: walls or infill, layer height, material; every combination priced at once."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from knollside.core.job.questions.recipe import Building, Buying
from knollside.core.job.questions.settling import Proved
from knollside.core.material.allowables import withheld
from knollside.core.material.bond import shares
from knollside.core.material.infill import PATTERNS
from knollside.core.model import Recipe, bounds_of
from knollside.core.recipe.board import GUESSED, Dot
from knollside.core.recipe.calibration import ANCHORS
from knollside.gui import nodes
from knollside.gui.answers import Answer, Missing
from knollside.gui.derived import Node
from knollside.gui.instruments.strips import WeakCut
from knollside.gui.instruments.tradeboard import TradeBoard, recipe_words
from knollside.gui.instruments.widgets import (
    Dropdown,
    NumberField,
    button,
    column,
    heading,
    label,
    reserve_tone,
    row,
    times,
)
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict, no_verdict
from knollside.gui.steps.buildpages import BuysPage, PinnedPage, RoofsPage, SpiralPage
from knollside.gui.steps.laypages import moved_words
from knollside.gui.steps.materialspage import MaterialsPage
from knollside.gui.steps.tabs import Tabs
from knollside.store.records import Kind

MATERIAL, ROOFS, BUYS, SPIRAL, PINNED = range(5)
_MOST_PINNED = 4
# key, words, kind, unit, step, decimals
_FIELDS = (
    ("walls", "Walls", "share", "", 1, 0),
    ("infill", "Infill", "share", "%", 0.05, 0),
    ("layer_height", "Layer, mm", "length", "mm", 0.04, 2),
    ("tops", "Tops", "share", "", 1, 0),
    ("first_layer", "First layer, mm", "length", "mm", 0.02, 2),
)


class BuildStep(Step):
    name = "Build"
    stage = "own"
    strip_height = 190

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.board = TradeBoard()
        self.board.picked.connect(self._try)
        self.by = Dropdown("Price by", [("grams", "grams"), ("hours", "hours"), ("cost", "cost")])
        self.by.setParent(self.board)
        self.by.chose.connect(lambda _: session.changed.emit())
        self.own = self.board
        self.strip = self.cut = WeakCut()
        self.tried: Recipe | None = None
        self.pinned: tuple[Dot, ...] = ()
        self._pinned_of: object = None
        self.preset = Dropdown("School of practice", letters=15)
        self.preset.chose.connect(lambda r: self._try(r) if r is not None else None)
        self.fields: dict[str, NumberField] = {}
        line = QWidget()
        lay = QHBoxLayout(line)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(6)
        for key, words, kind, unit, step, decimals in _FIELDS:
            f = NumberField(words, kind if unit else "length", unit, step, *bounds_of(Recipe, key), decimals, 78)
            f.entered.connect(partial(self._typed, key))
            self.fields[key] = f
            if key != "first_layer":
                lay.addWidget(column(f, label(words, dim=True), spacing=1))
        lay.addStretch(1)
        self.pattern = Dropdown("Infill pattern", [(n.capitalize(), n) for n in PATTERNS], 10)
        self.pattern.chose.connect(lambda p: self._change("pattern", p))
        self.pin = button("Pin it", self._pin, tip="Keep this recipe to compare it with others")
        self.price = label("", 14, 700)
        self.price_note = label("", dim=True, wrap=True)
        self.materials = MaterialsPage(self._take_material, self._change)
        self.roofs, self.buys = RoofsPage(), BuysPage(self._try)
        self.spiral = SpiralPage(lambda: self.go("Fits"))
        self.spiral.changed.connect(session.changed.emit)
        self.pins = PinnedPage(self._try, self._drop)
        pages = (("Material", self.materials), ("Roofs", self.roofs), ("What it buys", self.buys))
        self.tabs = Tabs((*pages, ("Spiral", self.spiral), ("Pinned", self.pins)), 3, (0, 2, 0, 2))
        self.tabs.turned.connect(lambda _: session.touch())
        self.check = label("", dim=True)
        self.check.setToolTip(
            f"{len(ANCHORS)} recipes are solved whole while nothing else is asked, the estimates between them put "
            "right, and the lightest solved until one holds; takes some minutes"
        )
        self.tabs.strip.addWidget(self.check, 1, 2)
        for page in (self.materials, self.roofs, self.buys, self.spiral, self.pins):
            page.margins(0, 10)
        self.panel = column(
            heading("Recipe", self.preset),
            line,
            row(self.pattern, label("first layer", dim=True), self.fields["first_layer"], self.pin, stretch=0),
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
    def board_answer(self) -> Answer[Building]:
        """The board, put right by full solves where it was checked; none for a part without a load."""
        if not self.part.loaded:
            return Missing()
        checked = self.view.get(nodes.CHECKED)
        return checked if checked.fresh is not None else self.view.get(nodes.BUILD)

    @property
    def recipe(self) -> Recipe:
        """The recipe under discussion: tried on the board, else the stored one."""
        return self.tried or self.part.recipe

    def _try(self, recipe: Recipe | None) -> None:
        self.tried = recipe
        # What lies round it is of the recipe tried.
        self.session.choose(nodes.BUYS, recipe)
        self.session.touch()

    def _typed(self, key: str, value: float) -> None:
        self._change(key, round(value) if key in ("walls", "tops") else value)

    def _change(self, key: str, value: object) -> None:
        change: dict[str, object] = {"nozzle_c": None, "fan": None} if key == "usual" else {key: value}
        if key == "tops":
            change["bottoms"] = max(int(str(value)) - 1, 0)
        advised = self.recipe.model_copy(update={"first_layer": None}).first_mm(self.part.printer.nozzle_mm)
        if key == "first_layer" and value == advised:
            change[key] = None
        recipe = Recipe.model_validate(self.recipe.model_dump() | change)
        said = f"{value:g}" if isinstance(value, int | float) else str(value)
        named = {"nozzle_c": f"nozzle at {said} °C", "usual": "usual heat and fan"}
        words = named.get(key, f"{key.replace('_', ' ')} {said}")
        self._try(None)
        self._put(recipe, f"recipe: {words}")

    def _put(self, recipe: Recipe, words: str) -> None:
        self.workspace.edit({Kind.RECIPE: recipe}, words)

    def _pin(self) -> None:
        dot = self._dot(self.recipe)
        if dot is not None and all(d.recipe != dot.recipe for d in self.pinned):
            self.pinned = (*self.pinned, dot)[-_MOST_PINNED:]
        self.turn_to(PINNED)

    def _drop(self, recipe: Recipe) -> None:
        self.pinned = tuple(d for d in self.pinned if d.recipe != recipe)
        self.session.changed.emit()

    def _keep(self) -> None:
        if self.tried is not None:
            kept = self.tried
            self._try(None)
            self._put(kept, f"recipe: {recipe_words(kept)}")

    def _use(self) -> None:
        self._keep()
        self.session.ask(nodes.PROVE)

    def _take_material(self, name: str) -> None:
        self.workspace.edit({Kind.MATERIAL: name}, f"material {name}")

    @property
    def around(self) -> Buying | None:
        """What lies round the recipe under discussion, once it is priced."""
        return self.view.get(nodes.BUYS).fresh

    def _dot(self, recipe: Recipe) -> Dot | None:
        """The recipe's price, true of what is stored: off the board, or by itself where the board has it not."""
        b = self.board_answer.fresh
        on_board = b.board.dot(recipe) if b is not None else None
        around = self.around
        if on_board is None and around is not None and around.dot.recipe == recipe:
            return around.dot
        return on_board

    def enter(self) -> None:
        self.tried = None
        if self.session.has_part:
            self.session.choose(nodes.BUYS, None)
            if self._pinned_of != self.part.id:
                self.pinned, self._pinned_of = (), self.part.id

    def needs(self) -> tuple[Node[Any], ...]:
        page, loaded = self.tabs.front, self.part.loaded
        wanted: tuple[Node[Any], ...] = (nodes.RANKED, nodes.SETTLED, nodes.BUILD, nodes.CHECKED) if loaded else ()
        b = self.board_answer.fresh
        off_board = not loaded or (b is not None and b.board.dot(self.recipe) is None)
        if off_board or page in (BUYS, SPIRAL):
            wanted += (nodes.BUYS,)
        return wanted + ((nodes.ROOFS, nodes.EVEN) if page == ROOFS else ())

    # Showing

    def _fill_pages(self, recipe: Recipe) -> None:
        view, part, b = self.view, self.part, self.board_answer.shown
        target = b.board.target if b is not None else 2.0
        place = part.design_case.surroundings
        words = [f"{place.temperature_c:.0f} °C", *(w for w, on in (("sun", place.sun), ("rain", place.wet)) if on)]
        card = part.plain_card
        fresh = self.board_answer.fresh
        self.materials.put(fresh, card, part.recipe, ", ".join(words), shares(card, part.setting))
        self.pins.put(self.pinned, target)
        roofing, even = view.get(nodes.ROOFS), view.get(nodes.EVEN)
        self.roofs.put(roofing.fresh, even.fresh, recipe, roofing.refusal)
        buying = view.get(nodes.BUYS)
        found = buying.fresh
        self.buys.put(found, recipe, target, buying.refusal)
        mates = tuple(m.feature for m in part.mates)
        self.spiral.put(found.spiral if found is not None else None, mates, target, buying.refusal)

    def refresh(self) -> None:
        r, answer = self.recipe, self.board_answer
        for key, f in self.fields.items():
            f.put(r.first_mm(self.part.printer.nozzle_mm) if key == "first_layer" else float(getattr(r, key)))
        self.pattern.put(r.pattern)
        self._fill_pages(r)
        dot, fresh = self._dot(r), answer.fresh
        self.pin.setEnabled(dot is not None)
        checked = fresh is not None and fresh.board.checked
        self.check.setText("" if fresh is None else "Board checked" if checked else "Being checked")
        self._fill_board(answer, r, dot)
        self._fill_price(dot, r)
        self._fill_schools(fresh, dot)

    def _fill_board(self, answer: Answer[Building], r: Recipe, dot: Dot | None) -> None:
        b = answer.shown
        self.by.move(self.board.width() - self.by.width() - 18, 12)
        self.by.raise_()
        self.by.show()
        if not self.part.loaded:
            self.board.empty = "No load is stated: recipes are priced by grams and hours at “What it buys”."
        elif self.part.orientation is None:
            self.board.empty = "Choose a way to lie first; then every recipe is priced."
        else:
            self.board.empty = "Every recipe is being priced."
        self.board.put(b.board if b else None, r, dot, str(self.by.currentData()), answer.old)
        fresh = answer.fresh
        words = f"{fresh.board.cut_at[2]:.0f} mm up in the part's own frame" if fresh else ""
        self.cut.put(fresh.board.weak_outline if fresh else None, r, words)

    def _fill_price(self, dot: Dot | None, r: Recipe) -> None:
        if dot is None:
            self.price.setText(recipe_words(r))
            waits = not self.part.loaded or self.part.orientation is not None
            self.price_note.setText("Pricing this recipe …" if waits else "")
            return
        h = dot.price.hours
        self.price.setText(f"{dot.price.grams:.0f} g, {h.words(1)} h, cost {dot.price.cost:.2f}")
        over = round(100 * (self.part.factor.value - 1))
        runs = (
            f"Your printer runs {abs(over)} % {'over' if over >= 0 else 'under'}"
            if "yours" in h.source
            else "Typical pace"
        )
        priced = "yours" if "price_per_kg" in self.part.own_values else "typical"
        self.price_note.setText(f"{runs} ({h.source}). Without supports. Price a kilogram: {priced}.")

    def _fill_schools(self, b: Building | None, dot: Dot | None) -> None:
        self.preset.blockSignals(True)
        self.preset.clear()
        self.preset.addItem("Schools", None)
        for d in b.board.dots if b else ():
            if d.preset:
                self.preset.addItem(d.preset, d.recipe)
        if dot is not None and dot.preset:
            self.preset.setCurrentText(dot.preset)
        self.preset.blockSignals(False)

    def standing(self) -> Standing:
        part, proved = self.part, self.view.get(nodes.PROVE)
        words = recipe_words(part.recipe).capitalize() + f", {part.material}."
        if proved.fresh is not None:
            v = proved.fresh
            if v.withheld:
                return Standing(Mark.FULL, words + " No verdict.")
            holds = v.solved.low >= v.target
            return Standing(Mark.FULL if holds else Mark.HALF, words + f" Holds {times(v.solved.value)}.")
        if proved.old or self.board_answer.old:
            return Standing(Mark.CRACK, words + " Made for what was before.")
        return Standing(Mark.HALF if self.board_answer.fresh else Mark.OPEN, words)

    def verdict(self) -> Verdict:
        if self.part.orientation is None:
            return Verdict(
                "Choose a way to lie first.",
                "Walls and infill are judged for the way it lies.",
                acts=(Act("Back to Lay", lambda: self.go("Lay")),),
            )
        if not self.part.loaded:
            keep = Act("Use this recipe", self._keep, self.tried is not None)
            words = f"{recipe_words(self.recipe).capitalize()}, {self.part.material}."
            return Verdict(
                "No load, so no reserve.",
                f"{words} Choose by look, hours and grams at “What it buys”.",
                acts=(keep if self.tried is not None else Act("Go on to Fits", lambda: self.go("Fits")),),
            )
        proved = self.view.get(nodes.PROVE)
        if self.tried is None and proved.fresh is not None:
            return self._proved(proved.fresh)
        b = self.board_answer.fresh
        if b is None:
            return self._not_yet()
        return self._estimated(b)

    def _not_yet(self) -> Verdict:
        asked: tuple[Node[Any], ...] = (nodes.RANKED, nodes.SETTLED, nodes.BUILD)
        refused = next((r for r in (self.view.get(n).refusal for n in asked) if r), "")
        busy = any(self.view.waiting(n) for n in asked)
        last, shown = self.board_answer.shown, ""
        if last is not None and not refused:
            dot = last.board.dot(self.recipe)
            shown = times(dot.reserve.value) if dot is not None else ""
        return Verdict(
            "It cannot be priced." if refused else "Pricing every recipe." if busy else "The duty or the way changed.",
            refused or "What is shown is from before the change." if shown else refused or "It follows the way to lie.",
            number=shown,
            unit="×" if shown else "",
            tone="slate",
            acts=(Act("Price them again", lambda: self.session.ask(nodes.BUILD)),),
            old=bool(shown),
        )

    def _proved(self, proved: Proved) -> Verdict:
        """The present recipe solved with its own shell and core."""
        if proved.withheld:
            return no_verdict(proved.withheld, Act("Correct the fits", lambda: self.go("Fits")))
        v, dot = proved.solved, self._dot(self.part.recipe)
        tone = reserve_tone(v, proved.target)
        words = {"moss": "It holds.", "straw ink": "Too close to call.", "clay": "It does not hold."}[tone]
        far = ""
        if dot is not None and dot.reserve.value > 0:
            far = f" The board's estimate was {abs(v.value / dot.reserve.value - 1) * 100:.0f} % off."
        moved = f"Solved again with this shell and core; it gives {moved_words(proved.movement)}"
        return Verdict(
            words,
            f"{moved}{far} {proved.moves_far}".strip(),
            number=times(v.value),
            unit="×",
            under=(f"{times(v.low)} to {times(v.high)}", f"needed {proved.target:g}"),
            tone=tone,
            source=f"Bond: {proved.bond_source}. Infill: typical.",
            acts=(Act("Correct the fits", lambda: self.go("Fits")), Act("Solve again", self._use)),
        )

    def _estimated(self, b: Building) -> Verdict:
        """What the board says of the recipe under discussion."""
        use, target, dot = Act("Use this recipe", self._use), b.board.target, self._dot(self.recipe)
        held_back = withheld(self.part.design_case)
        if held_back:
            return no_verdict(held_back, use)
        if dot is None:
            return Verdict("Pricing this recipe.", recipe_words(self.recipe), acts=(use,))
        tone = reserve_tone(dot.reserve, target)
        advice = b.board.advice
        words = {"moss": "would hold", "straw ink": "is too close to call", "clay": "would not hold"}[tone]
        some = f"Put right by full solves of {len(ANCHORS)} recipes" if b.board.checked else "An estimate"
        held = "Solved" if dot.solved else some
        body = f"{held}; “Use this recipe” solves it."
        if advice is not None and advice.recipe != dot.recipe:
            body = f"{advice.preset}: {recipe_words(advice.recipe)}, {advice.price.grams:.0f} g. " + body
        return Verdict(
            f"{recipe_words(dot.recipe).capitalize()} {words}.",
            body,
            number=times(dot.reserve.value),
            unit="×",
            under=(f"{times(dot.reserve.low)} to {times(dot.reserve.high)}", f"needed {target:g}"),
            tone=tone,
            source=f"Bond: {self.part.card.bond.source}. Hours: {dot.price.hours.source}. Infill: typical.",
            acts=(
                use,
                Act(
                    advice.preset if advice else GUESSED,
                    lambda: self._try(advice.recipe) if advice else None,
                    advice is not None,
                ),
            ),
        )
