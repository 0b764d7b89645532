"""Lay: every direction rated, a short list, one chosen."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from knollside.core.lay.ways import RatedWay
from knollside.core.model import Holding, Range, Way
from knollside.core.strength.rating import MODES, weakest
from knollside.desk import tasks
from knollside.desk.instruments.net import MEASURES, LayNet
from knollside.desk.instruments.wayrow import WayRow
from knollside.desk.instruments.widgets import (
    Choice,
    clear,
    heading,
    label,
    reserve_tone,
    tell,
    times,
)
from knollside.desk.stage.scene import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.laybook import LayBook
from knollside.desk.steps.layscene import lay_scene


class LayStep(Step):
    name = "Lay"
    has_log = True

    def __init__(self, state: State) -> None:
        super().__init__(state)
        self.net = LayNet()
        self.net.taken.connect(self._choose)
        self.net.tried.connect(self._try)
        self.net.asked.connect(self.state.request_why)
        self.measure = Choice("Measure shown on the net", MEASURES.items(), 11)
        self.measure.chose.connect(lambda _: self.refresh())
        self.trying: tuple[float, float, float] | None = None
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
        self.book = LayBook(state, inner, self._point_out)
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

    def _turned(self, _: int) -> None:
        self.told_place = None  # a number belongs to the page it was asked on
        self.state.changed.emit()

    def _point_out(self, place: int) -> None:
        self.told_place = place
        self.state.changed.emit()

    def _try(self, direction: tuple[float, float, float]) -> None:
        """The dragged pin: the part turns under it and its reserve is read at once, with no new solve."""
        laying = self.laying
        if laying is None or self.old:
            return
        self.trying = direction
        s = laying.strength
        found = weakest(s.field, s.limits, np.array(direction))
        case = s.field.cases[found.case].name
        tell(self.note, f"There: {times(found.reserve)}×. {case.capitalize()}: {MODES[found.mode]}.")
        self.state.changed.emit()

    def _say_why(self) -> None:
        """Keep the person's own reason with the way they chose."""
        doc = self.state.doc
        words = self.reason.text().strip()
        if doc is not None and doc.way is not None and words and words != doc.way.reason:
            self.state.edit("way", doc.way.model_copy(update={"reason": words}), "reason for this way")

    def _take_asked(self, _: str) -> None:
        w = self._asked()
        if w is not None:
            self.state.edit("way", Way(direction=w.direction, reason=w.reason), "lay it where the pin is")
            self.trying, self.net.hand = None, None
            self.state.request_detail("?")

    def _asked(self) -> RatedWay | None:
        """The answer to "why not there", while the pin stands there."""
        if self.trying is None or self.state.doc is None:
            return None
        found: RatedWay | None = self.state.answers.fresh("why", (self.state.lay_key, self.trying))
        return found

    @property
    def laying(self) -> tasks.Laying | None:
        return self.state.laying

    @property
    def old(self) -> bool:
        return self.state.doc is not None and self.state.answers.key("lay") != self.state.lay_key

    def chosen(self) -> RatedWay | None:
        """The short-listed way that is chosen, if it is one of them."""
        if self.state.doc is None or self.state.doc.way is None:
            return None
        mine = self.state.doc.way.direction
        return next((w for w in self.ways if sum(a * b for a, b in zip(w.direction, mine)) > 0.99999), None)

    @property
    def ways(self) -> tuple[RatedWay, ...]:
        """The short list on show: by strength, fresh or old; by shape alone where no load is stated."""
        if not self.state.loaded:
            return self.state.listed
        return self.laying.ranking.ways if self.laying is not None else ()

    def enter(self) -> None:
        doc = self.state.doc
        if doc is None or self.state.facts is None:
            return
        ready = doc.duty.held and doc.duty.cases
        if ready and self.old and not self.state.answers.refusal("lay", self.state.lay_key):
            self.state.request_lay()
        else:
            if not ready and not self.state.listed:
                self.state.request_plain_ways()
            self.state.request_detail()

    def _choose(self, letter: str) -> None:
        w = next((w for w in self.ways if w.letter == letter), None)
        if w is None:
            return
        self.trying, self.net.hand, self.told_place = None, None, None
        self.state.edit("way", Way(direction=w.direction, reason=w.reason, holding=self._kept()), f"lay it {letter}")
        self.state.request_detail(letter)

    def _kept(self) -> Holding:
        """Support settings go along to another way; choices by hand belong to the old one."""
        return self.state.holding.model_copy(update={"by_hand": {}})

    def refresh(self) -> None:
        loaded = self.state.loaded
        laying, here = self.laying if loaded else None, self.chosen()
        self.net.empty = "No direction tried yet" if loaded else "No load: every direction holds"
        self.net.put(laying.ranking if laying else None, here.letter if here else "", self.measure.currentData())
        no_verdict = bool(laying and laying.strength.withheld)
        if laying is not None:
            s = laying.strength
            old = " Old: the duty has changed since." if self.old else ""
            if self.trying is None:
                self.note.setText(f"Rated with {s.recipe.walls} walls, {s.recipe.infill * 100:.0f} % infill.{old}")
        elif not loaded:
            self.note.setText("No load is stated: ways by support, height and bed alone.")
            if not self.state.listed and self.state.facts is not None and not self.state.work.waiting("plain ways"):
                self.state.request_plain_ways()
        else:
            self.note.setText("Strength is worked out once for every direction; it takes some seconds.")
        asked = self._asked()
        key = (id(laying), id(self.ways), here.letter if here else "", id(asked), id(self.state.trust))
        if key != self._shown:
            self._shown = key
            clear(self.rows)
            if asked is not None and laying is not None:
                made = WayRow(asked, laying.ranking.target, False, no_verdict)
                made.taken.connect(self._take_asked)
                self.rows.addWidget(made)
            for w in self.ways:
                backed = self.state.trust.layered_for(w.direction) if loaded and self.state.trust is not None else None
                made = WayRow(
                    w,
                    laying.ranking.target if laying is not None else 1.0,
                    here is not None and w.letter == here.letter,
                    no_verdict or not loaded,
                    backed.reserve.value if backed is not None else None,
                )
                made.taken.connect(self._choose)
                self.rows.addWidget(made)
        if (
            here is not None
            and loaded
            and not self.old
            and self.state.answers.key("detail") != (self.state.lay_key, self.state.way)
            and not self.state.work.waiting("detail")
        ):
            self.state.request_detail(here.letter)
        way = self.state.doc.way if self.state.doc is not None else None
        self.reason.setEnabled(way is not None)
        if not self.reason.hasFocus():
            self.reason.setText(way.reason if way is not None else "")
        if not self.reason.hasFocus():
            self.reason.setCursorPosition(0)
        self.book.fill(laying, self.old, self._detail())

    def _detail(self) -> tasks.WayDetail | None:
        if self.state.doc is None:
            return None
        found: tasks.WayDetail | None = self.state.answers.fresh("detail", (self.state.lay_key, self.state.way))
        return found

    def reserve(self) -> Range | None:
        """The chosen way's reserve, fresh or old."""
        detail: tasks.WayDetail | None = (
            self.state.answers.fresh("detail", (self.state.lay_key, self.state.way)) if self.state.doc else None
        )
        if detail is not None:
            return detail.way.reserve
        here = self.chosen()
        return here.reserve if here else None

    def standing(self) -> Standing:
        doc, here = self.state.doc, self.chosen()
        if doc is None:
            return Standing(Mark.OPEN, "Not tried yet.")
        if not self.state.loaded and doc.way is not None:
            return Standing(Mark.FULL, f"{here.title}. No load to hold." if here else "Chosen. No load to hold.")
        if self.laying is None:
            return Standing(
                Mark.HALF if doc.way else Mark.OPEN,
                "Chosen; not worked out again yet." if doc.way else "Not tried yet.",
            )
        if self.old:
            return Standing(Mark.CRACK, "The duty or the bond changed since.")
        if doc.way is None:
            n = sum(w.holds for w in self.laying.ranking.ways)
            return Standing(Mark.HALF, f"{n} way{'s' if n != 1 else ''} hold{'s' if n == 1 else ''}. Yours to choose.")
        if here is None:
            return Standing(Mark.HALF, "Chosen, off the short list.")
        if self.laying.strength.withheld:
            return Standing(Mark.FULL, f"{here.title}. No verdict.")
        return Standing(
            Mark.FULL if here.reserve.low >= self.laying.ranking.target else Mark.HALF,
            f"{here.title}. Holds {times(here.reserve.value)} times the load.",
        )

    def verdict(self) -> Verdict:
        doc, laying = self.state.doc, self.laying
        if doc is None or self.state.facts is None:
            return Verdict("Open a part first.")
        refused = self.state.answers.refusal("lay", self.state.lay_key)
        if refused and self.old:
            return Verdict(
                "It cannot be worked out as it stands.",
                refused,
                number="?",
                tone="clay",
                acts=(Act("Back to Duty", lambda: self.go("Duty")), Act("Try again", self.state.request_lay)),
            )
        if not (doc.duty.held and doc.duty.cases):
            return self._no_load()
        if laying is None or self.old:
            busy = self.state.work.waiting("lay")
            return Verdict(
                "Working out every way to lie." if busy else "Every way can be tried at once.",
                "One stress solve serves all directions."
                if not laying
                else "What is shown is the last answer, from before the change.",
                acts=(Act("Try every way", self.state.request_lay),),
            )
        best, here = laying.ranking.ways[0], self.chosen()
        held_back = laying.strength.withheld
        if held_back:
            return Verdict(
                "No verdict, and that is an answer.",
                held_back,
                number="none",
                tone="clay",
                acts=(Act("Duty", lambda: self.go("Duty")),),
            )
        bond = laying.strength.card.bond.source
        source = f"Layer bond: {bond}. Heat, creep and wear: typical."
        w = here or best
        need = laying.ranking.target
        tone = reserve_tone(w.reserve, need)
        sure = {"moss": "it holds", "straw ink": "it is too close to call", "clay": "it does not hold"}[tone]
        title = f"{w.title}: {sure}." if here else f"{best.letter} is the first to try: {sure}."
        acts = []
        if here is None or here.letter != best.letter:
            acts.append(Act(f"Lay it {best.letter}", partial(self._choose, best.letter)))
        if here is not None:
            acts.append(Act("Build it this way", lambda: self.go("Build")))
        return Verdict(
            title,
            f"{w.reason} {w.gives_up}",
            number=times(w.reserve.value),
            unit="×",
            under=(f"{times(w.reserve.low)} to {times(w.reserve.high)}", f"needed {need:g}"),
            tone=tone,
            source=source,
            acts=tuple(acts[::-1] if here is not None and tone == "moss" else acts),
        )

    def _no_load(self) -> Verdict:
        """Any way holds what pulls at nothing: by support, height and bed then."""
        here, best = self.chosen(), next(iter(self.ways), None)
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
        self.state.edit("way", Way(direction=(0, 0, 1), reason="as drawn"), "keep it as drawn")
        self.go("Build")

    def scene(self) -> Scene:
        return lay_scene(self)
