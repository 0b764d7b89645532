"""Bench's page of the record: a print kept when it is off the bed, looked at again, held beside another, and told."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import QFileDialog, QLabel, QLineEdit, QPushButton

from knollside.core import units
from knollside.core.job.file import Printed
from knollside.core.job.record import Kept, differences, recipe_words
from knollside.core.model import bounds_of
from knollside.core.model.prints import ASPECTS, JUDGEMENTS, PrintDetails
from knollside.gui import nodes, recordfacts
from knollside.gui.fileasks import LoadPhoto, WriteStory
from knollside.gui.instruments.lifestrip import LifeStrip, OnStrip
from knollside.gui.instruments.widgets import Dropdown, NumberField, button, column, heading, label, row, rule, tell
from knollside.gui.session import Seeing, Session
from knollside.gui.stepbase import Act, Verdict
from knollside.gui.steps.page import Page
from knollside.gui.worker import Outcome
from knollside.report.story import Story
from knollside.store.records import PrintRecord

OUTCOMES = ("came out well", "usable, with faults", "does not fit", "lifted off the bed", "failed part-way")
_SMOOTH = (Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
_NOT_JUDGED = "–"
Thumbs = tuple[tuple[int, bytes], ...]  # photos by number, JPEG


class RecordPage(Page, Seeing):
    """``chart`` is the part's life under the stage; ``at`` the number of the print that is looked at."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chart = LifeStrip()
        self.chart.taken.connect(self._take)
        self.large: QLabel | None = None  # the photo that is shown large
        self.at: int | None = None
        self.beside: int | None = None
        self.outcome = Dropdown("How the print came out", [(w, w) for w in OUTCOMES], 12)
        self.took = NumberField("Hours it took", "time", "", 1, *bounds_of(Printed, "actual_hours"), 1, 72)
        self.took.line.setPlaceholderText("took, h")
        self.told = label("", dim=True, wrap=True)
        self.margins(16, 14)
        self.top(
            heading("It is off the bed"),
            row(self.outcome, self.took, button("Record the print", self.record), stretch=0),
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
        return recordfacts.kept_of([record], {self.part.id: self.part.name}, self.workspace.shelf)[0]

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
        price = self.view.get(nodes.PRICE).fresh
        estimate = round(price.hours.value / doc.factor.value, 2) if price is not None else None
        details = recordfacts.details_now(
            doc, self.workspace.kept.every_print(), price.grams if price is not None else None
        )
        outcome = self.outcome.currentData()
        at = (doc.id, doc.printer_id, doc.material, self.workspace.now())
        self.workspace.kept.add_print(
            PrintRecord(0, *at, estimate, took, outcome, None, details), f"print recorded: {outcome}"
        )
        self.at = None
        self.took.line.clear()
        words = "Recorded." if took is None or estimate else "Recorded. No estimate was made, so no factor."
        tell(self.told, words, "good")

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

    def add_photo(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "A photo of the print", "", "Pictures (*.jpg *.jpeg *.png *.webp)")
        if path:
            self.photo_from(Path(path))

    def photo_from(self, path: Path) -> None:
        """A photo is read aside, made small, and kept with the print in hand."""
        r = self.shown
        if r is not None:
            self.session.once("photo", LoadPhoto(path), partial(self._photo_read, r.id, path.name))

    def _photo_read(self, print_id: int, name: str, outcome: Outcome) -> None:
        if outcome.result is not None:
            picture, thumb = outcome.result
            self.workspace.kept.add_photo(print_id, picture, thumb, f"photo {name}")
            tell(self.told, "Kept, without its place and camera.", "good")
        elif outcome.refused:
            tell(self.told, outcome.refused, "bad")

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
        kept = recordfacts.kept_of(self.prints, {part.id: part.name}, part.shelf)
        photos = {r.id: tuple(t for _, t in shop.learned.thumbs(r.id)) for r in self.prints}
        revisions = tuple((r.number, r.note) for r in shop.parts.revisions(part.id))
        cases = [c for c in part.shelf.faults.values() if c.part == part.id]
        more = [f"{c.opened:%d %b %Y}: {recordfacts.fault_words(c)}." for c in cases]
        more += [f"{c.at:%d %b %Y}: {c.mate.replace('-', ' ')} {c.did}." for c in part.fit_checks]
        return Story(part.name, part.job, revisions, tuple(kept), photos, tuple(more))

    # Showing

    def refresh(self) -> None:
        mine, r = self.prints, self.shown
        self.chart.put([_on_strip(p) for p in mine], r.id if r is not None else None)
        thumbs = tuple(self.workspace.shop.learned.thumbs(r.id)) if r is not None else ()
        if self.fresh((mine, r, self.beside, self.part.shelf.faults, thumbs)):
            self._fill(mine, r, thumbs)

    def _fill(self, mine: tuple[PrintRecord, ...], r: PrintRecord | None, thumbs: Thumbs) -> None:
        if r is None:
            self.add(label("Of this part no print is on record yet.", dim=True, wrap=True))
            return
        kept, d = self.kept(r), r.details or PrintDetails()
        hours = [f"{h:g} h {w}" for h, w in ((r.estimate_hours, "foretold"), (r.actual_hours, "taken")) if h]
        self.add(heading(f"{r.made:%d %b %Y}", r.outcome))
        about = [f"revision {d.revision}" if d.revision else "", r.material, d.spool, *hours]
        self.add(label(", ".join(w for w in about if w), 13, wrap=True))
        if d.recipe is not None:
            told = ", ".join(f"{a} {b}" for a, b in recipe_words(d.recipe) if "usual" not in b and "advised" not in b)
            self.add(label(told[:1].upper() + told[1:], dim=True, wrap=True))
        self.add(*[label(f"Went wrong: {f}.", 13, wrap=True) for f in kept.faults])
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
        self._photos(thumbs)
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
            fields.append(column(label(aspect, dim=True), pick, spacing=1))
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

    def _photos(self, thumbs: Thumbs) -> None:
        pictures = []
        for number, thumb in thumbs[:3]:
            picture = QPixmap()
            picture.loadFromData(thumb)
            shown = QPushButton()
            shown.setIcon(QIcon(picture))
            shown.setIconSize(picture.scaled(76, 52, _SMOOTH[0]).size())
            shown.setFlat(True)
            shown.setToolTip("Show it large")
            shown.setAccessibleName(f"Photo {number}")
            shown.clicked.connect(partial(self.show_large, number))
            pictures.append(shown)
        more = [label(f"{len(thumbs) - 3} more in its story", dim=True)] if len(thumbs) > 3 else []
        if pictures:
            self.add(row(*pictures, spacing=6, stretch=-2))
        self.add(row(button("Add a photo …", self.add_photo), *more, spacing=6, stretch=-2))

    def show_large(self, number: int, _: bool = False) -> None:
        """A photo in a window of its own, beside this one."""
        photo = self.workspace.shop.learned.photo(number)
        if photo is None:
            return
        picture = QPixmap()
        picture.loadFromData(photo.picture)
        self.large = QLabel()
        self.large.setAttribute(Qt.WidgetAttribute.WA_QuitOnClose, False)
        self.large.setWindowTitle(f"Knollside: photo {number}")
        self.large.setAccessibleName(f"Photo {number}, large")
        most = QSize(1000, 700)
        fits = picture.width() <= most.width() and picture.height() <= most.height()
        self.large.setPixmap(picture if fits else picture.scaled(most, *_SMOOTH))
        self.large.show()

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


def _on_strip(r: PrintRecord) -> OnStrip:
    d = r.details or PrintDetails()
    bad = r.broke is not None or r.outcome.startswith(("failed", "lifted", "does not"))
    good = False if bad else True if r.outcome.startswith(OUTCOMES[0]) else None
    words = f"{r.made:%d %b %Y}: {r.outcome}"
    return OnStrip(r.id, r.made, d.revision or 1, good, words)
