"""What the open part asks of the worker, and the keys that tell whether an answer is still true."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QObject

from knollside.core.job.file import PrinterFacts
from knollside.core.material.cards import Material
from knollside.core.model import FaceMark, Holding, Measurement, Range, Recipe
from knollside.core.strength.trust import Trust
from knollside.desk import tasks
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
    bonds: dict[str, Range]
    factor: Range
    readings: tuple[Measurement, ...]

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.answers = Answers(work)

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
            d.material,
            self.bonds.get(d.material),
            self.printer.bed_mm,
        )

    @property
    def shape_key(self) -> object:
        """All that a solve rests on but the forces themselves."""
        assert self.doc is not None
        d = self.doc
        places = tuple(tuple((ld.feature, ld.at) for ld in c.loads) for c in d.duty.cases)
        return (d.mesh_hash, d.duty.held, places, d.duty.critical_mm, d.material)

    @property
    def stair_key(self) -> object:
        assert self.doc is not None
        d = self.doc.duty
        treads = tuple(sorted(d.treads.items()))
        return (d.cases, d.surroundings, treads, self.doc.material, self.bonds.get(self.doc.material))

    @property
    def build_key(self) -> object:
        return (self.lay_key, self.way, self.factor)

    @property
    def prove_key(self) -> object:
        assert self.doc is not None
        return (self.lay_key, self.way, self.doc.recipe)

    @property
    def fits_key(self) -> object:
        assert self.doc is not None
        return (self.doc.mesh_hash, self.doc.mates, self.way, self.readings)

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
        return (self.lay_key, self._printed, self.holding.school, self.factor)

    @property
    def marks(self) -> dict[str, FaceMark]:
        """What was said of features; those with something to go in mate unless said otherwise."""
        assert self.doc is not None
        return {m.feature: FaceMark.MATES for m in self.doc.mates} | self.doc.duty.marks

    # Asking for answers

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
        laying = self.answers.fresh("lay", self.lay_key) if self.doc is not None else None
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
                self.bonds,
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
        laying = self.answers.fresh("lay", self.lay_key) if self.doc is not None else None
        if laying is not None and self.doc is not None:
            mates = tuple(m.feature for m in self.doc.mates)
            holding = self.holding.model_copy(update={"by_hand": {}})  # chosen for one way, not for the others
            at = self.facts, self.marks, mates, laying, self.doc.recipe, holding, self.card, self.printer, self.factor
            self.work.ask("compare", self.compare_key, tasks.compare, *at)

    def request_why(self, direction: tuple[float, float, float]) -> None:
        """What speaks for and against one direction of the net."""
        laying = self.answers.fresh("lay", self.lay_key) if self.doc is not None else None
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
        laying = self.answers.fresh("lay", self.lay_key) if self.doc is not None else None
        if laying is not None and self.doc is not None:
            self.work.ask("trust", self.lay_key, tasks.trust, self.facts, self.doc.duty, laying, self.printer.bed_mm)

    def request_units(self) -> None:
        """Solve each force alone, aside: a changed force then needs no new solve."""
        laying = self.answers.fresh("lay", self.lay_key) if self.doc is not None else None
        if laying is None or self.doc is None or self.answers.key("units") == self.shape_key:
            return
        self.work.ask("units", self.shape_key, tasks.units, self.facts, self.doc.duty, laying, self.shape_key)

    @property
    def trust(self) -> Trust | None:
        """What backs the ways as they now are, or None."""
        found = self.answers.fresh("trust", self.lay_key) if self.doc is not None else None
        return found[0] if found is not None else None

    def request_build(self) -> None:
        laying = self.answers.fresh("lay", self.lay_key) if self.doc is not None else None
        if laying is not None and self.doc is not None:
            self.work.ask(
                "build",
                self.build_key,
                tasks.build,
                self.facts,
                laying.strength,
                self.doc.duty,
                self.way,
                self.printer,
                self.bonds,
                self.factor,
            )

    def roofs_key(self, recipe: Recipe) -> object:
        assert self.doc is not None
        return (self.doc.mesh_hash, self.way, recipe)

    def request_roofs(self, recipe: Recipe) -> None:
        """Whether the roofs of a recipe close."""
        if self.doc is not None and self.facts is not None:
            self.work.ask("roofs", self.roofs_key(recipe), tasks.roofs_of, self.facts, self.way, recipe)

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

    def request_fits(self) -> None:
        if self.doc is not None and self.facts is not None:
            self.work.ask("fits", self.fits_key, tasks.fits, self.facts, self.doc.mates, self.way, self.readings)

    def request_part(self) -> None:
        if self.doc is not None:
            self.answers.work.ask("opened", self.doc.mesh_hash, tasks.open_part, self.doc.mesh)
