"""Bench's page of clean-up and dry fit: one place after another, lit on the part, then what goes with it."""

from __future__ import annotations

from functools import partial

from knollside.core.fit.correction import Correction
from knollside.core.fit.dryfit import Try
from knollside.core.fit.dryfits import foretold_gap
from knollside.core.job.questions.cleanup import Finishing
from knollside.core.lay.cleanup import CAUTIONS, Chore
from knollside.core.model import GapTrial, ends_of, most_kept
from knollside.core.model.fitchecks import FitCheck, FitChecks, Moved
from knollside.core.model.mates import Cycles, WornGap
from knollside.gui import nodes
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, heading, label, named, row, rule
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.page import Page, Same


class CleanPage(Page, Seeing):
    """What is done is of this print in the hand, and kept while the window is open; what a mate did is stored."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.at = 0
        self.corrected: bool | None = None  # which mesh was printed, as said; else the one that is at hand
        self.cycles = 0.0  # how often what is tried was moved before
        self.gap: float | None = None  # measured
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

    @property
    def as_corrected(self) -> bool:
        """Whether the print in the hand is of the corrected mesh."""
        return nodes.made(self.view.inputs) is not None if self.corrected is None else self.corrected

    def correction(self, t: Try) -> Correction | None:
        """What is foretold of a mate's size."""
        fits = self.view.get(nodes.FITS).fresh
        return next((c for c in fits.corrections if c.feature == t.key), None) if fits is not None else None

    def moved(self, t: Try, how: Moved) -> None:
        """What a mate did when it was tried dry. It moves the window of its class; of two bodies printed in place it
        tells what gap comes free. A gap that was measured goes into the mate's running-in."""
        part = self.part
        if part.printer_id is None:
            self.workspace.said.emit("Add your printer at Workshop first; what moves is told of one.")
            return
        made = self._check(t, how)
        trial, pair, freed = None, t.between, how != "not at all"
        # What moves is free all round; what is stuck tells of the gap in the layer only where nothing else can hold it.
        if pair is not None and pair.gap is not None and 0.005 <= pair.gap <= 5 and (freed or pair.alone):
            h = part.recipe.layer_height
            trial = GapTrial(direction="in the layer", drawn=pair.gap, freed=freed, layer_height=h)
        kept = FitChecks(checks=(*self.part.fit_checks, made)[-most_kept(FitChecks, "checks") :])
        mates = part.mates
        if made.measured_mm is not None and t.mates:
            worn = made.cycles, made.measured_mm
            mates = tuple(m.with_worn(*worn) if m.feature == t.key else m for m in part.mates)
        self.cycles, self.gap = 0.0, None
        words = f"{t.key.replace('-', ' ')} {made.did}"
        self.workspace.runs.put_fit_checks(part.id, kept, words, trial, mates if mates != part.mates else None)

    def _check(self, t: Try, how: Moved) -> FitCheck:
        part, c = self.part, self.correction(t)
        made = FitCheck(
            mate=t.key,
            at=self.workspace.now(),
            moved=how,
            revision=part.revision,
            cycles=self.cycles,
            measured_mm=self.gap if t.mates else None,
        )
        if c is None or not t.mates:
            return made
        gap = foretold_gap(c, t.mates[0], part.windows, self.as_corrected)
        # After use it is no more what was printed: that is the running-in's, not the class'.
        told = t.told(how) if self.cycles == 0 and (gap is not None or made.measured_mm is not None) else ""
        update = {
            "printed_mm": c.printed_then if self.as_corrected else c.printed_now,
            "told": told,
            "fit": t.mates[0].fit if told else "",
            "material": part.material,
            "gap_mm": gap,
            "doubt_mm": min(c.sigma, 2.0),
        }
        return FitCheck.model_validate(made.model_dump() | update)

    # Showing

    def refresh(self) -> None:
        of = self.part.mesh_hash, self.part.orientation
        if of != self._of:
            self._of, self.at = of, 0
            self.corrected, self.cycles, self.gap = None, 0.0, None
        told = self.finishing
        refused = self.view.get(nodes.FINISH).refusal
        if self.fresh((Same(told), self.at, self.part.fit_checks, refused, self.as_corrected)):
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
        self._asked(told)
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
        name = t.arm or (_names([m.feature for m in t.mates]) if t.mates else t.key)
        self.add(label(f"{k + 1}  {name.replace('-', ' ')}: {t.do}", 13, 600, wrap=True))
        self.add(label(t.should, dim=True, wrap=True))
        if not t.outcomes:
            return
        before = [c for c in self.part.fit_checks if c.mate == t.key]
        if before:
            last = before[-1]
            more = f" {t.otherwise}" if last.moved in ("not at all", "does not click", "it broke") else ""
            self.add(label(f"{last.at:%d %b}: {last.did}.{more}", 13, wrap=True))
        acts = []
        for how in t.outcomes:
            b = button(how, partial(self.moved, t, how))
            b.setAccessibleName(f"{name}: {how}")
            acts.append(b)
        self.add(row(*acts[:2], spacing=4, stretch=-2), row(*acts[2:], spacing=4, stretch=-2))

    def _asked(self, told: Finishing) -> None:
        """What counts for whichever mate is told next: which mesh was printed, how often it moved, its gap measured."""
        if not any(t.moving and t.mates for t in told.tries):
            return
        printed = Dropdown("This print is", [("drawn", False), ("corrected", True)], 8)
        printed.put(self.as_corrected)
        printed.chose.connect(self._say_corrected)
        cycles = NumberField("Moved before, times", "share", "", 10, *ends_of(Cycles), 0, 70)
        cycles.plain = True
        cycles.put(self.cycles)
        cycles.entered.connect(lambda v: setattr(self, "cycles", v))
        gap = NumberField("Gap measured", "length", "mm", 0.05, *ends_of(WornGap), 2, 82)
        gap.line.setPlaceholderText("if known")
        gap.entered.connect(lambda v: setattr(self, "gap", v))
        self.add(
            row(
                named("printed as", printed),
                named("moved before", cycles),
                named("its gap", gap),
                spacing=6,
                stretch=-2,
            )
        )

    def _say_corrected(self, corrected: object) -> None:
        self.corrected = bool(corrected)
        self.session.touch()

    def verdict(self) -> Verdict:
        told, c = self.finishing, self.chore
        if told is None:
            return Verdict("Looking through the layers.", self.view.get(nodes.FINISH).refusal)
        if c is None:
            moving = sum(bool(t.outcomes) for t in told.tries)
            them = "it moves" if moving == 1 else f"the {moving} of them move"
            words = f"Say how {them}." if moving else "Nothing of it moves."
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
