"""Lay: every direction rated, a short list, one chosen."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtWidgets import (
    QButtonGroup,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from knollside.core.lay.ways import RatedWay
from knollside.core.model import Holding, Range, Way
from knollside.core.strength.rating import MODES, weakest
from knollside.desk import tasks
from knollside.desk.asks import UP
from knollside.desk.instruments.net import MEASURES, LayNet
from knollside.desk.instruments.wayrow import WayRow
from knollside.desk.instruments.widgets import (
    Choice,
    clear,
    heading,
    label,
    reserve_tone,
    scrolled,
    tell,
    times,
)
from knollside.desk.stage.view import Scene
from knollside.desk.state import State
from knollside.desk.stepbase import Act, Mark, Standing, Step, Verdict
from knollside.desk.steps.laypages import CuresPage, PlacesPage, TrustPage
from knollside.desk.steps.layscene import lay_scene
from knollside.desk.steps.supportspages import ComparePage, SupportsPage


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
        area = scrolled(inner)
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
        self.tabs = QButtonGroup(panel)
        self.pages = QStackedWidget()
        self.places = PlacesPage(lambda: self.state.changed.emit(), self._point_out)
        self.cures, self.trust = CuresPage(), TrustPage()
        self.supports = SupportsPage(self._hold, self._point_out)
        self.compare = ComparePage()
        bar = QWidget()
        strip = QGridLayout(bar)
        strip.setContentsMargins(16, 2, 12, 2)
        strip.setSpacing(6)
        for i, (words, page) in enumerate(
            (
                ("Ways", area),
                ("Weak places", scrolled(self.places)),
                ("Cures", scrolled(self.cures)),
                ("Trust", scrolled(self.trust)),
                ("Supports", scrolled(self.supports)),
                ("Side by side", scrolled(self.compare)),
            )
        ):
            self.pages.addWidget(page)
            b = QPushButton(words)
            b.setCheckable(True)
            b.setChecked(i == 0)
            b.clicked.connect(lambda _, i=i: self.turn_to(i))
            self.tabs.addButton(b, i)
            strip.addWidget(b, i // 3, i % 3)
        lay.addWidget(head)
        lay.addWidget(bar)
        lay.addWidget(self.pages, 1)
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
        """Bring a page to the front: 0 ways, 1 weak places, 2 cures, 3 trust, 4 supports, 5 side by side."""
        self.pages.setCurrentIndex(page)
        self.told_place = None  # a number belongs to the page it was asked on
        tab = self.tabs.button(page)
        if tab is not None:
            tab.setChecked(True)
        self.state.changed.emit()

    def _hold(self, holding: Holding, words: str) -> None:
        """What is supported belongs to the way: one undo step."""
        doc = self.state.doc
        if doc is not None:
            way = doc.way or Way(direction=UP, reason="as drawn")
            self.state.edit("way", way.model_copy(update={"holding": holding}), words)

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
        return self.state.answers.get("lay")

    @property
    def old(self) -> bool:
        return self.state.doc is not None and self.state.answers.key("lay") != self.state.lay_key

    def chosen(self) -> RatedWay | None:
        """The short-listed way that is chosen, if it is one of them."""
        if self.laying is None or self.state.doc is None or self.state.doc.way is None:
            return None
        mine = self.state.doc.way.direction
        return next(
            (w for w in self.laying.ranking.ways if sum(a * b for a, b in zip(w.direction, mine)) > 0.99999), None
        )

    def enter(self) -> None:
        doc = self.state.doc
        if doc is None or self.state.facts is None:
            return
        ready = doc.duty.held and doc.duty.cases
        if ready and self.old and not self.state.answers.refusal("lay", self.state.lay_key):
            self.state.request_lay()
        else:
            self.state.request_detail()

    def _choose(self, letter: str) -> None:
        if self.laying is None:
            return
        w = next(w for w in self.laying.ranking.ways if w.letter == letter)
        self.trying, self.net.hand, self.told_place = None, None, None
        self.state.edit("way", Way(direction=w.direction, reason=w.reason, holding=self._kept()), f"lay it {letter}")
        self.state.request_detail(letter)

    def _kept(self) -> Holding:
        """Support settings go along to another way; choices by hand belong to the old one."""
        return self.state.holding.model_copy(update={"by_hand": {}})

    def refresh(self) -> None:
        laying, here = self.laying, self.chosen()
        self.net.put(laying.ranking if laying else None, here.letter if here else "", self.measure.currentData())
        no_verdict = bool(laying and laying.strength.withheld)
        if laying is not None:
            s = laying.strength
            old = " Old: the duty has changed since." if self.old else ""
            if self.trying is None:
                self.note.setText(f"Rated with {s.recipe.walls} walls, {s.recipe.infill * 100:.0f} % infill.{old}")
        else:
            self.note.setText("Strength is worked out once for every direction; it takes some seconds.")
        asked = self._asked()
        key = (id(laying), here.letter if here else "", id(asked), id(self.state.trust))
        if key != self._shown:
            self._shown = key
            clear(self.rows)
            if asked is not None and laying is not None:
                made = WayRow(asked, laying.ranking.target, False, no_verdict)
                made.taken.connect(self._take_asked)
                self.rows.addWidget(made)
            for w in laying.ranking.ways if laying else ():
                backed = self.state.trust.layered_for(w.direction) if self.state.trust is not None else None
                made = WayRow(
                    w,
                    laying.ranking.target,  # type: ignore[union-attr]
                    here is not None and w.letter == here.letter,
                    no_verdict,
                    backed.reserve.value if backed is not None else None,
                )
                made.taken.connect(self._choose)
                self.rows.addWidget(made)
        if (
            here is not None
            and not self.old
            and self.state.answers.key("detail") != (self.state.lay_key, self.state.way)
            and not self.state.work.waiting("detail")
        ):
            self.state.request_detail(here.letter)
        way = self.state.doc.way if self.state.doc is not None else None
        self.reason.setEnabled(way is not None)
        if not self.reason.hasFocus():
            self.reason.setText(way.reason if way is not None else "")
        self._fill_pages()

    def _fill_pages(self) -> None:
        doc, laying = self.state.doc, self.laying
        detail = self._detail()
        if doc is None:
            return
        if not self.reason.hasFocus():
            self.reason.setCursorPosition(0)
        load = {c.name: sum(ld.newtons for ld in c.loads) for c in doc.duty.cases}
        self.places.put(detail, load)
        self.cures.put(detail, laying.ranking.target if laying else 2.0)
        self.trust.put(laying, self.state.trust, self.state.work.waiting("trust"))
        self._fill_more()
        if laying is not None and not self.old and detail is not None and self.state.trust is None:
            key = self.state.lay_key
            if not self.state.work.waiting("trust") and not self.state.answers.refusal("trust", key):
                self.state.request_trust()
        elif laying is not None and not self.old and self.state.trust is not None:
            if not self.state.work.waiting("units"):
                self.state.request_units()

    def _fill_more(self) -> None:
        """Supports and the ways side by side are worked out when their page is turned to."""
        state, page = self.state, self.pages.currentIndex()
        laying = self.laying
        supported = state.answers.fresh("supports", state.supports_key)
        if page == 4 and supported is None and state.facts is not None and not state.work.waiting("supports"):
            if not state.answers.refusal("supports", state.supports_key):
                state.request_supports()
        self.supports.put(supported, state.holding, state.work.waiting("supports"))
        columns = state.answers.fresh("compare", state.compare_key)
        if page == 5 and columns is None and laying is not None and not self.old:
            if not state.work.waiting("compare") and not state.answers.refusal("compare", state.compare_key):
                state.request_compare()
        withheld = bool(laying and laying.strength.withheld)
        target = laying.ranking.target if laying else 2.0
        self.compare.put(columns, target, withheld, state.work.waiting("compare"))

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
            return Verdict(
                "No load, so any way holds.",
                "Choose by surface and time; state a load to weigh strength.",
                acts=(Act("Keep it as drawn", self._as_drawn), Act("State a load", lambda: self.go("Duty"))),
            )
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

    def _as_drawn(self) -> None:
        self.state.edit("way", Way(direction=(0, 0, 1), reason="as drawn"), "keep it as drawn")
        self.go("Build")

    def scene(self) -> Scene:
        return lay_scene(self)
