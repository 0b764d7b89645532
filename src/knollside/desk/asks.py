"""What the open part asks of the worker, and the keys that tell whether an answer is still true."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject

from knollside.core.job.file import PrinterFacts
from knollside.core.lay.ways import WEIGHTS, RatedWay, weighed
from knollside.core.material.cards import Material
from knollside.core.model import FaceMark, Holding, Range, Recipe
from knollside.core.strength.trust import Trust
from knollside.desk import buildtasks, tasks
from knollside.desk.answers import Answers
from knollside.desk.work import Work
from knollside.store.workshop import PartDoc

UP = (0.0, 0.0, 1.0)
CELLS = 50_000


class Asks(QObject):
    """The asking half of the state: a key is the inputs themselves, so that an old answer is known to be old."""

    doc: PartDoc | None
    printer: PrinterFacts
    card: Material
    cards: dict[str, Material]
    factor: Range

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.answers = Answers(work)
        self._weighed: tuple[object, tasks.Laying | None] = (None, None)

    @property
    def way(self) -> tuple[float, float, float]:
        return self.doc.way.direction if self.doc is not None and self.doc.way is not None else UP

    # Keys: the inputs an answer rests on

    @property
    def lay_key(self) -> object:
        assert self.doc is not None
        d = self.doc
        return (
            d.mesh_hash,
            d.duty.held,
            d.duty.cases,
            d.duty.surroundings,
            d.duty.danger,
            d.duty.purpose,
            tuple(sorted(d.duty.treads.items())),
            d.duty.critical_mm,
            self.card,
            self.printer.bed_mm,
        )

    @property
    def shape_key(self) -> object:
        """All that a solve rests on but the forces themselves."""
        assert self.doc is not None
        d = self.doc
        places = tuple(tuple((ld.feature, ld.at) for ld in c.loads) for c in d.duty.cases)
        return (d.mesh_hash, d.duty.held, places, d.duty.critical_mm, d.material, self.card.modulus.value)

    @property
    def stair_key(self) -> object:
        assert self.doc is not None
        d = self.doc.duty
        treads = tuple(sorted(d.treads.items()))
        return (d.cases, d.surroundings, treads, self.card)

    @property
    def build_key(self) -> object:
        """The board starts from the recipe's layer, line and pattern; its walls and infill are what it varies."""
        assert self.doc is not None
        r = self.doc.recipe
        return (self.pricer_key, r.layer_height, r.line_width, r.pattern, self.printer)

    @property
    def pricer_key(self) -> object:
        return (self.lay_key, self.way, self.factor, self.printer.nozzle_mm)

    @property
    def prove_key(self) -> object:
        assert self.doc is not None
        return (self.lay_key, self.way, self.doc.recipe)

    @property
    def holding(self) -> Holding:
        return self.doc.way.holding if self.doc is not None and self.doc.way is not None else Holding()

    @property
    def _printed(self) -> tuple[object, ...]:
        """What layers and supports rest on besides the way: marks, recipe's sizes, material, support settings."""
        assert self.doc is not None
        d, h = self.doc, self.holding
        marks = tuple(sorted(self.marks.items()))
        return (d.mesh_hash, marks, d.recipe, h.style, h.density, h.interface, h.gap_mm, d.material, self.printer)

    @property
    def supports_key(self) -> object:
        return (self.way, self._printed, self.weak)

    @property
    def weak(self) -> tuple[tuple[float, float, float], ...]:
        """Places of the chosen way that would go first, away from its supports; none before it is worked out."""
        assert self.doc is not None
        ready = self.doc.duty.held and self.doc.duty.cases
        detail = self.answers.fresh("detail", (self.lay_key, self.way)) if ready else None
        return tuple(p.at for p in detail.places if not p.at_support) if detail is not None else ()

    @property
    def compare_key(self) -> object:
        assert self.doc is not None
        weights = tuple(sorted(self.doc.duty.weights.items()))
        return (
            self.lay_key,
            self._printed,
            self.holding.school,
            self.factor,
            weights,
            tuple(w.letter for w in self.listed),
        )

    @property
    def marks(self) -> dict[str, FaceMark]:
        """What was said of features; those with something to go in mate unless said otherwise."""
        assert self.doc is not None
        return {m.feature: FaceMark.MATES for m in self.doc.mates} | self.doc.duty.marks

    @property
    def laying(self) -> tasks.Laying | None:
        """The ways, fresh or old, in the order the person's own weights give."""
        found: tasks.Laying | None = self.answers.get("lay")
        if found is None or self.doc is None or not self.doc.duty.weights:
            return found
        key = (id(found), tuple(sorted(self.doc.duty.weights.items())))
        if self._weighed[0] != key:
            ranking = weighed(found.ranking, WEIGHTS[found.ranking.purpose] | self.doc.duty.weights)
            self._weighed = (key, tasks.Laying(found.strength, ranking))
        return self._weighed[1]

    @property
    def fresh_laying(self) -> tasks.Laying | None:
        """The ways, if they are still true of what is stored."""
        if self.doc is None or self.answers.fresh("lay", self.lay_key) is None:
            return None
        return self.laying

    @property
    def loaded(self) -> bool:
        """Whether a load and a hold are stated, so that strength can be weighed."""
        return self.doc is not None and bool(self.doc.duty.held and self.doc.duty.cases)

    @property
    def listed(self) -> tuple[RatedWay, ...]:
        """The short list that is true of what is stored: by strength where a load is stated, else by shape."""
        if self.doc is None:
            return ()
        if self.loaded:
            laying = self.fresh_laying
            return laying.ranking.ways if laying is not None else ()
        return self.answers.fresh("plain ways", self.plain_ways_key) or ()

    @property
    def plain_ways_key(self) -> object:
        assert self.doc is not None
        d, r = self.doc.duty, self.doc.recipe
        weights = tuple(sorted(d.weights.items()))
        return (self.doc.mesh_hash, r.layer_height, r.line_width, d.purpose, weights, self.printer.bed_mm)

    # Asking for answers

    def missing(self, name: str, key: object, ask: Callable[[], None]) -> str:
        """Ask once for what is not there, not under way and not refused; the words of a refusal, if there was one."""
        refused = self.answers.refusal(name, key)
        if self.answers.fresh(name, key) is None and not refused and not self.work.waiting(name):
            ask()
        return refused

    @property
    def facts(self) -> Any:
        opened = self.answers.fresh("opened", self.doc.mesh_hash) if self.doc is not None else None
        return opened.facts if opened is not None else None

    def request_lay(self) -> None:
        if self.doc is not None and self.facts is not None:
            self.work.ask(
                "lay",
                self.lay_key,
                tasks.lay,
                self.facts,
                self.doc.duty,
                self.doc.recipe,
                self.card,
                self.printer.bed_mm,
                CELLS,
                self.shape_key,
            )

    def request_detail(self, letter: str = "") -> None:
        """The layer log of the chosen way."""
        laying = self.fresh_laying
        if laying is not None and self.doc is not None:
            building = self.answers.fresh("build", self.build_key)
            self.work.ask(
                "detail",
                (self.lay_key, self.way),
                tasks.detail,
                self.facts,
                self.doc.duty,
                laying,
                self.printer,
                tuple(self.cards.values()),
                self.way,
                letter,
                building.board if building is not None else None,
            )
        elif self.doc is not None and self.facts is not None:
            self.work.ask(
                "plain log",
                (self.doc.mesh_hash, self.way, self.doc.recipe),
                tasks.plain_log,
                self.facts,
                self.way,
                self.doc.recipe,
            )

    def request_supports(self) -> None:
        """The places of the chosen way that rest on nothing."""
        if self.doc is not None and self.facts is not None:
            at = self.facts, self.marks, self.way, self.doc.recipe, self.holding, self.card, self.printer, self.weak
            self.work.ask("supports", self.supports_key, tasks.supports, *at)

    def request_compare(self) -> None:
        """The first ways of the list side by side."""
        ways = self.listed[:4]
        if ways and self.doc is not None:
            mates = tuple(m.feature for m in self.doc.mates)
            holding = self.holding.model_copy(update={"by_hand": {}})  # chosen for one way, not for the others
            at = self.facts, self.marks, mates, ways, self.doc.recipe, holding, self.card, self.printer, self.factor
            self.work.ask("compare", self.compare_key, tasks.compare, *at)

    def request_plain_ways(self) -> None:
        """Ways for a part without a load."""
        if self.doc is not None and self.facts is not None:
            d = self.doc
            at = self.facts, d.recipe, d.duty.purpose, dict(d.duty.weights), self.printer.bed_mm
            self.work.ask("plain ways", self.plain_ways_key, tasks.plain_ways, *at)

    def request_split(self) -> None:
        """Where a cut would pay, against the way that is chosen (or the first)."""
        laying, way = self.fresh_laying, self.whole
        if laying is not None and way is not None:
            at = self.facts, laying.strength, way, self.printer.bed_mm
            self.work.ask("split", self.split_key, tasks.split, *at)

    @property
    def whole(self) -> RatedWay | None:
        """The way a cut is held against: the chosen one, else the first of the list."""
        laying = self.fresh_laying
        if laying is None or not laying.ranking.ways:
            return None
        same = [w for w in laying.ranking.ways if sum(a * b for a, b in zip(w.direction, self.way)) > 0.99999]
        return same[0] if same else laying.ranking.ways[0]

    @property
    def split_key(self) -> object:
        way = self.whole
        return (self.lay_key, way.direction if way is not None else None)

    def request_why(self, direction: tuple[float, float, float]) -> None:
        """What speaks for and against one direction of the net."""
        laying = self.fresh_laying
        if laying is not None:
            self.work.ask(
                "why",
                (self.lay_key, direction),
                tasks.why,
                self.facts,
                laying.strength,
                self.printer.bed_mm,
                direction,
            )

    def request_trust(self) -> None:
        """Solve on another grid and in layers, aside, once the ways are listed."""
        laying = self.fresh_laying
        if laying is not None and self.doc is not None:
            self.work.ask("trust", self.lay_key, tasks.trust, self.facts, self.doc.duty, laying, self.printer.bed_mm)

    def request_units(self) -> None:
        """Solve each force alone, aside: a changed force then needs no new solve."""
        laying = self.fresh_laying
        if laying is None or self.doc is None or self.answers.key("units") == self.shape_key:
            return
        self.work.ask("units", self.shape_key, tasks.units, self.facts, self.doc.duty, laying, self.shape_key)

    @property
    def trust(self) -> Trust | None:
        """What backs the ways as they now are, or None."""
        found = self.answers.fresh("trust", self.lay_key) if self.doc is not None else None
        return found[0] if found is not None else None

    def _board(self) -> buildtasks.Asked | None:
        laying = self.fresh_laying
        if laying is None or self.doc is None:
            return None
        d, cards = self.doc, tuple(self.cards.values())
        at = self.facts, laying.strength, d.duty, self.way, d.recipe, self.printer, cards, self.factor
        return buildtasks.Asked(*at, self.pricer_key)

    def request_build(self) -> None:
        asked = self._board()
        if asked is not None:
            self.work.ask("build", self.build_key, buildtasks.build, asked)

    def request_check_board(self) -> None:
        """Hold the board against a few full solves."""
        asked = self._board()
        if asked is not None:
            self.work.ask("check board", self.build_key, buildtasks.check_board, asked, CELLS)

    def buys_key(self, recipe: Recipe) -> object:
        return (self.pricer_key, self.printer.nozzle_mm, recipe)

    def request_buys(self, recipe: Recipe) -> None:
        """Price one recipe, and what other patterns, layers and nozzles would buy."""
        laying = self.fresh_laying
        if self.facts is not None and (laying is not None or not self.loaded):
            strength = laying.strength if laying is not None else None
            at = self.facts, strength, self.card, self.way, recipe, self.printer.nozzle_mm, self.factor, self.pricer_key
            self.work.ask("buys", self.buys_key(recipe), buildtasks.buys, *at)

    def roofs_key(self, recipe: Recipe) -> object:
        assert self.doc is not None
        return (self.doc.mesh_hash, self.way, recipe)

    def request_roofs(self, recipe: Recipe) -> None:
        """Whether the roofs of a recipe close."""
        if self.doc is not None and self.facts is not None:
            self.work.ask("roofs", self.roofs_key(recipe), buildtasks.roofs_of, self.facts, self.way, recipe)

    def even_key(self, recipe: Recipe) -> object:
        return (self.roofs_key(recipe), self.card.density)

    def request_even(self, recipe: Recipe) -> None:
        """From which size an empty shell saves."""
        if self.doc is not None and self.facts is not None:
            self.work.ask("even", self.even_key(recipe), buildtasks.even, self.facts, self.way, recipe, self.card)

    def request_prove(self, quick: Range) -> None:
        if self.doc is not None and self.facts is not None and self.doc.way is not None:
            self.work.ask(
                "prove",
                self.prove_key,
                tasks.prove,
                self.facts,
                self.doc.duty,
                self.doc.recipe,
                self.card,
                self.doc.way,
                quick,
                CELLS,
            )

    def request_part(self) -> None:
        if self.doc is not None:
            self.answers.work.ask("opened", self.doc.mesh_hash, tasks.open_part, self.doc.mesh)
