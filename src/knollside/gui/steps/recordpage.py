"""Bench's page of the record: a print kept when it is off the bed, looked at again, held beside another, and told."""

from __future__ import annotations

from datetime import date, datetime, time
from pathlib import Path

from PyQt6.QtCore import QDate
from PyQt6.QtWidgets import QDateEdit, QFileDialog, QLineEdit

from knollside.core import units
from knollside.core.job.file import Printed
from knollside.core.job.record import Kept, differences, recipe_words
from knollside.core.model import bounds_of
from knollside.core.model.prints import ASPECTS, JUDGEMENTS, PrintDetails
from knollside.gui import nodes, recordfacts
from knollside.gui.fileasks import WriteStory
from knollside.gui.instruments.lifestrip import LifeStrip, OnStrip
from knollside.gui.instruments.widgets import (
    Dropdown,
    NumberField,
    button,
    heading,
    label,
    named,
    row,
    rule,
    tell,
)
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.page import Page
from knollside.gui.steps.photorow import PhotoRow
from knollside.gui.worker import Outcome
from knollside.report.story import Story
from knollside.store.records import PrintRecord

OUTCOMES = ("came out well", "usable, with faults", "does not fit", "lifted off the bed", "failed part-way")
_NOT_JUDGED = "–"


class RecordPage(Page, Seeing):
    """``chart`` is the part's life under the stage; ``at`` the number of the print that is looked at."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chart = LifeStrip()
        self.chart.taken.connect(self._take)
        self.photos: PhotoRow | None = None
        self.at: int | None = None
        self.beside: int | None = None
        self.outcome = Dropdown("How the print came out", [(w, w) for w in OUTCOMES], 12)
        self.took = NumberField("Hours it took", "time", "", 1, *bounds_of(Printed, "actual_hours"), 1, 72)
        self.took.line.setPlaceholderText("took, h")
        self._today = self.workspace.now().date()
        self.day = QDateEdit(_shown(self._today))
        self.day.setAccessibleName("Day it was printed")
        self.day.setDisplayFormat("d MMM yyyy")
        self.day.setCalendarPopup(True)
        self.told = label("", dim=True, wrap=True)
        self.margins(16, 14)
        self.top(
            heading("It is off the bed"),
            row(self.outcome, self.took, stretch=0),
            row(self.day, button("Record the print", self.record), spacing=6, stretch=-2),
            self.told,
            rule(),
        )

    # What is stored

    @property
    def prints(self) -> tuple[PrintRecord, ...]:
        """Those of this part, the oldest first."""
        return recordfacts.prints_of(self.part.id, self.workspace.kept.every_print())

    @property
    def shown(self) -> PrintRecord | None:
        mine = self.prints
        return next((r for r in mine if r.id == self.at), mine[-1] if mine else None)

    def kept(self, record: PrintRecord) -> Kept:
        w = self.workspace
        measured = recordfacts.measured_on([record], w.shop)
        return recordfacts.kept_of(
            [recordfacts.as_of(record, self.part.id)], {self.part.id: self.part.name}, w.shelf, measured
        )[0]

    # Acts

    def _take(self, number: int) -> None:
        self.at = number
        if self.beside == number:
            self.beside = None
        self.session.touch()

    def _compare(self, number: object) -> None:
        self.beside = int(str(number)) or None
        self.session.touch()

    def record(self) -> None:
        """One print of this part with its outcome, estimate and hours taken; hours teach the printer's factor."""
        doc = self.part
        if doc.printer_id is None:
            tell(self.told, "Add your printer at Workshop (Alt+9) first; the record belongs to one.", "bad")
            return
        try:
            text = self.took.line.text().strip()
            took = units.parse(text if any(c.isalpha() for c in text) else f"{text} h", "time") / 3600 if text else None
        except units.QuantityError as error:
            tell(self.told, f"Hours: {error}.", "bad")
            return
        if took is not None and not 0.01 <= took <= 1000:
            tell(self.told, "A print takes between a minute and 1,000 hours; not recorded.", "bad")
            return
        made = self._made()
        before = [r for r in self.workspace.kept.every_print() if r.made <= made]
        why = recordfacts.asked_why(doc, recordfacts.prints_of(doc.id, before))
        price = self.view.get(nodes.PRICE).fresh
        estimate = round(price.hours.value / doc.factor.value, 2) if price is not None else None
        details = recordfacts.details_now(doc, before, price.grams if price is not None else None)
        outcome = self.outcome.currentData()
        at = (doc.id, doc.printer_id, doc.material, made)
        self.workspace.kept.add_print(
            PrintRecord(0, *at, estimate, took, outcome, None, details), f"print recorded: {outcome}"
        )
        self.at = None
        self.took.line.clear()
        self.day.setDate(_shown(self._today))
        words = "Recorded." if took is None or estimate else "Recorded. No estimate was made, so no factor."
        tell(self.told, f"{words} {why}".strip(), "good")

    def _made(self) -> datetime:
        """When it was printed: now, or at noon of the day that is chosen."""
        self._turn_day()
        day = self.day.date().toPyDate()
        return self.workspace.now() if day >= self._today else datetime.combine(day, time(12))

    def _turn_day(self) -> None:
        """A window that is open over midnight: a day that nobody chose is today."""
        before, self._today = self._today, self.workspace.now().date()
        chosen = self.day.date().toPyDate()
        self.day.setMaximumDate(_shown(self._today))
        if chosen == before:
            self.day.setDate(_shown(self._today))

    def change(self, **change: object) -> None:
        """Something more is known of the print in hand."""
        r = self.shown
        if r is None:
            return
        before = r.details or PrintDetails()
        try:
            after = PrintDetails.model_validate(before.model_dump() | change)
        except ValueError:
            tell(self.told, "That is too long; 2,000 letters are kept.", "bad")
            return
        what = next(iter(change))
        self.workspace.kept.put_details(r, after, f"{what} of the print of {r.made:%d %b}")

    def ask_story(self) -> None:
        name = f"{self.part.name} story.html"
        path, _ = QFileDialog.getSaveFileName(self, "The part's story", name, "Page (*.html);;PDF (*.pdf)")
        if path:
            self.story_to(Path(path))

    def story_to(self, path: Path) -> None:
        """The part's whole story as a page or as PDF."""
        self.session.once("story", WriteStory(path, self.story()), self._story_written)

    def _story_written(self, outcome: Outcome) -> None:
        words = outcome.refused or (f"Written to {outcome.result.name}." if outcome.result is not None else "")
        if words:
            tell(self.told, words, "bad" if outcome.refused else "good")

    def story(self) -> Story:
        """All that is told of the part."""
        part, shop = self.part, self.workspace.shop
        mine = [recordfacts.as_of(r, part.id) for r in self.prints]
        kept = recordfacts.kept_of(mine, {part.id: part.name}, part.shelf, recordfacts.measured_on(mine, shop))
        photos = {r.id: tuple(t for _, t in shop.learned.thumbs(r.id)) for r in mine}
        revisions = tuple((r.number, r.note) for r in shop.parts.revisions(part.id))
        cases = [c for c in part.shelf.faults.values() if c.part == part.id]
        more = [f"{c.opened:%d %b %Y}: {recordfacts.fault_words(c)}." for c in cases]
        more += [f"{c.at:%d %b %Y}: {c.mate.replace('-', ' ')} {c.did}." for c in part.fit_checks]
        return Story(part.name, part.job, revisions, tuple(kept), photos, tuple(more))

    # Showing

    def refresh(self) -> None:
        mine, r = self.prints, self.shown
        on_strip = [_on_strip(recordfacts.as_of(p, self.part.id)) for p in mine]
        self.chart.put(on_strip, r.id if r is not None else None)
        self._turn_day()
        if self.fresh((mine, r, self.beside, self.part.shelf.faults, self.part.readings)):
            self._fill(mine, r)
        if r is not None and self.photos is not None:
            self.photos.put(r.id)

    def _fill(self, mine: tuple[PrintRecord, ...], r: PrintRecord | None) -> None:
        if r is None:
            self.add(label("Of this part no print is on record yet.", dim=True, wrap=True))
            return
        kept, d = self.kept(r), (r.details or PrintDetails()).of_part(self.part.id)
        hours = [f"{h:g} h {w}" for h, w in ((r.estimate_hours, "foretold"), (r.actual_hours, "taken")) if h]
        self.add(heading(f"{r.made:%d %b %Y}", r.outcome))
        about = [f"revision {d.revision}" if d.revision else "", r.material, d.spool, *hours]
        self.add(label(", ".join(w for w in about if w), 13, wrap=True))
        if d.recipe is not None:
            told = ", ".join(f"{a} {b}" for a, b in recipe_words(d.recipe) if "usual" not in b and "advised" not in b)
            self.add(label(told[:1].upper() + told[1:], dim=True, wrap=True))
        self.add(*[label(f"Went wrong: {f}.", 13, wrap=True) for f in kept.faults])
        if kept.measured:
            self.add(label(f"Measured that day: {'; '.join(kept.measured)}.", dim=True, wrap=True))
        self.add(self._judging(d))
        grams = NumberField("Grams it weighs", "mass", "g", 1, 0, 50_000, 1, 90)
        if d.actual_g is not None:
            grams.put(d.actual_g)
        grams.line.setPlaceholderText("weighs, g")
        grams.entered.connect(lambda v: self.change(actual_g=v or None))
        foretold = f"{d.estimate_g:.0f} g foretold, without supports" if d.estimate_g else ""
        self.add(row(grams, label(foretold, dim=True), spacing=8, stretch=1))
        for field, words in (("why", "why it was printed so"), ("next", "what to change next")):
            self.add(self._line(field, words, getattr(d, field)))
        self._photos()
        others = [p for p in mine if p.id != r.id]
        if others:
            self._beside(kept, others)
        self.add(row(button("Its whole story …", self.ask_story), stretch=-2))

    def _judging(self, d: PrintDetails):  # type: ignore[no-untyped-def]
        fields = []
        for aspect in ASPECTS:
            options = [(_NOT_JUDGED, ""), *((j, j) for j in JUDGEMENTS)]
            pick = Dropdown(f"Verdict on {aspect}", options, 5)
            pick.put(getattr(d, aspect))
            pick.chose.connect(lambda v, a=aspect: self.change(**{a: v}))
            fields.append(named(aspect, pick))
        return row(*fields, spacing=4)

    def _line(self, field: str, words: str, text: str) -> QLineEdit:
        line = QLineEdit(text)
        line.setAccessibleName(words[0].upper() + words[1:])
        line.setPlaceholderText(words)
        line.setToolTip(text)
        line.setMaxLength(2000)
        line.setCursorPosition(0)

        def kept() -> None:
            if line.isModified():
                line.setModified(False)
                self.change(**{field: line.text().strip()})

        line.editingFinished.connect(kept)
        return line

    def _photos(self) -> None:
        self.photos = PhotoRow(self.session)
        self.photos.told.connect(lambda words, well: tell(self.told, words, "good" if well else "bad"))
        self.add(self.photos)

    def _beside(self, kept: Kept, others: list[PrintRecord]) -> None:
        options = [("nothing", 0), *((f"{p.made:%d %b}, {p.outcome}", p.id) for p in reversed(others))]
        pick = Dropdown("Compare with", options, 16)
        pick.put(self.beside or 0)
        pick.chose.connect(self._compare)
        self.add(row(label("compare with", dim=True), pick, stretch=1))
        other = next((p for p in others if p.id == self.beside), None)
        if other is None:
            return
        found = differences(self.kept(other), kept)
        if not found:
            self.add(label("Nothing is known to differ.", dim=True))
        for f in found:
            words = f"{f.what}: {f.first} › {f.second}"
            self.add(label(words, 13, 600 if f.outcome else 400, wrap=True))

    def verdict(self) -> Verdict:
        n = len(self.prints)
        if not n:
            return Verdict("No print of this part is on record.", "Keep one when it is off the bed.")
        r = self.shown
        assert r is not None
        well = sum(p.outcome.startswith(OUTCOMES[0]) for p in self.prints)
        d = r.details or PrintDetails()
        body = (d.next and f"Next: {d.next}") or d.why or "Say how it came out, and what to change next."
        return Verdict(
            f"{r.made:%d %b}: {r.outcome}.",
            body,
            number=f"{well}",
            unit=f"of {n}",
            under=("came out well",),
            acts=(Act("Its whole story …", self.ask_story),),
        )


def _shown(day: date) -> QDate:
    return QDate(day.year, day.month, day.day)


def _on_strip(r: PrintRecord) -> OnStrip:
    d = r.details or PrintDetails()
    bad = r.broke is not None or r.outcome.startswith(("failed", "lifted", "does not"))
    good = False if bad else True if r.outcome.startswith(OUTCOMES[0]) else None
    words = f"{r.made:%d %b %Y}: {r.outcome}"
    return OnStrip(r.id, r.made, d.revision or 1, good, words)
