"""Lay: every direction rated, a short list, one chosen."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from knollside.core.job.questions.strength import RankedOrientations
from knollside.core.job.stated import UP
from knollside.core.lay.orientations import RatedOrientation
from knollside.core.model import Orientation, SupportSettings, same_direction
from knollside.core.strength.rating import mode_words, weakest
from knollside.gui import nodes
from knollside.gui.derived import Node
from knollside.gui.instruments.orientation_net import MEASURES, LayNet
from knollside.gui.instruments.orientationrow import OrientationRow
from knollside.gui.instruments.widgets import (
    Dropdown,
    clear,
    heading,
    label,
    reserve_tone,
    tell,
    times,
)
from knollside.gui.session import Session
from knollside.gui.stepbase import Act, Mark, Standing, Step, Verdict, no_verdict
from knollside.gui.steps.laybook import PLACES, LayBook
from knollside.gui.steps.layscene import lay_scene
from knollside.gui.steps.page import Same
from knollside.gui.viewport.scene import Scene
from knollside.store.records import Kind

Vec = tuple[float, float, float]


class LayStep(Step):
    name = "Lay"
    has_log = True

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.net = LayNet()
        self.net.taken.connect(self._choose)
        self.net.tried.connect(self._try)
        self.net.asked.connect(self._ask_why)
        self.measure = Dropdown("Measure shown on the net", MEASURES.items(), 11)
        self.measure.chose.connect(lambda _: session.changed.emit())
        self.trying: Vec | None = None
        self.told_place: int | None = None
        self.rows = QVBoxLayout()
        self.rows.setSpacing(0)
        self.rows.setContentsMargins(0, 0, 0, 0)
        inner = QWidget()
        inner.setObjectName("paper")
        box = QVBoxLayout(inner)
        box.setContentsMargins(0, 0, 0, 0)
        box.addLayout(self.rows)
        box.addStretch(1)
        self.note = label("", dim=True, wrap=True)
        panel = QWidget()
        lay = QVBoxLayout(panel)
        lay.setContentsMargins(0, 10, 0, 0)
        lay.setSpacing(4)
        head = QWidget()
        h = QVBoxLayout(head)
        h.setContentsMargins(16, 0, 10, 0)
        h.addWidget(heading("Ways to lay it", self.measure))
        h.addWidget(self.net)
        h.addWidget(self.note)
        self.book = LayBook(session, inner, self._point_out)
        self.book.tabs.turned.connect(self._turned)
        self.places = self.book.places
        lay.addWidget(head)
        lay.addWidget(self.book.tabs)
        lay.addWidget(self.book.tabs.pages, 1)
        self.reason = QLineEdit()
        self.reason.setAccessibleName("Your reason for this way")
        self.reason.setPlaceholderText("your reason for this way, kept with it")
        self.reason.setMaxLength(200)
        self.reason.editingFinished.connect(self._say_why)
        foot = QWidget()
        under = QHBoxLayout(foot)
        under.setContentsMargins(16, 4, 12, 8)
        under.addWidget(self.reason)
        lay.addWidget(foot)
        self.panel = panel
        self._shown: object = None

    def turn_to(self, page: int) -> None:
        """Bring a page to the front: ways, weak places, cures, trust, supports, side by side, cut, weights."""
        self.book.tabs.turn_to(page)

    def needs(self) -> tuple[Node[Any], ...]:
        view, page = self.view, self.book.needs(self.view)
        if not view.part.loaded:
            return (nodes.PLAIN_ORIENTATIONS, nodes.PLAIN_LOG, *page)
        asked = (nodes.WHY,) if self.trying is not None else ()
        # The checks run behind: on another grid as soon as there is something to check, in layers after that.
        return (nodes.RANKED, *asked, nodes.DETAIL, *page, nodes.SETTLED, nodes.LAYERS)

    def _turned(self, _: int) -> None:
        self.told_place = None  # a number belongs to the page it was asked on
        self.session.touch()

    def _point_out(self, place: int) -> None:
        self.told_place = place
        self.session.changed.emit()

    def pointed_at(self, place: Vec) -> bool:
        """While weak places are spoken of, a click watches one more."""
        if self.book.front != PLACES or not self.part.loaded:
            return False
        self.book.watch(place)
        return True

    def _try(self, direction: Vec) -> None:
        """The dragged pin: the part turns under it and its reserve is read at once, with no new solve."""
        ranked = self.view.ranked.fresh
        if ranked is None:
            return
        self.trying = direction
        s = ranked.strength
        found = weakest(s.field, s.limits, np.array(direction))
        case = s.field.cases[found.case].name
        mode = mode_words(s.field, found.point, found.mode)
        tell(self.note, f"There: {times(found.reserve)}×. {case.capitalize()}: {mode}.")
        self.session.changed.emit()

    def _ask_why(self, direction: Vec) -> None:
        self.session.ask(nodes.WHY, direction)

    def _say_why(self) -> None:
        """Keep the person's own reason with the way they chose."""
        if not self.session.has_part:
            return
        orientation, words = self.part.orientation, self.reason.text().strip()
        if orientation is not None and words != orientation.reason:
            self._put_orientation(orientation.model_copy(update={"reason": words}), "reason for this way")

    def _put_orientation(self, orientation: Orientation, text: str) -> None:
        self.workspace.edit({Kind.ORIENTATION: orientation}, text)

    def _take_asked(self, _: str) -> None:
        w = self._asked()
        if w is not None:
            self.trying, self.net.hand = None, None
            self._put_orientation(Orientation(direction=w.direction), "lay it where the pin is")

    def _asked(self) -> RatedOrientation | None:
        """The answer to "why not there", while the pin stands there."""
        found = self.view.get(nodes.WHY).fresh if self.trying is not None else None
        return None if found is None else self.view.steadied(found)

    @property
    def old(self) -> bool:
        return self.view.ranked.fresh is None

    def _choose(self, letter: str) -> None:
        w = next((w for w in self.view.orientations if w.letter == letter), None)
        if w is None:
            return
        self.trying, self.net.hand, self.told_place = None, None, None
        self._put_orientation(Orientation(direction=w.direction, support_settings=self._kept()), f"lay it {letter}")

    def _kept(self) -> SupportSettings:
        """Support settings go along to another way; choices by hand belong to the old one."""
        return self.part.support_settings.model_copy(update={"by_hand": {}})

    def refresh(self) -> None:
        view, loaded = self.view, self.part.loaded
        ranked, here = view.ranked.shown if loaded else None, view.chosen
        self.net.empty = "No direction tried yet" if loaded else "No load: every direction holds"
        self.net.put(ranked.ranking if ranked else None, here.letter if here else "", self.measure.currentData())
        if self.trying is None or ranked is None:
            self.note.setText(self._rated_with(ranked))
        self._fill_rows(ranked, here)
        orientation = self.part.orientation
        self.reason.setEnabled(orientation is not None)
        if not self.reason.hasFocus():
            self.reason.setText(orientation.reason if orientation is not None else "")
            self.reason.setCursorPosition(0)
        self.book.fill(view, view.get(nodes.DETAIL).fresh if loaded else None)

    def _rated_with(self, ranked: RankedOrientations | None) -> str:
        """What the list was rated with: the very record that was solved."""
        if not self.part.loaded:
            return "No load is stated: ways by support, height and bed alone."
        if ranked is None:
            return "Strength is worked out once for every direction; it takes some seconds."
        r, material = ranked.strength.recipe, ranked.strength.card.name
        words = f"Rated with {r.walls} walls, {r.infill * 100:.0f} % infill, {material}."
        return f"Old: {words[:1].lower()}{words[1:]} Something changed since." if self.old else words

    def _fill_rows(self, ranked: RankedOrientations | None, here: RatedOrientation | None) -> None:
        view, asked, loaded = self.view, self._asked(), self.part.loaded
        layered = (view.get(nodes.LAYERS).fresh or ()) if loaded else ()
        orientations, letter, old = view.orientations, here.letter if here else "", loaded and self.old
        off_list = (here,) if here is not None and not here.letter else ()
        off = [(w.direction, w.reserve) for w in off_list]
        key = (Same(ranked), Same(orientations), letter, off, Same(asked), Same(layered), old)
        if key == self._shown:
            return
        self._shown = key
        clear(self.rows)
        no_verdict = bool(ranked and ranked.strength.withheld)
        target = ranked.ranking.target if ranked is not None else 1.0
        if asked is not None and ranked is not None:
            made = OrientationRow(asked, target, False, no_verdict)
            made.taken.connect(self._take_asked)
            self.rows.addWidget(made)
        for w in (*off_list, *orientations):
            again = next((x.reserve.value for x in layered if same_direction(x.direction, w.direction)), None)
            mine = here is not None and w.letter == letter
            made = OrientationRow(w, target, mine, no_verdict or not loaded, again, old)
            made.taken.connect(self._choose)
            self.rows.addWidget(made)

    def standing(self) -> Standing:
        view, part, here = self.view, self.part, self.view.chosen
        if not part.loaded and part.orientation is not None:
            return Standing(Mark.FULL, f"{here.title}. No load to hold." if here else "Chosen. No load to hold.")
        ranked = view.ranked.fresh
        if ranked is None:
            if view.ranked.old:
                return Standing(Mark.CRACK, "Something changed since; not worked out again yet.")
            chosen = part.orientation is not None
            words = "Chosen; not worked out yet." if chosen else "Not tried yet."
            return Standing(Mark.HALF if chosen else Mark.OPEN, words)
        if part.orientation is None:
            n = sum(w.holds for w in ranked.ranking.orientations)
            words = f"{n or 'No'} way{'s' if n > 1 else ''} hold{'s' if n < 2 else ''}."
            return Standing(Mark.HALF, f"{words} Yours to choose.")
        if here is None:
            return Standing(Mark.HALF, "Chosen, off the short list.")
        if ranked.strength.withheld:
            return Standing(Mark.FULL, f"{here.title}. No verdict.")
        return Standing(
            Mark.FULL if here.reserve.low >= ranked.ranking.target else Mark.HALF,
            f"{here.title}. Holds {times(here.reserve.value)} times the load.",
        )

    def verdict(self) -> Verdict:
        view = self.view
        if view.facts is None:
            return Verdict("Reading the part.")
        if not self.part.loaded:
            return self._no_load()
        answer = view.ranked
        refused = view.get(nodes.RANKED).refusal or view.get(nodes.SETTLED).refusal
        if refused:
            return Verdict(
                "It cannot be worked out as it stands.",
                refused,
                number="?",
                tone="clay",
                acts=(
                    Act("Back to Duty", lambda: self.go("Duty")),
                    Act("Try again", lambda: self.session.ask(nodes.RANKED)),
                ),
            )
        ranked = answer.fresh
        if ranked is None:
            return self._not_yet(answer.shown)
        if ranked.strength.withheld:
            return no_verdict(ranked.strength.withheld, Act("Duty", lambda: self.go("Duty")))
        return self._told(ranked)

    def _not_yet(self, last: RankedOrientations | None) -> Verdict:
        """Nothing that is true of what is stored: the last answer, if there is one, is shown crossed through."""
        busy = self.view.waiting(nodes.RANKED)
        here = self.view.chosen
        w = here or (last.ranking.orientations[0] if last is not None and last.ranking.orientations else None)
        told = w is not None and last is not None and not last.strength.withheld
        return Verdict(
            "Working out every way to lie." if busy else "Every way can be tried at once.",
            "What is shown is the last answer, from before the change." if told else "One solve serves all directions.",
            number=times(w.reserve.value) if told and w is not None else "",
            unit="×" if told else "",
            under=("from before", "the change") if told else (),
            tone="slate",
            acts=(Act("Try every way", lambda: self.session.ask(nodes.RANKED)),),
            old=told,
        )

    def _told(self, ranked: RankedOrientations) -> Verdict:
        """What the list says of the chosen way, or of the first."""
        best, here = ranked.ranking.orientations[0], self.view.chosen
        w = here or best
        need = ranked.ranking.target
        tone = reserve_tone(w.reserve, need)
        sure = {"moss": "it holds", "straw ink": "it is too close to call", "clay": "it does not hold"}[tone]
        title = f"{w.title}: {sure}." if here else f"{best.letter} is the first to try: {sure}."
        # All of it is told beside the movement, on the page of weak places.
        said = ranked.moves_far, ranked.strength.loosened
        far = "It moves far." if ranked.turned.solved else "It moves too far to be exact."
        words = far, "A screw is taken as loose: see Duty."
        moves = " ".join(w for w, told in zip(words, said, strict=True) if told)
        acts = []
        if here is None or here.letter != best.letter:
            acts.append(Act(f"Lay it {best.letter}", partial(self._choose, best.letter)))
        if here is not None:
            acts.append(Act("Build it this way", lambda: self.go("Build")))
        if self.view.grid is None and not self.view.waiting(nodes.SETTLED):
            acts.append(Act("Look closely", lambda: self.session.ask(nodes.SETTLED)))
        return Verdict(
            title,
            " ".join(words for words in (w.reason, w.gives_up, moves) if words),
            number=times(w.reserve.value),
            unit="×",
            under=(f"{times(w.reserve.low)} to {times(w.reserve.high)}", f"needed {need:g}"),
            tone=tone,
            source=self._source(ranked),
            acts=tuple(acts[::-1] if here is not None and tone == "moss" else acts),
        )

    def _source(self, ranked: RankedOrientations) -> str:
        """Where the strengths come from; and that no other grid bears the number out, where none does."""
        bond, grid = f"Layer bond: {ranked.strength.card.bond.source}.", self.view.grid
        if grid is None or grid.assumed:
            return f"{bond} {'Not checked on another grid' if grid else 'Not looked at closely yet'}."
        return f"{bond} Heat, creep and wear: typical."

    def _no_load(self) -> Verdict:
        """Any way holds what pulls at nothing: by support, height and bed then."""
        here, best = self.view.chosen, next(iter(self.view.orientations), None)
        told = here or best
        words = "Choose by surface and time; state a load to weigh strength."
        acts = [Act("Keep it as drawn", self._as_drawn), Act("State a load", lambda: self.go("Duty"))]
        if told is not None:
            words = f"{told.letter}, {told.title.lower()}: {told.gives_up} State a load to weigh strength."
        if here is not None:
            acts[0] = Act("Build it this way", lambda: self.go("Build"))
        elif best is not None:
            acts[0] = Act(f"Lay it {best.letter}", partial(self._choose, best.letter))
        return Verdict("No load, so any way holds.", words, acts=tuple(acts))

    def _as_drawn(self) -> None:
        self._put_orientation(Orientation(direction=UP), "keep it as drawn")
        self.go("Build")

    def scene(self) -> Scene:
        return lay_scene(self.session, self.book.front, self.trying, self.told_place, self.book.places.drawn)
