"""The guide through setting up a printer: ticked step by step, kept with the printer, folded once it is done."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QCheckBox, QWidget

from knollside.core.job.questions.setup import FirstPieces
from knollside.core.material.cards import MATERIALS, Material
from knollside.core.model import PrinterFacts, Recipe
from knollside.core.model.running import Tick
from knollside.core.recipe.price import time_factor
from knollside.core.run.setup import MARK, SetUpStep, by_hand, ticked
from knollside.gui.instruments.widgets import button, column, heading, label, row
from knollside.gui.session import Session
from knollside.gui.spoolfacts import loaded_on
from knollside.gui.steps.ofprinter import OfPrinter
from knollside.gui.worker import Outcome
from knollside.store.parts import USUAL_MATERIAL
from knollside.store.records import PrintRecord


class SetUpPage(OfPrinter):
    """Folded until it is asked for."""

    def __init__(self, session: Session, at: Callable[[], int | None]) -> None:
        super().__init__(session, at)
        self.shown = False
        self._pieces: dict[str, tuple[SetUpStep, ...]] = {}
        self._asked = ""

    def _prints(self) -> tuple[PrintRecord, ...]:
        return tuple(r for r in self.workspace.kept.every_print() if r.printer_id == self._at())

    def _question(self, facts: PrinterFacts) -> FirstPieces:
        factor = time_factor([(r.estimate_hours or 0, r.actual_hours or 0) for r in self._prints()])
        return FirstPieces(facts, Recipe(line_width=round(1.1 * facts.nozzle_mm, 2)), self._card(), factor)

    def _card(self) -> Material:
        """Of what is loaded; the usual material where that is none."""
        shelf, number = self.workspace.shelf, self._at() or 0
        spool = next((s for s in shelf.spools if str(s.id) == loaded_on(shelf).get(number)), None)
        told = self.log.loaded if spool is None else spool.material
        known = [name for name in MATERIALS if told.startswith(name)]
        return MATERIALS[max(known, key=len, default=USUAL_MATERIAL)]

    def _came(self, key: str, outcome: Outcome) -> None:
        if outcome.result is not None:
            self._pieces = {key: outcome.result}

    def _fold(self) -> None:
        self.shown = not self.shown
        self.session.touch()

    def _tick(self, key: str, on: bool) -> None:
        kept = tuple(t for t in self.log.ticks if t.line != MARK + key)
        if on:
            kept = (*kept, Tick(line=MARK + key, at=self.workspace.now()))
        self.put({"ticks": kept}, f"{key} {'done' if on else 'not done'}")

    def refresh(self) -> None:
        facts = self.facts
        if facts is None:
            self.fresh(None)
            return
        pieces: tuple[SetUpStep, ...] | None = None
        if self.shown:
            question = self._question(facts)
            pieces = self._pieces.get(question.key)
            if pieces is None and self._asked != question.key:
                self._asked = question.key
                self.session.once("first pieces", question, partial(self._came, question.key))
        done = ticked(self.log.ticks)
        if self.fresh((self._at(), facts, done, self.shown, pieces)):
            self._fill(facts, done, pieces)

    def _fill(self, facts: PrinterFacts, done: frozenset[str], pieces: tuple[SetUpStep, ...] | None) -> None:
        hand = by_hand(facts)
        left = sum(s.key not in done for s in hand)
        words = "Set it up, step by step" if not self.shown else "Fold it away"
        # Of a printer that has run without this list nothing is left to count.
        side = "" if not done and self._prints() else "by hand: all done" if not left else f"{left} of {len(hand)} left"
        self.add(heading("Setting up", side), row(button(words, self._fold), stretch=-2))
        if not self.shown:
            return
        for s in hand:
            self.add(self._step(s, s.key in done))
        self.add(heading("First test pieces", "in this order"))
        if pieces is None:
            self.add(label("They are made and priced …", dim=True))
            return
        for s in pieces:
            self.add(self._step(s, s.key in done))
        hours = sum(s.hours.value for s in pieces if s.hours is not None)
        grams = sum(s.grams or 0.0 for s in pieces)
        words = (
            f"Together {hours:.1f} h and {grams:.0f} g of {self._card().name}. Make them at Proof, measure at Bench."
        )
        self.add(label(words, dim=True, wrap=True))

    def _step(self, s: SetUpStep, done: bool) -> QWidget:
        box = QCheckBox(s.words)
        box.setAccessibleName(s.words)
        box.setChecked(done)
        box.clicked.connect(lambda on: self._tick(s.key, on))
        cost = "" if s.hours is None or s.grams is None else f"{s.hours.words(1)} h, {s.grams:.0f} g"
        return column(row(box, label(cost, dim=True), stretch=0), label(s.how, dim=True, wrap=True), spacing=0)
