"""Pages of Build's panel: roofs patch by patch, what each choice buys, one spiral wall, recipes pinned."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QWidget

from knollside.core.job.questions.recipe import Buying, Roofing
from knollside.core.job.variants import Variant
from knollside.core.model import Recipe
from knollside.core.recipe.board import Dot
from knollside.core.recipe.breakeven import BreakEven
from knollside.core.recipe.roofs import CLOSES_MM, Roof
from knollside.core.recipe.spiral import Spiral
from knollside.gui.instruments.charts import EvenChart
from knollside.gui.instruments.widgets import Dropdown, button, heading, label, reserve_tone, row, rule, times
from knollside.gui.steps.page import Page, Same, line

_KINDS = {"pattern": "Infill pattern", "layer": "Layer height", "nozzle": "Nozzle"}


def hours(dot: Dot) -> str:
    h = dot.price.hours
    return f"{h.low:.1f}–{h.high:.1f}" if h.high < 10 else f"{h.low:.0f}–{h.high:.0f}"


def _reserve(dot: Dot) -> str:
    return f"{times(dot.reserve.value)}×" if dot.reserve.value == dot.reserve.value else "–"


class RoofsPage(Page):
    """Every roof with its free span, now and left empty; what closes it; from which size empty pays."""

    def put(self, found: Roofing | None, even: BreakEven | None, recipe: Recipe, refused: str) -> None:
        if not self.fresh((Same(found), Same(even), recipe, refused)):
            return
        if found is None:
            self.add(label(refused or "Looking at the roofs …", dim=True, wrap=True))
            return
        if recipe.infill >= 1:
            self.add(line("Solid: nothing to close", "", ""))
        elif not found.roofs:
            self.add(line("No roof over sparse infill", "", ""))
        else:
            self._roofs(found, recipe)
        if even is not None:
            plot = EvenChart()
            plot.put(even)
            self.add(rule(), heading("When empty pays"), plot, label(_pays(even), dim=True, wrap=True))

    def _roofs(self, found: Roofing, recipe: Recipe) -> None:
        open_ = sum(not r.closes for r in found.roofs)
        now = f"{recipe.infill * 100:.0f} % infill" if recipe.infill else "empty"
        title = f"{open_} of {len(found.roofs)} roofs would not close" if open_ else "All roofs close"
        self.add(heading(title, now))
        for r in found.roofs[:8]:
            bare = min(found.empty, key=lambda e: math.dist(e.at, r.at), default=None)
            area = f"{r.area / 100:.1f} cm²" if r.area >= 50 else f"{r.area:.0f} mm²"
            notes = [] if r.closes else [closing(r)]
            if bare is not None and recipe.infill:
                notes.append(f"Left empty: {_span(bare)}, {'closes' if bare.closes else 'stays open'}.")
            mark = "closes" if r.closes else "stays open"
            self.add(line(f"At {r.height:.0f} mm, {area}", f"{_span(r)}, {mark}", " ".join(notes), False))
        if len(found.roofs) > 8:
            self.add(label(f"and {len(found.roofs) - 8} smaller ones", dim=True))
        self.add(
            label(
                f"Free spans in mm; {CLOSES_MM:.0f} mm close (typical, until you print a bridge).", dim=True, wrap=True
            )
        )


def _span(r: Roof) -> str:
    return f"hangs out {r.span:.1f} mm" if r.one_sided else f"spans {r.span:.0f} mm"


def closing(r: Roof) -> str:
    """What would close one roof."""
    if r.one_sided:
        return f"Hangs out on one side: {math.ceil(100 * r.infill)} % infill under it, or a fillet in the model."
    ribs = math.ceil(r.span / CLOSES_MM) - 1
    rib = "a rib across it" if ribs == 1 else f"{ribs} ribs across it"
    return f"{math.ceil(100 * r.infill)} % infill under it only, {rib}, or lying another way."


def _pays(e: BreakEven) -> str:
    k = int(min(range(len(e.scales)), key=lambda i: abs(math.log(float(e.scales[i])))))
    here = 100 * float(e.saving[k])
    now = f"At this size it {'saves' if here >= 0 else 'costs'} {abs(here):.0f} % of the filament"
    presets = f"{e.empty.walls} walls and empty, against {e.filled.walls} walls and {e.filled.infill * 100:.0f} %. "
    if e.pays is None:
        return f"{presets}{now}; it never saves a tenth up to four times the size."
    if e.pays <= float(e.scales[0]) * 1.001:
        return f"{presets}{now}; it saves a tenth or more at any size."
    return f"{presets}{now}; a tenth or more from {e.pays:.1f} times this size."


class BuysPage(Page):
    """Patterns, layer heights and nozzles round the recipe; a click tries one."""

    def __init__(self, pick: Callable[[Recipe], None]) -> None:
        super().__init__()
        self._pick = pick

    def put(self, buys: Buying | None, recipe: Recipe, target: float, refused: str) -> None:
        if not self.fresh((Same(buys), recipe, target, refused)):
            return
        if buys is None:
            self.add(label(refused or "Pricing what lies round this recipe …", dim=True, wrap=True))
            return
        for kind, words in _KINDS.items():
            rows = [v for v in buys.variants if v.kind == kind]
            if rows:
                self.add(heading(words, "reserve, grams, hours"), self._table(rows, recipe, target))
        if recipe.infill in (0.0, 1.0):
            self.add(label("Patterns matter between empty and solid only.", dim=True, wrap=True))
        self.add(
            label(
                "Tops keep their depth, walls their thickness. Thick layers are pressed less: the bond falls past "
                "half the bore (typical).",
                dim=True,
                wrap=True,
            )
        )

    def _table(self, rows: list[Variant], recipe: Recipe, target: float) -> QWidget:
        table = QWidget()
        grid = QGridLayout(table)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(0)
        grid.setColumnStretch(0, 1)
        for i, v in enumerate(rows):
            mine = v.dot.recipe == recipe
            name = button(v.name.capitalize(), partial(self._pick, v.dot.recipe), plain=True, tip=f"Try it: {v.note}")
            name.setAccessibleName(f"Try {v.kind} {v.name}")
            name.setStyleSheet("text-align: left;" + (" font-weight: 700;" if mine else ""))
            value = label(_reserve(v.dot), 14, 700)
            value.setProperty("tone", reserve_tone(v.dot.reserve, target))
            grid.addWidget(name, 2 * i, 0)
            cells = (value, label(f"{v.dot.price.grams:.0f} g", 13), label(f"{hours(v.dot)} h", 13))
            for j, cell in enumerate(cells):
                grid.addWidget(cell, 2 * i, j + 1, Qt.AlignmentFlag.AlignRight)
            note = label(("as it is: " if mine else "") + v.note, dim=True, wrap=True)
            note.setContentsMargins(8, 0, 0, 5)
            grid.addWidget(note, 2 * i + 1, 0, 1, 4)
        return table


class SpiralPage(Page):
    """One endless wall against two, and which face moves when a wall gets thicker."""

    def __init__(self, to_fits: Callable[[], None]) -> None:
        super().__init__()
        self._to_fits = to_fits
        self.stays = "outside"

    def put(self, spiral: Spiral | None, mates: tuple[str, ...], target: float, refused: str) -> None:
        if not self.fresh((Same(spiral), mates, target, refused, self.stays)):
            return
        if spiral is None:
            self.add(label(refused or "Trying one spiral wall …", dim=True, wrap=True))
            return
        title = "One spiral wall can print it" if spiral.possible else "Not as one spiral wall"
        self.add(line(title, "", spiral.why))
        if not spiral.possible:
            self.add(label("What one or two walls alone would hold, printed plainly:", dim=True, wrap=True))
        for words, dot in (("One wall", spiral.one), ("Two walls", spiral.two)):
            under = f"{dot.price.grams:.0f} g, {hours(dot)} h, {dot.recipe.line_width * dot.recipe.walls:.2g} mm thick"
            self.add(line(words, _reserve(dot), under))
        self.add(rule(), heading("Which face moves"))
        stays = Dropdown("Face that stays", [("Outside stays", "outside"), ("Inside stays", "inside")], 12)
        stays.put(self.stays)
        stays.chose.connect(self._stay)
        self.add(row(label("One line thicker:"), stays, stretch=0))
        across = spiral.across
        if self.stays == "outside":
            moved = f"The inside comes in {spiral.line:.2f} mm a side: {across:.2f} mm less room across."
            cure = f"What goes inside must be {across:.2f} mm smaller, or the shell drawn {across:.2f} mm larger."
        else:
            moved = f"The outside goes out {spiral.line:.2f} mm a side: {across:.2f} mm larger across."
            cure = f"What it sits in must open {across:.2f} mm, or the shell be drawn {across:.2f} mm smaller."
        self.add(label(moved, 14, 600, wrap=True), label(cure, wrap=True))
        named = ", ".join(m.replace("-", " ") for m in mates[:4])
        words = f"Mates of this part: {named}." if mates else "No mate is named on this part yet."
        self.add(label(words, dim=True, wrap=True), row(button("Look at the fits", self._to_fits), stretch=-2))

    def _stay(self, which: object) -> None:
        self.stays = str(which)
        self.changed.emit()


class PinnedPage(Page):
    """Up to four recipes in columns."""

    def __init__(self, pick: Callable[[Recipe], None], drop: Callable[[Recipe], None]) -> None:
        super().__init__()
        self._pick, self._drop = pick, drop

    def put(self, pinned: tuple[Dot, ...], target: float) -> None:
        if not self.fresh((tuple(Same(d) for d in pinned), target)):
            return
        if not pinned:
            self.add(
                label("Pin a recipe with the button above, then another, and see them here side by side.", wrap=True)
            )
            return
        table = QWidget()
        grid = QGridLayout(table)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(5)
        rows: tuple[tuple[str, Callable[[Dot], str]], ...] = (
            ("reserve", _reserve),
            ("range", lambda d: f"{times(d.reserve.low)}–{times(d.reserve.high)}"),
            ("grams", lambda d: f"{d.price.grams:.0f}"),
            ("hours", hours),
            ("cost", lambda d: f"{d.price.cost:.2f}"),
            ("walls", lambda d: str(d.recipe.walls)),
            ("infill", lambda d: f"{d.recipe.infill * 100:.0f} %"),
            ("pattern", lambda d: d.recipe.pattern if 0 < d.recipe.infill < 1 else "–"),
            ("tops", lambda d: str(d.recipe.tops)),
            ("layer, mm", lambda d: f"{d.recipe.layer_height:g}"),
            ("line, mm", lambda d: f"{d.recipe.line_width:g}"),
        )
        for i, (name, words) in enumerate(rows):
            grid.addWidget(label(name, 13, dim=True), i, 0)
            for j, d in enumerate(pinned):
                cell = label(words(d), 13, 700 if i == 0 else 400)
                if i == 0:
                    cell.setProperty("tone", reserve_tone(d.reserve, target))
                cell.setAccessibleName(f"{name} of pinned recipe {j + 1}")
                grid.addWidget(cell, i, j + 1, Qt.AlignmentFlag.AlignRight)
        for j, d in enumerate(pinned):
            take = button("Try", partial(self._pick, d.recipe))
            take.setAccessibleName(f"Try pinned recipe {j + 1}")
            gone = button("Drop", partial(self._drop, d.recipe), plain=True)
            gone.setAccessibleName(f"Drop pinned recipe {j + 1}")
            grid.addWidget(take, len(rows), j + 1)
            grid.addWidget(gone, len(rows) + 1, j + 1)
        self.add(heading("Pinned recipes"), table)
