"""Bench's page of clean-up and dry fit: one place after another, lit on the part, then what goes with it."""

from __future__ import annotations

from functools import partial

from knollside.core.fit.dryfit import Moves, Try
from knollside.core.job.questions.cleanup import Finishing
from knollside.core.lay.cleanup import CAUTIONS, Chore
from knollside.core.model import GapTrial
from knollside.core.model.fitchecks import FitCheck, FitChecks
from knollside.gui import nodes
from knollside.gui.instruments.widgets import button, heading, label, row, rule
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.page import Page, Same

_MOVED: tuple[Moves, ...] = ("by itself", "with a push", "not at all")


class CleanPage(Page, Seeing):
    """What is done is of this print in the hand, and kept while the window is open; what a mate did is stored."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.at = 0
        self._of: object = None
        self.margins(16, 12)

    @property
    def finishing(self) -> Finishing | None:
        return self.view.get(nodes.FINISH).fresh

    @property
    def chore(self) -> Chore | None:
        """The place that is lit; None once all are done."""
        told = self.finishing
        return told.chores[self.at] if told is not None and self.at < len(told.chores) else None

    @property
    def heights(self) -> list[float]:
        """Where the chores begin over the bed, mm."""
        told = self.finishing
        return [c.low for c in told.chores if c.high > 0] if told is not None else []

    @property
    def checks(self) -> tuple[FitCheck, ...]:
        """What the mates of this part did before."""
        kept = self.workspace.shelf.fit_checks.get(self.part.id)
        return kept.checks if kept is not None else ()

    # Acts

    def next(self) -> None:
        told = self.finishing
        if told is not None:
            self.at = min(self.at + 1, len(told.chores))
            self.session.touch()

    def back(self) -> None:
        self.at = max(self.at - 1, 0)
        self.session.touch()

    def turn_to(self, k: int) -> None:
        self.at = k
        self.session.touch()

    def moved(self, t: Try, how: Moves) -> None:
        """What a moving mate did when it was tried dry; of two bodies printed in place it tells what gap comes free."""
        part = self.part
        if part.printer_id is None:
            self.workspace.said.emit("Add your printer at Workshop first; what moves is told of one.")
            return
        fits = self.view.get(nodes.FITS).fresh
        c = next((c for c in fits.corrections if c.feature == t.key), None) if fits is not None else None
        printed = c.printed_now if c is not None else None
        made = FitCheck(mate=t.key, at=self.workspace.now(), moved=how, revision=part.revision, printed_mm=printed)
        trial, pair, freed = None, t.between, how != "not at all"
        # What moves is free all round; what is stuck tells of the gap in the layer only where nothing else can hold it.
        if pair is not None and pair.gap is not None and 0.005 <= pair.gap <= 5 and (freed or pair.alone):
            h = part.recipe.layer_height
            trial = GapTrial(direction="in the layer", drawn=pair.gap, freed=freed, layer_height=h)
        kept = FitChecks(checks=(*self.checks, made))
        self.workspace.runs.put_fit_checks(part.id, kept, f"{t.key.replace('-', ' ')} moves {how}", trial)

    # Showing

    def refresh(self) -> None:
        of = self.part.mesh_hash, self.part.orientation
        if of != self._of:
            self._of, self.at = of, 0
        told = self.finishing
        refused = self.view.get(nodes.FINISH).refusal
        if self.fresh((Same(told), self.at, self.checks, refused)):
            self._fill(told, refused)

    def _fill(self, told: Finishing | None, refused: str) -> None:
        if told is None:
            self.add(heading("Clean up"), label(refused or "Looking through the layers …", dim=True, wrap=True))
            return
        many = len(told.chores)
        self.add(heading("Clean up", f"{min(self.at + 1, many)} of {many}" if self.at < many else "done"))
        for k, c in enumerate(told.chores):
            if k == self.at:
                self._open(k, c)
            else:
                done = "✓ " if k < self.at else ""
                words = f"{done}{k + 1}  {c.mess.value}, {c.tool}"
                self.add(row(button(words, partial(self.turn_to, k), plain=True), stretch=-2))
        self.add(label(" ".join(CAUTIONS[:2]) if self.at < many else " ".join(CAUTIONS[2:]), dim=True, wrap=True))
        self.add(rule(), heading("Dry fit", "in this order" if told.tries else ""))
        if not told.tries:
            self.add(label("Nothing goes with it yet: say at Fits what does.", dim=True, wrap=True))
        for k, t in enumerate(told.tries):
            self._try(k, t)

    def _open(self, k: int, c: Chore) -> None:
        where = f"{c.low:.0f} to {c.high:.0f} mm up" if c.high - c.low >= 1 else f"{c.low:.0f} mm up"
        where = "at the bed" if c.high < 1 else where
        place = "" if c.high <= 0 else f", {where}"
        self.add(label(f"{k + 1}  {c.mess.value}{place}", 14, 700, wrap=True))
        self.add(label(f"{c.tool[0].upper()}{c.tool[1:]}. {c.how}", 13, wrap=True))
        self.add(*[label(f"{w}.", 13, 600, wrap=True) for w in c.care])
        self.add(row(button("Done, next", self.next), button("Back", self.back, plain=True), spacing=4, stretch=-2))

    def _try(self, k: int, t: Try) -> None:
        name = _names([m.feature for m in t.mates]) if t.mates else t.key
        self.add(label(f"{k + 1}  {name}: {t.do}", 13, 600, wrap=True))
        self.add(label(t.should, dim=True, wrap=True))
        if not t.moving:
            return
        before = [c for c in self.checks if c.mate == t.key]
        if before:
            last = before[-1]
            more = f" {t.otherwise}" if last.moved == "not at all" else ""
            self.add(label(f"{last.at:%d %b}: it moves {last.moved}.{more}", 13, wrap=True))
        acts = []
        for how in _MOVED:
            b = button(how, partial(self.moved, t, how))
            b.setAccessibleName(f"{name}: {how}")
            acts.append(b)
        self.add(row(*acts, spacing=4, stretch=-2))

    def verdict(self) -> Verdict:
        told, c = self.finishing, self.chore
        if told is None:
            return Verdict("Looking through the layers.", self.view.get(nodes.FINISH).refusal)
        if c is None:
            moving = sum(t.moving for t in told.tries)
            words = f"{moving} move: say how." if moving else "Nothing of it moves."
            return Verdict("Clean. Now put it together dry.", words, tone="moss", acts=(Act("Back", self.back),))
        care = f" {c.care[0]}." if c.care else ""
        return Verdict(
            f"{c.mess.value[0].upper()}{c.mess.value[1:]}: {c.tool}.",
            f"{c.how}{care}",
            number=f"{self.at + 1}",
            unit=f"of {len(told.chores)}",
            source="Places by the layers; tools and forces typical.",
            acts=(Act("Done, next", self.next),),
        )


def _names(features: list[str]) -> str:
    """Features by their names: "hole 1, hole 2"; of many the first and how many more."""
    told = [f.replace("-", " ") for f in features]
    return ", ".join(told) if len(told) <= 3 else f"{', '.join(told[:2])} and {len(told) - 2} more"
